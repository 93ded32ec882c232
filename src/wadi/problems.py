"""What can be wrong, as values: a code, a place, what, why, and what to do now.

A problem is an object first; terminal text, JSON and `docs/problems.md` are views of it.
Errors that end a command carry the problems they are about.
"""

from __future__ import annotations

import difflib
import re
from dataclasses import asdict, dataclass, field
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from collections.abc import Iterable

MEANINGS: dict[str, str] = {
    # the command line and its files
    "not-installed": "What was asked for needs a library that comes with an extra: pip install 'wadi[EXTRA]'.",
    "no-such-file": "A file that the command line or the plan names is not there.",
    "not-a-file": "A folder, or something else that is no plain file, is where a file is wanted.",
    "not-readable": "The file is there, but the system does not let us read it.",
    "not-writable": "The output cannot be written: the folder is missing or read-only.",
    "too-few-files": "The system lets a program open fewer files than a crawl needs.",
    "too-little-memory": "The system lets a program have less memory than it needs.",
    "disk-full": "No room is left where the run or the output is written, or the disk fails.",
    "unknown-format": "The ending of an output file names no format that Wadi writes.",
    "bad-option": "An option of the command line has a value that it cannot have.",
    "no-such-run": "No run is found under this name or in this folder.",
    "damaged-run": "The run's database cannot be read, or a file of it is missing or changed.",
    "other-version": "The run was written by another version of Wadi, and this one cannot read it.",
    "run-in-use": "Another process works on the run.",
    "no-browser": "A report is wanted as PDF, and no browser is installed that prints it, or it failed.",
    "no-such-table": "The plan (or the run) has no table of this name.",
    # the plan as a text
    "not-utf8": "The plan file is not UTF-8, which TOML 1.0 asks for.",
    "not-toml": "The plan file is not TOML 1.0.",
    "unknown-key": "The plan language has no such key at this place.",
    "missing-key": "A key that must be there is not.",
    "wrong-type": "The value is of another type than the key takes.",
    "wrong-value": "The value is of the right type, but not one that the key takes.",
    "wrong-heading": "A field is named like a key of the page: it was written under the wrong heading.",
    "both-keys": "Two keys that exclude each other are both set.",
    # the plan as a whole
    "bad-expression": "The expression cannot be read in its language.",
    "whole-document": "The expression would search the whole document although it is in a row's field.",
    "bad-regex": "The regular expression cannot be read.",
    "bad-step": "A step of `clean`, `adjust` or `do` is not in the grammar of steps.",
    "bad-format": "The format is no pattern that can be read for this type.",
    "bad-locale": "The locale is not known to CLDR.",
    "bad-template": "The address is no URI Template (RFC 6570), or does not become an http(s) URL.",
    "unknown-page": "A page kind is named that the plan does not have.",
    "unknown-table": "A table is named that no page of the plan yields.",
    "unknown-column": "A column is named that the table does not have, or that its columns leave out.",
    "unopened-page": "A page kind that neither the start nor another page opens: it would never be fetched.",
    "unset-input": "An address or a field uses an input that neither the plan nor the command line sets.",
    "bad-input-file": "A file of inputs is missing, empty, or not of the form that its ending says.",
    "too-many-starts": "The inputs combine to more start addresses than a run should have.",
    "unused-input": "An input that nothing in the plan uses.",
    "code-not-approved": "The plan has Python code of its own, which was never run on this machine: it is run when you say so.",
    "bad-code": "The plan's Python file is missing or cannot be run, or lacks a function that the plan calls.",
    "bad-file-name": "The name for downloaded files leads out of their folder, or is the same for all.",
    "secret-in-plan": "A password or the like is in the plan; it comes from the environment or the terminal.",
    "double-column": "A column comes from the listing and from the detail page, and nothing says which to prefer.",
    "no-rows": "The plan picks nothing: no page has fields.",
    "nothing-to-draft": "A plan cannot be drafted: nothing on the page repeats, and no value on it has a label or a name.",
    "not-on-page": "None of the values that a draft was to be learned from is on the page.",
    "nothing-to-mend-by": "None of the last good run's records is on today's page: nothing can be learned from it.",
    "unknown-mark": "A mark that wadi inspect gives to no group and no field of this page.",
    # fetching
    "bad-url": "The address is no absolute http or https URL.",
    "private-address": "A page of the open net leads to a private network, or to this machine: it is not asked for.",
    "unreachable": "No connection could be made to the host.",
    "timed-out": "The host did not answer within the time allowed.",
    "broken-off": "The reply ended before it was whole.",
    "too-large": "The reply is larger than the size limit.",
    "bad-coding": "The reply's content coding could not be undone.",
    "redirect-loop": "Redirects led on and on, or in a circle.",
    "robots": "The site's robots.txt does not allow the address (RFC 9309), so it was not asked for.",
    "bad-certificates": "The file of certificates that the plan names is none that can be used.",
    "bad-session": "The file with cookies or a saved request holds none that can be used.",
    "no-credentials": "User name or password is neither in the environment nor can it be asked for.",
    "login-failed": "Logging in did not work.",
    "logged-out": "The page is that of someone who is not logged in.",
    "bad-route": "The address of a proxy is none.",
    "no-route": "All proxies that the plan names are withdrawn or rest, or the one that a request is to go by leads nowhere.",
    "route-withdrawn": "A named proxy led nowhere three times in a row: its pages fail, others go on; `wadi resume` asks again.",
    "http-status": "The host answered with a status that is no success.",
    # reading
    "not-the-page": 'The reply lacks what the plan expects on such a page: a block or a broken page, never "no rows".',
    "blocked": 'The site sent a challenge, a log-in, a refusal or an empty shell instead of the page: never "no rows".',
    "wrong-kind": "The reply is of another kind (HTML, XML, JSON, binary) than the expressions of the page kind read.",
    "bad-config": "The file of settings (config.toml) cannot be read, or has a setting that there is not.",
    "file-exists": "There is a file of this name, which is not written over.",
    "no-cluster": "There is no scheduler at the address, or no worker.",
    "not-shared": "Workers do not see the run's folder: it has to be on storage that all of them have at the same place.",
    "in-browser": "A page in a browser opened a dialog or a window, or began a download: nobody answered, and it was closed.",
    "unknown-entity": "An XML document refers to entities that it does not declare: they are left as written.",
    "cut-off": "The parser reached a limit of its own and left out the rest of the page.",
    "not-the-file": "Where a file should be came an HTML page, or nothing: a block or an error page.",
    "uneven-columns": "Columns that belong side by side are of different lengths: they are not glued together.",
    "beyond-bounds": "Reading the page takes longer, or more memory, than a page may: one page fails, the crawl goes on.",
    "reader-failed": "Wadi itself failed over the page: it counts as failed, and the crawl goes on.",
    "reader-ended": "The process that read a page ended over it, twice. The run goes on without that page.",
    "unused-key": "A function that reads pages gives values under a name that is no field, and none under that of a field.",
    "code-failed": "A function of the analyst's own raised an exception, or gave what the column cannot hold.",
    "no-form": "The form that the plan wants to send is not on the page, or cannot be sent.",
    "unknown-control": "The plan gives a value for a field that the form does not have.",
    "nothing-to-send": "A value that should be sent is not on the page, so the request was not made.",
    "no-rows-again": "Several pages of a listing in a row had no rows, though it went on: it was left there.",
    "listing-too-long": "A listing has more pages than the plan allows for one.",
    "split": "A listing states more rows than the site shows of it, so it was asked for in parts.",
    "part-too-long": "A part of a listing is still longer than the site shows, and nothing splits it further: rows are missing.",
    "listing-shifted": "A listing changed while it was read: its total, or the records at the edge of a page.",
    "several-next": "Several links say the text by which a listing goes on, and lead to different pages; the first counts.",
    "no-next": "The first page of a listing has no link to a next one, and states no total: it may be all, or the link missed.",
    "several-links": "A row has several links to a page kind that completes it: the first is opened, so that two do not mix.",
    "several-sent": "A value that is sent was picked several times on the page: the first was sent.",
    "no-total": "The page states no total where the plan says that it does, so that nothing tells whether all rows came.",
    "unread-total": "The total, or the number of the last page, that the page states cannot be read.",
    "rowless": "The first page of a listing gave no rows, and nothing on it says that there are none.",
    "run-stopped": "The crawl did not go to its end: nobody answered, the host refused, or no page came.",
    "page-again": "The listing led back to a page that it had already shown.",
    "rows-again": "A page of the listing showed the very rows of an earlier one: the listing goes in a circle, or has no more.",
    "other-host": "Links to other hosts than the page's own are not opened unless the plan names these hosts.",
    "bad-link": "A link that the plan would follow is no URL.",
    # values
    "bad-formula": "A formula of `derive` is not in the arithmetic of formulas.",
    "formula-failed": "A formula or a step of `adjust` could not be computed for this row.",
    "no-such-row": "The table has no row with this number or key.",
    "rejected": "The row function failed or gave None, or a required value is missing: the row is among the rejects.",
    "ambiguous-currency": "The sign stands for several currencies, and neither locale nor `currency` says which.",
    "not-a-time": "The text is no time of day.",
    "not-a-duration": "The text is no length of time, or could be two.",
    "not-a-point": "The text is no place on the earth.",
    "not-an-email": "The text is no mail address.",
    "not-a-phone": "The text is no telephone number.",
    "not-json": "The text is no JSON of the wanted kind.",
    "not-a-number": "The text is no number in the field's locale.",
    "ambiguous-number": "The text could be two different numbers; a locale decides.",
    "not-an-integer": "The number is not a whole one.",
    "too-large-number": "The number has more digits, or is larger or smaller, than a number of 64 bits holds.",
    "other-calendar": "The year is of another calendar than the Gregorian one.",
    "too-large-integer": "The whole number does not fit into 64 bits.",
    "other-unit": "The number carries another unit than the field's.",
    "not-a-date": "The text is no date in the field's format.",
    "not-a-boolean": "The text is neither a word for yes nor one for no.",
    "not-a-url": "The text is no URL.",
    "not-in-map": "The text is not among the keys of the field's map.",
    "no-match": "The regular expression of `find` does not match the text.",
    "fault": "An internal error of Wadi.",
}


@dataclass(frozen=True, slots=True)
class Place:
    """Where something stands: a file's path or a page's URL, and if known the line and column (from 1)."""

    source: str = ""
    line: int | None = None
    column: int | None = None

    def __str__(self) -> str:
        return ":".join(str(part) for part in (self.source, self.line, self.column) if part not in (None, ""))


@dataclass(frozen=True, slots=True)
class Problem:
    """One thing that is wrong. `what` can stand alone; `why` and `now` are lines below it."""

    code: str
    what: str
    place: Place = field(default_factory=Place)
    excerpt: str = ""
    why: str = ""
    now: str = ""
    trace: str = ""
    """Of an internal error where in Wadi it arose: for the log alone."""

    def __post_init__(self) -> None:
        if self.code not in MEANINGS:
            raise ValueError(f"problem code {self.code!r} has no meaning in wadi.problems.MEANINGS")

    def __str__(self) -> str:
        return "\n".join(self.lines())

    def lines(self) -> list[str]:
        """The message for people: the first line can stand alone, the others are indented below it."""
        where = str(self.place)
        first = f"{where}: {self.what} [{self.code}]" if where else f"{self.what} [{self.code}]"
        below = [f"    {self.place.line} | {self.excerpt}"] if self.excerpt and self.place.line else []
        below += [f"  {line}" for text in (self.why, self.now) if text for line in text.splitlines()]
        return [first, *below]

    def as_dict(self) -> dict[str, Any]:
        """The problem for `--json`: code, what, and whatever else is known."""
        place = {name: value for name, value in asdict(self.place).items() if value not in (None, "")}
        rest = {name: getattr(self, name) for name in ("excerpt", "why", "now", "trace") if getattr(self, name)}
        return {"code": self.code, "what": self.what, **({"place": place} if place else {}), **rest}


class WadiError(Exception):
    """An error with words for people. `problems` has at least one."""

    def __init__(self, problems: Problem | Iterable[Problem]) -> None:
        self.problems: tuple[Problem, ...] = (problems,) if isinstance(problems, Problem) else tuple(problems)
        super().__init__("\n".join(str(problem) for problem in self.problems))


class UsageError(WadiError):
    """The command line is wrong, or names something that is not there."""


class PlanError(WadiError):
    """The plan cannot be used as it is."""


class RunError(WadiError):
    """A run's folder is missing, damaged or in use."""


class CrawlError(WadiError):
    """The crawl could not begin or go on."""


def nearest(word: str, known: Iterable[str]) -> str | None:
    """The known word most like `word`, or None when none is near."""
    found = difflib.get_close_matches(word, list(known), n=1, cutoff=0.6)
    return found[0] if found else None


def listed(words: Iterable[str], limit: int = 12) -> str:
    """`"a", "b", "c"` for a message, cut after `limit` words."""
    all_words = [f'"{word}"' for word in words]
    more = f" … ({len(all_words) - limit} more)" if len(all_words) > limit else ""
    return ", ".join(all_words[:limit]) + more


def escaped(text: str) -> str:
    """Foreign text as a terminal may have it: control characters and marks of direction as escapes."""
    return (
        text
        if text.isprintable()
        else "".join(c if c.isprintable() else c.encode("unicode_escape").decode() for c in text)
    )


# Controls, marks of writing direction, line separators, halves of characters: what a terminal obeys, or cannot show.
_OBEYED = re.compile("[\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ufeff\ud800-\udfff]")


def escaped_in_strings(text: str) -> str:
    """JSON or TOML text whose strings hold what a terminal would obey as the escapes of both: `\\u009b`."""
    return text if text.isascii() and "\x7f" not in text else _OBEYED.sub(lambda found: f"\\u{ord(found[0]):04x}", text)


def plural(count: int, word: str, many: str = "") -> str:
    """`1 row`, `2 rows`, `1,472 pages`; `many` for words that do not just take an s."""
    return f"{count:,} {word if count == 1 else many or word + 's'}"


def shortened(text: str, limit: int = 60) -> str:
    """Foreign text for a message: one line, control characters escaped, cut to `limit` characters."""
    plain = escaped(text)
    return plain if len(plain) <= limit else plain[: limit - 1].rstrip("…") + "…"
