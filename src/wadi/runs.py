"""Runs as a whole: begun from a plan, crawled, opened again, read as tables. The parts are the floors' below."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from wadi.about import VERSION
from wadi.plan.columns import tables_of
from wadi.plan.reader import LoadedPlan, parse_plan
from wadi.plan.starts import starts_of
from wadi.problems import Problem, UsageError, listed
from wadi.store.folder import DATABASE, LOG, PAGES, PLAN, find_run, new_folder
from wadi.store.outcome import State
from wadi.store.state import RunState
from wadi.table.assemble import Account, Assembly, EnoughRows
from wadi.table.writers import write_file
from wadi.urls import resolve

if TYPE_CHECKING:
    import pandas as pd

    from wadi.crawl.engine import End
    from wadi.crawl.events import Event
    from wadi.plan.columns import Column

Report = Callable[["Event"], None]


@dataclass(frozen=True)
class Table:
    """A table of a run: its columns, its rows as a list of lists, and the account of how they came about."""

    name: str
    columns: list[Column]
    rows: list[list[Any]]
    account: Account


class Run:
    """A run's folder, opened. Use as a context manager, or call `close`."""

    def __init__(self, folder: Path, loaded: LoadedPlan, state: RunState) -> None:
        self.folder = folder
        self.loaded = loaded
        self.state = state

    @classmethod
    def begin(cls, loaded: LoadedPlan, runs: Path | str = "runs", *, now: datetime | None = None) -> Run:
        """A new run of a plan: its folder, its database with the start pages, and the plan as it is run."""
        from wadi.web.messages import Request

        began = now or datetime.now().astimezone()
        folder = new_folder(Path(runs), loaded.name, began)
        (folder / PLAN).write_text(loaded.source, "utf-8")
        state = RunState.create(folder / DATABASE)
        limits = loaded.plan.limits
        state.set_meta("plan", loaded.name)
        state.set_meta("inputs", dict(loaded.inputs))
        state.set_meta("limits", {"rows": limits.rows, "pages": limits.pages})
        state.set_meta("began", began.isoformat())
        state.set_meta("wadi", VERSION)
        plan = loaded.plan
        starts = starts_of(plan.start.addresses, plan.inputs)
        state.add_starts([(plan.start.page, Request(resolve("", s.url)), dict(s.inputs)) for s in starts])
        return cls(folder, loaded, state)

    @classmethod
    def open(cls, name: str | Path, runs: Path | str = "runs") -> Run:
        """A run that is there: by its folder, or by a plan's name for its newest. Raises RunError."""
        from wadi.plan.reader import with_limits

        folder = find_run(str(name), Path(runs))
        state = RunState.open(folder / DATABASE)
        source = (folder / PLAN).read_text("utf-8")
        loaded = parse_plan(source, str(folder / PLAN), state.meta("inputs") or {})
        limits = state.meta("limits") or {}
        return cls(folder, with_limits(loaded, rows=limits.get("rows"), pages=limits.get("pages")), state)

    def __enter__(self) -> Run:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        self.state.close()

    @property
    def plan_name(self) -> str:
        return str(self.state.meta("plan"))

    @property
    def tables(self) -> list[str]:
        """The names of the run's tables; the first is the main one."""
        return tables_of(self.loaded.plan)

    @cached_property
    def _year(self) -> int:
        return datetime.fromisoformat(self.state.meta("began")).year

    def assembly(self, table: str | None = None) -> Assembly:
        """The rows of a table, to be taken once, with its columns and account. Raises UsageError for an unknown table."""
        name = self._known(table)
        limit = self.loaded.plan.limits.rows if name == self.tables[0] else None
        return Assembly(self.state, self.loaded.plan, name, limit=limit, this_year=self._year)

    def read(self, table: str | None = None) -> Table:
        """A whole table in memory."""
        assembly = self.assembly(table)
        rows = list(assembly.rows())
        return Table(self._known(table), assembly.columns, rows, assembly.account)

    def table(self, name: str | None = None) -> pd.DataFrame:
        """A table as a DataFrame; without a name the main one."""
        from wadi.table.frame import frame

        assembly = self.assembly(name)
        return frame(assembly.columns, assembly.rows())

    def write(self, path: str | Path, table: str | None = None) -> int:
        """Write a table to a file in the format of its ending; returns the number of rows."""
        assembly = self.assembly(table)
        return write_file(path, assembly.columns, assembly.rows())

    def accounts(self) -> Iterator[tuple[str, list[Column], Account]]:
        """Every table with its columns and the account of its rows."""
        for name in self.tables:
            assembly = self.assembly(name)
            for _ in assembly.rows():
                pass
            yield name, assembly.columns, assembly.account

    def pages(self) -> dict[State, int]:
        return self.state.counts()

    @property
    def end(self) -> str | None:
        """Why the crawl ended; None while it runs or when it was interrupted."""
        value = self.state.meta("end")
        return None if value is None else str(value)

    def _known(self, table: str | None) -> str:
        if table is None:
            return self.tables[0]
        if table not in self.tables:
            now = f"tables of this run: {listed(self.tables)}"
            raise UsageError(Problem("no-such-table", f'there is no table "{table}"', now=now))
        return table

    def crawl(self, report: Report = lambda event: None) -> End:
        """Crawl until the end; events go to `report`. Works inside a running event loop too (a notebook's), in a thread."""
        from wadi.pages import in_loop

        end: End = in_loop(self._crawl(report))
        return end

    async def _crawl(self, report: Report) -> End:
        from wadi.crawl.engine import Engine
        from wadi.crawl.journal import Journal
        from wadi.store.archive import Archive

        journal = Journal(self.folder / LOG)

        def tell(event: Event) -> None:
            journal(event)
            report(event)

        client = _client(self.loaded, tell)
        archive = Archive(self.folder / PAGES, software=f"Wadi/{VERSION}")
        try:
            end = await Engine(self._task(), self.state, archive, client, tell).crawl()
        finally:
            await client.close()
            archive.close()
            journal.close()
        self.state.set_meta("end", end.value)
        return end

    def _task(self) -> Any:
        from wadi.crawl.engine import Task
        from wadi.crawl.kinds import compile_kinds

        plan, limits = self.loaded.plan, self.loaded.plan.limits
        enough = None
        if limits.rows is not None:
            enough = EnoughRows(self.state, plan, self.tables[0], limits.rows, this_year=self._year)
        places = {name: self.loaded.place("page", name, "expect") for name, kind in plan.page.items() if kind.expect}
        kinds = compile_kinds(plan, this_year=self._year)
        return Task(kinds, plan.manners.parallel, limits.pages, enough, places)


def _client(loaded: LoadedPlan, report: Report) -> Any:
    from wadi.web.client import Client, user_agent
    from wadi.web.retry import Retrying
    from wadi.web.throttle import Pace, Throttle
    from wadi.web.transport import Bounds, HttpTransport

    manners, limits = loaded.plan.manners, loaded.plan.limits
    bounds = Bounds(manners.connect_within, manners.answer_within, manners.whole_within, limits.page_size)
    transport = HttpTransport(bounds=bounds, identity=user_agent(manners.contact), per_host=manners.parallel)
    throttle = Throttle(Pace(manners.pause, manners.parallel), clock=time.monotonic, sleep=asyncio.sleep)
    policy = Retrying(manners.retries, manners.first_wait, manners.longest_wait)
    agent = None if manners.ignore_robots else "wadi"
    return Client(transport, throttle, policy, report=report, robots_agent=agent)
