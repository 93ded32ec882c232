"""A run begun, from a plan: its folder, its database with the starts, what earlier runs know; and one gone on with."""

from __future__ import annotations

import secrets
import shutil
import tomllib
from collections.abc import Callable, Iterator
from contextlib import suppress
from datetime import datetime
from pathlib import Path
from typing import Any

from wadi.actions.run import Run, ends_at_known, opened
from wadi.actions.setup import certificates_of, session_of
from wadi.clean.identity import digest_of
from wadi.crawl.previous_run import PreviousRun
from wadi.plan.columns import table_plan, tables_of
from wadi.plan.lint.starts import every_address
from wadi.plan.local import NoSuchFiles
from wadi.plan.reader import LoadedPlan, with_limits
from wadi.plan.starts import noting, starts_of
from wadi.problems import CrawlError, Place, PlanError, Problem, RunError, UsageError
from wadi.store.connect import is_writable
from wadi.store.crash_points import Reached, unheard
from wadi.store.faults import as_problems
from wadi.store.folder import DATABASE, PLAN, RunLock, find_run, new_folder, runs_in
from wadi.store.history import write_history
from wadi.store.outcome import End
from wadi.store.shards import SHARDS, put_together
from wadi.store.state import RunState
from wadi.table.assemble import Assembly
from wadi.urls import NotAUrl
from wadi.version import __version__

_LIMITS = ("rows", "pages", "depth", "time", "bytes")
_NOT_CONNECTED = frozenset({"unreachable", "timed-out", "broken-off", "no-route", "route-withdrawn"})
"""Why a page did not come though there is no word of its site against it."""


def begin(
    loaded: LoadedPlan,
    runs: Path | str = "runs",
    *,
    now: datetime | None = None,
    since: str | None = None,
    reached: Reached = unheard,
    noted: Callable[[int], None] = lambda count: None,
) -> Run:
    """A new run of a plan: its folder, its database with the start pages, and the plan as it is run.

    With `since` pages that the site says are unchanged are taken from that run. `reached` is told of crash points, `noted` how
    many start addresses there are so far. Raises RunError when there is no such run, UsageError where the plan has code that was
    not approved.
    """
    loaded.require_code()
    since_folder = find_run(since, Path(runs)) if since is not None else None
    remembers = ends_at_known(loaded) or any(table.history for table in loaded.plan.table.values())
    before = (since_folder or _newest(Path(runs), loaded)) if remembers else None
    session_of(loaded, loaded.folder)  # these raise here, before there is a folder
    certificates_of(loaded, loaded.folder)
    began = now or datetime.now().astimezone()
    folder = new_folder(Path(runs), loaded.name, began)
    try:
        with as_problems(folder):
            return Run(folder, loaded, _begun(folder, loaded, began, since_folder, before, reached, noted))
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise


def go_on(name: str | Path, runs: Path | str = "runs", *, reached: Reached = unheard, **limits: float | None) -> Run:
    """A run to be gone on with: by its folder, by a plan's name for its newest, or the newest of all. Raises RunError.

    `limits` are those of this sitting. Where a limit had ended the run those of the plan hold anew, and what was asked for
    before does not count; a run that was broken off keeps what it was begun with. Pages that did not come for want of a
    connection wait again. Raises RunError for a run that another process works on.
    """
    folder = find_run(str(name), Path(runs), newest=True)
    RunLock(folder).check()
    if (folder / SHARDS).is_dir():  # a client of a cluster died
        put_together(folder)
    state, loaded = opened(folder, reached)
    if not state.can_write:
        state.close()
        if is_writable(folder / DATABASE):
            now = "make room, then  wadi resume  goes on; what was committed is kept"
            raise CrawlError(
                Problem("disk-full", "no room is left for the run's database", Place(str(folder)), now=now)
            )
        now = "copy it to where it can be written;  export, verify and trace  need not write to it"
        raise RunError(Problem("not-writable", "the run cannot be written", Place(str(folder)), now=now))
    given = {name: value for name, value in limits.items() if value is not None}
    if (end := state.meta("end")) is not None and End(end).is_limit:
        before = {"pages": state.asked_count(), "bytes": state.size_bytes()}
        state.set_meta("before_limits", before)
        state.set_meta("given_limits", given)
        loaded = with_limits(loaded, **given)
    else:
        state.set_meta("given_limits", {**(state.meta("given_limits") or {}), **given})
        loaded = with_limits(loaded, **{**(state.meta("limits") or {}), **given})
    state.set_meta("limits", _limits_of(loaded))
    state.ask_for_absent()  # of a run whose pages were read again, and that died over it
    again = state.ask_failed_again(_NOT_CONNECTED)
    said = [f"pages that did not come for want of a connection are asked for again: {again}"] if again else []
    run = Run(folder, loaded, state)
    if changed := changed_since(run):
        said.append(
            f"{changed} was changed since this run began, which goes on with what it was begun with"
            f" ({folder / PLAN});  wadi reparse {folder} --fetch  takes the changed one"
        )
    run.chosen = "\n".join(said)
    return run


def changed_since(run: Run) -> str:
    """The plan's file, or the first of those that it names, that says something else now than when the run began; empty where
    none does, or none is there. Comments and blanks in a plan say nothing."""
    path = run.plan_folder / f"{run.plan_name}.toml"
    with suppress(OSError, UnicodeDecodeError):
        if _says_else(path.read_text("utf-8"), (run.folder / PLAN).read_text("utf-8")):
            return str(path)
    for name in filter(None, (run.loaded.plan.code, *run.loaded.scripts)):
        with suppress(OSError, UnicodeDecodeError):
            if (run.plan_folder / name).read_text("utf-8-sig") != (run.folder / name).read_text("utf-8-sig"):
                return str(run.plan_folder / name)
    return ""


def _says_else(now: str, then: str) -> bool:
    """Whether a plan says something else than it did; what is no plan any more does."""
    try:
        return tomllib.loads(now) != tomllib.loads(then)
    except tomllib.TOMLDecodeError:
        return True


def _limits_of(loaded: LoadedPlan) -> dict[str, Any]:
    return {name: getattr(loaded.plan.limits, name) for name in _LIMITS}


def _begun(
    folder: Path,
    loaded: LoadedPlan,
    began: datetime,
    since: Path | None,
    before: Path | None,
    reached: Reached,
    noted: Callable[[int], None],
) -> RunState:
    """A new run's folder filled: the plan and its code as they are run, the database with what the run is and its starts."""
    (folder / PLAN).write_text(loaded.source, "utf-8")
    if loaded.plan.code is not None:
        (folder / loaded.plan.code).write_bytes((loaded.folder / loaded.plan.code).read_bytes())
    for name, source in loaded.scripts.items():
        (folder / name).write_text(source, "utf-8")
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
        if ends_at_known(loaded):
            _take_known(state, loaded, before)
        _take_history(folder, loaded, before)
    state.set_meta("wadi", __version__)
    state.set_meta("hash_key", secrets.token_hex(16))
    try:
        starts = noting(starts_of(loaded.plan, loaded.folder), noted)
        state.add_starts((start.kind, start.request, dict(start.inputs)) for start in starts)
    except NoSuchFiles as error:
        raise no_such_files(error) from error
    except NotAUrl as error:
        raise PlanError([problem for _, problem in every_address(loaded.plan, loaded.text)]) from error
    state.close_whole()
    unfinished.rename(folder / DATABASE)  # a run is there when its database is, and then it is whole
    return RunState.open(folder / DATABASE, reached)


def no_such_files(error: NoSuchFiles) -> UsageError:
    """What is told where a plan begins with files that are not there."""
    now = "an address of a site begins with https://"
    return UsageError(Problem("no-such-file", f"start.addresses: {error}", now=now))


def _take_history(folder: Path, loaded: LoadedPlan, before: Path) -> None:
    """Keep what the run before had of the tables with `seen`."""
    tables = [name for name, table in loaded.plan.table.items() if table.history]
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


def _newest(runs: Path, loaded: LoadedPlan) -> Path | None:
    """The plan's newest run that came to its end."""
    return next((run.folder for run in runs_in(runs, loaded.name) if run.state == End.COMPLETE), None)


def _take_known(state: RunState, loaded: LoadedPlan, before: Path) -> None:
    """Remember the rows of the run before, at which newest-first listings end, and those that it knew from its own."""
    earlier = PreviousRun(before)
    try:
        for table in tables_of(loaded.plan):
            state.add_known(earlier.rows(table, table_plan(loaded.plan, table).key))
        state.add_known(earlier.known())
    finally:
        earlier.close()
