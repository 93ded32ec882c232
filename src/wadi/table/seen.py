"""Since when a table's records are known, and which are gone: the run's own rows beside what the runs before it had."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from wadi.clean.identity import digest_of
from wadi.plan.columns import SEEN_COLUMNS, Column
from wadi.store.history import History
from wadi.store.order import Numbers


@dataclass(frozen=True)
class Sighting:
    """What is needed to tell first, last and gone: the history, when this run began, and whether it read everything."""

    history: History
    began: str
    is_whole: bool


class Seen:
    """Fills the columns `first_seen`, `last_seen` and `gone`, and remembers which of the known records came."""

    def __init__(self, sighting: Sighting, columns: Sequence[Column], key: Sequence[int]) -> None:
        self._sighting = sighting
        self._columns = columns
        self._key = key
        place = {column.name: number for number, column in enumerate(columns)}
        self._first, self._last, self._gone = (place.get(name) for name in SEEN_COLUMNS)
        self._came = Numbers()

    @property
    def is_whole(self) -> bool:
        """Whether the run read everything, so that what it does not have is gone."""
        return self._sighting.is_whole

    def put(self, cells: list[Any]) -> None:
        """The columns of a row that this run has."""
        known = self._sighting.history.find(digest_of(cells[place] for place in self._key))
        if known is not None:
            self._came.add(known[0])
        self._fill(cells, known[1] if known else self._sighting.began, self._sighting.began, False)

    def rest(self) -> Iterator[list[Any]]:
        """The rows that only earlier runs have. Where this run did not read everything they may be there still: then `gone`
        is missing."""
        for record in self._sighting.history.records():
            if record.number not in self._came:
                cells = [record.cells.get(column.name) for column in self._columns]
                self._fill(cells, record.first, record.last, True if self._sighting.is_whole else None)
                yield cells

    def _fill(self, cells: list[Any], first: str, last: str, gone: bool | None) -> None:
        for place, value in ((self._first, first), (self._last, last), (self._gone, gone)):
            if place is not None:
                cells[place] = value
