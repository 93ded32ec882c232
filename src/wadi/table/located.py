"""The rows that pages give to a table, with their places, in reading order; and the pages that complete a row."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

from wadi.clean.types import Where
from wadi.page.cells import Notes, read_column
from wadi.page.field import ROUTE_SOURCES, Field, Source
from wadi.plan.columns import Column, columns_of, fields_giving, table_plan
from wadi.plan.fields import compile_field
from wadi.plan.model import Plan
from wadi.plan.starts import FILE
from wadi.store.order import Visit, Walk
from wadi.store.outcome import CellProblem, State, as_stored
from wadi.store.view import RunView
from wadi.table.derived import TableContext
from wadi.table.ledger import Ledger

Cells = list[Any]
PAGES_HELD = 8


@dataclass(slots=True)
class LocatedRow:
    """A row with its place: the page that gave it, in its place, and the row's number there.

    `parent` is the row that a row of a list stands in, `others` are duplicates that were merged into this one; `lacks_detail`
    says that a page that completes it did not come.
    """

    cells: Cells
    visit: Visit
    number: int
    parent: LocatedRow | None = None
    others: tuple[LocatedRow, ...] = ()
    lacks_detail: bool = False


Batch = list[LocatedRow]
"""Rows of one page. An empty one says that nothing more is certain before the next commit."""


class PageRows:
    """What pages give to a table, their cells in the order of its columns. What is odd about them goes into the ledger."""

    def __init__(
        self,
        state: RunView,
        plan: Plan,
        table: str,
        columns: Sequence[Column],
        context: TableContext,
        ledger: Ledger,
        pages_held: int = PAGES_HELD,
    ) -> None:
        self._state = state
        self._ledger = ledger
        self._columns = columns
        self._place = {column.name: place for place, column in enumerate(columns)}
        self._orders: dict[tuple[str, ...], list[int | None]] = {}
        self._given = lru_cache(pages_held)(lambda page: state.rows(page, table))
        self._children = lru_cache(pages_held)(self._grouped)
        self._entered: set[int] = set()
        self._completing = {name for name, kind in plan.page.items() if kind.completes == table}
        self._preferred = table_plan(plan, table).prefer
        self._by_route = _fields_by_route(plan, table, context)

    # -- rows that pages give by themselves

    def all(self) -> Iterator[Batch]:
        """The rows of every page, in reading order."""
        for visit in Walk(self._state).all():
            if rows := self._rows_of(visit):
                yield rows

    def certain(self) -> Iterator[Batch]:
        """The same, one row at a time, as far as it is certain: an empty batch says to ask again after the next commit. A row is
        certain when every page before it in reading order is settled, and every page that completes it, and its files."""
        walk = Walk(self._state)
        while True:
            for visit in walk.settled():
                for row in self._rows_of(visit):
                    while not self._is_settled(row):
                        yield []
                    yield [row]
            yield []

    def _rows_of(self, visit: Visit) -> Batch:
        given = self._given(visit.page) if visit.state is State.DONE else None
        if given is None:
            return []
        self._ledger.enter_problems(visit.page, given.problems, given.several)
        if given.completes:
            return []
        self._ledger.empty_pages += not given.rows
        rows = [LocatedRow(cells, visit, n) for n, cells in enumerate(self._in_order(given.columns, given.rows))]
        for name, spec in self._by_route.get(visit.kind, {}).items():
            value, unread, several = self._value_by_route(spec, visit)
            for row in rows:
                row.cells[self._place[name]] = value
            problems = [replace(problem, row=row.number) for row in rows for problem in unread]
            self._ledger.enter_problems(visit.page, problems, {column: len(rows) for column in several})
        return rows

    def _in_order(self, names: tuple[str, ...], rows: Iterable[Cells]) -> Iterator[Cells]:
        """Cells in the order of the columns, as lists of their own."""
        if (places := self._orders.get(names)) is None:
            place_of = {name: place for place, name in enumerate(names)}
            places = self._orders[names] = [place_of.get(column.name) for column in self._columns]
        if places == list(range(len(names))):
            return map(list, rows)
        return ([None if place is None else cells[place] for place in places] for cells in rows)

    # -- rows of lists

    def children(self, parent: LocatedRow | None, visit: Visit, page: int, number: int | None) -> Batch:
        """The rows of the list that stands in a page's row `number` (None: in any of them); `parent` is the row that they are
        tied to, `visit` how that was reached."""
        given = self._given(page)
        if given is None or given.parents is None:
            return []
        places = range(len(given.rows)) if number is None else self._children(page).get(number, ())
        if not places:
            return []
        if page not in self._entered:
            self._entered.add(page)
            self._ledger.enter_problems(page, given.problems, given.several)
        here = replace(visit, page=page)
        rows = self._in_order(given.columns, (given.rows[place] for place in places))
        return [LocatedRow(cells, here, place, parent) for place, cells in zip(places, rows, strict=True)]

    def _grouped(self, page: int) -> dict[int, list[int]]:
        """The places of a page's rows of a list, by the number of the row that they stand in."""
        given = self._given(page)
        found: dict[int, list[int]] = {}
        for place, parent in enumerate((given and given.parents) or ()):
            found.setdefault(parent, []).append(place)
        return found

    # -- pages that complete a row

    def details_of(self, row: LocatedRow) -> dict[int, tuple[int, int]]:
        """The pages that complete a row, in the order in which they do, each with the page and its row that opened it."""
        found: dict[int, tuple[int, int]] = {}
        todo = [(row.visit.page, row.number)] if self._completing else []
        for opener in todo:
            for detail, kind, state in self._state.completers(*opener):
                if kind in self._completing and detail not in found and detail != row.visit.page:
                    found[detail] = opener
                    if state is State.DONE:
                        todo.append((detail, 0))
        return found

    def visit_of(self, row: LocatedRow, detail: int) -> Visit:
        """How a page that completes a row was reached from it."""
        text, inputs = self._state.link(*self.details_of(row)[detail], detail)
        kind = self._state.kind_of(detail)
        return replace(row.visit, page=detail, kind=kind, text=text, inputs={**row.visit.inputs, **inputs})

    def _is_settled(self, row: LocatedRow) -> bool:
        """Whether all pages that complete the row are settled, those that they lead to as well, and the row's files."""
        todo, known = [(row.visit.page, row.number)], {row.visit.page}
        for opener in todo:
            for detail, kind, state in self._state.completers(*opener):
                if kind not in self._completing and kind != FILE:
                    continue
                if state is State.WAITING:
                    return False
                if kind != FILE and detail not in known:
                    known.add(detail)
                    todo.append((detail, 0))
        return True

    def complete(self, row: LocatedRow) -> None:
        """Put the cells of the detail pages into the row; what they leave open stays open."""
        for detail in self.details_of(row):
            kind, state = self._state.kind_of(detail), self._state.state_of(detail)
            row.lacks_detail = row.lacks_detail or state is not State.DONE
            given = self._given(detail)
            if given is not None and given.rows:
                for name, value in zip(given.columns, given.rows[0], strict=True):
                    self._put(row.cells, kind, name, value)
            for name, spec in self._by_route.get(kind, {}).items():
                if state is State.DONE or spec.source == "status":
                    value, unread, several = self._value_by_route(spec, self.visit_of(row, detail))
                    self._put(row.cells, kind, name, value)
                    self._ledger.enter_problems(detail, unread, several)
        self._ledger.incomplete += row.lacks_detail

    def _put(self, cells: Cells, kind: str, name: str, value: Any) -> None:
        """A detail page's value into a row: over one that is there only where the plan prefers that kind of page."""
        place = self._place.get(name)
        if place is not None and value is not None and (cells[place] is None or kind == self._preferred):
            cells[place] = value

    def _value_by_route(self, spec: Field, visit: Visit) -> tuple[Any, list[CellProblem], Mapping[str, int]]:
        """The value that a field has on a page that was reached so, as the run keeps values; what could not be read, and what
        matched several times."""
        notes = Notes()
        (value,) = read_column(spec, [None], source_of_visit(visit, spec, self._state), notes)
        unread = [CellProblem(0, spec.name, u.raw, u.code, u.what, u.why) for *_, u in notes.unread]
        return as_stored(value), unread, notes.several


def _fields_by_route(plan: Plan, table: str, context: TableContext) -> dict[str, dict[str, Field]]:
    """Page kind → column → the fields whose values come from the way by which a page was reached, or from what came of it."""
    found: dict[str, dict[str, Field]] = {}
    for column in columns_of(plan, table):
        for page, plan_field in fields_giving(plan, table, column):
            if (plan_field.source or "").partition(".")[0] in ROUTE_SOURCES:
                spec = compile_field(column, plan_field, context.this_year, context.functions)
                found.setdefault(page, {})[column] = spec
    return found


def source_of_visit(visit: Visit, spec: Field, state: RunView) -> Source:
    """What a field by route is read from."""
    status = state.status_of(visit.page) if spec.source == "status" else None
    way = state.way_of(visit.page) if spec.source == "route" else ""
    return Source(None, Where(), link=visit.text, inputs=visit.inputs, status=status, route=way)
