"""Runs and files set side by side, and a table through all runs of a plan."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import ExitStack
from pathlib import Path

from wadi.actions.run import Run
from wadi.plan.columns import OUTCOMES
from wadi.problems import Problem, UsageError, WadiError, listed
from wadi.quality.compare import Comparison, Key, Point, Tolerance, column_of, compare, point_of
from wadi.quality.sources import run_table, sources_of
from wadi.store.folder import runs_in
from wadi.store.outcome import End


def compare_tables(
    old: str,
    new: str,
    runs: Path | str,
    *,
    table: str | None = None,
    key: Sequence[str] = (),
    without: Sequence[str] = (),
    tolerance: Tolerance | None = None,
    report: Callable[[str], None] = lambda said: None,
) -> list[Comparison]:
    """Two runs or files, table by table. Of files with one table each the names need not be the same. `tell` hears which run
    a name means where one may expect another. Raises UsageError."""
    with ExitStack() as stack:
        before, after = (
            [source for source in sources_of(what, runs, table, stack, report) if source.name != OUTCOMES]
            for what in (old, new)
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
    for earlier in reversed(runs_in(Path(runs), plan)):
        if earlier.state != End.COMPLETE:
            continue
        try:
            with Run.open(earlier.folder) as run:
                source = run_table(run, run.known_table(table))
                if column is not None:
                    column_of(source, column)
                if record is not None and len(record) != len(source.key):
                    what = f'table "{table}" has no key, so that no record of it can be followed'
                    if source.key:
                        what = f'the key of table "{table}" is {listed(list(source.key))}, and --key has {len(record)} values'
                    raise UsageError(Problem("no-such-row", what))
                found.append(
                    point_of(earlier.began[:19].replace("T", " "), str(earlier.folder), source, column, record)
                )
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
