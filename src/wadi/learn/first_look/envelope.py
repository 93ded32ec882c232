"""How a JSON document tells that there is more than it shows: the envelope around its rows.

What stands in the outer levels is signs apart by its name, its type, and by what the address asks for: a URL or a cursor of the
next page, its number, how many pages or rows there are, where the shown ones begin, flags. One way of going on is chosen, the
surest: a URL, a cursor, the number of the next page, a counted page, a counted offset.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any, Literal
from urllib.parse import parse_qsl, urlsplit

from wadi.learn.clues.toml_text import as_key, quoted
from wadi.page.jsonpath import Step, pointed

_DEEPEST = 5
Role = Literal["next URL", "cursor", "next page", "page", "pages", "size", "offset", "total", "more", "no more"]
_WORDS = re.compile(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])|\d+")
OWN_PAGE = re.compile(r"_?(?:page|p|pg|page_?n(?:o|r|um|umber)|current_?page|seite|pagina)", re.IGNORECASE)
_OWN_CURSOR = re.compile(
    r"_?(?:.*cursor|after|since|start_?after|.*token|continuation|scroll_?id|marker|bookmark)", re.IGNORECASE
)
_OWN_OFFSET = re.compile(r"_?(?:offset|start|skip|from|first_?result|start_?index)", re.IGNORECASE)
_URL = re.compile(r"(?:https?:)?//|/|\?")
_LARGEST_PAGE = 1_000_000


@dataclass(frozen=True, slots=True)
class Sign:
    """One thing that the envelope tells: what, where, the value, and what a plan says of it (empty where nothing)."""

    role: Role
    path: str
    value: str | int | bool
    plan: str = ""


def envelope_of(data: Any, url: str, rows: int) -> list[Sign]:
    """What the document around `rows` rows tells; `url` is the one that was asked for. The way of going on comes first."""
    asked = dict(parse_qsl(urlsplit(url).query, keep_blank_values=True))
    signs = [one for path, value in _scalars(data, (), 0) if (one := _sign_of(path, value, rows)) is not None]
    others = [one for one in signs if one.role != "total"]
    going_on, total = _going_on(others, asked, rows), _best_total(signs)
    return [
        *([going_on] if going_on else []),
        *([replace(total, plan=f"total = {quoted(total.path)}")] if total else []),
        *(one for one in others if going_on is None or one.path != going_on.path),
    ]


def _scalars(value: Any, path: tuple[Step, ...], depth: int) -> Iterator[tuple[tuple[Step, ...], Any]]:
    """What stands in the outer objects; lists hold rows, and are left out."""
    if isinstance(value, dict) and depth < _DEEPEST:
        for key, inner in value.items():
            yield from _scalars(inner, (*path, key), depth + 1)
    elif path and isinstance(value, str | int):
        yield path, value


def _sign_of(path: tuple[Step, ...], value: str | int | bool, rows: int) -> Sign | None:
    """What a value tells by its name: the last words of its path."""
    if not _WORDS.search(str(path[-1])):
        return None
    words = [word.lower() for step in path for word in _WORDS.findall(str(step))]
    role = _role(words, value, rows)
    return Sign(role, pointed(path), value) if role is not None else None


def _role(words: list[str], value: str | int | bool, rows: int) -> Role | None:
    last = set(words[-3:])
    if isinstance(value, bool):
        if last & {"more"} or last >= {"has", "next"}:
            return "more"
        return "no more" if last >= {"is", "last"} or last & {"end", "eof", "done", "finished"} else None
    if isinstance(value, str):
        if last & {"previous", "prev", "first", "self", "last", "before", "start", "current"} or not value:
            return None
        if _URL.match(value):
            return "next URL" if last & {"next", "nextlink", "more"} else None
        names = {"cursor", "after", "continuation", "token", "bookmark", "marker", "scroll"}
        says_next = bool(last & {"next", "end", *names})
        return "cursor" if says_next and len(value) < 500 and not value.isspace() and " " not in value else None
    return _role_of_number(words, last, value, rows)


def _role_of_number(words: list[str], last: set[str], value: int, rows: int) -> Role | None:
    ends = {words[-1], "".join(words[-2:])}
    if value < 0:
        return None
    if last & _SIZES and "total" not in last:
        return "size"
    if ends & _PAGE_COUNTS or "pages" in words[-2:] or (words[-1] == "last" and value < _LARGEST_PAGE):
        return "pages"
    if ends & {"next", "nextpage"}:
        return "next page" if value < _LARGEST_PAGE else "cursor"
    if ends & _PAGE_NUMBERS:
        return "page"
    if ends & _OFFSETS:
        return "offset"
    # What is no more than the rows of this page counts these, and is no total.
    return "total" if ends & _COUNTS and value > rows else None


_SIZES = frozenset("per size limit pagesize perpage length".split())
_PAGE_COUNTS = frozenset("lastpage pagetotal pagecount totalpages numpages".split())
_PAGE_NUMBERS = frozenset("page pagenumber currentpage number pageno pageindex".split())
_OFFSETS = frozenset("offset start skip from startindex".split())
_COUNTS = frozenset("total count found hits results records items rows row elements filtered".split())


def _best_total(signs: list[Sign]) -> Sign | None:
    """Of several counts the one that names itself a total, else the largest."""
    totals = [one for one in signs if one.role == "total"]
    return max(totals, key=lambda one: ("total" in one.path.lower(), int(one.value)), default=None)


def _going_on(signs: list[Sign], asked: Mapping[str, str], rows: int) -> Sign | None:
    """The surest way to the next page, with what a plan says of it."""
    first = {one.role: one for one in reversed(signs)}
    flag = first.get("more")
    ends = f", end_unless = {quoted(flag.path)}" if flag is not None else ""
    if (one := first.get("next URL")) is not None:
        return Sign("next URL", one.path, one.value, f"next = {quoted(one.path)}")
    if (one := first.get("cursor")) is not None:
        sent = f"{{ {as_key(_cursor_name(one, asked))} = {quoted(one.path)} }}"
        return Sign("cursor", one.path, one.value, f"next = {{ send = {sent}{ends} }}")
    if (one := first.get("next page")) is not None:
        sent = f"{{ {as_key(_page_name(asked, int(one.value) - 1))} = {quoted(one.path)} }}"
        return Sign("next page", one.path, one.value, f"next = {{ send = {sent}{ends} }}")
    pages = first.get("pages")
    if (one := first.get("page") or pages) is not None and (pages is None or int(pages.value) > 1 or flag is not None):
        number = int(one.value) if one.role == "page" else None
        start = ", first = 0" if number == 0 else ""
        ends = f", end_page = {quoted(pages.path)}" if pages is not None and not start else ends
        counted = f"{{ parameter = {quoted(_page_name(asked, number))}{start} }}"
        return Sign(one.role, one.path, one.value, f"next = {{ count = {counted}{ends} }}")
    if (one := first.get("offset")) is not None and rows:
        name = next((name for name in asked if _OWN_OFFSET.fullmatch(name)), one.path.rpartition(".")[2])
        counted = f'{{ parameter = {quoted(name)}, first = 0, step = "rows" }}'
        return Sign("offset", one.path, one.value, f"next = {{ count = {counted}{ends} }}")
    return None


def _page_name(asked: Mapping[str, str], number: int | None) -> str:
    """The parameter of the address that holds the page's number: by its value and its name, by its name, or "page"."""
    named = [name for name in asked if OWN_PAGE.fullmatch(name)]
    fitting = [name for name in named if asked[name] == str(number)]
    by_value = [name for name in asked if number is not None and asked[name] == str(number) and number > 1]
    return next(iter([*fitting, *named, *by_value]), "page")


def _cursor_name(one: Sign, asked: Mapping[str, str]) -> str:
    """The parameter for a cursor: one of the address, else by the name under which the cursor stands, without "next"."""
    own = next((name for name in asked if _OWN_CURSOR.fullmatch(name)), None)
    if own is not None:
        return own
    name = re.findall(r"[A-Za-z_]+", one.path)[-1]
    if name.lower() in ("endcursor", "end_cursor"):
        return "after"
    bare = re.sub(r"(?i)^(?:next|end)_?", "", name)
    return (bare[:1].lower() + bare[1:]) or ("after" if name.lower() == "end" else "cursor")
