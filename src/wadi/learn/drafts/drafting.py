"""A draft made from a page: of what an analyst says of it, or, without a word, of the best guess.

Where the page carries the same records as data, or a script of an empty page asks for them, that is drafted from first: it
changes less than what is made for readers. The way in which the listing goes on is tried once, and two or three pages behind
its rows where that is asked for.
"""

from __future__ import annotations

import contextlib
import re
import tomllib
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from wadi.actions.open_page import OpenedPage, open_page, robots_verdict
from wadi.actions.setup import Credentials
from wadi.actions.site import Site
from wadi.learn.clues.field_guess import FieldGuess
from wadi.learn.clues.sameness import folded
from wadi.learn.drafts.checked import given_otherwise
from wadi.learn.drafts.draft import Choices, Opened, behind_login, best_guess, choices, key_of, plan_text, plans_of
from wadi.learn.drafts.extent import Extent, extent_of
from wadi.learn.drafts.next_page import NextPage, next_page
from wadi.learn.examples.learned import Learned, learn
from wadi.learn.examples.learned_fields import LearnedField
from wadi.learn.examples.learned_json import learn_json, value_in_data
from wadi.learn.examples.learned_rows import Example
from wadi.learn.first_look.details import MOST_PAGES, differing_fields, link_of_rows
from wadi.learn.first_look.fields import field_candidates
from wadi.learn.first_look.look import Look, RowsFound, are_the_same, language_of_page, look_at
from wadi.learn.first_look.saved_replies import Sending
from wadi.learn.first_look.sources import ASKED_FOR
from wadi.learn.first_look.things import thing_of
from wadi.page.document import Document, NotADocument, read_document
from wadi.page.structured import structured
from wadi.page.text import text_of
from wadi.plan.reader import LoadedPlan, parse_plan
from wadi.problems import Place, Problem, UsageError, WadiError, listed, shortened
from wadi.store.page_cache import PageCache, cache_folder
from wadi.store.whole_files import replaced
from wadi.table.words import html_table
from wadi.urls import NotAUrl, resolve, without_secret
from wadi.web.messages import FetchFailed, Reply, Request

if TYPE_CHECKING:
    import pandas as pd

_CURSOR_NAMES = ("cursor", "after", "pageToken", "page_token", "token", "next", "continuation")
_SENT = re.compile(r'(next = )?(\{ send = \{ )([\w"-]+)( = "\$)')
_MOST_WAYS, _MOST_SOURCES = 4, 2
Ask = Callable[[Request], Reply]


@dataclass(frozen=True)
class Asked:
    """What an analyst says of a page: `examples` of records; texts that are none; how many rows there should be; or, by the
    marks of `wadi inspect`, a group of rows and the names of its fields. `open` wants the pages that rows lead to as well."""

    examples: Sequence[Example] = ()
    without: Sequence[str] = ()
    count: int | None = None
    group: str = ""
    fields: Mapping[str, str] = field(default_factory=dict)
    open: bool = False
    thing: str = ""
    also: Sequence[Document] = ()


@dataclass(frozen=True, repr=False)
class Draft:
    """A drafted plan: its text, the look at the page that it was made from, what was learned from examples, and the second
    page. `left_out` are columns that were asked for and are not in it, with why; `remarks` is what else is not as it was asked
    for, `extent` how much of the listing it takes."""

    text: str
    look: Look
    learned: tuple[LearnedField, ...] = ()
    left_out: Mapping[str, str] = field(default_factory=dict)
    remarks: tuple[str, ...] = ()
    next_page: NextPage | None = None
    extent: Extent | None = None

    def __repr__(self) -> str:
        takes = f"; {self.extent.said}" if self.extent is not None else ""
        left_out = f"; left out: {', '.join(self.left_out)}" if self.left_out else ""
        told = f"; {'; '.join(self.remarks)}" if self.remarks else ""
        names = listed([name for name, _ in self._columns()], 12)
        return f"<wadi draft of {_place(self.look)}: {names}{takes}{left_out}{told}>"

    def _repr_html_(self) -> str:
        """The draft in a notebook: each column with what the plan says of it, how sure that is, and by what it was found."""
        sure = {one.guess.name: (one.rating, one.reason) for one in self.learned}
        rows = [(name, said, *sure.get(name, ("", ""))) for name, said in self._columns()]
        rows += [(name, "", "left out", why) for name, why in self.left_out.items()]
        caption = f"draft of {_place(self.look)}" + (f": {self.extent.said}" if self.extent is not None else "")
        return html_table(caption, ("column", "plan", "how sure", "found"), rows)

    def _columns(self) -> list[tuple[str, str]]:
        """The columns with what the plan says of each."""
        kinds = tomllib.loads(self.text)["page"].values()
        fields = [field for kind in kinds for field in kind.get("fields", {}).items()]
        return [(name, _shown(said)) for name, said in fields]

    def loaded(self, name: str = "plan.toml") -> LoadedPlan:
        """The plan, as it is read from a file of this name."""
        return parse_plan(self.text, name)

    def preview(self, rows: int = 10) -> pd.DataFrame:
        """The first rows of the plan's main table, from a rehearsal on a few pages (kept for the day). Raises CrawlError."""
        from wadi.actions.preview import rehearse
        from wadi.table.frame import frame

        page = self.look.reply.request.url
        # The plan of a file stands beside it.
        name = (
            str(Path(page.removeprefix("file://")).with_name("plan.toml"))
            if page.startswith("file://")
            else "plan.toml"
        )
        table = rehearse(self.loaded(name), rows=rows).tables[0]
        return frame(table.columns, table.rows)

    def save(self, path: str | Path) -> LoadedPlan:
        """Write the plan to a new file; gives it as it is read from there. Raises UsageError."""
        target = Path(path)
        if target.exists():
            raise UsageError(
                Problem("not-writable", "it is there already", Place(str(path)), now="another name for the draft")
            )
        replaced(target, self.text.encode())
        return self.loaded(str(target))


def _shown(said: Any) -> str:
    """What a plan says of a field, without its brackets."""
    return said if isinstance(said, str) else ", ".join(f"{key} = {value}" for key, value in said.items())


@dataclass(frozen=True)
class Means:
    """With what a draft is made: the file that it goes to, how it names the page, the cache, and of a plan that the page was
    opened with the part that is carried over and its credentials; of a saved reply what is sent for it, and the
    look at it. `look_on` lets further pages be asked for, which are asked anew where they are to be `fresh`."""

    name: str = "plan.toml"
    address: str = ""
    parse: str | None = None
    cache: PageCache | None = None
    carried: str = ""
    credentials: Credentials | None = None
    look_on: bool = True
    limits: tuple[int, str] | None = None
    sending: Sending | None = None
    look: Look | None = None
    fresh: bool = False


def draft_page(page: OpenedPage, asked: Asked | None = None, means: Means | None = None) -> Draft:
    """The draft of a plan for a page. Raises UsageError where there is nothing to draft from, and for what does not fit the
    page."""
    # What stands beside a page that came just now has to be of now as well: a site may have been redesigned since this morning.
    asked, means = asked or Asked(), replace(means or Means(), fresh=page.from_web and page.age_s is None)
    if not page.from_web and not means.address:  # a plan names a file by its path
        means = replace(means, address=page.reply.request.url.removeprefix("file://"))
    look = means.look or look_at(page.document, page.reply)
    is_said = bool(asked.examples or asked.group or asked.fields or asked.thing)
    if look.kind.kind == "log-in" and not is_said and page.from_web:
        return Draft(behind_login(means.name, means.address or page.reply.request.url), look)
    # With a plan's session or proxies nothing is asked for without them.
    if (
        page.from_web
        and means.look_on
        and not means.carried
        and (behind := _data_behind(look, asked, means)) is not None
    ):
        page, look = behind
        means = replace(means, address=page.reply.request.url)
    chosen, learned, remarks = _chosen(look, asked)
    verdict = robots_verdict(page.reply.request.url, cache=means.cache) if page.from_web and not means.carried else None
    chosen = replace(
        chosen,
        parse=means.parse,
        carried=means.carried,
        limits=means.limits,
        sending=means.sending,
        delay_s=verdict.crawl_delay_s if verdict is not None else None,
    )
    if asked.open and isinstance(chosen.rows, RowsFound) and not chosen.beside:
        chosen = replace(chosen, beside=tuple(_all_fields(look, chosen.rows)))
    link = link_of_rows(look, [*chosen.fields, *chosen.beside])
    if link is not None and chosen.rows is not None:
        chosen = replace(chosen, opened=Opened(link, example=_address_of(look, link)))
    seen = None
    if page.from_web and means.look_on:
        with _asking(chosen, means) as ask:
            if chosen.next:
                chosen, seen = _tried(chosen, page, means, ask)
            if asked.open and chosen.opened is not None:
                chosen = _with_details(chosen, look, ask)
    extent = extent_of(chosen, seen)
    if extent is not None and extent.takes == "one page":
        chosen = _saying(chosen, "extent", extent.said)
    text = plan_text(chosen, means.name, means.address)
    remarks += given_otherwise(parse_plan(text, means.name), page.reply, asked.examples) if asked.examples else ()
    return Draft(text, look, learned, chosen.left_out, remarks, seen, extent)


# -- what is chosen


def _all_fields(look: Look, rows: RowsFound) -> list[FieldGuess]:
    """The fields of rows that nobody asked for, among them links."""
    language = language_of_page(look.document, look.reply)
    return field_candidates(look.document, rows.rows.rows, language, rows.rows.behind)


def _chosen(look: Look, asked: Asked) -> tuple[Choices, tuple[LearnedField, ...], tuple[str, ...]]:
    """The choices, what was learned, and what is not as it was asked for."""
    if asked.group or asked.fields:
        return _by_marks(look, asked), (), ()
    if asked.thing:
        return _about(look, asked.thing), (), ()
    if asked.examples:
        return _from_examples(look, asked)
    guess = best_guess(look)
    if guess is None:
        what = "nothing on this page repeats, and no value has a label: there is nothing to draft from"
        now = "wadi inspect  shows what there is;  --row NAME=VALUE …  names what you see"
        raise UsageError(Problem("nothing-to-draft", what, _place(look), now=now))
    return guess, (), ()


def _place(look: Look) -> Place:
    return Place(without_secret(look.reply.request.url).removeprefix("file://"))


def _by_marks(look: Look, asked: Asked) -> Choices:
    """The group and the fields of these marks, in the order in which they were asked for."""
    mark = asked.group or re.sub(r"\d+", "", next(iter(asked.fields)))
    groups = {group.mark: group for group in look.groups}
    if mark not in groups:
        what = f"there is no group {mark} on this page"
        raise UsageError(
            Problem("unknown-mark", what, _place(look), now=f"groups: {listed(groups)}; wadi inspect  shows them")
        )
    group = groups[mark]
    if not asked.fields:
        return choices(look, group.rows, group.fields)
    known = dict(zip(group.marks, group.fields, strict=True))
    if unknown := [name for name in asked.fields if name not in known]:
        what = f"there is no field {unknown[0]} in group {mark}"
        raise UsageError(Problem("unknown-mark", what, _place(look), now=f"its fields: {listed(known)}"))
    wanted = [replace(known[own], name=name or known[own].name) for own, name in asked.fields.items()]
    return replace(choices(look, group.rows, wanted), beside=tuple(group.fields))


def _about(look: Look, kind: str) -> Choices:
    """The usual fields of a kind of thing, with where each comes from."""
    if look.document.kind != "html":
        raise UsageError(
            Problem(
                "bad-option", f"--thing {kind} looks at a page of HTML, and this is {look.document.kind}", _place(look)
            )
        )
    found = thing_of(look.document, kind, language_of_page(look.document, look.reply))
    if not found.fields:
        what = f"none of the {found.usual} usual fields of {kind} is on this page"
        raise UsageError(Problem("nothing-to-draft", what, _place(look), now="wadi inspect  shows what there is"))
    said = {guess.name: where for guess, where in found.fields}
    said["table"] = (
        f"{kind}: {len(found.fields)} of {found.usual} usual fields; not found: {', '.join(found.missing) or 'none'}"
    )
    return replace(choices(look, None, [guess for guess, _ in found.fields]), said=said)


def _from_examples(look: Look, asked: Asked) -> tuple[Choices, tuple[LearnedField, ...], tuple[str, ...]]:
    """What gives the examples: data that the page carries, where it has all of them; else elements of the page."""
    document = look.document
    language = language_of_page(document, look.reply)
    data = document.data if document.kind == "json" else structured(document)
    if data and (found := learn_json(data, asked.examples)) is not None:
        rows, fields = found
        chosen = choices(look, replace(rows, fields=tuple(one.guess for one in fields)), [one.guess for one in fields])
        return _with_reasons(chosen, fields), fields, ()
    learned = None
    if document.kind != "json":
        learned = learn(
            document, asked.examples, without=asked.without, count=asked.count, language=language, also=asked.also
        )
    if learned is None or not learned.fields:
        values = [value for example in asked.examples for value in example.values()]
        what = f"none of the values is on this page: {listed(values[:4])}"
        now = "wadi inspect  shows what is there; values are named as a reader sees them"
        raise UsageError(Problem("not-on-page", what, _place(look), now=now))
    fields = learned.fields
    if learned.rows is None and data:
        carried = (value_in_data(data, name, value) for name, value in learned.unseen.items())
        fields += tuple(one for one in carried if one is not None)
    left_out = {name: f'"{shortened(value, 60)}" is not on this page' for name, value in learned.unseen.items()}
    left_out = {
        name: why for name, why in {**left_out, **learned.lost}.items() if name not in {f.guess.name for f in fields}
    }
    guesses = [one.guess for one in fields]
    rows_found = RowsFound(learned.rows, guesses) if learned.rows is not None else None
    chosen = _with_reasons(choices(look, rows_found, guesses), fields)
    chosen = replace(chosen, left_out=left_out)
    chosen = _saying(chosen, "rows", _of_rows(learned)) if rows_found is not None else chosen
    return chosen, fields, _without_effect(document, asked, learned)


def _without_effect(document: Document, asked: Asked, learned: Learned) -> tuple[str, ...]:
    """What was said of the rows and does not hold for those that were found."""
    found = []
    rows = learned.rows.rows if learned.rows is not None else []
    if asked.count is not None and len(rows) != asked.count:
        found.append(
            f"{asked.count:,} rows were asked for, and {len(rows):,} are found: --row names a second record, --not what is none"
        )
    texts = [folded(text_of(row)) for row in rows]
    for text in asked.without:
        if folded(text) not in folded(text_of(document.top)):
            found.append(f'--not "{shortened(text, 60)}" is not on this page, so it has no effect')
        elif any(folded(text) in row for row in texts):
            found.append(f'--not "{shortened(text, 60)}" still stands in a row')
    return tuple(found)


def _of_rows(learned: Learned) -> str:
    """How sure the rows are, and what they might be else."""
    assert learned.rows is not None
    other = learned.other_rows
    may_be = f"; or {other.expression} ({other.count:,})" if other is not None and learned.rating != "sure" else ""
    records = f"{learned.held} of the records named are in one each"
    return f"{learned.rows.count:,} on this page; {learned.rating}: {records}{may_be}"


def _with_reasons(chosen: Choices, fields: Sequence[LearnedField]) -> Choices:
    """The choices with a word on each field: how sure it is, why, and the next best way to say it."""
    said = {}
    for one in fields:
        said[one.guess.name] = f"{one.rating}: {one.reason}"
    return replace(chosen, said={**chosen.said, **said})


# -- further pages


def _data_behind(look: Look, asked: Asked, means: Means) -> tuple[OpenedPage, Look] | None:
    """The JSON that a script of the page asks for, where it has its rows: all of them of a page that scripts fill, the
    records that were named, or those that stand in the page itself. It is the steadier source."""
    if asked.group or asked.fields or asked.thing or (look.data_rows and look.kind.kind == "script shell"):
        return None
    addresses = [source.url for source in look.sources if source.what == ASKED_FOR]
    for address in addresses[:_MOST_SOURCES]:
        try:
            opened = open_page(resolve(look.document.base, address), cache=means.cache, fresh=means.fresh)
        except (WadiError, NotAUrl):
            continue
        found = look_at(opened.document, opened.reply)
        if found.json_rows and _has_its_rows(found, look, asked):
            return opened, found
    return None


def _has_its_rows(found: Look, look: Look, asked: Asked) -> bool:
    if asked.examples:
        return learn_json(found.document.data, asked.examples) is not None
    return look.kind.kind == "script shell" or any(are_the_same(found.json_rows[0], rows) for rows in look.rows[:1])


@contextlib.contextmanager
def _asking(chosen: Choices, means: Means) -> Iterator[Ask]:
    """A function that asks the site of a plan, one page after the other, as its run would."""
    loaded = parse_plan(plan_text(chosen, means.name, means.address), means.name)
    site = Site(loaded, means.cache or PageCache(cache_folder()), fresh=means.fresh, credentials=means.credentials)
    try:
        yield lambda request: site.reply(request)[0]
    finally:
        site.close()


def _tried(chosen: Choices, page: OpenedPage, means: Means, ask: Ask) -> tuple[Choices, NextPage | None]:
    """The first way to go on whose second page has other rows; the key holds on both pages."""
    others: list[NextPage] = []
    for plan in _ways(chosen):
        tried = replace(chosen, next=plan)
        try:
            loaded = parse_plan(plan_text(tried, means.name, means.address), means.name)
            seen = next_page(loaded, page.reply, ask)
        except FetchFailed as failure:
            if failure.reply is None:
                return _saying(chosen, "next", f"not tried: {shortened(failure.what)}"), None
            continue
        except WadiError as error:
            return _saying(chosen, "next", f"not tried: {shortened(error.problems[0].what)}"), None
        if seen is not None and seen.goes_on:
            return _with_key(_saying(tried, "next", f"page 2 has {seen.rows:,} more"), seen), seen
        others += [seen] if seen is not None else []
    return replace(chosen, next="", next_in_vain=(chosen.next, _in_vain(others))), None


def _in_vain(others: Sequence[NextPage]) -> str:
    """Why a way to go on is not in the plan."""
    if any(seen.repeated for seen in others):
        return "tried: it leads to the same rows again"
    return "tried: it leads to a page without rows" if others else "tried: it leads nowhere from this page"


def _ways(chosen: Choices) -> list[str]:
    """The ways to go on, and of a cursor the usual names of its parameter."""
    plans = list(dict.fromkeys([chosen.next, *plans_of(chosen.look, "next")]))[:_MOST_WAYS]
    named = [_SENT.sub(rf"\g<2>{name}\g<4>", plan) for plan in plans if _SENT.match(plan) for name in _CURSOR_NAMES]
    return list(dict.fromkeys([*plans, *named]))


def _saying(chosen: Choices, what: str, why: str) -> Choices:
    return replace(chosen, said={**chosen.said, what: why})


def _with_key(chosen: Choices, seen: NextPage) -> Choices:
    """The key as far as it holds on two pages; another column that does."""
    key = key_of([one for one in chosen.fields if one.name in seen.unique])
    return _saying(replace(chosen, key=key), "key", "no two rows of the first two pages have the same")


def _address_of(look: Look, link: FieldGuess) -> str:
    try:
        return without_secret(look.document.resolve(link.samples[0]))
    except NotAUrl:
        return ""


def _with_details(chosen: Choices, look: Look, ask: Ask) -> Choices:
    """The fields of the first pages that rows lead to, as far as they differ from one to the next."""
    assert chosen.opened is not None
    pages = []
    for sample in chosen.opened.link.samples[:MOST_PAGES]:
        try:
            reply = ask(Request(look.document.resolve(sample)))
            pages.append(read_document(reply.body, reply.url, reply.content_type))
        except (NotAUrl, FetchFailed, NotADocument):
            continue
    if len(pages) < 2:
        return chosen
    fields = differing_fields(pages, chosen.fields, language_of_page(look.document, look.reply))
    return replace(chosen, opened=replace(chosen.opened, fields=tuple(fields), pages=len(pages)))
