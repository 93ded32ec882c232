"""Two states of a table compared by key: rows added, removed, changed, and cell by cell what was and what is.

Without a key rows are told apart by all their cells, and nothing counts as changed. The old table is held in memory.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

from wadi.plan.columns import Column
from wadi.problems import Problem, UsageError, listed
from wadi.quality.tables import TableSource
from wadi.table.cells import flat, is_missing
from wadi.table.words import html_table

Key = tuple[Any, ...]


@dataclass(frozen=True)
class Tolerance:
    """How far numbers may be apart and still be the same: by so much, or by so large a share of the greater."""

    absolute: float = 0.0
    relative: float = 0.0

    def covers(self, one: float, other: float) -> bool:
        return abs(one - other) <= max(self.absolute, self.relative * max(abs(one), abs(other)))


@dataclass(frozen=True)
class Change:
    """A cell that is another: key of its row, column, what was, what is."""

    key: Key
    column: str
    old: Any
    new: Any

    @property
    def size(self) -> float | None:
        """By how much a number changed; None for what is no number on both sides."""
        old, new = self.old, self.new
        return new - old if _is_number(old) and _is_number(new) else None


@dataclass
class ColumnChanges:
    """The changes of a column: how many, and how often a text gave way to another."""

    column: str
    changes: list[Change] = field(default_factory=list)

    @property
    def count(self) -> int:
        return len(self.changes)

    @property
    def emptied(self) -> int:
        """How many cells are missing now."""
        return sum(is_missing(change.new) for change in self.changes)

    @property
    def filled(self) -> int:
        """How many cells were missing before."""
        return sum(is_missing(change.old) for change in self.changes)

    @property
    def others(self) -> list[Change]:
        """The changes from one value to another."""
        return [change for change in self.changes if not is_missing(change.old) and not is_missing(change.new)]

    def largest(self, most: int) -> list[Change]:
        """The largest changes of numbers, then the others as they come, then what is missing or was."""
        return sorted(self.changes, key=_by_size)[:most]

    def frequent(self, most: int) -> list[tuple[tuple[str, str], int]]:
        """The commonest changes from one text to another, with counts."""
        return Counter((shown(other.old), shown(other.new)) for other in self.others).most_common(most)


def _by_size(change: Change) -> tuple[int, float]:
    if change.size is not None:
        return 0, -abs(change.size)
    return (2 if is_missing(change.old) or is_missing(change.new) else 1), 0.0


@dataclass
class Comparison:
    """What differs between two states of a table. `again` counts rows whose key stood there before, on each side; they are
    left out. `left_out` are columns that were not compared."""

    table: str
    key: tuple[str, ...]
    columns: list[str]
    old_rows: int = 0
    new_rows: int = 0
    added: list[tuple[Key, dict[str, Any]]] = field(default_factory=list)
    removed: list[tuple[Key, dict[str, Any]]] = field(default_factory=list)
    changed: dict[str, ColumnChanges] = field(default_factory=dict)
    changed_keys: set[Key] = field(default_factory=set)
    same: int = 0
    new_columns: list[str] = field(default_factory=list)
    gone_columns: list[str] = field(default_factory=list)
    left_out: list[str] = field(default_factory=list)
    again: tuple[int, int] = (0, 0)

    def __repr__(self) -> str:
        return (
            f"<wadi comparison of {self.table}: {len(self.added):,} added, {len(self.removed):,} removed,"
            f" {len(self.changed_keys):,} changed, {self.same:,} the same>"
        )

    def _repr_html_(self) -> str:
        """The comparison in a notebook: how many records, and each change."""
        rows = [tuple("" if value is None else value for value in record.values()) for record in self.rows()]
        headings = list(self._record("", ("",) * len(self.key), "", None, None))
        return html_table(repr(self).strip("<>"), headings, rows)

    @property
    def differs(self) -> bool:
        return bool(self.added or self.removed or self.changed or self.new_columns or self.gone_columns)

    def rows(self) -> Iterator[dict[str, Any]]:
        """The differences as records, for files: what, key, column, old, new; an added or removed row is one for each cell."""
        for kind, rows in (("added", self.added), ("removed", self.removed)):
            for key, cells in rows:
                for column, value in cells.items():
                    if not is_missing(value):
                        old, new = (None, value) if kind == "added" else (value, None)
                        yield self._record(kind, key, column, old, new)
        for changes in self.changed.values():
            for change in changes.changes:
                yield self._record("changed", change.key, change.column, change.old, change.new)

    def _record(self, kind: str, key: Key, column: str, old: Any, new: Any) -> dict[str, Any]:
        return {
            "table": self.table,
            "what": kind,
            "key": "; ".join(map(str, key)),
            "column": column,
            "old": flat(old),
            "new": flat(new),
        }

    def as_dict(self, most: int = 20) -> dict[str, Any]:
        """The comparison for programs, with the first `most` of each kind."""
        return {
            "table": self.table, "key": list(self.key), "old_rows": self.old_rows, "new_rows": self.new_rows,
            "added": len(self.added), "removed": len(self.removed), "changed": len(self.changed_keys), "same": self.same,
            "doubled_keys": list(self.again), "new_columns": self.new_columns, "gone_columns": self.gone_columns,
            "left_out": self.left_out,
            "first_added": [list(key) for key, _ in self.added[:most]],
            "first_removed": [list(key) for key, _ in self.removed[:most]],
            "columns": [
                {
                    "name": column.column,
                    "count": column.count,
                    "largest": [{"key": list(c.key), "old": c.old, "new": c.new} for c in column.largest(most)],
                }
                for column in self.changed.values()
            ],
        }  # fmt: skip


def compare(
    old: TableSource,
    new: TableSource,
    key: Sequence[str] = (),
    *,
    without: Sequence[str] = (),
    tolerance: Tolerance | None = None,
) -> Comparison:
    """What differs from `old` to `new`. Without `key` the tables' own is taken. What a table's history writes is no change: its
    columns are left out, and a record that is gone is not there. Raises UsageError for columns not there."""
    names = tuple(key) or tuple(name for name in new.key or old.key if name in old.names and name in new.names)
    for source in (old, new):
        if unknown := [name for name in key if name not in source.names]:
            what = f'there is no column "{unknown[0]}" in {source.name}'
            raise UsageError(Problem("unknown-column", what, now=f"columns: {listed(source.names)}"))
    everywhere = {*old.names, *new.names}
    if unknown := [name for name in without if name not in everywhere]:
        what = f'there is no column "{unknown[0]}"'
        raise UsageError(Problem("unknown-column", what, now=f"columns: {listed(sorted(everywhere))}"))
    told = [name for name in (*old.history, *new.history) if name in everywhere and name not in names]
    without = list(dict.fromkeys([*without, *told]))
    shared = [name for name in new.names if name in old.names and name not in without]
    found = Comparison(new.name, names, shared)
    found.new_columns = [name for name in new.names if name not in old.names and name not in without]
    found.gone_columns = [name for name in old.names if name not in new.names and name not in without]
    found.left_out = list(without)
    if names:
        _by_key(found, old, new, names, tolerance or Tolerance())
    else:
        _by_whole_row(found, old, new)
    return found


def _records(source: TableSource, columns: Sequence[str]) -> Iterator[dict[str, Any]]:
    places = [(name, source.names.index(name)) for name in columns]
    for row in (source.rows_there or source.rows)():
        yield {name: row[place] for name, place in places}


def _by_key(found: Comparison, old: TableSource, new: TableSource, key: tuple[str, ...], tolerance: Tolerance) -> None:
    wanted = list(dict.fromkeys([*key, *found.columns]))
    before: dict[Key, dict[str, Any]] = {}
    again_old = again_new = 0
    for record in _records(old, wanted):
        found.old_rows += 1
        name = _key_of(record, key)
        if name in before:
            again_old += 1
        else:
            before[name] = record
    seen: set[Key] = set()
    for record in _records(new, wanted):
        found.new_rows += 1
        name = _key_of(record, key)
        if name in seen:
            again_new += 1
            continue
        seen.add(name)
        earlier = before.pop(name, None)
        if earlier is None:
            found.added.append((name, record))
        else:
            _cells(found, name, earlier, record, tolerance)
    found.removed = list(before.items())
    found.again = (again_old, again_new)


def _key_of(record: dict[str, Any], key: tuple[str, ...]) -> Key:
    """The key as texts, so that 7 in a workbook is 7 in a CSV file."""
    return tuple(shown(record[name]) for name in key)


def _cells(found: Comparison, key: Key, old: dict[str, Any], new: dict[str, Any], tolerance: Tolerance) -> None:
    is_same = True
    for column in found.columns:
        one, other = old[column], new[column]
        if one is other or one == other or _are_alike(one, other, tolerance):
            continue
        is_same = False
        changes = found.changed.setdefault(column, ColumnChanges(column))
        changes.changes.append(Change(key, column, one, other))
    if is_same:
        found.same += 1
    else:
        found.changed_keys.add(key)


def _are_alike(one: Any, other: Any, tolerance: Tolerance) -> bool:
    """Whether cells are the same though they are not equal: both missing, numbers close together, the same once written."""
    if is_missing(one) or is_missing(other):
        return is_missing(one) and is_missing(other)
    if _is_number(one) and _is_number(other):
        return tolerance.covers(one, other)
    return type(one) is not type(other) and shown(one) == shown(other)


def _is_number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


def shown(value: Any) -> str:
    """A cell as text; whole numbers without a point."""
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return "" if value is None else str(flat(value))


def _by_whole_row(found: Comparison, old: TableSource, new: TableSource) -> None:
    before: Counter[Key] = Counter()
    for record in _records(old, found.columns):
        found.old_rows += 1
        before[tuple(shown(value) for value in record.values())] += 1
    for record in _records(new, found.columns):
        found.new_rows += 1
        name = tuple(shown(value) for value in record.values())
        if before[name] > 0:
            before[name] -= 1
            found.same += 1
        else:
            found.added.append((name, record))
    for name, count in before.items():
        found.removed += [(name, dict(zip(found.columns, name, strict=True)))] * count


@dataclass(frozen=True)
class Point:
    """A run in a long history: when it began, its rows, and of a column how many cells are filled and its figure: a record's
    value, or the median."""

    began: str
    run: str
    rows: int
    filled: int | None = None
    value: Any = None
    is_there: bool = True
    """Whether the run has the record."""


def column_of(source: TableSource, name: str) -> tuple[int, Column]:
    """A column by its name, with its place. Raises UsageError."""
    if name not in source.names:
        what = f'there is no column "{name}" in {source.name}'
        raise UsageError(Problem("unknown-column", what, now=f"columns: {listed(source.names)}"))
    place = source.names.index(name)
    return place, source.columns[place]


def point_of(began: str, run: str, source: TableSource, column: str | None, record: Key | None) -> Point:
    """One point of a history: of a record by its key, or of all rows."""
    from statistics import median

    place = column_of(source, column)[0] if column is not None else None
    keys = [source.names.index(name) for name in source.key]
    rows = filled = 0
    numbers: list[float] = []
    value: Any = None
    is_there = record is None
    for row in (source.rows_there or source.rows)():
        rows += 1
        cell = row[place] if place is not None else None
        if record is not None and tuple(shown(row[at]) for at in keys) == record:
            value, is_there = cell, True
        filled += not is_missing(cell)
        if record is None and isinstance(cell, int | float) and not isinstance(cell, bool):
            numbers.append(cell)
    if record is None and numbers:
        value = median(numbers)
    return Point(began, run, rows, filled if place is not None else None, value, is_there)
