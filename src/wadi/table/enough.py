"""Which rows of a table are certain while the crawl still goes on: to end it at a limit, and to hand them out at once."""

from __future__ import annotations

from typing import Any

from wadi.plan.columns import table_plan
from wadi.plan.model import Plan
from wadi.store.view import RunView
from wadi.table.assemble import Assembly
from wadi.table.derived import TableContext


class CertainRows:
    """The rows of a table as they become certain, in reading order, `limit` at most: they are what the finished table
    begins with.

    `waits_for_the_end` tells that nothing of a table is certain before: rows of lists, rows that later ones change, and tables
    with columns that know all of it.
    """

    def __init__(
        self, state: RunView, plan: Plan, table: str, *, context: TableContext, limit: int | None = None
    ) -> None:
        self._assembly = Assembly(state, plan, table, context=context)
        self.columns = self._assembly.columns
        self.waits_for_the_end = self._assembly.is_known_at_the_end
        self.has_history = table_plan(plan, table).history
        self._certain = self._assembly.certain()
        self._limit = limit
        self.count = 0

    def new(self) -> list[list[Any]]:
        """The rows that have become certain since this was asked the last time; to be asked after a commit."""
        found: list[list[Any]] = []
        while not self.waits_for_the_end and not self.are_all and (row := next(self._certain)) is not None:
            found.append(self._assembly.written(row))
            self.count += 1
        return found

    @property
    def are_all(self) -> bool:
        """Whether the limit is reached."""
        return self._limit is not None and self.count >= self._limit


class EnoughRows:
    """Whether the first `limit` rows of a table are certain; asked after each commit."""

    def __init__(self, state: RunView, plan: Plan, table: str, limit: int, *, context: TableContext) -> None:
        self._rows = CertainRows(state, plan, table, context=context, limit=limit)

    def __call__(self) -> bool:
        self._rows.new()
        return self._rows.are_all
