"""What became of each line of a list that went in: found (with its number of rows), not found, failed, not finished."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from wadi.plan.columns import OUTCOMES, Column, yielded_tables
from wadi.plan.model import Plan
from wadi.plan.starts import templates_of, used_in
from wadi.store.order import Walk
from wadi.store.outcome import State
from wadi.store.pages import Edge
from wadi.store.view import RunView
from wadi.table.ledger import Ledger

_GONE = (404, 410)


def has_outcomes(plan: Plan) -> bool:
    """Whether a plan has lists that go in, and no table of its own under that name."""
    return OUTCOMES not in yielded_tables(plan) and bool(_list_inputs(plan))


class Outcomes:
    """The table of outcomes: the inputs' columns, `outcome`, `rows` (of the main table, duplicates counted), and `problem`."""

    def __init__(self, state: RunView, plan: Plan, table: str) -> None:
        self._state = state
        self._table = table
        self._names = _list_inputs(plan)
        self._in_starts = _used_in_starts(plan)
        shown = _short_names(self._names)
        self.columns = [
            *(Column(shown[name], "string", False, None, False, ()) for name in self._names),
            Column("outcome", "string", False, None, True, ()),
            Column("rows", "integer", False, None, True, ()),
            Column("problem", "string", False, None, False, ()),
        ]
        self.ledger = Ledger()

    def rows(self) -> Iterator[list[Any]]:
        """One row for each line that went in, in order."""
        for edge, inputs in self._edges():
            outcome, count, problem = self._followed(edge)
            row = [*(inputs.get(name) for name in self._names), outcome, count, problem]
            self.ledger.given += 1
            self.ledger.accepted += 1
            for column, value in zip(self.columns, row, strict=True):
                if value is not None:
                    self.ledger.filled[column.name] = self.ledger.filled.get(column.name, 0) + 1
            yield row

    def _edges(self) -> Iterator[tuple[Edge, Mapping[str, Any]]]:
        """The links that lines led to: starts, or what forms and made requests opened."""
        for start in self._state.starts():
            if self._in_starts:
                yield start, start.inputs or {}
                continue
            for visit in Walk(self._state, edges=[start]).all():
                for edge in self._state.edges(visit.page):
                    if edge.inputs and any(name in edge.inputs for name in self._names):
                        yield edge, {**visit.inputs, **edge.inputs}

    def _followed(self, edge: Edge) -> tuple[str, int, str | None]:
        """Outcome, rows and the first problem of everything that a line led to."""
        rows, waiting = 0, False
        problem: str | None = None
        gone = True
        for visit in Walk(self._state, edges=[edge]).all():
            waiting = waiting or visit.state is State.WAITING
            if visit.state is State.FAILED:
                status, what = self._state.failure_of(visit.page)
                gone = gone and status in _GONE
                problem = problem or what
            elif visit.state is State.DONE:
                rows += self._state.count_of_rows(visit.page, self._table)
        if rows:
            return "found", rows, problem
        if problem is not None:
            return ("not found" if gone else "failed"), 0, problem
        return ("not finished" if waiting else "not found"), 0, None


def _list_inputs(plan: Plan) -> list[str]:
    """The names under which lists give values, such as `district` or `place.slug`, but for those that only split listings."""
    names: list[str] = []
    for name, value in plan.inputs.items():
        if isinstance(value, list) and value and name not in plan.start.split:
            first = value[0]
            names += [f"{name}.{column}" for column in first] if isinstance(first, dict) else [name]
    return names


def _used_in_starts(plan: Plan) -> bool:
    lists = {name.partition(".")[0] for name in _list_inputs(plan)}
    used = {name.partition(".")[0] for _, template in templates_of(plan) for name in used_in(plan, template)}
    return bool(lists & used)


def _short_names(names: list[str]) -> dict[str, str]:
    """Column names: what stands behind the dot where that is clear, else the whole with `_` for the dot."""
    last = [name.rpartition(".")[2] for name in names]
    reserved = {"outcome", "rows", "problem"}
    return {
        name: short if last.count(short) == 1 and short not in reserved else name.replace(".", "_")
        for name, short in zip(names, last, strict=True)
    }
