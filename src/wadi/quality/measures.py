"""What is kept of a run to compare later ones with: a few figures of each table and column, and marks of the pages."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import asdict, dataclass, field
from typing import Any

from wadi.page.document import Document, every_element
from wadi.quality.profile import ColumnProfile, TableProfile
from wadi.table.ledger import Ledger

FORM = 1
"""The version of the form in which measures are kept."""


@dataclass(frozen=True)
class ColumnMeasures:
    """A column: cells filled and not readable, quartiles and ends of numbers, all values where they are few, and the
    shapes that most texts have, coarser than in a profile."""

    filled: int
    unread: int = 0
    lower: float | None = None
    median: float | None = None
    upper: float | None = None
    lowest: tuple[float, ...] = ()
    highest: tuple[float, ...] = ()
    values: Mapping[str, int] = field(default_factory=dict)
    shapes: Mapping[str, int] = field(default_factory=dict)


@dataclass(frozen=True)
class TableMeasures:
    """A table: its rows, those left out, its columns."""

    rows: int
    duplicates: int = 0
    rejected: int = 0
    columns: Mapping[str, ColumnMeasures] = field(default_factory=dict)


@dataclass(frozen=True)
class Measures:
    """A run: its tables, and for each page kind the marks of a few of its pages: names of elements with their classes."""

    tables: Mapping[str, TableMeasures] = field(default_factory=dict)
    marks: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    def as_dict(self) -> dict[str, Any]:
        """The measures as they are kept with a run."""
        return {"form": FORM, **asdict(self)}


def measures_from(kept: Mapping[str, Any]) -> Measures | None:
    """Measures that were kept; None for those of another form."""
    if kept.get("form") != FORM:
        return None
    tables = {}
    for name, table in kept["tables"].items():
        columns = {
            column: ColumnMeasures(
                **{
                    **measured,
                    "lowest": tuple(measured.get("lowest", ())),
                    "highest": tuple(measured.get("highest", ())),
                }
            )
            for column, measured in table["columns"].items()
        }
        tables[name] = TableMeasures(table["rows"], table["duplicates"], table["rejected"], columns)
    return Measures(tables, {kind: tuple(marks) for kind, marks in kept["marks"].items()})


def measures_of(
    tables: Iterable[tuple[TableProfile, Ledger]],
    marks: Mapping[str, Iterable[str]],
    hashed: Mapping[str, Collection[str]] | None = None,
) -> Measures:
    """The measures of a run's tables. Of `hashed` columns, by table, only what is filled: each run hashes otherwise."""
    return Measures(
        {profile.name: _table(profile, ledger, (hashed or {}).get(profile.name, ())) for profile, ledger in tables},
        {kind: tuple(sorted(found)) for kind, found in marks.items()},
    )


def _table(profile: TableProfile, ledger: Ledger, hashed: Collection[str]) -> TableMeasures:
    columns = {}
    for column in profile.columns:
        unread = ledger.unread.get(column.column.name, 0)
        columns[column.column.name] = (
            ColumnMeasures(column.filled, unread)
            if _moves_on(column) or column.column.name in hashed
            else _column(column, unread)
        )
    return TableMeasures(profile.rows, ledger.duplicates, ledger.rejected, columns)


def _moves_on(profile: ColumnProfile) -> bool:
    """Whether other values are to be expected each time: days go on, numbers of records count up, addresses move."""
    is_number_of_record = profile.column.type == "integer" and profile.distinct > 0.98 * profile.filled
    return profile.first is not None or is_number_of_record or profile.column.type in ("url", "file")


def _column(profile: ColumnProfile, unread: int) -> ColumnMeasures:
    numbers = profile.numbers
    # Values that hardly come again are names and titles: others are to be expected next time.
    is_choice = profile.filled >= _LEAST_REPEATED * profile.distinct
    values = {str(value): count for value, count in profile.every} if is_choice else {}
    shapes: dict[str, int] = {}
    if profile.texts is not None:
        for shape, count in profile.texts.shapes:
            coarse = coarse_shape(shape)
            shapes[coarse] = shapes.get(coarse, 0) + round(count * profile.filled / profile.texts.shaped)
    if numbers is None:
        return ColumnMeasures(profile.filled, unread, values=values, shapes=shapes)
    return ColumnMeasures(
        profile.filled, unread, numbers.lower, numbers.median, numbers.upper, numbers.lowest, numbers.highest
    )


def marks_in(document: Document) -> set[str]:
    """What tells how a page is built: names of elements with their classes, or keys of JSON. Words with digits are left
    out, since they tell records from one another."""
    if document.kind == "json":
        return set(_keys(document.data))
    marks: set[str] = set()
    for element in every_element(document):
        marks.add(element.tag)
        marks.update(f"{element.tag}.{name}" for name in (element.attr("class") or "").split())
    return {mark for mark in marks if not any(c.isdecimal() for c in mark.partition(".")[2])}


def _keys(value: Any, depth: int = 0) -> Iterator[str]:
    if isinstance(value, dict) and depth < _DEEPEST:
        for key, inner in value.items():
            if not any(c.isdecimal() for c in key):
                yield key
                yield from _keys(inner, depth + 1)
    elif isinstance(value, list) and depth < _DEEPEST:
        for inner in value[:20]:
            yield from _keys(inner, depth + 1)


_DEEPEST = 12
_LEAST_REPEATED = 3
_RUNS = re.compile(r"(A+a*|a+|9+)\+?")


def coarse_shape(shape: str) -> str:
    """The shape of a text with each word as `a` and each number as `9`, however long."""
    return _RUNS.sub(lambda match: "9" if match[0][0] == "9" else "a", shape)
