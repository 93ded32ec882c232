"""A whole crawl of listing pages, by Wadi and by scripts that a person would write, by turns: pages a second, and ratios.

python benchmarks/whole_crawl.py [--pages 2000] [--rounds 5]

The site is made in memory and served on loopback by a process of its own: 40 chains of listing pages, 30 records of 8 fields
each, 30 KB. `hand` is an asynchronous script with aiohttp and lxml that walks the cells by position and keeps nothing; `css`
is the same with one precompiled selector for each field and row; `engine` has selectors of the engine that Wadi uses; `kept`
is `engine` with what Wadi owes besides: each reply is kept as a compressed record with its digest, durable before its rows
and the next link are committed, and the table is written at the end out of the database, in reading order; `naive` asks page
after page. None of them is polite, tries again, or looks at what it got. Every table is compared with the first.
"""

from __future__ import annotations

import argparse
import asyncio
import csv
import hashlib
import json
import os
import random
import resource
import sqlite3
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path
from statistics import median
from urllib.parse import urljoin

import host
import orjson
from isal import isal_zlib

from wadi.actions.begin import begin
from wadi.actions.crawl import crawl
from wadi.actions.export import export

CHAINS = 40
ROWS = 30
FIELDS = ("code", "name", "district", "flow", "depth", "day", "temp", "note")
PLAN = """wadi = 1
[start]
page = "list"
addresses = [{starts}]
[manners]
pause = 0
parallel = 16
[page.list]
expect = "table.list"
rows = "table.list tbody tr.rec"
table = "t"
next = "a[rel=next]"
[page.list.fields]
{fields}
"""


def page_of(chain: int, number: int, last: int) -> bytes:
    """One listing page; the same bytes each time."""
    rng = random.Random(chain * 1000 + number)
    rows = []
    for place in range(ROWS):
        code = f"MW-{chain:02}-{number * ROWS + place:05}"
        cells = {
            "code": f"<span class=mark>●</span> <code>{code}</code>",
            "name": f'<a href="/sheets/{code}.html" title="Sheet of {code}"><b>Ash</b> Spring {rng.randrange(999)}</a>',
            "district": rng.choice(("Saltholm", "Thornmere", "Upper Merrow")),
            "flow": f"{rng.random() * 900:.1f} l/s".replace(".", ","),
            "depth": f"{rng.random() * 90:.2f} m",
            "day": f"{rng.randrange(1, 29):02}.{rng.randrange(1, 13):02}.20{rng.randrange(10, 26)}",
            "temp": rng.choice(("n/a", "9,5 °C", "11 °C")),
            "note": " ".join(
                rng.choice(("Moss", "on", "the", "sill;", "reading", "taken", "twice.")) for _ in range(14)
            ),
        }
        tds = "".join(
            f'<td class="{name} cell" data-sort="{rng.randrange(10**6)}">{cells[name]}</td>' for name in FIELDS
        )
        parity = "odd" if place % 2 else "even"
        rows.append(f'<tr class="rec {parity}" id="r{code}">{tds}<td class="act"><button>…</button></td></tr>')
    links = "".join(f'<li class="item"><a href="/about/{n}.html">Page {n} of the office</a></li>' for n in range(60))
    following = f'<a rel="next" href="/l/{chain}/{number + 1}">Next</a>' if number < last else ""
    return (
        f"<!DOCTYPE html><html lang=en><head><meta charset=utf-8><title>List {chain}</title></head><body>"
        f'<nav><ul>{links}</ul></nav><table class="list sortable"><thead><tr><th>Code</th></tr></thead>'
        f"<tbody>{''.join(rows)}</tbody></table>{following}</body></html>"
    ).encode()


def serve(pages: int) -> None:
    """Serve the site on a free port, which is printed."""
    last = pages // CHAINS
    replies = {}
    for chain in range(CHAINS):
        for number in range(1, last + 1):
            body = page_of(chain, number, last)
            replies[f"/l/{chain}/{number}".encode()] = host.answer(body)
    gone = b"HTTP/1.1 404 Not Found\r\nContent-Length: 0\r\n\r\n"
    host.serve(lambda path: replies.get(path, gone))


def text_of(element) -> str:  # type: ignore[no-untyped-def]
    return " ".join("".join(element.itertext()).split()) if len(element) else (element.text or "").strip()


def by_hand():  # type: ignore[no-untyped-def]
    """Cells by position."""
    from lxml import etree

    parser = etree.HTMLParser(encoding="utf-8", collect_ids=False)
    table = etree.XPath("//table[@class='list sortable']/tbody/tr")
    following = etree.XPath("string((//a[@rel='next'])[1]/@href)", smart_strings=False)

    def select(body: bytes):  # type: ignore[no-untyped-def]
        root = etree.fromstring(body, parser)
        rows = []
        for row in table(root):
            cells = list(row)
            rows.append([text_of(cells[0][1]), text_of(cells[1][0]), *[text_of(cell) for cell in cells[2:8]]])
        return rows, following(root)

    return select


def by_css(compile_once: bool = True):  # type: ignore[no-untyped-def]
    """One selector for each field and row, translated to XPath."""
    from cssselect import GenericTranslator
    from lxml import etree

    def xpath(css: str):  # type: ignore[no-untyped-def]
        return etree.XPath(GenericTranslator().css_to_xpath(css, prefix="descendant::"), smart_strings=False)

    selectors = [
        "table.list tbody tr.rec",
        "a[rel=next]",
        "td.code code",
        "td.name a",
        *(f"td.{name}" for name in FIELDS[2:]),
    ]
    known = [xpath(one) for one in selectors]
    parser = etree.HTMLParser(encoding="utf-8", collect_ids=False)

    def select(body: bytes):  # type: ignore[no-untyped-def]
        table, following, *fields = known if compile_once else [xpath(one) for one in selectors]
        root = etree.fromstring(body, parser)
        rows = []
        for row in table(root):
            picks = fields if compile_once else [xpath(one) for one in selectors[2:]]
            rows.append([text_of(pick(row)[0]) for pick in picks])
        links = following(root)
        return rows, links[0].get("href") if links else ""

    return select


def by_engine():  # type: ignore[no-untyped-def]
    """One selector for each field and row, by the engine that Wadi uses."""
    from turbohtml import parse

    fields = ("td.code code", "td.name a", *(f"td.{name}" for name in FIELDS[2:]))

    def select(body: bytes):  # type: ignore[no-untyped-def]
        root = parse(body, encoding="utf-8", positions=False)
        rows = [
            [" ".join(row.select(field)[0].text.split()) for field in fields]
            for row in root.select("table.list tbody tr.rec")
        ]
        links = root.select("a[rel=next]")
        return rows, links[0].attrs["href"] if links else ""

    return select


class Kept:
    """What a script has to do to lose nothing: replies in an archive, rows and links in a database, eight pages at a time."""

    def __init__(self, folder: Path) -> None:
        self.archive = (folder / "replies.gz").open("wb")
        self.db = sqlite3.connect(folder / "kept.db", isolation_level=None)
        self.db.executescript(
            "PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL;"
            " CREATE TABLE pages (url TEXT PRIMARY KEY, route BLOB, offset INT, length INT, cells BLOB);"
            " CREATE INDEX read ON pages (route);"
        )
        self.open: list[tuple[object, ...]] = []

    def take(self, url: str, route: bytes, headers: object, body: bytes, rows: list[list[str]], following: str) -> None:
        digest = hashlib.sha256(body).hexdigest()
        head = (
            f"WARC/1.1\r\nWARC-Target-URI: {url}\r\nWARC-Payload-Digest: sha256:{digest}\r\n{headers}\r\n\r\n".encode()
        )
        packer = isal_zlib.compressobj(2, isal_zlib.DEFLATED, isal_zlib.MAX_WBITS | 16)
        record, offset = packer.compress(head + body) + packer.flush(), self.archive.tell()
        self.archive.write(record)
        self.open.append((url, route, offset, len(record), orjson.dumps(rows), following))
        if len(self.open) == 8:
            self.commit()

    def commit(self) -> None:
        self.archive.flush()
        os.fsync(self.archive.fileno())
        self.db.execute("BEGIN")
        for *page, following in self.open:
            self.db.execute("INSERT OR REPLACE INTO pages VALUES (?, ?, ?, ?, ?)", page)
            self.db.execute("INSERT OR IGNORE INTO pages (url) VALUES (?)", (following,))
        self.db.execute("COMMIT")
        self.open.clear()

    def rows(self):  # type: ignore[no-untyped-def]
        self.commit()
        for (cells,) in self.db.execute("SELECT cells FROM pages WHERE cells IS NOT NULL ORDER BY route"):
            yield from orjson.loads(cells)


def crawl_tuned(base: str, out: Path, select, kept: Kept | None = None) -> int:  # type: ignore[no-untyped-def]
    import aiohttp

    count = 0
    with out.open("w", newline="") as file:
        writer = csv.writer(file)
        writer.writerow(FIELDS)

        async def chain(session: aiohttp.ClientSession, number: int, room: asyncio.Semaphore) -> None:
            nonlocal count
            url, place = f"{base}/l/{number}/1", 0
            while url:
                async with room, session.get(url) as reply:
                    body = await reply.read()
                rows, following = select(body)
                asked, url = url, urljoin(url, following) if following else ""
                if kept is None:
                    writer.writerows(rows)
                else:
                    kept.take(asked, b"%04d%06d" % (number, place), reply.headers, body, rows, url)
                count, place = count + 1, place + 1

        async def run() -> None:
            room = asyncio.Semaphore(16)
            async with aiohttp.ClientSession(connector=aiohttp.TCPConnector(limit=16)) as session:
                await asyncio.gather(*(chain(session, number, room) for number in range(CHAINS)))

        asyncio.run(run())
        if kept is not None:
            writer.writerows(kept.rows())
    return count


SELECTS = {"hand": by_hand, "css": by_css, "engine": by_engine, "kept": by_engine}


def crawl_naive(base: str, out: Path) -> int:
    select, count = by_css(compile_once=False), 0
    with out.open("w", newline="") as file:
        writer = csv.writer(file)
        writer.writerow(FIELDS)
        for number in range(CHAINS):
            url = f"{base}/l/{number}/1"
            while url:
                with urllib.request.urlopen(url) as reply:
                    rows, following = select(reply.read())
                writer.writerows(rows)
                count += 1
                url = urljoin(url, following) if following else ""
    return count


def crawl_wadi(base: str, out: Path, folder: Path) -> int:
    from wadi.plan.reader import load_plan

    starts = ", ".join(f'"{base}/l/{number}/1"' for number in range(CHAINS))
    picks = {"code": "td.code code", "name": "td.name a"}
    fields = "\n".join(f'{name} = {{ at = "{picks.get(name, f"td.{name}")}", missing = [] }}' for name in FIELDS)
    plan = folder / "bench.toml"
    plan.write_text(PLAN.format(starts=starts, fields=fields))
    with begin(load_plan(plan), folder / "runs") as run:
        crawl(run)
        export(run, out)
        return sum(run.pages().values())


def reparse_wadi(folder: Path) -> tuple[int, float]:
    from wadi.actions.reparse import reparse
    from wadi.actions.run import Run

    with Run.open("bench", folder / "runs") as old:
        began = time.perf_counter()
        new, done = reparse(old, old.loaded, folder / "again")
        seconds = time.perf_counter() - began
        new.close()
    return done.read, seconds


def bare_loop(select, pages: int = 400) -> float:  # type: ignore[no-untyped-def]
    """Pages a second that one processor parses and selects, and nothing else."""
    bodies = [page_of(chain, number, 50) for chain in range(CHAINS) for number in range(1, pages // CHAINS + 1)]
    began = time.perf_counter()
    for body in bodies:
        select(body)
    return len(bodies) / (time.perf_counter() - began)


def one(which: str, base: str, folder: Path) -> None:
    """One crawl in this process; what it cost is printed as JSON."""
    out = folder / f"{which}.csv"
    began = time.perf_counter()
    if which == "wadi":
        count = crawl_wadi(base, out, folder)
    elif which == "naive":
        count = crawl_naive(base, out)
    else:
        count = crawl_tuned(base, out, SELECTS[which](), Kept(folder) if which == "kept" else None)
    wall = time.perf_counter() - began
    used, helped = resource.getrusage(resource.RUSAGE_SELF), resource.getrusage(resource.RUSAGE_CHILDREN)
    lines = sorted(out.read_bytes().replace(b"\r\n", b"\n").splitlines())
    digest = hashlib.sha256(b"\n".join(lines)).hexdigest()[:12]
    done = {
        "pages": count,
        "wall": wall,
        "cpu": used.ru_utime + used.ru_stime + helped.ru_utime + helped.ru_stime,
        "rss": used.ru_maxrss / 1024,
        "digest": digest,
    }
    if which == "wadi":
        archived = sum(path.stat().st_size for path in folder.glob("runs/bench/*/pages/*"))
        read, seconds = reparse_wadi(folder)
        done |= {"archive": archived, "reparse": read / seconds}
        done |= {"loop by hand": bare_loop(by_hand()), "loop by css": bare_loop(by_css())}
    print(json.dumps(done))


def main() -> None:
    if len(sys.argv) > 1 and sys.argv[1] == "serve":
        serve(int(sys.argv[2]))
    elif len(sys.argv) > 1 and sys.argv[1] == "one":
        one(sys.argv[2], sys.argv[3], Path(sys.argv[4]))
    else:
        parser = argparse.ArgumentParser()
        parser.add_argument("--pages", type=int, default=2000)
        parser.add_argument("--rounds", type=int, default=5)
        parser.add_argument("--only", default="hand,css,engine,kept,naive,wadi")
        args = parser.parse_args()
        compare(args.pages, args.rounds, args.only.split(","))


def compare(pages: int, rounds: int, names: list[str]) -> None:
    server = subprocess.Popen([sys.executable, __file__, "serve", str(pages)], stdout=subprocess.PIPE, text=True)
    assert server.stdout is not None
    base = f"http://127.0.0.1:{server.stdout.readline().strip()}"
    found: dict[str, list[dict[str, float]]] = {name: [] for name in names}
    try:
        for _ in range(rounds):
            for name in names:
                with tempfile.TemporaryDirectory() as folder:
                    command = [sys.executable, __file__, "one", name, base, folder]
                    done = subprocess.run(command, capture_output=True, text=True, check=True)
                    found[name].append(json.loads(done.stdout.splitlines()[-1]))
    finally:
        server.terminate()
    print(f"{'':8} pages/s   CPU ms a page   peak MB   table")
    for name, taken in found.items():
        rate = median(one["pages"] / one["wall"] for one in taken)
        cpu = median(one["cpu"] / one["pages"] * 1e3 for one in taken)
        print(f"{name:8} {rate:7.0f}   {cpu:13.2f}   {median(one['rss'] for one in taken):7.0f}   {taken[0]['digest']}")
    if "wadi" in found:
        for name in names:
            if name != "wadi":
                # Round by round, since the machine is not equally fast from one minute to the next.
                ratios = [o["wall"] / w["wall"] for o, w in zip(found[name], found["wadi"], strict=True)]
                print(f"wadi reads {median(ratios):.2f} times the pages a second of {name}")
        again = median(one["reparse"] for one in found["wadi"])
        print(f"reparse    {again:.0f} pages/s; archive {found['wadi'][0]['archive'] / 1e6:.1f} MB")
        for loop in ("loop by hand", "loop by css"):
            ratio = median(taken["reparse"] / taken[loop] for taken in found["wadi"])
            print(f"reparse reads {ratio:.2f} times what one processor parses and selects in a {loop}")


if __name__ == "__main__":
    main()
