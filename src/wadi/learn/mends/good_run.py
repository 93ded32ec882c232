"""The last good run of a plan: the newest in which no column is blank that others have filled."""

from __future__ import annotations

from pathlib import Path

from wadi.actions.run import Run
from wadi.learn.examples.known_rows import KnownRows, known_rows
from wadi.problems import Problem, RunError

_MOST_RUNS = 12
_LEAST = 0.5


def last_good_run(name: str, runs: str | Path = "runs") -> tuple[Path, KnownRows]:
    """The folder and the rows of the newest complete run whose columns are filled as in others, and that has as many rows. Raises
    RunError where there is none."""
    found: list[tuple[Path, KnownRows]] = []
    for before in range(_MOST_RUNS):
        try:
            run = Run.open(f"{name}~{before}" if before else name, runs)
        except RunError:
            break
        with run:
            found.append((run.folder, known_rows(run)))
    if not found:
        now = "wadi draft PAGE --row …  writes a plan from examples"
        raise RunError(Problem("no-such-run", f'"{name}" has no run from which it could be mended', now=now))
    most = max(len(known.rows) for _, known in found)
    columns = {column for _, known in found for column in known.filled}
    best = {column: max(known.filled.get(column, 0.0) for _, known in found) for column in columns}
    for folder, known in found:
        is_filled = all(known.filled.get(column, 0.0) >= share * _LEAST for column, share in best.items())
        if is_filled and len(known.rows) >= most * _LEAST:
            return folder, known
    return max(found, key=lambda one: len(one[1].rows) * sum(one[1].filled.values()))


def rows_of_run(run: str | Path, runs: str | Path = "runs") -> tuple[Path, KnownRows]:
    """The folder and the rows of a run that is named. Raises RunError."""
    with Run.open(run, runs) as opened:
        return opened.folder, known_rows(opened)
