"""Nothing is lost, doubled, or asked for twice: runs that are killed, stopped, in use, or asked again."""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import pytest
from aiohttp import web

from conftest import EXAMPLES, Done, Program, serving
from small_host import HEAD, SmallHost, items, list_plan, plan_of
from wadi.actions.begin import begin, go_on
from wadi.actions.crawl import crawl
from wadi.actions.run import Run
from wadi.demo import site as demo_site
from wadi.problems import RunError
from wadi.store.archive import Archive, Location, read_reply, recovered
from wadi.store.crash_points import CRASH_POINTS
from wadi.store.folder import RunLock
from wadi.web.messages import Reply, Request

KILLS = int(os.environ.get("WADI_KILLS", "4"))
"""How many random moments; all of them:  WADI_KILLS=50 pytest tests/test_resume.py"""
PLANS = ("duties", "fieldnotes", "gallery", "gaugings")


class Watched:
    """The sample site with a log of what was asked."""

    def __init__(self) -> None:
        self.asked: list[str] = []

    def application(self) -> web.Application:
        @web.middleware
        async def watch(request: web.Request, handler: object) -> web.StreamResponse:
            self.asked.append(f"{request.method} {request.path_qs} {await request.text()}".strip())
            return await handler(request)  # type: ignore[operator, no-any-return]

        return demo_site.application((watch,))


def _run(run: Callable[..., Done], plan: str, site: str, out: str) -> int:
    arguments = ("-i", f"site={site}", "-q", "-o", out, "--runs", f"runs-{out}")
    return run("run", EXAMPLES / f"{plan}.toml", *arguments).status


def _dying(program: Program, point: str, count: int) -> Program:
    """The program, killed where it comes to a crash point for so many times."""
    dying = Program(program.folder)
    dying.command = [sys.executable, str(Path(__file__).with_name("dying.py")), f"{point}:{count}"]
    dying.environment = program.environment
    return dying


def _resumed(program: Program, out: str) -> None:
    done = program.inside("resume", "-o", out, "--runs", f"runs-{out}")
    assert done.status == 0, done.err


@pytest.mark.parametrize("point", CRASH_POINTS)
@pytest.mark.parametrize("plan", PLANS)
def test_a_run_killed_at_any_point_of_writing_comes_to_the_same(program: Program, plan: str, point: str) -> None:
    watched = Watched()
    with serving(watched.application) as site:
        assert _run(program.inside, plan, site, "whole.csv") == 0
        once = Counter(watched.asked)
        watched.asked.clear()
        status = _run(_dying(program, point, 1 if "export" in point else 3), plan, site, "killed.csv")
        if plan != "gallery" and point.startswith("file"):
            assert status == 0
        else:
            assert status == -signal.SIGKILL
            assert (program.folder / "killed.csv").exists() == (point == "export-renamed")
        _resumed(program, "killed.csv")
        assert (program.folder / "killed.csv").read_bytes() == (program.folder / "whole.csv").read_bytes()
        twice = Counter(watched.asked) - once
        # In flight when the process died, at most two at a time to one host, or a reply that was not yet durable.
        assert sum(count for name, count in twice.items() if "robots" not in name) <= 2
        if point in ("archive-synced", "commit-open", "committed", "export-written", "export-renamed"):
            text = next(program.folder.glob("runs-killed.csv/*/*/run.log")).read_text()
            log = [json.loads(line) for line in text.splitlines()]
            adopted = sum(line["pages"] for line in log if line["event"] == "adopted")
            assert (adopted > 0) == (point in ("archive-synced", "commit-open"))


@pytest.mark.parametrize("moment", range(KILLS))
def test_a_run_killed_at_a_random_moment_comes_to_the_same(program: Program, site: str, moment: int) -> None:
    plan = PLANS[moment % len(PLANS)]
    assert _run(program.inside, plan, site, "whole.csv") == 0
    arguments = (
        "run",
        EXAMPLES / f"{plan}.toml",
        "-i",
        f"site={site}",
        "-q",
        "-o",
        "killed.csv",
        "--runs",
        "runs-killed.csv",
    )
    process = program.start(*arguments)
    time.sleep(0.7 + random.Random(moment).random() * 0.8)
    process.kill()
    process.communicate()
    if list(program.folder.glob("runs-killed.csv/*/*/run.sqlite")):
        _resumed(program, "killed.csv")
        assert (program.folder / "killed.csv").read_bytes() == (program.folder / "whole.csv").read_bytes()


CHANGES = {
    "nothing": (lambda text: text, ""),
    "a comment": (lambda text: f"# later\n{text}\n\n", ""),
    "a field": (lambda text: text.replace('name = "."', 'name = "b"'), "p.toml was changed since this run began"),
    "no plan any more": (lambda text: text + "[", "p.toml was changed since this run began"),
}


@pytest.mark.parametrize("change", CHANGES)
def test_resume_says_when_the_plan_was_changed_meanwhile(program: Program, change: str) -> None:
    host = SmallHost({f"/s{n}": items(f"r{n}") for n in range(4)})
    edit, said = CHANGES[change]
    with serving(host.application) as site:
        starts = ", ".join(f'"{{+site}}/s{n}"' for n in range(4))
        path = program.folder / "p.toml"
        plan_of(program.folder, list_plan(start=starts))
        assert program.inside("run", "p.toml", "-i", f"site={site}", "--pages", "2", "-q").status == 0
        path.write_text(edit(path.read_text()))
        done = program.inside("resume", "p", "-o", "p.csv")
        assert done.status == 0
        assert said in done.err if said else "was changed" not in done.err
        assert (program.folder / "p.csv").read_text().splitlines() == ["name", "r0", "r1", "r2", "r3"]
        if said and change == "a field":
            assert "--fetch  takes the changed one" in done.err
            way = done.err.split("wadi reparse ")[1].split()[0]
            assert program.inside("reparse", way, "--fetch", "-o", "new.csv").status != 70


@pytest.mark.parametrize(
    ("own", "given", "asked_first", "asked_then"),
    [
        ("", ["--pages", "2"], 2, 4),
        ("", ["--rows", "1"], 1, 5),
        ("", ["--bytes", "60B"], 1, 5),
        ("", ["--depth", "0"], 6, 0),
        ("[limits]\npages = 2\n", [], 2, 2),
        ("[limits]\nrows = 1\n", [], 1, 0),
    ],
)
def test_resume_goes_on_where_a_limit_had_ended_the_run(
    program: Program, own: str, given: list[str], asked_first: int, asked_then: int
) -> None:
    pages = {f"/{n}": items(f"row {n}", more=f"<a href=/{n + 1}>more</a>" if n < 6 else "") for n in range(1, 7)}
    host = SmallHost(pages)
    plan = SLOW.replace("/l", "/1") + own
    with serving(host.application) as site:
        (program.folder / "p.toml").write_text(HEAD.replace("http://h", site) + plan)
        done = program.inside("run", "p.toml", *given)
        assert done.status == 0
        assert len(host.asked) == asked_first
        assert ("wadi resume" in done.err) == bool(asked_then)
        host.asked.clear()
        done = program.inside("resume", "p", "-o", "t.csv")
        assert len(host.asked) == asked_then, done.err
    rows = (program.folder / "t.csv").read_text().split("\n")[1:-1]
    assert len(rows) == {"rows": 1, "pages": 4}.get(own[9:].split(" ")[0], 6)


def test_a_run_that_was_broken_off_keeps_the_limits_that_it_was_begun_with(program: Program) -> None:
    pages = {f"/{n}": items(f"row {n}", more=f"<a href=/{n + 1}>more</a>") for n in range(1, 9)}
    host = SmallHost(pages)
    with serving(host.application) as site:
        (program.folder / "p.toml").write_text(HEAD.replace("http://h", site) + SLOW.replace("/l", "/1"))
        assert _dying(program, "committed", 2)("run", "p.toml", "--pages", "4").status == -signal.SIGKILL
        assert program.inside("resume", "p", "-q").status == 0
    assert sorted(set(host.asked)) == ["GET /1", "GET /2", "GET /3", "GET /4"]


def test_what_did_not_come_for_want_of_a_connection_is_asked_for_again(program: Program) -> None:
    pages = {
        "/l": items("a", more="<a href=/m>more</a>"),
        "/m": items("b", more="<a href=/n>more</a>"),
        "/n": items("c"),
    }
    host = SmallHost(pages)
    with serving(host.application) as site:
        (program.folder / "p.toml").write_text(HEAD.replace("http://h", site) + SLOW)
        pages["/m"] = _broken_off
        assert program.inside("run", "p.toml", "-q").status == 1
        pages["/m"] = items("b", more="<a href=/n>more</a>")
        done = program.inside("resume", "p", "-o", "t.csv")
    assert done.status == 0
    assert "pages that did not come for want of a connection are asked for again: 1" in done.err
    assert (program.folder / "t.csv").read_text().split() == ["name", "a", "b", "c"]


def test_a_run_in_use_is_left_as_it_is(tmp_path: Path) -> None:
    pages = {"/l": items("a", more="<a href=/m>more</a>"), "/m": _broken_off}
    with (
        serving(SmallHost(pages).application) as site,
        begin(plan_of(tmp_path, SLOW, site), tmp_path / "runs") as run,
    ):
        crawl(run)
        assert len(list(run.state.failures())) == 1
        lock = RunLock(run.folder)
        lock.take()
        with pytest.raises(RunError, match="another process works on this run"):
            go_on(run.folder)
        assert len(list(run.state.failures())) == 1
        lock.release()
        with go_on(run.folder) as again:
            assert list(again.state.failures()) == []


def _broken_off(request: web.Request, body: str) -> str:
    assert request.transport is not None
    request.transport.abort()
    return ""


SLOW = """[start]
page = "list"
addresses = ["{+site}/l"]
[page.list]
rows = "li"
table = "t"
next = "a"
fields = { name = "." }
"""


def _slow_application() -> web.Application:
    """Forty pages, each taking a fifth of a second."""
    import asyncio

    async def page(request: web.Request) -> web.Response:
        await asyncio.sleep(0.2)
        number = int(request.query.get("n", "1"))
        more = f"<a href='/l?n={number + 1}'>next</a>" if number < 40 else ""
        return web.Response(text=items(f"r{number}", more=more), content_type="text/html")

    app = web.Application()
    app.router.add_get("/l", page)
    return app


def _started(program: Program, site: str) -> subprocess.Popen[str]:
    plan_of(program.folder, SLOW)
    process = program.start("run", "p.toml", "-i", f"site={site}", "-o", "out.csv")
    deadline = time.monotonic() + 20
    while time.monotonic() < deadline:
        logs = list(program.folder.glob("runs/p/*/run.log"))
        if logs and b"page_done" in logs[0].read_bytes():
            return process
        time.sleep(0.05)
    raise AssertionError("the run did not begin")


@pytest.mark.parametrize("one", [signal.SIGINT, signal.SIGTERM])
def test_stopping_takes_what_is_in_flight_and_says_how_to_go_on(program: Program, one: signal.Signals) -> None:
    with serving(_slow_application) as site:
        process = _started(program, site)
        process.send_signal(one)
        _, err = process.communicate(timeout=30)
        assert process.returncode == 130, err
        assert "stopping, waiting for 1 page under way" in err
        assert "(interrupted)" in err
        assert "go on:     wadi resume runs/p/" in err
        listed = json.loads(program.inside("runs", "--json").out)["runs"]
        assert (listed[0]["state"], listed[0]["waiting"]) == ("interrupted", 1)
        assert not (program.folder / "out.csv").exists()
        assert program.inside("export", "p", "-o", "out.csv").status == 1  # a part
        before = len((program.folder / "out.csv").read_text().splitlines())
        done = program.inside("resume", "p", "--pages", "6", "-o", "out.csv")
        assert done.status == 0, done.err
        assert len((program.folder / "out.csv").read_text().splitlines()) >= max(before, 7)


def test_stopping_twice_ends_at_once_and_a_second_process_is_refused(program: Program) -> None:
    with serving(_slow_application) as site:
        process = _started(program, site)
        other = program.inside("resume", "p")
        assert other.status == 2
        assert f"another process works on this run (process {process.pid})" in other.err
        assert "in use" in program.inside("runs").out
        assert program.inside("runs", "--remove", "p", "--yes").status == 2
        process.send_signal(signal.SIGINT)
        process.send_signal(signal.SIGINT)
        _, err = process.communicate(timeout=10)
        assert process.returncode == 130, err


def test_pages_are_asked_again_by_pattern_or_because_they_failed(program: Program) -> None:
    broken = {"/l2"}

    def page(request: web.Request, body: str) -> object:
        number = int(request.path[2:] or 1)
        if request.path in broken:
            return (404, {}, "")
        return items(f"r{number}", more=f"<a href=/l{number + 1}>n</a>" if number < 3 else "")

    host = SmallHost({"/l": page, "/l2": page, "/l3": page})  # type: ignore[dict-item]
    with serving(host.application) as site:
        plan_of(program.folder, SLOW)
        assert program.inside("run", "p.toml", "-i", f"site={site}").status == 1
        broken.clear()
        done = program.inside("resume", "--again", "failed", "-o", "out.csv")
        assert (done.status, "1 page to be asked for again" in done.err) == (0, True), done.err
        assert (program.folder / "out.csv").read_text().split() == ["name", "r1", "r2", "r3"]
        host.asked.clear()
        done = program("resume", "--again", "*/l?", "-o", "-", "-q")
        assert (done.status, done.out.split()) == (0, ["name", "r1", "r2", "r3"]), program.inside("resume").err
        assert sorted(host.asked) == ["GET /l2", "GET /l3"]
        assert program("resume", "-q", "-o", "-").out.split() == ["name", "r1", "r2", "r3"]


def test_runs_are_listed_and_removed(program: Program, site: str) -> None:
    assert "no runs in runs/" in program.inside("runs").err
    assert program.inside("resume").status == 2
    program.inside("run", EXAMPLES / "board.toml", "-i", f"site={site}", "-q")
    listed = json.loads(program.inside("runs", "--json").out)["runs"]
    assert [(one["plan"], one["state"], one["rows"], one["pages"], one["failed"]) for one in listed] == [
        ("board", "complete", 15, 1, 0)
    ]
    assert "board" in program.inside("runs", "board").out
    asked = program.inside("runs", "--remove", "board")
    assert (asked.status, "--yes removes them" in asked.err) == (2, True)
    assert program.inside("runs", "--remove", "board", "--yes").status == 0
    assert json.loads(program.inside("runs", "--json").out)["runs"] == []


# -- the archive


def _reply(number: int, body: bytes) -> Reply:
    request = Request(f"http://u:p@h/{number}", "POST", (("X-Api-Key", "hidden"), ("Accept", "*/*")), b"q=1")
    return Reply(request, f"http://h/{number}", 200, (("Content-Type", "text/html"),), body, 12.0)


def test_requests_are_beside_their_replies_without_secrets_and_the_same_content_is_there_once(tmp_path: Path) -> None:
    import gzip

    places: dict[bytes, Location] = {}
    archive = Archive(tmp_path, software="t", known=places.get)
    first = archive.append(_reply(1, b"x" * 5000), 1)
    places[first.digest] = first.location
    again = archive.append(_reply(2, b"x" * 5000), 2)
    archive.close()
    assert (len(first.digest), again.digest) == (32, b"")
    assert again.location.length < 700
    assert read_reply(tmp_path, again.location).body == b"x" * 5000
    assert read_reply(tmp_path, again.location).url == "http://h/2"
    text = gzip.decompress((tmp_path / "00001.warc.gz").read_bytes()).decode()
    kinds = [line.partition(": ")[2] for line in text.split("\r\n") if line.startswith("WARC-Type")]
    assert kinds == ["warcinfo", "response", "request", "revisit", "request"]
    assert "hidden" not in text
    assert "u:p@" not in text
    assert "POST /1 HTTP/1.1\r\nHost: h:80\r\nX-Api-Key: ***\r\nAccept: */*\r\n\r\nq=1" in text


def test_requests_that_differ_in_their_address_alone_are_kept_once(tmp_path: Path) -> None:
    import gzip

    archive = Archive(tmp_path, software="t")
    plain, asking = (("Accept", "*/*"),), (("Accept", "*/*"), ("If-None-Match", '"7"'))
    for number, headers in enumerate([plain, plain, plain, asking, plain]):
        request = Request(f"http://h/{number}", headers=headers)
        archive.append(Reply(request, request.url, 200, (), os.urandom(2000), 12.0), number)
    archive.close()
    text = gzip.decompress((tmp_path / "00001.warc.gz").read_bytes()).decode("latin-1")
    asked = [line.split()[1] for line in text.split("\r\n") if line.startswith("GET ")]
    assert asked == ["/0", "/3", "/4"]


@pytest.mark.parametrize("torn", [1, 50, 200, 100_000])
def test_what_is_torn_is_cut_off_and_what_is_whole_is_found(tmp_path: Path, torn: int) -> None:
    archive = Archive(tmp_path, software="t")
    kept = [archive.append(_reply(number, os.urandom(3000)), number).location for number in range(4)]
    archive.close()
    path = tmp_path / "00001.warc.gz"
    data = path.read_bytes()
    path.write_bytes(data[: max(kept[1].offset + kept[1].length, len(data) - torn)])
    found = list(recovered(tmp_path, {path.name: kept[0].offset + kept[0].length}))
    assert found == [(number, kept[number]) for number, _ in found]
    assert [number for number, _ in found] == {1: [1, 2, 3], 50: [1, 2, 3], 200: [1, 2, 3], 100_000: [1]}[torn]
    assert list(recovered(tmp_path, {path.name: kept[0].offset + kept[0].length})) == found


def test_a_lock_is_gone_with_its_process(tmp_path: Path) -> None:
    lock, other = RunLock(tmp_path), RunLock(tmp_path)
    lock.take()
    with pytest.raises(RunError, match=f"process {os.getpid()}"):
        other.take()
    lock.release()
    other.take()
    other.release()
    with pytest.raises(RunError, match="cannot be written"):
        RunLock(tmp_path / "nowhere").take()


def test_a_damaged_database_is_said_and_the_archive_stays(program: Program, site: str) -> None:
    program.inside("run", EXAMPLES / "board.toml", "-i", f"site={site}", "-q")
    (folder,) = program.folder.glob("runs/board/*")
    (folder / "run.sqlite").write_bytes(b"not a database at all" * 100)
    for path in folder.glob("run.sqlite-*"):
        path.unlink()
    done = program.inside("resume", "board")
    assert (done.status, "[damaged-run]" in done.err) == (2, True)
    assert "damaged" in program.inside("runs").out
    assert list((folder / "pages").iterdir())


def test_a_run_that_is_complete_stays_as_it_is(tmp_path: Path) -> None:
    host = SmallHost({"/l": items("a")})
    with serving(host.application) as site:
        with begin(plan_of(tmp_path, SLOW, site), tmp_path / "runs") as run:
            crawl(run)
        with Run.open(run.folder) as run:
            crawl(run)
            assert run.end == "complete"
    assert host.asked == ["GET /l"]


KEPT = """wadi = 1
[manners]
pause = "0s"
retries = 0
[inputs]
site = "http://h"
[start]
page = "list"
addresses = ["{+site}/l"]
[page.list]
rows = "li"
table = "t"
fields = { name = "." }
"""


@pytest.mark.parametrize("how", ["down", "gone", "refused"])
def test_a_crawl_that_comes_to_nothing_leaves_what_was_written_before(program: Program, how: str) -> None:
    (program.folder / "p.toml").write_text(KEPT)
    targets = ["t.csv", "t.sqlite", "t.xlsx"]
    outputs = [part for target in targets for part in ("-o", target)]
    with serving(SmallHost({"/l": items("a", "b")}).application) as site:
        assert program.inside("run", "p.toml", "-q", "-i", f"site={site}", *outputs).status == 0
    before = [(program.folder / target).read_bytes() for target in targets]
    status = {"down": 0, "gone": 404, "refused": 403}[how]
    with serving(SmallHost({"/l": (status or 200, {}, "no")}).application) as site:
        other = "http://127.0.0.1:9" if how == "down" else site
        done = program.inside("run", "p.toml", "-q", "-i", f"site={other}", *outputs, "-o", "new.csv")
        told = program.inside("run", "p.toml", "-i", f"site={other}", "-o", "t.csv")
    assert done.status == 3
    assert done.err.startswith("p: ")
    assert '"t.csv", "t.sqlite", "t.xlsx", "new.csv" left as before' in done.err
    assert len(done.err.splitlines()) == 1
    assert "its part:  wadi export runs/p/" in told.err
    assert [(program.folder / target).read_bytes() for target in targets] == before
    assert not (program.folder / "new.csv").exists()


def test_a_limit_that_was_asked_for_writes_what_it_let_come(program: Program) -> None:
    (program.folder / "p.toml").write_text(KEPT)
    with serving(SmallHost({"/l": items("a", "b", "c")}).application) as site:
        done = program.inside("run", "p.toml", "-q", "--rows", "2", "-i", f"site={site}", "-o", "t.csv")
    assert (done.status, done.err) == (0, "")
    assert (program.folder / "t.csv").read_text() == "name\na\nb\n"
