"""A run crawled on many machines: its shards' turns as tasks of a Dask scheduler, on storage that all workers see.

Dask (`dask.distributed`) schedules, moves lost tasks to other workers, and has the cluster's own dashboard; what may be repeated,
lost or done twice at once is `actions.shards`' matter.
"""

from __future__ import annotations

import contextlib
import logging
import signal
import sys
import threading
import time
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from importlib.metadata import version
from pathlib import Path
from typing import TYPE_CHECKING, Any

from wadi.actions.crawl import Report, enough_rows
from wadi.actions.export import name_files
from wadi.actions.reparse import reparse_slice
from wadi.actions.run import Run
from wadi.actions.shards import TURN_S, Board, Order, Turn, progress_of, take_turn
from wadi.crawl.events import Progress, ShardProgress
from wadi.problems import Place, Problem, RunError, UsageError
from wadi.store.faults import as_problems
from wadi.store.folder import DATABASE, RunLock
from wadi.store.outcome import End, State
from wadi.store.shards import drop_unreached, put_together, shards_with_work
from wadi.store.state import RunState
from wadi.table.extras import needs
from wadi.version import __version__

if TYPE_CHECKING:
    from distributed import Client, Future

_LOOKED_EVERY_S = 0.5
_CONNECTED_WITHIN_S = 10
_WORKERS_LOOKED_EVERY_S = 5.0
_WITHOUT_WORKERS_S = 60.0
_RESULT_WITHIN_S = 30.0
"""How long the result of a turn that is over may take: the worker that has it may be gone."""
_LETS_GO_WITHIN_S = 30.0
_ROWS_TURN_S = 3.0
"""How long a turn is where it is to be seen soon whether there are enough rows."""
_SHARED = ("turbohtml", "lxml", "pydantic")
"""Libraries by which what a page gives may differ."""


def needs_dask() -> None:
    """Raise UsageError where there is no Dask."""
    needs("distributed", "a cluster", "cluster")


@contextmanager
def connected(address: str | None, workers: int | None) -> Iterator[Client]:
    """A client of the scheduler at an address, or of a cluster of so many processes of this machine. Raises UsageError."""
    needs_dask()
    import dask
    from distributed import Client, LocalCluster

    logging.getLogger("distributed").setLevel(logging.CRITICAL)  # what is lost is told of by shard
    # Workers have processes of their own, which read pages that may take long.
    with contextlib.ExitStack() as held, dask.config.set({"distributed.worker.daemon": False}):
        try:
            if address is None:
                with _interrupts_ignored():  # Ctrl-C is for this process, which ends the others
                    local = LocalCluster(  # type: ignore[no-untyped-call]
                        n_workers=workers or 1,
                        threads_per_worker=1,
                        processes=True,
                        host="127.0.0.1",
                        dashboard_address=":0",
                        silence_logs=logging.CRITICAL,
                    )
                held.enter_context(local)
                client = Client(local)  # type: ignore[no-untyped-call]
            else:
                client = Client(address, timeout=_CONNECTED_WITHIN_S)  # type: ignore[no-untyped-call]
        except (OSError, ValueError) as error:
            what = (
                f"there is no Dask scheduler at {address}: {error}"
                if address
                else f"no cluster can be started: {error}"
            )
            raise UsageError(Problem("no-cluster", what, now="dask scheduler  starts one")) from error
        yield held.enter_context(client)


@contextmanager
def _interrupts_ignored() -> Iterator[None]:
    """While it lasts, processes that are started inherit that SIGINT is ignored."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    before = signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)


def _no_worker() -> UsageError:
    return UsageError(Problem("no-cluster", "no worker of the cluster answers", now="dask worker ADDRESS  starts one"))


def check_workers(client: Client, run: Run) -> int:
    """How many turns the workers can take at a time. Raises UsageError where there are none, where they have other versions than
    this process, or do not see the run's folder."""
    threads = client.nthreads()  # type: ignore[no-untyped-call]
    if not threads:
        with contextlib.suppress(TimeoutError):
            client.wait_for_workers(1, timeout=_CONNECTED_WITHIN_S)
        threads = client.nthreads()  # type: ignore[no-untyped-call]
    if not threads:
        raise _no_worker()
    here = versions()
    token = run.folder / f"seen-{uuid.uuid4().hex}"
    token.touch()
    try:
        # A worker that is lost while it is asked is none.
        said = client.run(_what_a_worker_has, str(token.resolve()), on_error="ignore")
    finally:
        token.unlink(missing_ok=True)
    if not said:
        raise _no_worker()
    others = [worker for worker, (there, _) in said.items() if there != here]
    if others:
        there = said[others[0]][0]
        differ = [f"{name} {there.get(name)} (here {here[name]})" for name in here if there.get(name) != here[name]]
        what = f"{len(others)} of {len(said)} workers have other versions: {', '.join(differ)}"
        raise UsageError(Problem("other-version", what, Place(others[0]), now="the same versions on all of them"))
    blind = [worker for worker, (_, sees) in said.items() if not sees]
    if blind:
        what = f"{len(blind)} of {len(said)} workers do not see {run.folder.resolve()}"
        now = "--runs FOLDER  on storage that all of them have at the same place"
        raise UsageError(Problem("not-shared", what, Place(blind[0]), now=now))
    return sum(threads.values())


def versions() -> dict[str, str]:
    """What must be the same everywhere: Wadi, Python, and the libraries that read pages."""
    python = ".".join(map(str, sys.version_info[:2]))
    return {"wadi": __version__, "Python": python, **{name: version(name) for name in _SHARED}}


def _what_a_worker_has(token: str) -> tuple[dict[str, str], bool]:
    return versions(), Path(token).exists()


def crawl_on_cluster(
    run: Run,
    report: Report = lambda event: None,
    *,
    client: Client,
    turn_s: float = TURN_S,
    told: Callable[[str], None] = lambda line: None,
) -> End:
    """Crawl a run on a cluster to its end; what came is in the run as if one process had crawled it. `told` hears of shards that
    are left out. An interrupt is raised again: what came then is in the shards, and `put_together` or `go_on` takes it once the
    workers have ended. Raises UsageError."""
    # Raise UsageError for a plan that is of one process by its nature.
    plan = run.loaded.plan
    if plan.login is not None and plan.login.address is not None:
        what = "a session is of one process, and the plan logs in"
        raise UsageError(Problem("both-keys", what, now="without --cluster and --workers"))
    if plan.start.split:
        what = "the parts of split follow one from the other, which is one process's work"
        raise UsageError(Problem("both-keys", what, now="without --cluster and --workers"))
    run.loaded.require_code()
    with as_problems(run.folder), RunLock(run.folder):
        slots = check_workers(client, run)
        run.state.set_meta("end", None)
        run.state.set_meta("measures", None)
        run.state.set_meta("sitting", int(run.state.meta("sitting") or 0) + 1)
        going = _Going(run, client, slots, turn_s, report)
        try:
            end = going.to_the_end()
        except KeyboardInterrupt:
            going.stop()
            run.state.set_meta("end", End.INTERRUPTED.value)
            run.state.set_meta("spent", going.spent())
            raise
        _put_together_when_free(run.folder)
        run.state.set_meta("spent", going.spent())
        for shard, why in going.board.left_out.items() if end is None else ():
            told(f"shard {shard}: {why}")
        end = end or (End.COMPLETE if not run.state.counts()[State.WAITING] else going.why_not_complete())
        run.state.set_meta("end", end.value)
        name_files(run)
    return end


def _put_together_when_free(folder: Path) -> None:
    """Put together what the shards have, when workers that the cluster has lost have let go of them. Raises RunError where one
    does not within a while."""
    end = time.monotonic() + _LETS_GO_WITHIN_S
    while True:
        try:
            put_together(folder)
        except RunError as error:
            if error.problems[0].code != "run-in-use" or time.monotonic() > end:
                raise
            time.sleep(0.5)
        else:
            return


_WORTH_SLICES = 500
_SLICES_FOR_WORKER = 4


def reads_ahead(client: Client) -> Callable[[Run, Path], int]:
    """What reads an old run's pages for a new run on a cluster, before `reparse` reads what is left."""

    def ahead(new: Run, old: Path) -> int:
        plan = new.loaded.plan
        ends = any(page.next is not None and page.next.end_when not in (None, "no rows") for page in plan.page.values())
        new.loaded.require_code()
        slots = check_workers(client, new)
        if ends or plan.start.split or _pages_of(old) < _WORTH_SLICES:
            return 0  # such listings are read one page after the other
        count = 1 + slots * _SLICES_FOR_WORKER
        folder = new.folder.resolve()
        arguments = (str(folder), str(old.resolve()))
        more = (count, dict(new.loaded.inputs), new.year)
        tasks = [
            client.submit(reparse_slice, *arguments, number, *more, pure=False, retries=3) for number in range(count)
        ]
        read = sum(client.gather(tasks))  # type: ignore[no-untyped-call]
        put_together(folder)
        drop_unreached(folder)
        return int(read)

    return ahead


def _pages_of(run: Path) -> int:
    with RunState.open(run / DATABASE) as state:
        return state.counts()[State.DONE]


class _Going:
    """A crawl on a cluster while it goes on."""

    def __init__(self, run: Run, client: Client, slots: int, turn_s: float, report: Report) -> None:
        self._run = run
        self._folder = run.folder.resolve()
        self._client = client
        self._slots = slots
        self._count = slots  # more shards than turns at a time would leave the hosts of the others waiting
        self._turn_s = turn_s
        self._report = report
        self._limits = run.loaded.plan.limits
        self._began = self._workers_at = self._workers_seen_at = time.monotonic()
        self._tasks: dict[Future[Turn], int] = {}
        self.board = Board(shards_with_work(self._folder, self._count))

    def to_the_end(self) -> End | None:
        """Give and take turns until nobody waits for one; the limit that ended it before."""
        while not self.board.is_over:
            end = self._spent()
            while end is None and len(self._tasks) < self._slots and (shard := self.board.next()) is not None:
                self._submit(shard)
            if not self._tasks:
                return end
            self._take_what_came()
            self._tell()
            # Whether there was a worker lately: a cluster may start them anew.
            now = time.monotonic()
            if now - self._workers_at >= _WORKERS_LOOKED_EVERY_S:
                self._workers_at = now
                if self._client.nthreads():  # type: ignore[no-untyped-call]
                    self._workers_seen_at = now
            if not (now - self._workers_seen_at < _WITHOUT_WORKERS_S):
                self.stop()
                self._tasks.clear()
                self.board.leave_all("no worker of the cluster is left")
        return self._spent()

    def stop(self) -> None:
        """Give no more turns; those under way end with their workers, or by themselves. What they committed is kept."""
        for task in self._tasks:
            task.cancel()  # type: ignore[no-untyped-call]

    def _submit(self, shard: int) -> None:
        code = self._run.loaded.code
        # What of the limits of pages, requests and bytes a turn may use: its share of what is left.
        used = self._used()
        most = (self._limits.pages, self._limits.requests, self._limits.bytes)
        share = max(1, min(self._slots, len(self.board.active)))
        left = [
            None if limit is None else max(1, (limit - had) // share) for limit, had in zip(most, used, strict=True)
        ]
        order = Order(
            str(self._folder),
            shard,
            self._count,
            self._seconds(),
            *(left[0], left[1], left[2]),
            code.digest if code is not None else "",
        )
        task = self._client.submit(take_turn, order, pure=False, retries=0, key=f"shard-{shard}-{uuid.uuid4().hex[:8]}")
        self._tasks[task] = shard

    def _take_what_came(self) -> None:
        """Wait a little; the turns that are over are taken."""
        from distributed import wait

        with contextlib.suppress(TimeoutError):
            wait(list(self._tasks), timeout=_LOOKED_EVERY_S, return_when="FIRST_COMPLETED")  # type: ignore[no-untyped-call]
        for task in [task for task in self._tasks if task.done()]:  # type: ignore[no-untyped-call]
            shard = self._tasks.pop(task)
            try:
                turn: Turn = task.result(timeout=_RESULT_WITHIN_S)
            except Exception as error:  # of the worker, or that it is gone
                self.board.failed(shard, f"{type(error).__name__}: {error}".partition("\n")[0][:300])
            else:
                self.board.came(turn)
            task.release()  # type: ignore[no-untyped-call]

    def _seconds(self) -> float:
        """How long the next turn may be."""
        turn_s = _ROWS_TURN_S if self._limits.rows is not None else self._turn_s
        if self._limits.time is None:
            return turn_s
        return max(0.1, min(turn_s, self._limits.time - (time.monotonic() - self._began)))

    def _used(self) -> tuple[int, int, int]:
        turns = self.board.turns
        pages = sum(turn.pages + turn.failed for turn in turns)
        return pages, sum(turn.requests for turn in turns), sum(turn.size_bytes for turn in turns)

    def _spent(self) -> End | None:
        """The limit of the whole that is reached."""
        if self._limits.time is not None and time.monotonic() - self._began >= self._limits.time:
            return End.ENOUGH_TIME
        most = (self._limits.pages, self._limits.requests, self._limits.bytes)
        ends = (End.ENOUGH_PAGES, End.ENOUGH_REQUESTS, End.ENOUGH_BYTES)
        for limit, had, end in zip(most, self._used(), ends, strict=True):
            if limit is not None and had >= limit:
                return end
        if self._limits.rows is None or self._tasks:
            return None
        put_together(self._folder)
        enough = enough_rows(self._run)
        if enough is not None and enough():
            return End.ENOUGH_ROWS
        self._run.state.set_meta("sitting", int(self._run.state.meta("sitting") or 0) + 1)
        return None

    def _tell(self) -> None:
        """How far the whole is."""
        done = failed = in_flight = waiting = sent = 0
        by_shard: dict[int, tuple[int, ...]] = {}
        for shard in {turn.shard for turn in self.board.turns} | self.board.active:
            if now := progress_of(self._folder, shard):
                by_shard[shard] = now
        for shard, (read, lost, flying, left, asked) in by_shard.items():
            done, failed, waiting, sent = done + read, failed + lost, waiting + left, sent + asked
            is_active = shard in self.board.active
            in_flight += flying if is_active else 0
            self._report(ShardProgress(shard, read, left, is_active))
        self._report(
            Progress(done, failed, in_flight, waiting, sent, sum(turn.size_bytes for turn in self.board.turns))
        )

    def why_not_complete(self) -> End:
        """Why pages are left, of what the shards said."""
        if any(self.board.failures[shard] for shard in self.board.left_out):
            return End.SHARDS_FAILED
        ends = {turn.end for turn in self.board.turns}
        known = (End.ENOUGH_DEPTH, End.REFUSED, End.UNREACHABLE)
        return next((end for end in known if end.value in ends), End.UNREACHABLE)

    def spent(self) -> dict[str, Any]:
        """What the sitting took, over all shards."""
        turns = self.board.turns
        slowed = {str(host.get("host")): host for turn in turns for host in turn.slowed}
        return {
            "unchanged": None,
            "log_ins": sum(turn.log_ins for turn in turns),
            "requests": sum(turn.requests for turn in turns),
            "seconds": round(time.monotonic() - self._began, 1),
            "slowed": list(slowed.values()),
            "turns": len(turns),
        }
