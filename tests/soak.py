"""An hour of storm over the sample site, with kills: whatever happens, the tables come right, and nothing is told or left open.

    python tests/soak.py [--minutes 60] [--seed N] [--json]

Crawl after crawl runs in a process of its own, which is killed, interrupted or halted at random moments and gone on with until it
is complete. Its table is compared with that of a calm crawl; what the site was asked for, with what was committed before. Beside
them one process crawls all the time, to see whether it keeps files open or grows. The status is 1 where a figure is not
what it must be.
"""

from __future__ import annotations

import argparse
import gzip
import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
import urllib.parse
from collections import Counter
from collections.abc import Awaitable, Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from aiohttp import web

from conftest import EXAMPLES, serving
from wadi.demo.shapes import MEMBER, PASSWORD
from wadi.demo.site import application
from wadi.demo.weather import middleware, trouble_for
from wadi.store.folder import DATABASE
from wadi.store.outcome import Purpose, State
from wadi.store.state import RunState

PAUSE_S = 0.03
PLANS = {
    "springs": ("code",), "gallery": ("code",), "members": ("code",), "archive": ("code",), "catalogue": ("code",),
    "gaugings": ("code",), "sitemap": ("code",), "fieldnotes": ("code",), "readings": ("code", "day"), "atlas": ("code", "parish"),
}  # fmt: skip
"""Plans of the examples, and what names a row of their tables."""
WEIGHTS = [1, *[2] * (len(PLANS) - 1)]
"""How often each is taken: the first has ten times as many pages as others."""
TOKEN = "k7-never-to-be-told"
SECRETS = (PASSWORD, TOKEN)
MANNERS = f"""\
pause = {PAUSE_S}
slowest = {PAUSE_S}
parallel = 4
retries = 5
first_wait = "20ms"
longest_wait = "2s"
rest = "100ms"
headers = {{ X-Office-Key = "{{key}}" }}"""
ENDINGS = ("kill", "kill", "kill", "terminate", "interrupt", "hang up", "halt")
SIGNALS = {
    "kill": signal.SIGKILL, "terminate": signal.SIGTERM, "interrupt": signal.SIGINT, "hang up": signal.SIGHUP,
}  # fmt: skip
MOST_KILLS, MOST_RESUMES = 4, 8
_MORE_MB, _MORE_MB_A_CRAWL = 15, 0.2
"""So much more memory a process may have after many crawls: what settles, and what is told from a leak."""
STRIDE = 40
"""A pause is violated where so many pauses took less than three quarters of their time. (One alone is measured in virtual time by
the tests: here a busy machine is late for a request now and then.)"""
Row = dict[str, Any]


@dataclass
class Asked:
    """A request as the site saw it: when it came (s), what for, what it met."""

    at: float
    what: str
    trouble: str | None = None


@dataclass
class Figures:
    """What is counted. Those of `wrong` must be nothing."""

    crawls: int = 0
    requests: int = 0
    rows: int = 0
    faults: Counter[str] = field(default_factory=Counter)
    kills: Counter[str] = field(default_factory=Counter)
    resumes: int = 0
    never_had: int = 0
    wrong: Counter[str] = field(default_factory=Counter)
    said: list[str] = field(default_factory=list)

    def count(self, what: str, found: list[str]) -> None:
        """Take in what is wrong, and say the first of it."""
        self.wrong[what] += len(found)
        if found:
            self.said.append(f"{what}: {len(found)}, {found[0]}")


class StormySite:
    """The sample site in a storm, with a log of what it was asked for."""

    def __init__(self, seed: int) -> None:
        self.seed = seed
        self.asked: list[Asked] = []

    def application(self) -> web.Application:
        @web.middleware
        async def watch(
            request: web.Request, handler: Callable[[web.Request], Awaitable[web.StreamResponse]]
        ) -> web.StreamResponse:
            one = Asked(time.monotonic(), f"{request.method} {request.path_qs} {await request.text()}".strip())
            self.asked.append(one)
            try:
                return await handler(request)
            finally:
                one.trouble = request.get("trouble")

        return application((watch, middleware(self.seed, "storm")))

    def is_never(self, row: Row) -> bool:
        """Whether the page of a row is never to be had, however often it is asked for."""
        return trouble_for(self.seed, "storm", f"/register/{row.get('code')}", 99) == "never"


class Crawl:
    """One plan, its program, and what must come of it."""

    def __init__(self, plan: str, folder: Path, seed: int) -> None:
        self.plan, self.folder, self.seed = plan, folder, seed
        folder.mkdir(parents=True)
        (folder / f"{plan}.toml").write_text(stormy_plan(plan), "utf-8")
        self.said: list[str] = []
        self.bad_ends: list[str] = []

    def start(self, *arguments: str) -> subprocess.Popen[str]:
        command = [str(Path(sys.executable).with_name("wadi")), *arguments, "-o", "table.jsonl"]
        environment = {
            "PATH": os.environ["PATH"], "HOME": str(self.folder), "LANG": "C.UTF-8", "MERROW_USER": MEMBER,
            "MERROW_WORD": PASSWORD, "OFFICE_KEY": TOKEN,
        }  # fmt: skip
        pipes: dict[str, Any] = {"stdin": subprocess.DEVNULL, "stdout": subprocess.PIPE, "stderr": subprocess.PIPE}
        return subprocess.Popen(command, cwd=self.folder, env=environment, text=True, **pipes)

    def end(self, process: subprocess.Popen[str]) -> int:
        """Wait for the program's end; what it said is kept."""
        out, err = process.communicate(timeout=300)
        self.said += [out, err]
        if "Traceback" in err or process.returncode == 70:
            self.bad_ends.append(f"{self.plan}: status {process.returncode}: {err[-300:]}")
        return process.returncode

    @property
    def run(self) -> Path | None:
        """The run's folder, once there is a database in it."""
        return next((path.parent for path in self.folder.glob(f"runs/*/*/{DATABASE}")), None)

    def table(self) -> list[Row]:
        """The rows that were written, without the address of the site."""
        path = self.folder / "table.jsonl"
        return [json.loads(line) for line in path.read_text("utf-8").splitlines()] if path.exists() else []


def stormy_plan(plan: str) -> str:
    """A plan of the examples with short waits, and a secret of its own in a header field; without comments, one of which tells
    the word of the members."""
    lines = (EXAMPLES / f"{plan}.toml").read_text("utf-8").splitlines()
    kept = [line for line in lines if line.split("=")[0].strip() not in ("pause", "parallel") and line[:1] != "#"]
    text = "\n".join(kept).replace("[manners]", f"[manners]\n{MANNERS}")
    return text.replace("[inputs]", '[inputs]\nkey = { secret_from = "OFFICE_KEY" }') + "\n"


def without_site(rows: list[Row], site: str) -> list[Row]:
    """The rows with another word for the address of the site."""
    return [json.loads(json.dumps(row).replace(site, "SITE")) for row in rows]


def committed(run: Path) -> tuple[set[str], set[str]]:
    """What was asked for and committed as good, as the site sees it; and what may be asked for once more all the same."""
    good, again = set(), set()
    with RunState.open(run / DATABASE) as state:
        for number in range(1, sum(state.counts().values()) + 1):
            page = state.page(number)
            if page is None:
                continue
            address = urllib.parse.urlsplit(page.request.url)
            path = address.path + (f"?{address.query}" if address.query else "")
            what = f"{page.request.method} {path} {page.request.body.decode()}".strip()
            if page.purpose is Purpose.RECHECK:
                again.add(what)
            elif page.state is State.DONE:
                good.add(what)
    return good, again


def leaks_of(crawl: Crawl) -> Iterator[str]:
    """Where a secret stands: in a file of the crawl, its archives unpacked, or in what the program said."""
    for path in crawl.folder.rglob("*"):
        if path.is_file():
            data = path.read_bytes()
            data = gzip.decompress(data) if path.suffix == ".gz" else data
            if any(secret.encode() in data for secret in SECRETS):
                yield f"{crawl.plan}: {path.name}"
    if any(secret in text for text in crawl.said for secret in SECRETS):
        yield f"{crawl.plan}: said by the program"


def too_fast(asked: list[Asked]) -> list[str]:
    """Requests that came too soon after those before them."""
    least = STRIDE * PAUSE_S * 0.75
    return [
        f"{one.what}: {STRIDE} pauses in {(one.at - before.at) * 1000:.0f} ms"
        for before, one in zip(asked, asked[STRIDE:], strict=False)
        if one.at - before.at < least
    ]


def compared(crawl: Crawl, rows: list[Row], truth: list[Row], site: StormySite, figures: Figures) -> None:
    """What differs between a table and the truth, but for pages that are never to be had."""
    key = PLANS[crawl.plan]
    found = Counter(tuple(str(row.get(name)) for name in key) for row in rows)
    wanted = Counter(tuple(str(row.get(name)) for name in key) for row in truth)
    never = {tuple(str(row.get(name)) for name in key) for row in truth if site.is_never(row)}
    figures.never_had += len(never)
    figures.rows += len(rows)
    lost = [f"{crawl.plan}: {name}" for name in (wanted - found).elements() if name not in never]
    figures.count("rows lost", lost)
    figures.count("rows doubled", [f"{crawl.plan}: {name}" for name in (found - wanted).elements()])
    if not lost:
        whole = [row for row in truth if not site.is_never(row)]
        came = [row for row in rows if not site.is_never(row)]
        wrong = [f"{crawl.plan}: {row} for {true}" for row, true in zip(came, whole, strict=False) if row != true]
        figures.count("rows wrong", wrong)


def stormed(crawl: Crawl, truth: list[Row], figures: Figures, chance: random.Random) -> None:
    """One crawl through a storm of its own, ended again and again, to its end."""
    site = StormySite(crawl.seed)
    with serving(site.application) as address:
        done: set[str] = set()
        again: set[str] = set()
        twice: list[str] = []
        arguments, kills = ("run", f"{crawl.plan}.toml", "-i", f"site={address}"), chance.randrange(MOST_KILLS + 1)
        for turn in range(MOST_KILLS + MOST_RESUMES):
            began = len(site.asked)
            process = crawl.start(*arguments)
            if turn < kills:
                disturb(process, chance, figures)
            status = crawl.end(process)
            twice += [
                f"{crawl.plan}: {one.what}" for one in site.asked[began:] if one.what in done and one.what not in again
            ]
            figures.count("pause violations", too_fast(site.asked[began:]))
            if crawl.run is not None:
                done, again = committed(crawl.run)
                arguments = ("resume", crawl.plan, "--again", "failed")
                figures.resumes += 1
            if status == 0 or (turn >= kills and is_all_that_comes(crawl, site)):
                break
        figures.count("pages asked for twice after commit", twice)
        figures.requests += len(site.asked)
        figures.faults.update(one.trouble for one in site.asked if one.trouble)
        compared(crawl, without_site(crawl.table(), address), truth, site, figures)
    figures.crawls += 1
    figures.count("secrets told", list(leaks_of(crawl)))
    figures.count("unclean ends", crawl.bad_ends)


def is_all_that_comes(crawl: Crawl, site: StormySite) -> bool:
    """Whether only pages have failed that are never to be had, and none is waiting."""
    if crawl.run is None:
        return False
    with RunState.open(crawl.run / DATABASE) as state:
        codes = [page.url.rpartition("/")[2] for page in state.failures()]
        return state.counts()[State.WAITING] == 0 and all(site.is_never({"code": code}) for code in codes)


def disturb(process: subprocess.Popen[str], chance: random.Random, figures: Figures) -> None:
    """End the process at a random moment, one way or another, or halt it for a while."""
    how = chance.choice(ENDINGS)
    try:
        process.wait(0.3 + min(20.0, chance.expovariate(1 / 3)))
        return
    except subprocess.TimeoutExpired:
        figures.kills[how] += 1
    if how == "halt":
        process.send_signal(signal.SIGSTOP)
        time.sleep(1 + 2 * chance.random())
        process.send_signal(signal.SIGCONT)
    else:
        process.send_signal(SIGNALS[how])


class Steady:
    """A process that crawls again and again, and says what it holds."""

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True)
        (folder / "gaugings.toml").write_text(stormy_plan("gaugings"), "utf-8")
        command = [sys.executable, __file__, "--steady", str(folder)]
        environment = {**os.environ, "OFFICE_KEY": TOKEN}
        self.process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, env=environment
        )
        self.held: list[dict[str, float]] = []

    def crawl(self, seed: int) -> None:
        """One crawl through a storm of its own."""
        with serving(StormySite(seed).application) as address:
            assert self.process.stdin is not None
            assert self.process.stdout is not None
            self.process.stdin.write(f"{address}\n")
            self.process.stdin.flush()
            self.held.append(json.loads(self.process.stdout.readline()))

    def close(self) -> None:
        self.process.communicate(timeout=60)


def crawl_steadily(folder: Path) -> None:
    """Crawl each address that comes, and print the open files and the memory (MB) of this process."""
    import wadi

    for line in sys.stdin:
        try:
            run = wadi.run(wadi.load_plan(folder / "gaugings.toml", {"site": line.strip()}), runs=folder / "runs")
        except wadi.RunStopped as error:
            run = error.run
        run.table("springs")
        run.close()
        pages = int(Path("/proc/self/statm").read_text("ascii").split()[1])
        held = {"files": len(list(Path("/proc/self/fd").iterdir())), "mb": pages * os.sysconf("SC_PAGE_SIZE") / 1e6}
        print(json.dumps(held), flush=True)


def calm_tables(folder: Path) -> dict[str, list[Row]]:
    """The tables of all plans from the calm site."""
    found = {}
    with serving(application) as address:
        for plan in PLANS:
            crawl = Crawl(plan, folder / plan, 0)
            status = crawl.end(crawl.start("run", f"{plan}.toml", "-i", f"site={address}"))
            assert status == 0, crawl.said[-1]
            found[plan] = without_site(crawl.table(), address)
    return found


def main() -> int:
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--minutes", type=float, default=60)
    parser.add_argument("--seed", type=int, default=int(time.time()))
    parser.add_argument("--json", action="store_true", help="the figures as JSON")
    parser.add_argument("--steady", type=Path, help=argparse.SUPPRESS)
    args = parser.parse_args()
    if args.steady is not None:
        crawl_steadily(args.steady)
        return 0
    ends, chance, figures = time.monotonic() + args.minutes * 60, random.Random(args.seed), Figures()
    with tempfile.TemporaryDirectory(prefix="soak-") as name:
        folder = Path(name)
        truth, steady = calm_tables(folder / "calm"), Steady(folder / "steady")
        while time.monotonic() < ends:
            plan, seed = chance.choices(list(PLANS), WEIGHTS)[0], chance.randrange(2**32)
            with tempfile.TemporaryDirectory(dir=folder) as own:
                stormed(Crawl(plan, Path(own) / plan, seed), truth[plan], figures, chance)
            steady.crawl(seed + 1)
        steady.close()
    warm, last = steady.held[min(2, len(steady.held) - 1)], steady.held[-1]
    figures.count(
        "files left open", [f"{warm['files']} at first, {last['files']} now"] * (last["files"] > warm["files"] + 4)
    )
    most_mb = warm["mb"] + _MORE_MB + _MORE_MB_A_CRAWL * len(steady.held)
    figures.count("memory grown", [f"{warm['mb']:.0f} MB at first, {last['mb']:.0f} now"] * (last["mb"] > most_mb))
    show(args, figures, warm, last)
    return 1 if any(figures.wrong.values()) else 0


def show(args: argparse.Namespace, figures: Figures, warm: dict[str, float], last: dict[str, float]) -> None:
    """Print what came of it."""
    lines: dict[str, Any] = {
        "minutes": args.minutes, "seed": args.seed, "crawls": figures.crawls, "requests": figures.requests,
        "faults": dict(figures.faults.most_common()), "kills": dict(figures.kills.most_common()), "resumes": figures.resumes,
        "rows": figures.rows, "rows of pages that are never had": figures.never_had, **figures.wrong,
        "files open, at first and at the end": [warm["files"], last["files"]],
        "memory in MB, at first and at the end": [round(warm["mb"]), round(last["mb"])],
    }  # fmt: skip
    if args.json:
        print(json.dumps(lines))
    for name, value in lines.items() if not args.json else ():
        shown = ", ".join(f"{kind} {count}" for kind, count in value.items()) if isinstance(value, dict) else value
        print(f"{name + ':':<40} {shown}")
    for line in figures.said[:20]:
        print(f"  {line}", file=sys.stderr)


if __name__ == "__main__":
    sys.exit(main())
