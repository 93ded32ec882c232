"""The ledger of a table: what became of the rows that pages gave, what was left out and why. All who tell of it read it here: the
summary, the verdict, the report, and the tables of problems, rejects and duplicates."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from wadi.store.order import Visit
from wadi.store.outcome import CellProblem

_EXAMPLES = 2


@dataclass(frozen=True, slots=True)
class RowIssue:
    """A cell or a row that did not come about: page, number of the row on it, column (None: the row), raw text, and words.

    Of a row that was left out `cells` are its values by column, and of a duplicate `first` is the page that had the record first.
    """

    page: int
    row: int
    column: str | None
    raw: str
    code: str
    what: str
    why: str = ""
    cells: Mapping[str, Any] = field(default_factory=dict)
    first: int | None = None


class Reject(NamedTuple):
    """Why a row is rejected: in words, and by what it is counted together with others."""

    way: str
    why: str


@dataclass(frozen=True, slots=True)
class RowLocation:
    """Where a row stands, as far as it tells duplicates apart: page, listing, start, and the kinds of the pages on the way."""

    page: int
    listing: int
    start: int
    way: tuple[str, ...]


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
class Ledger:
    """What became of the rows that the pages gave.

    `filled` counts non-missing cells of accepted rows, by column, `blank` accepted rows in which none of the columns is filled
    that are picked in the row, `picked` in number. `unread` counts cells that could not be read, by column, with the URL and the
    problem of the first.
    `several` counts rows where a field matched more than once. `duplicate_ways` says how duplicates came about, `reject_ways`
    why rows were rejected. `incomplete_rows` are the numbers of the first that lack a detail page. `earlier` counts rows of a
    table with `seen` that only earlier runs have.

    `url_of` gives the URL of a page, `rename` the names under which columns are written; `hear` is told of each issue.
    """

    url_of: Callable[[int], str] = field(default=str, repr=False, compare=False)
    rename: Mapping[str, str] = field(default_factory=dict, repr=False, compare=False)
    hear: Callable[[RowIssue], None] | None = field(default=None, repr=False, compare=False)
    given: int = 0
    accepted: int = 0
    picked: int = 0
    blank: int = 0
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

    def enter_problems(self, page: int, problems: Iterable[CellProblem], several: Mapping[str, int]) -> None:
        """Cells of a page that could not be read, and how often which field matched more than once there."""
        for problem in problems:
            name = self.rename.get(problem.column, problem.column)
            self.unread[name] = self.unread.get(name, 0) + 1
            if name not in self.unread_examples:
                self.unread_examples[name] = (self.url_of(page), problem)
            if self.hear is not None:
                p = problem
                self.hear(RowIssue(page, p.row, p.column, p.raw, p.code, p.what, p.why))
        for column, count in several.items():
            name = self.rename.get(column, column)
            self.several[name] = self.several.get(name, 0) + count

    def enter_duplicate(
        self,
        key: str,
        first: RowLocation,
        again: RowLocation,
        left_out: tuple[int, int],
        cells: Callable[[], Mapping[str, Any]],
    ) -> None:
        """A row whose key was there before; `left_out` are page and number of the row that goes, `cells` its values."""
        way = way_of_duplicate(first, again)
        self.duplicates += 1
        found = self.duplicate_ways.setdefault(way, DuplicateWay())
        found.count += 1
        if len(found.examples) < _EXAMPLES:
            found.examples.append((key, self.url_of(first.page), self.url_of(again.page)))
        if self.hear is not None:
            self.hear(RowIssue(*left_out, None, "", "duplicate", way, cells=cells(), first=first.page))

    def enter_reject(self, page: int, number: int, reject: Reject, cells: Callable[[], Mapping[str, Any]]) -> None:
        """A row that is rejected."""
        self.rejected += 1
        self.reject_ways.setdefault(reject.way, RejectWay(0, reject.why, self.url_of(page))).count += 1
        if self.hear is not None:
            self.hear(RowIssue(page, number, None, "", "rejected", reject.why, cells=cells()))


def location_of(visit: Visit) -> RowLocation:
    """Where the rows of a visited page stand."""
    return RowLocation(visit.page, visit.listing, visit.start, visit.way)


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
