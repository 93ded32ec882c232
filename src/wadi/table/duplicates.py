"""Which keys a table has had, and where: eight bytes for each key, so that a table of any length takes little memory."""

from __future__ import annotations

from array import array
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from wadi.store.history import plain_key
from wadi.store.order import Visit

Key = tuple[Any, ...]
_EXACT = 20_000
_PLACE_BITS = 24
_MOST_PLACES = (1 << _PLACE_BITS) - 1
_MOST_FULL = 0.7
_FIRST_SIZE = 1 << 15


@dataclass(frozen=True, slots=True)
class RowLocation:
    """Where a row stands, as far as it tells duplicates apart: page, listing, start, and the kinds of the pages on the way."""

    page: int
    listing: int
    start: int
    way: tuple[str, ...]


def location_of_visit(visit: Visit) -> RowLocation:
    """Where the rows of a visited page stand."""
    return RowLocation(visit.page, visit.listing, visit.start, visit.way)


class FirstLocations:
    """Remembers for each key where it stood first.

    The first keys are kept as they are. Of further ones there are 40 bits of a hash beside the number of the page, in a table
    with open addresses (Knuth, The Art of Computer Programming 3, §6.4): that two of a million keys are taken for one has a
    chance of one in a million.
    """

    def __init__(self, exact: int = _EXACT) -> None:
        self._few: dict[str | bytes, int] = {}
        self._room = exact
        self._slots = array("Q", bytes(8 * _FIRST_SIZE))
        self._mask = _FIRST_SIZE - 1
        self._count = 0
        self._pages, self._listings, self._starts = array("q"), array("q"), array("q")
        self._ways: list[tuple[str, ...]] = []
        self._way_of = array("H")
        self._page = -1
        self._way: tuple[str, ...] = ()

    def first(self, key: Key, visit: Visit) -> RowLocation | None:
        """Where the key stood first; None when it is new, and it is remembered from now on."""
        return self.stood([key], visit).get(0)

    def stood(self, keys: Iterable[Key | str | None], visit: Visit) -> dict[int, RowLocation]:
        """The same for the keys of a page's rows in their order: for those that stood before, by place. A key of one text
        may be that text; None is no key."""
        # Written out flat: this runs for every row, and the calls would cost more than the work.
        found: dict[int, RowLocation] = {}
        if visit.page != self._page or visit.way is not self._way:
            self._add_page(visit)
        few, slots, mask, page = self._few, self._slots, self._mask, len(self._pages)
        for place, key in enumerate(keys):
            if key is None:
                continue
            name = key if key.__class__ is str else _name_of(key)
            known = few.get(name)
            if known is not None:
                found[place] = self._stand(known)
                continue
            if self._room:
                few[name] = page - 1
                self._room -= 1
                continue
            wanted = (hash(name) & 0xFFFFFFFFFFFFFFFF) >> _PLACE_BITS
            index = wanted & mask
            while (held := slots[index]) and held >> _PLACE_BITS != wanted:
                index = (index + 1) & mask
            if held:
                found[place] = self._stand((held & _MOST_PLACES) - 1)
                continue
            slots[index] = wanted << _PLACE_BITS | page
            self._count += 1
            if self._count > _MOST_FULL * mask:
                self._grow()
                slots, mask = self._slots, self._mask
        return found

    def _grow(self) -> None:
        """Twice the room."""
        old = self._slots
        size = 2 * len(old)
        self._slots, self._mask = array("Q", bytes(8 * size)), size - 1
        for held in old:
            if held:
                index = (held >> _PLACE_BITS) & self._mask
                while self._slots[index]:
                    index = (index + 1) & self._mask
                self._slots[index] = held

    def _add_page(self, visit: Visit) -> None:
        self._page, self._way = visit.page, visit.way
        if visit.way not in self._ways:
            self._ways.append(visit.way)
        self._pages.append(visit.page)
        self._listings.append(visit.listing)
        self._starts.append(visit.start)
        self._way_of.append(self._ways.index(visit.way))

    def _stand(self, place: int) -> RowLocation:
        return RowLocation(
            self._pages[place], self._listings[place], self._starts[place], self._ways[self._way_of[place]]
        )


def _name_of(key: Key | str) -> str | bytes:
    """The key as what is hashed: of one text that text."""
    if len(key) == 1 and key[0].__class__ is str:
        return str(key[0])
    return bytes(bytearray(plain_key(key)))  # orjson's own bytes take 4 kB whatever they hold
