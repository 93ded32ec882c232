"""Runs the plans of docs/cookbook.md on the sample site, and those of docs/html-to-fields.md on the HTML above them, and writes below each
the first rows that it gives:  python docs/cookbook.py
"""

from __future__ import annotations

import os
import re
import shutil
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from urllib.request import urlopen

import wadi
from wadi.plan.reader import parse_plan

ROOT = Path(__file__).parent.parent
COOKBOOK = ROOT / "docs" / "cookbook.md"
SITE = "http://127.0.0.1:8700"
RECIPE = re.compile(
    r"^### (?P<name>.+?)\n(?P<said>.*?)```toml\n(?P<plan>.*?)```\n\n```text\n(?P<gives>.*?)```\n",
    re.MULTILINE | re.DOTALL,
)
FROM_HTML = ROOT / "docs" / "html-to-fields.md"
SECTION = re.compile(
    r"^## (?P<name>[^\n]+)\n(?:(?!^## ).)*?```html\n(?P<html>.*?)```\n\n```toml\n(?P<plan>.*?)```\n\n```text\n(?P<gives>.*?)```\n",
    re.MULTILINE | re.DOTALL,
)
HEAD = 'wadi = 1\nstart = { page = "list", addresses = "page.html" }\n'
"""What the plans of the sections begin with."""
_ROWS = 3
_MOST_PAGES = 12


def recipes(text: str) -> Iterator[re.Match[str]]:
    """The recipes, each with its name, its plan and what it gives."""
    return RECIPE.finditer(text)


@contextmanager
def kitchen(site: str) -> Iterator[Path]:
    """A folder with the files that recipes name, in which they are run."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for file in ("places.csv", "printout.py"):
            shutil.copy(ROOT / "examples" / file, folder)
        (folder / "saved").mkdir()
        for number, path in ((2, "/register"), (10, "/register?page=2")):
            with urlopen(f"{site}{path}") as reply:
                (folder / "saved" / f"page-{number}.html").write_bytes(reply.read())
        yield folder


def gives(plan: str, site: str, folder: Path) -> str:
    """The first rows that a plan gives, as CSV."""
    loaded = parse_plan(plan.replace(SITE, site), str(folder / "plan.toml"))
    if loaded.code is not None:
        loaded.code.allow()
    manners = loaded.plan.manners.model_copy(update={"pause": 0.0})  # the site is our own
    loaded = replace(loaded, plan=loaded.plan.model_copy(update={"manners": manners}))
    os.environ.setdefault("KEEPER_KEY", "an example's key")
    with wadi.run(loaded, runs=folder / "runs", pages=_MOST_PAGES) as run:
        wadi.export(run, folder / "table.csv")
    lines = (folder / "table.csv").read_text("utf-8").replace(site, SITE).splitlines()
    return "".join(f"{line}\n" for line in lines[: _ROWS + 1])


def sections(text: str) -> Iterator[re.Match[str]]:
    """The sections with HTML, the part of a plan that reads it, and what that gives."""
    return SECTION.finditer(text)


def gives_of_html(html: str, plan: str, folder: Path) -> str:
    """The first rows that a part of a plan gives from a piece of HTML, as CSV."""
    (folder / "page.html").write_text(html, "utf-8")
    return gives(HEAD + plan, SITE, folder)


def main() -> int:
    """Write the rows below the plans."""
    site = sys.argv[1] if len(sys.argv) > 1 else SITE
    with kitchen(site) as folder:
        text = COOKBOOK.read_text("utf-8")
        made = [(recipe, gives(recipe["plan"], site, folder)) for recipe in recipes(text)]
        COOKBOOK.write_text(_with_made(text, made), "utf-8")
        text = FROM_HTML.read_text("utf-8")
        made = [(found, gives_of_html(found["html"], found["plan"], folder)) for found in sections(text)]
        FROM_HTML.write_text(_with_made(text, made), "utf-8")
    return 0


def _with_made(text: str, made: list[tuple[re.Match[str], str]]) -> str:
    """A text with what each of its plans gives."""
    for found, given in reversed(made):
        text = text[: found.start("gives")] + given + text[found.end("gives") :]
    return text


if __name__ == "__main__":
    raise SystemExit(main())
