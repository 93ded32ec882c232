"""What is shown while a crawl goes on: bars, hosts, budgets. And what the archive keeps beside the pages."""

from __future__ import annotations

import gzip
from pathlib import Path

import pytest

from small_host import crawled, items, list_plan
from wadi.cli.progress import Tally
from wadi.crawl.events import Event, HostGivenUp, HostRests, PageDone, Progress, Sent
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
