"""What a table makes of its rows: cells of two columns taken apart, derived columns, a row function, constants,
hashed cells, where each row is from.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping, Sequence
from copy import deepcopy
from dataclasses import dataclass, field
from math import isfinite
from typing import Any

from wadi.clean.arithmetic import Formula
from wadi.clean.errors import NotReadable
from wadi.clean.steps import called, where_it_failed
from wadi.clean.types import TypeName
from wadi.plan.code import Function
from wadi.plan.columns import COMPANIONS, Column
from wadi.plan.model import TablePlan
from wadi.problems import nearest, shortened
from wadi.store.outcome import as_stored
from wadi.table.cells import typed_as
from wadi.table.ledger import Reject

Cells = list[Any]
Origin = Callable[[int], tuple[str, str | None]]
"""From a page's number to its URL and the moment at which it came (ISO 8601)."""


@dataclass(frozen=True)
class TableContext:
    """What assembling needs beside the run: the year that settles two-digit years, the plan's functions, the key of `hash`."""

    this_year: int = 0
    functions: Mapping[str, Function] = field(default_factory=dict)
    hash_key: bytes = b""


Tell = Callable[[str, str, NotReadable], None]
"""Told what did not come about: the column, what it was made of, and why."""


class DerivedColumns:
    """Derived columns and the row function, of rows that are complete."""

    def __init__(self, plan: TablePlan, columns: Sequence[Column], functions: Mapping[str, Function]) -> None:
        self._columns = columns
        self._hashed = frozenset(plan.hash)
        self._place = {column.name: place for place, column in enumerate(columns)}
        self._formulas = [
            (self._place[name], name, Formula(item.formula), item.type == "integer")
            for name, item in plan.derive.items()
            if name in self._place
        ]
        self._call = (plan.call, called(plan.call, functions)) if plan.call else None
        self._apart = [
            (number, column, [self._place.get(f"{column.name}_{part}") for part in COMPANIONS[column.type]])
            for number, column in enumerate(columns)
            if column.type in ("money", "geopoint") and column.part_of is None
        ]
        self.is_idle = not self._formulas and self._call is None and not self._apart

    def put(self, cells: Cells, trouble: Tell) -> Reject | None:
        """Fill in what is made of the row; why it is rejected, where the row function does. What fails is told to `issue`."""
        for place, whole, others in self._apart:
            _take_apart(cells, place, whole, others)
        if self._call is not None and (reject := self._called(cells, *self._call, trouble)) is not None:
            return reject
        for place, name, formula, is_whole in self._formulas:
            try:
                value = formula.value(self._named(cells))
            except NotReadable as error:
                cells[place] = None
                trouble(name, formula.text, error)
                continue
            made = int(value) if is_whole and isinstance(value, float) and value.is_integer() else value
            self._put(cells, place, made, "the formula", trouble)
        return None

    def _put(self, cells: Cells, place: int, value: Any, maker: str, trouble: Tell) -> None:
        """Put a value that was made into a cell; one that its column cannot hold is told, and the cell is missing."""
        column = self._columns[place]
        if column.name in self._hashed:
            cells[place] = value
            return
        cells[place], fits = _fitting(column, value)
        if not fits:
            kind = f"a list of {column.type}" if column.many else column.type
            what = f"{maker} gave {shortened(repr(value), 40)} for a column of type {kind}"
            trouble(column.name, repr(value), NotReadable("code-failed", what))

    def _called(
        self,
        cells: Cells,
        name: str,
        function: Callable[..., object],
        trouble: Tell,
    ) -> Reject | None:
        """Put what the row function gives into the row."""
        row = {
            key: deepcopy(value) if isinstance(value, list | dict) else value
            for key, value in self._named(cells).items()
        }
        try:
            changed = function(row)
        except NotReadable as error:
            cause = error.__cause__ or error
            return Reject(f"{name} {type(cause).__name__}", f"{name}() failed, {where_it_failed(cause)}")
        if changed is None:
            return Reject(f"{name} None", f"{name}() gave None")
        if not isinstance(changed, Mapping):
            kind = type(changed).__name__
            return Reject(f"{name} {kind}", f"{name}() gave {shortened(repr(changed), 40)}, and not the row as a dict")
        for key, value in changed.items():
            place = self._place.get(key)
            if place is None:
                near = nearest(str(key), self._place)
                hint = f', did you mean "{near}"?' if near else ": columns are those of fields, derive and constant"
                trouble(str(key), repr(value), NotReadable("unknown-column", f'{name}() gave "{key}"{hint}'))
            elif value is not cells[place]:
                self._put(cells, place, value, f"{name}()", trouble)
        return None

    def _named(self, cells: Cells) -> dict[str, Any]:
        return {name: cells[place] for name, place in self._place.items()}


_HELD_AS: dict[TypeName, tuple[type, ...]] = {
    "integer": (int,),
    "year": (int,),
    "number": (int, float),
    "percent": (int, float),
    "money": (int, float),
    "boolean": (bool,),
    "array": (list,),
    "object": (dict,),
}
"""What values of a type are in a row; of the others texts."""
_WHOLE = ("integer", "year")
_BEYOND = 2**63
"""Whole numbers are held in 64 bits."""


def _fitting(column: Column, value: Any) -> tuple[Any, bool]:
    """A value of the analyst's code as rows hold it, and whether it is of the column's type; None where it is not."""
    try:
        held = as_stored(value)
        whole = held if column.many and held is not None else [held]
        fits = isinstance(whole, list) and all(member is None or _is_of(column.type, member) for member in whole)
    except (TypeError, ValueError):
        fits = False
    return (held, True) if fits else (None, False)


def _is_of(kind: TypeName, value: Any) -> bool:
    """Whether a value is held as the type wants. Raises ValueError for a date or time that is none."""
    if isinstance(value, bool) and kind != "boolean":
        return False
    if not isinstance(value, _HELD_AS.get(kind, (str,))):
        return False
    if isinstance(value, int | float) and not (isfinite(value) and (kind not in _WHOLE or -_BEYOND <= value < _BEYOND)):
        return False
    read = typed_as(kind)
    return read is None or read(value) is not None


def _take_apart(cells: Cells, place: int, column: Column, others: list[int | None]) -> None:
    """Amount and currency, longitude and latitude: one cell as it was read, a column for each."""
    given = cells[place]
    values = given if column.many else [given] if given is not None else []
    parts = [list(part) for part in zip(*values, strict=True)] if values else [[], []]
    ends = parts[0] if column.type == "money" else [f"{value[0]},{value[1]}" for value in values]
    beside = parts[1:] if column.type == "money" else parts
    cells[place] = ends if column.many else next(iter(ends), None)
    for other, part in zip(others, beside, strict=True):
        if other is not None:
            cells[other] = part if column.many else next(iter(part), None)


class Stamps:
    """What a row gets whatever stands in it: constants, and where it is from."""

    def __init__(self, plan: TablePlan, columns: Sequence[Column], origin: Origin) -> None:
        place = {column.name: number for number, column in enumerate(columns)}
        self._constants = [(place[name], value) for name, value in plan.constant.items() if name in place]
        self._origin = origin
        named = [place.get(f"origin_{part}") for part in ("url", "time", "place")]
        self._origins = named if any(item is not None for item in named) else []
        self.is_idle = not (self._constants or self._origins)

    def put(self, cells: Cells, page: int, number: int) -> None:
        """Stamp a row that stands on a page, as its `number`th (from 0)."""
        for place, value in self._constants:
            cells[place] = value
        if self._origins:
            url, at = self._origin(page)
            for target, said in zip(self._origins, (url, at, number + 1), strict=True):
                if target is not None:
                    cells[target] = said


def hashed(value: Any, key: bytes) -> Any:
    """A value as a keyed hash (BLAKE2b, RFC 7693, 16 bytes in hexadecimal); of a list each of its values."""
    if isinstance(value, list):
        return [hashed(member, key) for member in value]
    return hashlib.blake2b(str(value).encode(), key=key[:64], digest_size=16).hexdigest()
