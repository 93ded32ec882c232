"""A run as one page to be sent on."""

from __future__ import annotations

import platform
from collections.abc import Iterator
from itertools import islice

from wadi.actions.run import Run
from wadi.plan.columns import OUTCOMES
from wadi.quality.report import Failure, Report, TableShown, beginning, events_in, report_html, timeline_of
from wadi.quality.sources import run_table
from wadi.quality.verify_run import verify
from wadi.quality.walk import Walks
from wadi.store.archive import DamagedRecord, read_reply
from wadi.store.folder import PAGES, PLAN
from wadi.version import __version__

LOG = "run.log"
_ROWS = 8
_FAILURES = 25


def report_of(run: Run, *, against: str | None = None) -> tuple[str, bool]:
    """The report on a run as one HTML page, and whether everything holds.

    Raises RunError for a run to compare with that is not there.
    """
    verified = verify(run, against=against, walks=Walks(run, whole=True))
    shown = []
    for profile, table in zip(verified.profiles, verified.tables, strict=True):
        source = run_table(run, table.name)
        rows = [list(row) for row in islice(source.rows(), _ROWS)]
        shown.append(TableShown(profile, rows, source.key, table.ledger.duplicates, table.ledger.rejected))
    pages = {state.name.lower(): count for state, count in verified.facts.pages.items()}
    page = report_html(
        Report(
            title=run.loaded.plan.title or run.plan_name,
            plan_name=run.plan_name,
            began=str(run.state.meta("began"))[:19].replace("T", " "),
            end=run.end or "not finished",
            plan=(run.folder / PLAN).read_text("utf-8"),
            versions=f"Made by Wadi {__version__} from a run of Wadi {run.state.meta('wadi')}, "
            f"Python {platform.python_version()}, {platform.system()}.",
            verdict=verified.verdict,
            pages={"done": 0, "failed": 0, "waiting": 0, **pages},
            listings=verified.verdict.listings,
            requests=int((run.state.meta("spent") or {}).get("requests", 0)),
            tables=[table for table in shown if table.profile.name != OUTCOMES or len(shown) == 1],
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
