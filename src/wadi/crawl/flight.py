"""What is under way: pages that are asked for, pages that workers read, and those that came and wait to be committed."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Coroutine
from typing import Any, Generic, TypeVar

from wadi.store.pages import Page
from wadi.web.hosts import Hosts

_TOGETHER_S = 0.02
"""How long a page that came may wait for others, to be committed with them."""
T = TypeVar("T")


class Flight(Generic[T]):
    """The tasks of pages under way; each gives what came of its page. To be used inside a running event loop.

    `total` pages at most are asked for at a time, and `most_read` beyond those may be with workers or wait to be committed; how
    many at each host is in its record in `hosts`. With `together` those
    that come are taken in groups: half of what is under way, or all that came while the first of them waited for a fiftieth of a
    second.
    """

    def __init__(self, total: int, hosts: Hosts, *, together: bool, most_read: int = 32) -> None:
        self._total = total
        self._most_read = most_read
        self._hosts = hosts
        self._together = together
        self._tasks: dict[asyncio.Task[T], Page] = {}
        self._places: dict[asyncio.Task[T], int] = {}
        self._started = 0
        self.busy: set[int] = set()
        """The pages under way, by their numbers in the run."""
        self._asked: dict[int, str] = {}
        self._came: list[asyncio.Task[T]] = []
        self._timer: asyncio.TimerHandle | None = None
        self._is_time = False
        self._news = asyncio.Event()

    def __len__(self) -> int:
        return len(self._tasks)

    @property
    def pages(self) -> list[Page]:
        return list(self._tasks.values())

    @property
    def room(self) -> int:
        """How many more pages may be asked for."""
        return min(self._total - len(self._asked), self._total + self._most_read - len(self._tasks))

    def start(self, page: Page, work: Coroutine[Any, Any, T]) -> None:
        """Ask for a page."""
        host = self._asked[page.id] = page.request.host
        self._hosts[host].asked += 1
        self._hosts[host].under_way += 1
        task = asyncio.create_task(work)
        self._tasks[task] = page
        self._places[task] = self._started
        self._started += 1
        self.busy.add(page.id)
        task.add_done_callback(self._done)

    def answered(self, page: Page) -> None:
        """The page's host has answered, and others may be asked for while the page is read."""
        self._has_answered(page)
        if 4 * len(self._asked) <= 3 * self._total:
            self._news.set()

    def wake(self) -> None:
        """End a wait: something else has changed."""
        self._news.set()

    async def wait(self, most_s: float | None = None) -> None:
        """Wait until there is something to take or to ask for, at most so long."""
        if not self._is_worth_taking():
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(most_s):
                    await self._news.wait()
        self._news.clear()

    def take(self, *, all_that_came: bool = False) -> list[T]:
        """What came, in the order in which it was asked for; nothing while it is worth waiting for more."""
        if not all_that_came and not self._is_worth_taking():
            return []
        done, self._came = sorted(self._came, key=self._places.__getitem__), []
        self._stop_timer()
        for task in done:
            page = self._tasks.pop(task)
            del self._places[task]
            self.busy.discard(page.id)
            self._hosts[page.request.host].under_way -= 1
        return [task.result() for task in done if not task.cancelled()]

    async def drop(self) -> None:
        """Cancel all that is under way."""
        self._stop_timer()
        for task in self._tasks:
            task.remove_done_callback(self._done)
            task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)
        for page in self._tasks.values():
            self._has_answered(page)
            self._hosts[page.request.host].under_way -= 1
        self._tasks.clear()
        self._places.clear()
        self.busy.clear()

    def _done(self, task: asyncio.Task[T]) -> None:
        self._has_answered(self._tasks[task])
        self._came.append(task)
        if self._together and self._timer is None:
            self._timer = asyncio.get_running_loop().call_later(_TOGETHER_S, self._time_is_up)
        if self._is_worth_taking():
            self._news.set()

    def _has_answered(self, page: Page) -> None:
        host = self._asked.pop(page.id, None)
        if host is not None:
            self._hosts[host].asked -= 1

    def _is_worth_taking(self) -> bool:
        """Whether something came; of a group, as much as is still to come, or a first one that has waited long enough."""
        if self._together and not self._is_time:
            return bool(self._came) and 2 * len(self._came) >= len(self._tasks)
        return bool(self._came)

    def _time_is_up(self) -> None:
        self._is_time = True
        self._news.set()

    def _stop_timer(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
        self._timer, self._is_time = None, False
