"""`wadi reparse`: take the rows of a run's stored pages again, with a changed plan, without asking the site."""

from __future__ import annotations

import argparse
import time
from functools import partial
from typing import TextIO

from wadi.cli.options import (
    A_RUN,
    add_code,
    add_outputs,
    add_runs,
    ask_for_code,
    check_outputs,
    credentials_for,
    say_which,
    style_asked,
    write_outputs,
)
from wadi.cli.run import add_cluster, cluster_asked
from wadi.cli.status import Status

EXAMPLES = """examples:
  wadi reparse springs                       with the plan as it is now, from the run's newest pages
  wadi reparse springs changed.toml -o springs.csv
  wadi reparse springs changed.toml --fetch  and ask for the pages that the new plan leads to
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("run", metavar="RUN", help=A_RUN)
    parser.add_argument(
        "plan",
        metavar="PLAN",
        nargs="?",
        help="the changed plan (default: the file that the run was made from, as it is now)",
    )
    parser.add_argument(
        "--fetch", action="store_true", help="ask for pages that the plan leads to and the run never had"
    )
    add_outputs(parser)
    add_runs(parser)
    add_cluster(parser)
    parser.add_argument("--json", action="store_true", help="the summary as JSON on standard output")
    parser.set_defaults(strict=False)
    add_code(parser)


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    from wadi.actions.reparse import reparse
    from wadi.actions.run import Run
    from wadi.cli.progress import display
    from wadi.cli.run import crawl_and_sum_up, status_of
    from wadi.cli.show import console, write_json
    from wadi.cli.summary import Summary
    from wadi.plan.reader import load_plan
    from wadi.problems import plural
    from wadi.quality.verify_run import verify
    from wadi.quality.walk import Walks

    check_outputs(args.output, also=args.json)
    style = style_asked(args)
    with Run.open(args.run, args.runs) as old:
        say_which(old.chosen, args, err)
        path = args.plan or old.plan_folder / f"{old.plan_name}.toml"
        loaded = load_plan(path, old.given_inputs)
        ask_for_code(loaded, args, err)
        began = time.perf_counter()
        with cluster_asked(args, err) as client, display(loaded.name, err, quiet=args.quiet) as screen:
            ahead = None
            if client is not None:
                from wadi.actions.cluster import reads_ahead

                ahead = reads_ahead(client)
            new, done = reparse(old, loaded, args.runs, report=screen.report, ahead=ahead)
    with new:
        seconds = max(time.perf_counter() - began, 0.001)
        if not args.quiet:
            rate = f"{done.read / seconds:,.0f} pages/s"
            print(
                f"{plural(done.read, 'stored page')} read again in {seconds:.1f} s ({rate}), no request sent", file=err
            )
            if done.not_fetched:
                why = ", ".join(f"{count:,} that {reason}" for reason, count in done.reasons.items())
                what = f"the plan leads to {plural(done.not_fetched, 'page')} never fetched ({why})"
                print(what + ("" if args.fetch else f";  wadi resume {new.folder}  or --fetch asks for them"), file=err)
        if args.fetch and done.not_fetched:
            return crawl_and_sum_up(new, args, out, err, credentials_for(loaded))
        walks = Walks(new)
        written = write_outputs(new, args.output, args.table, style, partial(say_which, args=args, err=err), walks)
        summary = Summary(new, verify(new, walks=walks), written)
        if args.json:
            write_json(summary.as_dict(), out)
        if not args.quiet:
            console(err).print(summary.view(verbose=args.verbose))
        return status_of(summary, strict=False)
