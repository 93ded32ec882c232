"""What an engine works on: how replies are read, how many at a time, how trouble is borne, and when it is enough."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from wadi.crawl.login import Login
from wadi.crawl.outcomes import Reading
from wadi.crawl.workers import WorkerPool


@dataclass(frozen=True)
class Limits:
    """Where the crawl ends even if the site goes on: pages, links from the starts, seconds, bytes of all replies."""

    pages: int | None = None
    depth: int | None = None
    time_s: float | None = None
    size_bytes: int | None = None
    requests: int | None = None


@dataclass(frozen=True)
class Room:
    """How many pages are asked for at a time: at one host, over all, those counted that wait for the pause of their host to
    be over; and the hours in which the run may ask."""

    per_host: int
    total: int = 16
    hours: str | None = None


@dataclass(frozen=True)
class Patience:
    """How trouble is borne: seconds before a page that was put off is asked for again (doubled the second time), the first rest
    of a host that fails again and again, and how often a page that was a block, or did not come, is put off."""

    put_off_s: float = 4.0
    rest_s: float = 30.0
    put_offs: int = 2


@dataclass(frozen=True)
class Tuning:
    """Figures that were found by measuring (docs/performance.md).

    Of more than `many_hosts` waiting pages are looked for all together. `worth_workers` pages must be in flight for workers to be
    of use: where one page leads to the next they only take time. `waiting_for_each` requests may wait for the pauses of their
    hosts for each one in flight, and `most_read` pages beyond those asked for may be with workers or wait to be committed. What
    leads to `many_links` pages or more is committed in a thread. Pages larger than `suspect_bytes` (a fiftieth of it where
    expressions may take long), and those that take longer than `here_s` seconds to read, are read by a worker that can be ended.
    """

    many_hosts: int = 256
    worth_workers: int = 6
    waiting_for_each: int = 16
    most_read: int = 32
    many_links: int = 5000
    suspect_bytes: int = 1_000_000
    here_s: float = 1.5


@dataclass(frozen=True)
class Task:
    """What the engine works on: how replies are read, how many at a time, and when it is enough."""

    reading: Reading
    room: Room
    limits: Limits = field(default_factory=Limits)
    patience: Patience = field(default_factory=Patience)
    enough: Callable[[], bool] | None = None
    login: Login | None = None
    workers: WorkerPool | None = None
    tuning: Tuning = field(default_factory=Tuning)
