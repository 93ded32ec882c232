"""Drift: what of a table is other than the runs before lead to expect. A silent redesign shows here.

How it is told. Each measure (rows, share filled, share not readable, duplicates, rejects, median and spread of numbers, values
outside the range, new and vanished values, shapes of texts, marks of pages) is put on a scale on which differences can be
compared, and its distance from what was is held against a tolerance:

- one earlier run: nothing is known of how the measure varies, so only plain changes count (the first tolerance of FLOORS);
- two to four: the distance from the interval of the earlier values; the tolerance is the second of FLOORS, or twice that
  interval where it is wide;
- five and more, of which the last twelve count: the distance from their median or from the last one, whichever is nearer,
  so that growth and what has become usual are no drift; the tolerance is the third of FLOORS, or five robust standard
  deviations (1.4826 times the median absolute deviation).

In each case it is at least five standard errors of the measure itself for so many rows, so that short tables do not cry wolf.
A column that was filled and is blank counts always.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from math import exp, log, sqrt
from statistics import median

from wadi.quality.measures import ColumnMeasures, Measures, TableMeasures
from wadi.table.words import share as share_text

MOST_RUNS = 12
_MANY = 5
_ERRORS = 5.0
_LEAST_ROWS = 10
_LEAST_VANISHED = 20
FLOORS: dict[str, tuple[float, float, float]] = {
    "rows": (0.36, 0.23, 0.11),  # natural logarithm: a factor of 1.43, 1.26, 1.12
    "filled": (0.20, 0.15, 0.10),
    "unread": (0.05, 0.03, 0.02),
    "duplicates": (0.05, 0.03, 0.02),
    "rejects": (0.05, 0.03, 0.02),
    "median": (1.0, 0.75, 0.5),  # in interquartile ranges
    "spread": (1.1, 0.92, 0.69),  # natural logarithm: a factor of 3, 2.5, 2
    "new values": (0.20, 0.10, 0.05),
    "shapes": (0.50, 0.40, 0.30),
    "marks": (0.50, 0.50, 0.50),
}
"""Least tolerances by measure: with one earlier run, two to four, five and more. Shares of rows where nothing else is said."""


_FIRST = ("filled", "column", "rows", "marks")
"""What is told first: columns that went blank are the commonest way in which a crawler dies."""


@dataclass(frozen=True)
class Drift:
    """A measure that is other than expected, in words."""

    table: str
    column: str
    measure: str
    what: str


def drifts(now: Measures, past: Sequence[Measures]) -> list[Drift]:
    """Everything that drifted; `past` are the measures of earlier runs, the oldest first. Without any there is none."""
    past = past[-MOST_RUNS:]
    found: list[Drift] = []
    for name, table in now.tables.items():
        before = [run.tables[name] for run in past if name in run.tables]
        if before:
            found += _table_drifts(name, table, before)
    for kind, marks in now.marks.items():
        last = next((run.marks[kind] for run in reversed(past) if run.marks.get(kind)), None)
        if last and marks and (share := 1 - _alike(set(marks), set(last))) > FLOORS["marks"][0]:
            what = (
                f"pages of kind {kind} are built otherwise: {share_text(share)} of their marks are others than before"
            )
            found.append(Drift("", "", "marks", what))
    return sorted(found, key=lambda drift: _FIRST.index(drift.measure) if drift.measure in _FIRST else len(_FIRST))


def _alike(one: set[str], other: set[str]) -> float:
    """The share of marks that two sets have in common (Jaccard index)."""
    return len(one & other) / len(one | other)


def tolerance(measure: str, values: Sequence[float], error: float = 0.0) -> float:
    """How far a measure may be from earlier values; `error` is its standard error."""
    first, second, third = FLOORS[measure]
    if len(values) == 1:
        varies = first
    elif len(values) < _MANY:
        varies = max(second, 2 * (max(values) - min(values)))
    else:
        middle = median(values)
        varies = max(third, 5 * 1.4826 * median(abs(value - middle) for value in values))
    return max(varies, _ERRORS * error)


def distance(value: float, values: Sequence[float]) -> float:
    """How far a measure is from earlier values."""
    if len(values) < _MANY:
        return max(min(values) - value, value - max(values), 0.0)
    return min(abs(value - median(values)), abs(value - values[-1]))


def _is_far(measure: str, value: float, values: Sequence[float], error: float = 0.0) -> bool:
    return distance(value, values) > tolerance(measure, values, error)


def _table_drifts(name: str, now: TableMeasures, past: Sequence[TableMeasures]) -> Iterator[Drift]:
    rows = [run.rows for run in past]
    usual = median(rows)
    # A register's rows are counted, not drawn: two standard errors of a count are enough for short tables.
    error = 2 / _ERRORS * sqrt(1 / (now.rows + 1) + 1 / (usual + 1))
    if _is_far("rows", log(now.rows + 1), [log(row + 1) for row in rows], error):
        word = "shorter" if now.rows < usual else "longer"
        yield Drift(name, "", "rows", f"{name} is much {word}: {now.rows:,} rows, {_before(rows)} before")
    for measure, of in (("duplicates", _duplicates), ("rejects", _rejects)):
        share, shares = of(now), [of(run) for run in past]
        if share > max(shares) and _is_far(measure, share, shares, _share_error(share, shares, now.rows, usual)):
            yield Drift(name, "", measure, f"{share_text(share)} of the rows are {measure}, {_shares(shares)} before")
    if now.rows < _LEAST_ROWS:
        return
    fit = [run for run in past if run.rows >= _LEAST_ROWS]
    if not fit:
        return
    for column in dict.fromkeys([*now.columns, *fit[-1].columns]):
        before = [(run.columns[column], run.rows) for run in fit if column in run.columns]
        if column not in now.columns:
            yield Drift(name, column, "column", f"the column {column} is gone")
        elif before:
            yield from _column_drifts(name, column, (now.columns[column], now.rows), before)


def _duplicates(table: TableMeasures) -> float:
    return table.duplicates / max(1, table.rows + table.duplicates)


def _rejects(table: TableMeasures) -> float:
    return table.rejected / max(1, table.rows + table.rejected)


def _share_error(share: float, shares: Sequence[float], rows: float, before: float) -> float:
    """The standard error of the difference of two shares."""
    pooled = (share + median(shares)) / 2
    return sqrt(pooled * (1 - pooled) * (1 / max(1.0, rows) + 1 / max(1.0, before)))


Counted = tuple[ColumnMeasures, int]
"""A column with the rows of its table."""


def _column_drifts(table: str, column: str, now: Counted, past: Sequence[Counted]) -> Iterator[Drift]:
    share, shares = now[0].filled / now[1], [run.filled / rows for run, rows in past]
    expected = median(run.filled for run, _ in past)
    if not now[0].filled and expected >= _LEAST_ROWS:
        yield Drift(table, column, "filled", f"{column} is blank in every row, {_shares(shares)} filled before")
        return
    before = median(rows for _, rows in past)
    if _is_far("filled", share, shares, _share_error(share, shares, now[1], before)):
        yield Drift(
            table, column, "filled", f"{column} is filled in {share_text(share)} of the rows, {_shares(shares)} before"
        )
    unread, earlier = now[0].unread / now[1], [run.unread / rows for run, rows in past]
    if unread > max(earlier) and _is_far("unread", unread, earlier, _share_error(unread, earlier, now[1], before)):
        what = f"{now[0].unread:,} cells of {column} cannot be read, {_shares(earlier)} of them before"
        yield Drift(table, column, "unread", what)
    if min(now[0].filled, min(run.filled for run, _ in past)) < _LEAST_ROWS:
        return
    for rule in _RULES:
        if what := rule(column, now[0], [run for run, _ in past]):
            yield Drift(table, column, rule.__name__.strip("_"), what)
            return


def _values(column: str, now: ColumnMeasures, past: Sequence[ColumnMeasures]) -> str:
    """Values that no earlier run had, and such as every one had and this has not."""
    if not now.values or not all(run.values for run in past):
        return ""
    known = {value for run in past for value in run.values}
    new = {value: count for value, count in now.values.items() if value not in known}
    share = sum(new.values()) / now.filled
    floor = FLOORS["new values"][0 if len(past) == 1 else 1 if len(past) < _MANY else 2]
    if new and share > floor and sum(new.values()) >= _LEAST_ROWS / 2:
        return f"{share_text(share)} of the values of {column} were never there before: {_few(new)}"
    always = set.intersection(*(set(run.values) for run in past))
    gone = {
        value: min(run.values[value] for run in past)
        for value in always - set(now.values)
        if min(run.values[value] for run in past) >= _LEAST_VANISHED
    }
    return f"no row has {column} {_few(gone)} any more" if gone else ""


def _shapes(column: str, now: ColumnMeasures, past: Sequence[ColumnMeasures]) -> str:
    """Texts of other shapes than those that nearly all had."""
    usual: set[str] = set()
    for run in past:
        usual |= set(run.shapes)
    covered = [sum(run.shapes.values()) / run.filled for run in past]
    if not usual or min(covered) < 0.9 or not now.shapes:
        return ""
    # What is not among the shapes that are kept is of another shape, too.
    known = sum(count for shape, count in now.shapes.items() if shape in usual)
    share = 1 - known / now.filled
    if _is_far("shapes", share, [1 - value for value in covered]):
        return f"{share_text(share)} of the texts in {column} look otherwise than before: {_few(dict(now.shapes))}"
    return ""


def _range(column: str, now: ColumnMeasures, past: Sequence[ColumnMeasures]) -> str:
    """Numbers far outside what was: beyond its ends by half of what is between them."""
    if now.median is None or not all(run.lowest and run.highest for run in past):
        return ""
    scale = _scale([now, *past])
    least = min(scale(run.lowest[0]) for run in past)
    most = max(scale(run.highest[-1]) for run in past)
    room = (most - least) / 2 or max(1.0, abs(most))
    low = [value for value in now.lowest if scale(value) < least - room]
    high = [value for value in now.highest if scale(value) > most + room]
    if len(low) + len(high) < 2:
        return ""
    ends = min(run.lowest[0] for run in past), max(run.highest[-1] for run in past)
    examples = ", ".join(f"{value:,.6g}" for value in [*low, *reversed(high)][:3])
    count = f"{len(low) + len(high)}{' or more' if len(low) + len(high) >= len(now.highest) else ''}"
    return (
        f"{count} values of {column} are far outside {ends[0]:,.6g} to {ends[1]:,.6g}, where all lay before: {examples}"
    )


def _scale(columns: Sequence[ColumnMeasures]) -> Callable[[float], float]:
    """Logarithms for numbers above nothing that span many orders; else as they are."""
    least = min(column.lowest[0] for column in columns if column.lowest)
    most = max(column.highest[-1] for column in columns if column.highest)
    return log if least > 0 and most / least > 100 else float


def _middle(column: str, now: ColumnMeasures, past: Sequence[ColumnMeasures]) -> str:
    """Median and interquartile range of numbers."""
    figures = [_quartiles(profile, _scale([now, *past])) for profile in (now, *past) if profile.median is not None]
    if len(figures) < 2 or now.median is None:
        return ""
    (lower, middle, upper), *before = figures
    ranges = [max(quartiles[2] - quartiles[0], 1e-12 * max(1.0, abs(quartiles[1]))) for quartiles in before]
    unit, own = median(ranges), max(upper - lower, 1e-12 * max(1.0, abs(middle)))
    error = sqrt(2 / now.filled)
    is_constant = unit < 1e-9 * max(1.0, abs(before[-1][1]))
    if not is_constant and _is_far(
        "median", middle / unit, [quartiles[1] / unit for quartiles in before], 0.93 * error
    ):
        usual = median(run.median for run in past if run.median is not None)
        return f"the median of {column} is {now.median:,.6g}, {usual:,.6g} before"
    if not is_constant and _is_far("spread", log(own), [log(width) for width in ranges], 1.6 * error):
        factor, word = exp(abs(log(own / unit))), "more" if own > unit else "less"
        return f"the values of {column} spread {factor:.1f} times {word} than before"
    return ""


def _quartiles(measured: ColumnMeasures, scale: Callable[[float], float]) -> tuple[float, float, float]:
    assert measured.lower is not None
    assert measured.median is not None
    assert measured.upper is not None
    return scale(measured.lower), scale(measured.median), scale(measured.upper)


_RULES: tuple[Callable[[str, ColumnMeasures, Sequence[ColumnMeasures]], str], ...] = (_values, _shapes, _range, _middle)
"""What is told of a column is the first that one of these finds."""


def _few(counts: Mapping[str, int]) -> str:
    commonest = sorted(counts.items(), key=lambda item: -item[1])[:3]
    more = len(counts) - len(commonest)
    return ", ".join(f'"{value}" ({count:,})' for value, count in commonest) + (f" and {more} more" if more > 0 else "")


def _before(values: Sequence[int]) -> str:
    least, most = min(values), max(values)
    return f"{least:,}" if least == most else f"{least:,} to {most:,}"


def _shares(shares: Sequence[float]) -> str:
    least, most = share_text(min(shares)), share_text(max(shares))
    return least if least == most else f"{least} to {most}"
