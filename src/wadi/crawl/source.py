"""Where pages come from: a site, or what a run has stored. A source gives what it has of a page, or says why it has nothing."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from wadi.crawl.extract import Extract
from wadi.crawl.kinds import Kind
from wadi.crawl.login import Login, log_in
from wadi.crawl.previous_run import PreviousRun
from wadi.crawl.reader import DAMAGED_REPLY, Read, RecordToRead
from wadi.crawl.workers import WorkerPool
from wadi.plan.starts import FILE
from wadi.problems import Problem
from wadi.store.archive import Kept, Packed
from wadi.store.order import Numbers
from wadi.store.outcome import Purpose
from wadi.store.pages import Page, number_in_listing
from wadi.store.stored import StoredPage, StoredPages
from wadi.urls import without_secret
from wadi.web.client import Client
from wadi.web.hosts import Hosts, Pace
from wadi.web.manners import Stopped
from wadi.web.messages import FetchFailed, Reply

AHEAD = 192
_BEHIND_EACH = 4
_NO_PAGE = frozenset(
    {"http-status", "robots", "unreachable", "timed-out", "broken-off", "too-large", "bad-coding", "redirect-loop"}
)
"""Failures that say that there was no page to read."""


@dataclass(frozen=True, slots=True)
class Fetched:
    """What came for a page: a reply, or a failure; or why the source does not have it (`absent`).

    `session` counts the log-ins before it was asked for. `found` is what was extracted from the reply, `packed` its record for
    the archive, where a worker made it; `kept` is where it stands in the archive already. `was` is what a stored page had
    failed by. `is_slow` tells that reading it here was broken off.
    """

    page: Page
    reply: Reply | None = None
    failure: FetchFailed | None = None
    session: int = 0
    found: Extract | None = None
    packed: Packed | None = None
    kept: Kept | None = None
    was: Problem | None = None
    absent: str = ""
    is_slow: bool = False


class Source:
    """What every source has; without more it has no page and asks nobody. `is_site` tells whether hosts are asked, which are to
    be spared."""

    is_site = False

    def __init__(self, hosts: Hosts) -> None:
        self.hosts = hosts

    @property
    def sent(self) -> int:
        """Requests sent so far."""
        return 0

    @property
    def pausing(self) -> int:
        """How many pages wait for the pause of their host to be over."""
        return 0

    async def fetch(self, page: Page) -> Fetched:
        """What there is of a page."""
        return Fetched(page, absent="no source has")

    async def log_in(self, login: Login) -> None:
        """Begin a session. Raises LoginFailed, Stopped."""

    def refused(self, host: str, why: str) -> None:
        """A page of the host turned out to be a refusal."""

    def any_unreachable(self) -> bool:
        """Whether the last request to some host found nobody there."""
        return False

    def stop(self) -> None:
        """Ask for nothing more."""


class SiteSource(Source):
    """The site itself, by a client; pages that it says are unchanged come from an earlier run."""

    is_site = True

    def __init__(self, client: Client, kinds: Mapping[str, Kind], earlier: PreviousRun | None = None) -> None:
        super().__init__(client.hosts)
        self._client = client
        self._kinds = kinds
        self._earlier = earlier

    @property
    def sent(self) -> int:
        return self._client.sent

    @property
    def pausing(self) -> int:
        return self._client.pausing

    async def log_in(self, login: Login) -> None:
        await log_in(self._client, login)

    def refused(self, host: str, why: str) -> None:
        self._client.refused(host, why)

    def any_unreachable(self) -> bool:
        return self._client.any_unreachable()

    def stop(self) -> None:
        self._client.stop()

    async def fetch(self, page: Page) -> Fetched:
        earlier = self._earlier
        try:
            request = self._kinds[page.kind].shown(page.request)
            if earlier is None or request.rendering is not None:
                return Fetched(page, await self._client.fetch(request))
            return Fetched(page, earlier.reply(page, await self._client.fetch(earlier.asked(page))))
        except FetchFailed as failure:
            return Fetched(page, failure=failure)
        except Stopped:
            raise asyncio.CancelledError from None


class ArchiveSource(Source):
    """What a run has stored. Its replies stand below `pages` for the run that reads them, too.

    With `workers` these read ahead what the run had behind each page that is asked for, `most_ahead` pages in all: so pages that
    follow one from the other are read side by side. That ends where most of them are asked for by nobody.
    """

    def __init__(
        self,
        stored: StoredPages,
        pages: Path,
        kinds: Mapping[str, Kind],
        workers: WorkerPool | None,
        most_ahead: int = AHEAD,
    ) -> None:
        super().__init__(Hosts(Pace()))
        self._stored = stored
        self._pages = pages
        self._kinds = kinds
        self._workers = workers
        self._most_ahead = most_ahead
        self._ahead: dict[tuple[str, str, int], _Ahead] = {}
        self._seen = Numbers()
        self._asked = self._of_use = self._in_vain = 0

    async def fetch(self, page: Page) -> Fetched:
        number = number_in_listing(page.route)
        is_read = page.purpose is Purpose.READ
        ahead = self._ahead.pop((page.kind, page.request.identity, number), None) if is_read else None
        found = ahead.found if ahead is not None else self._stored.find(page.kind, page.request, page.purpose)
        if isinstance(found, str):
            return Fetched(page, absent=found)
        if found.location is None:
            return _failed(page, found.failure or Problem("damaged-run", "no reply is stored"))
        todo = RecordToRead(page.kind, page.request, number, self._pages, found.location)
        was_page = found.failure is None or found.failure.code not in _NO_PAGE
        read = None
        if self._workers is not None and was_page and page.kind != FILE:
            self._asked += 1
            self._of_use += ahead is not None
            self._seen.add(found.id)
            self._read_ahead(found, self._workers)
            read = await (ahead.task if ahead is not None else self._workers.read(todo))
        reply, damage = (read.reply, read.damage) if read is not None else (None, "")
        if reply is None and not damage:
            try:
                reply = todo.loaded()
            except DAMAGED_REPLY as error:
                damage = f"the stored reply cannot be read: {error}"
        if reply is None:
            return _failed(page, Problem("damaged-run", damage))
        kept = Kept(found.location)
        if not was_page or reply.status >= 400:
            return _failed(page, found.failure, reply, kept)
        return Fetched(page, reply, found=read.found if read is not None else None, kept=kept)

    def _read_ahead(self, found: StoredPage, workers: WorkerPool) -> None:
        """Have the pages read that stood behind one. Those that nobody asked for while many others were are dropped."""
        if self._asked % self._most_ahead == 0:
            for key, ahead in list(self._ahead.items()):
                if ahead.task.done() and self._asked - ahead.since > _BEHIND_EACH * self._most_ahead:
                    del self._ahead[key]
                    self._in_vain += 1
        room = min(_BEHIND_EACH, self._most_ahead - len(self._ahead))
        if room <= 0 or self._in_vain > self._of_use + self._most_ahead:
            return
        for behind in self._stored.behind(found.route, room):
            if behind in self._seen:
                continue
            self._seen.add(behind)
            other = self._stored.page(behind)
            is_wanted = other.kind in self._kinds and other.kind != FILE and other.purpose is Purpose.READ
            if is_wanted and other.location is not None:
                number = number_in_listing(other.route)
                todo = RecordToRead(other.kind, other.request, number, self._pages, other.location)
                task = asyncio.create_task(workers.read(todo))
                self._ahead[other.kind, other.request.identity, number] = _Ahead(self._asked, other, task)

    async def close(self) -> None:
        """Leave what is read ahead."""
        tasks = [ahead.task for ahead in self._ahead.values()]
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)


@dataclass(frozen=True, slots=True)
class _Ahead:
    """A page that is read ahead: how many had been asked for then, the page, and what will come of it."""

    since: int
    found: StoredPage
    task: asyncio.Task[Read | None]


def _failed(page: Page, was: Problem | None, reply: Reply | None = None, kept: Kept | None = None) -> Fetched:
    """A page that had failed, as it had; without that one whose status was the end of its listing."""
    if reply is None:
        return Fetched(page, failure=FetchFailed("not-stored", was.what if was else ""), was=was)
    what = f"{without_secret(page.request.url)}: status {reply.status}"
    return Fetched(page, failure=FetchFailed("http-status", what, reply), kept=kept, was=was)
