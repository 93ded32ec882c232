"""Which keys were there before, and where: kept as they are, of many 128 bits of a digest, so that no two are taken for one."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from wadi.clean.identity import DIGEST_BYTES, canonical_rows, digest
from wadi.table.cells import is_missing

if TYPE_CHECKING:
    import numpy as np
    import numpy.typing as npt

    Words = npt.NDArray[np.uint64]

_LONG = 64
MOST_RECENT = 100_000
MOST_JOINED = 500_000


def keys_of(rows: Sequence[Sequence[Any]], places: Sequence[int]) -> Sequence[bytes | None]:
    """Rows' keys in canonical form, long ones as their digests; None where a part of a key is missing: such a row is no
    duplicate of any other."""
    columns = [[row[place] for row in rows] for place in places]
    keys = list(zip(*columns, strict=True))
    forms = [form if len(form) <= _LONG else digest(form) for form in canonical_rows(keys)]
    if not any(None in column or "" in column or [] in column for column in columns):
        return forms
    return [None if any(map(is_missing, key)) else form for key, form in zip(keys, forms, strict=True)]


class SeenKeys:
    """Remembers for each key with which number it came first.

    The latest are in a dict. When these are more than `most_recent` their digests go into a sorted array, 20 bytes each, in
    which NumPy looks up all keys of a page at once; arrays of about the same length become one, up to `most_joined` keys, so
    that there are always few.
    """

    def __init__(self, most_recent: int = MOST_RECENT, most_joined: int = MOST_JOINED) -> None:
        self._most_recent = most_recent
        self._most_joined = most_joined
        self._recent: dict[bytes, int] = {}
        self._older: list[tuple[Words, Words, npt.NDArray[np.uint32]]] = []

    def __len__(self) -> int:
        return len(self._recent) + sum(len(numbers) for _, _, numbers in self._older)

    def stood(self, keys: Sequence[bytes | None], number: int) -> dict[int, int]:
        """The places of the keys that came before, among these or earlier, with the numbers with which they came first. The
        others are remembered with `number`; None is no key."""
        found: dict[int, int] = {}
        if self._older:
            keys = [None if key is None else digest(key) for key in keys]
            found = self._in_older(keys)
        recent = self._recent
        new = dict.fromkeys([key for key in keys if key is not None], number)
        if not found and len(new) == len(keys) and recent.keys().isdisjoint(new.keys()):
            recent.update(new)  # as nearly always: all at once
            keys = ()
        for place, key in enumerate(keys):
            if key is None or place in found:
                continue
            count = len(recent)
            first = recent.setdefault(key, number)
            if len(recent) == count:
                found[place] = first
        if len(recent) > self._most_recent:
            self._put_aside()
        return found

    def _in_older(self, digests: Sequence[bytes | None]) -> dict[int, int]:
        import numpy as np

        given = [(place, digest) for place, digest in enumerate(digests) if digest is not None]
        words = np.frombuffer(b"".join(digest for _, digest in given), np.uint64).reshape(-1, 2)
        found: dict[int, int] = {}
        for high, low, numbers in self._older:
            at = np.searchsorted(high, words[:, 0])
            at[at == len(high)] = 0
            for index in np.flatnonzero(high[at] == words[:, 0]).tolist():
                spot = int(at[index])
                while spot < len(high) and high[spot] == words[index, 0]:  # as good as never two of them
                    if low[spot] == words[index, 1]:
                        found[given[index][0]] = int(numbers[spot])
                    spot += 1
        return found

    def _put_aside(self) -> None:
        import numpy as np

        digests = self._recent if self._older else map(digest, self._recent)
        words = np.frombuffer(b"".join(digests), np.uint64).reshape(-1, 2)
        parts = [(words[:, 0], words[:, 1], np.fromiter(self._recent.values(), np.uint32, len(self._recent)))]
        self._recent, count = {}, len(words)
        while self._older and len(self._older[-1][0]) < min(2 * count, self._most_joined - count):
            parts.append(self._older.pop())
            count += len(parts[-1][0])
        high, low, numbers = (np.concatenate(column) for column in zip(*parts, strict=True))
        order = np.argsort(high, kind="stable")
        self._older.append((high[order], low[order], numbers[order]))


assert DIGEST_BYTES == 16, "two words of 64 bits"
