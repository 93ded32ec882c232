"""`wadi snap`: a picture of a page as a browser shows it."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TextIO

from wadi.cli.options import add_showing, asked_expression, rendering_asked
from wadi.cli.show import shown_size, standard_output
from wadi.cli.status import Status

EXAMPLES = """examples (with the sample site up:  wadi demo --serve --port 8700):
  wadi snap http://127.0.0.1:8700/register -o register.png
  wadi snap http://127.0.0.1:8700/register --whole -o register.png
  wadi snap http://127.0.0.1:8700/register --mark -o register.png
  wadi snap http://127.0.0.1:8700/walks --do "accept '#agree'" --wait 'ul.walks > li' -o walks.png
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("page", metavar="PAGE", help="a URL")
    parser.add_argument("-o", "--output", metavar="FILE", required=True, help="the PNG; - for standard output")
    what = parser.add_mutually_exclusive_group()
    what.add_argument("--whole", action="store_true", help="the whole height (default: what the window shows)")
    what.add_argument("--element", metavar="EXPR", help="the first element that this picks")
    parser.add_argument(
        "--mark", action="store_true",
        help="with the candidates for rows and fields drawn on it, as wadi inspect lists them (A, A1, …)",
    )  # fmt: skip
    parser.add_argument("--ignore-robots", action="store_true", help="though robots.txt forbids it, if you may")
    add_showing(parser)


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    from wadi.actions.rendered import picture_of
    from wadi.learn.first_look.frames import frames_of
    from wadi.store.whole_files import check_writable, replaced

    if args.output != "-":
        check_writable(Path(args.output))
    picture = picture_of(
        args.page,
        rendering_asked(args),
        whole=args.whole,
        element=asked_expression("--element", args.element) if args.element else "",
        frames=frames_of if args.mark else None,
        ignore_robots=args.ignore_robots,
    )
    if args.output == "-":
        standard_output().write(picture)
        return Status.DONE
    replaced(Path(args.output), picture)
    if not args.quiet:
        print(f"{args.output}: {shown_size(len(picture))}", file=err)
    return Status.DONE
