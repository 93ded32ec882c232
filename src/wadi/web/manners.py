"""How a host is treated: a least pause between two requests, a limit on those in flight, and a pace that adapts.

The pause counts from the moment at which a request is on the wire. It widens at once when a host struggles (429, 503,
resets, time-outs, slower answers) and narrows slowly, never below the plan's. Clock, sleep and randomness come in as
arguments, so that a schedule of starts is a list to compare.
"""

from __future__ import annotations

import asyncio
import random
import re
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from dataclasses import dataclass, replace
from typing import Literal

from wadi.web.messages import Reply

Clock = Callable[[], float]
Sleep = Callable[[float], Awaitable[None]]
Heard = Literal["good", "refused", "broken"]
"""What came of a request, for the pace: an answer; 429 or 503; none, or one that broke off."""

_FIRST_WIDENING_S = 0.5
_GOOD_TO_NARROW = 10
_SLOW_FACTOR, _SLOW_S, _KNOWN_ANSWERS = 4.0, 1.0, 10


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


@dataclass(frozen=True, slots=True)
class Mood:
    """The pace that a host has brought about: the pause, why it is so, good answers since it changed, how long answers
    usually take (seconds, of how many)."""

    pause_s: float
    why: str = ""
    good: int = 0
    usual_s: float = 0.0
    answers: int = 0


def mood_after(mood: Mood, pace: Pace, heard: Heard, elapsed_s: float = 0.0) -> Mood:
    """The pace after an answer: doubled by a refusal or a break, half as long again by a slow answer, a quarter shorter
    after ten good ones in a row."""
    if heard != "good":
        why = "the host refused a request" if heard == "refused" else "a connection broke"
        return replace(mood, pause_s=_wider(mood, pace, 2.0), why=why, good=0)
    is_known = mood.answers >= _KNOWN_ANSWERS
    if is_known and elapsed_s > max(_SLOW_S, _SLOW_FACTOR * mood.usual_s):
        why = f"answers take {elapsed_s:.1f} s, usually {mood.usual_s:.1f} s"
        return replace(mood, pause_s=_wider(mood, pace, 1.5), why=why, good=0)
    weight = 0.1 if is_known else 1 / (mood.answers + 1)
    usual = mood.usual_s + weight * (elapsed_s - mood.usual_s)
    calmer = replace(mood, usual_s=usual, answers=mood.answers + 1, good=mood.good + 1)
    if mood.pause_s <= pace.pause_s or calmer.good < _GOOD_TO_NARROW:
        return calmer
    narrower = mood.pause_s * 0.75
    if narrower <= pace.pause_s * 1.05 or narrower < 0.05:
        return replace(calmer, pause_s=pace.pause_s, why="", good=0)
    return replace(calmer, pause_s=narrower, good=0)


def _wider(mood: Mood, pace: Pace, factor: float) -> float:
    least = max(pace.pause_s * factor, _FIRST_WIDENING_S)
    return max(mood.pause_s, min(pace.slowest_s, max(mood.pause_s * factor, least)))


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
    found = dict(re.findall(r"\b(remaining|reset|r|t)\s*=\s*(\d+)", joined.lower()))
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
    found = re.match(r"\s*(\d+)", text)
    return found[1] if found else None


@dataclass(frozen=True, slots=True)
class PaceChanged:
    """An event: a host is asked at another pace from now on."""

    host: str
    pause_s: float
    why: str


@dataclass(slots=True)
class _Host:
    """What is kept for a host. `starting` is held by the request that is on its way to the wire."""

    free: asyncio.Semaphore
    starting: asyncio.Lock
    mood: Mood
    next_start: float = 0.0
    last_sent: float = float("-inf")
    widened_at: float = float("-inf")
    asked_for_s: float = 0.0


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
        self._hosts: dict[str, _Host] = {}
        self._all = asyncio.Semaphore(pace.total)
        self.pausing = 0
        """How many requests wait for the pause of their host to be over."""
        self._is_stopped = False

    def stop(self) -> None:
        """Let nobody have a turn any more: for those who wait Stopped is raised when it comes."""
        self._is_stopped = True

    def slow_down(self, host: str, pause_s: float) -> None:
        """Keep at least this pause to a host from now on, since it asks for it; a shorter one than the plan's changes nothing."""
        self._host(host).asked_for_s = pause_s

    def hold(self, host: str, seconds: float) -> None:
        """Ask a host for nothing so long."""
        state = self._host(host)
        state.next_start = max(state.next_start, self._clock() + seconds)

    def heard(self, host: str, what: Heard, elapsed_s: float = 0.0, asked_at: float | None = None) -> None:
        """Take an answer into the pace. One to a request of before the pause got wider (`asked_at`) makes it no wider: many
        may be in flight when a host stumbles once."""
        state = self._host(host)
        before, state.mood = state.mood, mood_after(state.mood, self.pace, what, elapsed_s)
        if state.mood.pause_s > before.pause_s and asked_at is not None and asked_at < state.widened_at:
            state.mood = replace(before, good=0)
        if state.mood.pause_s > before.pause_s:  # a wider pause holds for the next request already
            state.widened_at = self._clock()
            state.next_start = max(state.next_start, state.last_sent + state.mood.pause_s)
        if state.mood.pause_s != before.pause_s:
            self._report(PaceChanged(host, state.mood.pause_s, state.mood.why))

    def time(self) -> float:
        """Now, in seconds, as `asked_at` counts them."""
        return self._clock()

    def pause_s(self, host: str) -> float:
        """The least pause to a host as it stands."""
        state = self._host(host)
        return max(self.pace.pause_s, state.asked_for_s, state.mood.pause_s)

    @asynccontextmanager
    async def turn(self, host: str) -> AsyncIterator[Callable[[], None]]:
        """Wait for this host's turn; the turn lasts until the reply is whole.

        Gives a function to be called when the request is on the wire: from then on the pause counts. Raises Stopped when
        nobody is to have a turn any more.
        """
        state = self._host(host)
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

    async def _next_in_turn(self, state: _Host) -> None:
        """Wait until the host may be asked, and hold its lock `starting`."""
        self.pausing += 1
        try:
            await state.starting.acquire()
            try:
                while not self._is_stopped and (wait := state.next_start - self._clock()) > 0:
                    await self._sleep(wait)
                if self._is_stopped:
                    raise Stopped
            except BaseException:
                state.starting.release()
                raise
        finally:
            self.pausing -= 1

    def _host(self, host: str) -> _Host:
        if host not in self._hosts:
            free = asyncio.Semaphore(self.pace.parallel)
            self._hosts[host] = _Host(free, asyncio.Lock(), Mood(self.pace.pause_s))
        return self._hosts[host]
