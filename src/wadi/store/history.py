"""What the runs before a run had of a table: since when, until when, and the cells; one SQLite file beside the run's own."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import orjson

from wadi.store.connect import connect

HISTORY = "history.sqlite"
_SCHEMA = """
CREATE TABLE records (
    number INTEGER PRIMARY KEY, name TEXT NOT NULL, key BLOB NOT NULL, first TEXT NOT NULL, last TEXT NOT NULL,
    cells BLOB NOT NULL, UNIQUE (name, key));
"""


@dataclass(frozen=True, slots=True)
class Record:
    """A record that an earlier run had: its number, when it was first and last seen, its cells by column."""

    number: int
    first: str
    last: str
    cells: dict[str, Any]


def write_history(folder: Path, tables: Iterable[tuple[str, Iterable[tuple[bytes, str, str, dict[str, Any]]]]]) -> None:
    """Keep what earlier runs had: table by table key, first, last, cells; of a key that comes twice the first."""
    connection = sqlite3.connect(folder / HISTORY)
    with connection:
        connection.executescript(_SCHEMA)
        for name, records in tables:
            connection.executemany(
                "INSERT OR IGNORE INTO records (name, key, first, last, cells) VALUES (?, ?, ?, ?, ?)",
                ((name, key, first, last, orjson.dumps(cells)) for key, first, last, cells in records),
            )
    connection.close()


class History:
    """What earlier runs had of one table, read only; empty where none had anything."""

    def __init__(self, folder: Path, table: str) -> None:
        self._table = table
        path = folder / HISTORY
        self._db = connect(path) if path.is_file() else None

    def find(self, key: bytes) -> tuple[int, str] | None:
        """The number of a record and when it was first seen."""
        if self._db is None:
            return None
        query = "SELECT number, first FROM records WHERE name = ? AND key = ?"
        found: tuple[int, str] | None = self._db.execute(query, (self._table, key)).fetchone()
        return found

    def records(self) -> Iterator[Record]:
        """Every record, in the order in which the run before had it."""
        if self._db is not None:
            query = "SELECT number, first, last, cells FROM records WHERE name = ? ORDER BY number"
            for number, first, last, cells in self._db.execute(query, (self._table,)):
                yield Record(number, first, last, orjson.loads(cells))
