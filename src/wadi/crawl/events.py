"""What the engine reports while it runs: named values with fields. Whoever draws or logs them is above the core."""

from __future__ import annotations

from dataclasses import dataclass

from wadi.problems import Problem
from wadi.store.outcome import Outcome
from wadi.store.pages import Page, number_in_listing
from wadi.web.client import TriedAgain
from wadi.web.manners import PaceChanged
from wadi.web.routed import RouteFailed


@dataclass(frozen=True, slots=True)
class Sent:
    """A page is being asked for."""

    kind: str
    url: str


@dataclass(frozen=True, slots=True)
class PageDone:
    """A page was read and committed. `rows` are those that it yields; completed rows do not count again. `number` is its place
    in its listing, from 0; `total` rows and `of_pages` pages are what the listing says that it has."""

    kind: str
    url: str
    status: int
    rows: int
    problems: int
    size_bytes: int
    elapsed_s: float
    total: int | None
    number: int = 0
    of_pages: int | None = None


@dataclass(frozen=True, slots=True)
class PageFailed:
    """A page gave nothing; it is committed as failed."""

    kind: str
    url: str
    problem: Problem
    status: int | None = None


@dataclass(frozen=True, slots=True)
class Progress:
    """How many pages are done, failed, open, and known but not yet asked for; requests sent and bytes received lately."""

    done: int
    failed: int
    in_flight: int
    waiting: int
    requests: int = 0
    size_bytes: int = 0


@dataclass(frozen=True, slots=True)
class HostGivenUp:
    """A host does not answer any more: its pages are left for later."""

    host: str
    why: str


@dataclass(frozen=True, slots=True)
class LoggedIn:
    """The run has a session, its `count`th."""

    url: str
    count: int


@dataclass(frozen=True, slots=True)
class Stopping:
    """The crawl was asked to stop, and waits for open requests."""

    in_flight: int


@dataclass(frozen=True, slots=True)
class Adopted:
    """Replies that an earlier process had archived and not committed were taken."""

    pages: int


@dataclass(frozen=True, slots=True)
class Closed:
    """Outside the hours in which the run may ask: it waits so many seconds."""

    seconds: float


@dataclass(frozen=True, slots=True)
class PutOff:
    """A page was a block, or did not come: it is asked for again after so many seconds."""

    kind: str
    url: str
    problem: Problem
    seconds: float


@dataclass(frozen=True, slots=True)
class HostRests:
    """A host failed again and again: it is asked for nothing for so many seconds, then for one page."""

    host: str
    seconds: float
    why: str


@dataclass(frozen=True, slots=True)
class ShardProgress:
    """Of a run on a cluster: pages that a shard has read and that wait there, and whether a worker has its turn now."""

    shard: int
    done: int
    waiting: int
    is_active: bool


Event = (
    HostRests
    | ShardProgress
    | RouteFailed
    | PutOff
    | Closed
    | PaceChanged
    | Adopted
    | Stopping
    | LoggedIn
    | Sent
    | PageDone
    | PageFailed
    | Progress
    | HostGivenUp
    | TriedAgain
)


def event_of(page: Page, outcome: Outcome) -> Event:
    """What is reported of a page that was committed."""
    url = page.request.url
    if outcome.failure is not None:
        return PageFailed(page.kind, url, outcome.failure, outcome.reply.status if outcome.reply else None)
    reply = outcome.reply
    assert reply is not None
    rows = sum(len(table.rows) for table in outcome.tables if not table.completes)
    problems = sum(len(table.problems) for table in outcome.tables)
    size, number = reply.size_bytes, number_in_listing(page.route)
    return PageDone(
        page.kind, url, reply.status, rows, problems, size, reply.elapsed_s, outcome.total, number, outcome.of_pages
    )
