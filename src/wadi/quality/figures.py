"""Many numbers in little memory: put on disk on the way, sorted in place at the end, and told in figures.

Quartiles are those of linear interpolation (Hyndman and Fan 1996, definition 7), the standard deviation that of a sample.
"""

from __future__ import annotations

from array import array
from dataclasses import dataclass
from tempfile import TemporaryFile
from typing import Any

import numpy as np

BINS = 20
SPILLED = 16_384
_FENCE = 1.5
_ENDS = 10
_EXTREMES = 5
_CHUNK = 16_384
_LARGEST = 1e150
"""Numbers beyond it cannot be squared, and infinite ones are none: neither is among the figures."""

Array = np.ndarray[Any, Any]


@dataclass(frozen=True)
class Numbers:
    """The figures of a numeric column. `bins` are equally wide: lower edge, upper edge, count. `outliers` counts what lies
    further from the quartiles than one and a half times what is between them (Tukey 1977); `extremes` are the furthest,
    `lowest` and `highest` the ten at each end."""

    least: float
    lower: float
    median: float
    mean: float
    upper: float
    most: float
    deviation: float | None
    outliers: int
    extremes: tuple[float, ...]
    lowest: tuple[float, ...]
    highest: tuple[float, ...]
    bins: tuple[tuple[float, float, int], ...]


class Spill:
    """Eight-byte values on disk beyond the first thousands, to be taken back as one array."""

    def __init__(self, code: str) -> None:
        self._code = code
        self._held = array(code)
        self._file: Any = None

    def extend(self, values: Any) -> None:
        self._held.extend(values)
        if len(self._held) > SPILLED:
            self._file = self._file or TemporaryFile()  # noqa: SIM115, closed when it is taken back
            self._held.tofile(self._file)
            self._held = array(self._code)

    def close(self) -> None:
        if self._file is not None:
            self._file.close()

    def taken(self) -> np.ndarray[Any, Any]:
        kind = np.float64 if self._code == "d" else np.int64
        if self._file is None:
            return np.array(self._held, dtype=kind)
        self._held.tofile(self._file)
        self._file.seek(0)
        stored = np.fromfile(self._file, dtype=kind)
        self._file.close()
        return stored


def counted(values: Array, most: int) -> tuple[int, list[tuple[Any, int]]]:
    """How many values differ, and the `most` frequent with their counts, the smallest first where counts are equal.

    The values are sorted where they stand, and looked at chunk by chunk.
    """
    values.sort()
    different = 0
    best: list[tuple[int, int, Any]] = []
    open_run: tuple[Any, int] | None = None
    for at in range(0, len(values), _CHUNK):
        part = values[at : at + _CHUNK]
        starts = np.flatnonzero(np.concatenate(([True], part[1:] != part[:-1])))
        counts, heads = np.diff(starts, append=len(part)), part[starts]
        if open_run is not None and open_run[0] == heads[0]:
            counts[0] += open_run[1]
        elif open_run is not None:
            best = _best([*best, (-open_run[1], different, open_run[0])], most)
            different += 1
        top = np.argsort(-counts[:-1], kind="stable")[:most]
        best = _best([*best, *((-int(counts[one]), different + int(one), heads[one]) for one in top)], most)
        different += len(starts) - 1
        open_run = (heads[-1], int(counts[-1]))  # it may go on in the next chunk
    if open_run is not None:
        best = _best([*best, (-open_run[1], different, open_run[0])], most)
        different += 1
    return different, [(value, -count) for count, _, value in best]


def _best(runs: list[tuple[int, int, Any]], most: int) -> list[tuple[int, int, Any]]:
    return sorted(runs, key=lambda one: one[:2])[:most]


def numbers_of(values: Array) -> Numbers | None:
    """The figures of numbers; None of none. They are sorted where they stand."""
    values.sort()
    ordered = values[int(np.searchsorted(values, -_LARGEST)) : int(np.searchsorted(values, _LARGEST))]
    if not len(ordered):
        return None
    lower, median, upper = (_quantile(ordered, share) for share in (0.25, 0.5, 0.75))
    fence = _FENCE * (upper - lower)
    below, above = (
        int(np.searchsorted(ordered, lower - fence)),
        int(np.searchsorted(ordered, upper + fence, side="right")),
    )
    far = [
        float(one)
        for one in (*ordered[: min(below, _EXTREMES)], *ordered[max(above, len(ordered) - _EXTREMES) :][::-1])
    ]
    mean = float(ordered.mean())
    return Numbers(
        least=float(ordered[0]),
        lower=lower,
        median=median,
        mean=mean,
        upper=upper,
        most=float(ordered[-1]),
        deviation=_deviation(ordered, mean),
        outliers=below + len(ordered) - above,
        lowest=tuple(float(one) for one in ordered[:_ENDS]),
        highest=tuple(float(one) for one in ordered[-_ENDS:]),
        extremes=tuple(dict.fromkeys(sorted(far, key=lambda one: -abs(one - median))))[:_EXTREMES],
        bins=_bins_of(ordered),
    )


def _quantile(ordered: Array, share: float) -> float:
    at = share * (len(ordered) - 1)
    before = int(at)
    low, high = float(ordered[before]), float(ordered[min(before + 1, len(ordered) - 1)])
    return low + (high - low) * (at - before) if high != low else low


def _deviation(ordered: Array, mean: float) -> float | None:
    """The standard deviation of a sample, chunk by chunk."""
    if len(ordered) < 2:
        return None
    squares = sum(float(np.square(ordered[at : at + _CHUNK] - mean).sum()) for at in range(0, len(ordered), _CHUNK))
    return float(np.sqrt(squares / (len(ordered) - 1)))


def _bins_of(ordered: Array) -> tuple[tuple[float, float, int], ...]:
    """Equally wide bins from the least to the greatest; one where all are the same, or too close for more."""
    whole = ((float(ordered[0]), float(ordered[-1]), len(ordered)),)
    different = 1 + int(np.count_nonzero(ordered[1:_CHUNK] != ordered[: _CHUNK - 1][: len(ordered[1:_CHUNK])]))
    bins = BINS if len(ordered) > _CHUNK else min(BINS, different)
    edges = np.linspace(ordered[0], ordered[-1], bins + 1)
    if bins == 1 or not np.isfinite(edges).all() or (np.diff(edges) <= 0).any():
        return whole
    places = np.searchsorted(ordered, edges)
    places[-1] = len(ordered)
    counts = np.diff(places)
    return tuple(
        (float(one), float(other), int(count)) for one, other, count in zip(edges[:-1], edges[1:], counts, strict=True)
    )
