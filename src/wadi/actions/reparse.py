"""A run's stored pages read again, perhaps with a changed plan: a new run with the same archive, and no request sent."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from wadi import __version__
from wadi.actions.begin import begin
from wadi.actions.export import name_files
from wadi.actions.readers import reader_arguments, reader_of, reading_of
from wadi.actions.run import Run
from wadi.crawl.events import Event, Progress, event_of
from wadi.crawl.outcomes import OutcomeMaker
from wadi.crawl.prefetch import Prefetch
from wadi.crawl.reader import Reader, Taken, Wanted
from wadi.plan.reader import LoadedPlan, parse_plan
from wadi.plan.starts import FILE
from wadi.problems import Place, Problem
from wadi.store.archive import Archive, Kept
from wadi.store.faults import as_problems
from wadi.store.folder import DATABASE, PAGES, PLAN
from wadi.store.outcome import End, Outcome, State
from wadi.store.pages import Page, number_in_listing
from wadi.store.shards import create_slice
from wadi.store.state import RunState
from wadi.store.stored import StoredPage, StoredPages, share_pages

_BATCH = 64
_WORTH_WORKERS = 150
_SUSPECT_BYTES = 200_000
"""A page that is larger, packed, is read by a process that can be ended."""


@dataclass(frozen=True)
class Reparsed:
    """What came of it: pages that were read, and those that the plan leads to and the old run never asked for."""

    read: int
    not_fetched: int


def reparse(
    old: Run,
    loaded: LoadedPlan,
    runs: Path | str = "runs",
    *,
    report: Callable[[Event], None] = lambda event: None,
    workers: int | None = None,
    ahead: Callable[[Run, Path], int] | None = None,
) -> tuple[Run, Reparsed]:
    """A new run of `loaded` out of the pages that `old` has. Its tables are the ones that a crawl of the same pages gives.

    `workers` processes read pages ahead (default: one for each processor). `ahead` may have read pages by other means before
    that: it gets the new run and the old one's folder, and gives how many it read. Raises RunError, PlanError, CrawlError.
    """
    new = begin(loaded, runs)
    with as_problems(new.folder):
        new.state.set_meta("as_of", old.as_of)
        new.state.set_meta("reparsed", str(old.folder))
        new.state.hold_archive(share_pages(old.folder, new.folder))
        read = ahead(new, old.folder) if ahead is not None else 0
        stored = StoredPages(old.folder)
        archive = Archive(new.folder / PAGES, software=f"Wadi/{__version__}")
        try:
            done = read + _read_all(new, stored, archive, report, os.cpu_count() or 1 if workers is None else workers)
        finally:
            archive.close()
            stored.close()
        waiting = new.state.counts()[State.WAITING]
        new.state.set_meta("end", End.NOT_FETCHED if waiting else End.COMPLETE)
        name_files(new)
    return new, Reparsed(done, waiting)


def reparse_slice(run: str, old: str, number: int, count: int, inputs: dict[str, Any], year: int) -> int:
    """Read a slice of an old run's pages for a new run, into a database of its own; how many were read. It can be repeated."""
    made = reader_of(run, inputs, year)
    folder = create_slice(Path(run), number, count, Path(old), [kind for kind in made.kinds if kind != FILE])
    stored, plan = StoredPages(Path(old)), Path(run) / PLAN
    loaded = parse_plan(plan.read_text("utf-8"), str(plan), inputs)
    with Run(folder, loaded, RunState.open(folder / DATABASE)) as slice_run:
        archive = Archive(folder / PAGES, software=f"Wadi/{__version__}", names=slice_run.state.archive_ends())
        reading = replace(reading_of(slice_run), folder=Path(run))
        try:
            with Prefetch(made, iter(()), workers=1, make=reader_of, arguments=(run, inputs, year)) as ahead:

                def take(wanted: Wanted) -> Taken:
                    is_suspect = made.kinds[wanted.kind].may_take_long or wanted.location.length > _SUSPECT_BYTES
                    return ahead.take(wanted) if is_suspect else made.read(wanted)

                maker = OutcomeMaker(reading, slice_run.state, archive)
                return _settle_all(slice_run, stored, maker, lambda event: None, take)
        finally:
            archive.close()
            stored.close()


def _read_all(new: Run, stored: StoredPages, archive: Archive, report: Callable[[Event], None], workers: int) -> int:
    if not new.state.counts()[State.WAITING]:
        return 0
    reading = reading_of(new)
    reader = Reader(new.folder / PAGES, reading.kinds, reading.expect_places, reading.page_time_s)
    outcome_maker = OutcomeMaker(reading, new.state, archive)
    coming = _coming(stored, reader)
    count = sum(1 for _ in stored.all())
    workers = workers if count >= _WORTH_WORKERS else 1
    with Prefetch(reader, coming, workers=workers, make=reader_of, arguments=reader_arguments(new)) as ahead:
        return _settle_all(new, stored, outcome_maker, report, ahead.take)


def _coming(stored: StoredPages, reader: Reader) -> Iterator[Wanted]:
    """The stored pages that the plan can read, in the order in which the old run had them."""
    for page in stored.all():
        if page.location is not None and page.state is State.DONE and page.kind in reader.kinds and page.kind != FILE:
            yield Wanted(page.kind, page.request, page.number, page.location)


def _settle_all(
    new: Run,
    stored: StoredPages,
    outcome_maker: OutcomeMaker,
    report: Callable[[Event], None],
    take: Callable[[Wanted], Taken],
) -> int:
    """Settle every waiting page that is stored, until only others are left; returns how many were read."""
    absent: set[int] = set()
    count = failed = 0
    while True:
        outcomes: list[tuple[Page, Outcome]] = []
        for page in new.state.queue.first(len(absent) + _BATCH):
            if page.id in absent:
                continue
            found = stored.find(page.kind, page.request, page.purpose)
            if found is None:
                absent.add(page.id)
            else:
                outcomes.append((page, _outcome(page, found, outcome_maker, take)))
        if not outcomes:
            return count
        new.state.commit([outcome for _, outcome in outcomes])
        for page, outcome in outcomes:
            count += 1
            failed += outcome.failure is not None
            report(event_of(page, outcome))
        report(Progress(count - failed, failed, 0, new.state.counts()[State.WAITING]))


def _outcome(page: Page, found: StoredPage, outcome_maker: OutcomeMaker, take: Callable[[Wanted], Taken]) -> Outcome:
    if found.location is None or (found.state is State.FAILED and found.failure and found.failure.code in _NO_PAGE):
        nothing = Problem("damaged-run", "no reply is stored", Place(page.request.url))
        return Outcome(page.id, location=found.location, failure=found.failure or nothing)
    taken = take(Wanted(page.kind, page.request, number_in_listing(page.route), found.location))
    if isinstance(taken, str):
        return Outcome(page.id, failure=Problem("damaged-run", taken, Place(page.request.url)))
    reply, extracted = taken
    if reply.status >= 400:
        return Outcome(page.id, reply, found.location, failure=found.failure)
    return outcome_maker.read(page, replace(reply, request=page.request), kept=Kept(found.location), found=extracted)


_NO_PAGE = frozenset(
    {"http-status", "robots", "unreachable", "timed-out", "broken-off", "too-large", "bad-coding", "redirect-loop"}
)
"""Failures that say that there was no page to read."""
