"""Tables to be looked at, wherever they stand: columns, a key where one is known, and rows that can be taken again."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from itertools import islice
from typing import Any

from wadi.plan.columns import Column

BATCH_ROWS = 2000


@dataclass(frozen=True)
class TableSource:
    """A table: `rows` gives its rows from the first, as often as it is called. Of a table that keeps records of earlier runs
    `history` names the columns that say so, and `rows_there` gives the rows without records that are gone."""

    name: str
    columns: Sequence[Column]
    rows: Callable[[], Iterator[list[Any]]]
    key: Sequence[str] = field(default_factory=tuple)
    history: Sequence[str] = ()
    rows_there: Callable[[], Iterator[list[Any]]] | None = None

    @property
    def names(self) -> list[str]:
        return [column.name for column in self.columns]


def batches(rows: Iterator[list[Any]], size: int = BATCH_ROWS) -> Iterator[list[list[Any]]]:
    """Rows by the thousands."""
    while batch := list(islice(rows, size)):
        yield batch
