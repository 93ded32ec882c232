"""How a host is treated: a least pause between two requests, a limit on those in flight, and a pace that adapts.

The pause counts from the moment at which a request is on the wire. How long it is says the law in `wadi.web.pace`, never
shorter than the plan's. Clock, sleep and randomness come in as arguments, so that a schedule of starts is a list to compare.
"""

from __future__ import annotations

import asyncio
import random
import re
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from dataclasses import dataclass, replace

from wadi.web.hosts import Hosts, Pace, Turns
from wadi.web.messages import Reply
from wadi.web.pace import Heard, pace_after

Clock = Callable[[], float]
Sleep = Callable[[float], Awaitable[None]]
_WORTH_TELLING_S = 1.0


@dataclass(frozen=True, slots=True)
class Quota:
    """What a host says about the requests that it still grants: how many, and in how many seconds they are renewed."""

    left: int
    renewed_s: float


def quota_of(reply: Reply, now: float) -> Quota | None:
    """The quota in the header fields that sites send (`RateLimit`, `RateLimit-*`, `X-RateLimit-*`); None without them.

    `now` is in seconds since 1970: some sites say when in that count, others how many seconds from now.
    """
    if not any("limit" in name.lower() for name, _ in reply.headers):
        return None
    joined = reply.header("ratelimit")
    found = dict(re.findall(r"\b(remaining|reset|r|t)\s*=\s*(\d{1,15})(?!\d)", joined.lower()))
    left = found.get("remaining", found.get("r"))
    reset = found.get("reset", found.get("t"))
    for start in ("ratelimit-", "x-ratelimit-", "x-rate-limit-"):
        left = left if left is not None else _number(reply.header(f"{start}remaining"))
        reset = reset if reset is not None else _number(reply.header(f"{start}reset"))
    if left is None or reset is None:
        return None
    seconds = float(reset)
    return Quota(int(left), max(0.0, seconds - now if seconds > 1e9 else seconds))


def _number(text: str) -> str | None:
    found = re.match(r"\s*(\d{1,15})(?!\d)", text)
    return found[1] if found else None


@dataclass(frozen=True, slots=True)
class PaceChanged:
    """An event: a host is asked at another pace from now on."""

    host: str
    pause_s: float
    why: str


@dataclass(frozen=True, slots=True)
class Slowed:
    """How much more slowly a host was asked than at the plan's pace: the longest pause, why, and how much longer it took in all
    (seconds)."""

    host: str
    slowest_s: float
    why: str
    longer_s: float


class Stopped(Exception):
    """Nothing is asked any more."""


class Throttle:
    """Keeps the pace for every host apart. One for each client."""

    def __init__(
        self,
        pace: Pace,
        *,
        clock: Clock,
        sleep: Sleep,
        rng: Callable[[], float] = random.random,
        report: Callable[[PaceChanged], None] = lambda event: None,
    ) -> None:
        self.pace = pace
        self._clock = clock
        self._sleep = sleep
        self._rng = rng
        self._report = report
        self.hosts = Hosts(pace)
        self._all = asyncio.Semaphore(pace.total)
        self.pausing = 0
        """How many requests wait for the pause of their host to be over."""
        self._is_stopped = False

    def stop(self) -> None:
        """Let nobody have a turn any more: for those who wait Stopped is raised when it comes."""
        self._is_stopped = True

    def slow_down(self, host: str, pause_s: float) -> None:
        """Keep at least this pause to a host from now on, since it asks for it; a shorter one than the plan's changes nothing."""
        self.hosts[host].turns.asked_for_s = pause_s

    def asked_before(self, host: str, seconds: float) -> None:
        """Another process asked the host just now, for all that is known: its pause is kept."""
        state = self.hosts[host].turns
        state.last_sent = self._clock()
        state.next_start = max(state.next_start, state.last_sent + seconds)

    def paces(self) -> dict[str, tuple[float, int]]:
        """The hosts that may not be asked at once, or are asked more slowly than at the plan's pace: in how many seconds they may
        be asked, and which pause is kept."""
        now = self._clock()
        found = {name: (host.turns.next_start - now, host.turns.pace.step) for name, host in self.hosts.items()}
        return {name: (max(0.0, wait), step) for name, (wait, step) in found.items() if wait > 0 or step}

    def goes_on(self, host: str, wait_s: float, step: int) -> None:
        """Go on with the pace of an earlier sitting: ask for nothing so long, and keep that pause."""
        state = self.hosts[host].turns
        state.next_start = max(state.next_start, self._clock() + wait_s)
        state.pace = replace(state.pace, step=max(0, min(step, len(self.hosts.pauses) - 1)))

    def hold(self, host: str, seconds: float, why: str) -> None:
        """Ask a host for nothing so long."""
        state = self.hosts[host].turns
        state.next_start = max(state.next_start, self._clock() + seconds)
        if seconds > state.slowest_s:
            state.slowest_s, state.slowest_why = seconds, why

    def heard(self, host: str, what: Heard, seconds: float = 0.0, *, step: int | None = None, why: str = "") -> None:
        """Take an answer into the pace: what came, after how many seconds, to a request that was sent when `step` was kept (the
        step now, without it); `why` says what was refused."""
        state = self.hosts[host].turns
        before = self.hosts.pauses[state.pace.step]
        state.pace = pace_after(state.pace, self.hosts.pauses, what, seconds, step=step, why=why)
        pause = self.hosts.pauses[state.pace.step]
        if pause > before:  # a longer pause holds for the next request already
            state.next_start = max(state.next_start, state.last_sent + pause)
            if pause > state.slowest_s:
                state.slowest_s, state.slowest_why = pause, state.pace.why
        if pause != before:
            self._report(PaceChanged(host, pause, state.pace.why))

    def step(self, host: str) -> int:
        """Which pause is kept to a host now, for `heard`."""
        return self.hosts[host].turns.pace.step

    def pause_s(self, host: str) -> float:
        """The least pause to a host as it stands."""
        state = self.hosts[host].turns
        return max(self.pace.pause_s, state.asked_for_s, self.hosts.pauses[state.pace.step])

    def slowed(self) -> list[Slowed]:
        """The hosts that were asked more slowly than at the plan's pace, the slowest first."""
        found = [
            Slowed(name, host.turns.slowest_s, host.turns.slowest_why, host.turns.longer_s)
            for name, host in self.hosts.items()
            if host.turns.longer_s >= _WORTH_TELLING_S
        ]
        return sorted(found, key=lambda host: -host.longer_s)

    @asynccontextmanager
    async def turn(self, host: str) -> AsyncIterator[Callable[[], None]]:
        """Wait for this host's turn; the turn lasts until the reply is whole.

        Gives a function to be called when the request is on the wire: from then on the pause counts. Raises Stopped when
        nobody is to have a turn any more.
        """
        state = self.hosts[host].turns
        async with state.free:
            if self._is_stopped:
                raise Stopped
            if self.pause_s(host) <= 0 and state.next_start <= self._clock():
                async with self._all:
                    state.last_sent = self._clock()
                    yield lambda: None
                return
            await self._next_in_turn(state)
            is_held = True

            def sent() -> None:
                nonlocal is_held
                if is_held:
                    is_held = False
                    pause = self.pause_s(host) * (1.0 + self.pace.jitter * self._rng())
                    state.last_sent = self._clock()
                    state.next_start = max(state.next_start, state.last_sent + pause)
                    state.starting.release()

            try:
                # Requests whose pause is not over take nobody's place among those in flight.
                async with self._all:
                    yield sent
            finally:
                sent()

    async def _next_in_turn(self, state: Turns) -> None:
        """Wait until the host may be asked, and hold its lock `starting`."""
        self.pausing += 1
        try:
            await state.starting.acquire()
            try:
                began = self._clock()
                while not self._is_stopped and (wait := state.next_start - self._clock()) > 0:
                    await self._sleep(wait)
                if self._is_stopped:
                    raise Stopped
                usual = max(began, state.last_sent + max(self.pace.pause_s, state.asked_for_s))
                state.longer_s += max(0.0, self._clock() - usual)
            except BaseException:
                state.starting.release()
                raise
        finally:
            self.pausing -= 1
