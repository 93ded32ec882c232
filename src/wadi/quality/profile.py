"""Profiles: what the columns of a table hold, in figures. One walk over the rows, memory that does not grow with texts.

Numbers and digests of values are put on disk, 8 and 16 bytes each, and looked at column by column. Quartiles are those of
linear interpolation (Hyndman and Fan 1996, definition 7), the standard deviation that of a sample.
"""

from __future__ import annotations

import math
import re
from bisect import bisect_left
from collections import Counter
from collections.abc import Mapping, Sequence, Set
from dataclasses import dataclass, field
from datetime import date, datetime
from functools import lru_cache
from itertools import accumulate, combinations, pairwise
from typing import Any

from wadi.clean.identity import digest_of, digests_of
from wadi.clean.types import NUMERIC
from wadi.plan.columns import Column
from wadi.problems import shortened as shorter
from wadi.quality.figures import MOST_HELD, Numbers, Ordered, SortedFile, counted, numbers_of
from wadi.quality.tables import TableSource, batches
from wadi.table.cells import flat, is_missing, moment_of
from wadi.table.words import html_table, percent

FEW = 50
_FREQUENT = 8
MOST_COUNTED = 10_000
_STRETCHES = 400
_DAYS = ("date", "datetime")
_NUMBERS = {int, float}


@dataclass(frozen=True)
class Texts:
    """The lengths of texts in characters, and their shapes: letters as A or a, digits as 9, runs of more than four as one."""

    shortest: int
    longest: int
    mean: float
    shapes: tuple[tuple[str, int], ...]
    shaped: int
    """How many texts were looked at for their shapes: all, or the first of many."""


@dataclass(frozen=True)
class ColumnProfile:
    """A column: how many cells are filled, how many different values they have, the most frequent with their counts. Days
    have `first` and `last`, and as `numbers` the days since the year 1."""

    column: Column
    rows: int
    filled: int
    distinct: int
    frequent: tuple[tuple[Any, int], ...]
    numbers: Numbers | None = None
    texts: Texts | None = None
    first: str | None = None
    last: str | None = None
    every: tuple[tuple[Any, int], ...] = ()
    """All values with their counts where they are few."""

    @property
    def share(self) -> float:
        """The share of cells that are filled, 0 to 1."""
        return self.filled / self.rows if self.rows else 0.0

    def as_dict(self) -> dict[str, Any]:
        """The profile for programs."""
        column, numbers, texts = self.column, self.numbers, self.texts
        found: dict[str, Any] = {
            "name": column.name, "type": column.type, "many": column.many, "unit": column.unit, "filled": self.filled,
            "share": round(self.share, 4), "distinct": self.distinct,
            "frequent": [{"value": value, "count": count} for value, count in self.frequent],
        }  # fmt: skip
        if numbers is not None and self.first is None:
            found["numbers"] = {
                "minimum": numbers.least, "lower_quartile": numbers.lower, "median": numbers.median, "mean": numbers.mean,
                "upper_quartile": numbers.upper, "maximum": numbers.most, "standard_deviation": numbers.deviation,
                "outliers": numbers.outliers, "extremes": list(numbers.extremes),
            }  # fmt: skip
        if numbers is not None:
            found["histogram_axis"] = "logarithmic" if numbers.is_logarithmic else "plain"
            found["histogram_zeros"] = numbers.zeros
            found["histogram"] = [{"from": one, "to": other, "count": count} for one, other, count in numbers.bins]
        if self.first is not None:
            found |= {"first": self.first, "last": self.last}
        if texts is not None:
            found["length"] = {"shortest": texts.shortest, "longest": texts.longest, "mean": texts.mean}
            found["shapes"] = [{"shape": shape, "count": count} for shape, count in texts.shapes]
        return found


@dataclass(frozen=True)
class TableProfile:
    """A table: rows, rows that are the same as one before in every cell, columns, and pairs of columns whose gaps go
    together or exclude each other (phi coefficient, -1 to 1)."""

    name: str
    rows: int
    doubled: int
    columns: tuple[ColumnProfile, ...]
    gaps: tuple[tuple[str, str, float], ...] = ()
    gap_map: tuple[tuple[float, ...], ...] = ()
    """For each column the share of missing cells in each of up to a hundred stretches of the table."""

    def __repr__(self) -> str:
        return f"<wadi profile of {self.name}: {self.rows:,} rows, {len(self.columns)} columns>"

    def _repr_html_(self) -> str:
        """The profile in a notebook: each column's type, filling, distinct values, and range or most frequent values."""
        headings = ("column", "type", "filled", "distinct", "least", "median", "greatest", "most frequent")
        return html_table(f"{self.name}: {self.rows:,} rows", headings, map(_as_row, self.columns))

    def as_dict(self) -> dict[str, Any]:
        """The profile for programs."""
        return {
            "table": self.name,
            "rows": self.rows,
            "doubled_rows": self.doubled,
            "columns": [column.as_dict() for column in self.columns],
            "missing_together": [{"columns": [one, other], "phi": round(phi, 3)} for one, other, phi in self.gaps],
        }


def _as_row(profile: ColumnProfile) -> tuple[object, ...]:
    """A column in a notebook's table."""
    numbers = profile.numbers
    least, median, most = ("", "", "")
    if profile.first is not None:
        least, most = profile.first, profile.last or ""
    elif numbers is not None:
        least, median, most = (f"{value:,.6g}" for value in (numbers.least, numbers.median, numbers.most))
    frequent = ", ".join(f"{shorter(str(value), 24)} ({count:,})" for value, count in profile.frequent[:3] if count > 1)
    filled = percent(profile.filled, profile.rows)
    return (profile.column.name, profile.column.type, filled, f"{profile.distinct:,}", least, median, most, frequent)


@dataclass
class _Gathered:
    """What is gathered of a column on the walk."""

    column: Column
    most_counted: int
    figures: SortedFile
    digests: SortedFile | None
    """Of all values where too many are to be counted, to tell how many differ; None where nobody asks for the whole profile."""
    filled: int = 0
    counts: Counter[Any] = field(default_factory=Counter)
    overflowed: bool = False
    shapes: tuple[tuple[str, int], ...] = ()
    shaped: int = 0
    characters: int = 0
    shortest: int | None = None
    longest: int = 0
    first: str | None = None
    last: str | None = None

    @property
    def is_numeric(self) -> bool:
        return self.column.type in NUMERIC and not self.column.many

    @property
    def is_day(self) -> bool:
        return self.column.type in _DAYS and not self.column.many

    def take(self, values: Sequence[Any], kinds: Set[type]) -> None:
        """Take the filled cells of some rows, which are of these kinds."""
        if not values:
            return
        self.filled += len(values)
        if self.is_numeric:
            self.figures.extend(
                values if kinds <= _NUMBERS else (float(value) for value in values if isinstance(value, int | float))
            )
            return
        is_text = kinds == {str}
        plain = values if is_text else [flat(value) for value in values]
        if self.overflowed and self.digests is not None:
            self.digests.extend(digests_of([(value,) for value in plain]))
        if not self.overflowed:
            self.counts.update(plain)
            if len(self.counts) > self.most_counted:
                self._overflow()
        if self.is_day:
            self._take_days([str(day) for day in plain])
        elif self.column.type != "boolean":
            lengths = list(map(len, plain if is_text else map(str, plain)))
            self.characters += sum(lengths)
            self.shortest = min(lengths) if self.shortest is None else min(self.shortest, *lengths)
            self.longest = max(self.longest, *lengths)

    def _overflow(self) -> None:
        """Too many texts differ to be counted on the way: from now on their digests are kept."""
        self.overflowed = True
        self.shapes, self.shaped = _shapes_of(self.counts), self.counts.total()
        if self.digests is not None:
            known = digests_of([(value,) for value in self.counts])
            for digest, count in zip(known, self.counts.values(), strict=True):
                self.digests.extend([digest] * count)
        self.counts.clear()

    def _take_days(self, texts: list[str]) -> None:
        ends = [end for end in (self.first, self.last) if end is not None]
        order = _order_of_moments if self.column.type == "datetime" else None
        self.first, self.last = min(*texts, *ends, key=order), max(*texts, *ends, key=order)
        if self.digests is not None:
            self.figures.extend(day for text in texts if (day := _day_of(text)) is not None)


def _order_of_moments(text: str) -> tuple[float, str]:
    """What moments are ordered by, whatever their offsets are."""
    return (moment_of(text) or 0.0, text)


@lru_cache(10_000)
def _day_of(text: str) -> float | None:
    """The day since the year 1, with the hour as its fraction; None for what is no date."""
    try:
        if len(text) <= 10:
            return float(date.fromisoformat(text).toordinal())
        moment = datetime.fromisoformat(text)
        return moment.toordinal() + (moment.hour * 3600 + moment.minute * 60 + moment.second) / 86_400
    except ValueError:
        return None


class Profiling:
    """The profile of a table in the making: rows are taken in batches, and the profile is asked for at the end.

    Without `whole` it is what verdicts need: columns alone, and where more than `most_counted` texts differ `distinct` is that
    number and none of them counts as frequent. More than `most_held` figures of a column go to disk.
    """

    def __init__(
        self, source: TableSource, *, whole: bool, most_counted: int = MOST_COUNTED, most_held: int = MOST_HELD
    ) -> None:
        self._source = source
        self._gathered = [
            _Gathered(
                column,
                most_counted,
                SortedFile("number", most_held),
                SortedFile("digest", most_held) if whole else None,
            )
            for column in source.columns
        ]
        self._whole = (SortedFile("digest", most_held), _Gaps(len(source.columns))) if whole else None
        self._count = 0

    def take(self, batch: list[list[Any]]) -> None:
        """Take some rows, in their order."""
        columns = list(zip(*batch, strict=True))
        kinds = [set(map(type, cells)) for cells in columns]
        for gathered, cells, types in zip(self._gathered, columns, kinds, strict=True):
            if not _has_gaps(cells, types):
                gathered.take(cells, types)
            else:
                gathered.take([value for value in cells if value or not is_missing(value)], types - {_NOTHING})
        if self._whole is not None:
            digests, missing = self._whole
            digests.extend(digests_of(batch))
            missing.take(list(map(_gaps_of, columns, kinds)), len(batch))
        self._count += len(batch)

    def profile(self) -> TableProfile:
        """The profile of all that was taken. The table is walked again where the most frequent of many texts are looked for."""
        name, names, count = self._source.name, self._source.names, self._count
        if self._whole is None:
            return TableProfile(name, count, 0, self._finished(_counted_alone(self._gathered)))
        digests, missing = self._whole
        columns = self._finished(_frequent_of(self._source, self._gathered))
        doubled = count - counted(digests.ordered(), 0)[0]
        for gathered in self._gathered:
            if gathered.digests is not None:
                gathered.digests.close()
        return TableProfile(name, count, doubled, columns, tuple(missing.pairs(names)), missing.map())

    def _finished(self, frequent: Mapping[int, tuple[int, Counter[Any]]]) -> tuple[ColumnProfile, ...]:
        return tuple(
            _finished(gathered, self._count, frequent.get(place)) for place, gathered in enumerate(self._gathered)
        )


def profile_of(source: TableSource, *, most_counted: int = MOST_COUNTED, most_held: int = MOST_HELD) -> TableProfile:
    """The whole profile of a table, by a walk over it."""
    profiling = Profiling(source, whole=True, most_counted=most_counted, most_held=most_held)
    for batch in batches(source.rows()):
        profiling.take(batch)
    return profiling.profile()


def _counted_alone(gathered: list[_Gathered]) -> dict[int, tuple[int, Counter[Any]]]:
    """For columns of texts how many values differ, and the counts of all where they are few."""
    return {
        place: (column.most_counted if column.overflowed else len(column.counts), column.counts)
        for place, column in enumerate(gathered)
        if not column.is_numeric
    }


_NOTHING = type(None)


def _has_gaps(cells: Sequence[Any], kinds: Set[type]) -> bool:
    """Whether some cells, which are of these kinds, are missing; asked of all at once, since most columns have none."""
    return _NOTHING in kinds or (str in kinds and "" in cells) or (list in kinds and [] in cells)


def _gaps_of(cells: Sequence[Any], kinds: Set[type]) -> list[int]:
    """The numbers of the missing cells."""
    return [number for number, value in enumerate(cells) if is_missing(value)] if _has_gaps(cells, kinds) else []


def _frequent_of(source: TableSource, gathered: list[_Gathered]) -> dict[int, tuple[int, Counter[Any]]]:
    """For columns of texts how many values differ, and the counts of the most frequent. Where they are too many to be
    counted on the way their digests are, and a second walk finds the texts."""
    found: dict[int, tuple[int, Counter[Any]]] = {}
    wanted: dict[int, dict[bytes, int]] = {}
    for place, column in enumerate(gathered):
        if column.is_numeric:
            continue
        if not column.overflowed:
            found[place] = (len(column.counts), column.counts)
            continue
        assert column.digests is not None
        distinct, top = counted(column.digests.ordered(), _FREQUENT)
        repeated = {digest: count for digest, count in top if count > 1}
        found[place] = (distinct, Counter())
        if repeated:
            wanted[place] = repeated
    for batch in batches(source.rows()) if wanted else ():
        for place, repeated in wanted.items():
            known = found[place][1]
            for row in batch:
                if not is_missing(row[place]) and (count := repeated.get(digest_of((plain := flat(row[place]),)))):
                    known[plain] = count
        if all(len(found[place][1]) == len(repeated) for place, repeated in wanted.items()):
            break
    return found


def _finished(gathered: _Gathered, rows: int, frequent: tuple[int, Counter[Any]] | None) -> ColumnProfile:
    whole = gathered.digests is not None
    figures: Ordered = gathered.figures.ordered() if gathered.is_numeric or gathered.is_day else []
    if frequent is None:
        different, top = counted(figures, _FREQUENT)
        often = tuple((_shown_number(float(value)), count) for value, count in top)
        return ColumnProfile(gathered.column, rows, gathered.filled, different, often, numbers_of(figures, whole=whole))
    numbers = numbers_of(figures, whole=whole)
    distinct, counts = frequent
    often = tuple(sorted(counts.items(), key=lambda item: (-item[1], str(item[0])))[:_FREQUENT])
    texts = None
    if gathered.shortest is not None:
        shapes, shaped = (
            (gathered.shapes, gathered.shaped) if gathered.overflowed else (_shapes_of(counts), gathered.filled)
        )
        texts = Texts(gathered.shortest, gathered.longest, gathered.characters / gathered.filled, shapes, shaped)
    every = (
        tuple(sorted(counts.items(), key=lambda item: str(item[0])))
        if distinct <= FEW and not gathered.overflowed
        else ()
    )
    return ColumnProfile(
        gathered.column, rows, gathered.filled, distinct, often, numbers, texts, gathered.first, gathered.last, every
    )


def _shown_number(value: float) -> float | int:
    return int(value) if value.is_integer() and abs(value) < 1e15 else value


_RUN = re.compile(r"([Aa9])\1{4,}")


class _Signs(dict[int, str]):
    """What stands for a character in a shape, learned as characters come."""

    def __missing__(self, code: int) -> str:
        c = chr(code)
        self[code] = sign = "9" if c.isdecimal() else "A" if c.isupper() else "a" if c.isalpha() else c
        return sign


_SIGNS = _Signs()


def shape_of(text: str) -> str:
    """The shape of a text: letters as A or a, digits as 9, more than four of a kind in a row as one with a plus."""
    return _shortened(_signs_of(text))


def _signs_of(text: str) -> str:
    """A sign for each character of a text, an ellipsis for what is behind the first 40."""
    return text.translate(_SIGNS) if len(text) <= 40 else f"{text[:40].translate(_SIGNS)}…"


def _shortened(signs: str) -> str:
    return _RUN.sub(r"\1+", signs)


def _shapes_of(counts: Counter[Any]) -> tuple[tuple[str, int], ...]:
    signs: Counter[str] = Counter()
    for value, count in counts.items():
        signs[_signs_of(str(value))] += count
    shapes: Counter[str] = Counter()
    for sign, count in signs.items():
        shapes[_shortened(sign)] += count
    return tuple(shapes.most_common(_FREQUENT))


class _Gaps:
    """Which cells are missing, column against column, and along the table."""

    def __init__(self, columns: int) -> None:
        self._together: Counter[tuple[int, int]] = Counter()
        self._columns, self._rows = columns, 0
        self._stretches: list[list[int]] = []
        self._each, self._open, self._open_rows = 1, [0] * columns, 0

    def take(self, gaps: Sequence[Sequence[int]], size: int) -> None:
        """Take the numbers of the rows, of `size`, in which each column has no value."""
        lacking = [place for place, numbers in enumerate(gaps) if numbers]
        masks = {place: sum(1 << number for number in gaps[place]) for place in lacking}
        for place in lacking:
            self._together[place, place] += len(gaps[place])
        for one, other in combinations(lacking, 2):
            self._together[one, other] += (masks[one] & masks[other]).bit_count()
        self._rows += size
        at = 0
        while at < size:
            taken = min(size - at, self._each - self._open_rows)
            for place in lacking:
                numbers = gaps[place]
                self._open[place] += bisect_left(numbers, at + taken) - bisect_left(numbers, at)
            self._open_rows += taken
            at += taken
            if self._open_rows == self._each:
                self._close()

    def _close(self) -> None:
        """A stretch is full. When there are many each two become one, so that a long table needs no more room."""
        self._stretches.append(self._open)
        self._open, self._open_rows = [0] * self._columns, 0
        if len(self._stretches) == _STRETCHES:
            both = zip(self._stretches[::2], self._stretches[1::2], strict=True)
            self._stretches = [[a + b for a, b in zip(one, other, strict=True)] for one, other in both]
            self._each *= 2

    def pairs(self, names: list[str]) -> list[tuple[str, str, float]]:
        """Pairs of columns with a phi coefficient of at least one half, the strongest first."""
        n = self._rows
        found = []
        for one, other in combinations(range(len(names)), 2):
            a, b, both = self._together[one, one], self._together[other, other], self._together[one, other]
            under = a * (n - a) * b * (n - b)
            phi = (n * both - a * b) / math.sqrt(under) if under > 0 else 0.0
            if abs(phi) >= 0.5:
                found.append((names[one], names[other], phi))
        return sorted(found, key=lambda item: -abs(item[2]))

    def map(self) -> tuple[tuple[float, ...], ...]:
        """For each column the share missing in up to a hundred equal stretches of the table."""
        stretches = [*self._stretches, *([self._open] if self._open_rows else [])]
        sizes = [self._each] * len(self._stretches) + ([self._open_rows] if self._open_rows else [])
        if not sizes:
            return ()
        rows = [0, *accumulate(sizes)]
        parts = min(100, len(sizes))
        edges = [rows[-1] * number / parts for number in range(parts + 1)]
        shares = []
        for place in range(self._columns):
            missing = [0, *accumulate(stretch[place] for stretch in stretches)]
            before = [_between(rows, missing, edge) for edge in edges]
            width = rows[-1] / parts
            shares.append(tuple((b - a) / width for a, b in pairwise(before)))
        return tuple(shares)


def _between(places: Sequence[int], values: Sequence[int], at: float) -> float:
    """The value at a place, by a straight line between those before and behind it."""
    behind = min(max(bisect_left(places, at), 1), len(places) - 1)
    low, high = places[behind - 1], places[behind]
    return values[behind - 1] + (values[behind] - values[behind - 1]) * (at - low) / (high - low)
