"""What a crawl's events come to so far, in words for whoever shows them: counts, pace, hosts, the last thing worth a line."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from heapq import nsmallest
from itertools import islice
from typing import TYPE_CHECKING, Any

from wadi.crawl.events import (
    Closed,
    Event,
    HostGivenUp,
    HostRests,
    PageDone,
    PageFailed,
    Progress,
    PutOff,
    Sent,
    ShardProgress,
    Stopping,
)
from wadi.problems import plural, shortened
from wadi.urls import host_of, without_secret
from wadi.web.client import TriedAgain
from wadi.web.manners import PaceChanged
from wadi.web.routed import RouteFailed

if TYPE_CHECKING:
    from wadi.plan.columns import Column
    from wadi.plan.model import LimitsPlan

_MOST_SHARDS = 6
_RATE_OVER_S = 5.0
_MOST_UNCUT = 2000
_SHOWN_HOSTS = 4
_LAST_ROWS = 6
Clock = Callable[[], float]


@dataclass(slots=True)
class HostTally:
    """How a host stands."""

    in_flight: int = 0
    done: int = 0
    rests_until: float = float("-inf")
    is_left: bool = False

    def is_troubled(self, now: float) -> bool:
        return self.is_left or now < self.rests_until

    def word(self, now: float) -> str:
        """`left`, `rests 12 s`, or `41 pages, 2 in flight`."""
        if self.is_left:
            return "left"
        if now < self.rests_until:
            return f"rests {self.rests_until - now:.0f} s"
        return plural(self.done, "page") + (f", {self.in_flight} open" if self.in_flight else "")


class Tally:
    """What the events come to so far: counts, pace, and the last thing worth a line."""

    def __init__(self, name: str, clock: Clock, limits: LimitsPlan | None = None, *, cuts: bool = True) -> None:
        self.limits = limits
        self._cuts = cuts
        self.name = name
        self._clock = clock
        self._began = clock()
        self._recent: deque[float] = deque()
        self.progress = Progress(0, 0, 0, 0)
        self.rows = 0
        self.total: int | None = None
        self.news = ""
        self._news_until = 0.0
        self.failures = 0
        self.paces: dict[str, PaceChanged] = {}
        self.hosts: dict[str, HostTally] = {}
        self._busy: dict[str, HostTally] = {}
        self._troubled: dict[str, HostTally] = {}
        """The hosts with pages in flight, and those that rest or were left: the line of hosts looks at no others."""
        self.listing_pages = 0
        self.of_pages = 0
        self.shards: dict[int, ShardProgress] = {}
        self.columns: Sequence[Column] = ()
        self.last_rows: deque[list[Any]] = deque(maxlen=_LAST_ROWS)

    def _cut(self, text: str, most: int) -> str:
        """What is told, cut where it is for a terminal: a file has room, and the cause at the end."""
        return shortened(text, most if self._cuts else _MOST_UNCUT)

    def take(self, event: Event) -> None:
        """Count an event in."""
        now = self._clock()
        self._count_host(event, now)
        match event:
            case Progress():
                self.progress = event
            case ShardProgress():
                self.shards[event.shard] = event
            case PageDone():
                self.rows += event.rows
                if event.number == 0:
                    self.total = (self.total or 0) + event.total if event.total is not None else self.total
                    self.of_pages += event.of_pages or 0
                self.listing_pages += event.of_pages is not None
                self._recent.append(now)
            case PageFailed():
                self.failures += 1
                self._recent.append(now)
                self._tell(f"failed: {self._cut(event.problem.what, 100)}", now + 30)
            case TriedAgain():
                what = self._cut(event.decision.reason, 90)
                self._tell(
                    f"again in {event.decision.wait_s:.0f} s (try {event.tries + 1}): {what}",
                    now + event.decision.wait_s,
                )
            case PaceChanged():
                self.paces[event.host] = event
                if not event.why:
                    self.paces.pop(event.host)
            case Closed():
                self._tell(f"outside the plan's hours: waiting {event.seconds / 3600:.1f} h", now + event.seconds)
            case Stopping():
                what = f", waiting for {plural(event.in_flight, 'page')} under way" if event.in_flight else ""
                self._tell(f"stopping{what}; Ctrl-C again stops at once", now + 60)
            case HostGivenUp():
                self._tell(
                    f"giving up on {event.host} for now: {self._cut(event.why, 70)}; wadi resume retries", now + 3600
                )
            case HostRests():
                self._tell(
                    f"pausing {event.host} for {event.seconds:.0f} s: {self._cut(event.why, 80)}", now + event.seconds
                )
            case RouteFailed():
                what = "withdrawn" if event.is_withdrawn else "rests"
                self._tell(f"route {event.route} {what}: {self._cut(event.why, 80)}", now + 10)
            case PutOff():
                what, url = event.problem.what, without_secret(event.url)
                said = what if url in what else f"{url}: {what}"
                self._tell(f"put off for {event.seconds:.0f} s: {self._cut(said, 140)}", now + event.seconds)
            case _:
                pass

    def show_rows(self, columns: Sequence[Column], rows: Sequence[list[Any]]) -> None:
        """Keep the last rows of the table, to be shown."""
        self.columns = columns
        self.last_rows.extend(rows)

    def _count_host(self, event: Event, now: float) -> None:
        """What the event says about a host."""
        match event:
            case Sent(_, url):
                name = host_of(url)
                host = self._busy[name] = self._host(name)
                host.in_flight += 1
            case PageDone(_, url) | PageFailed(url=url) | PutOff(url=url):
                name = host_of(url)
                host = self._host(name)
                host.in_flight = max(0, host.in_flight - 1)
                host.done += isinstance(event, PageDone)
                if not host.in_flight:
                    self._busy.pop(name, None)
            case HostRests(name, seconds):
                self._troubled[name] = self._host(name)
                self._host(name).rests_until = now + seconds
            case HostGivenUp(name):
                self._troubled[name] = self._host(name)
                self._host(name).is_left = True
            case _:
                pass

    def _host(self, name: str) -> HostTally:
        return self.hosts.setdefault(name, HostTally())

    @property
    def shards_line(self) -> str:
        """How each shard of a run on a cluster is, those first that have their turn."""
        if not self.shards:
            return ""
        first = sorted(self.shards.values(), key=lambda shard: (not shard.is_active, shard.shard))[:_MOST_SHARDS]
        said = [f"{s.shard}: {s.done:,} read, {s.waiting:,} waiting{'' if s.is_active else ' (idle)'}" for s in first]
        more = f" · and {len(self.shards) - _MOST_SHARDS} more" if len(self.shards) > _MOST_SHARDS else ""
        return f"shards {' · '.join(said)}{more}"

    @property
    def hosts_line(self) -> str:
        """How each host stands, where there are several: those that do not go well first."""
        if len(self.hosts) < 2:
            return ""
        now = self._clock()
        order: dict[str, HostTally] = {}
        for name, host in list(self._troubled.items()):
            if not host.is_troubled(now):
                del self._troubled[name]
            elif len(order) < _SHOWN_HOSTS:
                order[name] = host
            else:
                break
        order |= nsmallest(_SHOWN_HOSTS, self._busy.items(), key=lambda item: -item[1].in_flight)
        order |= islice(self.hosts.items(), 2 * _SHOWN_HOSTS)
        shown = "; ".join(f"{name} {host.word(now)}" for name, host in islice(order.items(), _SHOWN_HOSTS))
        more = len(self.hosts) - _SHOWN_HOSTS
        return f"hosts     {shown}" + (f"; … {more} more" if more > 0 else "")

    @property
    def budget_line(self) -> str:
        """What of the plan's limits is used and left."""
        limits, p = self.limits, self.progress
        if limits is None:
            return ""
        parts = []
        if limits.requests is not None:
            parts.append(f"{p.requests:,} of {limits.requests:,} requests")
        if limits.bytes is not None:
            parts.append(f"{p.size_bytes / 1e6:.1f} of {limits.bytes / 1e6:.1f} MB")
        if limits.time is not None:
            parts.append(f"{self.elapsed_s / 60:.1f} of {limits.time / 60:.1f} min")
        return f"used      {', '.join(parts)}" if parts else ""

    def _tell(self, text: str, until: float) -> None:
        self.news, self._news_until = text, until

    @property
    def current_news(self) -> str:
        return self.news if self._clock() < self._news_until else ""

    @property
    def pace_line(self) -> str:
        """Which hosts are asked more slowly than the plan allows, and why."""
        slowed = [f"{pace.host} every {pace.pause_s:.1f} s: {pace.why}" for pace in self.paces.values()]
        return "slower    " + "; ".join(slowed[:3]) if slowed else ""

    @property
    def elapsed_s(self) -> float:
        return self._clock() - self._began

    @property
    def pages_a_second(self) -> float:
        """The pace over the last seconds."""
        now = self._clock()
        while self._recent and self._recent[0] < now - _RATE_OVER_S:
            self._recent.popleft()
        span = min(_RATE_OVER_S, max(self.elapsed_s, 0.001))
        return len(self._recent) / span

    @property
    def left_s(self) -> float | None:
        """How long it may still take, at the pace so far; None while that says nothing."""
        return self.elapsed_s * (1 - self.share) / self.share if self.share > 0.02 and self.elapsed_s > 2 else None

    @property
    def share(self) -> float:
        """How much is done, 0 to 1: settled pages of those known, and, where the site states a total, its rows that came."""
        settled = self.progress.done + self.progress.failed
        known = settled + self.progress.in_flight + self.progress.waiting
        pages = settled / known if known else 0.0
        if self.total:
            return pages * min(1.0, self.rows / self.total)
        return pages * min(1.0, self.listing_pages / self.of_pages) if self.of_pages else pages

    def counts_line(self) -> str:
        """`218 of 366 known pages, 90 of 354 rows, 71.2 pages/s, …`."""
        p = self.progress
        known = p.done + p.failed + p.in_flight + p.waiting
        rows = f"{self.rows:,} of {self.total:,} rows" if self.total is not None else plural(self.rows, "row")
        parts = [
            f"{p.done + p.failed:,} of {known:,} known pages",
            *([f"{self.listing_pages:,} of {self.of_pages:,} listing pages"] if self.of_pages else []),
            rows,
            f"{self.pages_a_second:.1f} pages/s",
            f"{p.in_flight} open",
            f"{p.waiting:,} waiting",
        ]
        if p.failed:
            parts.append(f"{p.failed:,} failed")
        return "   ".join(parts)
