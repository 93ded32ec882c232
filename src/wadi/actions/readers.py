"""How a run reads its pages, here and in other processes."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from wadi.actions.run import Run
from wadi.crawl.kinds import compile_kinds
from wadi.crawl.outcomes import Reading
from wadi.crawl.reader import Reader
from wadi.crawl.workers import WorkerPool
from wadi.plan.columns import table_plan, tables_of
from wadi.plan.reader import LoadedPlan, parse_plan
from wadi.plan.starts import parts_of
from wadi.store.folder import PLAN

_HELPED_BELOW_S = 0.005
"""Longest pause with which pages of one host may come faster than one processor reads them."""
_HELPED_FROM = 200
"""The same of many hosts: requests a second that their pauses allow."""


def reading_of(run: Run) -> Reading:
    """How the run's replies are read."""
    return reading_by(run.loaded, run.year, run.folder)


def reading_by(loaded: LoadedPlan, year: int, folder: Path, most_rows: int | None = None) -> Reading:
    """How replies are read by a plan: two-digit years are settled by `year`, files are kept below `folder`."""
    plan = loaded.plan
    return Reading(
        kinds=compile_kinds(plan, this_year=year, functions=loaded.functions, scripts=loaded.scripts),
        folder=folder,
        most_rows=most_rows,
        expect_places=expect_places_of(loaded),
        page_time_s=plan.limits.page_time,
        keys={table: table_plan(plan, table).key for table in tables_of(plan)},
        most_shown=plan.start.most if plan.start.split else None,
        parts=lambda url, values: parts_of(plan, url, values),
    )


def reader_arguments(run: Run) -> tuple[str, dict[str, Any], int]:
    """What `reader_of` makes a reader from, in another process."""
    return str(run.folder), dict(run.loaded.inputs), run.year


def reader_of(folder: str, inputs: dict[str, Any], year: int) -> Reader:
    """What reads a run's pages, made from its folder."""
    path = Path(folder) / PLAN
    loaded = parse_plan(path.read_text("utf-8"), str(path), inputs)
    kinds = compile_kinds(loaded.plan, this_year=year, functions=loaded.functions)
    return Reader(kinds, expect_places_of(loaded), loaded.plan.limits.page_time)


def expect_places_of(loaded: LoadedPlan) -> dict[str, str]:
    """Where the plan says what each kind of page must have."""
    return {name: loaded.place("page", name, "expect") for name, kind in loaded.plan.page.items() if kind.expect}


def workers_of(run: Run) -> WorkerPool:
    """Processes that read pages: all of them, where the plan's pace and this machine are such that this is of use; else those
    that are large, or take long."""
    processors = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    pause = run.loaded.plan.manners.pause
    is_fast = pause <= _HELPED_BELOW_S or len(run.state.queue.hosts()) / pause >= _HELPED_FROM
    is_for_all = is_fast and processors > 1
    seconds = run.loaded.plan.limits.page_time
    return WorkerPool(
        reader_of, reader_arguments(run), processors if is_for_all else 1, is_for_all=is_for_all, page_time_s=seconds
    )
