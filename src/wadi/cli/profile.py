"""`wadi profile`: what the columns of a table hold, of a run or in a file, in figures and charts."""

from __future__ import annotations

import argparse
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO

from wadi.cli.options import add_runs, say_which
from wadi.cli.status import Status

if TYPE_CHECKING:
    from rich.console import RenderableType

    from wadi.quality.profile import ColumnProfile, TableProfile
    from wadi.quality.tables import TableSource

EXAMPLES = """examples (after  wadi demo):
  wadi profile wadi-demo/runs/springs/… --table springs
  wadi profile wadi-demo/springs.csv --columns flow,depth
  wadi profile wadi-demo/springs.csv --charts charts
"""
_LEVELS = "▁▂▃▄▅▆▇█"
_SHOWN_VALUES = 4


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("what", metavar="RUN|FILE", help="a run (its folder or its plan's name), or a file with tables")
    parser.add_argument("--table", metavar="NAME", help="only this table")
    parser.add_argument("--columns", metavar="A,B", help="only these columns, commas between")
    parser.add_argument("--charts", type=Path, metavar="FOLDER", help="draw charts into this folder, as PNG")
    parser.add_argument("--json", action="store_true", help="the profile as JSON on standard output")
    add_runs(parser)


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    from contextlib import ExitStack

    from wadi.cli.show import console, plain, write_json
    from wadi.quality.profile import profile_of
    from wadi.quality.sources import sources_of

    def report(said: str) -> None:
        say_which(said, args, err)

    with ExitStack() as stack:
        whole = sources_of(args.what, args.runs, args.table, stack, report)
        sources = [_narrowed(measured, args.columns) for measured in whole]
        # Rows are doubled that are the same in all columns, whichever are shown.
        profiles = [
            _shown_columns(profile_of(measured), source.names) for measured, source in zip(whole, sources, strict=True)
        ]
        drawn: list[Path] = []
        if args.charts is not None:
            from wadi.quality.charts import write_charts

            for profile, source in zip(profiles, sources, strict=True):
                drawn += write_charts(profile, source, args.charts)
    if args.json:
        write_json({"tables": [shown.as_dict() for shown in profiles], "charts": [str(path) for path in drawn]}, out)
        return Status.DONE
    to = console(out)
    for profile in profiles:
        to.print(profile_view(profile))
    if drawn:
        to.print(plain(f"{len(drawn)} charts in {args.charts}/", "dim"))
    return Status.DONE


def _narrowed(source: TableSource, columns: str | None) -> TableSource:
    """The table with the chosen columns alone."""
    from dataclasses import replace

    from wadi.problems import Problem, UsageError, listed

    if columns is None:
        return source
    wanted = [name.strip() for name in columns.split(",") if name.strip()]
    names = source.names
    if unknown := [name for name in wanted if name not in names]:
        what = f'there is no column "{unknown[0]}" in {source.name}'
        raise UsageError(Problem("unknown-column", what, now=f"columns: {listed(names)}"))
    places = [names.index(name) for name in wanted]

    def rows() -> Any:
        return ([row[place] for place in places] for row in source.rows())

    return replace(source, columns=[source.columns[place] for place in places], rows=rows)


def _shown_columns(profile: TableProfile, names: Sequence[str]) -> TableProfile:
    """The profile with these columns alone, in this order."""
    from dataclasses import replace

    by_name = {column.column.name: column for column in profile.columns}
    return replace(profile, columns=tuple(by_name[name] for name in names))


def profile_view(profile: TableProfile) -> RenderableType:
    """A table's profile for people: two or three lines for each column."""
    from rich.console import Group
    from rich.table import Table

    from wadi.cli.show import plain
    from wadi.problems import plural
    from wadi.table.words import percent

    doubled = f"{plural(profile.doubled, 'row')} the same as one before" if profile.doubled else "no row twice"
    head = plain(f"{profile.name}: {plural(profile.rows, 'row')}, {doubled}", "bold")
    grid = Table(box=None, padding=(0, 2, 0, 0), header_style="dim", pad_edge=False)
    grid.add_column("  column")
    grid.add_column("type")
    grid.add_column("filled", justify="right")
    grid.add_column("distinct", justify="right")
    grid.add_column("values", overflow="fold")
    for column in profile.columns:
        kind = f"{column.column.type}{' list' if column.column.many else ''}"
        kind += f", {column.column.unit}" if column.column.unit else ""
        style = "red" if profile.rows and not column.filled else ""
        lines = list(_value_lines(column))
        grid.add_row(
            plain(f"  {column.column.name}"),
            plain(kind, "dim"),
            plain(percent(column.filled, column.rows), style),
            plain(f"{column.distinct:,}"),
            Group(*lines) if lines else plain("nothing" if not column.filled else "", style),
        )
    parts: list[RenderableType] = [head, grid]
    if profile.gaps:
        listed = "; ".join(f"{one} and {other} ({phi:+.2f})" for one, other, phi in profile.gaps[:5])
        parts.append(plain(f"  missing together (+) or in turn (-): {listed}", "dim"))
    return Group(*parts, plain(""))


def _value_lines(profile: ColumnProfile) -> Iterable[RenderableType]:
    """What a column holds, in words."""
    from wadi.cli.show import plain
    from wadi.problems import plural
    from wadi.table.words import figure

    numbers = profile.numbers
    if profile.first is not None and numbers is not None:
        yield plain(f"{profile.first} to {profile.last}")
        yield plain(sparkline([count for _, _, count in numbers.bins]), "cyan")
        return
    if numbers is not None:
        spread = f" ± {figure(numbers.deviation)}" if numbers.deviation is not None else ""
        middle = f"median {figure(numbers.median)}, mean {figure(numbers.mean)}{spread}"
        yield plain(f"{figure(numbers.least)} to {figure(numbers.most)}, {middle}")
        line = plain(sparkline([count for _, _, count in numbers.bins]), "cyan")
        zeros = f", and {plural(numbers.zeros, 'row')} of 0" if numbers.zeros else ""
        yield line.append(f"  logarithmic{zeros}", "dim") if numbers.is_logarithmic else line
        if numbers.outliers:
            listed = ", ".join(figure(value) for value in numbers.extremes[:3])
            yield plain(f"{numbers.outliers:,} outliers: {listed}", "yellow")
        return
    repeated = [(value, count) for value, count in profile.frequent if count > 1]
    if repeated:
        listed = ", ".join(f"{_short(value)} ({count:,})" for value, count in repeated[:_SHOWN_VALUES])
        more = profile.distinct - len(repeated[:_SHOWN_VALUES])
        yield plain(listed + (f", {more:,} more" if more > 0 else ""))
    elif profile.filled:
        yield plain("all different: " + ", ".join(_short(value) for value, _ in profile.frequent[:2]))
    if profile.texts is not None and profile.filled:
        texts = profile.texts
        length = str(texts.shortest) if texts.shortest == texts.longest else f"{texts.shortest} to {texts.longest}"
        shape, count = texts.shapes[0]
        # A shape that few have says nothing: names and notes have none.
        says_something = any(not c.isalpha() and c not in "+ " for c in shape) and profile.column.type != "url"
        common = f"; shape {_short(shape)}" if says_something and count > 0.6 * texts.shaped else ""
        yield plain(f"length {length}{common}" + (f" ({count:,})" if common and count < texts.shaped else ""), "dim")


def sparkline(counts: Sequence[int]) -> str:
    """Bars of one line: nothing is blank, anything at least the lowest."""
    most = max(counts, default=0)
    return "".join(" " if not count else _LEVELS[max(0, round(count / most * 8) - 1)] for count in counts)


def _short(value: Any) -> str:
    from wadi.problems import shortened

    return shortened(str(value), 36)
