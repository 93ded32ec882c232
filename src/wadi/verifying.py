"""Looking at what runs and files hold: their tables, whether they can be trusted, and what has changed."""

from __future__ import annotations

from contextlib import ExitStack
from pathlib import Path

from wadi.problems import Problem, UsageError, listed
from wadi.quality.files import READERS, tables_in
from wadi.quality.tables import TableSource
from wadi.runs import Run
from wadi.table.assemble import Assembly


def run_table(run: Run, name: str) -> TableSource:
    """A table of a run that can be walked again and again."""
    assembly = run.assembly(name)
    key = [assembly.columns[place].name for place in assembly.key] if isinstance(assembly, Assembly) else []
    return TableSource(name, assembly.columns, lambda: run.assembly(name).rows(), key)


def sources_of(what: str, runs: Path | str, table: str | None, stack: ExitStack) -> list[TableSource]:
    """The tables of a run or of a file; only the one named. The run stays open until the stack is closed.

    Raises UsageError, RunError.
    """
    path = Path(what)
    if path.is_file() or (path.suffix.lower() in (*READERS, ".gz") and not path.is_dir()):
        found = tables_in(path)
    else:
        run = stack.enter_context(Run.open(what, runs))
        if table is not None:
            return [run_table(run, run.source(table).name)]
        found = [run_table(run, name) for name in run.tables]
    chosen = [one for one in found if table is None or one.name == table]
    if not chosen:
        now = f"tables: {listed([one.name for one in found])}"
        raise UsageError(Problem("no-such-table", f'there is no table "{table}"', now=now))
    return chosen
