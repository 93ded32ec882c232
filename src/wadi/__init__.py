"""Wadi: write a crawler as a short, readable file, rehearse it, run it politely, and get clean tables.

The library's face::

    import wadi

    plan = wadi.load_plan("springs.toml", {"site": "http://127.0.0.1:8700"})
    run = wadi.run(plan)                    # or straight from the file: wadi.run("springs.toml")
    springs = run.table("springs")          # a pandas DataFrame
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from wadi.version import __version__

__all__ = [
    "Page", "PageData", "RunStopped", "WadiError", "__version__", "build_plan", "compare", "draft", "export", "load_plan",
    "mend", "open_page", "open_run", "profile", "reparse", "resume", "run", "run_async", "trace", "verify",
]  # fmt: skip

_STOPPED_WITHIN_S = 1.5

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping, Sequence
    from contextlib import AbstractContextManager
    from pathlib import Path

    from wadi.actions.crawl import RunStopped
    from wadi.actions.open_page import OpenedPage
    from wadi.actions.run import Run
    from wadi.actions.trace import CellTrace
    from wadi.crawl.events import Event
    from wadi.crawl.page_calls import PageData
    from wadi.crawl.page_view import Page
    from wadi.learn.drafts.drafting import Draft
    from wadi.learn.mends.changes import Mending
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


def build_plan(
    keys: Mapping[str, Any], inputs: Mapping[str, InputValue] | None = None, *, name: str = "plan"
) -> LoadedPlan:
    """A plan from its keys, as a plan file has them: `build_plan({"start": {"page": "list", "addresses": url}, "page": {…}})`.
    `name` is what its runs are called. Raises wadi.WadiError with every mistake in it."""
    from wadi.plan.reader import plan_of_keys

    return plan_of_keys(keys, f"{name}.toml", inputs)


def run(
    plan: str | Path | LoadedPlan,
    inputs: Mapping[str, InputValue] | None = None,
    *,
    runs: str | Path = "runs",
    rows: int | None = None,
    pages: int | None = None,
    seconds: float | None = None,
    report: Callable[[Event], None] | None = None,
) -> Run:
    """Crawl a plan (its file, or a loaded one) to its end, or to a limit of rows, pages or seconds, and give the run, whose
    tables are there as DataFrames: `run("springs.toml").table("springs")`. Close the run, or use it in a `with`.

    `report` hears of each event (`wadi.crawl.events`: Progress, PageDone, …), in the crawl's thread; without one a notebook shows
    how far it is. Raises wadi.RunStopped when the crawl did not go to its end, since nobody answered, the host refused, or no
    page came. An interrupt (Ctrl-C, a notebook's stop button) ends the crawl within two seconds and is raised. Either has the
    run, as far as it came, as `error.run`.
    """
    from wadi.actions.begin import begin
    from wadi.plan.reader import with_limits

    loaded = with_limits(_loaded(plan, inputs), rows=rows, pages=pages, time=seconds)
    return _crawled(begin(loaded, runs), report)


async def run_async(
    plan: str | Path | LoadedPlan, inputs: Mapping[str, InputValue] | None = None, **options: Any
) -> Run:
    """`run` beside other work in an event loop, with its options: the crawl is in a thread, `await run_async("springs.toml")`
    gives the run. Raises as `run`."""
    import asyncio

    return await asyncio.to_thread(run, plan, inputs, **options)


def resume(
    name: str | Path,
    *,
    runs: str | Path = "runs",
    rows: int | None = None,
    pages: int | None = None,
    seconds: float | None = None,
    report: Callable[[Event], None] | None = None,
) -> Run:
    """Go on with a run where it stands: by its folder, or by its plan's name for its newest. Raises as `run`."""
    from wadi.actions.begin import go_on

    return _crawled(go_on(name, runs, rows=rows, pages=pages, time=seconds), report)


def reparse(
    name: str | Path | Run,
    plan: str | Path | LoadedPlan | None = None,
    *,
    runs: str | Path = "runs",
) -> Run:
    """A new run out of the stored pages of another, with a changed plan (default: the run's own): no request is sent. Raises
    wadi.WadiError."""
    from contextlib import nullcontext

    from wadi.actions.reparse import reparse
    from wadi.actions.run import Run

    with nullcontext(name) if isinstance(name, Run) else Run.open(name, runs) as old:
        return reparse(old, old.loaded if plan is None else _loaded(plan, old.given_inputs), runs)[0]


def _loaded(plan: str | Path | LoadedPlan, inputs: Mapping[str, InputValue] | None = None) -> LoadedPlan:
    from wadi.plan.reader import LoadedPlan

    return plan if isinstance(plan, LoadedPlan) else load_plan(plan, inputs)


def _crawled(begun: Run, report: Callable[[Event], None] | None) -> Run:
    from wadi.actions.crawl import Interrupted, crawl, why_stopped
    from wadi.actions.notebook import display_of_notebook, watched

    try:
        with watched(begun, None if report else display_of_notebook()) as shown:
            end = crawl(begun, report or shown, stop_within_s=_STOPPED_WITHIN_S)
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


def export(run: str | Path | Run, target: str | Path, *, table: str | None = None, runs: str | Path = "runs") -> int:
    """Write a table of a run (default: the main one) to a file by its ending, or to a database by its URL; the number of rows."""
    from wadi.actions.export import export

    with _opened(run, runs) as opened:
        return export(opened, target, table)


def verify(run: str | Path | Run, *, against: str | None = None, runs: str | Path = "runs") -> Verdict:
    """Whether a run has everything, once, in the right types: `verify(run).holds`, `.sentence`, `.findings`."""
    from wadi.quality.verify_run import verify

    with _opened(run, runs) as opened:
        return verify(opened, against=against).verdict


def _opened(run: str | Path | Run, runs: str | Path) -> AbstractContextManager[Run]:
    """A run, opened for as long as it is used; one that is open stays so."""
    from contextlib import nullcontext

    from wadi.actions.run import Run

    return nullcontext(run) if isinstance(run, Run) else Run.open(run, runs)


def _name(what: str | Path | Run) -> str:
    """What a run or a file is called where one is named."""
    from wadi.actions.run import Run

    return str(what.folder) if isinstance(what, Run) else str(what)


def trace(
    run: str | Path | Run,
    row: int | str,
    column: str | None = None,
    *,
    table: str | None = None,
    runs: str | Path = "runs",
) -> list[CellTrace]:
    """From a row (its number in the table from 1, or its key) back to the stored page: for each column, or for one, the
    expression, what it picked, what each step made of it. Raises wadi.WadiError for a row or a column that is not there."""
    from wadi.actions.trace import traced

    with _opened(run, runs) as opened:
        return traced(opened, table, str(row), column)


def profile(what: str | Path | Run, *, table: str | None = None, runs: str | Path = "runs") -> list[TableProfile]:
    """Figures of every column of a run's tables, or of those in a file."""
    from contextlib import ExitStack

    from wadi.quality.profile import profile_of
    from wadi.quality.sources import sources_of

    with ExitStack() as stack:
        return [profile_of(source) for source in sources_of(_name(what), runs, table, stack)]


def compare(
    old: str | Path | Run,
    new: str | Path | Run,
    *,
    key: Sequence[str] = (),
    table: str | None = None,
    runs: str | Path = "runs",
) -> list[Comparison]:
    """What differs between two runs or files, table by table."""
    from wadi.quality.compare_runs import compare_tables

    return compare_tables(_name(old), _name(new), runs, table=table, key=key)


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
    from wadi.learn.first_look.views import page_html

    pages.OpenedPage.view = staticmethod(page_html)
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
    from wadi.learn.drafts.drafting import Asked, draft_page

    asked = Asked(tuple(rows), tuple(without), count, open=open_details)
    return draft_page(open_page(page, fresh=fresh), asked)


def mend(
    plan: str | Path | LoadedPlan, *, run: str | Path | None = None, runs: str | Path = "runs", fresh: bool = False
) -> Mending:
    """What has to change in a plan after a redesign, learned from its last good run (or from `run`): `.changes` with their
    ratings, `.text` the plan with them, `.unmended` what is still broken. Nothing is written."""
    from wadi.learn.mends.good_run import last_good_run, rows_of_run
    from wadi.learn.mends.mending import mended

    loaded = _loaded(plan)
    _, known = rows_of_run(run, runs) if run is not None else last_good_run(loaded.name, runs)
    return mended(loaded, known, fresh=fresh)


def __dir__() -> list[str]:
    return sorted(__all__)


def __getattr__(name: str) -> object:
    if name == "WadiError":
        from wadi.problems import WadiError

        return WadiError
    if name == "Page":
        from wadi.crawl.page_view import Page

        return Page
    if name == "PageData":
        from wadi.crawl.page_calls import PageData

        return PageData
    if name == "RunStopped":
        from wadi.actions.crawl import RunStopped

        return RunStopped
    raise AttributeError(f"module 'wadi' has no attribute {name!r}")
