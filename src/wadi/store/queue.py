"""The pages of a run that wait to be asked for, in reading order, of all hosts or of one."""

from __future__ import annotations

import sqlite3
from collections.abc import Container, Iterable
from itertools import islice

from wadi.store.pages import PAGE_COLUMNS, Page, page_of


class Queue:
    """What waits in a run's database. Pages further from the starts than `most_depth` are known, but not asked for."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._db = connection
        self.most_depth: int | None = None

    def first(self, limit: int, without_hosts: Iterable[str] = (), known: Container[int] = ()) -> list[Page]:
        """The pages to ask for next; of the first ones up to `limit` those that are not `known`."""
        barred = list(without_hosts)
        without = f"AND host NOT IN ({','.join('?' * len(barred))}) " if barred else ""
        cursor = self._db.execute(
            f"SELECT {PAGE_COLUMNS} FROM pages WHERE state = 0 {self._near}{without}ORDER BY route LIMIT ?",
            (*self._depth, *barred, limit),
        )
        return [page_of(*row) for row in cursor if row[0] not in known]

    def first_at(self, host: str, count: int, known: Container[int] = ()) -> list[Page]:
        """The next `count` pages of a host that are not `known`."""
        cursor = self._db.execute(
            f"SELECT {PAGE_COLUMNS} FROM pages WHERE state = 0 {self._near}AND host = ? ORDER BY route",
            (*self._depth, host),
        )
        return [page_of(*row) for row in islice((row for row in cursor if row[0] not in known), count)]

    def hosts(self) -> list[str]:
        """The hosts that have waiting pages."""
        return [host for (host,) in self._db.execute("SELECT DISTINCT host FROM pages WHERE state = 0")]

    @property
    def _near(self) -> str:
        return "AND depth <= ? " if self.most_depth is not None else ""

    @property
    def _depth(self) -> tuple[int, ...]:
        return () if self.most_depth is None else (self.most_depth,)
