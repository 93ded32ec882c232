"""Helper processes: the same tables with them as without, a crawl that goes on when they die, none left behind.

The host of these tests has a thread in this process, so that workers are started afresh here; forked ones are tested in a
process of its own.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pytest

from conftest import serving
from small_host import SmallHost, items, list_plan, plan_of
from wadi.actions.begin import begin
from wadi.actions.crawl import crawl
from wadi.actions.readers import reader_arguments, reader_of
from wadi.actions.run import Run
from wadi.crawl.events import Event, PageDone, PageFailed
from wadi.crawl.task import Tuning
from wadi.crawl.workers import WorkerPool, may_fork

PAGES = 40
PLAN = list_plan(
    """name = "."
n = { at = ".", find = '\\d+', type = "integer", clean = "call same" }""",
    start='"{+site}/l?p=0"',
    more='[page.list.next]\nat = "a"\n[table.t]\nkey = "name"\n',
)


def _host() -> SmallHost:
    def page(number: int) -> str:
        more = f"<a href='/l?p={number + 1}'>n</a>" if number < PAGES - 1 else ""
        return items(*(f"r{number * 3 + place}" for place in range(3)), "double 1", "none", more=more + "x" * 1500)

    return SmallHost({f"/l?p={number}": page(number) for number in range(PAGES)})


_SAME = "def same(text):\n    return text\n"


def _crawled(
    folder: Path, make_workers: Any, report: Any = lambda event: None, *, code: str = _SAME
) -> tuple[list[list[Any]], int]:
    folder.mkdir(exist_ok=True)
    (folder / "code.py").write_text(code)
    with serving(_host().application) as site:
        loaded = plan_of(folder, PLAN, site, top='code = "code.py"')
        with begin(loaded, folder / "runs") as run:
            assert crawl(run, report, make_workers=make_workers, tuning=Tuning(worth_workers=1)) == "complete"
            return run.read().rows, sum(run.read().ledger.unread.values())


@dataclass
class DerivedColumns:
    """Makes workers that are of use from the first page on, and has those that were made."""

    make_reader: Any = reader_of
    helped: DerivedColumns = field(default_factory=list)

    def __call__(self, run: Run) -> WorkerPool:
        assert not may_fork()
        self.helped.append(WorkerPool(self.make_reader, reader_arguments(run), 2, worth_after=0, is_patient=True))
        return self.helped[-1]

    def __getitem__(self, place: int) -> WorkerPool:
        return self.helped[place]


@pytest.fixture
def helped() -> DerivedColumns:
    return DerivedColumns()


def test_helpers_give_the_same_tables(tmp_path: Path, helped: DerivedColumns) -> None:
    with_helpers = _crawled(tmp_path / "a", helped)
    assert helped[0].helped == PAGES
    assert with_helpers == _crawled(tmp_path / "b", lambda run: None)
    assert len(with_helpers[0]) == PAGES * 3 + 2
    assert with_helpers[1] == PAGES


def test_a_crawl_goes_on_when_its_helpers_are_killed(tmp_path: Path, helped: DerivedColumns) -> None:
    done = 0

    def kill(event: Event) -> None:
        nonlocal done
        done += isinstance(event, PageDone)
        if done == 10 and isinstance(event, PageDone):
            for process in helped[0].processes:
                process.kill()

    rows, _ = _crawled(tmp_path / "a", helped, kill)
    assert len(rows) == PAGES * 3 + 2
    assert 9 <= helped[0].helped < PAGES
    for process in helped[0].processes:
        process.join(20)
        assert not process.is_alive()


def test_a_page_that_brings_its_reader_down_is_lost_and_no_other(tmp_path: Path, helped: DerivedColumns) -> None:
    ends = "import os\ndef same(text):\n    if text == '93':\n        os._exit(9)\n    return text\n"
    failed: list[PageFailed] = []

    def note(event: Event) -> None:
        if isinstance(event, PageFailed):
            failed.append(event)

    rows, _ = _crawled(tmp_path / "a", helped, note, code=ends)
    assert [one.problem.code for one in failed] == ["reader-ended"]
    assert failed[0].url.endswith("/l?p=31")
    assert "ended, twice" in failed[0].problem.what
    # The listing goes on by links, and the page that had the next one is lost.
    assert len(rows) == 31 * 3 + 2


def _no_reader(*arguments: Any) -> Any:
    os._exit(3)


def test_a_crawl_goes_on_when_its_helpers_cannot_begin(tmp_path: Path, helped: DerivedColumns) -> None:
    helped.make_reader = _no_reader
    rows, _ = _crawled(tmp_path / "a", helped)
    assert len(rows) == PAGES * 3 + 2
    assert helped[0].helped == 0


FORKED = """import json, os, sys
from wadi.actions.begin import begin
from wadi.actions.crawl import crawl
from wadi.actions.readers import reader_arguments, reader_of
from wadi.crawl.task import Tuning
from wadi.crawl.workers import WorkerPool, may_fork
from wadi.plan.reader import load_plan

assert may_fork()
made = []
def make(run):
    made.append(WorkerPool(reader_of, reader_arguments(run), 2, is_patient=True))
    return made[-1]
with begin(load_plan(sys.argv[1], {"site": sys.argv[2]}), sys.argv[3]) as run:
    end = crawl(run, make_workers=make, tuning=Tuning(worth_workers=1))
    workers = made[0]
    children = open(f"/proc/self/task/{os.getpid()}/children").read()
    kinds = [type(process).__name__ for process in workers.processes]
    print(json.dumps([end, workers.helped, kinds, children, run.read().rows]))
"""


@pytest.mark.skipif(sys.platform != "linux", reason="workers are forked on Linux alone")
def test_forked_helpers_read_from_the_first_page_on_and_are_gone_at_the_end(tmp_path: Path) -> None:
    (tmp_path / "code.py").write_text("def same(text):\n    return text\n")
    with serving(_host().application) as site:
        plan_of(tmp_path, PLAN, site, top='code = "code.py"')
        command = [sys.executable, "-c", FORKED, str(tmp_path / "p.toml"), site, str(tmp_path / "runs")]
        done = subprocess.run(command, capture_output=True, text=True, timeout=60, check=False)
    assert done.returncode == 0, done.stderr
    end, helped, kinds, children, rows = json.loads(done.stdout)
    assert (end, helped, kinds, children) == ("complete", PAGES, ["ForkProcess"] * 2, "")
    assert len(rows) == PAGES * 3 + 2


SCRIPT = """import asyncio, time
from wadi.crawl.reader import Reader, ReplyToRead
from wadi.crawl.workers import WorkerPool
from wadi.web.messages import Reply, Request
print("started", flush=True)
async def main():
    pool = WorkerPool(Reader, ({}, {}), 1, worth_after=0, is_patient=True)
    reply = Reply(Request("http://h/"), "http://h/", 200, (), b"", 0.0)
    assert await pool.read(ReplyToRead("none", reply, 1, 0)) is None  # a worker that is there, and knows no such kind
    print(pool.processes[0].pid, flush=True)
    time.sleep(60)
asyncio.run(main())
"""


def test_helpers_do_not_run_the_script_again_and_end_with_it(tmp_path: Path) -> None:
    (tmp_path / "script.py").write_text(SCRIPT)
    process = subprocess.Popen([sys.executable, tmp_path / "script.py"], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    assert process.stdout.readline() == "started\n"
    worker = int(process.stdout.readline())
    process.kill()
    process.communicate()
    for _ in range(100):
        if not Path(f"/proc/{worker}").exists():
            return
        time.sleep(0.1)
    pytest.fail("the worker is still there")
