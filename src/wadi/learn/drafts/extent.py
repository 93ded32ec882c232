"""How much of a listing a drafted plan takes: all of it, page after page, or perhaps one page of several."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from wadi.learn.drafts.draft import Choices
from wadi.learn.drafts.next_page import NextPage
from wadi.learn.first_look.look import RowsFound
from wadi.learn.first_look.paging import Paging
from wadi.page.document import Document
from wadi.page.nodes import Element, elements
from wadi.page.text import is_hidden, text_of
from wadi.problems import plural, shortened

_LONGEST_LINE, _LONGEST_LINK, _MOST_SIGNS = 160, 24, 4
_ROUND = frozenset((20, 24, 25, 30, 36, 40, 48, 50, 60, 72, 75, 80, 90, 96, 100, 120, 150, 200, 250, 300, 500, 1000))
"""So many rows a page of a listing has often."""
_GOING_ON = frozenset(
    {"next link", "rel=next", "Link header", "page numbers", "load more", "next URL", "cursor", "address"}
)
_DASH = r"\s*(?:–|—|-|\.{2,3}|…|~|～|to|bis|à|a|al|až|до|till|through)\s*"
_RANGE = re.compile(rf"(?<![\d.,])([0-9]{{1,5}}){_DASH}([0-9]{{1,5}})(?![\d.,]*[0-9%])", re.IGNORECASE)
_OF_ALL = re.compile(r"[^0-9]{1,40}?([0-9]+(?:[.,' \u00a0\u202f][0-9]{3})*)(?![0-9])")
_FIRST_PAGE = re.compile(
    r"(?:/page/|[?&;](?:page|p|pg|seite|pagina|start|from|offset|skip)=)[01](?![0-9])", re.IGNORECASE
)


@dataclass(frozen=True, slots=True)
class Extent:
    """What a draft takes of a listing, in words: "all", "goes on", or "one page": then it may be one of several."""

    takes: Literal["all", "goes on", "one page"]
    said: str


def extent_of(chosen: Choices, tried: NextPage | None = None) -> Extent | None:
    """What the draft takes of the listing; None where the page is about one thing."""
    if chosen.rows is None:
        return None
    count = chosen.rows.rows.count if isinstance(chosen.rows, RowsFound) else chosen.rows.count
    if chosen.next:
        seen = f"; page 2 has {tried.rows:,} more" if tried is not None else "; it was not tried"
        return Extent("goes on", f"it goes on by  next = {chosen.next}{seen}")
    total = next((whole for way in chosen.look.paging if (whole := _stated(way)) is not None), None)
    if total is not None and total == count:
        return Extent("all", f"this is all: {plural(count, 'row')}, as the page states")
    signs = list(dict.fromkeys(_signs(chosen, count, total)))
    if signs:
        return Extent("one page", f"this may be one page of several: {'; '.join(signs[:_MOST_SIGNS])}")
    return Extent("all", "this is all: nothing on the page says that it goes on")


def _stated(way: Paging) -> int | None:
    found = re.match("[0-9]+", way.value) if way.how == "stated total" else None
    return int(found[0]) if found is not None else None


def _signs(chosen: Choices, count: int, total: int | None) -> Iterator[str]:
    """What says that there is more."""
    look = chosen.look
    if total is not None and total > count:
        yield f"{total:,} are stated, and {count:,} are here"
    if chosen.next_in_vain is not None:
        yield f"a way to go on leads nowhere ({chosen.next_in_vain[0]})"
    yield from (f"{way.how}: {shortened(way.value, 60)}" for way in look.paging if way.how in _GOING_ON)
    rows = chosen.rows.rows.rows if isinstance(chosen.rows, RowsFound) else ()
    if look.document.kind == "html":
        yield from _in_texts(look.document, set(rows), count)
    if (found := _FIRST_PAGE.search(look.reply.request.url)) is not None:
        yield f"{found[0]!r} in the address"
    if count in _ROUND:
        yield f"{count} is a round count of rows"


def _in_texts(document: Document, rows: set[Element], count: int) -> Iterator[str]:
    """Ranges that end with the count of rows, links to ranges, numbers and letters, buttons, outside of the rows."""
    inside = rows.union(*(elements(row) for row in rows))
    letters: set[str] = set()
    said: list[str] = []
    for element in elements(document.top):
        if element.tag in ("script", "style", "title", "option", "head") or is_hidden(element):
            continue
        if sum(1 for _, _ in zip(range(13), element.iter_elements(), strict=False)) > 12:
            continue
        text = text_of(element)
        if not text or len(text) > _LONGEST_LINE or element in inside:
            continue
        if (found := _RANGE.search(text)) is not None:
            first, last = int(found[1]), int(found[2])
            more = _OF_ALL.match(text[found.end() :])
            if first <= 1 and last == count and (more is None or re.sub("[^0-9]", "", more[1]) != str(count)):
                said.append(text)
            elif element.tag in ("a", "button") and first == count + 1:
                yield f"a link to {shortened(text, 30)!r}"
        elif element.tag in ("a", "button") and len(text) <= _LONGEST_LINK:
            if re.fullmatch(r"\[?2\]?", text):
                yield "a link to page 2"
            elif len(text) == 1 and text.isalpha():
                letters.add(text)
    if said:
        yield f"it says {shortened(max(said, key=len), 60)!r}"
    if len(letters) >= 10:
        yield f"links by letters ({min(letters)} to {max(letters)})"
