"""Runs as a whole: begun from a plan, crawled, opened again, read as tables. The parts are the floors' below."""

from __future__ import annotations

import os
import secrets
import shutil
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from wadi.about import VERSION
from wadi.plan.columns import OUTCOMES, table_plan, tables_of
from wadi.plan.local import NoSuchFiles
from wadi.plan.reader import LoadedPlan, parse_plan, with_limits, with_route
from wadi.plan.starts import starts_of
from wadi.problems import CrawlError, Place, Problem, UsageError, listed
from wadi.store.faults import told_as_problems
from wadi.store.folder import DATABASE, PLAN, RunLock, choose_run, drop_pages, find_run, new_folder, runs_in
from wadi.store.history import History, digest_of, write_history
from wadi.store.outcome import State
from wadi.store.state import RunState
from wadi.table.account import Account
from wadi.table.assemble import Assembly
from wadi.table.destinations import Source, holds_several, write_tables
from wadi.table.enough import EnoughRows
from wadi.table.files import give_names
from wadi.table.finish import Means, Trouble
from wadi.table.outcomes import Outcomes, has_outcomes
from wadi.table.seen import Sighting
from wadi.table.troubles import TROUBLES, Troubles
from wadi.table.visits import PAGES, Visits
from wadi.table.writers import PLAIN, Style
from wadi.urls import without_secret

if TYPE_CHECKING:
    import pandas as pd

    from wadi.crawl.engine import End
    from wadi.crawl.events import Event
    from wadi.crawling import Credentials
    from wadi.plan.columns import Column

Report = Callable[["Event"], None]
_LIMITS = ("rows", "pages", "depth", "time", "bytes")
_NOT_CONNECTED = frozenset({"unreachable", "timed-out", "broken-off", "no-route", "route-withdrawn"})
"""Why a page did not come though there is no word of its site against it."""


@dataclass(frozen=True)
class Table:
    """A table of a run: its columns, its rows as a list of lists, and the account of how they came about."""

    name: str
    columns: list[Column]
    rows: list[list[Any]]
    account: Account


class Run:
    """A run's folder, opened. Use as a context manager, or call `close`."""

    def __init__(self, folder: Path, loaded: LoadedPlan, state: RunState, chosen: str = "") -> None:
        self.folder = folder
        self.loaded = loaded
        self.state = state
        self.chosen = chosen
        """What is to be told of why a name means this run; empty where that is plain."""

    @classmethod
    def begin(
        cls, loaded: LoadedPlan, runs: Path | str = "runs", *, now: datetime | None = None, since: str | None = None
    ) -> Run:
        """A new run of a plan: its folder, its database with the start pages, and the plan as it is run.

        With `since` pages that the site says are unchanged are taken from that run. Raises RunError when there is none.
        """
        since_folder = find_run(since, Path(runs)) if since is not None else None
        remembers = _ends_at_known(loaded) or any(table.seen for table in loaded.plan.table.values())
        before = (since_folder or _newest(Path(runs), loaded)) if remembers else None
        if loaded.plan.login is not None:
            from wadi.crawling import session_of

            session_of(loaded, loaded.folder)  # raises here, before there is a folder
        began = now or datetime.now().astimezone()
        folder = new_folder(Path(runs), loaded.name, began)
        try:
            with told_as_problems(folder):
                return cls(folder, loaded, _begun(folder, loaded, began, since_folder, before))
        except BaseException:
            shutil.rmtree(folder, ignore_errors=True)
            raise

    @classmethod
    def open(cls, name: str | Path, runs: Path | str = "runs") -> Run:
        """A run that is there: by its folder, or by a plan's name for its newest complete one (`choose_run`). Raises RunError."""
        chosen = choose_run(str(name), Path(runs))
        state, loaded = _opened(chosen.folder)
        return cls(chosen.folder, with_limits(loaded, **(state.meta("limits") or {})), state, chosen.said)

    @classmethod
    def go_on(cls, name: str | Path, runs: Path | str = "runs", **limits: float | None) -> Run:
        """A run to be gone on with: by its folder, by a plan's name for its newest, or the newest of all. Raises RunError.

        `limits` are those of this sitting. Where a limit had ended the run those of the plan hold anew, and what was asked for
        before does not count; a run that was broken off keeps what it was begun with. Pages that did not come for want of a
        connection wait again. Raises RunError for a run that another process works on.
        """
        folder = find_run(str(name), Path(runs), newest=True)
        RunLock(folder).check()
        state, loaded = _opened(folder)
        given = {name: value for name, value in limits.items() if value is not None}
        if str(state.meta("end") or "").endswith("limit"):
            before = {"pages": state.asked_count(), "bytes": state.size_bytes()}
            state.set_meta("before_limits", before)
            state.set_meta("given_limits", given)
            loaded = with_limits(loaded, **given)
        else:
            state.set_meta("given_limits", {**(state.meta("given_limits") or {}), **given})
            loaded = with_limits(loaded, **{**(state.meta("limits") or {}), **given})
        state.set_meta("limits", _limits_of(loaded))
        again = state.ask_failed_again(_NOT_CONNECTED)
        said = f"pages that did not come for want of a connection are asked for again: {again}" if again else ""
        return cls(folder, loaded, state, said)

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
    def plan_folder(self) -> Path:
        """Where the plan stood when the run began, and the files that it names."""
        return Path(self.state.meta("folder"))

    @property
    def since(self) -> Path | None:
        """The earlier run from which unchanged pages are taken."""
        folder = self.state.meta("since")
        return Path(folder) if folder else None

    @property
    def tables(self) -> list[str]:
        """The names of the run's tables; the first is the main one, the last says what became of lists that went in."""
        plan = self.loaded.plan
        return [*tables_of(plan), *([OUTCOMES] if has_outcomes(plan) else [])]

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
    def means(self) -> Means:
        """What assembling the tables needs beside the run."""
        named = next((table.hash_key_from for table in self.loaded.plan.table.values() if table.hash_key_from), None)
        key = os.environ.get(named, "") if named else str(self.state.meta("hash_key") or "")
        return Means(self.year, self.loaded.functions, key.encode())

    def assembly(
        self,
        table: str | None = None,
        trouble: Callable[[Trouble], None] | None = None,
        *,
        with_helpers: bool = False,
    ) -> Assembly | Outcomes | Troubles | Visits:
        """The rows of a table, to be taken once, with its columns and account; `problems`, `rejects`, `doubles` and `pages` are
        tables, too.

        What does not come about on the way is told to `trouble`; `with_helpers` rows have the columns, too, that the plan
        leaves out. Raises UsageError for an unknown table.
        """
        name, plan = self._known(table), self.loaded.plan
        if name == OUTCOMES and has_outcomes(plan):
            return Outcomes(self.state, plan, self.tables[0])
        if name not in self.tables and name == PAGES:
            return Visits(self.state)
        if name not in self.tables:
            return Troubles(name, self.tables, self.assembly, lambda page: without_secret(self.state.url_of(page)))
        limit = plan.limits.rows
        own = limit if name == self.tables[0] else None
        sighting = self._sighting(name) if table_plan(plan, name).seen else None
        return Assembly(
            self.state, plan, name, limit=own, parent_limit=limit, means=self.means, sighting=sighting, trouble=trouble,
            with_helpers=with_helpers,
        )  # fmt: skip

    def _sighting(self, table: str) -> Sighting:
        """Since when records are known. A run that did not come to its end, lacks pages that may give rows, or stopped at known
        rows, cannot tell which are gone."""
        kinds = self.loaded.plan.page
        detail = {name for name, kind in kinds.items() if kind.completes}
        lacks = any(kind not in detail for kind, _, _ in self.state.failures())
        whole = self.end == "complete" and not lacks and not _ends_at_known(self.loaded)
        began = datetime.fromisoformat(self.state.meta("began")).isoformat(timespec="seconds")
        return Sighting(History(self.folder, table), began, whole)

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

    def write(self, target: str | Path, table: str | None = None, style: Style | None = None) -> int:
        """Write a table to a file in the format of its ending, or to a database by its URL; returns the number of rows.

        A target that holds several tables gets all of the run's when none is named.
        """
        names = self.tables if table is None and holds_several(str(target)) else [self._known(table)]
        return write_tables(str(target), [self.source(name) for name in names], self.style_of(names[0], style or PLAIN))

    def style_of(self, table: str | None, style: Style) -> Style:
        """How a table is written: as asked for, and as its plan says."""
        disarms = style.disarm or table_plan(self.loaded.plan, self._known(table)).disarm
        return replace(style, disarm=disarms)

    def source(self, table: str) -> Source:
        """A table as something to be written."""
        assembly = self.assembly(table)
        key = [assembly.columns[place].name for place in assembly.key] if isinstance(assembly, Assembly) else []
        return Source(table, assembly.columns, key, assembly.rows)

    def package(self, files: Sequence[tuple[Path, str]], delimiter: str = ",") -> dict[str, Any]:
        """The Data Package descriptor of files with the table that each holds; `delimiter` is that of CSV."""
        from wadi.table.describe import data_package

        columns = {table: self.assembly(table).columns for _, table in files}
        return data_package(self.plan_name, self.loaded.plan, columns, files, str(self.state.meta("began")), delimiter)

    def codebook(self, tables: Sequence[str] | None = None) -> str:
        """The codebook of tables (default: all) in Markdown."""
        from wadi.table.describe import Seen, codebook

        found = []
        for name in tables or self.tables:
            assembly = self.assembly(name)
            seen = Seen(assembly.columns)
            for row in assembly.rows():
                seen.take(row)
            found.append((name, seen))
        source = f"Made by Wadi {self.state.meta('wadi')} from the run that began {str(self.state.meta('began'))[:19]}."
        return codebook(self.loaded.plan, self.plan_name, found, source)

    def expire(self, now: datetime) -> int:
        """Remove the stored pages when they are older than the plan's `limits.keep`; returns the bytes that went."""
        keep = self.loaded.plan.limits.keep
        began = datetime.fromisoformat(str(self.state.meta("began")))
        if keep is None or now - began < timedelta(days=keep):
            return 0
        return drop_pages(self.folder)

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
        if table not in (known := (*self.tables, *TROUBLES, PAGES)):
            now = f"tables of this run: {listed(dict.fromkeys(known))}"
            raise UsageError(Problem("no-such-table", f'there is no table "{table}"', now=now))
        return table

    def crawl(
        self,
        report: Report = lambda event: None,
        *,
        credentials: Credentials | None = None,
        stop_within_s: float | None = None,
    ) -> End:
        """Crawl until the end; events go to `report`. Works inside a running event loop too (a notebook's), in a thread.

        Without `credentials` a log-in takes them from the environment variables that the plan names. An interrupt takes what is
        in flight and comes within `stop_within_s` (default: ten seconds), and the end says so; inside a running event loop
        it is raised. Raises CrawlError.
        """
        from wadi.crawling import crawl, helping
        from wadi.pages import fast_loop, in_loop

        with told_as_problems(self.folder):
            self.state.set_meta("end", None)
            self.state.set_meta("measures", None)
            with helping(self) as helpers:
                within = {} if stop_within_s is None else {"stop_within_s": stop_within_s}
                end: End = in_loop(crawl(self, report, credentials, helpers, **within), fast_loop)
            self.state.set_meta("end", end.value)
            self.name_files()
        return end

    def ask_again(self, which: Collection[str]) -> int:
        """Let pages wait again: `failed` ones, or those whose URL matches a pattern (`*`, `?`); returns how many there are."""
        import fnmatch

        patterns = [pattern for pattern in which if pattern != "failed"]
        failed = len(patterns) < len(which)

        def chosen(url: str, state: State) -> bool:
            is_failed = failed and state is State.FAILED
            return is_failed or any(fnmatch.fnmatchcase(url, pattern) for pattern in patterns)

        return self.state.ask_again(chosen)

    def enough_rows(self) -> EnoughRows | None:
        """Whether the first rows that the limit allows are certain; None without a limit."""
        limit = self.loaded.plan.limits.rows
        if limit is None:
            return None
        return EnoughRows(self.state, self.loaded.plan, self.tables[0], limit, means=self.means)

    def name_files(self) -> None:
        """Put downloaded files under the names that the plan makes of their rows."""
        for table in tables_of(self.loaded.plan):
            assembly = self.assembly(table)
            if isinstance(assembly, Assembly) and assembly.names_files:
                for _ in assembly.rows():
                    pass
                give_names(self.folder, assembly.renamed_files)


def _opened(folder: Path) -> tuple[RunState, LoadedPlan]:
    """The database of a run and its plan, with the plan's own limits."""
    state = RunState.open(folder / DATABASE)
    source = (folder / PLAN).read_text("utf-8")
    loaded = parse_plan(source, str(folder / PLAN), state.meta("inputs") or {})
    return state, with_route(loaded, state.meta("route"))


def _limits_of(loaded: LoadedPlan) -> dict[str, Any]:
    return {name: getattr(loaded.plan.limits, name) for name in _LIMITS}


class RunStopped(CrawlError):
    """A crawl that did not go to its end. `run` is the run as far as it came, open: its tables are there, and it can be gone on
    with."""

    def __init__(self, problem: Problem, run: Run) -> None:
        super().__init__(problem)
        self.run = run


class Interrupted(KeyboardInterrupt):
    """A crawl that was interrupted. `run` is the run as far as it came, open."""

    def __init__(self, run: Run) -> None:
        super().__init__(f"interrupted; what came is in {run.folder}:  wadi resume {run.folder}  goes on")
        self.run = run


NO_END = ("host unreachable", "host refused", None)
"""How a crawl ends that did not go to its end."""


def why_stopped(run: Run) -> RunStopped | None:
    """The error that says why a crawl did not give what was asked for, as far as it was there: it found nobody, or no page came;
    None for one that went to its end, or to a limit."""
    counts = run.pages()
    if run.end not in NO_END and counts[State.DONE]:
        return None
    failure = next(run.state.failures(), None)
    first = f": {failure[2]['what']}" if failure else ""
    how = run.end or "not finished"
    what = f"the crawl did not go to its end ({how}), {counts[State.DONE]:,} pages were read{first}"
    now = f"error.run holds what came;  wadi resume {run.folder}  goes on"
    return RunStopped(Problem("run-stopped", what, Place(str(run.folder)), now=now), run)


def _begun(folder: Path, loaded: LoadedPlan, began: datetime, since: Path | None, before: Path | None) -> RunState:
    """A new run's folder filled: the plan and its code as they are run, the database with what the run is and its starts."""
    (folder / PLAN).write_text(loaded.source, "utf-8")
    if loaded.plan.code is not None:
        (folder / loaded.plan.code).write_bytes((loaded.folder / loaded.plan.code).read_bytes())
    unfinished = folder / f"{DATABASE}.new"
    state = RunState.create(unfinished)
    state.set_meta("plan", loaded.name)
    state.set_meta("inputs", dict(loaded.inputs))
    state.set_meta("given", dict(loaded.given))
    state.set_meta("limits", _limits_of(loaded))
    state.set_meta("given_limits", dict(loaded.given_limits))
    state.set_meta("route", loaded.given_route)
    state.set_meta("began", began.isoformat())
    state.set_meta("folder", str(loaded.folder.resolve()))
    state.set_meta("since", str(since.resolve()) if since else None)
    if before is not None:
        if _ends_at_known(loaded):
            _take_known(state, loaded, before)
        _take_history(folder, loaded, before)
    state.set_meta("wadi", VERSION)
    state.set_meta("hash_key", secrets.token_hex(16))
    try:
        starts = starts_of(loaded.plan, loaded.folder)
        state.add_starts((start.kind, start.request, dict(start.inputs)) for start in starts)
    except NoSuchFiles as error:
        raise no_such_files(error) from error
    state.close()
    unfinished.rename(folder / DATABASE)  # a run is there when its database is, and then it is whole
    return RunState.open(folder / DATABASE)


def no_such_files(error: NoSuchFiles) -> UsageError:
    """What is told where a plan begins with files that are not there."""
    now = "an address of a site begins with https://"
    return UsageError(Problem("no-such-file", f"start.addresses: {error}", now=now))


def _take_history(folder: Path, loaded: LoadedPlan, before: Path) -> None:
    """Keep what the run before had of the tables with `seen`."""
    tables = [name for name, table in loaded.plan.table.items() if table.seen]
    if not tables:
        return
    with Run.open(before) as earlier:
        began = datetime.fromisoformat(earlier.state.meta("began")).isoformat(timespec="seconds")
        there = [name for name in tables if name in earlier.tables]
        write_history(folder, ((name, _known_records(earlier, name, began)) for name in there))


def _known_records(earlier: Run, table: str, began: str) -> Iterator[tuple[bytes, str, str, dict[str, Any]]]:
    """Key, first, last and cells of every record that a run has, or knows from those before it."""
    assembly = earlier.assembly(table)
    names = [column.name for column in assembly.columns]
    key = assembly.key if isinstance(assembly, Assembly) else []
    for row in assembly.rows() if key else ():
        cells = dict(zip(names, row, strict=True))
        first, last = cells.pop("first_seen", None) or began, cells.pop("last_seen", None) or began
        yield digest_of(row[place] for place in key), first, last, cells


def _ends_at_known(loaded: LoadedPlan) -> bool:
    return any(kind.next is not None and kind.next.until == "known rows" for kind in loaded.plan.page.values())


def _newest(runs: Path, loaded: LoadedPlan) -> Path | None:
    """The plan's newest run that came to its end."""
    return next((one.folder for one in runs_in(runs, loaded.name) if one.state == "complete"), None)


def _take_known(state: RunState, loaded: LoadedPlan, before: Path) -> None:
    """Remember the rows of the run before, at which newest-first listings end, and those that it knew from its own."""
    from wadi.crawl.earlier import Earlier

    earlier = Earlier(before)
    try:
        for table in tables_of(loaded.plan):
            state.add_known(earlier.rows(table, table_plan(loaded.plan, table).key))
        state.add_known(earlier.known())
    finally:
        earlier.close()
