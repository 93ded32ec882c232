"""`wadi resume`: go on with a run where it was left, or ask again for chosen pages of it."""

from __future__ import annotations

import argparse
from typing import TextIO

from wadi.cli.options import add_code, add_outputs, add_runs, ask_for_code, check_outputs, credentials_for, say_which
from wadi.cli.run import LIMITS, add_cluster, add_limits, crawl_and_sum_up
from wadi.cli.status import Status

EXAMPLES = """examples:
  wadi resume                                   go on with the newest run of all
  wadi resume springs -o springs.csv            …with the newest run of springs.toml, and write its table
  wadi resume springs --again failed            ask again for the pages that failed
  wadi resume springs --again '*/register/MW-01*'
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "run",
        metavar="RUN",
        nargs="?",
        help="a run's folder, or a plan's name for its newest run (default: the newest run)",
    )
    parser.add_argument(
        "--again",
        action="append",
        default=[],
        metavar="WHICH",
        help="ask again for pages: failed, or a pattern of their URLs (*, ?); may be given several times",
    )
    add_limits(parser)
    add_outputs(parser)
    add_runs(parser)
    add_cluster(parser)
    parser.add_argument("--json", action="store_true", help="the summary as JSON on standard output")
    add_code(parser)


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    from wadi.actions.begin import go_on
    from wadi.actions.run import retry_pages
    from wadi.problems import plural

    check_outputs(args.output, also=args.json)
    with go_on(
        args.run or "", args.runs, reached=args.reached, **{name: getattr(args, name) for name in LIMITS}
    ) as opened:
        say_which(opened.chosen, args, err)
        ask_for_code(opened.loaded, args, err)
        credentials = credentials_for(opened.loaded)
        if args.again:
            count = retry_pages(opened, args.again)
            if not args.quiet:
                print(f"{plural(count, 'page')} to be asked for again", file=err)
        return crawl_and_sum_up(opened, args, out, err, credentials)
