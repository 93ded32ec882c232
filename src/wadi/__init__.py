"""Wadi: write a crawler as a short, readable file, rehearse it, run it politely, and get clean tables.

The library's face::

    import wadi

    plan = wadi.load_plan("springs.toml", {"site": "http://127.0.0.1:8700"})
    run = wadi.run(plan)
    springs = run.table("springs")          # a pandas DataFrame
"""

from __future__ import annotations

from typing import TYPE_CHECKING

__version__ = "0.1.0"
__all__ = [
    "RunStopped", "WadiError", "__version__", "compare", "draft", "export", "load_plan", "mend", "open_page", "open_run",
    "profile", "run", "verify",
]  # fmt: skip

_STOPPED_WITHIN_S = 1.5

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence
    from pathlib import Path

    from wadi.actions.crawl import RunStopped
    from wadi.actions.open_page import OpenedPage
    from wadi.actions.run import Run
    from wadi.learn.drafting import Draft
    from wadi.learn.mend import Mending
    from wadi.plan.model import InputValue
    from wadi.plan.reader import LoadedPlan
    from wadi.problems import WadiError
    from wadi.quality.compare import Comparison
    from wadi.quality.profile import TableProfile
    from wadi.quality.verdict import Verdict


def load_plan(
    path: str | Path, inputs: Mapping[str, InputValue] | None = None, *, with_code: bool = False
) -> LoadedPlan:
    """The plan in a file; `inputs` go over its own. Raises wadi.WadiError with every mistake in it.

    `with_code` lets the plan's own Python file be run, now and from now on, as long as it stays as it is: look at it first. The
    plan of somebody else may do with it whatever you may.
    """
    from wadi.plan import reader

    loaded = reader.load_plan(path, inputs)
    if with_code and loaded.code is not None:
        loaded.code.approve()
    return loaded


def run(plan: LoadedPlan, *, runs: str | Path = "runs", rows: int | None = None, pages: int | None = None) -> Run:
    """Crawl a plan to its end and give the run, whose tables are there as DataFrames: `run(plan).table("springs")`.

    Raises wadi.RunStopped when it did not go to its end, since nobody answered, the host refused, or no page came. An interrupt
    (Ctrl-C, a notebook's stop button) ends the crawl within two seconds and is raised. Either has the run, as far as it came,
    as `error.run`.
    """
    from wadi.actions.begin import begin
    from wadi.actions.crawl import Interrupted, crawl, why_stopped
    from wadi.plan.reader import with_limits

    begun = begin(with_limits(plan, rows=rows, pages=pages), runs)
    try:
        end = crawl(begun, stop_within_s=_STOPPED_WITHIN_S)
    except KeyboardInterrupt:
        raise Interrupted(begun) from None
    if end.value == "interrupted":
        raise Interrupted(begun)
    if (stopped := why_stopped(begun)) is not None:
        raise stopped
    return begun


def open_run(name: str | Path, *, runs: str | Path = "runs") -> Run:
    """A run that is there, by its folder or by the name of its plan (then the newest)."""
    from wadi.actions.run import Run

    return Run.open(name, runs)


def export(run: Run, target: str | Path, *, table: str | None = None) -> int:
    """Write a table of a run (default: the main one) to a file by its ending, or to a database by its URL; the number of rows."""
    from wadi.actions.export import export

    return export(run, target, table)


def verify(run: Run, *, against: str | None = None) -> Verdict:
    """Whether a run has everything, once, in the right types: `verify(run).holds`, `.sentence`, `.findings`."""
    from wadi.quality.verify_run import verify

    return verify(run, against=against).verdict


def profile(what: str | Path, *, table: str | None = None, runs: str | Path = "runs") -> list[TableProfile]:
    """Figures of every column of a run's tables, or of those in a file."""
    from contextlib import ExitStack

    from wadi.quality.profile import profile_of
    from wadi.quality.sources import sources_of

    with ExitStack() as stack:
        return [profile_of(source) for source in sources_of(str(what), runs, table, stack)]


def compare(
    old: str | Path, new: str | Path, *, key: Sequence[str] = (), table: str | None = None, runs: str | Path = "runs"
) -> list[Comparison]:
    """What differs between two runs or files, table by table."""
    from wadi.quality.compare_runs import compare_tables

    return compare_tables(str(old), str(new), runs, table=table, key=key)


def open_page(
    page: str,
    *,
    fresh: bool = False,
    ignore_robots: bool = False,
    plan: str | Path | None = None,
    inputs: Mapping[str, InputValue] | None = None,
) -> OpenedPage:
    """A page from a URL, a file or a run: `open_page(url).rows("li", name="h3 a")` is a DataFrame. Kept for the day.

    What robots.txt forbids is not asked for, unless `ignore_robots` says that you may. With a `plan` (and its `inputs`) a URL is
    asked for as a run of it would: with its log-in, header fields and proxies, and by its request where the page is a start.
    """
    from wadi.actions import open_page as pages

    if plan is not None:
        from wadi.plan.reader import load_plan

        return pages.open_page_as(page, load_plan(plan, inputs), fresh=fresh, ignore_robots=ignore_robots)
    return pages.open_page(page, fresh=fresh, ignore_robots=ignore_robots)


def draft(
    page: str,
    *,
    rows: Sequence[Mapping[str, str]] = (),
    without: Sequence[str] = (),
    count: int | None = None,
    open_details: bool = False,
    fresh: bool = False,
) -> Draft:
    """A first plan for a page: of the best guess, or of `rows`, values that you see in a record or two (column → value).

    `draft(url).preview()` is a DataFrame of its first rows, `.text` the plan, `.save("plan.toml")` keeps it. `without` are
    texts that are in no row, `count` is how many rows the page has, `open_details` looks at pages that rows lead to as well.
    """
    from wadi.actions.open_page import open_page
    from wadi.learn.drafting import Asked, draft_page

    asked = Asked(tuple(rows), tuple(without), count, open=open_details)
    return draft_page(open_page(page, fresh=fresh), asked)


def mend(plan: LoadedPlan, *, run: str | Path | None = None, runs: str | Path = "runs", fresh: bool = False) -> Mending:
    """What has to change in a plan after a redesign, learned from its last good run (or from `run`): `.changes` with their
    ratings, `.text` the plan with them, `.unmended` what is still broken. Nothing is written."""
    from wadi.learn.good_run import last_good_run, rows_of_run
    from wadi.learn.mending import mended

    _, known = rows_of_run(run, runs) if run is not None else last_good_run(plan.name, runs)
    return mended(plan, known, fresh=fresh)


def __getattr__(name: str) -> object:
    if name == "WadiError":
        from wadi.problems import WadiError

        return WadiError
    if name == "RunStopped":
        from wadi.actions.crawl import RunStopped

        return RunStopped
    raise AttributeError(f"module 'wadi' has no attribute {name!r}")
