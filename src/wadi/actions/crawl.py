"""A run crawled from where it stands to its end, and how it ended."""

from __future__ import annotations

import asyncio
import gc
import signal
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import ExitStack, closing, contextmanager
from dataclasses import asdict, replace
from typing import Any

from wadi.actions.export import name_files
from wadi.actions.readers import reading_of, workers_of
from wadi.actions.run import Run
from wadi.actions.setup import Credentials, client_of, credentials_of, login_of, session_of
from wadi.crawl.engine import PATIENCE_S, Engine
from wadi.crawl.events import Adopted, Event, LoggedIn, Stopping
from wadi.crawl.journal import Journal
from wadi.crawl.previous_run import PreviousRun
from wadi.crawl.source import SiteSource
from wadi.crawl.task import Limits, Patience, Room, Task, Tuning
from wadi.crawl.workers import WorkerPool
from wadi.problems import CrawlError, Place, Problem
from wadi.store.archive import Archive, Location, read_reply, recovered
from wadi.store.faults import as_problems
from wadi.store.folder import LOG, PAGES, RunLock
from wadi.store.outcome import End, State
from wadi.table.assemble import CertainRows
from wadi.version import __version__
from wadi.web.client import Client
from wadi.web.loops import fast_loop, in_loop

Report = Callable[[Event], None]
_COLLECTED_AFTER = 50_000
_TUNING = Tuning()


def crawl(
    run: Run,
    report: Report = lambda event: None,
    *,
    credentials: Credentials | None = None,
    stop_within_s: float = PATIENCE_S,
    make_workers: Callable[[Run], WorkerPool | None] = workers_of,
    tuning: Tuning = _TUNING,
) -> End:
    """Crawl until the end; events go to `report`. Works inside a running event loop too (a notebook's), in a thread.

    Without `credentials` a log-in takes them from the environment variables that the plan names. An interrupt takes what is
    in flight and comes within `stop_within_s` (a second one drops it), and the end says so; inside a running event loop it is
    raised. Raises CrawlError.
    """
    run.loaded.require_code()
    with as_problems(run.folder):
        run.state.set_meta("end", None)
        run.state.set_meta("measures", None)
        with with_workers(make_workers(run)) as workers:
            end: End = in_loop(_crawled(run, report, credentials, workers, stop_within_s, tuning), fast_loop)
        run.state.set_meta("end", end.value)
        name_files(run)
    gc.collect()  # what a crawl leaves is large in few objects (loop, connections), which the collector would not hurry to
    return end


async def _crawled(
    run: Run,
    report: Report,
    credentials: Credentials | None,
    workers: WorkerPool | None,
    stop_within_s: float,
    tuning: Tuning,
) -> End:
    """Crawl a run from where it stands to its end. Raises CrawlError, UsageError; RunError when it is in use."""
    session = session_of(run.loaded, run.plan_folder)
    credentials = credentials or credentials_of(run.loaded)
    with ExitStack() as held:
        held.enter_context(RunLock(run.folder))
        counted = _Counted([held.enter_context(closing(Journal(run.folder / LOG))), report])
        if workers is not None:
            held.callback(workers.close)
        earlier = held.enter_context(closing(PreviousRun(run.since))) if run.since is not None else None
        ends = run.state.archive_ends()
        left = list(recovered(run.folder / PAGES, ends))
        software = f"Wadi/{__version__}"
        archive = held.enter_context(
            closing(
                Archive(
                    run.folder / PAGES,
                    software=software,
                    known=run.state.payload,
                    reached=run.state.reached,
                    names=ends,
                )
            )
        )
        client = client_of(
            run.loaded,
            counted,
            session,
            credentials,
            folder=run.plan_folder,
            keep=archive.append,
            may_ask=run.state.is_own_host,
            robots_kept=(robots := run.state.meta("robots") or {}),
        )
        for host in run.state.hosts_asked():  # who knows how long ago the last process asked it
            client.asked_before(host, run.loaded.plan.manners.pause)
        client.goes_on(run.state.meta("paces") or {})
        try:
            task = replace(task_of(run, credentials, tuning), workers=workers)
            source = SiteSource(client, task.reading.kinds, earlier)
            engine = Engine(task, run.state, archive, source, counted)
            if taken := adopt(engine, run, left):
                counted(Adopted(taken))
            with stopped_by_signals(engine, counted, stop_within_s), fewer_collections():
                return await engine.crawl()
        finally:
            run.state.set_meta("spent", _spent(client, counted, earlier))
            run.state.set_meta("robots", robots)
            run.state.set_meta("paces", client.paces())
            await client.close()


class _Counted:
    """Tells events to all who want to hear of them, and counts what the run keeps of them."""

    def __init__(self, listeners: Sequence[Report]) -> None:
        self._listeners = listeners
        self._began = time.monotonic()
        self.log_ins = 0

    def __call__(self, event: Event) -> None:
        self.log_ins += isinstance(event, LoggedIn)
        for listener in self._listeners:
            listener(event)

    @property
    def seconds(self) -> float:
        return time.monotonic() - self._began


def _spent(client: Client, counted: _Counted, earlier: PreviousRun | None) -> dict[str, Any]:
    """What a sitting of the run took, and whom it had to ask more slowly."""
    return {
        "unchanged": earlier.unchanged if earlier is not None else None,
        "log_ins": counted.log_ins,
        "requests": client.sent,
        "seconds": round(counted.seconds, 1),
        "slowed": [asdict(host) for host in client.slowed()],
    }


def task_of(run: Run, credentials: Credentials | None, tuning: Tuning) -> Task:
    """What the engine works on."""
    loaded, plan = run.loaded, run.loaded.plan
    reading = reading_of(run)
    said, manners = plan.limits, plan.manners
    before = run.state.meta("before_limits") or {}  # what earlier sittings, which a limit had ended, asked for
    pages = said.pages and said.pages + before.get("pages", 0)
    size = said.bytes and said.bytes + before.get("bytes", 0)
    limits = Limits(pages, said.depth, said.time, size, said.requests)
    # Where hosts have pauses, many wait for each that is asked: their requests are under way and take nobody's place. A run
    # that is to end early asks for no more than it has to.
    is_limited = any(most is not None for most in (said.rows, said.pages, said.bytes, said.requests))
    waiting_for_each = tuning.waiting_for_each if manners.pause > 0 and not is_limited else 1
    room = Room(manners.parallel, manners.total * waiting_for_each, manners.hours)
    patience = Patience(4 * manners.first_wait, manners.rest, min(2, manners.retries))
    return Task(reading, room, limits, patience, enough_rows(run), login_of(loaded, credentials), tuning=tuning)


def enough_rows(run: Run) -> Callable[[], bool] | None:
    """Whether the first rows that the limit allows are certain, to be asked after each commit; None without a limit."""
    limit = run.loaded.plan.limits.rows
    if limit is None:
        return None
    rows = CertainRows(run.state, run.loaded.plan, run.tables[0], context=run.context, limit=limit)

    def are_enough() -> bool:
        rows.new()
        return rows.are_all

    return are_enough


def adopt(engine: Engine, run: Run, left: Iterable[tuple[int, Location]]) -> int:
    """Take replies that were archived and not committed; returns how many were taken."""
    taken = 0
    for number, location in left:
        page = run.state.page(number)
        if page is not None and page.state is State.WAITING:
            engine.adopt(page, replace(read_reply(run.folder / PAGES, location), request=page.request), location)
            taken += 1
    return taken


@contextmanager
def stopped_by_signals(engine: Engine, report: Callable[[Event], None], within_s: float) -> Iterator[None]:
    """While it lasts, the first SIGINT, SIGTERM or SIGHUP (a closed terminal) stops the engine softly, the second cancels the
    crawl. A signal that the process was told to ignore, as by nohup, stays ignored."""
    loop, crawling = asyncio.get_running_loop(), asyncio.current_task()
    count = 0

    def stop() -> None:
        nonlocal count
        count += 1
        if count > 1 and crawling is not None:
            crawling.cancel()
        elif count == 1:
            report(Stopping(engine.in_flight))
            engine.stop(within_s)

    asked = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
    signals = [number for number in asked if signal.getsignal(number) is not signal.SIG_IGN]
    try:
        for number in signals:
            loop.add_signal_handler(number, stop)
    except (ValueError, RuntimeError, NotImplementedError):  # not the main thread: a notebook stops it its own way
        signals = []
    try:
        yield
    except asyncio.CancelledError:
        if count < 2:
            raise
        raise KeyboardInterrupt from None
    finally:
        for number in signals:
            loop.remove_signal_handler(number)


@contextmanager
def fewer_collections() -> Iterator[None]:
    """While it lasts, the collector of cycles looks seldom: pages make hundreds of thousands of small values and hardly a cycle.

    What is loaded by now is not looked at again at all. Together that is a tenth of a crawl's time (docs/performance.md).
    """
    before = gc.get_threshold()
    gc.freeze()
    gc.set_threshold(_COLLECTED_AFTER, *before[1:])
    try:
        yield
    finally:
        gc.set_threshold(*before)
        gc.unfreeze()


@contextmanager
def with_workers(workers: WorkerPool | None) -> Iterator[WorkerPool | None]:
    """Workers while a run is crawled, where there are some. To be used outside the crawl's event loop."""
    try:
        if workers is not None:
            gc.freeze()  # what is shared with them is not written to by the collector
            workers.fork()
        yield workers
    finally:
        if workers is not None:
            workers.end()
            gc.unfreeze()


class RunStopped(CrawlError):
    """A crawl that did not go to its end. `run` is the run as far as it came, open: its tables are there, and it can be gone on
    with."""

    def __init__(self, problem: Problem, run: Run) -> None:
        super().__init__(problem)
        self.run = run


class Interrupted(KeyboardInterrupt):
    """A crawl that was interrupted. `run` is the run as far as it came, open."""

    def __init__(self, run: Run) -> None:
        super().__init__(f"interrupted; what came is in {run.folder}:  wadi resume {run.folder}  goes on")
        self.run = run


def why_stopped(run: Run) -> RunStopped | None:
    """The error that says why a crawl did not give what was asked for, as far as it was there: it found nobody, or no page came;
    None for one that went to its end, or to a limit."""
    counts = run.pages()
    if run.end is not None and not run.end.is_stopped and counts[State.DONE]:
        return None
    failure = next(run.state.failures(), None)
    first = f": {failure.problem['what']}" if failure else ""
    how = run.end or "not finished"
    what = f"the crawl did not go to its end ({how}), {counts[State.DONE]:,} pages were read{first}"
    now = f"error.run holds what came;  wadi resume {run.folder}  goes on"
    return RunStopped(Problem("run-stopped", what, Place(str(run.folder)), now=now), run)
