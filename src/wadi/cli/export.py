"""`wadi export`: a table of a run to a file."""

from __future__ import annotations

import argparse
from functools import partial
from typing import TextIO

from wadi.cli.options import (
    A_RUN,
    add_descriptions,
    add_outputs,
    add_runs,
    check_outputs,
    described_files,
    say_which,
    style_asked,
    write_descriptions,
    write_outputs,
)
from wadi.cli.status import Status
from wadi.problems import plural

EXAMPLES = """examples:
  wadi export springs -o springs.csv            the newest complete run of the plan springs.toml
  wadi export springs -o - | head -5            CSV on standard output
  wadi export springs -o springs.xlsx -o springs.csv.gz --package --codebook springs.md
  wadi export springs -o postgresql://user@localhost/water --into upsert
  wadi export springs --table problems -o problems.csv     cells that could not be read; rejects: rows left out
  wadi export springs --table pages -o pages.csv           every page: address, status, tries, reason, bytes, time
  wadi export springs~1 -o springs.jsonl        the complete run before the newest
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("run", metavar="RUN", help=A_RUN)
    add_outputs(parser, required=True)
    add_descriptions(parser)
    add_runs(parser)


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    from wadi.actions.run import Run
    from wadi.store.folder import how_it_ended
    from wadi.table.destinations import holds_several

    check_outputs(args.output)
    if args.package:
        described_files(args.output)
    with Run.open(args.run, args.runs) as opened:
        say_which(opened.chosen, args, err)
        for path, count in write_outputs(
            opened, args.output, args.table, style_asked(args), partial(say_which, args=args, err=err)
        ):
            if path != "-" and not args.quiet:
                print(f"{path}: {plural(count, 'row')}", file=err)
        others = [name for name in opened.tables if name != (args.table or opened.tables[0])]
        if args.table is None and others and not args.quiet and not all(map(holds_several, args.output)):
            print(f"{opened.tables[0]} was written; further tables (--table NAME): {', '.join(others)}", file=err)
        for path in write_descriptions(opened, args):
            if not args.quiet:
                print(path, file=err)
        is_complete, end = how_it_ended(opened.folder)
        if not is_complete and not args.quiet and not opened.chosen:
            print(f"{opened.folder} is not complete: {end}", file=err)
    return Status.DONE if is_complete else Status.NOT_ALL
