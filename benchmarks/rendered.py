"""Rendered pages a second, memory and start:  python benchmarks/rendered.py [--pages N] [--windows N]

Pages of the sample site's drawn table, on loopback, one browser; its memory is the share of its processes (PSS) at the begin
and at the end.
"""

from __future__ import annotations

import argparse
import asyncio
import os
import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from conftest import FENCE, serving
from wadi.demo.site import application
from wadi.web.browser import Browser
from wadi.web.messages import Request
from wadi.web.rendering import Rendering

_REST_S = 2.0


def _memory_mb() -> float:
    """The proportional share of memory of all processes of this process's browser."""
    total = 0
    for path in Path("/proc").glob("[0-9]*"):
        try:
            if f"wadi-browser-{os.getpid()}-".encode() not in (path / "cmdline").read_bytes():
                continue
            lines = (path / "smaps_rollup").read_text().splitlines()
            total += next(int(line.split()[1]) for line in lines if line.startswith("Pss:"))
        except (OSError, StopIteration):
            continue
    return total / 1024


async def _at_rest() -> float:
    """The memory once nothing is shown for a while."""
    await asyncio.sleep(_REST_S)
    return _memory_mb()


async def _measure(site: str, pages: int, windows: int) -> None:
    browser = Browser(agent="Wadi", parallel=windows)
    rendering = Rendering(wait=("tbody tr",), least=20)
    try:
        began = time.perf_counter()
        await browser.render(Request(f"{site}/gauges"), rendering)
        print(f"the first page, with the browser's start: {time.perf_counter() - began:.2f} s")
        first, began = 0.0, time.perf_counter()
        for done in range(0, pages, 20):
            await asyncio.gather(
                *(browser.render(Request(f"{site}/gauges?{done + n}"), rendering) for n in range(min(20, pages - done)))
            )
            if done == 20:
                first = await _at_rest()
        took = time.perf_counter() - began - _REST_S
        print(f"{pages} pages in {windows} windows: {pages / took:.1f} pages a second")
        print(f"memory: {first:.0f} MB after 40 pages, {await _at_rest():.0f} MB at the end")
    finally:
        await browser.close()


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--pages", type=int, default=200)
    parser.add_argument("--windows", type=int, default=2)
    args = parser.parse_args()
    os.environ["WADI_BROWSER_ARGUMENTS"] = FENCE
    with serving(application) as site:
        asyncio.run(_measure(site, args.pages, args.windows))


if __name__ == "__main__":
    main()
