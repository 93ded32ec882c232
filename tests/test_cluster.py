"""A run on many workers: the same table as from one process, whatever becomes of workers, with each host asked by one at a time."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import threading
import time
from collections import defaultdict
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest
from aiohttp import web
from hypothesis import given
from hypothesis import strategies as st

from conftest import EXAMPLES, Program, serving, serving_at
from small_host import HEAD, SmallHost
from truth import branches_rows
from wadi.actions import cluster, reparse
from wadi.actions.begin import begin, go_on
from wadi.actions.crawl import crawl
from wadi.actions.run import Run
from wadi.actions.shards import Board, Order, Turn, take_turn
from wadi.demo.site import application
from wadi.plan.reader import load_plan, with_limits
from wadi.problems import RunError, UsageError
from wadi.store.outcome import End
from wadi.store.shards import SHARDS, hand_over, put_together, shard_folder, shards_with_work, take_in, turn_lock

PLAN = EXAMPLES / "branches.toml"
PAUSE_S = 0.1


class Visits:
    """When each host was asked."""

    def __init__(self) -> None:
        self.at: dict[str, list[float]] = defaultdict(list)

    @web.middleware
    async def note(self, request: web.Request, handler: Any) -> Any:
        self.at[request.host].append(time.perf_counter())
        return await handler(request)

    def too_soon(self, pause_s: float) -> int:
        """How many requests came sooner than the pause after the one before, by more than the machine's own unevenness."""
        gaps = (later - earlier for times in self.at.values() for earlier, later in pairwise(times))
        return sum(gap < pause_s * 0.5 for gap in gaps)


def _plan(folder: Path, pause: str = "100ms") -> Path:
    """The example's plan with another pause: one that is long against the unevenness of a busy machine."""
    plan = folder / "branches.toml"
    plan.write_text(PLAN.read_text("utf-8").replace('pause = "20ms"', f'pause = "{pause}"'), "utf-8")
    return plan


@contextmanager
def branches(hosts: int) -> Iterator[tuple[str, Visits]]:
    visits = Visits()
    with serving_at(lambda: application((visits.note,), hosts=hosts), hosts) as site:
        yield site, visits


def _truth(hosts: int) -> list[list[Any]]:
    return [list(row.values()) for row in branches_rows("", hosts)]


def test_two_hundred_hosts_on_four_workers_give_the_bytes_of_one_process(program: Program) -> None:
    with branches(200) as (site, visits):
        plan = _plan(program.folder)
        one = program("run", plan, "-i", f"site={site}", "-o", "one.csv", "--json")
        assert one.status == 0, one.err
        visits.at.clear()
        many = program("run", plan, "-i", f"site={site}", "-o", "many.csv", "--workers", "4", "-q")
        assert many.status == 0, many.err
        assert visits.too_soon(PAUSE_S) == 0
        assert sum(map(len, visits.at.values())) == 1 + 200 + 354 + sum(n % 3 == 0 for n in range(1, 355)) + 200
    assert (program.folder / "one.csv").read_bytes() == (program.folder / "many.csv").read_bytes()
    with Run.open("branches~newest", program.folder / "runs") as run:
        assert (run.end, run.read().rows) == (End.COMPLETE, _truth(200))
        assert not (run.folder / SHARDS).exists()
        log = [json.loads(line) for line in (run.folder / "run.log").read_text("utf-8").splitlines()]
        assert sum(line["event"] == "page_done" for line in log) == 1 + 200 + 354
        assert [line["at"] for line in log] == sorted(line["at"] for line in log)
    assert program("verify", "branches").status == 0
    assert "MW-0002" in program("trace", "branches", "springs", "MW-0002", "altitude").out
    assert program("reparse", "branches", plan, "-q", "-o", "again.csv").status == 0
    assert (program.folder / "again.csv").read_bytes() == (program.folder / "one.csv").read_bytes()


def test_workers_that_are_killed_cost_nothing(tmp_path: Path) -> None:
    with branches(40) as (site, visits), cluster.connected(None, 3) as client:
        run = begin(load_plan(_plan(tmp_path), {"site": site}), tmp_path)
        over = threading.Event()

        def kill() -> None:
            for _ in range(8):
                pids = sorted(nanny.pid for nanny in client.cluster.workers.values() if nanny.pid)
                if len(pids) > 1:  # the cluster's own nannies begin others in their place
                    with suppress(OSError):
                        os.kill(pids[0], signal.SIGKILL)
                if over.wait(1.5):
                    return

        killer = threading.Thread(target=kill)
        killer.start()
        try:
            end = cluster.crawl_on_cluster(run, client=client, turn_s=1.0)
        finally:
            over.set()
            killer.join()
        with run:
            assert (end, run.read().rows) == (End.COMPLETE, _truth(40))
        assert visits.too_soon(PAUSE_S) == 0


def test_a_cluster_without_workers_ends_the_run_and_what_came_is_kept(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(cluster, "_WITHOUT_WORKERS_S", 1.0)
    monkeypatch.setattr(cluster, "_WORKERS_LOOKED_EVERY_S", 0.2)
    told: list[str] = []
    with branches(9) as (site, _), cluster.connected(None, 1) as client:
        run = begin(load_plan(_plan(tmp_path), {"site": site}), tmp_path)
        gone = threading.Timer(3.0, lambda: client.cluster.scale(0))
        gone.start()
        end = cluster.crawl_on_cluster(run, client=client, turn_s=1.0, told=told.append)
        gone.join()
        monkeypatch.setattr(cluster, "_CONNECTED_WITHIN_S", 0.5)
        with run, pytest.raises(UsageError, match="no worker of the cluster answers"):
            cluster.check_workers(client, run)
        with Run.open(run.folder) as run:
            assert end is End.SHARDS_FAILED
            assert all("no worker of the cluster is left" in line for line in told)
            assert told
        with go_on(run.folder, tmp_path) as gone_on:
            assert crawl(gone_on) is End.COMPLETE
            assert gone_on.read().rows == _truth(9)


def test_a_run_whose_client_was_killed_is_gone_on_with_by_one_process(program: Program) -> None:
    with branches(12) as (site, _):
        _plan(program.folder)
        command = [*program.command, "run", "branches.toml", "-i", f"site={site}", "--workers", "2"]
        killed = subprocess.Popen(
            command, cwd=program.folder, env=program.environment, start_new_session=True, stderr=subprocess.DEVNULL
        )
        shards = program.folder / "runs" / "branches"
        end = time.monotonic() + 60
        while not any(shards.glob(f"*/{SHARDS}/*/progress")) and time.monotonic() < end:
            time.sleep(0.1)
        os.killpg(killed.pid, signal.SIGKILL)
        killed.wait()
        assert any(shards.glob(f"*/{SHARDS}/*"))
        done = program("resume", "branches", "-o", "many.csv")
        assert done.status == 0, done.err
    with Run.open("branches~newest", program.folder / "runs") as run:
        assert run.read().rows == _truth(12)


@pytest.fixture(scope="module")
def client() -> Iterator[Any]:
    """Two workers for the tests of this module that kill none."""
    with cluster.connected(None, 2) as connected:
        yield connected


def test_limits_hold_over_all_shards(tmp_path: Path, client: Any) -> None:
    with branches(20) as (site, visits):
        loaded = load_plan(PLAN, {"site": site})
        with begin(with_limits(loaded, rows=30), tmp_path) as run:
            assert cluster.crawl_on_cluster(run, client=client) is End.ENOUGH_ROWS
            assert run.read().rows == _truth(20)[:30]
        visits.at.clear()
        with begin(with_limits(loaded, pages=15), tmp_path) as run:
            assert cluster.crawl_on_cluster(run, client=client) is End.ENOUGH_PAGES
        assert sum(map(len, visits.at.values())) < 60


def test_stored_pages_are_read_again_on_a_cluster(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, client: Any) -> None:
    monkeypatch.setattr(cluster, "_WORTH_SLICES", 10)
    with branches(5) as (site, _):
        loaded = load_plan(PLAN, {"site": site})
        with begin(loaded, tmp_path) as old:
            assert cluster.crawl_on_cluster(old, client=client) is End.COMPLETE
            new, done = reparse.reparse(old, loaded, tmp_path, ahead=cluster.reads_ahead(client))
    with new:
        assert (done.read, done.not_fetched) == (1 + 5 + 354, 0)
        assert (new.end, new.read().rows) == (End.COMPLETE, _truth(5))


def test_without_a_scheduler_it_is_said(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(cluster, "_CONNECTED_WITHIN_S", 0.5)
    said = pytest.raises(UsageError, match=r"there is no Dask scheduler at tcp://127\.0\.0\.1:9")
    with said, cluster.connected("tcp://127.0.0.1:9", None):
        pass


@pytest.mark.parametrize(
    ("plan", "options", "what"),
    [
        ('[login]\naddress = "{+site}/in"\nuser_from = "U"\npassword_from = "P"\n', ["--workers", "1"], "a session is of one process"),
        (None, ["--workers", "0"], "--workers"),
        (None, ["--workers", "2", "--cluster", "tcp://127.0.0.1:9"], "not allowed with"),
    ],
)  # fmt: skip
def test_what_cannot_be_on_a_cluster_is_said(
    program: Program, plan: str | None, options: list[str], what: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    (program.folder / "p.toml").write_text(PLAN.read_text("utf-8") + (plan or ""), "utf-8")
    program.environment |= {"U": "u", "P": "p", "DASK_DISTRIBUTED__COMM__TIMEOUTS__CONNECT": "1s"}
    done = program("run", "p.toml", "-i", "site=http://127.0.0.1:9", *options)
    assert (done.status, what in done.err) == (2, True), done.err


def test_workers_of_other_versions_and_without_the_folder_are_refused(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    class Elsewhere:
        dashboard_link = ""

        def nthreads(self) -> dict[str, int]:
            return {"tcp://w": 1}

        def run(self, function: Any, token: str, *, on_error: str) -> dict[str, Any]:
            return {"tcp://w": self.said}

        said: Any = None

    client = Elsewhere()
    run = begin(load_plan(PLAN, {"site": "http://127.0.0.1:9"}), tmp_path)
    with run:
        for said, what in (
            (({**cluster.versions(), "turbohtml": "0.1"}, True), "turbohtml 0.1"),
            ((cluster.versions(), False), "1 of 1 workers do not see"),
        ):
            client.said = said
            with pytest.raises(UsageError, match=what):
                cluster.check_workers(client, run)  # type: ignore[arg-type]


def _turns(run: Run, count: int) -> None:
    """Every shard's turns, one after the other, until no shard has anything left."""
    board = Board(shards_with_work(run.folder, count))
    while (shard := board.next()) is not None:
        board.came(take_turn(Order(str(run.folder), shard, count)))
        if len(board.turns) % 3 == 0:  # a task that is repeated
            take_turn(Order(str(run.folder), shard, count))
    assert not board.left_out


def test_turns_that_are_repeated_and_handed_over_twice_change_nothing(tmp_path: Path) -> None:
    with branches(9) as (site, _):
        run = begin(load_plan(PLAN, {"site": site}), tmp_path)
        run.state.set_meta("sitting", 1)
        _turns(run, 4)
        for shard in range(4):
            handed = [*(shard_folder(run.folder, other) / "inbox" for other in range(4))]
            assert all(not any(inbox.glob("*.jsonl")) for inbox in handed)
            assert hand_over(run.folder, shard, 4) == {}
            assert take_in(run.folder, shard) == 0
        put_together(run.folder)
        put_together(run.folder)
        with run:
            assert run.read().rows == _truth(9)
            assert sum(run.state.counts().values()) == 1 + 9 + 354


def test_a_shard_that_somebody_works_on_is_left_to_him(tmp_path: Path) -> None:
    with branches(2) as (site, _):
        run = begin(load_plan(PLAN, {"site": site}), tmp_path)
        (shard,) = shards_with_work(run.folder, 4)
        assert take_turn(Order(str(run.folder), shard, 4, pages=1)).pages == 1
        with run, turn_lock(run.folder, shard):
            assert take_turn(Order(str(run.folder), shard, 4)).is_busy
            with pytest.raises(RunError, match="another process works on this run"):
                put_together(run.folder)


def test_an_interrupt_ends_a_run_with_what_came_in_it(program: Program) -> None:
    """As a terminal gives it: to all processes of the group."""
    with branches(9) as (site, _):
        _plan(program.folder)
        command = [*program.command, "run", "branches.toml", "-i", f"site={site}", "--workers", "2", "-o", "b.csv"]
        started = subprocess.Popen(
            command,
            cwd=program.folder,
            env=program.environment,
            start_new_session=True,
            stderr=subprocess.PIPE,
            text=True,
        )
        end = time.monotonic() + 60
        while not any(program.folder.glob(f"runs/*/*/{SHARDS}/*/progress")) and time.monotonic() < end:
            time.sleep(0.1)
        time.sleep(1.0)
        os.killpg(started.pid, signal.SIGINT)
        _, said = started.communicate(timeout=40)
        assert (started.returncode, "Traceback" in said, "(interrupted)" in said) == (130, False, True), said
        assert not any(program.folder.glob(f"runs/*/*/{SHARDS}"))
        done = program("resume", "branches", "-o", "b.csv")
        assert done.status == 0, done.err
    with Run.open("branches~newest", program.folder / "runs") as run:
        assert run.read().rows == _truth(9)


def test_a_long_pause_of_a_site_holds_from_turn_to_turn(tmp_path: Path) -> None:
    """Turns that are shorter than what robots.txt asks to wait: the shard is not left out, and the host not asked sooner."""
    visits = Visits()
    pages = {
        "/robots.txt": "User-agent: *\nCrawl-delay: 1",
        "/": "<a href=/1>1</a><a href=/2>2</a>",
        "/1": "<b>1</b>",
        "/2": "<b>2</b>",
    }

    def host() -> web.Application:
        app = SmallHost(pages).application()
        app.middlewares.append(visits.note)
        return app

    plan = tmp_path / "p.toml"
    kinds = '[start]\npage = "list"\naddresses = "{+site}/"\n[page.list]\nopen = { one = "a" }\n[page.one]\ntable = "t"\nfields = { n = "b" }\n'
    plan.write_text(HEAD + kinds, "utf-8")
    with serving(host) as site, begin(load_plan(plan, {"site": site}), tmp_path) as run:
        (shard,) = shards_with_work(run.folder, 1)
        board, turns = Board([shard]), 0
        while (number := board.next()) is not None and turns < 60:
            board.came(take_turn(Order(str(run.folder), number, 1, seconds=0.3)))
            turns += 1
        put_together(run.folder)
        assert not board.left_out
        assert [row[0] for row in run.read().rows] == ["1", "2"]
    gaps = [later - earlier for times in visits.at.values() for earlier, later in pairwise(times)]
    assert len(gaps) == 3  # robots.txt once, three pages
    assert min(gaps[1:]) > 0.9  # the file is what says so


@given(st.data())
def test_every_shard_has_its_turns_until_nothing_is_left(data: Any) -> None:
    """Whatever is handed over, lost or busy: nobody with pages is forgotten, nobody has two turns at once."""
    waiting = data.draw(st.dictionaries(st.integers(0, 7), st.integers(1, 3), min_size=1))
    given_pages = dict(waiting)
    board = Board(sorted(waiting))
    held: list[int] = []
    for _ in range(400):
        if board.is_over:
            break
        if (shard := board.next()) is not None:
            assert shard not in held
            held.append(shard)
        if held and (len(held) >= 3 or shard is None or data.draw(st.booleans())):
            done = held.pop(data.draw(st.integers(0, len(held) - 1)))
            if data.draw(st.integers(0, 9)) == 0 and board.failures[done] < 2:
                board.failed(done, "gone")
                continue
            left = max(0, given_pages.get(done, 0) - 1)
            given_pages[done] = left
            others = [n for n in range(8) if n != done]
            handed = (
                data.draw(st.lists(st.sampled_from(others), max_size=1)) if data.draw(st.integers(0, 3)) == 0 else []
            )
            for other in handed:
                given_pages[other] = given_pages.get(other, 0) + 1
            board.came(Turn(done, pages=1, waiting=left, handed=dict.fromkeys(handed, 1), end=End.ENOUGH_TIME.value))
    if board.is_over:
        assert not any(given_pages.values())
        assert not board.left_out
