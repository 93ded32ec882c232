"""Runs on a cluster:  python benchmarks/cluster.py [--pages N] [--links N]

Stored pages read again on one worker and on two, each a process of this machine; the memory of a process that hands over links to
other shards; and a simulation of a large crawl (`--simulate`) with service times that were measured, in virtual time.
"""

from __future__ import annotations

import argparse
import heapq
import resource
import shutil
import sqlite3
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from conftest import serving
from small_host import HEAD, SmallHost
from wadi.actions import cluster
from wadi.actions.begin import begin
from wadi.actions.crawl import crawl
from wadi.actions.reparse import reparse
from wadi.plan.reader import load_plan
from wadi.store.outcome import State
from wadi.store.shards import create_shard, hand_over, shard_folder, shards_with_work

PLAN = (
    HEAD.replace('"http://h"', '"http://h"\nn = { first = 1, last = PAGES }')
    + """
[start]
page = "list"
addresses = "{+site}/page?n={n}"
[page.list]
rows = "tr"
table = "readings"
[page.list.fields]
name = "td:nth-child(1)"
level = { at = "td:nth-child(2)", type = "number", locale = "en", unit = "m" }
day = { at = "td:nth-child(3)", type = "date", format = "d MMMM y", locale = "en" }
link = { at = "a", attr = "href", type = "url" }
"""
)


def _page(request: object, body: str) -> str:
    rows = "".join(
        f"<tr><td>Weir {n}</td><td>{n}.25 m</td><td>{n % 28 + 1} May 2022</td><td><a href='/w/{n}'>sheet</a></td></tr>"
        for n in range(60)
    )
    return f"<title>{request}</title><table>{rows}</table>"


def _reparse(folder: Path, pages: int) -> None:
    plan = folder / "p.toml"
    plan.write_text(PLAN.replace("PAGES", str(pages)), "utf-8")
    with (
        serving(SmallHost({"/page": _page}).application) as site,
        begin(load_plan(plan, {"site": site}), folder) as old,
    ):
        began = time.perf_counter()
        crawl(old)
        print(f"crawled {pages:,} pages: {time.perf_counter() - began:.1f} s")
        took = {}
        for workers in (1, 2):
            with cluster.connected(None, workers) as client:
                began = time.perf_counter()
                new, done = reparse(old, load_plan(plan, {"site": site}), folder, ahead=cluster.reads_ahead(client))
                took[workers] = time.perf_counter() - began
            new.close()
            shutil.rmtree(new.folder)
            print(f"read again on {workers} worker(s): {done.read:,} pages in {took[workers]:.1f} s")
        print(f"two against one: {took[2] / took[1]:.2f} of the time")


def _links(folder: Path, count: int) -> None:
    """The memory of a process while a shard hands over so many links, and of whoever is told of them."""
    plan = folder / "p.toml"
    plan.write_text(PLAN.replace("PAGES", "1"), "utf-8")
    with begin(load_plan(plan, {"site": "http://127.0.0.1:9"}), folder) as run:
        (shard,) = shards_with_work(run.folder, 16)
        create_shard(run.folder, shard, 16)
        db = sqlite3.connect(shard_folder(run.folder, shard) / "run.sqlite")
        db.executemany(
            "INSERT INTO pages (kind, identity, host, method, url, route, state) VALUES ('list', ?, ?, 'GET', ?, x'00', ?)",
            (
                (f"GET http://h{n % 999}/{n}", f"h{n % 999}:80", f"http://h{n % 999}/{n}", State.ELSEWHERE)
                for n in range(count)
            ),
        )
        db.commit()
        db.close()
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        began = time.perf_counter()
        handed = hand_over(run.folder, shard, 16)
        after = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(
            f"handed over {sum(handed.values()):,} links in {time.perf_counter() - began:.1f} s, told in {len(handed)} numbers"
        )
        print(f"memory of the process: {before:.0f} MB before, {after:.0f} MB at most")


def simulate(
    hosts: int, pages: int, pause_s: float, workers: int, page_s: float, turn_s: float, per_turn_s: float
) -> float:
    """Hours that a crawl takes: `pages` over `hosts` in shards, each host at its pause, a page taking a worker `page_s` of its
    processor, a turn `per_turn_s` beside; in virtual time, turn by turn."""
    shards = workers
    hosts_of = hosts / shards
    left = [pages / shards] * shards
    free = [0.0] * workers
    heapq.heapify(free)
    waiting = list(range(shards))
    heapq.heapify(waiting)
    ready = [(0.0, shard) for shard in waiting]
    heapq.heapify(ready)
    now = 0.0
    while ready:
        at, shard = heapq.heappop(ready)
        start = max(at, heapq.heappop(free))
        rate = min(hosts_of / pause_s, 1 / page_s)
        done = min(left[shard], rate * turn_s)
        now = start + per_turn_s + done / rate
        left[shard] -= done
        heapq.heappush(free, now)
        if left[shard] > 0.5:
            heapq.heappush(ready, (now, shard))
    return now / 3600


def _simulate() -> None:
    print(
        "10,000 hosts, 100,000,000 pages, 1 s pause, 4 ms of a processor for a page, 0.5 s for a turn beside its pages:"
    )
    for workers in (1, 10, 50, 100, 400):
        hours = simulate(10_000, 100_000_000, 1.0, workers, 0.004, 30.0, 0.5)
        print(f"{workers:>5} workers: {hours:8.1f} h")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--pages", type=int, default=20_000)
    parser.add_argument("--links", type=int, default=1_000_000)
    parser.add_argument("--simulate", action="store_true", help="the simulation alone")
    args = parser.parse_args()
    if not args.simulate:
        with tempfile.TemporaryDirectory() as folder:
            _reparse(Path(folder), args.pages)
        with tempfile.TemporaryDirectory() as folder:
            _links(Path(folder), args.links)
    _simulate()


if __name__ == "__main__":
    main()
