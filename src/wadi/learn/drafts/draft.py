"""The text of a drafted plan, with a comment on every choice: to be looked at line by line, rehearsed, and made one's own."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from urllib.parse import urlsplit, urlunsplit

from wadi.learn.clues.field_guess import FieldGuess
from wadi.learn.clues.selectors import expression_for
from wadi.learn.clues.toml_text import as_key, quoted, text_in_quotes
from wadi.learn.first_look.look import Look, RowsFound
from wadi.learn.first_look.outline import JsonRows
from wadi.learn.first_look.saved_replies import Sending
from wadi.page.nodes import parent
from wadi.problems import shortened

_SAMPLE_LETTERS = 40
_LONGEST_LINE, _LONGEST_COMMENT = 100, 200
_IN_ROWS = "or  completes = …  with the table whose rows lead to such pages"
_NO_NAMES = frozenset({"index", "list", "default", "page", "search", "home", "view", "browse"})
_CODE = re.compile(r"(?:^|_)(?:id|code|key|no|nr|number|sku|slug|uuid|guid)$")


@dataclass(frozen=True)
class Opened:
    """The pages that rows lead to: the link in a row, the fields of such a page, and how many of them were looked at."""

    link: FieldGuess
    fields: tuple[FieldGuess, ...] = ()
    pages: int = 0
    example: str = ""


@dataclass(frozen=True)
class Choices:
    """What a draft is made of, from the look at a page. `rows` are None where the page is about one thing; `next` and `total`
    are what a plan says of them; `beside` are further fields of the rows, which are no columns; `next_in_vain` is a way to go
    on that leads nowhere, with why; `left_out` are columns that were asked for and not found, with why; `said` is why a thing
    was chosen, by "rows", "next", "total", "key", "extent" or the name of a field."""

    look: Look
    rows: RowsFound | JsonRows | None
    fields: tuple[FieldGuess, ...]
    next: str = ""
    total: str = ""
    key: str = ""
    said: Mapping[str, str] = field(default_factory=dict)
    delay_s: float | None = None
    opened: Opened | None = None
    next_in_vain: tuple[str, str] | None = None
    parse: str | None = None
    carried: str = ""
    limits: tuple[int, str] | None = None
    sending: Sending | None = None
    beside: tuple[FieldGuess, ...] = ()
    left_out: Mapping[str, str] = field(default_factory=dict)

    @property
    def kind(self) -> str:
        """The name of the page kind."""
        return "sheet" if self.rows is None else "list"


def best_guess(look: Look) -> Choices | None:
    """What is likeliest on a page that nobody says anything about; None where nothing repeats and nothing has a name."""
    if look.fields:
        return Choices(look, None, tuple(look.fields))
    rows = next(iter(look.candidates), None)
    return choices(look, rows, rows.fields) if rows is not None and rows.fields else None


def choices(look: Look, rows: RowsFound | JsonRows | None, fields: Sequence[FieldGuess]) -> Choices:
    """The choices for given rows and fields: how the listing goes on, the total, and the key come from the look."""
    if rows is None:
        return Choices(look, None, tuple(fields))
    ways = {key: next(iter(plans_of(look, key)), "") for key in ("next", "total")}
    return Choices(look, rows, tuple(fields), ways["next"], ways["total"], key_of(fields))


def plans_of(look: Look, key: str) -> list[str]:
    """What a plan may say of `next` or `total`, the surest first."""
    return [way.plan.removeprefix(f"{key} = ") for way in look.paging if way.plan.startswith(f"{key} = ")]


def key_of(fields: Sequence[FieldGuess]) -> str:
    """The column that tells rows apart: a code, or an address. Names and figures may be the same by chance on another page."""
    unique = [field for field in fields if field.is_unique]
    codes = [field.name for field in unique if _CODE.search(field.name) or (field.attribute or "").startswith("data-")]
    return next(iter([*codes, *(field.name for field in unique if field.type.type == "url")]), "")


def plan_text(chosen: Choices, name: str, address: str = "") -> str:
    """The plan. `name` is the file it goes to, `address` how the plan names the page (default: its URL)."""
    look = chosen.look
    parts = urlsplit(address or look.reply.request.url)
    # Without a password; braces would stand for inputs.
    address = urlunsplit(parts._replace(netloc=parts.netloc.rpartition("@")[2])).replace("{", "%7B").replace("}", "%7D")
    address = chosen.sending.address if chosen.sending is not None else address
    table = table_name(parts.path)
    lines = [
        f"# Drafted by  wadi draft.  Look at each line, then:  wadi preview {name}",
        "wadi  = 1",
        *([f"title = {text_in_quotes(look.document.title)}"] if look.document.title else []),
        "",
        "[start]",
        f'page      = "{chosen.kind}"',
        f"addresses = [{text_in_quotes(address)}]",
        *(_sending_lines(chosen.sending) if chosen.sending is not None else []),
        *_manners(chosen),
        "",
        f"[page.{chosen.kind}]",
        *([f'parse = "{chosen.parse}"'] if chosen.parse is not None else []),
        *_page_lines(chosen, table),
        *([f"# next = {chosen.next_in_vain[0]}    # {chosen.next_in_vain[1]}"] if chosen.next_in_vain else []),
        *([f"# {chosen.said['extent']}"] if "extent" in chosen.said else []),
        *_links(chosen),
        "",
        f"[page.{chosen.kind}.fields]",
        *_field_lines(chosen.fields, chosen.said),
        *(f"# {as_key(name)} is left out: {shortened(why, _LONGEST_COMMENT)}" for name, why in chosen.left_out.items()),
        *_detail_lines(chosen, table),
    ]
    if chosen.rows is not None and chosen.key:
        said = chosen.said.get("key", "no two rows of this page have the same")
        lines += ["", f"[table.{table}]", f"key = [{text_in_quotes(chosen.key)}]    # {said}"]
    return "\n".join(lines) + "\n"


def _sending_lines(sending: Sending) -> list[str]:
    """What a saved request sends besides its address, and what of it is not in the plan."""
    names = ", ".join(shortened(name) for name in sending.secrets)
    out = [f"# left out: {names}; --secrets  takes them from the environment"]
    inputs = ["", "[inputs]", *sending.inputs]
    return [*sending.start, *([] if not sending.secrets else inputs if sending.inputs else out)]


def behind_login(name: str, address: str) -> str:
    """A plan that logs in by the page and reads what stands behind it."""
    parts = urlsplit(address)
    return f"""\
# Drafted by  wadi draft  from a log-in page: it logs in, and reads a page behind it. Name and password come from the
# environment, or are asked for. Put the address of what you want below; then draft its rows by
#   wadi draft ADDRESS --with {name} -o rows.toml
wadi = 1

[start]
page      = "behind"
addresses = [{text_in_quotes(f"{parts.scheme}://{parts.netloc}/")}]    # what is behind the log-in

[login]
address       = {text_in_quotes(address)}
user_from     = "SITE_USER"
password_from = "SITE_PASSWORD"
# check = "…"    # what stands on a page only when the log-in worked: your name, a link to log out

[page.behind]
table = "behind"

[page.behind.fields]
title = "title"
"""


def _manners(chosen: Choices) -> list[str]:
    """What the page was opened with, limits, and the pause that robots.txt asks for."""
    lines = ["", chosen.carried.strip()] if chosen.carried else []
    if chosen.limits is not None:
        pages, time = chosen.limits
        lines += [
            "",
            "[limits]",
            f"pages = {pages}    # a first run: take these out when the table is as it should be",
            f'time  = "{time}"',
        ]
    if chosen.delay_s is not None and "[manners]" not in chosen.carried:
        lines += [
            "",
            "[manners]",
            f'pause = "{chosen.delay_s:g}s"    # robots.txt asks for so long between two requests',
        ]
    return lines


def _page_lines(chosen: Choices, table: str) -> list[str]:
    """What stands under the page kind: its rows, what has to be there, how the listing goes on."""
    rows, said = chosen.rows, chosen.said
    found: list[tuple[str, str, str]] = []
    if isinstance(rows, RowsFound) and (around := _around(chosen.look, rows)):
        found.append(("expect", quoted(around), "a page without it was blocked, and is not “no rows”"))
    if rows is not None:
        count = rows.rows.count if isinstance(rows, RowsFound) else rows.count
        found.append(("rows", quoted(rows.expression), said.get("rows", f"{count:,} on this page")))
    found.append(("table", f'"{table}"', said.get("table", _IN_ROWS if rows is None else "")))
    found += [(key, plan, said.get(key, "")) for key, plan in (("total", chosen.total), ("next", chosen.next)) if plan]
    width = max(len(key) for key, _, _ in found)
    return _commented([(f"{key:<{width}} = {value}", why) for key, value, why in found])


def _links(chosen: Choices) -> list[str]:
    """The pages that rows lead to: opened, or as a comment how that is said."""
    if chosen.opened is None:
        return []
    open_ = f"open.sheet = {_link_in_quotes(chosen.opened.link)}"
    if chosen.opened.fields:
        return [f"{open_}    # {chosen.opened.pages} of these pages were looked at"]
    return [f"# {open_}    # a page for each row; with its fields:  wadi draft … --open"]


def _link_in_quotes(link: FieldGuess) -> str:
    if link.expression and not link.under:
        return quoted(link.expression)
    return link.as_plan()


def _detail_lines(chosen: Choices, table: str) -> list[str]:
    if chosen.opened is None or not chosen.opened.fields:
        return []
    return [
        "",
        "[page.sheet]",
        f'completes = "{table}"',
        "",
        "[page.sheet.fields]",
        *_field_lines(chosen.opened.fields, {}),
    ]


def _around(look: Look, found: RowsFound) -> str | None:
    """An expression for the one element around all rows."""
    parents = {parent(row) for row in found.rows.rows}
    around = parents.pop() if len(parents) == 1 else None
    if around is None or around.tag in ("html", "body") or look.document.kind != "html":
        return None
    return expression_for(look.document, [around], [])[0]


def _field_lines(fields: Sequence[FieldGuess], said: Mapping[str, str]) -> list[str]:
    width = max(len(as_key(field.name)) for field in fields)
    return _commented(
        [(f"{as_key(field.name):<{width}} = {field.as_plan()}", _comment(field, said)) for field in fields]
    )


def _comment(field: FieldGuess, said: Mapping[str, str]) -> str:
    """A sample, what is odd, and why it was chosen."""
    sample = shortened(" ".join(field.samples[0].split()), _SAMPLE_LETTERS) if field.samples else ""
    notes = ", ".join(note for note in (field.type.note, field.remark) if note)
    parts = [f"{sample} ({notes})".lstrip() if notes else sample, said.get(field.name, "")]
    return "; ".join(part for part in parts if part)


def _commented(lines: Sequence[tuple[str, str]]) -> list[str]:
    """Lines with their comments in a column of their own, as far as they are no longer than most."""
    width = max((len(line) for line, comment in lines if comment and len(line) <= _LONGEST_LINE), default=0)
    return [
        f"{line:<{width}}    # {shortened(comment, _LONGEST_COMMENT)}" if comment else line for line, comment in lines
    ]


def table_name(path: str) -> str:
    """The last word of a path that says something, or "rows"."""
    words = [re.sub(r"\.\w+$", "", word).lower() for word in path.split("/")]
    telling = (word for word in reversed(words) if re.fullmatch(r"[a-z][a-z_]{2,29}", word) and word not in _NO_NAMES)
    return next(telling, "rows")
