"""How fast one host is asked: a least pause between the starts of two requests, and a limit on those in flight.

Clock and sleep come in as arguments, so that a schedule of starts is a list to compare.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from dataclasses import dataclass

Clock = Callable[[], float]
Sleep = Callable[[float], Awaitable[None]]


@dataclass(frozen=True, slots=True)
class Pace:
    """What the plan asks for, per host: seconds between two starts, requests in flight."""

    pause_s: float = 1.0
    parallel: int = 2


@dataclass(slots=True)
class _Host:
    free: asyncio.Semaphore
    next_start: float = 0.0


class Throttle:
    """Keeps the pace for every host apart. One for each client."""

    def __init__(self, pace: Pace, *, clock: Clock, sleep: Sleep) -> None:
        self.pace = pace
        self._clock = clock
        self._sleep = sleep
        self._hosts: dict[str, _Host] = {}
        self._asked_for: dict[str, float] = {}

    def slow_down(self, host: str, pause_s: float) -> None:
        """Keep at least this pause to a host from now on, since it asks for it; a shorter one than the plan's changes nothing."""
        self._asked_for[host] = pause_s

    @asynccontextmanager
    async def turn(self, host: str) -> AsyncIterator[None]:
        """Wait for this host's turn; the turn lasts until the reply is whole."""
        state = self._hosts.setdefault(host, _Host(asyncio.Semaphore(self.pace.parallel)))
        async with state.free:
            now = self._clock()
            start, state.next_start = booked(
                now, state.next_start, max(self.pace.pause_s, self._asked_for.get(host, 0.0))
            )
            if start > now:
                await self._sleep(start - now)
            yield


def booked(now: float, next_start: float, pause_s: float) -> tuple[float, float]:
    """When a request may start, and the earliest start of the one after it."""
    start = max(now, next_start)
    return start, start + pause_s
