"""How long the event loop was held up, by our own work or by the machine: what answers seem slower by than they are."""

from __future__ import annotations

import asyncio

_EVERY_S = 0.25


class Lag:
    """Beats in the event loop; `total_s` is how much too late the beats came, all together."""

    def __init__(self) -> None:
        self._late_s = 0.0
        self._due: float | None = None
        self._timer: asyncio.TimerHandle | None = None

    def total_s(self) -> float:
        """Seconds so far. The beat that is due now counts, though answers are heard before it."""
        loop = asyncio.get_running_loop()
        if self._due is None:
            self._beat(loop)
        assert self._due is not None
        return self._late_s + max(0.0, loop.time() - self._due)

    def close(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
        self._due = None

    def _beat(self, loop: asyncio.AbstractEventLoop) -> None:
        now = loop.time()
        if self._due is not None:
            self._late_s += max(0.0, now - self._due)
        self._due = now + _EVERY_S
        self._timer = loop.call_at(self._due, self._beat, loop)
