"""Where runs live: `runs/PLAN/TIME/`, made new for each run, found again by folder, by plan, or by a part of the path."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

from wadi.problems import Place, Problem, RunError, listed

DATABASE = "run.sqlite"
PAGES = "pages"
PLAN = "plan.toml"
LOG = "run.log"


def new_folder(runs: Path, plan: str, now: datetime) -> Path:
    """A new folder for a run that begins `now` (local time). Two within one second get numbers."""
    stem = now.strftime("%Y-%m-%dT%H%M%S")
    parent = runs / plan
    for number in range(1, 1000):
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


def find_run(name: str, runs: Path) -> Path:
    """The folder of a run: a path, or a plan's name for its newest run below `runs`. Raises RunError."""
    for folder in (Path(name), runs / name):
        if (folder / DATABASE).is_file():
            return folder
    for parent in (runs / name, runs / Path(name).stem, Path(name)):
        newest = max((run.parent for run in parent.glob(f"*/{DATABASE}")), default=None)
        if newest is not None:
            return newest
    plans = sorted({run.parent.parent.name for run in runs.glob(f"*/*/{DATABASE}")}) if runs.is_dir() else []
    now = (
        f"plans with runs in {runs}/: {listed(plans)}"
        if plans
        else f"there are no runs in {runs}/;  wadi run PLAN  makes one"
    )
    raise RunError(Problem("no-such-run", f'no run "{name}"', now=now))
