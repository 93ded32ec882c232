"""Days on which things break: no network for a while, no room, no memory, a closed terminal, a clock set back, a folder moved."""

from __future__ import annotations

import asyncio
import os
import pty
import shutil
import signal
import sqlite3
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from datetime import datetime
from pathlib import Path

import pytest
from aiohttp import web

from conftest import EXAMPLES, Program, plan_text, serving
from small_host import HEAD, SmallHost, crawled, items, list_plan, plan_of
from wadi.actions.begin import begin
from wadi.actions.crawl import crawl
from wadi.crawl.events import Event
from wadi.crawl.health import Health
from wadi.store.folder import choose_run, new_folder, place_in_order
from wadi.store.outcome import End, State
from wadi.web.hosts import Hosts, Pace

# -- the network


class Outage:
    """A host of many pages that nobody reaches for `seconds`, after so many requests."""

    def __init__(self, after: int, seconds: float) -> None:
        self.after, self.seconds = after, seconds
        self.asked: list[str] = []

    async def _answer(self, request: web.Request) -> web.Response:
        self.asked.append(request.path)
        if len(self.asked) == self.after:
            self._outage = asyncio.create_task(self._be_away())
        links = "".join(f"<a href=/{n}>x</a>" for n in range(40)) if request.path == "/l" else ""
        page = web.Response(text=items(request.path) + links, content_type="text/html")
        page.force_close()
        return page

    async def _be_away(self) -> None:
        await self._site.stop()
        await asyncio.sleep(self.seconds)
        await self._listen()

    async def _listen(self) -> None:
        self._site = web.TCPSite(self._runner, "127.0.0.1", self._port, reuse_address=True)
        await self._site.start()

    async def _serve(self) -> None:
        app = web.Application()
        app.router.add_get("/{rest:.*}", self._answer)
        self._runner, self._port = web.AppRunner(app, shutdown_timeout=0.1), 0
        await self._runner.setup()
        await self._listen()
        self._port = self._runner.addresses[0][1]
        self._loop, self._over = asyncio.get_running_loop(), asyncio.Event()
        self._ready.set()
        await self._over.wait()
        await self._runner.cleanup()

    @contextmanager
    def serving(self) -> Iterator[str]:
        self._ready = threading.Event()
        thread = threading.Thread(target=asyncio.run, args=(self._serve(),), daemon=True)
        thread.start()
        assert self._ready.wait(20)
        try:
            yield f"http://127.0.0.1:{self._port}"
        finally:
            self._loop.call_soon_threadsafe(self._over.set)
            thread.join(20)


def test_a_network_that_is_gone_for_a_while_costs_no_page(tmp_path: Path) -> None:
    """Ten minutes of the waits that a plan has without being told, at a hundredth of their length."""
    plan = list_plan(page='open = { list = "a" }')
    host = Outage(after=8, seconds=6.0)
    with host.serving() as address:
        manners = 'longest_wait = "1.2s"\nconnect_within = "0.2s"\n'
        loaded = plan_of(tmp_path, plan, address, rest="300ms", retries=4, manners=manners)
        events: list[Event] = []
        with begin(loaded, tmp_path / "runs") as run:
            assert crawl(run, events.append) is End.COMPLETE
            assert run.pages() == {State.WAITING: 0, State.DONE: 41, State.FAILED: 0}
            assert len(run.table("t")) == 41
    assert "HostRests" in {type(event).__name__ for event in events}


def test_a_host_that_is_there_and_breaks_off_is_no_network_that_is_gone(tmp_path: Path) -> None:
    def broken(request: web.Request, body: str) -> str:
        assert request.transport is not None
        request.transport.abort()
        return ""

    links = "".join(f"<a href=/{n}>x</a>" for n in range(8))
    pages = {"/l": items("first") + links, **{f"/{n}": items(n) if n < 4 else broken for n in range(8)}}
    with crawled(tmp_path, pages, list_plan(page='open = { list = "a" }'), rest="200ms", retries=2) as done:
        assert [type(event).__name__ for event in done.events].count("HostRests") == 3
        assert done.run.end == "host unreachable"
        assert done.run.pages()[State.DONE] == 5


def test_silence_of_all_hosts_is_borne_longer_than_that_of_one() -> None:
    health = Health(Hosts(Pace()), 30.0)

    def rests(host: str, *, is_gone: bool = True) -> list[float]:
        now, found = 0.0, []
        while not health.is_given_up(host):
            seconds = health.failed(host, "nobody there", now, is_refusal=False, is_gone=is_gone)
            if seconds is not None and not health.is_given_up(host):
                found.append(seconds)
                now += seconds
            if others:
                health.succeeded("other")
        return found

    health.succeeded("h")
    others = False
    assert rests("h") == [30.0, 60.0, 120.0, 240.0, 480.0]
    health.succeeded("j")
    assert rests("j", is_gone=False) == [30.0, 60.0, 120.0]  # it is there, and breaks off
    health.succeeded("i")
    others = True
    assert rests("i") == [30.0, 60.0, 120.0]


# -- the disk


@contextmanager
def small_disk(at: Path, kilobytes: int) -> Iterator[Path]:
    """A disk of its own with so much room."""
    at.mkdir(exist_ok=True)
    mounted = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", f"size={kilobytes}k", "none", str(at)], capture_output=True, check=False
    )
    if mounted.returncode:
        pytest.skip("this user may not mount a disk")
    try:
        yield at
    finally:
        subprocess.run(["umount", str(at)], check=True)


def _with_more_room(disk: Path) -> None:
    subprocess.run(["mount", "-o", "remount,size=30m", str(disk)], check=True)


@pytest.mark.parametrize(
    ("plan", "kilobytes"),
    [("springs", size) for size in (8, 150, 300, 700)] + [("gallery", size) for size in (40, 220, 260, 420)],
)
def test_a_disk_that_is_full_at_any_moment_of_a_run_loses_nothing(
    program: Program, site: str, plan: str, kilobytes: int
) -> None:
    (program.folder / f"{plan}.toml").write_text(
        plan_text() if plan == "springs" else (EXAMPLES / f"{plan}.toml").read_text()
    )
    arguments = ("run", f"{plan}.toml", "-i", f"site={site}", "-q", "--runs", "disk/runs", "-o", "t.csv")
    with small_disk(program.folder / "disk", kilobytes) as disk:
        done = program(*arguments)
        assert (done.status, "[disk-full]" in done.err) in ((3, True), (0, False)), done
        began = bool(list(disk.glob("runs/*/*/run.sqlite")))
        assert began or not list(disk.glob("runs/*/*"))
        _with_more_room(disk)
        if done.status:
            done = program(*(("resume", "--runs", "disk/runs", "-q", "-o", "t.csv") if began else arguments))
        assert done.status == 0, done
        assert program.inside("verify", plan, "--deep", "--runs", "disk/runs").status == 0
        rows = (program.folder / "t.csv").read_text("utf-8").count("\n")
        assert rows == (355 if plan == "springs" else 25)


TARGETS = (
    "t.csv",
    "t.jsonl",
    "t.json",
    "t.xlsx",
    "t.parquet",
    "t.md",
    "t.html",
    "t.tsv.xz",
    "report",
    "compare",
    "package",
)


@pytest.fixture(scope="module")
def ran(tmp_path_factory: pytest.TempPathFactory, site: str) -> Path:
    """A folder with two runs of the bundled plan."""
    folder = tmp_path_factory.mktemp("ran")
    program = Program(folder)
    for limits in ("", "[limits]\nrows = 300\n"):
        (folder / "springs.toml").write_text(plan_text() + limits)
        assert program("run", "springs.toml", "-i", f"site={site}", "-q").status == 0
    return folder


@pytest.mark.parametrize("target", TARGETS)
def test_what_cannot_be_written_for_want_of_room_leaves_what_stood_there(ran: Path, target: str) -> None:
    program = Program(ran)
    with small_disk(ran / "small", 8) as disk:
        commands = {
            "report": ("report", "springs", "-o", disk / "r.html"),
            "compare": ("compare", "springs~1", "springs", "-o", disk / "c.csv"),
            "package": ("export", "springs", "--package", "-o", disk / "p.csv"),
        }
        command = commands.get(target, ("export", "springs", "-o", disk / target))
        stood = Path(command[-1])
        stood.write_text("what stood there")
        done = program(*command)
        assert (done.status, "[disk-full]" in done.err) == (3, True), done
        assert "what stood there before stays" in done.err
        assert [path.read_text() for path in disk.iterdir()] == ["what stood there"]


def test_a_crawl_whose_table_finds_no_room_is_told_of_all_the_same(program: Program, site: str) -> None:
    (program.folder / "springs.toml").write_text(plan_text())
    with small_disk(program.folder / "small", 8):
        done = program("run", "springs.toml", "-i", f"site={site}", "-o", "small/t.csv")
    assert done.status == 3
    assert "366 read" in done.err
    assert "small/t.csv: no room is left for it" in done.err
    assert program("export", "springs", "-o", "t.csv").status == 0


def _fill(path: Path) -> None:
    """Write until nothing more can be written."""
    with path.open("wb", buffering=0) as file:
        while file.write(b"x" * 4096):
            pass


def test_a_run_on_a_full_disk_can_be_looked_at_and_not_gone_on_with(program: Program, ran: Path) -> None:
    with small_disk(program.folder / "disk", 4000) as disk:
        shutil.copytree(ran / "runs", disk / "runs")
        run = min(disk.glob("runs/springs/*"))
        with pytest.raises(OSError, match="No space left"):
            _fill(disk / "rest")
        for command in (
            ("export", run, "-o", "t.csv"),
            ("verify", run),
            ("verify", run, "--deep"),
            ("trace", run, "springs", "1"),
            ("profile", run),
            ("runs", "--runs", disk / "runs"),
        ):
            done = program(*command)
            assert (done.status, "damaged" in done.out + done.err) == (0, False), (command, done)
        done = program("resume", run, "--again", "failed")
        assert (done.status, "[disk-full]" in done.err) == (3, True), done


def test_output_that_cannot_be_written_is_said(program: Program, ran: Path) -> None:
    program.command = ["bash", "-c", 'exec "$@" > /dev/full', "bash", *program.command]
    done = program("export", ran / "runs/springs", "-o", "-")
    assert done.status == 3
    assert "the output: no room is left to write to" in done.err


# -- the machine


# Between 57 and 61 MB it is a library's own allocator, in Rust, that finds no room, and ends the process with its own words.
@pytest.mark.parametrize("limit", ["--as=65000000", "--as=90000000", "--as=100000000", "--nofile=20", "--nofile=50:50"])
def test_too_little_memory_and_too_few_files_are_said(program: Program, site: str, limit: str) -> None:
    (program.folder / "springs.toml").write_text(plan_text())
    program.command = ["prlimit", limit, *program.command]
    if limit.count(":") == 0 and "nofile" in limit:
        program.command[1] = f"{limit}:4096"  # as many as the system allows are taken
    done = program("run", "springs.toml", "-i", f"site={site}", "-q", "--pages", "5")
    if ":4096" in program.command[1]:
        assert done.status == 0, done
    else:
        word = "64 at least are needed" if "nofile" in limit else "[too-little-memory]"
        assert (done.status, word in done.err) == (3, True), done


# -- the terminal


def _in_a_terminal(
    program: Program, site: str, *, ignored: tuple[signal.Signals, ...] = ()
) -> tuple[subprocess.Popen[bytes], int]:
    """A crawl that has begun in a terminal, and the terminal's other end."""

    def ignore() -> None:
        for number in ignored:
            signal.signal(number, signal.SIG_IGN)

    (program.folder / "springs.toml").write_text(plan_text(pause='"5ms"'))
    master, slave = pty.openpty()
    process = subprocess.Popen(
        [*program.command, "run", "springs.toml", "-i", f"site={site}", "-o", "t.csv"],
        cwd=program.folder, env=program.environment, stdin=slave, stdout=slave, stderr=slave, start_new_session=True,
        preexec_fn=ignore,
    )  # fmt: skip
    os.close(slave)
    deadline = time.monotonic() + 20
    while not any(b"page_done" in path.read_bytes() for path in program.folder.glob("runs/*/*/run.log")):
        assert time.monotonic() < deadline
        time.sleep(0.02)
    return process, master


def test_a_terminal_that_is_closed_ends_a_run_softly(program: Program, site: str) -> None:
    process, master = _in_a_terminal(program, site)
    os.close(master)
    process.send_signal(signal.SIGHUP)
    assert process.wait(20) == 130
    assert "interrupted" in program("runs").out
    assert program("resume", "-q", "-o", "t.csv").status == 0
    assert (program.folder / "t.csv").read_text("utf-8").count("\n") == 355


def test_signals_that_are_to_be_ignored_are_ignored_and_a_lost_terminal_is_no_reason_to_end(
    program: Program, site: str
) -> None:
    process, master = _in_a_terminal(program, site, ignored=(signal.SIGHUP, signal.SIGINT))
    os.close(master)
    process.send_signal(signal.SIGHUP)
    process.send_signal(signal.SIGINT)
    assert process.wait(60) == 0
    assert (program.folder / "t.csv").read_text("utf-8").count("\n") == 355


# -- the clock


def test_runs_are_in_the_order_in_which_they_began_whatever_the_clock_says(tmp_path: Path) -> None:
    days = (
        "2026-10-25T02:50", "2026-10-25T02:10", *["2026-10-25T02:50"] * 10,  # an hour that comes twice
        "2024-01-01", "2026-11-01", "2026-11-01",
    )  # fmt: skip
    began = [datetime.fromisoformat(day) for day in days]
    folders = [new_folder(tmp_path, "p", now) for now in began]
    assert sorted(folders, key=place_in_order) == folders
    assert folders[1].name == "2026-10-25T025000.2"
    assert folders[-1].name == "2026-11-01T000000.2"
    for folder in folders:
        sqlite3.connect(folder / "run.sqlite").close()
    assert choose_run("p~newest", tmp_path).folder == folders[-1]


# -- the folder


def _moved_while(program: Program, move: Callable[[Path], None], count: int = 12) -> int:
    """The status of a run whose folder is moved, or copied, while it goes on."""

    def third(request: web.Request, body: str) -> str:
        move(next(program.folder.glob("runs/p/*")))
        return items("/3")

    names = [f"/{n}" for n in range(count)]
    links = "".join(f"<a href={name}>x</a>" for name in names)
    pages: dict[str, object] = {"/l": items("first") + links, **{name: items(name) for name in names}, "/3": third}
    with serving(SmallHost(pages).application) as address:  # type: ignore[arg-type]
        plan = HEAD.replace("http://h", address).replace("parallel = 3", "parallel = 1")
        (program.folder / "p.toml").write_text(plan + list_plan(page='open = { list = "a" }'))
        done = program("run", "p.toml", "-q", "-o", "t.csv")
        assert done.status == 0, done
        return program("resume", "elsewhere", "-q", "-o", "u.csv").status


@pytest.mark.parametrize("how", ["moved", "copied"])
def test_a_runs_folder_may_be_moved_or_copied_while_it_is_written(program: Program, how: str) -> None:
    elsewhere = program.folder / "elsewhere"

    def move(folder: Path) -> None:
        if how == "moved":
            folder.rename(elsewhere)
        elif not elsewhere.exists():
            shutil.copytree(folder, elsewhere)

    assert _moved_while(program, move) == 0
    assert (program.folder / "t.csv").read_text() == (program.folder / "u.csv").read_text()
    assert program("verify", elsewhere, "--deep").status == 0


@pytest.mark.parametrize(("version", "word"), [("1", "an older"), ("99", "a newer")])
def test_a_run_of_another_version_is_left_as_it_is(program: Program, ran: Path, version: str, word: str) -> None:
    run = min(ran.glob("runs/springs/*"))
    shutil.copytree(run, program.folder / "runs/springs/other")
    database = program.folder / "runs/springs/other/run.sqlite"
    with closing(sqlite3.connect(database)) as connection:
        connection.execute("UPDATE meta SET value = ? WHERE name = 'schema'", (version,))
        connection.commit()
    before = database.read_bytes()
    for command in ("resume", "export", "verify", "reparse"):
        done = program(command, "runs/springs/other", *(("-o", "t.csv") if command == "export" else ()))
        assert (done.status, "[other-version]" in done.err, word in done.err) == (2, True, True), done
    assert "other version" in program("runs").out
    assert database.read_bytes() == before
