"""Committed rows put together into tables: in reading order, completed by detail pages, doubles and rejects taken out.

Nothing of this depends on the order in which replies came: the same stored pages give the same rows.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from enum import Enum
from typing import Any

from wadi.clean.stages import Stages, Unread
from wadi.plan.columns import Column, columns, fields_giving, recipe_of, table_plan
from wadi.plan.model import FieldPlan, Plan
from wadi.store.order import Visit, Walk
from wadi.store.outcome import CellProblem, State
from wadi.store.state import RunState
from wadi.urls import without_secret

Cells = list[Any]


@dataclass(slots=True)
class Account:
    """What became of the rows that the pages gave: counts, and examples for messages.

    `filled` counts non-missing cells of accepted rows, by column. `unread` counts cells that could not be read, by column,
    with the URL and the problem of the first. `several` counts rows where a field matched more than once.
    """

    given: int = 0
    accepted: int = 0
    doubles: int = 0
    rejected: int = 0
    incomplete: int = 0
    double_examples: list[tuple[str, str]] = field(default_factory=list)
    reject_examples: list[tuple[str, str]] = field(default_factory=list)
    filled: dict[str, int] = field(default_factory=dict)
    unread: dict[str, int] = field(default_factory=dict)
    unread_examples: dict[str, tuple[str, CellProblem]] = field(default_factory=dict)
    several: dict[str, int] = field(default_factory=dict)
    empty_pages: int = 0


class _Fate(Enum):
    ACCEPTED = 1
    DOUBLE = 2
    REJECTED = 3


class Assembly:
    """Puts one table together. An assembly is used once: its account grows as the rows are taken."""

    def __init__(
        self, state: RunState, plan: Plan, table: str, *, limit: int | None = None, this_year: int = 0
    ) -> None:
        self.columns: list[Column] = columns(plan, table)
        self.account = Account()
        self._state = state
        self._table = table
        self._limit = limit
        self._plan = table_plan(plan, table)
        self._place = {column.name: place for place, column in enumerate(self.columns)}
        self._required = [place for place, column in enumerate(self.columns) if column.required]
        self._key = [self._place[name] for name in self._plan.key if name in self._place]
        self._completing = {name for name, kind in plan.page.items() if kind.completes == table}
        self._fills = {name: _fill(plan, table, name) for name in plan.page}
        self._by_route = _by_route(plan, table, this_year)
        self._seen: dict[tuple[Any, ...], Any] = {}

    def rows(self) -> Iterator[Cells]:
        """The table's rows, one list for each, cells in the order of `columns`, missing cells None.

        Dates are ISO 8601 texts, `many` columns are lists.
        """
        rows = self._accepted(Walk(self._state).all())
        if self._key and self._plan.doubles in ("last", "merge"):
            rows = iter(_settled_doubles(rows, self._key, self._plan.doubles, self.account))
        for row in rows:
            if self._limit is not None and self.account.accepted >= self._limit:
                return
            self.account.accepted += 1
            self._count_filled(row)
            yield row

    def certain(self) -> Iterator[bool]:
        """A generator to be asked again after every commit: True for each row that is certain, False when it must wait.

        A row is certain when every page before it in reading order is settled, and every page that completes it.
        """
        walk = Walk(self._state)
        while True:
            for visit in walk.settled():
                for number, row in enumerate(self._page_rows(visit)):
                    while not self._is_complete(visit.page, number):
                        yield False
                    self._complete(row, visit.page, number)
                    if self._fate(row, visit) is _Fate.ACCEPTED:
                        yield True
            yield False

    def _accepted(self, visits: Iterable[Visit]) -> Iterator[Cells]:
        for visit in visits:
            for number, row in enumerate(self._page_rows(visit)):
                self._complete(row, visit.page, number)
                self.account.given += 1
                if self._fate(row, visit) is _Fate.ACCEPTED:
                    yield row

    def _page_rows(self, visit: Visit) -> list[Cells]:
        """The rows that a page gives, their cells in the table's order; what depends on the route is filled in."""
        if visit.state is not State.DONE:
            return []
        given = self._state.rows(visit.page, self._table)
        if given is None:
            return []
        self._account_problems(visit.page, given.problems, given.several)
        if given.completes:
            return []
        self.account.empty_pages += not given.rows
        places = [self._place.get(name) for name in given.columns]
        rows: list[Cells] = []
        for cells in given.rows:
            row: Cells = [None] * len(self.columns)
            for place, value in zip(places, cells, strict=True):
                if place is not None:
                    row[place] = value
            rows.append(row)
        kind = self._state.kind_of(visit.page) if self._by_route else ""
        for name, fill in self._by_route.get(kind, {}).items():
            value = fill.value(visit)
            for row in rows:
                row[self._place[name]] = value
        return rows

    def _is_complete(self, page: int, row: int) -> bool:
        return not self._completing or all(
            state is not State.WAITING
            for _, kind, state in self._state.completers(page, row)
            if kind in self._completing
        )

    def _complete(self, row: Cells, page: int, number: int) -> None:
        """Put the cells of the detail pages into the row; what they leave open stays open."""
        if not self._completing:
            return
        todo, done = [(page, number)], {page}
        lacking = False
        while todo:
            for detail, kind, state in self._state.completers(*todo.pop(0)):
                if kind not in self._completing or detail in done:
                    continue
                done.add(detail)
                lacking = lacking or state is not State.DONE
                given = self._state.rows(detail, self._table)
                if given is not None and given.rows:
                    self._put(row, given.columns, given.rows[0], kind)
                    todo.append((detail, 0))
        self.account.incomplete += lacking

    def _put(self, row: Cells, names: tuple[str, ...], cells: Cells, kind: str) -> None:
        fills = self._fills[kind]
        for name, value in zip(names, cells, strict=True):
            place = self._place.get(name)
            if place is not None and value is not None and (row[place] is None or fills[name]):
                row[place] = value

    def _fate(self, row: Cells, visit: Visit) -> _Fate:
        missing = next((place for place in self._required if row[place] is None), None)
        if missing is not None:
            self.account.rejected += 1
            if len(self.account.reject_examples) < 2:
                self.account.reject_examples.append((self._url(visit), self.columns[missing].name))
            return _Fate.REJECTED
        if self._key and self._plan.doubles == "first":
            key = key_of(row, self._key)
            if key is not None:
                if key in self._seen:
                    self.account.doubles += 1
                    if len(self.account.double_examples) < 2:
                        self.account.double_examples.append((" ".join(map(str, key)), self._url(visit)))
                    return _Fate.DOUBLE
                self._seen[key] = None
        return _Fate.ACCEPTED

    def _count_filled(self, row: Cells) -> None:
        filled = self.account.filled
        for column, value in zip(self.columns, row, strict=True):
            if value is not None and value != []:
                filled[column.name] = filled.get(column.name, 0) + 1

    def _account_problems(self, page: int, problems: Iterable[CellProblem], several: Mapping[str, int]) -> None:
        for problem in problems:
            self.account.unread[problem.column] = self.account.unread.get(problem.column, 0) + 1
            if problem.column not in self.account.unread_examples:
                self.account.unread_examples[problem.column] = (without_secret(self._state.url_of(page)), problem)
        for name, count in several.items():
            self.account.several[name] = self.account.several.get(name, 0) + count

    def _url(self, visit: Visit) -> str:
        return without_secret(self._state.url_of(visit.page))


class EnoughRows:
    """Whether the first `limit` rows of a table are certain; asked after each commit. Rows once counted stay counted."""

    def __init__(self, state: RunState, plan: Plan, table: str, limit: int, *, this_year: int) -> None:
        assembly = Assembly(state, plan, table, this_year=this_year)
        doubles = table_plan(plan, table).doubles
        # Later rows change earlier ones with "last" and "merge", so nothing is certain before the end.
        self._open_end = doubles in ("last", "merge") and bool(table_plan(plan, table).key)
        self._certain = assembly.certain()
        self._limit = limit
        self._count = 0

    def __call__(self) -> bool:
        if self._open_end:
            return False
        while self._count < self._limit and next(self._certain):
            self._count += 1
        return self._count >= self._limit


@dataclass(frozen=True)
class _RouteField:
    """A field whose value comes from the way by which a page was reached."""

    plan: FieldPlan
    source: str
    detail: str
    stages: Stages

    def value(self, visit: Visit) -> Any:
        text = visit.text if self.source == "link" else visit.inputs.get(self.detail)
        if text is None:
            return self.plan.default
        value = self.stages.value_of(str(text), "")
        return self.plan.default if value is None else None if isinstance(value, Unread) else value


def key_of(row: Cells, places: list[int]) -> tuple[Any, ...] | None:
    """The key of a row; None when a part of it is missing: such a row is no double of any other."""
    key = tuple(tuple(v) if isinstance(v := row[place], list) else v for place in places)
    return None if None in key else key


def _settled_doubles(rows: Iterable[Cells], key: list[int], how: str, account: Account) -> list[Cells]:
    """One row for each key: the last one, or the first with its gaps filled from the others. Held in memory."""
    kept: dict[Any, Cells] = {}
    for number, row in enumerate(rows):
        name = key_of(row, key) or ("\0", number)
        first = kept.get(name)
        if first is None:
            kept[name] = row
            continue
        account.doubles += 1
        if how == "last":
            del kept[name]
            kept[name] = row
        else:
            first[:] = [new if old is None else old for old, new in zip(first, row, strict=True)]
    return list(kept.values())


def _fill(plan: Plan, table: str, page: str) -> dict[str, bool]:
    """For each column that a page kind gives, whether its value goes over one that is there."""
    prefers = table_plan(plan, table).prefer == page
    return dict.fromkeys(plan.page[page].fields, prefers)


def _by_route(plan: Plan, table: str, this_year: int) -> dict[str, dict[str, _RouteField]]:
    """Page kind → column → the fields that are filled in by route."""
    found: dict[str, dict[str, _RouteField]] = {}
    for column in columns(plan, table):
        for page, plan_field in fields_giving(plan, table, column.name):
            source, _, detail = (plan_field.source or "").partition(".")
            if source in ("link", "input"):
                stages = Stages(recipe_of(plan_field, this_year=this_year))
                found.setdefault(page, {})[column.name] = _RouteField(plan_field, source, detail, stages)
    return found
