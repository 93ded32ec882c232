"""Rows of a run as they become certain, while it goes on: written to standard output, and shown under the progress."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from itertools import islice
from typing import TYPE_CHECKING, Any, BinaryIO

from wadi.crawl.events import Event, Progress

if TYPE_CHECKING:
    from wadi.plan.columns import Column
    from wadi.table.assemble import CertainRows
    from wadi.table.writers import Style

Shown = Callable[[Sequence["Column"], Sequence[list[Any]]], None]


class NobodyReads(Exception):
    """The reader of standard output has gone."""


class RowStream:
    """Takes the rows of a table when the run has committed something. `out` is where they are written as CSV, `shown` gets them
    to be shown. What standard output has got already, `rest` does not write again."""

    def __init__(self, rows: CertainRows, out: BinaryIO | None, style: Style, shown: Shown | None) -> None:
        self._rows = rows
        self._out = None if self._rows.waits_for_the_end or self._rows.has_history else out
        self.armed: Counter[str] = Counter()
        """How many cells of a column a spreadsheet would run as formulas."""
        self._style = replace(style, noticed=lambda column, count: self.armed.update({column: count}))
        self._shown = shown
        self.written = 0
        self._has_begun = False

    def __call__(self, event: Event) -> None:
        """Hear an event. Raises NobodyReads."""
        if not isinstance(event, Progress):
            return
        rows = self._rows.new()
        if self._out is not None and (rows or not self._has_begun):
            try:
                from wadi.table.writers import csv_file

                self.written += csv_file(self._out, self._rows.columns, rows, self._style, goes_on=self._has_begun)
                self._has_begun = True
                self._out.flush()
            except BrokenPipeError as error:
                raise NobodyReads from error
        if self._shown is not None and rows:
            self._shown(self._rows.columns, rows)

    def rest(self, out: BinaryIO, columns: Sequence[Column], rows: Iterable[list[Any]]) -> int:
        """Write the rows of the finished table that are not written yet; how many rows it has."""
        from wadi.table.writers import csv_file

        behind: Iterator[list[Any]] = islice(rows, self.written, None)
        count = csv_file(out, columns, behind, self._style, goes_on=self._has_begun)
        return self.written + count
