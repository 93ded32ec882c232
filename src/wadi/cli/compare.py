"""`wadi compare`: what changed between two runs or files, by key; or a table through all runs of a plan."""

from __future__ import annotations

import argparse
import re
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO, TextIO

from wadi.cli.options import add_runs, say_which
from wadi.cli.status import Status

if TYPE_CHECKING:
    from rich.console import RenderableType

    from wadi.quality.compare import ColumnChanges, Comparison, Point, Tolerance

EXAMPLES = """examples:
  wadi compare springs~1 springs                    the complete run before the newest, and the newest
  wadi compare october.csv november.csv --key code --without url --tolerance 0.5%
  wadi compare old.csv new.csv --key code -o changes.html --exit-code
  wadi compare --history springs springs --key MW-0141 --column flow --chart flow.png
"""
_SHOWN = 5
_SHOWN_KEYS = 8
_HTML_ROWS = 200


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("old", metavar="OLD", help="a run or a file; with --history the name of a plan")
    parser.add_argument("new", metavar="NEW", help="a run or a file; with --history the name of a table")
    parser.add_argument("--table", metavar="NAME", help="only this table")
    parser.add_argument(
        "--key",
        metavar="A,B",
        help="columns that tell one row from another (default: the plan's key); with --history the key of one record",
    )
    parser.add_argument("--without", metavar="A,B", default="", help="columns that are not compared")
    parser.add_argument(
        "--tolerance", type=_tolerance, metavar="N|N%", help="numbers so close together are the same: 0.01, or 0.5%%"
    )
    parser.add_argument("-o", "--output", type=Path, metavar="FILE", help="write the differences: .csv, .jsonl, .html")
    parser.add_argument("--exit-code", action="store_true", help="status 1 when anything differs")
    parser.add_argument("--json", action="store_true", help="the comparison as JSON on standard output")
    series = parser.add_argument_group("a long history")
    series.add_argument(
        "--history", action="store_true", help="the table NEW through all complete runs of the plan OLD"
    )
    series.add_argument("--column", metavar="NAME", help="with --history: the column to follow")
    series.add_argument(
        "--chart", type=Path, metavar="FILE", help="with --history: draw it into this PNG, SVG or PDF file"
    )
    add_runs(parser)


def _tolerance(text: str) -> Tolerance:
    from wadi.quality.compare import Tolerance

    found = re.fullmatch(r"(\d+(?:\.\d+)?)\s*(%?)", text.strip())
    if found is None:
        raise argparse.ArgumentTypeError(f"{text!r} is no tolerance: 0.01, or 0.5%")
    number = float(found[1])
    return Tolerance(relative=number / 100) if found[2] else Tolerance(absolute=number)


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    if args.history:
        return _history(args, out)
    from wadi.cli.show import console, write_json
    from wadi.problems import Problem, UsageError
    from wadi.quality.compare_runs import compare_tables

    if args.column or args.chart:
        raise UsageError(Problem("bad-option", "--column and --chart are for --history"))
    if args.output is not None:
        from wadi.problems import Problem, UsageError
        from wadi.store.whole_files import check_writable

        if args.output.suffix.lower() not in (".csv", ".jsonl", ".html"):
            what = f'"{args.output.suffix}" is no form of a comparison'
            raise UsageError(Problem("unknown-format", what, now="forms: .csv, .jsonl, .html"))
        check_writable(args.output)
    found = compare_tables(
        args.old, args.new, args.runs,
        table=args.table, key=_names(args.key), without=_names(args.without), tolerance=args.tolerance,
        report=lambda said: say_which(said, args, err),
    )  # fmt: skip
    if args.output is not None:
        _write(args.output, found, args)
    if args.json:
        write_json({"old": args.old, "new": args.new, "tables": [table.as_dict() for table in found]}, out)
    elif not args.quiet:
        to = console(out)
        for table in found:
            to.print(comparison_view(table, verbose=args.verbose))
    return Status.NOT_ALL if args.exit_code and any(table.differs for table in found) else Status.DONE


def _names(text: str | None) -> list[str]:
    return [name.strip() for name in (text or "").split(",") if name.strip()]


def _write(path: Path, found: Sequence[Comparison], args: argparse.Namespace) -> None:
    """The differences as a file: a page, or one record for each cell."""
    from wadi.store.whole_files import not_written, whole_file

    forms = {".html": _write_page, ".jsonl": _write_lines, ".csv": _write_csv}
    try:
        whole_file(path, lambda out: forms[path.suffix.lower()](out, found, args))
    except OSError as error:
        raise not_written(path, error) from error


def _write_page(out: BinaryIO, found: Sequence[Comparison], args: argparse.Namespace) -> None:
    from wadi.quality.html import rendered

    title = f"What changed: {', '.join(table.table for table in found)}"
    page = rendered("compare.html", title=title, old=args.old, new=args.new, tables=found, most=_HTML_ROWS)
    out.write(page.encode())


def _write_lines(out: BinaryIO, found: Sequence[Comparison], args: argparse.Namespace) -> None:
    import orjson

    records = (record for table in found for record in table.rows())
    out.writelines(orjson.dumps(record, option=orjson.OPT_APPEND_NEWLINE) for record in records)


def _write_csv(out: BinaryIO, found: Sequence[Comparison], args: argparse.Namespace) -> None:
    import csv
    import io

    from wadi.table.cells import disarmed

    text = io.TextIOWrapper(out, "utf-8", newline="")
    writer = csv.writer(text)
    writer.writerow(["table", "what", "key", "column", "old", "new"])
    for table in found:
        writer.writerows([disarmed(value) for value in record.values()] for record in table.rows())
    text.flush()
    text.detach()


def comparison_view(comparison: Comparison, *, verbose: bool = False) -> RenderableType:
    """A comparison for people."""
    from rich.console import Group

    from wadi.cli.show import plain
    from wadi.problems import plural

    most = 10**9 if verbose else _SHOWN_KEYS
    counts = f"{len(comparison.added):,} added, {len(comparison.removed):,} removed"
    counts += f", {len(comparison.changed_keys):,} changed, {comparison.same:,} the same"
    lines = [
        plain(f"{comparison.table}: {comparison.old_rows:,} rows before, {comparison.new_rows:,} now: {counts}", "bold")
    ]
    if not comparison.key:
        lines.append(plain("  no key is known: rows are told apart by all their cells (--key A,B names one)", "yellow"))
    for count, side in zip(comparison.again, ("before", "now"), strict=True):
        if count:
            lines.append(plain(f"  {plural(count, 'row')} {side} whose key was there already: left out", "yellow"))
    for names, word in ((comparison.new_columns, "new columns"), (comparison.gone_columns, "columns that are gone")):
        if names:
            lines.append(plain(f"  {word}: {', '.join(names)}", "yellow"))
    if comparison.left_out:
        lines.append(plain(f"  not compared: {', '.join(comparison.left_out)}", "dim"))
    for rows, word, style in ((comparison.added, "added", "green"), (comparison.removed, "removed", "red")):
        if rows:
            keys = ", ".join(_short(" ".join(map(str, key))) for key, _ in rows[:most])
            more = f" and {len(rows) - most:,} more" if len(rows) > most else ""
            lines.append(plain(f"  {word}: {keys}{more}", style))
    changes = sorted(comparison.changed.values(), key=lambda changes: -changes.count)
    return Group(*lines, *(_changes_view(column, most=most if verbose else _SHOWN) for column in changes), plain(""))


def _changes_view(column: ColumnChanges, *, most: int) -> RenderableType:
    from rich.console import Group
    from rich.table import Table

    from wadi.cli.show import plain

    gaps = [
        f"{count:,} {word}"
        for count, word in ((column.emptied, "missing now"), (column.filled, "missing before"))
        if count
    ]
    emptied = f", {', '.join(gaps)}" if gaps else ""
    lines: list[RenderableType] = [plain(f"  {column.column}: {column.count:,} changed{emptied}", "bold")]
    others = column.others
    pairs = column.frequent(most)
    grid = Table.grid(padding=(0, 2, 0, 0))
    if pairs and pairs[0][1] > 1 and others[0].size is None:
        for (old, new), count in pairs:
            grid.add_row(
                plain("   "), plain(f"{count:,} ×", "dim"), plain(_cell(old)), plain("→", "dim"), plain(_cell(new))
            )
    else:
        for change in column.largest(most)[: len(others) or most]:
            size = f"{change.size:+,.6g}" if change.size is not None else ""
            key = _short(" ".join(map(str, change.key)))
            grid.add_row(
                plain("   "),
                plain(key),
                plain(_cell(change.old)),
                plain("→", "dim"),
                plain(_cell(change.new)),
                plain(size, "dim"),
            )
    lines.append(grid)
    left = (len(others) or column.count) - most
    if left > 0 and grid.row_count == most:
        lines.append(plain(f"      and {left:,} more", "dim"))
    return Group(*lines)


def _short(text: str) -> str:
    from wadi.problems import shortened

    return shortened(text, 40)


def _cell(value: Any) -> str:
    """A cell, where a missing one is told as such."""
    from wadi.cli.show import cell_text
    from wadi.quality.compare import shown

    return cell_text(shown(value)) or "(missing)"


def _history(args: argparse.Namespace, out: TextIO) -> Status:
    from wadi.cli.show import console, write_json
    from wadi.problems import Problem, UsageError
    from wadi.quality.compare_runs import history_of

    record = tuple(_names(args.key)) or None
    if record is not None and args.column is None:
        raise UsageError(Problem("bad-option", "--key names a record, and --column what to follow of it"))
    if args.output is not None or args.exit_code:
        raise UsageError(
            Problem("bad-option", "--output and --exit-code are not for --history", now="--json, or --chart FILE")
        )
    points = history_of(args.old, args.runs, args.new, column=args.column, record=record)
    label = f"{args.new}.{args.column}" if args.column else args.new
    label += f" of {' '.join(record)}" if record else ""
    if args.chart is not None:
        from wadi.quality.charts import draw_history
        from wadi.store.whole_files import replaced

        try:
            picture = draw_history(points, label, args.chart.suffix[1:] or "png", column=args.column is not None)
        except ValueError as error:
            raise UsageError(Problem("unknown-format", f"{args.chart}: {error}")) from error
        replaced(args.chart, picture)
    if args.json:
        history = [
            {"began": p.began, "run": p.run, "rows": p.rows, "filled": p.filled, "value": p.value} for p in points
        ]
        write_json(
            {"plan": args.old, "table": args.new, "column": args.column, "key": list(record or ()), "points": history},
            out,
        )
    else:
        console(out).print(history_view(points, label, column=args.column, record=record is not None))
    return Status.DONE


def history_view(points: Sequence[Point], label: str, *, column: str | None, record: bool) -> RenderableType:
    """The series with a bar for each run."""
    from rich.console import Group
    from rich.table import Table

    from wadi.cli.show import plain

    value = ("value" if record else "median") if column else ""
    grid = Table(box=None, padding=(0, 2, 0, 0), header_style="dim", pad_edge=False)
    grid.add_column("  run of")
    grid.add_column("rows", justify="right")
    if column and not record:
        grid.add_column("filled", justify="right")
    grid.add_column(value, justify="right")
    grid.add_column("")
    figures = [point.value if column else point.rows for point in points]
    for point, bar in zip(points, _bars(figures), strict=True):
        cells = [plain(f"  {point.began}"), plain(f"{point.rows:,}")]
        cells += [plain(f"{point.filled:,}")] if column and not record else []
        grid.add_row(*cells, plain(_cell(point.value) if column else ""), plain(bar, "cyan"))
    return Group(plain(f"{label}: {len(points)} runs", "bold"), grid)


def _bars(figures: Iterable[Any], width: int = 30) -> list[str]:
    """A bar for each number, the greatest as long as `width`."""
    values = [value if isinstance(value, int | float) and not isinstance(value, bool) else None for value in figures]
    most = max((abs(value) for value in values if value is not None), default=0)
    return ["" if value is None or not most else "█" * max(1, round(abs(value) / most * width)) for value in values]
