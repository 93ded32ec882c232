"""The engine: takes waiting pages in reading order, fetches, extracts, commits, until nothing is left or it is enough.

What a page leads to, which pages wait and what came of them is in the run's database. In memory alone is what a sitting learns:
what is in flight, how hosts are doing and at what pace they are asked, which pages were put off, the session. So a run that dies
has lost nothing that was committed, and learns the rest anew.
"""

from __future__ import annotations

import asyncio
import threading
import time
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime

from wadi.crawl.agenda import Agenda
from wadi.crawl.bounds import TookTooLong, too_long
from wadi.crawl.events import Closed, Event, HostGivenUp, HostRests, Progress, PutOff, Sent, event_of
from wadi.crawl.extract import Extract
from wadi.crawl.flight import Flight
from wadi.crawl.health import Health
from wadi.crawl.login import is_login_page
from wadi.crawl.outcomes import Blocked, LoggedOut, OutcomeMaker
from wadi.crawl.sessions import Sessions
from wadi.crawl.task import Task
from wadi.crawl.workers import WorkerResult
from wadi.plan.starts import FILE
from wadi.problems import Problem, shortened
from wadi.store.archive import Archive, Kept, Location
from wadi.store.outcome import End, Outcome, Purpose, State
from wadi.store.pages import Page, number_in_listing
from wadi.store.state import CommitGivenUp, New, RunState
from wadi.web.client import Client
from wadi.web.hours import closed_for_s
from wadi.web.manners import Stopped
from wadi.web.messages import FetchFailed, Reply

_NOBODY = "unreachable"
_NO_ANSWER = frozenset({_NOBODY, "timed-out", "broken-off"})
_TROUBLE_STATUSES = frozenset({408, 425, 429, 500, 502, 503, 504})
_REFUSALS = frozenset({401, 403, 407, 451})
_MANY_LINKS = 5000
PATIENCE_S = 10.0
"""How long pages in flight are waited for when the crawl is to stop."""


@dataclass(frozen=True, slots=True)
class _Fetched:
    """What came for a page; `session` counts the log-ins before it was asked for. `worker_result` is what a worker made of it."""

    page: Page
    session: int
    reply: Reply | None
    failure: FetchFailed | None
    worker_result: WorkerResult | None = None


@dataclass(slots=True)
class _Asked:
    """Since when a page is asked for, and how often it was, tries counted."""

    since: float
    times: int = 0


class Engine:
    """One crawl over one run."""

    def __init__(
        self,
        task: Task,
        state: RunState,
        archive: Archive,
        client: Client,
        report: Callable[[Event], None],
        *,
        clock: Callable[[], float] = time.monotonic,
        now: Callable[[], datetime] = lambda: datetime.now().astimezone(),
    ) -> None:
        self._task = task
        self._reads_elsewhere = task.workers is not None and task.workers.is_for_all
        self._slow_kinds: set[str] = set()
        self._state = state
        self._outcome_maker = OutcomeMaker(task.reading, state, archive)
        self._archive = archive
        self._client = client
        self._report = report
        self._clock = clock
        self._now = now
        self._began = clock()
        self._flight: Flight[_Fetched] = Flight(task.room.total, client.hosts, together=self._reads_elsewhere)
        self._counts = Counter(state.counts())
        self._size_bytes = state.size_bytes() if task.limits.size_bytes is not None else 0
        self._health = Health(client.hosts, task.patience.rest_s)
        for host in state.hosts_answered():
            self._health.succeeded(host)
        self._asked: dict[int, _Asked] = {}
        self._agenda = Agenda(
            state.queue,
            self._flight,
            self._health,
            client.hosts,
            task.room,
            task.patience,
            many_hosts=task.tuning.many_hosts,
            most_depth=task.limits.depth,
        )
        self._sessions = Sessions(task.login, client, report)
        self._stop_at: float | None = None

    @property
    def in_flight(self) -> int:
        return len(self._flight) - self._client.pausing

    def stop(self, within_s: float = PATIENCE_S) -> None:
        """Ask for nothing more: what is in flight is taken, as far as it comes soon, and the crawl ends."""
        self._stop_at = self._clock() + within_s
        self._client.stop()
        self._flight.wake()

    def adopt(self, page: Page, reply: Reply, location: Location) -> None:
        """Take a reply that the archive has and the database does not: the process died in between."""
        kept = Kept(location)
        if reply.status >= 400:
            outcome = self._outcome_maker.failed(
                page, FetchFailed("http-status", f"status {reply.status}", reply), kept
            )
        else:
            try:
                outcome = self._outcome_maker.read(page, reply, kept=kept, within_s=self._here_s)
            except TookTooLong:
                return  # it is asked for again, and read by a worker
        self._archive.sync()
        settled = [(_Fetched(page, 0, reply, None), outcome)]
        self._committed(settled, self._state.commit([outcome], self._task.limits.depth))

    async def crawl(self) -> End:
        """Ask for pages until the end. On cancellation what is in flight is dropped and stays waiting. Raises CrawlError."""
        if self._task.enough and self._task.enough():
            return End.ENOUGH_ROWS  # a run that is gone on with may have them
        try:
            await self._sessions.begin()
            while True:
                if (end := self._spent()) is not None:
                    await self._settle(self._flight.take(all_that_came=True))
                    return end
                self._send_more()
                if not self._flight:
                    self._agenda.open_all()
                    self._send_more()
                if not self._flight:
                    if not await self._opened():
                        return self._end()
                    continue
                await self._flight.wait(self._time_left())
                await self._settle(self._flight.take())
                if self._task.enough and self._task.enough():
                    return End.ENOUGH_ROWS
        finally:
            await self._flight.drop()

    def _spent(self) -> End | None:
        """The limit that is reached, of those that hold for the crawl as a whole, or that it is to stop."""
        if self._stop_at is not None and (not self._flight or self._clock() >= self._stop_at):
            return End.INTERRUPTED
        most_s = self._task.limits.time_s
        if most_s is not None and self._clock() - self._began >= most_s:
            return End.ENOUGH_TIME
        most_requests = self._task.limits.requests
        if most_requests is not None and self._client.sent >= most_requests:
            return End.ENOUGH_REQUESTS
        most = self._task.limits.size_bytes
        return End.ENOUGH_BYTES if most is not None and self._size_bytes >= most else None

    def _time_left(self) -> float | None:
        most, now = self._task.limits.time_s, self._clock()
        ends = [*([self._began + most] if most is not None else []), *([self._stop_at] if self._stop_at else [])]
        return max(0.0, min(ends) - now) if ends else None

    def _end(self) -> End:
        if self._client.any_unreachable():
            return End.UNREACHABLE
        if self._health.given_up():
            return End.REFUSED if self._health.refuses() else End.UNREACHABLE
        if not self._counts[State.WAITING]:
            return End.COMPLETE
        most = self._task.limits.pages
        is_enough = most is not None and self._counts[State.DONE] + self._counts[State.FAILED] >= most
        return End.ENOUGH_PAGES if is_enough else End.ENOUGH_DEPTH

    def _send_more(self) -> None:
        """Put as many waiting pages in flight as there is room for, none when the crawl is to stop."""
        if self._stop_at is not None or closed_for_s(self._task.room.hours, self._now()):
            return
        # Again, since the next pages may be those of a host that has no more room now, and hide those of others.
        while chosen := self._agenda.choose(self._clock(), self._may_send):
            for page in chosen:
                self._report(Sent(page.kind, page.request.url))
                self._flight.start(page, self._fetch(page))
        self._report_progress()

    async def _opened(self) -> bool:
        """Wait until something may be asked for: for the plan's hours, for a page put off, for a host that rests. False when
        there is nothing to wait for."""
        if not self._counts[State.WAITING] or self._stop_at is not None:
            return False
        seconds = closed_for_s(self._task.room.hours, self._now())
        if seconds:
            self._report(Closed(seconds))
        else:
            if (at := self._agenda.next_at()) is None:
                return False
            seconds = max(0.0, at - self._clock()) + 0.001
        left = self._time_left()
        await self._flight.wait(min(seconds, 3600.0, *([left] if left is not None else [])))
        return True

    def _may_send(self, page: Page, chosen: int) -> bool:
        """Whether the page is certain to be among the first that the limit allows.

        Pages before it in reading order that may lead to others are waited for, since those would come first.
        """
        if self._task.limits.pages is None:
            return True
        asked = self._counts[State.DONE] + self._counts[State.FAILED] + len(self._flight) + chosen
        if asked >= self._task.limits.pages:
            return False
        open_ones = [*self._flight.pages, *self._agenda.put_off_pages]
        before = (other for other in open_ones if other.route < page.route)
        return all(self._leads_nowhere(other) for other in before)

    def _leads_nowhere(self, page: Page) -> bool:
        return page.purpose is Purpose.RECHECK or self._task.reading.kinds[page.kind].is_leaf

    async def _fetch(self, page: Page) -> _Fetched:
        session = self._sessions.count
        began = self._asked.setdefault(page.id, _Asked(self._clock()))
        began.times += 1
        earlier = self._task.earlier
        try:
            request = self._task.reading.kinds[page.kind].shown(page.request)
            if earlier is None or request.rendering is not None:
                reply = await self._client.fetch(request)
            else:
                reply = earlier.reply(page, await self._client.fetch(earlier.asked(page)))
            began.times += reply.tries - 1
            return _Fetched(page, session, reply, None, await self._worker_result(page, reply))
        except FetchFailed as failure:
            began.times += failure.tries - 1
            return _Fetched(page, session, None, failure)
        except Stopped:
            raise asyncio.CancelledError from None

    async def _worker_result(self, page: Page, reply: Reply) -> WorkerResult | None:
        """What a worker makes of a reply; None where there is no worker."""
        workers, tuning = self._task.workers, self._task.tuning
        if workers is None or page.kind == FILE:
            return None
        may_take_long = self._task.reading.kinds[page.kind].may_take_long
        most_bytes = tuning.suspect_bytes // 50 if may_take_long else tuning.suspect_bytes
        is_called = self._task.reading.kinds[page.kind].call is not None  # what others wrote may take for ever
        is_suspect = is_called or reply.size_bytes > most_bytes or page.kind in self._slow_kinds
        if not is_suspect and (not self._reads_elsewhere or len(self._flight) < tuning.worth_workers):
            return None
        self._flight.answered(page)
        self._agenda.open([page.request.host])
        if is_suspect:
            return await self._read_elsewhere(page, reply)
        usual = self._outcome_maker.usual_bytes(page.kind)
        return await workers.read(page.kind, reply, page.id, number_in_listing(page.route), usual)

    async def _read_elsewhere(self, page: Page, reply: Reply) -> WorkerResult:
        """What a worker makes of a page that would hold everything else up here."""
        assert self._task.workers is not None
        usual = self._outcome_maker.usual_bytes(page.kind)
        return await self._task.workers.read_suspect(page.kind, reply, page.id, number_in_listing(page.route), usual)

    async def _settle(self, fetched: list[_Fetched]) -> None:
        """Archive, extract and commit what has come, in one transaction; then tell. Pages that were answered without the
        session stay waiting, and the run logs in again."""
        if not fetched:
            return
        settled: list[tuple[_Fetched, Outcome]] = []
        lost = False
        self._agenda.open(fetch.page.request.host for fetch in fetched)
        for fetch in fetched:
            try:
                asked = self._asked.get(fetch.page.id)
                if (outcome := self._outcome_of(fetch)) is None:
                    continue
                settled.append((fetch, replace(outcome, tries=asked.times if asked else None)))
                self._healthy(fetch, outcome)
            except Blocked as block:
                self._wait_for(fetch.page, block.problem)
            except LoggedOut:
                if (closed := self._sessions.closed(fetch.page)) is not None:
                    settled.append((fetch, closed))
                lost = lost or fetch.session == self._sessions.count
        await self._make_durable()
        if (new := await self._commit([outcome for _, outcome in settled])) is not None:
            self._committed(settled, new)
        if lost:
            await self._sessions.begin()
        self._report_progress()

    async def _make_durable(self) -> None:
        """What is in the archive stays there, whatever happens: before anything of it is committed."""
        if not self._reads_elsewhere:
            self._archive.sync()
        else:
            # Pages come fast: others are read while the disk writes.
            await asyncio.to_thread(self._archive.sync)
        self._archive.reached("archive-synced")

    async def _commit(self, outcomes: list[Outcome]) -> New | None:
        """When the archive is durable the outcomes are one transaction. What leads to very many pages is committed in a thread,
        so that signals are heard; when the crawl is to stop and its patience is over, it is given up: None."""
        most_depth = self._task.limits.depth
        if sum(len(outcome.links) for outcome in outcomes) < _MANY_LINKS:
            return self._state.commit(outcomes, most_depth)
        give_up = threading.Event()
        commit = asyncio.to_thread(self._state.commit, outcomes, most_depth, give_up.is_set)
        committing = asyncio.create_task(commit)
        try:
            while not committing.done():
                await asyncio.wait({committing}, timeout=0.2)
                if self._stop_at is not None and self._clock() >= self._stop_at:
                    give_up.set()
            return committing.result()
        except asyncio.CancelledError:
            give_up.set()
            await asyncio.wait({committing})
            raise
        except CommitGivenUp:
            return None

    def _committed(self, settled: list[tuple[_Fetched, Outcome]], new: New) -> None:
        """Outcomes are in the database: what follows for what is to be asked, and the events that tell of them."""
        self._agenda.open(new.hosts)
        self._counts[State.WAITING] += new.pages - len(settled)
        for fetch, outcome in settled:
            self._counts[outcome.state] += 1
            self._asked.pop(fetch.page.id, None)
            self._size_bytes += outcome.reply.size_bytes if outcome.reply else 0
            if outcome.failure is None:
                self._sessions.worked()
            if outcome.elsewhere is None:
                self._report(event_of(fetch.page, outcome))

    def _outcome_of(self, fetched: _Fetched) -> Outcome | None:
        """What a page came to; None where it takes long to read: a worker reads it, and from now on others of its kind."""
        try:
            return self._outcome(fetched)
        except TookTooLong:
            assert fetched.reply is not None
        if self._task.workers is None:
            failure = too_long(fetched.reply, self._task.reading.page_time_s)
            return self._outcome(replace(fetched, worker_result=WorkerResult(Extract(failure=failure), None)))
        self._slow_kinds.add(fetched.page.kind)
        self._flight.start(fetched.page, self._read_again(fetched, fetched.reply))
        self._flight.answered(fetched.page)
        return None

    async def _read_again(self, fetched: _Fetched, reply: Reply) -> _Fetched:
        return replace(fetched, worker_result=await self._read_elsewhere(fetched.page, reply))

    def _outcome(self, fetched: _Fetched) -> Outcome:
        """What a page came to. Raises LoggedOut for one that is to be asked for again with a new session, Blocked for one
        that is put off."""
        page, login = fetched.page, self._task.login
        host = page.request.host
        may_wait = self._agenda.may_be_put_off(page)
        if fetched.failure is not None and fetched.failure.cause == _NOBODY and self._health.is_silent(host):
            may_wait = True
        if fetched.failure is not None:
            status = fetched.failure.reply.status if fetched.failure.reply else None
            if login is not None and status == 401:
                raise LoggedOut
            if is_trouble(fetched.failure) and (may_wait or self._health.is_given_up(host)):
                raise Blocked(Problem(fetched.failure.cause, fetched.failure.what))
            return self._outcome_maker.failed(page, self._with_tries(page, fetched.failure))
        assert fetched.reply is not None
        if login is not None and is_login_page(fetched.reply, login):
            raise LoggedOut
        found, packed = (
            (fetched.worker_result.found, fetched.worker_result.packed) if fetched.worker_result else (None, None)
        )
        logged_in = login is not None
        return self._outcome_maker.read(
            page,
            fetched.reply,
            logged_in=logged_in,
            may_come_right=may_wait,
            found=found,
            packed=packed,
            within_s=self._here_s,
        )

    @property
    def _here_s(self) -> float:
        """How long a page may be read here: shortly where a worker can go on, so that signals and other pages are served."""
        longest = self._task.reading.page_time_s
        return longest if self._task.workers is None else min(longest, self._task.tuning.here_s)

    def _with_tries(self, page: Page, failure: FetchFailed) -> FetchFailed:
        """A page's last failure, with how often it was asked for in how long, put off or not."""
        asked = self._asked.get(page.id)
        if asked is None or asked.times < 2:
            return failure
        often = f"; asked {asked.times} times in {self._clock() - asked.since:.0f} s"
        return FetchFailed(failure.cause, failure.what + often, failure.reply, tries=asked.times)

    def _healthy(self, fetched: _Fetched, outcome: Outcome) -> None:
        """A page was settled: its host answers, unless the page failed for good by trouble or by a block."""
        host = fetched.page.request.host
        if fetched.failure is not None and is_trouble(fetched.failure):
            has_answered = fetched.failure.reply is not None
            is_gone = fetched.failure.cause == _NOBODY
            self._troubled(host, fetched.failure.what, has_answered=has_answered, is_gone=is_gone)
        elif outcome.failure is not None and outcome.failure.code == "blocked":
            self._troubled(host, outcome.failure.what)
        elif outcome.failure is not None and _is_refusal(fetched.failure):
            self._troubled(host, outcome.failure.what, is_refused=True)
        elif outcome.failure is None or fetched.failure is not None:
            self._health.succeeded(host)

    def _wait_for(self, page: Page, problem: Problem) -> None:
        """Put a page off, and let its host rest when it fails again and again. A page that only lacks what the plan expects says
        nothing about how its host is doing."""
        seconds = self._agenda.put_off(page, self._clock())
        self._report(PutOff(page.kind, page.request.url, problem, seconds))
        if problem.code == "blocked":
            self._client.refused(page.request.host, shortened(problem.what, 80))
        if problem.code != "not-the-page":
            has_answered, is_gone = problem.code not in _NO_ANSWER, problem.code == _NOBODY
            self._troubled(page.request.host, problem.what, has_answered=has_answered, is_gone=is_gone)

    def _troubled(
        self, host: str, why: str, *, has_answered: bool = True, is_refused: bool = False, is_gone: bool = False
    ) -> None:
        was_given_up, rest_s = self._health.is_given_up(host), None
        if is_refused:
            why = f"{self._health.refused(host, why)} refusals in a row, the last: {why}"
        else:
            rest_s = self._health.failed(host, why, self._clock(), is_refusal=has_answered, is_gone=is_gone)
        if self._health.is_given_up(host) and not was_given_up:
            self._report(HostGivenUp(host, why))
        elif rest_s is not None:
            self._report(HostRests(host, rest_s, why))

    def _report_progress(self) -> None:
        in_flight = self.in_flight
        waiting = self._counts[State.WAITING] - in_flight
        done, failed = self._counts[State.DONE], self._counts[State.FAILED]
        self._report(Progress(done, failed, in_flight, waiting, self._client.sent, self._size_bytes))


def _is_refusal(failure: FetchFailed | None) -> bool:
    """Whether a host says that it does not want to be asked by us."""
    return failure is not None and failure.reply is not None and failure.reply.status in _REFUSALS


def is_trouble(failure: FetchFailed) -> bool:
    """Whether a failure is one that may pass: nobody there, no whole answer, or a status that says so."""
    return failure.cause in _NO_ANSWER or (failure.reply is not None and failure.reply.status in _TROUBLE_STATUSES)
