"""Runs set side by side, and a run as one page: what the commands `compare` and `report` are made of."""

from __future__ import annotations

import os
import platform
import shutil
import subprocess
import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack
from itertools import islice
from pathlib import Path

from wadi.about import VERSION
from wadi.plan.columns import OUTCOMES
from wadi.problems import Problem, UsageError, WadiError, listed
from wadi.quality.compare import Comparison, Key, Point, Tolerance, column_of, compare, point_of
from wadi.quality.profile import profile_of
from wadi.quality.report import Failure, Report, TableShown, beginning, events_in, report_html, timeline_of
from wadi.runs import Run
from wadi.store.archive import DamagedRecord, read_reply
from wadi.store.folder import PAGES, PLAN, runs_in
from wadi.verifying import run_table, sources_of, verify

LOG = "run.log"
_ROWS = 8
_FAILURES = 25
_BROWSERS = ("chromium", "chromium-browser", "google-chrome", "chrome")
_PDF_WITHIN_S = 120


def report_of(run: Run, *, against: str | None = None) -> tuple[str, bool]:
    """The report on a run as one HTML page, and whether everything holds.

    Raises RunError for a run to compare with that is not there.
    """
    verified = verify(run, against=against, profile=profile_of)
    shown = []
    for profile, (name, _, account) in zip(verified.profiles, verified.accounts, strict=True):
        source = run_table(run, name)
        rows = [list(row) for row in islice(source.rows(), _ROWS)]
        shown.append(TableShown(profile, rows, source.key, account.doubles, account.rejected))
    pages = {state.name.lower(): count for state, count in run.pages().items()}
    page = report_html(
        Report(
            title=run.loaded.plan.title or run.plan_name,
            plan_name=run.plan_name,
            began=str(run.state.meta("began"))[:19].replace("T", " "),
            end=run.end or "not finished",
            plan=(run.folder / PLAN).read_text("utf-8"),
            versions=f"Made by Wadi {VERSION} from a run of Wadi {run.state.meta('wadi')}, "
            f"Python {platform.python_version()}, {platform.system()}.",
            verdict=verified.verdict,
            pages={"done": 0, "failed": 0, "waiting": 0, **pages},
            listings=verified.verdict.listings,
            requests=int((run.state.meta("spent") or {}).get("requests", 0)),
            tables=[one for one in shown if one.profile.name != OUTCOMES or len(shown) == 1],
            failures=list(_failures(run)),
            left_out=max(0, pages.get("failed", 0) - _FAILURES),
            timeline=timeline_of(events_in(run.folder / LOG)),
        )
    )
    return page, verified.verdict.holds


def _failures(run: Run) -> Iterator[Failure]:
    """The first failed pages, with what came."""
    for number, (page, kind, url, problem) in enumerate(run.state.failed_pages(_FAILURES), start=1):
        location = run.state.location(page)
        stored, size = None, 0
        if location is not None:
            try:
                reply = read_reply(run.folder / PAGES, location)
                stored, size = beginning(reply.body, reply.content_type), len(reply.body)
            except (DamagedRecord, OSError, KeyError, ValueError):
                stored = None
        yield Failure(number, kind, url, str(problem["code"]), str(problem["what"]), stored, size)


def write_pdf(page: Path, target: Path) -> None:
    """Print an HTML file with a browser that is installed. Raises UsageError where there is none, or it fails."""
    browser = next((found for name in _BROWSERS if (found := shutil.which(name))), None)
    if browser is None:
        now = f"install one of {listed(_BROWSERS)}, or print the page from a browser of yours"
        raise UsageError(Problem("no-browser", "no browser is installed that prints pages", now=now))
    as_root = ["--no-sandbox"] if os.geteuid() == 0 else []  # its own walls do not stand up for that user
    with tempfile.TemporaryDirectory() as profile:
        command = [
            browser, "--headless", *as_root, "--disable-gpu", "--no-first-run", "--disable-background-networking",
            "--host-resolver-rules=MAP * ~NOTFOUND", f"--user-data-dir={profile}", "--no-pdf-header-footer",
            f"--print-to-pdf={target.resolve()}", page.resolve().as_uri(),
        ]  # fmt: skip
        target.unlink(missing_ok=True)
        try:
            done = subprocess.run(command, capture_output=True, text=True, timeout=_PDF_WITHIN_S, check=False)
        except subprocess.TimeoutExpired as error:
            raise UsageError(Problem("no-browser", f"{browser} took longer than {_PDF_WITHIN_S} s to print")) from error
    if not target.is_file():
        lines = done.stderr.strip().splitlines()
        what = f"{browser} printed nothing: {lines[-1] if lines else f'status {done.returncode}'}"
        raise UsageError(Problem("no-browser", what))


def compare_tables(
    old: str,
    new: str,
    runs: Path | str,
    *,
    table: str | None = None,
    key: Sequence[str] = (),
    without: Sequence[str] = (),
    tolerance: Tolerance | None = None,
    tell: Callable[[str], None] = lambda said: None,
) -> list[Comparison]:
    """Two runs or files, table by table. Of files with one table each the names need not be the same. `tell` hears which run
    a name means where one may expect another. Raises UsageError."""
    with ExitStack() as stack:
        before, after = (
            [one for one in sources_of(what, runs, table, stack, tell) if one.name != OUTCOMES] for what in (old, new)
        )
        if len(before) == len(after) == 1:
            pairs = [(before[0], after[0])]
        else:
            by_name = {one.name: one for one in before}
            pairs = [(by_name[one.name], one) for one in after if one.name in by_name]
        if not pairs:
            names = f"{listed([one.name for one in before])} before, {listed([one.name for one in after])} now"
            raise UsageError(Problem("no-such-table", "the two have no table in common", now=names))
        if key and table is None and len(pairs) > 1:
            pairs = [pair for pair in pairs if all(name in one.names for one in pair for name in key)] or pairs[:1]
        return [compare(one, other, key, without=without, tolerance=tolerance) for one, other in pairs]


def history_of(
    plan: str, runs: Path | str, table: str, *, column: str | None = None, record: Key | None = None
) -> list[Point]:
    """A table through all complete runs of a plan, the oldest first. Raises UsageError where there is nothing to tell."""
    found: list[Point] = []
    reason: WadiError | None = None
    for one in reversed(runs_in(Path(runs), plan)):
        if one.state != "complete":
            continue
        try:
            with Run.open(one.folder) as run:
                source = run_table(run, run.source(table).name)
                if column is not None:
                    column_of(source, column)
                if record is not None and len(record) != len(source.key):
                    wants = f"its key is {listed(list(source.key))}" if source.key else "it has no key"
                    what = f"the table {table} is not asked by {len(record)} values: {wants}"
                    raise UsageError(Problem("no-such-row", what))
                found.append(point_of(one.began[:19].replace("T", " "), str(one.folder), source, column, record))
        except WadiError as error:
            reason = error
    if not found:
        if reason is not None:
            raise reason
        raise UsageError(Problem("no-such-run", f'there is no complete run of "{plan}" in {runs}/'))
    if record is not None and not any(point.is_there for point in found):
        what = f'no run of "{plan}" has {" ".join(map(str, record))} in {table}'
        raise UsageError(Problem("no-such-row", what))
    return found
