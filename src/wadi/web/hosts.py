"""What a sitting knows of a host, in one record: when it may be asked, how it is doing, and what is under way there."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass, field

from wadi.web.pace import HostPace, new_pace, pauses_of


@dataclass(frozen=True, slots=True)
class Pace:
    """What the plan asks for: seconds between two starts and requests in flight, per host; in flight over all hosts.

    `jitter` makes each pause longer by a random share of up to so much; `slowest_s` is the longest pause that trouble brings.
    """

    pause_s: float = 1.0
    parallel: int = 2
    total: int = 16
    jitter: float = 0.0
    slowest_s: float = 60.0


@dataclass(slots=True)
class Turns:
    """When a host may be asked, kept by `wadi.web.manners`. `starting` is held by the request that is on its way to the wire;
    times are those of its clock, in seconds."""

    free: asyncio.Semaphore
    starting: asyncio.Lock
    pace: HostPace
    next_start: float = 0.0
    last_sent: float = float("-inf")
    asked_for_s: float = 0.0
    slowest_s: float = 0.0
    slowest_why: str = ""
    longer_s: float = 0.0


@dataclass(slots=True)
class HostHealth:
    """How a host is doing, kept by `wadi.crawl.health`: failures and refusals in a row, rests, until when it rests, and how many
    answers of all hosts came before its trouble began."""

    has_answered: bool = False
    failures: int = 0
    rests: int = 0
    until: float = float("-inf")
    is_probing: bool = False
    is_given_up: bool = False
    is_gone: bool = False
    answers_before: int = 0
    why: str = ""
    refusals: int = 0
    is_refusal: bool = True


@dataclass(slots=True)
class Host:
    """One host (`host:port`). `unreachable` counts the requests in a row that found nobody, kept by the client; `asked` and
    `under_way` the pages that are asked for, and those of which nothing is committed yet, kept by `wadi.crawl.flight`."""

    turns: Turns
    health: HostHealth = field(default_factory=HostHealth)
    unreachable: int = 0
    asked: int = 0
    under_way: int = 0


class Hosts(dict[str, Host]):
    """The records of all hosts, by `host:port`; a host that is looked up for the first time gets a new one."""

    def __init__(self, pace: Pace) -> None:
        super().__init__()
        self.pace = pace
        self.pauses = pauses_of(pace.pause_s, pace.slowest_s)
        """The pauses that may be kept, in seconds, the plan's first."""

    def __missing__(self, name: str) -> Host:
        turns = Turns(asyncio.Semaphore(self.pace.parallel), asyncio.Lock(), new_pace(self.pauses))
        host = self[name] = Host(turns)
        return host
