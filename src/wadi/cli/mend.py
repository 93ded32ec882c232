"""`wadi mend`: a plan after a redesign: what its last good run had is found again, and a change of the plan proposed."""

from __future__ import annotations

import argparse
import difflib
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO

from wadi.cli.options import add_code, add_inputs, add_route, add_runs, ask_for_code, credentials_for, inputs_of
from wadi.cli.show import console, plain, write_json
from wadi.cli.status import Status
from wadi.problems import Place, Problem, UsageError, plural, shortened
from wadi.table.words import percent

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import RenderableType

    from wadi.learn.mends.changes import Change, Mending
    from wadi.plan.reader import LoadedPlan

EXAMPLES = """examples (with the sample site redesigned:  wadi demo --serve --port 8700 --edition 2):
  wadi mend examples/springs.toml
  wadi mend examples/springs.toml --run springs~1
  wadi mend examples/springs.toml --write
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("plan", metavar="PLAN", help="the plan file")
    parser.add_argument(
        "--run", metavar="RUN", help="the run whose rows are looked for (default: the plan's last good one)"
    )
    parser.add_argument("--write", action="store_true", help="put the changes into the plan file (default: show them)")
    parser.add_argument("--fresh", action="store_true", help="ask the site again, even for pages that were read today")
    parser.add_argument("--json", action="store_true", help="everything as JSON on standard output")
    add_inputs(parser)
    add_route(parser)
    add_runs(parser)
    add_code(parser)


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    from wadi.learn.mends.good_run import last_good_run, rows_of_run
    from wadi.learn.mends.mending import mended
    from wadi.plan.reader import load_plan, with_route

    loaded = with_route(load_plan(args.plan, inputs_of(args.input)), args.route)
    ask_for_code(loaded, args, err)
    folder, known = rows_of_run(args.run, args.runs) if args.run else last_good_run(loaded.name, args.runs)
    found = mended(loaded, known, fresh=args.fresh, credentials=credentials_for(loaded))
    if args.json:
        write_json({"run": str(folder), **_as_dict(found)}, out)
    else:
        _show(found, loaded, folder, args, out, err)
    if args.write and found.changes:
        _write(args.plan, loaded, found)
        if not args.quiet:
            print(
                f"{args.plan}: {plural(len(found.changes), 'change')} written; next:  wadi preview {args.plan}",
                file=err,
            )
    is_guessed = any(change.rating == "a guess" for change in found.changes)
    return Status.NOT_ALL if found.unmended or is_guessed else Status.DONE


def _write(path: str, loaded: LoadedPlan, found: Mending) -> None:
    from wadi.store.whole_files import replaced

    if Path(path).read_text("utf-8") != loaded.source:
        raise UsageError(Problem("not-writable", "it was changed meanwhile", Place(path), now="mend it once more"))
    replaced(Path(path), found.text.encode())


def _show(found: Mending, loaded: LoadedPlan, folder: Path, args: argparse.Namespace, out: TextIO, err: TextIO) -> None:
    """The changes as a diff of the plan on standard output, with what speaks for each on standard error."""
    if not found.is_broken:
        print(f"{args.plan}: nothing to mend: all columns that {folder} had are there", file=err)
        return
    old, new = loaded.source.splitlines(keepends=True), found.text.splitlines(keepends=True)
    out.writelines(difflib.unified_diff(old, new, args.plan, f"{args.plan} (mended)", n=1))
    if args.quiet:
        return
    shown_on = console(err)
    records = f"{found.records} records of {folder} are on the first" if found.records else f"compared with {folder}"
    shown_on.print(plain(f"\nread today: {plural(len(found.pages), 'page')}; {records}", "bold"))
    if found.changes:
        shown_on.print(_evidence(found.changes))
    for change in found.changes:
        for last, today in change.differing[:2]:
            line = f"  {_where(change)}: {shortened(str(last), 40)} in the last run, {shortened(str(today), 40)} today"
            shown_on.print(plain(line, "dim"))
    for what, why in found.unmended:
        shown_on.print(plain(f"  {what}: not mended: {why}", "red"))
    if found.changes and not args.write:
        shown_on.print(plain(f"nothing is changed yet; --write puts this into {args.plan}"))


def _evidence(changes: Sequence[Change]) -> RenderableType:
    """What speaks for each change: how sure it is, how many values are those of the last run, and the share of rows that had the
    column then, have it now, and have it mended."""
    from rich.table import Table

    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim", pad_edge=False)
    widest = max(len(_where(change)) for change in changes) + 2
    table.add_column("  change", no_wrap=True, min_width=widest)
    table.add_column("how sure", no_wrap=True, min_width=8)
    for heading in ("same", "then", "now", "mended"):
        table.add_column(heading, no_wrap=True, justify="right", min_width=6)
    table.add_column("why", no_wrap=True)
    for change in changes:
        style = "" if change.rating == "sure" else "yellow"
        same = f"{change.equal} of {change.compared}" if change.compared else ""
        shares = (change.before, change.now or 0.0, change.after)
        is_known = change.before is not None and change.after is not None
        filled = [percent(round((share or 0) * 1000), 1000) if is_known else "" for share in shares]
        cells = (f"  {_where(change)}", change.rating, same, *filled, change.why)
        table.add_row(*(plain(cell, style) for cell in cells))
    return table


def _where(change: Change) -> str:
    return ".".join(change.path[1:]).replace(".fields.", ": ")


def _as_dict(found: Mending) -> dict[str, Any]:
    return {
        "records": found.records,
        "pages": found.pages,
        "changes": [
            {
                "path": list(change.path), "old": change.old, "new": change.new, "rating": change.rating, "why": change.why,
                "before": change.before, "now": change.now, "after": change.after, "equal": change.equal,
                "compared": change.compared, "differing": [list(pair) for pair in change.differing],
            }
            for change in found.changes
        ],
        "unmended": [{"what": what, "why": why} for what, why in found.unmended],
        "plan": found.text,
    }  # fmt: skip
