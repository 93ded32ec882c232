"""Tables of a run written to files and databases, with what describes them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from wadi.actions.run import Run
from wadi.plan.columns import table_plan, tables_of
from wadi.table.assemble import Assembly
from wadi.table.destinations import Source, holds_several, write_tables
from wadi.table.files import give_names
from wadi.table.writers import PLAIN, Style


def export(
    run: Run,
    target: str | Path,
    table: str | None = None,
    style: Style | None = None,
    source: Callable[[str], Source] | None = None,
) -> int:
    """Write a table to a file in the format of its ending, or to a database by its URL; returns the number of rows.

    A target that holds several tables gets all of the run's when none is named. `source` gives a table to be written by its
    name, for those who look at its rows on the way (default: it is assembled).
    """
    names = run.tables if table is None and holds_several(str(target)) else [run.known_table(table)]
    return write_tables(
        str(target),
        [source(name) if source else source_of(run, name) for name in names],
        style_of(run, names[0], style or PLAIN),
        run.state.reached,
    )


def style_of(run: Run, table: str | None, style: Style) -> Style:
    """How a table is written: as asked for, and as its plan says."""
    disarms = style.disarm or table_plan(run.loaded.plan, run.known_table(table)).disarm
    return replace(style, disarm=disarms)


def source_of(run: Run, table: str) -> Source:
    """A table as something to be written."""
    assembly = run.assembly(table)
    key = [assembly.columns[place].name for place in assembly.key] if isinstance(assembly, Assembly) else []
    return Source(table, assembly.columns, key, assembly.rows)


def package(run: Run, files: Sequence[tuple[Path, str]], delimiter: str = ",") -> dict[str, Any]:
    """The Data Package descriptor of files with the table that each holds; `delimiter` is that of CSV."""
    from wadi.table.describe import data_package

    columns = {table: run.assembly(table).columns for _, table in files}
    return data_package(run.plan_name, run.loaded.plan, columns, files, str(run.state.meta("began")), delimiter)


def codebook(run: Run, tables: Sequence[str] | None = None) -> str:
    """The codebook of tables (default: all) in Markdown."""
    from wadi.table.describe import Seen, codebook

    found = []
    for name in tables or run.tables:
        assembly = run.assembly(name)
        seen = Seen(assembly.columns)
        for row in assembly.rows():
            seen.take(row)
        found.append((name, seen))
    source = f"Made by Wadi {run.state.meta('wadi')} from the run that began {str(run.state.meta('began'))[:19]}."
    return codebook(run.loaded.plan, run.plan_name, found, source)


def name_files(run: Run) -> None:
    """Put downloaded files under the names that the plan makes of their rows."""
    for table in tables_of(run.loaded.plan):
        assembly = run.assembly(table)
        if isinstance(assembly, Assembly) and assembly.names_files:
            for _ in assembly.rows():
                pass
            give_names(run.folder, assembly.renamed_files)
