"""Which keys a table has had, and where: in memory while they are few, else in a temporary database on disk.

So that a table of any length is put together in the same memory.
"""

from __future__ import annotations

import hashlib
import sqlite3
from dataclasses import dataclass
from typing import Any

import orjson

from wadi.store.order import Visit

_IN_MEMORY = 20_000
Key = tuple[Any, ...]


@dataclass(frozen=True, slots=True)
class Stand:
    """Where a row stands, as far as it tells doubles apart: page, listing, start, and the kinds of the pages on the way."""

    page: int
    listing: int
    start: int
    way: tuple[str, ...]


def stand_of(visit: Visit) -> Stand:
    """Where the rows of a visited page stand."""
    return Stand(visit.page, visit.listing, visit.start, visit.way)


class FirstStands:
    """Remembers for each key where it stood first."""

    def __init__(self, in_memory: int = _IN_MEMORY) -> None:
        self._few: dict[bytes, Stand] = {}
        self._most = in_memory
        self._many: sqlite3.Connection | None = None
        self._ways: list[tuple[str, ...]] = []
        self._last: Stand | None = None

    def first(self, key: Key, visit: Visit) -> Stand | None:
        """Where the key stood first; None when it is new, and it is remembered from now on."""
        name = _name_of(key)
        known = self._few.get(name)
        if known is None and self._many is not None:
            known = self._kept(self._many, name)
        if known is not None:
            return known
        stand = self._stand(visit)
        if len(self._few) < self._most:
            self._few[name] = stand
        else:
            self._keep(name, stand)
        return None

    def _stand(self, visit: Visit) -> Stand:
        """The stand of a page, one object for all of its rows."""
        if self._last is None or self._last.page != visit.page or self._last.way != visit.way:
            self._last = stand_of(visit)
        return self._last

    def _kept(self, database: sqlite3.Connection, name: bytes) -> Stand | None:
        found = database.execute("SELECT page, listing, start, way FROM keys WHERE key = ?", (name,)).fetchone()
        return Stand(found[0], found[1], found[2], self._ways[found[3]]) if found else None

    def _keep(self, name: bytes, stand: Stand) -> None:
        if self._many is None:
            self._many = sqlite3.connect("", isolation_level=None)  # a file of its own, gone with the connection
            self._many.execute("PRAGMA journal_mode=OFF")
            self._many.execute("PRAGMA synchronous=OFF")
            self._many.execute("CREATE TABLE keys (key BLOB PRIMARY KEY, page, listing, start, way) WITHOUT ROWID")
            self._many.execute("BEGIN")
        if stand.way not in self._ways:
            self._ways.append(stand.way)
        row = (name, stand.page, stand.listing, stand.start, self._ways.index(stand.way))
        self._many.execute("INSERT INTO keys VALUES (?, ?, ?, ?, ?)", row)


def _name_of(key: Key) -> bytes:
    """The key as 16 bytes; 1 and 1.0 are the same."""
    plain = [int(v) if isinstance(v, float) and v.is_integer() else v for v in key]
    return hashlib.blake2b(orjson.dumps(plain), digest_size=16).digest()
