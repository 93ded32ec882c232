"""Runs the plans of docs/cookbook.md on the sample site, and writes below each the first rows that it gives:  python docs/cookbook.py"""

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


def main() -> int:
    """Write the rows below the plans."""
    site = sys.argv[1] if len(sys.argv) > 1 else SITE
    text = COOKBOOK.read_text("utf-8")
    with kitchen(site) as folder:
        for recipe in [*recipes(text)][::-1]:
            made = gives(recipe["plan"], site, folder)
            text = text[: recipe.start("gives")] + made + text[recipe.end("gives") :]
    COOKBOOK.write_text(text, "utf-8")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
