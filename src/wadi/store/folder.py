"""Where runs live: `runs/PLAN/TIME/`, made new for each run, found again by folder, by plan, or by a part of the path."""

from __future__ import annotations

import contextlib
import fcntl
import os
import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import IO, TYPE_CHECKING

from wadi.problems import CrawlError, Place, Problem, RunError, WadiError, listed
from wadi.store.faults import disk_problem

if TYPE_CHECKING:
    from wadi.store.state import RunState

DATABASE = "run.sqlite"
PAGES = "pages"
DOWNLOADS = "downloads"
PLAN = "plan.toml"
LOG = "run.log"
LOCK = "run.lock"
NO_PAGES = "no page came"
"""How a run ended whose pages all failed."""
_NOT_READ = {"other-version": "other version", "disk-full": "no room", "not-writable": "to be copied"}
"""Problems of a run that cannot be read, as a list tells them; for others it is damaged."""
_BEFORE = re.compile(r"~(?:\d+|newest)$")


def new_folder(runs: Path, plan: str, now: datetime) -> Path:
    """A new folder for a run that begins `now` (local time). Two within one second get numbers; and so does one that begins
    before the newest there is, since the clock was set back: names are in the order in which runs began."""
    parent = runs / plan
    newest = max((path for path in parent.glob("[0-9]*T[0-9]*") if path.is_dir()), key=place_in_order, default=None)
    stem, taken = place_in_order(newest) if newest is not None else ("", 0)
    if (here := now.strftime("%Y-%m-%dT%H%M%S")) > stem:
        stem, taken = here, 0
    for number in range(taken + 1, taken + 1000):
        folder = parent / (stem if number == 1 else f"{stem}.{number}")
        try:
            folder.mkdir(parents=True)
        except FileExistsError:
            continue
        except OSError as error:
            what = f"the run's folder cannot be made: {error.strerror}"
            raise RunError(
                Problem("not-writable", what, Place(str(folder)), now="--runs FOLDER puts it elsewhere")
            ) from error
        return folder
    raise RunError(Problem("not-writable", "too many runs began in this second", Place(str(parent))))


def place_in_order(run: Path) -> tuple[str, int]:
    """What the names of runs are ordered by: the time, and the number among those of the same."""
    stem, _, number = run.name.partition(".")
    return stem, int(number) if number.isdecimal() else 1


@dataclass(frozen=True)
class ChosenRun:
    """The run that a name means; `said` tells what a person may not expect: that it is not the newest, or not complete."""

    folder: Path
    said: str = ""


def find_run(name: str, runs: Path, *, newest: bool = False) -> Path:
    """The folder of the run that a name means. Raises RunError."""
    return choose_run(name, runs, newest=newest).folder


def choose_run(name: str, runs: Path, *, newest: bool = False) -> ChosenRun:
    """The run that a name means: a run's folder; or a plan's name for its newest complete run, `PLAN~1` for the complete one
    before it and so on, `PLAN~newest` for the newest whatever its end. Raises RunError.

    A run is complete that asked for all that its plan wants and got some. Where none is, a plan's name means the newest.
    With `newest` a plan's name means the newest run, and no name the newest of all.
    """
    if not name:
        every = max((path.parent for path in runs.glob(f"*/*/{DATABASE}")), key=place_in_order, default=None)
        if every is None:
            raise RunError(Problem("no-such-run", f"there are no runs in {runs}/", now="wadi run PLAN  makes one"))
        return ChosenRun(every)
    for folder in (Path(name), runs / name):
        if (folder / DATABASE).is_file():
            return ChosenRun(folder)
    plan, _, which = name.rpartition("~") if _BEFORE.search(name) else (name, "", "newest" if newest else "")
    folders = _runs_of(plan, runs)
    if not folders:
        plans = sorted({run.parent.parent.name for run in runs.glob(f"*/*/{DATABASE}")}) if runs.is_dir() else []
        now = (
            f"plans with runs in {runs}/: {listed(plans)}"
            if plans
            else f"there are no runs in {runs}/;  wadi run PLAN  makes one"
        )
        raise RunError(Problem("no-such-run", f'no run "{name}"', now=now))
    if which == "newest":
        return ChosenRun(folders[0])
    return _complete_one(plan, folders, int(which or 0))


def _runs_of(plan: str, runs: Path) -> list[Path]:
    """The folders of a plan's runs, the newest first."""
    for parent in (runs / plan, runs / Path(plan).stem, Path(plan)):
        if found := sorted((path.parent for path in parent.glob(f"*/{DATABASE}")), key=place_in_order, reverse=True):
            return found
    return []


def _complete_one(plan: str, folders: Sequence[Path], before: int) -> ChosenRun:
    """The newest complete run but `before` of a plan; the newest where none is complete and no earlier one is asked for."""
    complete = 0
    ends: list[str] = []
    for folder in folders:
        is_complete, end = how_it_ended(folder)
        ends.append(end)
        if not is_complete:
            continue
        if complete == before:
            if before or len(ends) == 1:
                return ChosenRun(folder)
            newest = f"{plan}~newest is {folders[0].name} ({ends[0]})"
            return ChosenRun(folder, f"{folder} is the newest complete run; {newest}")
        complete += 1
    if before:
        what = f'"{plan}" has {complete} complete runs, and the one {before} before the newest was asked for'
        raise RunError(Problem("no-such-run", what, now="wadi runs  lists them"))
    return ChosenRun(folders[0], f"{folders[0]} is the newest run, and none of {plan} is complete ({ends[0]})")


def how_it_ended(folder: Path) -> tuple[bool, str]:
    """Whether a run is complete, and how it ended in words. One that a limit of its plan ended is complete; one that a limit
    of the command line ended, or whose pages all failed, is not."""
    from wadi.store.outcome import End
    from wadi.store.state import RunState

    try:
        with RunState.open(folder / DATABASE) as state:
            end = _end_in_words(state, folder)
            is_cut = bool(state.meta("given_limits"))
    except WadiError as error:
        return False, _NOT_READ.get(error.problems[0].code, "damaged")
    known = next((known_end for known_end in End if known_end == end), None)
    return known is End.COMPLETE or (known is not None and known.is_limit and not is_cut), end


def _end_in_words(state: RunState, folder: Path) -> str:
    """How a run ended: as its crawl says, or that no page came, that it is in use, or not finished."""
    from wadi.store.outcome import End, State

    end = state.meta("end")
    if end is None or RunLock(folder).is_taken():
        return "in use" if RunLock(folder).is_taken() else "not finished"
    return str(end) if state.counts()[State.DONE] or end == End.INTERRUPTED else NO_PAGES


class RunLock:
    """Only one process works on a run at a time. Held from `take` to `release` (a `with` does both), or until the process ends,
    however it ends."""

    def __init__(self, folder: Path) -> None:
        self._path = folder / LOCK
        self._file: IO[str] | None = None

    def __enter__(self) -> None:
        self.take()

    def __exit__(self, *_: object) -> None:
        self.release()

    def take(self) -> None:
        """Raises RunError when another process holds it, or the folder cannot be written."""
        place = Place(str(self._path.parent))
        try:
            file = self._path.open("a+", encoding="ascii")
        except OSError as error:
            if (problem := disk_problem(error, self._path.parent)) is not None and problem.code in (
                "disk-full",
                "too-few-files",
            ):
                raise CrawlError(problem) from error
            raise RunError(Problem("not-writable", f"the run cannot be written: {error.strerror}", place)) from error
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError as error:
            file.seek(0)
            holder = file.read().strip()
            file.close()
            what = f"another process works on this run{f' (process {holder})' if holder else ''}"
            now = "wait for its end, or end it with Ctrl-C there"
            raise RunError(Problem("run-in-use", what, place, now=now)) from error
        file.truncate(0)
        file.write(str(os.getpid()))
        file.flush()
        self._file = file

    def check(self) -> None:
        """Raise RunError when another process works on the run, and leave it as it is."""
        if self.is_taken():
            self.take()
            self.release()  # it ended meanwhile

    def is_taken(self) -> bool:
        """Whether another process works on the run."""
        try:
            with self._path.open("r", encoding="ascii") as file:
                fcntl.flock(file, fcntl.LOCK_SH | fcntl.LOCK_NB)
        except BlockingIOError:
            return True
        except OSError:
            return False
        return False

    def release(self) -> None:
        """Let others work on the run."""
        if self._file is not None:
            self._file.close()
            self._file = None


@dataclass(frozen=True)
class RunFound:
    """A run as a list shows it. `state` is why its crawl ended, `no page came`, `in use`, `not finished`, or why it cannot be
    read: `damaged`, `other version`, `no room`, `to be copied` (its last changes are in a log, and the folder cannot be
    written)."""

    folder: Path
    plan: str
    began: str
    state: str
    rows: int
    pages: int
    failed: int
    waiting: int
    size_bytes: int


def runs_in(runs: Path, plan: str | None = None) -> list[RunFound]:
    """The runs below a folder, the newest first, of all plans or of one."""
    return [run_found(folder) for folder in run_folders(runs, plan)]


def run_folders(runs: Path, plan: str | None = None) -> list[Path]:
    """The folders of the runs below a folder, the newest first, without a look into them."""
    name = Path(plan).stem if plan else "*"
    folders = {path.parent for path in runs.glob(f"{name}/*/{DATABASE}")}
    return sorted(folders, key=lambda run: (place_in_order(run), run.parent.name), reverse=True)


def run_found(folder: Path) -> RunFound:
    """What a list tells about a run; its rows are those of pages, duplicates counted."""
    from wadi.store.outcome import State
    from wadi.store.state import RunState

    size = sum(path.stat().st_size for path in folder.rglob("*") if path.is_file())
    try:
        with RunState.open(folder / DATABASE) as state:
            counts = state.counts()
            word = _end_in_words(state, folder)
            rows = state.row_count()
            plan, began = str(state.meta("plan")), str(state.meta("began"))
    except WadiError as error:
        word = _NOT_READ.get(error.problems[0].code, "damaged")
        return RunFound(folder, folder.parent.name, folder.name, word, 0, 0, 0, 0, size)
    done, failed, waiting = counts[State.DONE], counts[State.FAILED], counts[State.WAITING]
    return RunFound(folder, plan, began, word, rows, done + failed, failed, waiting, size)


def drop_pages(folder: Path) -> int:
    """Remove a run's stored pages; its rows stay. Returns the bytes. Raises RunError when the run is in use."""
    lock = RunLock(folder)
    lock.take()
    try:
        files = [path for path in (folder / PAGES).glob("*.warc.gz") if path.is_file()]
        size = sum(path.stat().st_size for path in files)
        for path in files:
            path.unlink()
    finally:
        lock.release()
    return size


def remove_run(folder: Path) -> None:
    """Remove a run with all that it holds. Raises RunError when it is in use or cannot be removed."""
    import shutil

    lock = RunLock(folder)
    lock.take()
    try:
        shutil.rmtree(folder)
    except OSError as error:
        raise RunError(Problem("not-writable", f"cannot be removed: {error.strerror}", Place(str(folder)))) from error
    finally:
        lock.release()
    with contextlib.suppress(OSError):
        folder.parent.rmdir()
