"""What did not come about, as tables: `problems` (cells that could not be read), `rejects` and `duplicates` (rows that were left
out, with the reason and with where the record stood first)."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any

from wadi.clean.types import TypeName
from wadi.plan.columns import Column
from wadi.table.assemble import Assembly
from wadi.table.ledger import Ledger, RowIssue

PROBLEMS, REJECTS, DUPLICATES = "problems", "rejects", "duplicates"
ISSUE_TABLES = (PROBLEMS, REJECTS, DUPLICATES)
_COLUMNS: dict[str, dict[str, TypeName]] = {
    PROBLEMS: {
        "table": "string",
        "column": "string",
        "raw": "string",
        "code": "string",
        "what": "string",
        "why": "string",
        "url": "url",
        "place": "integer",
    },
    REJECTS: {"table": "string", "what": "string", "row": "object", "url": "url", "place": "integer"},
    DUPLICATES: {
        "table": "string",
        "what": "string",
        "row": "object",
        "url": "url",
        "place": "integer",
        "first_url": "url",
    },
}
_OWN = {"rejected": REJECTS, "duplicate": DUPLICATES}
"""What is told of whole rows, by code; all else is of cells."""
Assemble = Callable[[str, Callable[[RowIssue], None]], Any]
"""Makes the assembly of a table that tells its issues."""


class RowIssues:
    """One of these tables, made by putting the others together once more; used like an Assembly."""

    names_files = False

    def __init__(self, which: str, tables: Sequence[str], assemble: Assemble, url_of: Callable[[int], str]) -> None:
        self.columns = [Column(name, kind, False, None, False, ()) for name, kind in _COLUMNS[which].items()]
        self.ledger = Ledger()
        self._which = which
        self._tables = tables
        self._assemble = assemble
        self._url_of = url_of

    def rows(self) -> Iterator[list[Any]]:
        """One row for each cell, or row, that did not come about; places count from 1 on their page."""
        for name in self._tables:
            issues: list[RowIssue] = []
            assembly = self._assemble(name, issues.append)
            if not isinstance(assembly, Assembly):
                continue
            for _ in assembly.rows():
                yield from self._taken(name, issues)
            yield from self._taken(name, issues)

    def _taken(self, table: str, issues: list[RowIssue]) -> Iterator[list[Any]]:
        for issue in issues:
            if _OWN.get(issue.code, PROBLEMS) != self._which:
                continue
            self.ledger.accepted += 1
            place = [self._url_of(issue.page), issue.row + 1]
            if self._which == PROBLEMS:
                yield [table, issue.column, issue.raw, issue.code, issue.what, issue.why or None, *place]
            else:
                first = [self._url_of(issue.first)] if issue.first is not None else []
                yield [table, issue.what, issue.cells, *place, *first]
        issues.clear()
