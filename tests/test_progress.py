"""What is shown while a crawl goes on: bars, hosts, budgets. And what the archive keeps beside the pages."""

from __future__ import annotations

import asyncio
import gzip
import io
import threading
from pathlib import Path

import pytest
from aiohttp import web
from rich.console import Console

from conftest import Program, serving
from small_host import HEAD, SmallHost, crawled, items, list_plan
from wadi.actions.tally import Tally
from wadi.cli.progress import view
from wadi.crawl.events import Event, HostGivenUp, HostRests, PageDone, Progress, Sent
from wadi.plan.columns import Column
from wadi.plan.model import LimitsPlan
from wadi.store.archive import recovered


def _done(
    url: str = "http://a/", *, rows: int = 0, total: int | None = None, number: int = 0, of: int | None = None
) -> PageDone:
    return PageDone("list", url, 200, rows, 0, 1000, 0.1, total, number, of)


@pytest.mark.parametrize(
    ("events", "share"),
    [
        ([Progress(1, 0, 0, 3)], 0.25),
        ([_done(rows=30, total=300), Progress(1, 0, 0, 0)], 0.1),
        ([_done(rows=30, total=60), _done(rows=30, total=60, number=1), Progress(2, 0, 0, 0)], 1.0),
        ([_done(rows=10, total=20), _done(rows=10, total=60), Progress(2, 0, 0, 0)], 0.25),
        ([_done(of=4), Progress(1, 0, 0, 0)], 0.25),
        ([_done(of=4), _done(number=1, of=4), Progress(2, 0, 0, 2)], 0.25),
    ],
    ids=["known pages", "stated rows", "one listing", "two listings", "page numbers", "page numbers and details"],
)
def test_the_bar_goes_by_what_the_site_states(events: list[Event], share: float) -> None:
    tally = Tally("p", lambda: 0.0)
    for event in events:
        tally.take(event)
    assert tally.share == pytest.approx(share)


def test_hosts_are_shown_with_how_they_stand() -> None:
    now = 0.0
    tally = Tally("p", lambda: now)
    tally.take(Sent("list", "http://a/1"))
    assert tally.hosts_line == ""
    for event in (
        _done("http://a/1"),
        Sent("list", "http://a/2"),
        Sent("list", "http://b/"),
        HostRests("b:80", 30.0, "503"),
    ):
        tally.take(event)
    now = 10.0
    assert tally.hosts_line == "hosts     b:80 rests 20 s; a:80 1 page, 1 open"
    tally.take(HostGivenUp("c:80", "nobody there"))
    assert tally.hosts_line == "hosts     b:80 rests 20 s; c:80 left; a:80 1 page, 1 open"


def test_the_line_of_hosts_looks_at_few_of_many() -> None:
    """Those in trouble first, then those with most under way, then the first; a rest that is over is none."""
    now = 0.0
    tally = Tally("p", lambda: now)
    for number in range(2_000):
        tally.take(Sent("list", f"http://h{number}/"))
        tally.take(_done(f"http://h{number}/"))
    for number in (7, 7, 3):
        tally.take(Sent("list", f"http://h{number}/x"))
    tally.take(HostRests("h9:80", 30.0, "503"))
    tally.take(HostGivenUp("h8:80", "nobody there"))
    shown = "h9:80 rests 30 s; h8:80 left; h7:80 1 page, 2 open; h3:80 1 page, 1 open"
    assert tally.hosts_line == f"hosts     {shown}; … 1996 more"
    now = 40.0
    for number in (7, 7):
        tally.take(_done(f"http://h{number}/x"))
    assert tally.hosts_line == "hosts     h8:80 left; h3:80 1 page, 1 open; h0:80 1 page; h1:80 1 page; … 1996 more"


def test_what_of_the_limits_is_used_is_shown() -> None:
    tally = Tally("p", lambda: 0.0, LimitsPlan.model_validate({"requests": 500, "bytes": "5MB", "time": "10m"}))
    tally.take(Progress(1, 0, 0, 0, requests=120, size_bytes=1_200_000))
    assert tally.budget_line == "used      120 of 500 requests, 1.2 of 5.0 MB, 0.0 of 10.0 min"
    assert Tally("p", lambda: 0.0, LimitsPlan()).budget_line == ""


def test_every_reply_is_kept_robots_redirects_and_failed_tries_too(tmp_path: Path) -> None:
    tries = [503, 200]

    def listing(request: object, body: str) -> tuple[int, dict[str, str], str]:
        return tries.pop(0), {}, items("a")

    pages = {"/robots.txt": "User-agent: *\nDisallow: /x", "/l": (302, {"Location": "/m"}, "there"), "/m": listing}
    with crawled(tmp_path, pages, list_plan(), retries=1) as done:
        assert done.rows() == [["a"]]
        data = b"".join(gzip.decompress(path.read_bytes()) for path in sorted((done.run.folder / "pages").iterdir()))
        kept = [line for line in data.split(b"\r\n") if line.startswith(b"HTTP/1.1 ")]
        assert [int(line[9:12]) for line in kept] == [200, 302, 503, 302, 200]
        assert b"Disallow: /x" in data
        assert not list(recovered(done.run.folder / "pages", done.run.state.archive_ends()))


# -- rows while it runs


STREAMED = """[start]
page = "list"
addresses = ["{+site}/l"]
[page.list]
rows = "li"
table = "t"
next = "a.next"
open = { one = "a.one" }
[page.list.fields]
name = "b"
[page.one]
completes = "t"
fields = { one = "i" }
"""


class _Waiting(SmallHost):
    """Answers for /3 when it may, and nobody else waits for that."""

    may = threading.Event()

    async def _answer(self, request: web.Request) -> web.Response:
        if request.path == "/3":
            assert await asyncio.to_thread(self.may.wait, 20)
        return await super()._answer(request)


def _streamed_pages() -> dict[str, str]:
    """Two pages of a listing, whose rows have details."""
    row = "<li><b>{0}</b><a class=one href=/{0}>x</a>"
    return {
        "/l": row.format(1) + row.format(2) + "<a class=next href=/m>",
        "/m": row.format(1) + row.format(3),
        "/1": "<i>=1</i>",
        "/2": "<i>2</i>",
        "/3": "<i>3</i>",
    }


@pytest.mark.parametrize(
    ("table", "early", "whole"),
    [
        ("", ["name,one", "1,=1", "2,2", "1,=1"], ["name,one", "1,=1", "2,2", "1,=1", "3,3"]),
        ('[table.t]\nkey = "name"\n', ["name,one", "1,=1", "2,2"], ["name,one", "1,=1", "2,2", "3,3"]),
        ('[table.t]\nkey = "name"\noccurrences = "n"\n', [], ["name,one,n", "1,=1,2", "2,2,1", "3,3,1"]),
        ('[table.t]\nkey = "name"\nhistory = true\ncolumns = ["name", "gone"]\n', [], None),
        ('[limits]\nrows = 2\n', ["name,one", "1,=1", "2,2"], ["name,one", "1,=1", "2,2"]),
    ],
    ids=["all rows", "each once", "counted", "since when", "a limit"],
)  # fmt: skip
def test_rows_go_to_standard_output_as_soon_as_they_are_certain(
    program: Program, table: str, early: list[str], whole: list[str] | None
) -> None:
    host = _Waiting(_streamed_pages())
    host.may.clear()
    (program.folder / "p.toml").write_text(HEAD + STREAMED + table, "utf-8")
    with serving(host.application) as site:
        running = program.start("run", "p.toml", "-i", f"site={site}", "-o", "-", "-o", "t.csv", "-q")
        assert running.stdout is not None
        came = [running.stdout.readline().rstrip("\n") for _ in early]
        is_waiting = running.poll() is None
        host.may.set()
        rest, told = running.communicate(timeout=30)
    lines = [*came, *rest.splitlines()]
    assert came == early
    assert is_waiting
    assert lines == (program.folder / "t.csv").read_text("utf-8").splitlines()
    assert lines == (whole or ["name,gone", "1,false", "2,false", "3,false"])
    assert running.returncode == 0, told


def test_a_reader_that_goes_ends_the_crawl_and_nothing_is_lost(program: Program) -> None:
    pages = {f"/l?{n}": f"<li><b>{n}</b><a class=next href=/l?{n + 1}>" for n in range(1, 200)}
    pages["/l"] = "<li><b>0</b><a class=next href=/l?1>"
    host = SmallHost(pages)
    plan = HEAD.replace('pause = "0s"', 'pause = "20ms"') + STREAMED.replace('open = { one = "a.one" }', "")
    (program.folder / "p.toml").write_text(plan.partition("[page.one]")[0], "utf-8")
    with serving(host.application) as site:
        with program.start("run", "p.toml", "-i", f"site={site}", "-o", "-") as running:
            assert running.stdout is not None
            assert running.stderr is not None
            assert [running.stdout.readline() for _ in range(3)] == ["name\n", "0\n", "1\n"]
            running.stdout.close()
            assert "Traceback" not in running.stderr.read()
        assert running.returncode == 0
        asked = len(host.asked)
        assert asked < 100
        done = program("resume", "p", "-o", "-", "-q")
    assert done.status == 0, done.err
    assert done.out.split() == ["name", *map(str, range(200))]
    assert len(host.asked) - asked <= 200 - asked + 2  # what had not been committed is asked for again


def test_the_last_rows_stand_under_the_progress() -> None:
    tally = Tally("p", lambda: 0.0)
    column = Column("name", "string", False, None, False, ())
    tally.show_rows([column], [[f"row {number}"] for number in range(9)])
    lines = _drawn(view(tally, 80)).splitlines()
    assert [line.strip() for line in lines[-7:]] == ["name", *(f"row {number}" for number in range(3, 9))]


def _drawn(what: object) -> str:
    out = io.StringIO()
    Console(file=out, width=80).print(what)
    return out.getvalue()
