"""Committed rows put together into tables, stage by stage: each stage takes batches of rows and gives batches.

    located → completed → derived → stamped → without duplicates (or merged) → limited → finished

Nothing of this depends on the order in which replies came: the same stored pages give the same rows. What a stage leaves out it
enters in the table's ledger.
"""

from __future__ import annotations

from array import array
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from itertools import filterfalse
from typing import Any

from wadi.clean.errors import NotReadable
from wadi.clean.identity import each_once
from wadi.clean.types import NUMERIC
from wadi.plan.columns import Column, columns, fields_giving, helper_columns, lists_of, parent_table, table_plan
from wadi.plan.model import Plan, TablePlan
from wadi.store.order import Visit, Walk
from wadi.store.outcome import CellProblem
from wadi.store.view import RunView
from wadi.table.cells import is_missing
from wadi.table.derived import DerivedColumns, Stamps, TableContext, hashed
from wadi.table.files import FileCells
from wadi.table.keys import SeenKeys, keys_of
from wadi.table.ledger import Ledger, Reject, RowIssue, RowLocation, location_of
from wadi.table.located import Batch, Cells, LocatedRow, PageRows
from wadi.table.seen import Seen, Sighting
from wadi.urls import without_secret

Batches = Iterable[Batch]
Named = Callable[[LocatedRow], Mapping[str, Any]]
_NO_CONTEXT = TableContext()
_NUMBERED = 5
_NO_TEXTS = frozenset({*NUMERIC, "boolean", "array", "object"})


class Assembly:
    """Puts one table together. An assembly is used once: its ledger grows as the rows are taken.

    `limit` is how many rows there are at most; of a table of lists `parent_limit` how many rows they are tied to. Rows have
    all columns while they are made; those that the plan leaves out stand last, and go unless `with_helpers`.
    """

    def __init__(
        self,
        state: RunView,
        plan: Plan,
        table: str,
        *,
        limit: int | None = None,
        parent_limit: int | None = None,
        context: TableContext = _NO_CONTEXT,
        sighting: Sighting | None = None,
        issue: Callable[[RowIssue], None] | None = None,
        with_helpers: bool = False,
    ) -> None:
        written, helpers = columns(plan, table), helper_columns(plan, table)
        self.plain_columns: list[Column] = [*written, *helpers]
        """The columns under the names that the plan's fields have, with those that are left out at the end."""
        self._written = len(written) if helpers and not with_helpers else None
        self._plan = rules = table_plan(plan, table)
        self.columns = [
            replace(column, name=rules.rename.get(column.name, column.name))
            for column in self.plain_columns[: self._written]
        ]
        place = {column.name: number for number, column in enumerate(self.plain_columns)}
        self.key = [place[name] for name in rules.key if name in place]
        """Where the columns of the key stand."""
        self._state = state
        self._limit = limit
        self._hash_key = context.hash_key
        self.ledger = Ledger(lambda page: without_secret(state.url_of(page)), rules.rename, issue)
        self._pages = PageRows(state, plan, table, self.plain_columns, context, self.ledger)
        self._completes = any(kind.completes == table for kind in plan.page.values())
        self._derived = DerivedColumns(rules, self.plain_columns, context.functions)
        self._files = FileCells(state, plan, table, self.plain_columns)
        self._stamps = Stamps(rules, self.plain_columns, self._origin)
        self._hashed = [place[name] for name in rules.hash if name in place]
        self._known = (
            Seen(sighting, self.columns, self.key) if sighting is not None and rules.history and self.key else None
        )
        self._are_texts = [column.many or column.type not in _NO_TEXTS for column in self.plain_columns]
        self._picked = [place[column.name] for column in self.plain_columns if _is_picked(plan, table, column.name)]
        self.ledger.picked = len(self._picked)
        self._is_list = any(name == table for _, name, _ in lists_of(plan))
        parent = parent_table(plan, table) if self._is_list else None
        self._parent = Assembly(state, plan, parent, limit=parent_limit, context=context) if parent else None
        carried = {name for _, item, child in lists_of(plan) if item == table for name in child.carry}
        self._carried = [(place[name], name) for name in carried if name in place]

    @property
    def _merges(self) -> bool:
        """Whether rows of one key are put together, so that all have to be there before the first is whole."""
        rules = self._plan
        return bool(self.key) and (rules.duplicates in ("last", "merge") or bool(rules.collect or rules.occurrences))

    @property
    def is_known_at_the_end(self) -> bool:
        """Whether no row is certain before all are there: rows of lists, and rows of one key that are put together."""
        return self._is_list or self._merges

    @property
    def names_files(self) -> bool:
        """Whether some files get names made of their rows."""
        return self._files.has_names

    @property
    def renamed_files(self) -> Mapping[str, str]:
        """Names made of rows → the paths under which the files are kept, as far as rows were taken."""
        return self._files.renamed

    def rows(self, *, with_gone: bool = True) -> Iterator[Cells]:
        """The table's rows, one list for each, cells in the order of `columns`, missing cells None.

        Dates are ISO 8601 texts, `many` columns are lists. A table with `seen` ends with the rows that only earlier runs have;
        without `with_gone` only those of them that may be there still.
        """
        every, written = self._list_rows() if self._is_list else self._pages.all(), self._written
        for batch in self._staged(every):
            yield from [row.cells if written is None else row.cells[:written] for row in batch]
        if self._known is not None and (with_gone or not self._known.is_whole):
            for cells in self._known.rest():
                self.ledger.earlier += 1
                yield cells

    def placed(self) -> Iterator[LocatedRow]:
        """The rows with their places."""
        for batch in self._staged(self._list_rows() if self._is_list else self._pages.all()):
            yield from batch

    def certain(self) -> Iterator[LocatedRow | None]:
        """A generator to be asked again after every commit: each row that is certain, None when it must wait."""
        for batch in self._staged(self._pages.certain()):
            if batch:
                yield from batch
            else:
                yield None

    def written(self, row: LocatedRow) -> Cells:
        """The cells of a row that are written: without columns that only make others."""
        return row.cells if self._written is None else row.cells[: self._written]

    def details_of(self, row: LocatedRow) -> list[int]:
        """The pages that complete a row, in the order in which they do."""
        return list(self._pages.details_of(row))

    def visit_of(self, row: LocatedRow, detail: int) -> Visit:
        """How a page that completes a row was reached from it."""
        return self._pages.visit_of(row, detail)

    def _staged(self, located: Batches) -> Batches:
        """The way of rows through the stages that have something to do."""
        ledger, rules, names = self.ledger, self._plan, [column.name for column in self.plain_columns]
        rows = one_by_one(located) if self._limit is not None else located
        rows = given(rows, ledger)
        if self._completes and not self._is_list:
            rows = completed(rows, self._pages.complete)
        if not self._derived.is_idle:
            rows = derived(rows, self._derived, ledger, self._named)
        if required := [place for place, column in enumerate(self.plain_columns) if column.required]:
            rows = with_required(rows, required, names, ledger, self._named)
        if not self._stamps.is_idle:
            rows = stamped(rows, self._stamps)
        if self._merges:
            rows = merged(rows, self.key, rules, names, ledger, self._named)
        elif self.key and rules.duplicates == "first":
            rows = without_duplicates(rows, self.key, names, ledger, self._named)
        if self._limit is not None:
            rows = limited(rows, self._limit)
        return self._finished(rows)

    def _list_rows(self) -> Iterator[Batch]:
        """The rows of lists, for each row that they are tied to: from its own page, then from those that complete it."""
        if self._parent is None:
            for visit in Walk(self._state).all():
                if children := self._pages.children(None, visit, visit.page, None):
                    yield children
            return
        places = {column.name: place for place, column in enumerate(self._parent.plain_columns)}
        for parent in self._parent.placed():
            carried = [(place, parent.cells[places[name]]) for place, name in self._carried]
            for row in (parent, *parent.others):
                for page, number in [(row.visit.page, row.number), *((n, 0) for n in self._parent.details_of(row))]:
                    children = self._pages.children(parent, parent.visit, page, number)
                    for child in children:
                        for place, value in carried:
                            child.cells[place] = value
                    if children:
                        yield children

    def _finished(self, batches: Batches) -> Iterator[Batch]:
        """Rows that are taken, with what their files and earlier runs say, and personal data hashed; counted."""
        is_plain, ledger = self._files.is_idle and not self._hashed, self.ledger
        for batch in batches:
            for row in () if is_plain else batch:
                self._files.put(row.cells)
                for place in self._hashed:
                    if row.cells[place] is not None:
                        row.cells[place] = hashed(row.cells[place], self._hash_key)
            if self._known is not None:
                for row in batch:
                    self._known.put(row.cells)
            for number, row in enumerate(batch, ledger.accepted + 1) if ledger.incomplete else ():
                if row.lacks_detail and len(ledger.incomplete_rows) < _NUMBERED:
                    ledger.incomplete_rows.append(number)
            ledger.accepted += len(batch)
            self._count_filled([row.cells for row in batch])
            yield batch

    def _count_filled(self, rows: list[Cells]) -> None:
        """Count the cells of accepted rows column by column: ten times faster than cell by cell."""
        filled, counts = self.ledger.filled, []
        for is_text, cells in zip(self._are_texts, zip(*rows, strict=True), strict=False):
            count = len([*filter(None, cells)])
            if count < len(cells) and not is_text:  # 0 and false are values
                count = len(cells) - sum(map(is_missing, filterfalse(None, cells)))
            counts.append(count)
        for column, count in zip(self.columns, counts, strict=False):
            if count:
                filled[column.name] = filled.get(column.name, 0) + count
        picked = self._picked
        if counts and picked and all(counts[place] < len(rows) for place in picked):
            self.ledger.blank += sum(all(is_missing(cells[place]) for place in picked) for cells in rows)

    def _origin(self, page: int) -> tuple[str, str | None]:
        at = self._state.came_at(page)
        retrieved = datetime.fromtimestamp(at, UTC).isoformat(timespec="seconds") if at else None
        return self.ledger.url_of(page), retrieved

    def _named(self, row: LocatedRow) -> dict[str, Any]:
        """The cells of a row by column, those that are missing left out."""
        cells = zip(self.plain_columns, row.cells, strict=True)
        named = {column.name: cell for column, cell in cells if cell not in (None, [])}
        secret = self._plan.hash
        return {name: hashed(cell, self._hash_key) if name in secret else cell for name, cell in named.items()}


def _is_picked(plan: Plan, table: str, column: str) -> bool:
    """Whether a column is picked in the row, so that a row without any such value is no record."""
    return any(said.source is None and said.default is None for _, said in fields_giving(plan, table, column))


# -- the stages


def one_by_one(batches: Batches) -> Iterator[Batch]:
    """Batches of one row each: where there is a limit no row beyond it is looked at, since that would count."""
    for batch in batches:
        yield from ([row] for row in batch) if batch else [batch]


def given(batches: Batches, ledger: Ledger) -> Iterator[Batch]:
    """The same rows, counted."""
    for batch in batches:
        ledger.given += len(batch)
        yield batch


def completed(batches: Batches, complete: Callable[[LocatedRow], None]) -> Iterator[Batch]:
    """Rows with the cells of the pages that complete them."""
    for batch in batches:
        for row in batch:
            complete(row)
        yield batch


def derived(batches: Batches, columns: DerivedColumns, ledger: Ledger, named: Named) -> Iterator[Batch]:
    """Rows with the columns that are made of others, without those that the plan's function rejects."""

    def kept(row: LocatedRow) -> bool:
        def failed(column: str, raw: str, error: NotReadable) -> None:
            problem = CellProblem(row.number, column, raw, error.code, error.what, error.why)
            ledger.enter_problems(row.visit.page, [problem], {})

        reject = columns.put(row.cells, failed)
        if reject is not None:
            ledger.enter_reject(row.visit.page, row.number, reject, lambda: named(row))
        return reject is None

    return _only(batches, kept)


def stamped(batches: Batches, stamps: Stamps) -> Iterator[Batch]:
    """Rows with constants and where they are from: before they are told apart, since a key may name these, too."""
    for batch in batches:
        for row in batch:
            stamps.put(row.cells, row.visit.page, row.number)
        yield batch


def with_required(
    batches: Batches, required: Sequence[int], names: Sequence[str], ledger: Ledger, named: Named
) -> Iterator[Batch]:
    """Rows that have a value in each of the columns at these places."""

    def kept(row: LocatedRow) -> bool:
        missing = next((place for place in required if row.cells[place] is None), None)
        if missing is None:
            return True
        reject = Reject(f"no {names[missing]}", f'no value for "{names[missing]}", which is required')
        ledger.enter_reject(row.visit.page, row.number, reject, lambda: named(row))
        return False

    return _only(batches, kept)


def _only(batches: Batches, kept: Callable[[LocatedRow], bool]) -> Iterator[Batch]:
    for batch in batches:
        rows = [row for row in batch if kept(row)]
        if rows or not batch:
            yield rows


def without_duplicates(
    batches: Batches,
    key: Sequence[int],
    names: Sequence[str],
    ledger: Ledger,
    named: Named,
    seen: SeenKeys | None = None,
) -> Iterator[Batch]:
    """The first row of each key, and rows that lack a part of theirs."""
    key_names = [names[place] for place in key]
    seen = SeenKeys() if seen is None else seen
    visits = _Visits()
    for batch in batches:
        if not batch:
            yield batch
            continue
        stood = seen.stood(keys_of([row.cells for row in batch], key), visits.number_of(batch[0].visit))
        for place, number in stood.items():
            row = batch[place]
            _enter_duplicate(ledger, row, key_names, visits.location(number), row, named)
        if rows := [row for place, row in enumerate(batch) if place not in stood] if stood else batch:
            yield rows


class _Visits:
    """Where the pages stand that gave rows, by the number in which they came: 26 bytes each."""

    def __init__(self) -> None:
        self._last: Visit | None = None
        self._places = array("q")
        self._way_of = array("H")
        self._ways: dict[tuple[str, ...], int] = {}

    def number_of(self, visit: Visit) -> int:
        if visit is not self._last:
            self._last = visit
            self._places.extend((visit.page, visit.listing, visit.start))
            self._way_of.append(self._ways.setdefault(visit.way, len(self._ways)))
        return len(self._way_of) - 1

    def location(self, number: int) -> RowLocation:
        page, listing, start = self._places[3 * number : 3 * number + 3]
        return RowLocation(page, listing, start, list(self._ways)[self._way_of[number]])


def _enter_duplicate(
    ledger: Ledger, again: LocatedRow, key: Sequence[str], first: RowLocation, left_out: LocatedRow, named: Named
) -> None:
    cells = named(again)  # personal data is hashed there
    shown = " ".join(str(cells[name]) for name in key)
    gone = (left_out.visit.page, left_out.number)
    ledger.enter_duplicate(shown, first, location_of(again.visit), gone, lambda: named(left_out))


def merged(
    batches: Batches, key: Sequence[int], rules: TablePlan, names: Sequence[str], ledger: Ledger, named: Named
) -> Iterator[Batch]:
    """One row for each key: the first, the last one, or the first with its gaps filled from the others; with what is collected
    over all of them, and how many they were. Held in memory, in one batch each at the end."""
    collect = [names.index(name) for name in rules.collect if name in names]
    counted = names.index(rules.occurrences) if rules.occurrences in names else None
    key_names = [names[place] for place in key]
    kept: dict[bytes | int, LocatedRow] = {}
    collected: dict[bytes | int, list[Cells]] = {}
    for number, row in enumerate(row for batch in batches for row in batch):
        name = keys_of([row.cells], key)[0] or number
        if collect or counted is not None:
            collected.setdefault(name, []).append([row.cells[place] for place in collect])
        first = kept.setdefault(name, row)
        if first is row:
            continue
        is_last = rules.duplicates == "last"
        _enter_duplicate(ledger, row, key_names, location_of(first.visit), first if is_last else row, named)
        if is_last:
            del kept[name]
            kept[name] = row
        elif rules.duplicates == "merge":
            first.cells[:] = [new if old is None else old for old, new in zip(first.cells, row.cells, strict=True)]
            first.others += (row,)
    for name, row in kept.items():
        values = collected.get(name, [])
        if counted is not None:
            row.cells[counted] = len(values)
        for place, cells in zip(collect, zip(*values, strict=True), strict=False):
            every = (value for cell in cells for value in (cell if isinstance(cell, list) else [cell]))
            row.cells[place] = each_once(value for value in every if value is not None)
        yield [row]


def limited(batches: Batches, count: int) -> Iterator[Batch]:
    """The first `count` rows, of batches of one row each; no row behind them is looked at."""
    left = count
    for batch in batches if left > 0 else ():
        left -= len(batch)
        yield batch
        if left <= 0:
            return


# -- rows while the run is still crawled


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
        """Whether the limit is reached; to be asked after `new`."""
        return self._limit is not None and self.count >= self._limit
