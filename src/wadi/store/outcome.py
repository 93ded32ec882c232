"""What one page came to, as it is committed: its reply, its rows, where it leads, or why it failed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date, time
from enum import IntEnum, StrEnum
from typing import Any, NamedTuple

import orjson

from wadi.problems import Problem
from wadi.store.archive import Location
from wadi.web.messages import Reply, Request
from wadi.web.pickled import pickled_by_value


class Role(IntEnum):
    """How a page was reached. The numbers order the links of one page as they are read."""

    START = 0
    OPEN = 1
    NEXT = 2


class State(IntEnum):
    """Where a page stands. A page in flight is still waiting: only what is committed counts. Elsewhere are pages that this
    process cannot have: another shard of the run asks for them, or the archive that is read again lacks them."""

    WAITING = 0
    DONE = 1
    FAILED = 2
    ELSEWHERE = 3


class Purpose(IntEnum):
    """Why a page is asked for: to be read, or once more, to see whether its listing shifted meanwhile."""

    READ = 0
    RECHECK = 1


class End(StrEnum):
    """Why a crawl ended."""

    COMPLETE = "complete"
    ENOUGH_ROWS = "rows limit"
    ENOUGH_PAGES = "pages limit"
    ENOUGH_DEPTH = "depth limit"
    ENOUGH_TIME = "time limit"
    ENOUGH_BYTES = "bytes limit"
    ENOUGH_REQUESTS = "requests limit"
    UNREACHABLE = "host unreachable"
    REFUSED = "host refused"
    SHARDS_FAILED = "shards failed"
    """Of a run on a cluster: turns of a shard failed again and again."""
    INTERRUPTED = "interrupted"
    NOT_FETCHED = "pages not fetched"
    """Of a run whose pages were read again: its plan leads to pages that the run before never asked for."""

    @property
    def is_limit(self) -> bool:
        """Whether a limit ended it, of the plan or of the command line."""
        return self.value.endswith("limit")

    @property
    def is_stopped(self) -> bool:
        """Whether it could not go on."""
        return self in (End.UNREACHABLE, End.REFUSED, End.SHARDS_FAILED)


@pickled_by_value
@dataclass(frozen=True, slots=True)
class Link:
    """A way from a page to another. `place` counts the page's links, `row` the row that it stands in (or None).

    `inputs` are values that hold from here on, over those that the page was reached with. `deeper` links lead one step
    away from the starts. `edge` tells the first and the last row of a page that is asked for once more.
    """

    role: Role
    place: int
    kind: str
    request: Request
    row: int | None = None
    text: str = ""
    inputs: Mapping[str, Any] | None = None
    deeper: bool = True
    edge: bytes = b""
    purpose: Purpose = Purpose.READ


@dataclass(frozen=True, slots=True)
class FailedPage:
    """A page that failed: what it is, its status (None where nothing came), and the problem as a dict."""

    kind: str
    url: str
    status: int | None
    problem: dict[str, Any]


@dataclass(frozen=True, slots=True)
class StoredFile:
    """A downloaded file: its path below the run's folder, size in bytes, media type, and SHA-256 in hexadecimal."""

    path: str
    size_bytes: int
    type: str
    sha256: str


class StatedTotal(NamedTuple):
    """A listing that states how many rows it has: page kind, URL of its first page, rows stated, rows that its pages gave."""

    kind: str
    url: str
    stated: int
    rows: int


@dataclass(frozen=True, slots=True)
class CellProblem:
    """A cell that could not be read: row on the page (from 0), column, the raw text, and a problem's words."""

    row: int
    column: str
    raw: str
    code: str
    what: str
    why: str = ""


_KEPT_AS_THEY_ARE = frozenset({str, int, float, bool, type(None)})


def as_stored(value: Any) -> Any:
    """A cell's value as the run keeps it: dates and times as ISO 8601 texts."""
    if value.__class__ in _KEPT_AS_THEY_ARE or isinstance(value, str):
        return value
    if isinstance(value, date | time):  # a moment is a date, too
        return value.isoformat()
    return orjson.loads(orjson.dumps(value, default=as_stored, option=orjson.OPT_PASSTHROUGH_DATETIME))


def column_as_stored(values: list[Any]) -> list[Any]:
    """The same for the values of a column, of which nearly all have no others."""
    kinds = set(map(type, values))
    if kinds <= _KEPT_AS_THEY_ARE:
        return values
    if kinds <= _KEPT_AS_THEY_ARE | {date}:
        return [value.isoformat() if value.__class__ is date else value for value in values]
    return [as_stored(value) for value in values]


@dataclass(frozen=True, slots=True)
class TableRows:
    """The rows that a page gives to a table, raw: one list for each row, cells of JSON values as `columns` names them.

    `completes` tells that they complete the rows from which the page was opened. Rows of a list inside rows have
    `parents`: for each the number of the page's row that it stands in.
    """

    table: str
    columns: tuple[str, ...]
    rows: list[list[Any]]
    completes: bool = False
    problems: tuple[CellProblem, ...] = ()
    several: dict[str, int] = field(default_factory=dict)
    parents: list[int] | None = None

    def __reduce__(self) -> tuple[Any, ...]:
        """To another process the rows go as the JSON that they are in the database: in half the time."""
        more = (self.completes, self.problems, self.several, self.parents)
        return _table_rows, (self.table, self.columns, orjson.dumps(self.rows), *more)


def _table_rows(table: str, columns: tuple[str, ...], rows: bytes, *more: Any) -> TableRows:
    return TableRows(table, columns, orjson.loads(rows), *more)


@dataclass(frozen=True, slots=True)
class Outcome:
    """What is committed for a page in one transaction: success, or a failure with its reason.

    `digest` tells the rows of a listing's page from those of its other pages, `row_digests` each row. `rows` is how many
    rows the page has, None where its kind has none. `payload` is the digest of the body when it stands at `location`. `edge`
    tells the page's first and last row, `of_pages` how many pages the listing says it has. `tries` is how often it was sent.
    `elsewhere` is the request with which another shard goes on, where the page led to one of its hosts; `is_absent` says that
    what is read again does not have the page.
    """

    page: int
    reply: Reply | None = None
    location: Location | None = None
    tables: tuple[TableRows, ...] = ()
    links: tuple[Link, ...] = ()
    total: int | None = None
    failure: Problem | None = None
    notes: tuple[Problem, ...] = ()
    digest: bytes | None = None
    row_digests: tuple[bytes, ...] = ()
    rows: int | None = None
    file: StoredFile | None = None
    payload: bytes = b""
    edge: bytes = b""
    of_pages: int | None = None
    tries: int | None = None
    elsewhere: Request | None = None
    is_absent: bool = False

    @property
    def state(self) -> State:
        if self.elsewhere is not None or self.is_absent:
            return State.ELSEWHERE
        return State.FAILED if self.failure else State.DONE
