"""`wadi run`: crawl a plan to its end, show how it goes, write the table, sum up."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from functools import partial
from typing import TYPE_CHECKING, TextIO

from wadi.cli.options import (
    a_size,
    a_time,
    add_code,
    add_inputs,
    add_outputs,
    add_route,
    add_runs,
    ask_for_code,
    at_least_one,
    check_outputs,
    credentials_for,
    inputs_of,
    not_negative,
    say_which,
    starts_noted,
    style_asked,
    write_outputs,
)
from wadi.cli.status import Status
from wadi.store.outcome import End

if TYPE_CHECKING:
    from distributed import Client

    from wadi.actions.run import Run
    from wadi.actions.setup import Credentials
    from wadi.cli.row_stream import RowStream, Shown
    from wadi.cli.summary import Summary
    from wadi.crawl.events import Event
    from wadi.table.writers import Style

LIMITS = ("rows", "pages", "depth", "time", "bytes")
EXAMPLES = """examples (with the sample site up:  wadi demo --serve --port 8700):
  wadi run examples/springs.toml -o springs.csv
  wadi run examples/springs.toml --input site=http://127.0.0.1:8700 --rows 40 -o - | head -5
  wadi run examples/springs.toml --pages 3 --json
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("plan", metavar="PLAN", help="the plan file")
    add_inputs(parser)
    add_route(parser)
    parser.add_argument(
        "--since",
        metavar="RUN",
        help="take pages that the site says are unchanged from this earlier run (default: ask for all)",
    )
    add_limits(parser)
    add_outputs(parser)
    add_runs(parser)
    add_cluster(parser)
    parser.add_argument("--json", action="store_true", help="the summary as JSON on standard output")
    add_code(parser)


def add_cluster(parser: argparse.ArgumentParser) -> None:
    """Options for more than one process, or machine."""
    cluster = parser.add_argument_group("on many machines (pip install 'wadi[cluster]')")
    which = cluster.add_mutually_exclusive_group()
    which.add_argument("--cluster", metavar="ADDRESS", help="on the workers of a Dask scheduler: tcp://HOST:8786")
    which.add_argument("--workers", type=at_least_one, metavar="N", help="on N processes of this machine")


def add_limits(parser: argparse.ArgumentParser) -> None:
    """Options that end a crawl early."""
    limits = parser.add_argument_group("limits")
    limits.add_argument(
        "--rows", type=at_least_one, metavar="N", help="only the first N rows of the plan's first table"
    )
    limits.add_argument(
        "--pages", type=at_least_one, metavar="N", help="ask for N pages at most, the first in reading order"
    )
    limits.add_argument(
        "--depth", type=not_negative, metavar="N", help="open links at most N steps away from the start pages"
    )
    limits.add_argument("--time", type=a_time, metavar="TIME", help="crawl so long at most: 90s, 30m, 2h")
    limits.add_argument("--bytes", type=a_size, metavar="SIZE", help="take so much at most: 200kB, 50MB")
    limits.add_argument("--strict", action="store_true", help="status 3 when a limit ended the crawl")


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    from wadi.actions.begin import begin
    from wadi.plan.reader import load_plan, with_limits, with_route

    check_outputs(args.output, also=args.json)
    if args.cluster is not None or args.workers is not None:
        from wadi.actions.cluster import needs_dask

        needs_dask()
    loaded = with_limits(load_plan(args.plan, inputs_of(args.input)), **{name: getattr(args, name) for name in LIMITS})
    loaded = with_route(loaded, args.route)
    ask_for_code(loaded, args, err)
    credentials = credentials_for(loaded)
    noted = starts_noted(loaded.name, "start addresses so far", args, err)
    with begin(loaded, args.runs, since=args.since, reached=args.reached, noted=noted) as begun:
        if args.table is not None:
            begun.assembly(args.table)
        return crawl_and_sum_up(begun, args, out, err, credentials)


def crawl_and_sum_up(
    begun: Run, args: argparse.Namespace, out: TextIO, err: TextIO, credentials: Credentials | None = None
) -> Status:
    """Crawl a run that has begun, write its table and show the summary. Ctrl-C keeps what is committed.

    A target is written only where the crawl went to its end, or to a limit that was asked for: what stands there stays else.
    Quiet, one line tells of a problem, and none of success.
    """
    from wadi.actions.crawl import crawl, why_stopped
    from wadi.cli.progress import display
    from wadi.cli.row_stream import NobodyReads
    from wadi.cli.show import console, write_json
    from wadi.cli.summary import Summary
    from wadi.problems import WadiError
    from wadi.quality.verify_run import verify
    from wadi.quality.walk import Walks

    interrupted, style = False, style_asked(args)
    say = partial(say_which, args=args, err=err)
    left_out: list[str] = []
    stream: RowStream | None = None
    try:
        with (
            cluster_asked(args, err) as client,
            display(begun.plan_name, err, quiet=args.quiet, limits=begun.loaded.plan.limits) as screen,
        ):
            if client is None:
                stream = stream_asked(begun, args, style, screen.show_rows if args.verbose and err.isatty() else None)
                interrupted = crawl(begun, both(screen.report, stream), credentials=credentials) is End.INTERRUPTED
            else:
                from wadi.actions.cluster import crawl_on_cluster

                crawl_on_cluster(begun, screen.report, client=client, told=left_out.append)
    except KeyboardInterrupt:
        interrupted = True
        _take_shards(begun)
    except NobodyReads:
        raise BrokenPipeError from None
    for line in left_out:
        print(line, file=err)
    is_whole = not interrupted and why_stopped(begun) is None
    walks = Walks(begun)
    written: list[tuple[str, int]] = []
    not_written: WadiError | None = None
    try:
        written = write_outputs(begun, args.output, args.table, style, say, walks, stream) if is_whole else []
    except WadiError as error:  # the crawl is told of all the same
        not_written = error
    held_back = () if is_whole else tuple(path for path in args.output if path != "-")
    summary = Summary(begun, verify(begun, walks=walks), written, interrupted, held_back)
    status = Status.INTERRUPTED if interrupted else status_of(summary, strict=args.strict)
    if args.json:
        write_json(summary.as_dict(), out)
    if not args.quiet:
        console(err).print(summary.view(verbose=args.verbose, cuts=err.isatty()))
    elif status is not Status.DONE:
        print(summary.line(), file=err)
    if not_written is not None:
        raise not_written
    return status


def stream_asked(begun: Run, args: argparse.Namespace, style: Style, shown: Shown | None) -> RowStream | None:
    """What takes rows as they become certain, where standard output or the terminal is to have them."""
    from wadi.actions.export import style_of
    from wadi.cli.row_stream import RowStream
    from wadi.cli.show import standard_output

    out = standard_output() if "-" in args.output else None
    if (out is None and shown is None) or (rows := begun.certain_rows(args.table)) is None:
        return None
    return RowStream(rows, out, style_of(begun, args.table, style), shown)


def both(report: Callable[[Event], None], stream: RowStream | None) -> Callable[[Event], None]:
    """What tells an event to both."""
    if stream is None:
        return report
    listener = stream

    def tell(event: Event) -> None:
        report(event)
        listener(event)

    return tell


def _take_shards(begun: Run) -> None:
    """What shards of an interrupted run on a cluster have, now that its workers are gone; where some are still at work,
    `wadi resume` takes it."""
    from wadi.problems import RunError
    from wadi.store.shards import SHARDS, put_together

    if (begun.folder / SHARDS).is_dir():
        with suppress(RunError):
            put_together(begun.folder)


@contextmanager
def cluster_asked(args: argparse.Namespace, err: TextIO) -> Iterator[Client | None]:
    """A client of the cluster that the command line asks for; None where it asks for none. Raises UsageError."""
    address, workers = getattr(args, "cluster", None), getattr(args, "workers", None)
    if address is None and workers is None:
        yield None
        return
    from wadi.actions.cluster import connected

    with connected(address, workers) as client:
        if not args.quiet:
            print(f"the cluster's own view: {client.dashboard_link}", file=err)
        yield client


def status_of(summary: Summary, *, strict: bool) -> Status:
    """What a finished crawl says to the shell."""
    if summary.unreachable or not summary.pages_done:
        return Status.NO_WAY
    if strict and summary.limit_reached:
        return Status.NO_WAY
    is_whole = not summary.facts.failures and not summary.rows_missing
    return Status.DONE if is_whole and summary.verdict.holds else Status.NOT_ALL
