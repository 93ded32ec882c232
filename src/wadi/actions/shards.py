"""A run crawled in shards: turns, in which a worker asks for the pages of a shard's hosts, and the board that says who is next.

Nothing here knows what carries a turn to a worker: `actions.cluster` does.
"""

from __future__ import annotations

import multiprocessing
import time
from collections import Counter, deque
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import orjson

from wadi.actions.crawl import crawl
from wadi.actions.readers import workers_of
from wadi.actions.run import Run, opened
from wadi.actions.setup import credentials_of
from wadi.crawl.events import Event, Progress
from wadi.crawl.workers import WorkerPool
from wadi.plan.reader import LoadedPlan
from wadi.problems import RunError
from wadi.store.outcome import End, State
from wadi.store.shards import create_shard, hand_over, shard_folder, take_in, turn_lock
from wadi.store.whole_files import whole_file

TURN_S = 30.0
"""How long a turn is at most: links to hosts of other shards are handed over at its end."""
_TOLD_EVERY_S = 1.0
_MOST_FAILURES = 3
PROGRESS = "progress"
"""The file in a shard's folder with how far its turn is."""


@dataclass(frozen=True)
class Order:
    """What a worker is asked to do: a turn of a shard of a run, so many seconds and pages (None for no limit) at most; `code` is
    the digest of the plan's code that may be run."""

    run: str
    shard: int
    count: int
    seconds: float = TURN_S
    pages: int | None = None
    requests: int | None = None
    size_bytes: int | None = None
    code: str = ""


@dataclass(frozen=True)
class Turn:
    """What came of a turn. `waiting` pages are left; `handed` are pages for other shards, by shard; `is_busy` says that another
    worker had the shard, so that nothing was done."""

    shard: int
    pages: int = 0
    failed: int = 0
    waiting: int = 0
    handed: Mapping[int, int] = field(default_factory=dict)
    requests: int = 0
    size_bytes: int = 0
    log_ins: int = 0
    slowed: tuple[Mapping[str, Any], ...] = ()
    end: str | None = None
    is_busy: bool = False


def take_turn(order: Order) -> Turn:
    """A turn of a shard. It can be repeated, lost or run twice at once: the shard's lock and the rules of its database make that
    harmless. Raises WadiError."""
    run_folder, folder = Path(order.run), shard_folder(Path(order.run), order.shard)
    try:
        with turn_lock(run_folder, order.shard):
            create_shard(run_folder, order.shard, order.count)
            take_in(run_folder, order.shard)
            with _shard_run(folder, order) as run:
                before = run.state.counts()
                size = run.state.size_bytes()
                credentials = credentials_of(run.loaded)
                end = crawl(run, _Noting(folder), credentials=credentials, make_workers=_workers, stop_within_s=5.0)
                after, spent = run.state.counts(), run.state.meta("spent") or {}
                size = run.state.size_bytes() - size
            handed = hand_over(run_folder, order.shard, order.count)
    except RunError as error:
        if error.problems[0].code == "run-in-use":
            return Turn(order.shard, is_busy=True)
        raise
    return Turn(
        order.shard,
        after[State.DONE] - before[State.DONE],
        after[State.FAILED] - before[State.FAILED],
        after[State.WAITING],
        handed,
        int(spent.get("requests") or 0),
        size,
        int(spent.get("log_ins") or 0),
        tuple(spent.get("slowed") or ()),
        end.value,
    )


def _shard_run(folder: Path, order: Order) -> Run:
    """A shard as a run, with the limits of this turn in place of the run's own."""
    state, loaded = opened(folder)
    if loaded.code is not None and loaded.code.digest == order.code:
        loaded.code.allow()
    counts = state.counts()
    asked = counts[State.DONE] + counts[State.FAILED]
    limits = {
        "rows": None,
        "pages": None if order.pages is None else asked + order.pages,
        "time": order.seconds,
        "requests": order.requests,
        "bytes": None if order.size_bytes is None else state.size_bytes() + order.size_bytes,
    }
    return Run(folder, with_exact_limits(loaded, limits), state)


def with_exact_limits(loaded: LoadedPlan, limits: Mapping[str, Any]) -> LoadedPlan:
    """A plan with these limits and no others of their kinds."""
    plan = loaded.plan.model_copy(update={"limits": loaded.plan.limits.model_copy(update=dict(limits))})
    return replace(loaded, plan=plan)


def _workers(run: Run) -> WorkerPool | None:
    """Processes that read pages which may take long, where this one may have some."""
    if multiprocessing.current_process().daemon:
        return None
    return replace(workers_of(run), count=1, is_for_all=False)


class _Noting:
    """Notes how far a turn is, where whoever watches can read it."""

    def __init__(self, folder: Path) -> None:
        self._file = folder / PROGRESS
        self._at = 0.0

    def __call__(self, event: Event) -> None:
        now = time.monotonic()
        if not isinstance(event, Progress) or now - self._at < _TOLD_EVERY_S:
            return
        self._at = now
        told = orjson.dumps([event.done, event.failed, event.in_flight, event.waiting, event.requests])
        whole_file(self._file, lambda out: out.write(told))


def progress_of(run: Path, shard: int) -> tuple[int, ...]:
    """How far the turn of a shard is: pages read, failed, in flight, waiting, requests sent; empty where it has not begun."""
    try:
        return tuple(orjson.loads((shard_folder(run, shard) / PROGRESS).read_bytes()))
    except (OSError, ValueError):
        return ()


class Board:
    """Which shard has the next turn. A shard waits for its turn when it has pages that wait, or got some from others; one that
    failed three times in a row, or gets nowhere, is left out."""

    def __init__(self, shards: list[int]) -> None:
        self._waiting = deque(shards)
        self._given: set[int] = set()
        self.active: set[int] = set()
        self.turns: list[Turn] = []
        self.failures: Counter[int] = Counter()
        self.left_out: dict[int, str] = {}
        self._in_vain: Counter[int] = Counter()

    @property
    def is_over(self) -> bool:
        """Whether nobody has a turn, and nobody waits for one."""
        return not self._waiting and not self.active

    def next(self) -> int | None:
        """The shard that has its turn now; None while none waits."""
        if not self._waiting:
            return None
        shard = self._waiting.popleft()
        self.active.add(shard)
        return shard

    def came(self, turn: Turn) -> None:
        """A turn is over."""
        self.active.discard(turn.shard)
        for shard in turn.handed:
            # A shard got pages from another.
            if shard in self.active:
                self._given.add(shard)
            elif shard not in self._waiting and self.failures[shard] < _MOST_FAILURES:
                self.left_out.pop(shard, None)
                self._waiting.append(shard)
        has_more = turn.shard in self._given or turn.is_busy
        self._given.discard(turn.shard)
        if turn.is_busy:
            self._waiting.append(turn.shard)
            return
        self.turns.append(turn)
        self.failures[turn.shard] = 0
        # A turn without a request waited politely: for a long pause, or for what a site asked to wait.
        gets_on = turn.pages or turn.failed or turn.handed or not turn.requests
        self._in_vain[turn.shard] = 0 if gets_on or has_more else self._in_vain[turn.shard] + 1
        if turn.waiting and self._in_vain[turn.shard] >= _MOST_FAILURES:
            self.left_out[turn.shard] = f"{turn.waiting:,} pages were not to be had ({turn.end})"
        elif has_more or (turn.waiting and turn.end in _GOES_ON):
            self._waiting.append(turn.shard)
        elif turn.waiting:
            self.left_out[turn.shard] = f"{turn.waiting:,} pages are left ({turn.end})"

    def leave_all(self, why: str) -> None:
        """Leave out every shard that has its turn or waits for it."""
        self.left_out |= dict.fromkeys(sorted([*self.active, *self._waiting]), why)
        self.failures.update(dict.fromkeys(self.left_out, _MOST_FAILURES))
        self.active.clear()
        self._waiting.clear()

    def failed(self, shard: int, why: str) -> None:
        """A turn was lost, with the worker that had it or by an error."""
        self.active.discard(shard)
        self._given.discard(shard)
        self.failures[shard] += 1
        if self.failures[shard] < _MOST_FAILURES:
            self._waiting.append(shard)
        else:
            self.left_out[shard] = f"{_MOST_FAILURES} turns failed, the last: {why}"


_GOES_ON = frozenset({End.ENOUGH_TIME.value, End.INTERRUPTED.value})
