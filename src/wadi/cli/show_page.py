"""`wadi show`: a page as it came, as text, as Markdown, cleaned, or as the data that it carries."""

from __future__ import annotations

import argparse
from typing import TextIO

from wadi.cli.options import add_page, add_rendered, opened, rendering_asked
from wadi.cli.show import write_json
from wadi.cli.status import Status
from wadi.problems import Place, Problem, UsageError, escaped
from wadi.urls import without_secret

EXAMPLES = """examples (with the sample site up:  wadi demo --serve --port 8700):
  wadi show http://127.0.0.1:8700/notices --as markdown
  wadi show http://127.0.0.1:8700/register/MW-0141 --as json
  wadi show http://127.0.0.1:8700/gauges --as text --rendered
"""
FORMS = ("text", "markdown", "html", "safe", "json")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_page(parser)
    parser.add_argument(
        "--as", dest="form", choices=FORMS, default="text",
        help="text, as a reader sees it (default); markdown; html, as it came; safe, without what is active; json, its data",
    )  # fmt: skip
    parser.add_argument("--no-links", action="store_true", help="of Markdown: links are their texts")
    parser.add_argument("--no-images", action="store_true", help="of Markdown: no pictures")
    parser.add_argument("--part", metavar="EXPR", help="only what this picks (default: the whole page)")
    add_rendered(parser)


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    from wadi.actions.show_page import shown_as

    if args.rendered:
        from wadi.actions.rendered import open_rendered

        page = open_rendered(args.page, rendering_asked(args), ignore_robots=args.ignore_robots).opened
    else:
        page = opened(args)
    try:
        without = [*(["a"] if args.no_links else []), *(["img"] if args.no_images else [])]
        if without and args.form != "markdown":
            raise UsageError(
                Problem("bad-option", "--no-links and --no-images are about Markdown", now="--as markdown")
            )
        shown = shown_as(page.document, args.form, args.part, without=without)
    except LookupError as error:
        raise UsageError(Problem("not-on-page", str(error), Place(without_secret(args.page)))) from error
    if not isinstance(shown, str):
        write_json(shown, out)
    else:
        lines = map(escaped, shown.split("\n")) if out.isatty() else [shown]  # what a terminal obeys is shown there
        out.write("\n".join(lines) + "\n")
    return Status.DONE
