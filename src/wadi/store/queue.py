"""The pages of a run that wait to be asked for, in reading order, of all hosts or of one."""

from __future__ import annotations

import sqlite3
from collections.abc import Container, Iterable
from itertools import islice

from wadi.store.outcome import State
from wadi.store.pages import PAGE_COLUMNS, Page, page_of


class Queue:
    """What waits in a run's database. Pages further from the starts than `most_depth` are known, but not asked for."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._db = connection

    def first(
        self,
        limit: int,
        without_hosts: Iterable[str] = (),
        known: Container[int] = (),
        most_depth: int | None = None,
    ) -> list[Page]:
        """The pages to ask for next; of the first ones up to `limit` those that are not `known`."""
        barred = list(without_hosts)
        without = f"AND host NOT IN ({','.join('?' * len(barred))}) " if barred else ""
        near, depth = _near(most_depth)
        cursor = self._db.execute(
            f"SELECT {PAGE_COLUMNS} FROM pages WHERE state = {State.WAITING} {near}{without}ORDER BY route LIMIT ?",
            (*depth, *barred, limit),
        )
        return [page_of(*row) for row in cursor if row[0] not in known]

    def first_at(self, host: str, count: int, known: Container[int] = (), most_depth: int | None = None) -> list[Page]:
        """The next `count` pages of a host that are not `known`."""
        near, depth = _near(most_depth)
        cursor = self._db.execute(
            f"SELECT {PAGE_COLUMNS} FROM pages WHERE state = {State.WAITING} {near}AND host = ? ORDER BY route",
            (*depth, host),
        )
        return [page_of(*row) for row in islice((row for row in cursor if row[0] not in known), count)]

    def hosts(self) -> list[str]:
        """The hosts that have waiting pages."""
        query = f"SELECT DISTINCT host FROM pages WHERE state = {State.WAITING}"
        return [host for (host,) in self._db.execute(query)]


def _near(most_depth: int | None) -> tuple[str, tuple[int, ...]]:
    """The condition that a page is near enough to the starts, and its values."""
    return ("", ()) if most_depth is None else ("AND depth <= ? ", (most_depth,))
