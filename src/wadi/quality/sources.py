"""The tables of runs and of files, to be walked again and again."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import ExitStack
from functools import partial
from pathlib import Path
from typing import Any

from wadi.actions.run import Run
from wadi.plan.columns import SEEN_COLUMNS, table_plan
from wadi.problems import Problem, UsageError, listed
from wadi.quality.files import READERS, tables_in
from wadi.quality.tables import TableSource
from wadi.table.assemble import Assembly


def run_table(run: Run, name: str, *, with_helpers: bool = False) -> TableSource:
    """A table of a run that can be walked again and again; `with_helpers` with the columns, too, that the plan leaves out."""
    assembly = run.assembly(name, with_helpers=with_helpers)
    if not isinstance(assembly, Assembly):
        return TableSource(name, assembly.columns, lambda: run.assembly(name).rows())
    rules = table_plan(run.loaded.plan, name)

    def rows(*, with_gone: bool = True) -> Iterator[list[Any]]:
        made = run.assembly(name, with_helpers=with_helpers)
        assert isinstance(made, Assembly)
        return made.rows(with_gone=with_gone)

    key = [assembly.columns[place].name for place in assembly.key]
    history = [rules.rename.get(column, column) for column in SEEN_COLUMNS] if rules.history else []
    return TableSource(name, assembly.columns, rows, key, history, partial(rows, with_gone=False))


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
