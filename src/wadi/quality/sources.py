"""The tables of runs and of files, to be walked again and again."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import ExitStack
from pathlib import Path

from wadi.actions.run import Run
from wadi.problems import Problem, UsageError, listed
from wadi.quality.files import READERS, tables_in
from wadi.quality.tables import TableSource
from wadi.table.assemble import Assembly


def run_table(run: Run, name: str, *, with_helpers: bool = False) -> TableSource:
    """A table of a run that can be walked again and again; `with_helpers` with the columns, too, that the plan leaves out."""
    assembly = run.assembly(name, with_helpers=with_helpers)
    key = [assembly.columns[place].name for place in assembly.key] if isinstance(assembly, Assembly) else []
    return TableSource(name, assembly.columns, lambda: run.assembly(name, with_helpers=with_helpers).rows(), key)


def sources_of(
    what: str,
    runs: Path | str,
    table: str | None,
    stack: ExitStack,
    report: Callable[[str], None] = lambda said: None,
) -> list[TableSource]:
    """The tables of a run or of a file; only the one named. The run stays open until the stack is closed. `report` hears which
    run a name means where one may expect another.

    Raises UsageError, RunError.
    """
    path = Path(what)
    if path.is_file() or (path.suffix.lower() in (*READERS, ".gz") and not path.is_dir()):
        found = tables_in(path)
    else:
        run = stack.enter_context(Run.open(what, runs))
        report(run.chosen)
        if table is not None:
            return [run_table(run, run.known_table(table))]
        found = [run_table(run, name) for name in run.tables]
    chosen = [source for source in found if table is None or source.name == table]
    if not chosen:
        now = f"tables: {listed([source.name for source in found])}"
        raise UsageError(Problem("no-such-table", f'there is no table "{table}"', now=now))
    return chosen
