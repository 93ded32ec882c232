"""The engine: takes waiting pages in reading order from a source, extracts, commits, until nothing is left or it is enough.

It is the one loop for a crawl, for stored pages that are read again, and for a rehearsal: these differ in their source, and in
what chooses the next pages. What a page leads to, which pages wait and what came of them is in the run's database. In memory
alone is what a sitting learns: what is in flight, how hosts are doing and at what pace they are asked, which pages were put off,
the session. So a run that dies has lost nothing that was committed, and learns the rest anew.
"""

from __future__ import annotations

import asyncio
import threading
import time
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime

from wadi.crawl.agenda import Agenda, Choice
from wadi.crawl.bounds import TookTooLong, extract_within, too_long
from wadi.crawl.events import Closed, Event, HostGivenUp, HostRests, Progress, PutOff, Sent, event_of
from wadi.crawl.extract import Extract
from wadi.crawl.flight import Flight
from wadi.crawl.health import Health
from wadi.crawl.judge import (
    NO_ANSWER,
    NOBODY,
    Absent,
    Judgement,
    LoggedOut,
    ReadElsewhere,
    Settled,
    Standing,
    is_refusal,
    is_trouble,
    judge,
)
from wadi.crawl.judge import PutOff as ToPutOff
from wadi.crawl.outcomes import OutcomeMaker
from wadi.crawl.reader import ReplyToRead
from wadi.crawl.sessions import Sessions
from wadi.crawl.source import Fetched, Source
from wadi.crawl.task import Task
from wadi.plan.starts import FILE
from wadi.problems import shortened
from wadi.store.archive import Archive, Kept, Location
from wadi.store.outcome import End, Outcome, Purpose, State
from wadi.store.pages import Page, number_in_listing
from wadi.store.state import CommitGivenUp, New, RunState
from wadi.web.hours import closed_for_s
from wadi.web.messages import FetchFailed, Reply

PATIENCE_S = 10.0
"""How long pages in flight are waited for when the crawl is to stop."""


@dataclass(slots=True)
class _Asked:
    """Since when a page is asked for, and how often it was, tries counted."""

    since: float
    times: int = 0


class Engine:
    """One crawl over one run. `choice` chooses the pages that come next (default: all that wait, as their hosts have room);
    `settled` is told of each page with what it came to."""

    def __init__(
        self,
        task: Task,
        state: RunState,
        archive: Archive,
        source: Source,
        report: Callable[[Event], None],
        *,
        choice: Choice | None = None,
        settled: Callable[[Fetched, Outcome], None] = lambda fetched, outcome: None,
        clock: Callable[[], float] = time.monotonic,
        now: Callable[[], datetime] = lambda: datetime.now().astimezone(),
    ) -> None:
        self._task = task
        self._reads_elsewhere = task.workers is not None and task.workers.is_for_all
        self._slow_kinds: set[str] = set()
        self._usual_bytes: dict[str, float] = {}
        self._in_vain: Counter[str] = Counter()
        self.absent: Counter[str] = Counter()
        """How many pages the source does not have, by reason."""
        self._state = state
        self._outcome_maker = OutcomeMaker(task.reading, state, archive)
        self._archive = archive
        self._source = source
        self._report = report
        self._clock = clock
        self._now = now
        self._began = clock()
        self._flight: Flight[Fetched] = Flight(
            task.room.total, source.hosts, together=self._reads_elsewhere, most_read=task.tuning.most_read
        )
        self._counts = Counter(state.counts())
        self._size_bytes = state.size_bytes() if task.limits.size_bytes is not None else 0
        self._health = Health(source.hosts, task.patience.rest_s)
        for host in state.hosts_answered():
            self._health.succeeded(host)
        self._asked: dict[int, _Asked] = {}
        self._settled = settled
        self._agenda: Choice = choice or Agenda(
            state.queue,
            self._flight,
            self._health,
            source.hosts,
            task.room,
            task.patience,
            many_hosts=task.tuning.many_hosts,
            most_depth=task.limits.depth,
        )
        self._sessions = Sessions(task.login, source, report)
        self._stop_at: float | None = None

    @property
    def in_flight(self) -> int:
        return len(self._flight) - self._source.pausing

    def stop(self, within_s: float = PATIENCE_S) -> None:
        """Ask for nothing more: what is in flight is taken, as far as it comes soon, and the crawl ends."""
        self._stop_at = self._clock() + within_s
        self._source.stop()
        self._flight.wake()

    def adopt(self, page: Page, reply: Reply, location: Location) -> None:
        """Take a reply that the archive has and the database does not: the process died in between."""
        fetched = Fetched(page, reply, kept=Kept(location))
        if reply.status >= 400:
            failure = FetchFailed("http-status", f"status {reply.status}", reply)
            fetched = Fetched(page, failure=failure, kept=Kept(location))
        fetched = self._read_here(fetched)
        if fetched.is_slow:
            return  # it is asked for again, and read by a worker
        self._archive.sync()
        outcome = self._outcome_maker.outcome(fetched)
        self._committed([(fetched, outcome)], self._state.commit([outcome], self._task.limits.depth))

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
                        if self._source.any_unreachable():
                            return End.UNREACHABLE
                        if self._health.given_up():
                            return End.REFUSED if self._health.refuses() else End.UNREACHABLE
                        if not self._counts[State.WAITING]:
                            return End.COMPLETE
                        most = self._task.limits.pages
                        is_enough = most is not None and self._counts[State.DONE] + self._counts[State.FAILED] >= most
                        return End.ENOUGH_PAGES if is_enough else End.ENOUGH_DEPTH
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
        if most_requests is not None and self._source.sent >= most_requests:
            return End.ENOUGH_REQUESTS
        most = self._task.limits.size_bytes
        return End.ENOUGH_BYTES if most is not None and self._size_bytes >= most else None

    def _time_left(self) -> float | None:
        most, now = self._task.limits.time_s, self._clock()
        ends = [*([self._began + most] if most is not None else []), *([self._stop_at] if self._stop_at else [])]
        return max(0.0, min(ends) - now) if ends else None

    def _send_more(self) -> None:
        """Put as many waiting pages in flight as there is room for, none when the crawl is to stop."""
        if self._stop_at is not None or closed_for_s(self._task.room.hours, self._now()):
            return
        # Again, since the next pages may be those of a host that has no more room now, and hide those of others.
        while chosen := self._agenda.choose(self._clock(), self._may_send):
            for page in chosen:
                if self._source.is_site:
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

    async def _fetch(self, page: Page) -> Fetched:
        """What the source has of a page, read by a worker where one is of use."""
        session = self._sessions.count
        asked = self._asked.setdefault(page.id, _Asked(self._clock()))
        asked.times += 1
        fetched = await self._source.fetch(page)
        fetched = replace(fetched, session=session) if session else fetched
        tries = fetched.reply.tries if fetched.reply is not None else fetched.failure.tries if fetched.failure else 1
        asked.times += tries - 1
        if fetched.reply is None or fetched.found is not None or page.kind == FILE or self._task.workers is None:
            return fetched
        tuning, kind = self._task.tuning, self._task.reading.kinds[page.kind]
        most_bytes = tuning.suspect_bytes // 50 if kind.may_take_long else tuning.suspect_bytes
        is_called = kind.call is not None  # what others wrote may take for ever
        is_suspect = is_called or fetched.reply.size_bytes > most_bytes or page.kind in self._slow_kinds
        if not is_suspect and (not self._reads_elsewhere or len(self._flight) < tuning.worth_workers):
            return fetched
        self._flight.answered(page)
        self._agenda.open([page.request.host])
        return await self._read_elsewhere(fetched, is_suspect=is_suspect)

    async def _read_elsewhere(self, fetched: Fetched, *, is_suspect: bool) -> Fetched:
        """A page that a worker reads; one that is suspect would hold everything else up here."""
        page, reply, workers = fetched.page, fetched.reply, self._task.workers
        assert reply is not None
        assert workers is not None
        todo = ReplyToRead(page.kind, reply, page.id, number_in_listing(page.route), self._usual_of(page))
        read = await workers.read(todo, is_suspect=is_suspect)
        return fetched if read is None else replace(fetched, found=read.found, packed=read.packed, is_slow=False)

    def _usual_of(self, page: Page) -> float | None:
        """The size of good pages of a kind so far, by which blocks are known: where a site is asked, which may block us."""
        return self._usual_bytes.get(page.kind) if self._source.is_site else None

    def _read_here(self, fetched: Fetched) -> Fetched:
        """A page that is read now, where nobody has read it: shortly where a worker can go on, so that signals and other pages
        are served."""
        page, reply, reading = fetched.page, fetched.reply, self._task.reading
        if reply is None or fetched.found is not None or page.kind == FILE:
            return fetched
        has_workers = self._task.workers is not None
        most_s = min(reading.page_time_s, self._task.tuning.here_s) if has_workers else reading.page_time_s
        kind, place = reading.kinds[page.kind], reading.expect_places.get(page.kind, "")
        number, usual = number_in_listing(page.route), self._usual_of(page)
        try:
            found = extract_within(
                most_s, reply, kind, reading.kinds, place,
                number=number, most_rows=reading.most_rows, usual_bytes=usual,
            )  # fmt: skip
        except TookTooLong:
            if has_workers:
                return replace(fetched, is_slow=True)
            found = Extract(failure=too_long(reply, most_s))
        return replace(fetched, found=found)

    async def _settle(self, arrived: list[Fetched]) -> None:
        """Archive and commit what has come, in one transaction; then tell. Pages that were answered without the session stay
        waiting, and the run logs in again."""
        if not arrived:
            return
        settled: list[tuple[Fetched, Outcome]] = []
        lost = False
        self._agenda.open(fetched.page.request.host for fetched in arrived)
        for fetched in map(self._read_here, arrived):
            page = fetched.page
            match self._judged(fetched):
                case Settled():
                    settled.append((fetched, self._outcome_of(fetched)))
                case Absent(why):
                    self.absent[why] += 1
                    settled.append((fetched, Outcome(page.id, is_absent=True)))
                case ToPutOff(problem):
                    if fetched.reply is not None:
                        self._archive.append(fetched.reply)
                    # Put a page off, and let its host rest when it fails again and again.
                    seconds = self._agenda.put_off(page, self._clock())
                    self._report(PutOff(page.kind, page.request.url, problem, seconds))
                    if problem.code == "blocked":
                        self._source.refused(page.request.host, shortened(problem.what, 80))
                    if problem.code != "not-the-page":
                        has_answered, is_gone = problem.code not in NO_ANSWER, problem.code == NOBODY
                        self._troubled(page.request.host, problem.what, has_answered=has_answered, is_gone=is_gone)
                case LoggedOut():
                    if (closed := self._sessions.closed(page)) is not None:
                        settled.append((fetched, closed))
                    lost = lost or fetched.session == self._sessions.count
                case ReadElsewhere():  # and from now on others of its kind
                    self._slow_kinds.add(page.kind)
                    self._flight.start(page, self._read_elsewhere(fetched, is_suspect=True))
                    self._flight.answered(page)
        for fetched, outcome in settled:
            self._settled(fetched, outcome)
        await self._make_durable()
        if (new := await self._commit([outcome for _, outcome in settled])) is not None:
            self._committed(settled, new)
        if lost:
            await self._sessions.begin()
        self._report_progress()

    def _judged(self, fetched: Fetched) -> Judgement:
        """The judgement on a page, as things stand with it, its kind and its host."""
        page, found = fetched.page, fetched.found
        if found is not None and found.blocked and not found.lost:
            self._in_vain[page.kind] += 1
        elif found is not None and found.failure is None and page.purpose is Purpose.READ:
            self._in_vain.pop(page.kind, None)
        may_wait = self._source.is_site and self._agenda.may_be_put_off(page)
        if fetched.failure is not None and fetched.failure.cause == NOBODY:
            may_wait = may_wait or self._health.is_silent(page.request.host)
        is_given_up = self._health.is_given_up(page.request.host)
        return judge(fetched, Standing(may_wait, is_given_up, self._task.login, self._in_vain[page.kind]))

    def _outcome_of(self, fetched: Fetched) -> Outcome:
        """What a page that is settled came to; and what that says of its kind and its host."""
        page, asked = fetched.page, self._asked.get(fetched.page.id)
        if fetched.failure is not None and asked is not None and asked.times > 1:
            failure = fetched.failure
            often = f"; asked {asked.times} times in {self._clock() - asked.since:.0f} s"
            failure = FetchFailed(failure.cause, failure.what + often, failure.reply, tries=asked.times)
            fetched = replace(fetched, failure=failure)
        outcome = self._outcome_maker.outcome(fetched)
        if fetched.found is not None and fetched.found.failure is None and page.purpose is Purpose.READ:
            size = fetched.reply.size_bytes if fetched.reply is not None else 0
            usual = self._usual_bytes.get(page.kind)
            self._usual_bytes[page.kind] = size if usual is None else 0.9 * usual + 0.1 * size
        if self._source.is_site:
            self._healthy(fetched, outcome)
            outcome = replace(outcome, tries=asked.times if asked else None)
        return outcome

    async def _make_durable(self) -> None:
        """What is in the archive stays there, whatever happens: before anything of it is committed."""
        if self._archive.is_synced:
            return
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
        if sum(len(outcome.links) for outcome in outcomes) < self._task.tuning.many_links:
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

    def _committed(self, settled: list[tuple[Fetched, Outcome]], new: New) -> None:
        """Outcomes are in the database: what follows for what is to be asked, and the events that tell of them."""
        self._agenda.open(new.hosts)
        self._counts[State.WAITING] += new.pages - len(settled)
        for fetch, outcome in settled:
            self._counts[outcome.state] += 1
            self._asked.pop(fetch.page.id, None)
            self._size_bytes += outcome.reply.size_bytes if outcome.reply else 0
            if outcome.failure is None:
                self._sessions.worked()
            if outcome.state is not State.ELSEWHERE:
                self._report(event_of(fetch.page, outcome))

    def _healthy(self, fetched: Fetched, outcome: Outcome) -> None:
        """A page was settled: its host answers, unless the page failed for good by trouble or by a block."""
        host = fetched.page.request.host
        if fetched.failure is not None and is_trouble(fetched.failure):
            has_answered = fetched.failure.reply is not None
            is_gone = fetched.failure.cause == NOBODY
            self._troubled(host, fetched.failure.what, has_answered=has_answered, is_gone=is_gone)
        elif outcome.failure is not None and outcome.failure.code == "blocked":
            self._troubled(host, outcome.failure.what)
        elif outcome.failure is not None and is_refusal(fetched.failure):
            self._troubled(host, outcome.failure.what, is_refused=True)
        elif outcome.failure is None or fetched.failure is not None:
            self._health.succeeded(host)

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
        self._report(Progress(done, failed, in_flight, waiting, self._source.sent, self._size_bytes))
