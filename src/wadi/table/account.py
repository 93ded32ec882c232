"""What became of the rows that pages gave: counts, and examples for messages. Duplicates say by which ways they came."""

from __future__ import annotations

from dataclasses import dataclass, field

from wadi.store.outcome import CellProblem
from wadi.table.duplicates import RowLocation

_EXAMPLES = 2


@dataclass(slots=True)
class DuplicateWay:
    """Duplicates that came about in one way: how many, and two examples: key, where the row stood first, where again."""

    count: int = 0
    examples: list[tuple[str, str, str]] = field(default_factory=list)


@dataclass(slots=True)
class RejectWay:
    """Rows rejected in one way: how many, and of the first why, and the URL of its page."""

    count: int
    why: str
    url: str


@dataclass(slots=True)
class Account:
    """What became of the rows that the pages gave.

    `filled` counts non-missing cells of accepted rows, by column. `unread` counts cells that could not be read, by column,
    with the URL and the problem of the first. `several` counts rows where a field matched more than once. `duplicate_ways`
    says how duplicates came about, `reject_ways` why rows were rejected. `incomplete_rows` are the
    numbers of the first that lack a detail page. `earlier` counts rows of a table with `seen` that only earlier runs have.
    """

    given: int = 0
    accepted: int = 0
    duplicates: int = 0
    rejected: int = 0
    incomplete: int = 0
    incomplete_rows: list[int] = field(default_factory=list)
    duplicate_ways: dict[str, DuplicateWay] = field(default_factory=dict)
    reject_ways: dict[str, RejectWay] = field(default_factory=dict)
    filled: dict[str, int] = field(default_factory=dict)
    unread: dict[str, int] = field(default_factory=dict)
    unread_examples: dict[str, tuple[str, CellProblem]] = field(default_factory=dict)
    several: dict[str, int] = field(default_factory=dict)
    empty_pages: int = 0
    earlier: int = 0

    def add_duplicate(self, way: str, key: str, first_url: str, url: str) -> None:
        """Count a duplicate in."""
        self.duplicates += 1
        found = self.duplicate_ways.setdefault(way, DuplicateWay())
        found.count += 1
        if len(found.examples) < _EXAMPLES:
            found.examples.append((key, first_url, url))

    def add_reject(self, way: str, why: str, url: str) -> None:
        """Count a row that is rejected; `way` is what rows are counted by, `why` is said of the first."""
        self.rejected += 1
        self.reject_ways.setdefault(way, RejectWay(0, why, url)).count += 1


def way_of_duplicate(first: RowLocation, again: RowLocation) -> str:
    """How a record came twice: what tells the two places apart."""
    if first.page == again.page:
        return "twice on one page"
    if first.listing == again.listing:
        return "on two pages of one listing"
    if first.way != again.way:
        return f"by two ways, {' → '.join(first.way)} and {' → '.join(again.way)}"
    if first.start != again.start:
        return "from two starts"
    return "in two listings"
