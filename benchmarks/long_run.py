"""Peak memory of long runs:  python benchmarks/long_run.py [PAGES …]      (default 2000 20000)

A local site is generated: so many listing pages of ten rows, every row with a link to a detail page; details are shared,
one by a hundred rows. For each size the installed program crawls it all, without pauses, and writes the table; printed
are pages, links, seconds, and the largest resident size of the crawling process.
"""

from __future__ import annotations

import asyncio
import multiprocessing
import os
import sys
import tempfile
import time
from datetime import datetime
from itertools import pairwise
from pathlib import Path

ROWS = 10
SHARED_BY = 100
PLAN = """wadi = 1
[inputs]
site = "http://h"
[start]
page = "list"
addresses = ["{+site}/l/1"]
[manners]
pause = "0s"
parallel = 8
[page.list]
expect = "ul"
rows = "li"
table = "springs"
next = { at = "a.next", most = 1_000_000 }
open = { spring = "a.spring" }
[page.list.fields]
code = { at = ".", attr = "data-code" }
name = "b"
[page.spring]
completes = "springs"
[page.spring.fields]
altitude = { at = "i", type = "integer" }
[table.springs]
key = "code"
"""


def serve(pages: int, ready: multiprocessing.connection.Connection) -> None:
    """The generated site, until the process is ended; sends its port."""
    from aiohttp import web

    async def listing(request: web.Request) -> web.Response:
        number = int(request.match_info["number"])
        first = (number - 1) * ROWS
        rows = "".join(
            f'<li data-code="C{n}"><b>Spring {n}</b> <a class=spring href="/s/{n % (pages * ROWS // SHARED_BY)}">more</a>'
            for n in range(first, first + ROWS)
        )
        following = f'<a class=next href="/l/{number + 1}">next</a>' if number < pages else ""
        return web.Response(text=f"<ul>{rows}</ul>{following}", content_type="text/html")

    async def spring(request: web.Request) -> web.Response:
        return web.Response(text=f"<p>Altitude <i>{request.match_info['number']}</i>", content_type="text/html")

    async def main() -> None:
        app = web.Application()
        app.router.add_get("/l/{number}", listing)
        app.router.add_get("/s/{number}", spring)
        runner = web.AppRunner(app, access_log=None)
        await runner.setup()
        await web.TCPSite(runner, "127.0.0.1", 0).start()
        ready.send(runner.addresses[0][1])
        await asyncio.Event().wait()

    asyncio.run(main())


def paces(log: Path) -> str:
    """Pages a second in stretches of a tenth of the run, by its journal."""
    marks = [line[7:36].decode() for line in log.open("rb") if b'"page_done"' in line]
    ends = [datetime.fromisoformat(marks[at]) for at in range(0, len(marks), max(1, len(marks) // 10))]
    step = len(marks) // 10
    rates = [step / max(0.001, (later - sooner).total_seconds()) for sooner, later in pairwise(ends)]
    return "pages/s by tenths: " + " ".join(f"{rate:.0f}" for rate in rates)


def measure(pages: int) -> float:
    """Crawl a site of so many listing pages; prints a line and gives the peak in MB."""
    here, there = multiprocessing.Pipe()
    server = multiprocessing.Process(target=serve, args=(pages, there), daemon=True)
    server.start()
    port = here.recv()
    with tempfile.TemporaryDirectory() as folder:
        plan = Path(folder) / "long.toml"
        plan.write_text(PLAN)
        began = time.perf_counter()
        command = [
            str(Path(sys.executable).with_name("wadi")),
            "run",
            str(plan),
            "-q",
            "-i",
            f"site=http://127.0.0.1:{port}",
        ]
        command += ["--runs", folder, "-o", f"{folder}/out.csv"]
        child = os.spawnv(os.P_NOWAIT, command[0], command)
        _, status, usage = os.wait4(child, 0)
        seconds = time.perf_counter() - began
        told = paces(next(Path(folder).glob("long/*/run.log")))
        lines = Path(f"{folder}/out.csv").read_bytes().count(b"\n") - 1
    server.terminate()
    peak = usage.ru_maxrss / 1024
    print(
        f"{pages:>7,} listing pages {pages * ROWS:>9,} links {pages * ROWS // SHARED_BY:>7,} details  status {status}"
        f"  {lines:>9,} rows  {seconds:7.1f} s  peak {peak:6.1f} MB  {told}",
        flush=True,
    )
    return peak


def main() -> None:
    """Measure each size, and say by how much the peaks differ."""
    sizes = [int(text) for text in sys.argv[1:]] or [2000, 20000]
    peaks = [measure(size) for size in sizes]
    print(f"last peak / first peak: {peaks[-1] / peaks[0]:.2f}")


if __name__ == "__main__":
    main()
