"""A fuzz of what reads pages: those of the sample site, torn and mixed by chance, for a bounded time in a process of its own.

    python tests/fuzz.py [--seconds 60] [--seed N]

Each page stands in a file before it is read. Where the process ends, breaks off or stays with a page, that file is kept and
named, and the status is 1.
"""

from __future__ import annotations

import argparse
import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

ROOT = Path(__file__).parent
SLOW_S = 10.0
EXPRESSIONS = (
    "li", "li > a[href]", "td:nth-child(2n + 1)", ":has(> b):not(.x, p)", "h3 + *", "//li[position() < 3]/@*", "//*[count(*) > 2]",
    "string(.//a)", "ancestor-or-self::*[1]", "//text()[contains(., 'M')]", "re:<(\\w+)", "$..name",
)  # fmt: skip
PIECES = (
    "<", ">", "</", '"', "'", "=", "&", "&#", "<!--", "-->", "<![CDATA[", "<template>", "<table>", "<svg>", "<math>", "<select>",
    "<script>", "</p>", "<p>", "<td", "\0", "\ufffe", "<pre>\n", "<textarea>", "<noscript>", "<base href=", "<a href=",
    "<plaintext>", "<frameset>", "colspan=999999", "<dl><dt>", "\u202e", "\r", "<?", "<!DOCTYPE",
)  # fmt: skip


def pages() -> list[str]:
    """What is torn: pages of the sample site, and others with the quirks of real ones."""
    from wadi.demo.site import registerhtml

    found = [path.read_text("utf-8", "replace") for path in sorted((ROOT / "labelled").glob("**/*.html"))]
    suite = [path.read_text("utf-8") for path in sorted((ROOT / "suites/tree-construction").glob("tests*.dat"))]
    return [*map(registerhtml, range(1, 6)), *found, *suite]


def torn(page: str, others: list[str], chance: random.Random) -> str:
    """The page with a few things wrong."""
    text = page[: chance.randrange(1, 60_000)]
    for _ in range(chance.randrange(1, 12)):
        at = chance.randrange(len(text) + 1)
        until = at + chance.randrange(1, 200)
        text = chance.choice(_WAYS)(text, at, until, others, chance)
    return text


def _without(text: str, at: int, until: int, others: list[str], chance: random.Random) -> str:
    return text[:at] + text[until:]


def _twice(text: str, at: int, until: int, others: list[str], chance: random.Random) -> str:
    return text[:until] + text[at:until] * chance.choice([1, 2, 50]) + text[until:]


def _with_piece(text: str, at: int, until: int, others: list[str], chance: random.Random) -> str:
    return text[:at] + chance.choice(PIECES) * chance.choice([1, 1, 1, 300]) + text[at:]


def _with_other(text: str, at: int, until: int, others: list[str], chance: random.Random) -> str:
    other = chance.choice(others)
    start = chance.randrange(len(other))
    return text[:at] + other[start : start + chance.randrange(1, 2000)] + text[until:]


_WAYS: tuple[Callable[[str, int, int, list[str], random.Random], str], ...] = (
    _without, _twice, _with_piece, _with_piece, _with_other,
)  # fmt: skip


def read(body: bytes, chance: random.Random) -> None:
    """All that is done with a page, for it or for its rows."""
    from wadi.page.document import NotADocument, read_document
    from wadi.page.expressions import compile_expression
    from wadi.page.grid import grid_of
    from wadi.page.labels import LabelsIn
    from wadi.page.markup import clean_html, markdown_of
    from wadi.page.nodes import Element, elements, inner_markup_of, line_of, path_of
    from wadi.page.structured import structured
    from wadi.page.text import text_of

    try:
        document = read_document(body, "http://h/a/b", chance.choice(["text/html", "", "text/html; charset=gbk"]))
    except NotADocument:
        return
    scopes = [document.scope]
    if document.kind != "json":
        every = list(elements(document.top))
        scopes += chance.sample(every, min(4, len(every)))
        for element in chance.sample(every, min(3, len(every))):
            for work in (text_of, clean_html, markdown_of, inner_markup_of, line_of, path_of):
                work(element)  # type: ignore[operator]
            LabelsIn(element).find(["depth", "flow"])
        for table in list(elements(document.top, "table"))[:2]:
            grid_of(table)
        text_of(document.top)
    for expression in EXPRESSIONS:
        for scope in scopes:
            for node in compile_expression(expression).nodes(scope, document)[:3]:
                if isinstance(node, Element):
                    text_of(node)
    structured(document)


def work(seconds: float, seed: int, at: Path) -> None:
    """Read torn pages until the time is over."""
    chance, every, ends, count = random.Random(seed), pages(), time.monotonic() + seconds, 0
    while time.monotonic() < ends:
        body = torn(chance.choice(every), every, chance).encode("utf-8", "replace")
        at.write_bytes(body)
        started = time.monotonic()
        read(body, chance)
        count += 1
        if time.monotonic() - started > SLOW_S:
            sys.exit(f"a page took {time.monotonic() - started:.0f} s")
    print(f"{count} pages, seed {seed}")


def main() -> int:
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--seconds", type=float, default=60)
    parser.add_argument("--seed", type=int, default=int(time.time()))
    parser.add_argument("--work", type=Path, help=argparse.SUPPRESS)
    args = parser.parse_args()
    if args.work is not None:
        work(args.seconds, args.seed, args.work)
        return 0
    folder = Path(tempfile.mkdtemp(prefix="fuzz-"))
    page = folder / "page.html"
    command = [sys.executable, __file__, "--seconds", str(args.seconds), "--seed", str(args.seed), "--work", str(page)]
    try:
        status = subprocess.run(command, timeout=args.seconds + 60, check=False).returncode
    except subprocess.TimeoutExpired:
        status = 1
    if status:
        print(f"ended with {status} over {page} (seed {args.seed})", file=sys.stderr)
        return 1
    page.unlink()
    folder.rmdir()
    return 0


if __name__ == "__main__":
    sys.exit(main())
