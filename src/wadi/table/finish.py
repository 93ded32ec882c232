"""What a table makes of its rows: cells of two columns taken apart, derived columns, a row function, constants,
hashed cells, where each row is from.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from wadi.clean.arithmetic import Formula
from wadi.clean.errors import NotReadable
from wadi.clean.steps import called
from wadi.plan.code import Function
from wadi.plan.columns import COMPANIONS, Column
from wadi.plan.model import TablePlan

Cells = list[Any]
Origin = Callable[[int], tuple[str, str | None]]
"""From a page's number to its URL and the moment at which it came (ISO 8601)."""


@dataclass(frozen=True)
class Means:
    """What assembling needs beside the run: the year that settles two-digit years, the plan's functions, the key of `hash`."""

    this_year: int = 0
    functions: Mapping[str, Function] = field(default_factory=dict)
    hash_key: bytes = b""


@dataclass(frozen=True, slots=True)
class Trouble:
    """A cell or a row that did not come about: page, number of the row on it, column (None: the row), raw text, and words."""

    page: int
    row: int
    column: str | None
    raw: str
    code: str
    what: str
    why: str = ""


class Made:
    """Derived columns and the row function, of rows that are complete."""

    def __init__(self, plan: TablePlan, columns: Sequence[Column], functions: Mapping[str, Function]) -> None:
        self._place = {column.name: place for place, column in enumerate(columns)}
        self._formulas = [
            (self._place[name], name, Formula(one.formula), one.type == "integer")
            for name, one in plan.derive.items()
            if name in self._place
        ]
        self._call = (plan.call, called(plan.call, functions)) if plan.call else None
        self._apart = [
            (number, column, [self._place.get(f"{column.name}_{part}") for part in COMPANIONS[column.type]])
            for number, column in enumerate(columns)
            if column.type in ("money", "geopoint") and column.part_of is None
        ]
        self.is_idle = not self._formulas and self._call is None and not self._apart

    def put(self, cells: Cells, trouble: Callable[[str | None, str, NotReadable], None]) -> bool:
        """Fill in what is made of the row; False when the row function rejects it. What fails is told to `trouble`."""
        for place, whole, others in self._apart:
            _take_apart(cells, place, whole, others)
        if self._call is not None:
            name, function = self._call
            try:
                changed = function(self._named(cells))
            except NotReadable as error:
                trouble(None, repr(self._named(cells)), error)
            else:
                if changed is None:
                    trouble(None, "", NotReadable("rejected", f"{name}() gave None"))
                    return False
                if not isinstance(changed, Mapping):
                    trouble(None, repr(changed), NotReadable("code-failed", f"{name}() gave no dict"))
                else:
                    for column, value in changed.items():
                        if column in self._place:
                            cells[self._place[column]] = value
        for place, column, formula, is_whole in self._formulas:
            try:
                value = formula.value(self._named(cells))
                cells[place] = int(value) if is_whole and isinstance(value, float) and value.is_integer() else value
            except NotReadable as error:
                cells[place] = None
                trouble(column, formula.text, error)
        return True

    def _named(self, cells: Cells) -> dict[str, Any]:
        return {name: cells[place] for name, place in self._place.items()}


def _take_apart(cells: Cells, place: int, column: Column, others: list[int | None]) -> None:
    """Amount and currency, longitude and latitude: one cell as it was read, a column for each."""
    given = cells[place]
    values = given if column.many else [given] if given is not None else []
    parts = [list(part) for part in zip(*values, strict=True)] if values else [[], []]
    own = parts[0] if column.type == "money" else [f"{one[0]},{one[1]}" for one in values]
    beside = parts[1:] if column.type == "money" else parts
    cells[place] = own if column.many else next(iter(own), None)
    for other, part in zip(others, beside, strict=True):
        if other is not None:
            cells[other] = part if column.many else next(iter(part), None)


class Finish:
    """The last touch of accepted rows."""

    def __init__(self, plan: TablePlan, columns: Sequence[Column], hash_key: bytes, origin: Origin) -> None:
        place = {column.name: number for number, column in enumerate(columns)}
        self._constants = [(place[name], value) for name, value in plan.constant.items() if name in place]
        self._hashed = [place[name] for name in plan.hash if name in place]
        self._hash_key = hash_key
        self._origin = origin
        named = [place.get(f"origin_{part}") for part in ("url", "time", "place")]
        self._origins = named if any(one is not None for one in named) else []
        self.is_idle = not (self._constants or self._hashed or self._origins)

    def put(self, cells: Cells, page: int, number: int) -> None:
        """Finish a row that stands on a page, as its `number`th (from 0)."""
        for place, value in self._constants:
            cells[place] = value
        if self._origins:
            url, at = self._origin(page)
            for target, said in zip(self._origins, (url, at, number + 1), strict=True):
                if target is not None:
                    cells[target] = said
        for place in self._hashed:
            if cells[place] is not None:
                cells[place] = hashed(cells[place], self._hash_key)


def hashed(value: Any, key: bytes) -> Any:
    """A value as a keyed hash (BLAKE2b, RFC 7693, 16 bytes in hexadecimal); of a list each of its values."""
    if isinstance(value, list):
        return [hashed(one, key) for one in value]
    return hashlib.blake2b(str(value).encode(), key=key[:64], digest_size=16).hexdigest()
