"""One walk over each table of a run: what writes it takes its rows, and its profile, its ledger and its checks come of them.

A table that nobody writes is walked for these alone.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator
from typing import Any

from wadi.actions.export import source_of
from wadi.actions.run import Run
from wadi.plan.checks import CheckPlan
from wadi.plan.columns import table_plan
from wadi.quality.checks import Broken, Checking, Context
from wadi.quality.profile import Profiling, TableProfile
from wadi.quality.sources import run_table
from wadi.quality.tables import TableSource, batches
from wadi.store.outcome import End
from wadi.table.cells import flat
from wadi.table.destinations import Source
from wadi.table.ledger import Ledger


class TableWalk:
    """The walk over one table. `whole` is about its profile: all that reports show, or what verdicts need."""

    def __init__(self, run: Run, name: str, *, whole: bool = False) -> None:
        check = _check_of(run, name)
        assembly = run.assembly(name, with_helpers=check is not None)
        self.source: TableSource = run_table(run, name)
        self.ledger: Ledger = assembly.ledger
        self.is_done = False
        self._rows: Iterator[list[Any]] | None = assembly.rows()
        self._is_wider = len(assembly.columns) > len(self.source.columns)
        self._profiling = Profiling(self.source, whole=whole)
        self._checking = _checking(run, name, check) if check is not None else None

    def rows(self) -> Iterator[list[Any]]:
        """The table's rows as they are written, to be taken once."""
        rows, self._rows = self._rows, None  # what an assembly knows of a long table is gone when its rows are
        assert rows is not None
        for batch in batches(rows):
            if self._checking is not None:
                self._checking.take(batch)
            written = [row[: len(self.source.columns)] for row in batch] if self._is_wider else batch
            self._profiling.take(written)
            yield from written
        self.is_done = True

    def profile(self) -> TableProfile:
        """The profile, when all rows were taken."""
        return self._profiling.profile()

    def broken(self) -> list[Broken]:
        """The checks that do not hold, when all rows were taken."""
        return self._checking.broken(self.ledger.duplicates) if self._checking is not None else []


class Walks:
    """The walks over a run's tables, each at most once."""

    def __init__(self, run: Run, *, whole: bool = False) -> None:
        self._run = run
        self._whole = whole
        self._walks: dict[str, TableWalk] = {}

    def source(self, name: str) -> Source:
        """A table to be written, once; of one that is written a second time the rows are assembled anew."""
        source = source_of(self._run, name)
        if name in self._walks or name not in self._run.tables:
            return source
        walk = self._walks[name] = TableWalk(self._run, name, whole=self._whole)
        return Source(name, source.columns, source.key, walk.rows)

    def walked(self, name: str) -> TableWalk:
        """The walk over a table, done: now, where nobody took all its rows."""
        walk = self._walks.get(name)
        if walk is None or not walk.is_done:
            walk = self._walks[name] = TableWalk(self._run, name, whole=self._whole)
            deque(walk.rows(), maxlen=0)
        return walk


def _check_of(run: Run, name: str) -> CheckPlan | None:
    """The plan's checks on a table; of a run that was cut short those on its size are left out."""
    check = table_plan(run.loaded.plan, name).check
    if check is not None and run.end is not End.COMPLETE:
        return check.model_copy(update={"rows": None})
    return check


def _checking(run: Run, name: str, check: CheckPlan) -> Checking:
    def values(reference: str) -> set[Any]:
        table, _, column = reference.partition(".")
        other = run_table(run, table, with_helpers=True)
        place = other.names.index(column)
        return {flat(row[place]) for row in other.rows() if row[place] is not None}

    return Checking(run_table(run, name, with_helpers=True), check, Context(run.as_of[:10], values))
