"""Options that several commands share, and how their values are read."""

from __future__ import annotations

import argparse
import os
import sys
import time
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import TYPE_CHECKING, TextIO

from wadi.problems import Place, Problem, UsageError, escaped

if TYPE_CHECKING:
    from wadi.actions.open_page import OpenedPage
    from wadi.actions.run import Run
    from wadi.actions.setup import Credentials
    from wadi.cli.row_stream import RowStream
    from wadi.learn.first_look.saved_replies import SavedSource
    from wadi.plan.model import InputValue
    from wadi.plan.reader import LoadedPlan
    from wadi.quality.walk import Walks
    from wadi.table.writers import Style
    from wadi.web.rendering import Rendering


A_RUN = "a run's folder, or a plan's name for its newest complete run; PLAN~1 is the one before it, PLAN~newest the newest of all"


def add_inputs(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--input", "-i", action="append", default=[], metavar="NAME=VALUE",
        help="a value for one of the plan's inputs; given several times, a list",
    )  # fmt: skip


def add_route(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--route", metavar="NAME", help="by one of the plan's named routes alone (default: by each)")


def add_runs(parser: argparse.ArgumentParser) -> None:
    kept = os.environ.get("WADI_RUNS") or "runs"
    parser.add_argument(
        "--runs", default=kept, metavar="FOLDER", help="where runs are kept (default: WADI_RUNS, or runs)"
    )


def add_outputs(parser: argparse.ArgumentParser, *, required: bool = False) -> None:
    parser.add_argument(
        "-o", "--output", action="append", default=[], metavar="FILE", required=required,
        help="write the table there, in the format of its ending: .csv .tsv .json .jsonl .xlsx .parquet .sqlite .html .md, "
        "packed by .gz .zst .zip …; a database URL; - for standard output (CSV); may be given several times",
    )  # fmt: skip
    style = parser.add_argument_group("how it is written")
    style.add_argument(
        "--delimiter", default=",", metavar="CHARACTER", help="between the cells of CSV (default: a comma)"
    )
    style.add_argument(
        "--bom", action="store_true", help="CSV with a byte order mark, which some spreadsheets need for UTF-8"
    )
    style.add_argument(
        "--disarm",
        action="store_true",
        help="of CSV and TSV: put ' before texts that a spreadsheet would run as formulas (default: they are counted)",
    )
    style.add_argument(
        "--into",
        choices=("replace", "append", "upsert"),
        default="replace",
        help="what becomes of a database table that is there: made anew, added to, rows of the same key replaced",
    )
    parser.add_argument("--table", metavar="NAME", help="the table to write (default: the plan's first)")


def add_descriptions(parser: argparse.ArgumentParser) -> None:
    about = parser.add_argument_group("what describes it")
    about.add_argument(
        "--package", action="store_true", help="a datapackage.json beside the files: types, units, key, checksums"
    )
    about.add_argument(
        "--codebook", metavar="FILE", help="a codebook in Markdown: what each column is, and how it is filled"
    )


def described_files(targets: Iterable[str]) -> list[Path]:
    """The files that a Data Package describes: those of one table. Raises UsageError when there is none."""
    from wadi.table.destinations import holds_several, is_url

    files = [Path(target) for target in targets if target != "-" and not is_url(target) and not holds_several(target)]
    if not files:
        what = "--package describes files of one table, and none is written"
        raise UsageError(Problem("bad-option", what, now="-o springs.csv --package"))
    return files


def write_descriptions(run: Run, args: argparse.Namespace) -> list[str]:
    """Write the Data Package and the codebook that are asked for; returns their paths."""
    import json

    from wadi.actions.export import codebook, package
    from wadi.store.whole_files import replaced

    written = []
    if args.package:
        files = [(path, args.table or run.tables[0]) for path in described_files(args.output)]
        path = files[0][0].parent / "datapackage.json"
        text = json.dumps(package(run, files, style_asked(args).delimiter), ensure_ascii=False, indent=2) + "\n"
        replaced(path, text.encode())
        written.append(str(path))
    if args.codebook:
        replaced(Path(args.codebook), codebook(run, [args.table] if args.table else None).encode())
        written.append(args.codebook)
    return written


def add_page(parser: argparse.ArgumentParser, *, or_archive: bool = False) -> None:
    parser.add_argument(
        "page",
        metavar="PAGE",
        nargs="?" if or_archive else None,
        help="a URL, a file, - for standard input, or RUN#NUMBER for a stored page of a run",
    )
    if or_archive:
        parser.add_argument(
            "--har",
            metavar="FILE",
            help="in place of PAGE: an HTTP Archive, as browsers save it from their network panel",
        )
    parser.add_argument("--fresh", action="store_true", help="ask the site again, even if the page was looked at today")
    parser.add_argument(
        "--ignore-robots", action="store_true", help="look at a page though robots.txt forbids it, if you may"
    )
    parser.add_argument(
        "--with", dest="plan_with", metavar="PLAN",
        help="with the log-in, header fields and proxies of a plan, and by its request where the page is one of its starts",
    )  # fmt: skip
    add_inputs(parser)
    add_route(parser)
    parser.add_argument(
        "--parse", choices=("html", "xml", "json", "csv", "excel"), help="how to read it (default: as it says itself)"
    )
    add_runs(parser)


def add_rendered(parser: argparse.ArgumentParser) -> None:
    """Options for looking at a page as a browser shows it."""
    shown = parser.add_argument_group("as a browser shows it")
    shown.add_argument("--rendered", action="store_true", help="let a browser show the page, with its scripts run")
    add_showing(shown)


def add_showing(group: argparse._ArgumentGroup | argparse.ArgumentParser) -> None:
    """How a browser shows a page, in the words of a plan."""
    group.add_argument(
        "--do", action="append", default=[], metavar="STEP", help="a step on the page: click '#agree', scroll, …"
    )
    group.add_argument("--wait", metavar="EXPR", help="until this is there (default: until the network is quiet)")
    group.add_argument("--dark", action="store_true", help="as for a reader who wants dark colours")
    group.add_argument("--size", default="1280x800", metavar="WxH", help="the window (default: 1280x800)")


def rendering_asked(args: argparse.Namespace) -> Rendering:
    """How the command line wants a page shown. Raises UsageError."""
    from wadi.web.rendering import BadStep, Rendering, step_of

    width, _, height = args.size.partition("x")
    if not (width.isdecimal() and height.isdecimal() and 100 <= int(width) < 10_000 and 100 <= int(height) < 10_000):
        raise UsageError(Problem("bad-option", f'--size "{args.size}" is no size', now="--size 1280x800"))
    try:
        said = [step_of(sentence) for sentence in args.do]
    except BadStep as error:
        raise UsageError(Problem("bad-step", f"--do: {error.what}", now=error.now)) from error
    if any(step.verb == "run" or step.count is not None for step in said):
        what = "--do: scripts and counts of rows are for plans"
        raise UsageError(Problem("bad-step", what, now="[page.X.browser] do = […]"))
    steps = tuple(step.about(asked_expression("--do", step.expression)) if step.expression else step for step in said)
    wait = (asked_expression("--wait", args.wait),) if args.wait else ()
    return Rendering(wait=wait, size=(int(width), int(height)), steps=steps, dark=args.dark)


def asked_expression(option: str, text: str) -> str:
    """An expression of an option as a browser takes it. Raises UsageError."""
    from wadi.page.expressions import BadExpression, for_browser

    try:
        return for_browser(text)
    except BadExpression as error:
        raise UsageError(Problem("bad-expression", f"{option}: {error.what}", now=f"{option} 'ul > li'")) from error


def saved_in_archive(args: argparse.Namespace) -> list[SavedSource]:
    """The replies with rows of the archive that the command line names, the likeliest source first. Raises UsageError."""
    from wadi.learn.first_look.saved_replies import saved_sources
    from wadi.web.har import MOST_BYTES, NotAnArchive, read_archive

    if args.page is not None:
        raise UsageError(Problem("bad-option", "--har takes the place of PAGE", now="the one or the other"))
    place = Place(args.har)
    try:
        if Path(args.har).stat().st_size > MOST_BYTES:
            raise UsageError(Problem("wrong-kind", f"it is larger than {MOST_BYTES / 1e6:.0f} MB", place))
        found = saved_sources(read_archive(Path(args.har).read_bytes()))
    except FileNotFoundError as error:
        raise UsageError(Problem("no-such-file", "no such file", place)) from error
    except OSError as error:
        raise UsageError(Problem("not-readable", f"cannot be read: {error.strerror}", place)) from error
    except NotAnArchive as error:
        now = "in the browser's network panel:  save all as HAR, with content"
        raise UsageError(Problem("wrong-kind", str(error), place, now=now)) from error
    if not found:
        now = "load the page with the network panel open, and save with content"
        raise UsageError(Problem("nothing-to-draft", "no reply in it has rows", place, now=now))
    return found


def opened(args: argparse.Namespace) -> OpenedPage:
    """The page that the command line names."""
    if args.page is None:
        raise UsageError(Problem("bad-option", "there is no PAGE", now="a URL or a file, or --har FILE"))
    from wadi.actions.open_page import open_page, open_page_as
    from wadi.plan.reader import load_plan, with_route

    if args.plan_with is not None:
        loaded = with_route(load_plan(args.plan_with, inputs_of(args.input)), args.route)
        return open_page_as(
            args.page,
            loaded,
            credentials_for(loaded),
            fresh=args.fresh,
            parse=args.parse,
            ignore_robots=args.ignore_robots,
        )
    if args.input or args.route:
        raise UsageError(Problem("bad-option", "--input and --route are for a plan", now="--with PLAN"))
    return open_page(args.page, fresh=args.fresh, parse=args.parse, runs=args.runs, ignore_robots=args.ignore_robots)


def inputs_of(pairs: Iterable[str]) -> dict[str, InputValue]:
    """`NAME=VALUE` pairs as inputs; a name given several times becomes a list. Raises UsageError."""
    found: dict[str, list[str]] = {}
    for pair in pairs:
        name, equals, value = pair.partition("=")
        if not equals or not name:
            raise UsageError(Problem("bad-option", f'--input "{pair}" is no NAME=VALUE', now="--input district=east"))
        found.setdefault(name, []).append(value)
    return {name: values[0] if len(values) == 1 else values for name, values in found.items()}


def say_which(chosen: str, args: argparse.Namespace, err: TextIO) -> None:
    """Say which run a name means where a person may expect another."""
    if chosen and not args.quiet:
        print(chosen, file=err)


def check_outputs(paths: Iterable[str], *, also: bool = False) -> None:
    """Raise UsageError for files that could not be written, before anything is fetched, and for standard output where it is
    wanted twice; `also` says that something else goes there."""
    from wadi.table.destinations import check_target

    paths = list(paths)
    if paths.count("-") + also > 1 and "-" in paths:
        what = "-o - and --json both want standard output" if also else "-o - is given twice"
        raise UsageError(Problem("both-keys", what, now="write the table to a file"))
    for path in paths:
        check_target(path)


def style_asked(args: argparse.Namespace) -> Style:
    """How tables are written. Raises UsageError."""
    from wadi.table.writers import Style

    delimiter = {"\\t": "\t", "tab": "\t"}.get(args.delimiter, args.delimiter)
    if len(delimiter) != 1 or delimiter in '"\r\n':
        raise UsageError(
            Problem("bad-option", f"--delimiter {args.delimiter!r} is no single character", now="--delimiter ';'")
        )
    return Style(delimiter, args.bom, args.disarm, args.into)


def write_outputs(
    run: Run,
    paths: Iterable[str],
    table: str | None,
    style: Style,
    report: Callable[[str], None] = lambda said: None,
    walks: Walks | None = None,
    stream: RowStream | None = None,
) -> list[tuple[str, int]]:
    """Write the table to every path; returns paths and numbers of rows. `report` hears what is worth knowing of
    them, `walks` see the rows; standard output has got the rows of `stream` already."""
    from collections import Counter
    from dataclasses import replace
    from functools import partial

    from wadi.actions.export import export, source_of, style_of
    from wadi.cli.show import standard_output
    from wadi.table.writers import csv_file

    written: list[tuple[str, int]] = []
    armed: Counter[str] = Counter()
    source = walks.source if walks is not None else partial(source_of, run)
    long: Counter[str] = Counter()
    style = replace(
        style,
        noticed=lambda column, count: armed.update({column: count}),
        cut=lambda column, count: long.update({column: count}),
        unkeyed=lambda table, why: report(f"table {table}: {why}, so it is written without a primary key"),
    )
    for path in paths:
        armed.clear()
        long.clear()
        if path == "-":
            named = source(run.known_table(table))
            out = standard_output()
            if stream is not None:
                written.append((path, stream.rest(out, named.columns, named.rows())))
                armed.update(stream.armed)
            else:
                written.append((path, csv_file(out, named.columns, named.rows(), style_of(run, table, style))))
            out.flush()
        else:
            written.append((path, export(run, path, table, style, source)))
        if armed:
            cells = ", ".join(f"{count:,} of {column}" for column, count in armed.items())
            report(f"{path}: cells that a spreadsheet would run as formulas: {cells}; --disarm puts ' before them")
        if long:
            cells = ", ".join(f"{count:,} of {column}" for column, count in long.items())
            report(
                f"{path}: cells cut, since a workbook's cell holds 32,767 characters: {cells}; .csv and .parquet hold all"
            )
    return written


def at_least_one(text: str) -> int:
    """A whole number from 1, for argparse."""
    try:
        number = int(text)
    except ValueError:
        number = 0
    if number < 1:
        raise argparse.ArgumentTypeError(f"{text!r} is no whole number from 1")
    return number


def not_negative(text: str) -> int:
    """A whole number from 0, for argparse."""
    if not text.isdecimal():
        raise argparse.ArgumentTypeError(f"{text!r} is no whole number from 0")
    return int(text)


def a_time(text: str) -> float:
    """Seconds of `90s`, `30m`, for argparse."""
    return _plan_value(text, "duration_s")


def a_size(text: str) -> int:
    """Bytes of `200kB`, for argparse."""
    return int(_plan_value(text, "size_bytes"))


def _plan_value(text: str, reader: str) -> float:
    from pydantic_core import PydanticCustomError

    from wadi.plan import model

    try:
        return float(getattr(model, reader)(text))
    except PydanticCustomError as error:
        raise argparse.ArgumentTypeError(f"{text!r}: {error.message()}") from error


def credentials_for(loaded: LoadedPlan) -> Credentials | None:
    """What the plan's log-in needs, asked for at the terminal where no environment variable holds it. Raises CrawlError."""
    if loaded.plan.login is None and not loaded.secrets:
        return None
    from wadi.actions.setup import credentials_of

    at_terminal = sys.stdin.isatty() and sys.stderr.isatty()
    return credentials_of(loaded, _ask if at_terminal else None)


def _ask(question: str, secret: bool) -> str:
    """A person's answer; a secret is not shown while it is typed."""
    from prompt_toolkit import PromptSession
    from prompt_toolkit.output import create_output

    return PromptSession(output=create_output(sys.stderr)).prompt(f"{question}: ", is_password=secret)


def add_code(parser: argparse.ArgumentParser) -> None:
    """Add `--with-code` to a command that runs a plan's own code."""
    parser.add_argument(
        "--with-code",
        action="store_true",
        help="run the plan's own Python code without a question, and remember that it may run",
    )


_SHOWN_LINES = 60


def ask_for_code(loaded: LoadedPlan, args: argparse.Namespace, err: TextIO) -> None:
    """Show the plan's own code before its first run on this machine, and ask whether it is to run. Raises UsageError without a
    terminal to ask at, or with no for an answer."""
    code = loaded.code
    if code is None or code.is_approved:
        return
    if not args.with_code and sys.stdin.isatty():
        lines = code.text.splitlines()
        print(f"{code.path} is code of the plan's own, and was never run here:\n", file=err)
        for line in lines[:_SHOWN_LINES]:
            print(f"  {escaped(line)}", file=err)
        if len(lines) > _SHOWN_LINES:
            print(f"  … {len(lines) - _SHOWN_LINES} more lines", file=err)
        print("\nIt may do whatever you may. Run it? [y/N] ", end="", file=err, flush=True)
        args.with_code = sys.stdin.readline().strip().casefold() in ("y", "yes")
    if args.with_code:
        code.approve()
    loaded.require_code()


_SAID_EVERY_S = 3.0


def starts_noted(name: str, what: str, args: argparse.Namespace, err: TextIO) -> Callable[[int], None]:
    """Says now and then how many start addresses were made or looked at, where they are so many that this takes its time."""
    said = time.monotonic()

    def note(count: int) -> None:
        nonlocal said
        if not args.quiet and time.monotonic() - said >= _SAID_EVERY_S:
            said = time.monotonic()
            print(f"{name}: {count:,} {what}", file=err, flush=True)

    return note


def ended_at_once() -> None:
    """From now on an interrupt ends the command at once, inside an expression that takes for ever, too. For what has nothing to
    lose; one that is to be ignored stays ignored."""
    import signal

    if signal.getsignal(signal.SIGINT) is not signal.SIG_IGN:
        signal.signal(signal.SIGINT, signal.SIG_DFL)
