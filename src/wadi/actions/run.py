"""A run that is there, opened: its folder, its plan as it was run, its database, its tables."""

from __future__ import annotations

import os
from collections.abc import Callable, Collection
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import cached_property
from html import escape
from pathlib import Path
from typing import TYPE_CHECKING, Any

from wadi.plan.columns import OUTCOMES, table_plan, tables_of
from wadi.plan.reader import LoadedPlan, parse_plan, with_limits, with_route
from wadi.problems import Problem, UsageError, listed
from wadi.store.crash_points import Reached, unheard
from wadi.store.folder import DATABASE, PLAN, choose_run, drop_pages
from wadi.store.history import History
from wadi.store.outcome import End, State
from wadi.store.state import RunState
from wadi.table.assemble import Assembly, CertainRows
from wadi.table.derived import TableContext
from wadi.table.ledger import Ledger, RowIssue
from wadi.table.outcomes import Outcomes, has_outcomes
from wadi.table.row_issues import ISSUE_TABLES, RowIssues
from wadi.table.seen import Sighting
from wadi.table.visits import PAGES, Visits
from wadi.table.words import html_table, percent
from wadi.urls import without_secret

if TYPE_CHECKING:
    import pandas as pd

    from wadi.plan.columns import Column


@dataclass(frozen=True)
class Table:
    """A table of a run: its columns, its rows as a list of lists, and the ledger of how they came about."""

    name: str
    columns: list[Column]
    rows: list[list[Any]]
    ledger: Ledger


class Run:
    """A run's folder, opened. Use as a context manager, or call `close`."""

    def __init__(self, folder: Path, loaded: LoadedPlan, state: RunState, chosen: str = "") -> None:
        self.folder = folder
        self.loaded = loaded
        self.state = state
        self.chosen = chosen
        """What is to be told of why a name means this run; empty where that is plain."""

    @classmethod
    def open(cls, name: str | Path, runs: Path | str = "runs", *, reached: Reached = unheard) -> Run:
        """A run that is there: by its folder, or by a plan's name for its newest complete one (`choose_run`). Raises RunError."""
        chosen = choose_run(str(name), Path(runs))
        state, loaded = opened(chosen.folder, reached)
        return cls(chosen.folder, with_limits(loaded, **(state.meta("limits") or {})), state, chosen.said)

    def __enter__(self) -> Run:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        self.state.close()

    def __repr__(self) -> str:
        counts = self.state.counts()
        end = self.end or "not finished"
        return f"<wadi run {self.folder}: {end}, {counts[State.DONE]:,} pages, tables {', '.join(self.tables)}>"

    def _repr_html_(self) -> str:
        """The run in a notebook: how it ended, and each table's columns with how they are filled."""
        counts = self.state.counts()
        failed = f", {counts[State.FAILED]:,} failed" if counts[State.FAILED] else ""
        head = f"<p>{escape(str(self.folder))}: {self.end or 'not finished'}; {counts[State.DONE]:,} pages read{failed}</p>"
        return head + "".join(map(self._table_html, self.tables))

    def _table_html(self, name: str) -> str:
        table = self.read(name)
        columns = [
            (column.name, column.type, column.unit or "", percent(_filled(table.rows, place), len(table.rows)))
            for place, column in enumerate(table.columns)
        ]
        return html_table(f"{name}: {len(table.rows):,} rows", ("column", "type", "unit", "filled"), columns)

    @property
    def plan_name(self) -> str:
        return str(self.state.meta("plan"))

    @property
    def plan_folder(self) -> Path:
        """Where the plan stood when the run began, and the files that it names."""
        return Path(self.state.meta("folder"))

    @property
    def since(self) -> Path | None:
        """The earlier run from which unchanged pages are taken."""
        folder = self.state.meta("since")
        return Path(folder) if folder else None

    @property
    def end(self) -> End | None:
        """Why the crawl ended; None while it runs, or when it was broken off."""
        value = self.state.meta("end")
        return None if value is None else End(value)

    def pages(self) -> dict[State, int]:
        return self.state.counts()

    @property
    def as_of(self) -> str:
        """When the run's pages were asked for: its own beginning, or that of the run whose pages were read again."""
        return str(self.state.meta("as_of") or self.state.meta("began"))

    @property
    def given_inputs(self) -> dict[str, Any]:
        """The inputs that the run was begun with over those of its plan."""
        return dict(self.state.meta("given") or {})

    @cached_property
    def year(self) -> int:
        return datetime.fromisoformat(self.as_of).year

    @cached_property
    def context(self) -> TableContext:
        """What assembling the tables needs beside the run. Raises UsageError where the plan has code that was not approved."""
        self.loaded.require_code()
        named = next((table.hash_key_from for table in self.loaded.plan.table.values() if table.hash_key_from), None)
        key = os.environ.get(named, "") if named else str(self.state.meta("hash_key") or "")
        return TableContext(self.year, self.loaded.functions, key.encode())

    @property
    def tables(self) -> list[str]:
        """The names of the run's tables; the first is the main one, the last says what became of lists that went in."""
        plan = self.loaded.plan
        return [*tables_of(plan), *([OUTCOMES] if has_outcomes(plan) else [])]

    def known_table(self, table: str | None) -> str:
        """The name of a table of the run; without one that of the main table. Raises UsageError."""
        if table is None:
            return self.tables[0]
        if table not in (known := (*self.tables, *ISSUE_TABLES, PAGES)):
            now = f"tables of this run: {listed(dict.fromkeys(known))}"
            raise UsageError(Problem("no-such-table", f'there is no table "{table}"', now=now))
        return table

    def assembly(
        self,
        table: str | None = None,
        issue: Callable[[RowIssue], None] | None = None,
        *,
        with_helpers: bool = False,
    ) -> Assembly | Outcomes | RowIssues | Visits:
        """The rows of a table, to be taken once, with its columns and ledger; `problems`, `rejects`, `duplicates` and `pages`
        are tables, too.

        What does not come about on the way is told to `issue`; `with_helpers` rows have the columns, too, that the plan
        leaves out. Raises UsageError for an unknown table.
        """
        name, plan = self.known_table(table), self.loaded.plan
        if name == OUTCOMES and has_outcomes(plan):
            return Outcomes(self.state, plan, self.tables[0])
        if name not in self.tables and name == PAGES:
            return Visits(self.state)
        if name not in self.tables:
            return RowIssues(name, self.tables, self.assembly, lambda page: without_secret(self.state.url_of(page)))
        limit = plan.limits.rows
        most_rows = limit if name == self.tables[0] else None
        sighting = self._sighting(name) if table_plan(plan, name).history else None
        return Assembly(
            self.state, plan, name, limit=most_rows, parent_limit=limit, context=self.context, sighting=sighting, issue=issue,
            with_helpers=with_helpers,
        )  # fmt: skip

    def certain_rows(self, table: str | None = None) -> CertainRows | None:
        """The rows of a table of the plan as they become certain while the run is crawled; None for other tables."""
        name, plan = self.known_table(table), self.loaded.plan
        if name not in tables_of(plan):
            return None
        limit = plan.limits.rows if name == self.tables[0] else None
        return CertainRows(self.state, plan, name, context=self.context, limit=limit)

    def _sighting(self, table: str) -> Sighting:
        """Since when records are known. A run that did not come to its end, lacks pages that may give rows, or stopped at known
        rows, cannot tell which are gone."""
        kinds = self.loaded.plan.page
        detail = {name for name, kind in kinds.items() if kind.completes}
        lacks = any(failed.kind not in detail for failed in self.state.failures())
        whole = self.end is End.COMPLETE and not lacks and not ends_at_known(self.loaded)
        began = datetime.fromisoformat(self.state.meta("began")).isoformat(timespec="seconds")
        return Sighting(History(self.folder, table), began, whole)

    def read(self, table: str | None = None) -> Table:
        """A whole table in memory."""
        assembly = self.assembly(table)
        rows = list(assembly.rows())
        return Table(self.known_table(table), assembly.columns, rows, assembly.ledger)

    def table(self, name: str | None = None) -> pd.DataFrame:
        """A table as a DataFrame; without a name the main one."""
        from wadi.table.frame import frame

        assembly = self.assembly(name)
        return frame(assembly.columns, assembly.rows())


def _filled(rows: list[list[Any]], place: int) -> int:
    return sum(row[place] is not None and row[place] != [] for row in rows)


def opened(folder: Path, reached: Reached = unheard) -> tuple[RunState, LoadedPlan]:
    """The database of a run and its plan, with the plan's own limits."""
    state = RunState.open(folder / DATABASE, reached)
    source = (folder / PLAN).read_text("utf-8")
    loaded = parse_plan(source, str(folder / PLAN), state.meta("inputs") or {})
    return state, with_route(loaded, state.meta("route"))


def ends_at_known(loaded: LoadedPlan) -> bool:
    """Whether a listing of the plan ends where earlier runs have all its rows."""
    return any(kind.next is not None and kind.next.end_when == "known rows" for kind in loaded.plan.page.values())


def expire(run: Run, now: datetime) -> int:
    """Remove the stored pages when they are older than the plan's `limits.keep_pages`; returns the bytes that went."""
    keep = run.loaded.plan.limits.keep_pages
    began = datetime.fromisoformat(str(run.state.meta("began")))
    if keep is None or now - began < timedelta(days=keep):
        return 0
    return drop_pages(run.folder)


def retry_pages(run: Run, which: Collection[str]) -> int:
    """Let pages wait again: `failed` ones, or those whose URL matches a pattern (`*`, `?`); returns how many there are."""
    import fnmatch

    patterns = [pattern for pattern in which if pattern != "failed"]
    failed = len(patterns) < len(which)

    def chosen(url: str, state: State) -> bool:
        is_failed = failed and state is State.FAILED
        return is_failed or any(fnmatch.fnmatchcase(url, pattern) for pattern in patterns)

    return run.state.ask_again(chosen)
