"""Many numbers in little memory: put on disk on the way, sorted at the end, and told in figures.

Quartiles are those of linear interpolation (Hyndman and Fan 1996, definition 7), the standard deviation that of a sample.
What fits into memory is sorted here; of what does not NumPy sorts the file, eight bytes a value.
"""

from __future__ import annotations

import math
from array import array
from bisect import bisect_left, bisect_right
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from heapq import nsmallest
from itertools import chain, groupby, pairwise
from operator import mul
from tempfile import TemporaryFile
from typing import Any, Literal

from wadi.clean.identity import DIGEST_BYTES

BINS = 20
_LEAST_SKEWED = 6
MOST_HELD = 262_144
_FENCE = 1.5
_ENDS = 10
_EXTREMES = 5
_CHUNK = 16_384
_LARGEST = 1e150
"""Numbers beyond it cannot be squared, and infinite ones are none: neither is among the figures."""

Ordered = Sequence[Any]
"""Numbers in ascending order."""


@dataclass(frozen=True)
class Numbers:
    """The figures of a numeric column.

    Verdicts need no more than positions: then `mean`, `deviation` and `bins` are left out.
    `bins` are equally wide, `is_logarithmic` says on which axis: lower edge, upper edge, count. Zeros are on no logarithmic axis,
    and `zeros` counts them there. `outliers` are further from the quartiles than one and a half times what is between
    them (Tukey 1977); `extremes` are the furthest, `lowest` and `highest` the ten at each end.
    """

    least: float
    lower: float
    median: float
    mean: float | None
    upper: float
    most: float
    deviation: float | None
    outliers: int
    extremes: tuple[float, ...]
    lowest: tuple[float, ...]
    highest: tuple[float, ...]
    bins: tuple[tuple[float, float, int], ...]
    is_logarithmic: bool
    zeros: int = 0


class SortedFile:
    """Numbers, or digests of 16 bytes, to be taken back in order; when more than `most_held` are in memory they go to disk."""

    def __init__(self, kind: Literal["number", "digest"], most_held: int = MOST_HELD) -> None:
        self._is_number = kind == "number"
        self._most_bytes = most_held * (8 if self._is_number else DIGEST_BYTES)
        self._held = bytearray()
        self._file: Any = None

    def extend(self, values: Iterable[Any]) -> None:
        self._held += array("d", values).tobytes() if self._is_number else b"".join(values)
        if len(self._held) > self._most_bytes:
            self._file = self._file or TemporaryFile()  # noqa: SIM115, closed when it is taken back
            self._file.write(self._held)
            self._held = bytearray()

    def close(self) -> None:
        """Leave what is on disk, if anything is."""
        if self._file is not None:
            self._file.close()

    def ordered(self) -> Ordered:
        """All values in ascending order; NaN, which has none, is left out."""
        if self._file is None and self._is_number:
            return sorted(value for value in memoryview(self._held).cast("d") if value == value)
        if self._file is None:
            held = bytes(self._held)
            return sorted(held[at : at + DIGEST_BYTES] for at in range(0, len(held), DIGEST_BYTES))
        import numpy as np

        self._file.write(self._held)
        self._file.seek(0)
        stored = np.fromfile(self._file, dtype=np.float64 if self._is_number else f"V{DIGEST_BYTES}")
        self._file.close()
        stored.sort()
        # NumPy sorts NaN behind all others.
        return stored[: len(stored) - int(np.isnan(stored).sum())] if self._is_number else stored  # type: ignore[return-value]


def counted(values: Ordered, most: int) -> tuple[int, list[tuple[Any, int]]]:
    """How many values differ, and the `most` frequent with their counts, the smallest first where counts are equal."""
    runs: Iterable[tuple[Any, int]]
    if isinstance(values, list):
        runs = Counter(values).items()
        different = len(runs)
    else:
        different = sum(1 for _ in groupby(_plain(values)))
        runs = ((value, sum(1 for _ in same)) for value, same in groupby(_plain(values)))
    best = nsmallest(most, ((-count, value) for value, count in runs))
    return different, [(value, -count) for count, value in best]


def _plain(values: Any) -> Iterator[Any]:
    """The values as Python's own, those of an array a chunk at a time."""
    if isinstance(values, list):
        return iter(values)
    return chain.from_iterable(values[at : at + _CHUNK].tolist() for at in range(0, len(values), _CHUNK))


def numbers_of(values: Ordered, *, whole: bool = True) -> Numbers | None:
    """The figures of numbers in ascending order, without `whole` their positions; None of none."""
    ordered = values[bisect_left(values, -_LARGEST) : bisect_left(values, _LARGEST)]
    if not len(ordered):
        return None
    lower, median, upper = (_quantile(ordered, share) for share in (0.25, 0.5, 0.75))
    fence = _FENCE * (upper - lower)
    below, above = bisect_left(ordered, lower - fence), bisect_right(ordered, upper + fence)
    far = [*ordered[: min(below, _EXTREMES)], *ordered[max(above, len(ordered) - _EXTREMES) :][::-1]]
    mean = math.fsum(_plain(ordered)) / len(ordered) if whole else None
    bins, is_logarithmic = _bins_of(ordered) if whole else ((), False)
    zeros = bisect_right(ordered, 0.0) if is_logarithmic else 0
    return Numbers(
        least=float(ordered[0]),
        lower=lower,
        median=median,
        mean=mean,
        upper=upper,
        most=float(ordered[-1]),
        deviation=_deviation(ordered, mean) if mean is not None else None,
        outliers=below + len(ordered) - above,
        lowest=tuple(float(figure) for figure in ordered[:_ENDS]),
        highest=tuple(float(figure) for figure in ordered[-_ENDS:]),
        extremes=tuple(dict.fromkeys(sorted(map(float, far), key=lambda figure: -abs(figure - median))))[:_EXTREMES],
        bins=bins,
        is_logarithmic=is_logarithmic,
        zeros=zeros,
    )


def _quantile(ordered: Ordered, share: float) -> float:
    at = share * (len(ordered) - 1)
    before = int(at)
    low, high = float(ordered[before]), float(ordered[min(before + 1, len(ordered) - 1)])
    return low + (high - low) * (at - before) if high != low else low


def _deviation(ordered: Ordered, mean: float) -> float | None:
    """The standard deviation of a sample."""
    if len(ordered) < 2:
        return None
    chunks = ([value - mean for value in ordered[at : at + _CHUNK]] for at in range(0, len(ordered), _CHUNK))
    squares = math.fsum(chain.from_iterable(map(mul, chunk, chunk) for chunk in chunks))
    return math.sqrt(squares / (len(ordered) - 1))


def _bins_of(ordered: Ordered) -> tuple[tuple[tuple[float, float, int], ...], bool]:
    """Bins from the least to the greatest, and whether they are equally wide on a logarithmic axis: where a third of the numbers
    or more would be in the first of those that are equally wide on a plain one, and the greatest is a hundred times the least
    above 0. One bin where all are the same, or too close for more."""
    least, most = float(ordered[0]), float(ordered[-1])
    count = BINS if len(ordered) > _CHUNK else min(BINS, len(set(ordered)))
    plain = _counted(ordered, [*(least + (most - least) * place / count for place in range(count)), most])
    if len(plain) < _LEAST_SKEWED or least < 0 or plain[0][2] * 3 < len(ordered):
        return plain, False
    above = ordered[bisect_right(ordered, 0.0) :]
    lowest = float(above[0])
    if most < lowest * 100:
        return plain, False
    return _counted(above, [*(lowest * (most / lowest) ** (place / count) for place in range(count)), most]), True


def _counted(ordered: Ordered, edges: list[float]) -> tuple[tuple[float, float, int], ...]:
    """The numbers between the edges; one bin where the edges are too close."""
    if len(edges) < 3 or not all(one < other < math.inf for one, other in pairwise(edges)):
        return ((float(ordered[0]), float(ordered[-1]), len(ordered)),)
    places = [*(bisect_left(ordered, edge) for edge in edges[:-1]), len(ordered)]
    return tuple((edges[n], edges[n + 1], places[n + 1] - places[n]) for n in range(len(edges) - 1))
