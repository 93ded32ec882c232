"""The engine: takes waiting pages in reading order, fetches, extracts, commits, until nothing is left or it is enough.

Everything that it decides from is in the run's database; what is in flight is only in memory, so a run that dies has
lost nothing that was committed.
"""

from __future__ import annotations

import asyncio
import hashlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from enum import StrEnum

from wadi.crawl.events import Event, HostGivenUp, PageDone, PageFailed, Progress, Sent
from wadi.crawl.extract import Extract, extract
from wadi.crawl.kinds import Kind
from wadi.problems import Place, Problem
from wadi.store.archive import Archive
from wadi.store.outcome import Outcome, Role, State
from wadi.store.state import Page, RunState, number_in_listing
from wadi.web.client import Client
from wadi.web.messages import FetchFailed, Reply

_FAILURES_TO_GIVE_UP = 5
_MOST_IN_FLIGHT = 64


class End(StrEnum):
    """Why a crawl ended."""

    COMPLETE = "complete"
    ENOUGH_ROWS = "rows limit"
    ENOUGH_PAGES = "pages limit"
    UNREACHABLE = "host unreachable"


@dataclass(frozen=True)
class Task:
    """What the engine works on: the compiled plan and its limits. `expect_places` say where `expect` stands, by kind."""

    kinds: Mapping[str, Kind]
    parallel: int
    pages: int | None = None
    enough: Callable[[], bool] | None = None
    expect_places: Mapping[str, str] | None = None


@dataclass(frozen=True, slots=True)
class _Fetched:
    page: Page
    reply: Reply | None
    failure: FetchFailed | None


class Engine:
    """One crawl over one run."""

    def __init__(
        self, task: Task, state: RunState, archive: Archive, client: Client, report: Callable[[Event], None]
    ) -> None:
        self._task = task
        self._state = state
        self._archive = archive
        self._client = client
        self._report = report
        self._in_flight: dict[asyncio.Task[_Fetched], Page] = {}
        self._counts = state.counts()
        self._given_up: set[str] = set()

    async def crawl(self) -> End:
        """Ask for pages until the end. On cancellation what is in flight is dropped and stays waiting."""
        try:
            while True:
                self._send_more()
                if not self._in_flight:
                    return self._end()
                finished, _ = await asyncio.wait(self._in_flight, return_when=asyncio.FIRST_COMPLETED)
                self._settle([task.result() for task in finished if self._in_flight.pop(task)])
                if self._task.enough and self._task.enough():
                    return End.ENOUGH_ROWS
        finally:
            await self._drop_in_flight()

    def _end(self) -> End:
        if self._given_up or self._client.any_unreachable():
            return End.UNREACHABLE
        return End.ENOUGH_PAGES if self._counts[State.WAITING] else End.COMPLETE

    def _send_more(self) -> None:
        """Put as many waiting pages in flight as there is room for."""
        room = min(self._task.parallel, _MOST_IN_FLIGHT) - len(self._in_flight)
        if room <= 0:
            return
        busy = {page.id for page in self._in_flight.values()}
        for page in self._state.waiting(len(busy) + room, self._given_up):
            if page.id in busy:
                continue
            if room == 0 or not self._may_send(page):
                break
            self._report(Sent(page.kind, page.request.url))
            self._in_flight[asyncio.create_task(self._fetch(page))] = page
            room -= 1
        self._report_progress()

    def _may_send(self, page: Page) -> bool:
        """Whether the page is certain to be among the first that the limit allows.

        Pages before it in reading order that may lead to others are waited for, since those would come first.
        """
        if self._task.pages is None:
            return True
        asked = self._counts[State.DONE] + self._counts[State.FAILED] + len(self._in_flight)
        if asked >= self._task.pages:
            return False
        before = (other for other in self._in_flight.values() if other.route < page.route)
        return all(self._task.kinds[other.kind].is_leaf for other in before)

    async def _fetch(self, page: Page) -> _Fetched:
        try:
            return _Fetched(page, await self._client.fetch(page.request), None)
        except FetchFailed as failure:
            return _Fetched(page, None, failure)

    def _settle(self, fetched: list[_Fetched]) -> None:
        """Archive, extract and commit what has come, in one transaction; then tell."""
        outcomes = [self._outcome(one) for one in fetched]
        self._archive.sync()
        added = self._state.commit(outcomes)
        self._counts[State.WAITING] += added - len(outcomes)
        for outcome in outcomes:
            self._counts[outcome.state] += 1
        for one, outcome in zip(fetched, outcomes, strict=True):
            self._report(_told(one.page, outcome))
            self._watch_host(one)
        self._report_progress()

    def _outcome(self, fetched: _Fetched) -> Outcome:
        page, failure = fetched.page, fetched.failure
        if failure is not None and self._is_end(page, failure):
            assert failure.reply is not None
            return Outcome(page.id, failure.reply, self._archive.append(failure.reply))
        if failure is not None:
            location = self._archive.append(failure.reply) if failure.reply else None
            problem = Problem(failure.cause, failure.what)
            return Outcome(page.id, failure.reply, location, failure=problem)
        reply = fetched.reply
        assert reply is not None
        location = self._archive.append(reply)
        places = self._task.expect_places or {}
        kinds = self._task.kinds
        number = number_in_listing(page.route)
        found = extract(reply, kinds[page.kind], kinds, places.get(page.kind, ""), number=number)
        digest = _digest(found) if kinds[page.kind].next is not None else None
        if digest is not None and number and self._state.is_repeated(page, digest):
            note = Problem("rows-again", "the listing shows the same rows again: it ends here", Place(reply.url))
            return Outcome(page.id, reply, location, total=found.total, notes=(*found.notes, note))
        links, notes = found.links, found.notes
        circle = [
            link
            for link in links
            if link.role is Role.NEXT and self._state.is_in_listing(page, link.kind, link.request)
        ]
        if circle:
            links = tuple(link for link in links if link not in circle)
            what = f"the next link leads back to {circle[0].request.url}, which the listing has had: it ends here"
            notes = (*notes, Problem("page-again", what, Place(reply.url)))
        return Outcome(page.id, reply, location, found.tables, links, found.total, found.failure, notes, digest)

    def _is_end(self, page: Page, failure: FetchFailed) -> bool:
        """Whether a status says that the listing is at its end, which is no failure."""
        following = self._task.kinds[page.kind].next
        status = failure.reply.status if failure.reply else None
        return following is not None and number_in_listing(page.route) > 0 and status in following.plan.end_status

    def _watch_host(self, fetched: _Fetched) -> None:
        host = fetched.page.request.host
        failures = self._client.unreachable(host)
        if failures >= _FAILURES_TO_GIVE_UP and host not in self._given_up:
            self._given_up.add(host)
            self._report(HostGivenUp(host, failures))

    def _report_progress(self) -> None:
        in_flight = len(self._in_flight)
        waiting = self._counts[State.WAITING] - in_flight
        self._report(Progress(self._counts[State.DONE], self._counts[State.FAILED], in_flight, waiting))

    async def _drop_in_flight(self) -> None:
        for task in self._in_flight:
            task.cancel()
        await asyncio.gather(*self._in_flight, return_exceptions=True)
        self._in_flight.clear()


def _digest(found: Extract) -> bytes | None:
    """What tells the rows of a page from those of another; None when it has none."""
    rows = [table.rows for table in found.tables if table.rows and not table.completes]
    return hashlib.blake2b(repr(rows).encode(), digest_size=16).digest() if rows else None


def _told(page: Page, outcome: Outcome) -> Event:
    url = page.request.url
    if outcome.failure is not None:
        return PageFailed(page.kind, url, outcome.failure)
    reply = outcome.reply
    assert reply is not None
    rows = sum(len(table.rows) for table in outcome.tables if not table.completes)
    problems = sum(len(table.problems) for table in outcome.tables)
    return PageDone(page.kind, url, reply.status, rows, problems, len(reply.body), reply.elapsed_s, outcome.total)
