"""Whether a limit of rows is reached: asked while the crawl goes on."""

from __future__ import annotations

from wadi.plan.columns import lists_of, table_plan
from wadi.plan.model import Plan
from wadi.store.view import RunView
from wadi.table.assemble import Assembly
from wadi.table.derived import TableContext


class EnoughRows:
    """Whether the first `limit` rows of a table are certain; asked after each commit. Rows once counted stay counted."""

    def __init__(self, state: RunView, plan: Plan, table: str, limit: int, *, context: TableContext) -> None:
        assembly = Assembly(state, plan, table, context=context)
        duplicates = table_plan(plan, table).duplicates
        # Later rows change earlier ones with "last" and "merge", so nothing is certain before the end.
        self._open_end = duplicates in ("last", "merge") and bool(table_plan(plan, table).key)
        self._open_end = self._open_end or any(name == table for _, name, _ in lists_of(plan))
        self._certain = assembly.certain()
        self._limit = limit
        self._count = 0

    def __call__(self) -> bool:
        if self._open_end:
            return False
        while self._count < self._limit and next(self._certain):
            self._count += 1
        return self._count >= self._limit
