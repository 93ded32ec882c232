"""How a JSON document tells that there is more than it shows: the envelope around its rows.

What stands in the outer levels is told apart by its name, its type, and by what the address asks for: a URL or a cursor of the
next page, its number, how many pages or rows there are, where the shown ones begin, flags. One way of going on is chosen, the
surest: a URL, a cursor, the number of the next page, a counted page, a counted offset.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any, Literal
from urllib.parse import parse_qsl, urlsplit

from wadi.learn.fields import as_key, quoted
from wadi.page.jsonpath import Step, pointed

_DEEPEST = 5
_LONGEST_LIST = 3
Role = Literal["next URL", "cursor", "next page", "page", "pages", "size", "offset", "total", "more", "no more"]
_WORDS = re.compile(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])|\d+")
_OWN_PAGE = re.compile(r"_?(?:page|p|pg|page_?n(?:o|r|um|umber)|current_?page|seite|pagina)", re.IGNORECASE)
_OWN_CURSOR = re.compile(
    r"_?(?:.*cursor|after|since|start_?after|.*token|continuation|scroll_?id|marker|bookmark)", re.IGNORECASE
)
_OWN_OFFSET = re.compile(r"_?(?:offset|start|skip|from|first_?result|start_?index)", re.IGNORECASE)
_URL = re.compile(r"(?:https?:)?//|/|\?")
_LARGEST_PAGE = 1_000_000


@dataclass(frozen=True, slots=True)
class Told:
    """One thing that the envelope tells: what, where, the value, and what a plan says of it (empty where nothing)."""

    role: Role
    path: str
    value: str | int | bool
    plan: str = ""


def envelope_of(data: Any, url: str, rows: int) -> list[Told]:
    """What the document around `rows` rows tells; `url` is the one that was asked for. The way of going on comes first."""
    asked = dict(parse_qsl(urlsplit(url).query, keep_blank_values=True))
    told = [one for path, value in _scalars(data, (), 0) if (one := _told(path, value, rows, asked)) is not None]
    told = [one for one in told if one.role != "total" or one is _best_total(told)]
    going_on = _going_on(told, asked, rows)
    total = [Told(one.role, one.path, one.value, f"total = {quoted(one.path)}") for one in told if one.role == "total"]
    others = [one for one in told if one.role != "total" and (going_on is None or one.path != going_on.path)]
    return [*([going_on] if going_on else []), *total, *others]


def _scalars(value: Any, path: tuple[Step, ...], depth: int) -> Iterator[tuple[tuple[Step, ...], Any]]:
    """What stands in the outer objects, the nearest first within each; lists hold rows, and are left out but for short ones of
    links."""
    if isinstance(value, dict) and depth < _DEEPEST:
        for key, inner in value.items():
            yield from _scalars(inner, (*path, key), depth + 1)
    elif path and isinstance(value, str | int):
        yield path, value


def _told(path: tuple[Step, ...], value: str | int | bool, rows: int, asked: Mapping[str, str]) -> Told | None:
    """What a value tells by its name: the last words of its path."""
    if not _WORDS.search(str(path[-1])):
        return None
    words = [word.lower() for step in path for word in _WORDS.findall(str(step))]
    role = _role(words, value, rows, asked)
    return Told(role, pointed(path), value) if role is not None else None


def _role(words: list[str], value: str | int | bool, rows: int, asked: Mapping[str, str]) -> Role | None:
    last = set(words[-3:])
    if isinstance(value, bool):
        return _role_of_flag(last)
    if isinstance(value, str):
        return _role_of_text(words, last, value)
    return _role_of_number(words, last, value, rows, asked)


def _role_of_flag(last: set[str]) -> Role | None:
    if last & {"more"} or last >= {"has", "next"}:
        return "more"
    return "no more" if last >= {"is", "last"} or last & {"end", "eof", "done", "finished"} else None


def _role_of_text(words: list[str], last: set[str], value: str) -> Role | None:
    if last & {"previous", "prev", "first", "self", "last", "before", "start", "current"} or not value:
        return None
    if _URL.match(value):
        return "next URL" if last & {"next", "nextlink", "more"} else None
    names = {"cursor", "after", "continuation", "token", "bookmark", "marker", "scroll"}
    says_next = bool(last & {"next", "end", *names})
    return "cursor" if says_next and len(value) < 500 and not value.isspace() and " " not in value else None


def _role_of_number(words: list[str], last: set[str], value: int, rows: int, asked: Mapping[str, str]) -> Role | None:
    name, end = "".join(words[-2:]), words[-1]
    if value < 0:
        return None
    if last & {"per", "size", "limit", "pagesize", "perpage", "length"} and not last & {"total"}:
        return "size"
    if last & {"pages", "pagecount", "lastpage", "numpages"} or name in (
        "lastpage",
        "pagetotal",
        "pagecount",
        "totalpages",
    ):
        return "pages"
    if end == "next" or name == "nextpage":
        return "next page" if value < _LARGEST_PAGE else "cursor"
    if end == "last" and value < _LARGEST_PAGE:
        return "pages"
    if end in ("page", "pagenumber", "currentpage", "number") or name in (
        "pagenumber",
        "currentpage",
        "pageno",
        "pageindex",
    ):
        return "page"
    if end in ("offset", "start", "skip", "from") or name == "startindex":
        return "offset"
    counts = {"total", "count", "found", "hits", "results", "records", "items", "rows", "elements", "row", "filtered"}
    is_count = end in counts or (words[-2:-1] and words[-2] in ("total", "num", "last") and end in {*counts, "row"})
    # What is no more than the rows of this page counts these, and is no total.
    return "total" if is_count and value > rows else None


def _best_total(told: list[Told]) -> Told | None:
    """Of several counts the one that names itself a total, else the largest."""
    totals = [one for one in told if one.role == "total"]
    return max(totals, key=lambda one: ("total" in one.path.lower(), int(one.value)), default=None)


def _going_on(told: list[Told], asked: Mapping[str, str], rows: int) -> Told | None:
    """The surest way to the next page, with what a plan says of it."""
    first = {one.role: one for one in reversed(told)}
    flag = first.get("more")
    ends = f", end_unless = {quoted(flag.path)}" if flag is not None else ""
    if (one := first.get("next URL")) is not None:
        return Told("next URL", one.path, one.value, f"next = {quoted(one.path)}")
    if (one := first.get("cursor")) is not None:
        sent = f"{{ {as_key(_cursor_name(one, asked))} = {quoted(one.path)} }}"
        return Told("cursor", one.path, one.value, f"next = {{ send = {sent}{ends} }}")
    if (one := first.get("next page")) is not None:
        sent = f"{{ {as_key(_page_name(asked, int(one.value) - 1))} = {quoted(one.path)} }}"
        return Told("next page", one.path, one.value, f"next = {{ send = {sent}{ends} }}")
    pages = first.get("pages")
    if (one := first.get("page") or pages) is not None and (pages is None or int(pages.value) > 1 or flag is not None):
        number = int(one.value) if one.role == "page" else None
        start = ", first = 0" if number == 0 else ""
        ends = f", end_page = {quoted(pages.path)}" if pages is not None and not start else ends
        counted = f"{{ parameter = {quoted(_page_name(asked, number))}{start} }}"
        return Told(one.role, one.path, one.value, f"next = {{ count = {counted}{ends} }}")
    if (one := first.get("offset")) is not None and rows:
        name = next((name for name in asked if _OWN_OFFSET.fullmatch(name)), one.path.rpartition(".")[2])
        counted = f'{{ parameter = {quoted(name)}, first = 0, step = "rows" }}'
        return Told("offset", one.path, one.value, f"next = {{ count = {counted}{ends} }}")
    return None


def _page_name(asked: Mapping[str, str], number: int | None) -> str:
    """The parameter of the address that holds the page's number: by its value and its name, by its name, or "page"."""
    named = [name for name in asked if _OWN_PAGE.fullmatch(name)]
    fitting = [name for name in named if asked[name] == str(number)]
    by_value = [name for name in asked if number is not None and asked[name] == str(number) and number > 1]
    return next(iter([*fitting, *named, *by_value]), "page")


def _cursor_name(one: Told, asked: Mapping[str, str]) -> str:
    """The parameter for a cursor: one of the address, else by the name under which the cursor stands, without "next"."""
    own = next((name for name in asked if _OWN_CURSOR.fullmatch(name)), None)
    if own is not None:
        return own
    name = re.findall(r"[A-Za-z_]+", one.path)[-1]
    if name.lower() in ("endcursor", "end_cursor"):
        return "after"
    bare = re.sub(r"(?i)^(?:next|end)_?", "", name)
    return (bare[:1].lower() + bare[1:]) or ("after" if name.lower() == "end" else "cursor")
