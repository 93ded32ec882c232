"""`wadi runs`: the runs that are there, and their removal."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO

from wadi.cli.options import add_runs
from wadi.cli.status import Status
from wadi.store.outcome import End

if TYPE_CHECKING:
    from wadi.store.folder import RunFound

EXAMPLES = """examples:
  wadi runs
  wadi runs springs --json
  wadi runs --remove springs~2 springs~3
"""
_WIDTH = 220


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("plan", metavar="PLAN", nargs="?", help="only the runs of this plan")
    parser.add_argument(
        "--remove", nargs="+", metavar="RUN", help="remove these runs, with all that they hold, after a question"
    )
    parser.add_argument(
        "--expire",
        action="store_true",
        help="remove the stored pages of runs older than their plan's limits.keep_pages; rows stay",
    )
    parser.add_argument("--yes", action="store_true", help="with --remove: do not ask")
    parser.add_argument("--json", action="store_true", help="the list as JSON on standard output")
    add_runs(parser)


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    from wadi.store.folder import runs_in

    if args.remove:
        return _remove(args, err)
    found = runs_in(Path(args.runs), args.plan)
    if args.expire:
        return _expire(found, err)
    if args.json:
        from wadi.cli.show import write_json

        write_json({"runs": [_as_dict(known) for known in found]}, out)
        return Status.DONE
    if not found:
        print(f"no runs in {args.runs}/;  wadi run PLAN  makes one", file=err)
        return Status.DONE
    from wadi.cli.show import console

    to = console(out)
    to.width = max(to.width, _WIDTH)  # a name that is to be copied is never cut
    to.print(_view(found), soft_wrap=True)
    return Status.DONE


def _expire(found: list[RunFound], err: TextIO) -> Status:
    from datetime import datetime

    from wadi.actions.run import Run, expire
    from wadi.cli.show import shown_size
    from wadi.problems import plural

    count = 0
    for known in found:
        if known.state in ("damaged", "to be copied", "in use"):
            continue
        with Run.open(known.folder) as opened:
            size = expire(opened, datetime.now().astimezone())
        if size:
            count += 1
            print(f"{known.folder}: stored pages removed, {shown_size(size)}", file=err)
    print(f"{plural(count, 'run')} expired", file=err)
    return Status.DONE


def _view(found: list[RunFound]) -> Any:
    from rich.table import Table

    from wadi.cli.show import plain, shown_size

    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim", pad_edge=False)
    for name in ("plan", "run", "state"):
        table.add_column(name, no_wrap=True)
    for name in ("rows", "pages", "failed", "waiting", "size"):
        table.add_column(name, justify="right", no_wrap=True)
    for known in found:
        style = "yellow" if known.state not in (End.COMPLETE, "in use") else ""
        counts = [f"{count:,}" if count else "" for count in (known.rows, known.pages, known.failed, known.waiting)]
        size = shown_size(known.size_bytes)
        table.add_row(
            plain(known.plan), plain(str(known.folder)), plain(known.state, style), *map(plain, counts), plain(size)
        )
    return table


def _as_dict(found: RunFound) -> dict[str, Any]:
    names = ("plan", "state", "rows", "pages", "failed", "waiting", "size_bytes", "began")
    return {"run": str(found.folder), **{name: getattr(found, name) for name in names}}


def _remove(args: argparse.Namespace, err: TextIO) -> Status:
    from wadi.cli.show import shown_size
    from wadi.problems import Problem, UsageError
    from wadi.store.folder import find_run, remove_run, run_found

    folders = [find_run(name, Path(args.runs)) for name in args.remove]
    for folder in folders:
        known = run_found(folder)
        print(f"{folder}: {known.plan}, {known.state}, {known.rows:,} rows, {shown_size(known.size_bytes)}", file=err)
    if not args.yes:
        if not sys.stdin.isatty():
            what = "whether to remove them is asked at a terminal"
            raise UsageError(Problem("bad-option", what, now="--yes removes them without a question"))
        print("remove them? [y/N] ", end="", file=err, flush=True)
        if sys.stdin.readline().strip().lower() not in ("y", "yes"):
            print("nothing was removed", file=err)
            return Status.DONE
    for folder in folders:
        remove_run(folder)
        print(f"removed {folder}", file=err)
    return Status.DONE
