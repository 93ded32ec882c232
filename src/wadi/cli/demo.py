"""`wadi demo`: the sample site, a crawl of it, and the table, on this machine alone."""

from __future__ import annotations

import argparse
import shutil
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from importlib.resources import as_file, files
from pathlib import Path
from typing import TextIO

from wadi.cli.show import console, plain, rows_table
from wadi.cli.status import Status
from wadi.problems import CrawlError, Problem, UsageError, plural

EXAMPLES = """examples:
  wadi demo                          crawl the sample site, show the first rows, name the files
  wadi demo --examples examples      copy the example plans into a folder
  wadi demo --serve --port 8700      keep the site up, and say what to try
  wadi demo --serve --proxies        stand-in proxies beside it
  wadi demo --serve --weather rough  requests meet trouble on their way
  wadi demo --serve --edition 2      the register after a redesign, to be mended for
"""
FOLDER = Path("wadi-demo")
_SHOWN_ROWS = 6
_MOST_HOSTS = 250
_READY = "ready "


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--serve", action="store_true", help="keep the sample site up until Ctrl-C")
    parser.add_argument(
        "--port", type=_port, default=0, metavar="N", help="port of the sample site (default: a free one)"
    )
    parser.add_argument(
        "--weather",
        choices=("calm", "rough", "storm"),
        default="calm",
        help="with --serve: what requests meet on their way",
    )
    parser.add_argument("--seed", type=int, default=1, metavar="N", help="with --weather: which requests meet it")
    parser.add_argument(
        "--proxies",
        action="store_true",
        help="with --serve: stand-in proxies beside the site, by HTTP, by SOCKS5, and one that fails",
    )
    parser.add_argument(
        "--faults",
        metavar="NAMES",
        default="",
        help="with --serve: faults planted in the register, commas between: column, page, duplicates, unit, total, or all",
    )
    parser.add_argument(
        "--edition",
        type=int,
        choices=(1, 2),
        default=1,
        help="with --serve: 2 is the register after a redesign, with the same springs (default: 1)",
    )
    parser.add_argument(
        "--hosts", type=_hosts, default=1, metavar="N",
        help="with --serve: on N hosts, 127.0.0.1 and those after it, each a branch of its own (/branches)",
    )  # fmt: skip
    parser.add_argument(
        "--examples", type=Path, metavar="FOLDER", help="copy the example plans into a folder, and do nothing else"
    )
    parser.add_argument("--announce", action="store_true", help=argparse.SUPPRESS)


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    if args.examples is not None:
        return _copy_examples(args.examples, args, err)
    if args.serve:
        return _serve(args, out)
    try:
        FOLDER.mkdir(exist_ok=True)
    except OSError as error:
        raise UsageError(
            Problem("not-writable", f"the folder {FOLDER}/ cannot be made here: {error.strerror}")
        ) from error
    folder = FOLDER
    plan = folder / "springs.toml"
    with example("springs.toml") as bundled:
        shutil.copyfile(bundled, plan)
    with _site(args.port) as site:
        if not args.quiet:
            print(f"The sample site of the Merrowdale Water Office is up at {site}", file=err)
            print(f"Files go to {folder}/ in this folder; the plan that runs is {plan}\n", file=err)
        return _crawl(plan, site, folder, args, out, err)


def _hosts(text: str) -> int:
    if not text.isdecimal() or not 1 <= int(text) <= _MOST_HOSTS:
        raise argparse.ArgumentTypeError(f"a number from 1 to {_MOST_HOSTS} is wanted")
    return int(text)


def _crawl(plan: Path, site: str, folder: Path, args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    from wadi.actions.begin import begin
    from wadi.cli.run import crawl_and_sum_up
    from wadi.plan.reader import load_plan

    args.output = [str(folder / "springs.csv"), str(folder / "springs.jsonl")]
    args.table, args.strict, args.json = None, False, False
    args.delimiter, args.bom, args.disarm, args.into = ",", False, False, "replace"
    with begin(load_plan(plan, {"site": site}), folder / "runs") as begun:
        status = crawl_and_sum_up(begun, args, out, err)
        if not args.quiet:
            _show_rows(begun, out)
            print(
                f"\nNow try:\n"
                f"  wadi demo --serve --port 8700                     keep the site up; then, in another terminal:\n"
                f"  wadi run {folder}/springs.toml --rows 40 -o first.csv",
                file=err,
            )
    return status


def _show_rows(begun: object, out: TextIO) -> None:
    from itertools import islice

    from wadi.actions.run import Run

    assert isinstance(begun, Run)
    assembly = begun.assembly()
    rows = list(islice(assembly.rows(), _SHOWN_ROWS))
    to = console(out)
    to.print()
    table, left_out = rows_table(assembly.columns, rows, to.width)
    to.print(table)
    if left_out:
        to.print(plain(f"{plural(len(left_out), 'more column')}: {', '.join(left_out)}", "dim"))


def _serve(args: argparse.Namespace, out: TextIO) -> Status:
    import asyncio
    from contextlib import AsyncExitStack

    from wadi.demo.office import REGIONS
    from wadi.demo.proxies import StandInProxy, proxies
    from wadi.demo.site import serve_until_cancelled

    planted = _faults(args.faults)

    def ready(address: str) -> None:
        print(f"{_READY}{address}" if args.announce else _what_to_try(address), file=out, flush=True)

    async def serve() -> None:
        async with AsyncExitStack() as stack:
            if args.proxies:
                stand_ins = (
                    StandInProxy(region=REGIONS["north"]),
                    StandInProxy("socks5", region=REGIONS["south"]),
                    StandInProxy("socks5", "guest:well"),
                    StandInProxy(broken=True),
                )
                print(_routes_to_try(await stack.enter_async_context(proxies(*stand_ins))), file=out, flush=True)
            await serve_until_cancelled(args.port, ready, args.weather, args.seed, planted, args.edition, args.hosts)

    try:
        asyncio.run(serve())
    except KeyboardInterrupt:
        return Status.DONE
    except OSError as error:
        what = f"port {args.port} cannot be used: {error.strerror or error}"
        raise UsageError(Problem("bad-option", what, now="without --port a free one is taken")) from error
    return Status.DONE


def _faults(text: str) -> list[str]:
    """The faults that are asked for. Raises UsageError for one that there is not."""
    from wadi.demo.faults import FAULTS

    names = [name.strip() for name in text.split(",") if name.strip()]
    names = list(FAULTS) if names == ["all"] else names
    if unknown := [name for name in names if name not in FAULTS]:
        what = f'there is no fault "{unknown[0]}" to plant'
        raise UsageError(Problem("bad-option", what, now=f"faults: {', '.join(FAULTS)}, or all"))
    return names


def _routes_to_try(addresses: list[str]) -> str:
    """How the stand-in proxies are used."""
    words = ("by HTTP, in the north", "by SOCKS5, in the south", "by SOCKS5, with a log-in", "closes every connection")
    lines = "".join(f"  {address:<40} {word}\n" for address, word in zip(addresses, words, strict=True))
    return (
        f"Stand-in proxies, which lead to this machine alone:\n{lines}"
        f'  used in turn:  [manners] routes_from = "ROUTES"  in a plan, and:  export ROUTES="{" ".join(addresses)}"\n'
        f'  by region:     [manners] routes = {{ north = "{addresses[0]}", south = "{addresses[1]}" }}\n'
    )


def _what_to_try(address: str) -> str:
    return f"""The Merrowdale Water Office is up at {address} (Ctrl-C ends it)

  {address}/register           354 springs and wells on 12 pages
  {address}/districts          the same springs by district

try, in another terminal:
  wadi lint examples/springs.toml
  wadi run examples/springs.toml --input site={address} -o springs.csv
  wadi run examples/springs.toml --input site={address} --rows 40 -o - | head -5
"""


@contextmanager
def _site(port: int) -> Iterator[str]:
    """The sample site in a process of its own, so that it and the crawl do not share one; gives its address."""
    command = [sys.executable, "-m", "wadi", "demo", "--serve", "--announce", "--port", str(port)]
    process = subprocess.Popen(
        command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, stdin=subprocess.DEVNULL, text=True
    )
    try:
        assert process.stdout is not None
        assert process.stderr is not None
        line = process.stdout.readline()
        if not line.startswith(_READY):
            raise CrawlError(Problem("unreachable", f"the sample site did not start: {process.stderr.read().strip()}"))
        yield line.removeprefix(_READY).strip()
    finally:
        process.terminate()
        process.communicate(timeout=10)


def _copy_examples(folder: Path, args: argparse.Namespace, err: TextIO) -> Status:
    """Copy the plans that ship with Wadi, and the files beside them; what is there already stays."""
    from wadi.store.whole_files import copied, not_written

    try:
        folder.mkdir(parents=True, exist_ok=True)
        with example("") as bundled:
            found = [file for file in sorted(bundled.iterdir()) if file.is_file()]
            new = [file for file in found if not (folder / file.name).exists()]
            for file in new:
                copied(file, folder / file.name)
    except OSError as error:
        raise not_written(folder, error) from error
    if not args.quiet:
        kept = f"; {len(found) - len(new)} were there already and stay" if len(found) > len(new) else ""
        print(f"{folder}: {len(new)} files copied{kept}; next:  wadi demo --serve --port 8700", file=err)
    return Status.DONE


@contextmanager
def example(name: str) -> Iterator[Path]:
    """A plan that ships with Wadi, or without a name the folder of all: inside the installed package, or beside the sources."""
    packaged = files("wadi.demo") / "examples" / name
    if packaged.is_file() or packaged.is_dir():
        with as_file(packaged) as path:
            yield path
    else:
        yield Path(__file__).parents[3] / "examples" / name


def _port(text: str) -> int:
    if not text.isdecimal() or int(text) > 65_535:
        raise argparse.ArgumentTypeError(f"{text!r} is no port (0 to 65535)")
    return int(text)
