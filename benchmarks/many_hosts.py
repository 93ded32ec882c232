"""Many hosts at once, each with a pause of its own: the time that a crawl takes against the least that the pauses allow.

python benchmarks/many_hosts.py [--hosts 2000] [--pages 30] [--pause 1.0]

Every host is a loopback address (127.x.y.z) on one port, with a listing of so many pages. The least time is that of one
host: its pages less one, times the pause; beside it stands what the pages would take without any pause, which is the least
where one processor is the limit.
"""

from __future__ import annotations

import argparse
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import host

from wadi.actions.begin import begin
from wadi.actions.crawl import crawl
from wadi.plan.reader import load_plan

PLAN = """wadi = 1
[start]
page = "list"
addresses = [{starts}]
[manners]
pause = {pause}
parallel = 1
total = {total}
ignore_robots = "a benchmark on loopback"
[page.list]
rows = "li"
table = "t"
next = "a"
[page.list.fields]
name = {{ at = "b" }}
"""


def serve(pages: int) -> None:
    """Listings for every host that is asked, on all loopback addresses."""

    def listing(path: bytes) -> bytes:
        number = int(path.strip(b"/") or b"1")
        following = f"<a href='/{number + 1}'>next</a>" if number < pages else ""
        return host.answer(f"<html><ul><li><b>Spring {number}</b></li></ul>{following}</html>".encode())

    host.serve(listing, "0.0.0.0")


def crawled(port: int, hosts: int, pause: float) -> tuple[float, int]:
    """Seconds and pages of one crawl."""
    starts = ", ".join(f'"http://127.1.{n // 250}.{n % 250 + 1}:{port}/1"' for n in range(hosts))
    with tempfile.TemporaryDirectory() as folder:
        plan = Path(folder) / "hosts.toml"
        plan.write_text(PLAN.format(starts=starts, pause=f'"{round(pause * 1000)}ms"', total=min(256, hosts)))
        with begin(load_plan(plan), Path(folder) / "runs") as run:
            began = time.perf_counter()
            crawl(run)
            return time.perf_counter() - began, sum(run.pages().values())


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--hosts", type=int, default=2000)
    parser.add_argument("--pages", type=int, default=30)
    parser.add_argument("--pause", type=float, default=1.0)
    parser.add_argument("--serve", type=int)
    args = parser.parse_args()
    if args.serve:
        serve(args.serve)
        return
    server = subprocess.Popen([sys.executable, __file__, "--serve", str(args.pages)], stdout=subprocess.PIPE, text=True)
    assert server.stdout is not None
    port = int(server.stdout.readline())
    try:
        seconds, pages = crawled(port, args.hosts, args.pause)
        least = (args.pages - 1) * args.pause
        print(
            f"{args.hosts} hosts, {pages} pages: {seconds:.1f} s; the pauses take {least:.1f} s: {seconds / least:.2f} times"
        )
        print(f"{pages / seconds:.0f} pages/s where the pauses allow {args.hosts / args.pause:.0f}")
    finally:
        server.terminate()


if __name__ == "__main__":
    main()
