"""A run's stored pages read again, perhaps with a changed plan: a new run with the same archive, and no request sent."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from contextlib import closing
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from wadi.actions.begin import begin
from wadi.actions.crawl import fewer_collections, with_workers
from wadi.actions.export import name_files
from wadi.actions.readers import reader_arguments, reader_of, reading_of
from wadi.actions.run import Run
from wadi.crawl.engine import Engine
from wadi.crawl.events import Event
from wadi.crawl.outcomes import Reading
from wadi.crawl.source import AHEAD, ArchiveSource
from wadi.crawl.task import Room, Task
from wadi.crawl.workers import WorkerPool
from wadi.plan.reader import LoadedPlan, parse_plan
from wadi.plan.starts import FILE
from wadi.store.archive import Archive
from wadi.store.faults import as_problems
from wadi.store.folder import DATABASE, PAGES, PLAN
from wadi.store.outcome import End, State
from wadi.store.shards import create_slice
from wadi.store.state import RunState
from wadi.store.stored import StoredPages, share_pages
from wadi.version import __version__
from wadi.web.loops import fast_loop, in_loop

_AT_ONCE = 64
_WORTH_WORKERS = 150


@dataclass(frozen=True)
class Reparsed:
    """What came of it: pages that were read, those that the plan leads to and the old run does not have, and why they are not
    there, with how many."""

    read: int
    not_fetched: int
    reasons: Mapping[str, int] = field(default_factory=dict)


def reparse(
    old: Run,
    loaded: LoadedPlan,
    runs: Path | str = "runs",
    *,
    report: Callable[[Event], None] = lambda event: None,
    workers: int | None = None,
    ahead: Callable[[Run, Path], int] | None = None,
    at_once: int = _AT_ONCE,
    most_ahead: int = AHEAD,
    worth_workers: int = _WORTH_WORKERS,
) -> tuple[Run, Reparsed]:
    """A new run of `loaded` out of the pages that `old` has. Its tables are the ones that a crawl of the same pages gives.

    `workers` processes (default: one for each processor) read pages, `most_ahead` of them ahead, of a run that has
    `worth_workers` or more; `at_once` are under way at a time. `ahead` may have read pages by other means before that: it gets
    the new run and the old one's folder, and gives how many it read. Raises RunError, PlanError, CrawlError.
    """
    new = begin(loaded, runs)
    with as_problems(new.folder):
        new.state.set_meta("as_of", old.as_of)
        new.state.set_meta("reparsed", str(old.folder))
        new.state.hold_archive(share_pages(old.folder, new.folder))
        if ahead is not None:
            ahead(new, old.folder)
        count = os.cpu_count() or 1 if workers is None else workers
        is_for_all = count > 1 and old.state.asked_count() >= worth_workers
        pool = WorkerPool(
            reader_of,
            reader_arguments(new),
            count if is_for_all else 1,
            worth_after=0,
            is_patient=True,
            is_for_all=is_for_all,
            page_time_s=loaded.plan.limits.page_time,
        )
        reasons = _read_again(new, old.folder, reading_of(new), pool, report, at_once, most_ahead)
        new.state.ask_for_absent()
        counts = new.state.counts()
        new.state.set_meta("end", End.NOT_FETCHED if counts[State.WAITING] else End.COMPLETE)
        name_files(new)
    return new, Reparsed(counts[State.DONE] + counts[State.FAILED], counts[State.WAITING], reasons)


def reparse_slice(run: str, old: str, number: int, count: int, inputs: dict[str, Any], year: int) -> int:
    """Read a slice of an old run's pages for a new run, into a database of its own; how many were read. It can be repeated."""
    plan = Path(run) / PLAN
    loaded = parse_plan(plan.read_text("utf-8"), str(plan), inputs)
    kinds = [kind for kind in reader_of(run, inputs, year).kinds if kind != FILE]
    folder = create_slice(Path(run), number, count, Path(old), kinds)
    with Run(folder, loaded, RunState.open(folder / DATABASE)) as slice_run:
        reading = replace(reading_of(slice_run), folder=Path(run))
        pool = WorkerPool(reader_of, (run, inputs, year), 1, is_for_all=False, page_time_s=loaded.plan.limits.page_time)
        _read_again(slice_run, Path(old), reading, pool, lambda event: None, _AT_ONCE, AHEAD)
        counts = slice_run.state.counts()
    return counts[State.DONE] + counts[State.FAILED]


def _read_again(
    new: Run,
    old: Path,
    reading: Reading,
    workers: WorkerPool,
    report: Callable[[Event], None],
    at_once: int,
    most_ahead: int,
) -> Mapping[str, int]:
    """Settle every waiting page that an old run has; why others are not there, with how many."""
    stored, kinds = StoredPages(old), reading.kinds
    archive = Archive(new.folder / PAGES, software=f"Wadi/{__version__}", names=new.state.archive_ends())

    async def settled() -> Mapping[str, int]:
        readers = workers if workers.is_for_all else None
        source = ArchiveSource(stored, reading.folder / PAGES, kinds, readers, most_ahead)
        engine = Engine(Task(reading, Room(at_once, at_once), workers=workers), new.state, archive, source, report)
        try:
            with fewer_collections():
                await engine.crawl()
        finally:
            await source.close()
            workers.close()
        return engine.absent

    with closing(stored), closing(archive), with_workers(workers):
        reasons: Mapping[str, int] = in_loop(settled(), fast_loop)
    return reasons
