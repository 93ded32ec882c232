"""A simulation of the pace to a host, in virtual time, with the throttle, the client and the law that a crawl has.

python benchmarks/pace.py [--chart docs/screenshots/pace.png]
"""

from __future__ import annotations

import argparse
import asyncio
import random
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from wadi.web.client import Client
from wadi.web.hosts import Pace
from wadi.web.manners import Throttle
from wadi.web.messages import Reply, Request
from wadi.web.retry import Retrying

PAGES = 1000
Answers = Callable[[float], bool]
"""Whether a request at this time (seconds) is answered."""


@dataclass(frozen=True)
class Simulated:
    """What came of it: seconds, requests sent and refused, and the pause that was kept when each was sent."""

    seconds: float
    sent: int
    refused: int
    pauses: list[tuple[float, float]]


def simulated(answers: Answers, *, pages: int = PAGES, pause_s: float = 1.0) -> Simulated:
    """So many pages of one host, one after the other, at a pause of a second."""
    now, refused = 0.0, 0
    pauses: list[tuple[float, float]] = []

    async def sleep(seconds: float) -> None:
        nonlocal now
        now += seconds

    class Host:
        async def send(self, request: Request, sent: Callable[[], None] = lambda: None) -> Reply:
            nonlocal refused
            sent()
            pauses.append((now, throttle.pause_s(request.host)))
            status = 200 if answers(now) else 503
            refused += status == 503
            return Reply(request, request.url, status, (), b"", now)

        async def close(self) -> None:
            pass

    throttle = Throttle(Pace(pause_s, 2), clock=lambda: now, sleep=sleep)
    rng = random.Random(3)
    client = Client(Host(), throttle, Retrying(20, 1.0, 60.0), sleep=sleep, now=lambda: now, rng=rng.random)

    async def crawl() -> None:
        for _ in range(pages):
            await client.fetch(Request("http://h/"))

    asyncio.run(crawl())
    return Simulated(now, client.sent, refused, pauses)


def by_chance(share: float, seed: int) -> Answers:
    """So many requests fail, whatever the pace."""
    rng = random.Random(seed)
    return lambda now: rng.random() >= share


def one_in(seconds: float) -> Answers:
    """A host that answers one request in so many seconds, and refuses those that come too early."""
    last = -seconds

    def answers(now: float) -> bool:
        nonlocal last
        early, last = now - last < seconds - 1e-6, now
        return not early

    return answers


def window(most: int, seconds: float) -> Answers:
    """A host that answers so many requests in each window of so many seconds."""
    current, count = -1, 0

    def answers(now: float) -> bool:
        nonlocal current, count
        if int(now // seconds) != current:
            current, count = int(now // seconds), 0
        count += 1
        return count <= most

    return answers


def overloaded(begin: float, end: float) -> Answers:
    """A host that refuses everything for a while."""
    return lambda now: not begin <= now < end


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--chart", type=Path, help="draw the pauses over time into this file")
    args = parser.parse_args()
    print("| failures by chance | time, times that without them (median, worst of 9) |\n| --- | --- |")
    for share in (0.01, 0.03, 0.05, 0.1):
        took = sorted(simulated(by_chance(share, seed)).seconds / PAGES for seed in range(9))
        print(f"| {share:.0%} | {took[4]:.2f}, {took[-1]:.2f} |")
    print("\n| quota | time, times the least possible | refused |\n| --- | --- | --- |")
    quotas: list[tuple[str, Answers, float]] = [
        ("one in 3 s", one_in(3), 3.0),
        ("one in 10 s", one_in(10), 10.0),
        ("30 a minute", window(30, 60), 2.0),
        ("100 in ten minutes", window(100, 600), 6.0),
    ]
    for name, answers, least_s in quotas:
        found = simulated(answers)
        print(f"| {name} | {found.seconds / (PAGES * least_s):.2f} | {found.refused / found.sent:.1%} |")
    if args.chart:
        draw(args.chart)


def draw(path: Path) -> None:
    """The pause over time, of three hosts."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot as plt

    hosts: list[tuple[str, Answers]] = [
        ("5 % of the requests fail by chance", by_chance(0.05, 1)),
        ("one request in 3 s is answered", one_in(3)),
        ("nothing is answered from 300 s to 420 s", overloaded(300, 420)),
    ]
    figure, axes = plt.subplots(len(hosts), 1, figsize=(12.8, 8), sharex=True, layout="constrained")
    for axis, (name, answers) in zip(axes, hosts, strict=True):
        times, pauses = zip(*simulated(answers, pages=700).pauses, strict=True)
        axis.step(times, pauses, where="post", color="#1f5f7a", linewidth=1.2)
        axis.set_yscale("log", base=2)
        axis.set_yticks([1, 2, 4, 8, 16, 32], ["1 s", "2 s", "4 s", "8 s", "16 s", "32 s"])
        axis.set_ylim(0.8, 70)
        axis.set_xlim(0, 900)
        axis.set_title(name, loc="left", fontsize=13)
        axis.grid(alpha=0.25)
    axes[1].set_ylabel("pause between two requests (the plan's: 1 s)", fontsize=12)
    axes[-1].set_xlabel("seconds since the crawl began", fontsize=12)
    figure.savefig(path, dpi=100)


if __name__ == "__main__":
    main()
