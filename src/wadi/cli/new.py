"""`wadi new`: a commented plan to begin with, and a .gitignore that keeps runs out of a repository."""

from __future__ import annotations

import argparse
import re
import shlex
from pathlib import Path
from typing import TextIO

from wadi.cli.status import Status
from wadi.problems import Place, Problem, UsageError

EXAMPLES = """examples:
  wadi new springs                                       springs.toml in this folder
  wadi new springs --address http://127.0.0.1:8700/register
"""
_PLAN = """# What is on this site, and how to crawl it. Every key:  docs/plan.md;  what is wrong in it:  wadi lint {file}
wadi  = 1
title = "{title}"

[inputs]
site = "{site}"

[start]
page      = "list"                     # the kind of page that the crawl begins with, described below
addresses = ["{{+site}}{path}"] # wadi inspect ADDRESS  shows what is on it, and how it goes on

[manners]
# contact = "you@example.org"          # an address for the site's owner
pause = "1s"                           # the least time between two requests to a host

[page.list]
expect = "ul, ol, table"               # a page without it was blocked, and is not "no rows"
rows   = "li"                          # what picks the rows:  wadi try ADDRESS 'li'
table  = "{table}"
# next = {{ at = "a", text = "Next" }}   # how the listing goes on
# open = {{ detail = "a" }}              # which links of a row lead to pages that complete it

[page.list.fields]
name = "a"
url  = {{ at = "a", attr = "href", type = "url" }}
# price = {{ at = ".price", type = "number", locale = "en" }}

[table.{table}]
key = "url"                            # what tells one record from another
"""
_IGNORED = "runs/\n"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="NAME", help="what the plan is called: NAME.toml")
    parser.add_argument(
        "--address", metavar="URL", default="https://example.org/list", help="the page that it begins with"
    )


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    from urllib.parse import urlsplit

    plan = Path(args.name if args.name.endswith(".toml") else f"{args.name}.toml")
    parts = urlsplit(args.address)
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise UsageError(Problem("bad-url", f"{args.address} is no address of a page", now="--address https://…"))
    table = re.sub(r"\W+", "_", plan.stem).strip("_") or "rows"
    text = _PLAN.format(
        file=plan.name,
        title=plan.stem.replace('"', "'"),
        site=f"{parts.scheme}://{parts.netloc}",
        path=(parts.path or "/") + (f"?{parts.query}" if parts.query else ""),
        table=table if not table[0].isdigit() else f"t_{table}",
    )
    try:
        with plan.open("x", encoding="utf-8") as file:
            file.write(text)
        written = [str(plan), *_ignored(plan.parent)]
    except FileExistsError as error:
        raise UsageError(
            Problem("file-exists", "there is a plan of this name", Place(str(plan)), now="another name")
        ) from error
    except OSError as error:
        raise UsageError(Problem("not-writable", f"cannot be written: {error.strerror}", Place(str(plan)))) from error
    if not args.quiet:
        name = shlex.quote(str(plan))
        print(f"written: {', '.join(written)}", file=err)
        print(f"next:  wadi inspect {args.address};  wadi lint {name};  wadi preview {name}", file=err)
    return Status.DONE


def _ignored(folder: Path) -> list[str]:
    """Keep runs out of a repository; the file that was written or added to, if any."""
    file = folder / ".gitignore"
    before = file.read_text("utf-8") if file.exists() else ""
    if _IGNORED.strip() in before.splitlines():
        return []
    file.write_text(before + ("\n" if before and not before.endswith("\n") else "") + _IGNORED, "utf-8")
    return [str(file)]
