"""Runs again: unchanged pages from the earlier run, listings that end at what is known."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import Any

import pytest
from aiohttp import web

from conftest import serving
from small_host import SmallHost, items, plan_of
from wadi.problems import RunError
from wadi.runs import Run

PLAN = """[start]
page = "list"
addresses = ["{+site}/l"]
[page.list]
rows = "li"
table = "t"
fields = { name = "." }
[page.list.next]
at = "a"
UNTIL
[table.t]
key = "name"
"""


def _with_etags(pages: dict[str, str], kind: str, sent: list[tuple[str, int]]) -> dict[str, Any]:
    """Pages that answer 304 to those who have them."""

    def answer(request: web.Request, body: str) -> Any:
        text = pages[request.path]
        tag = f'"{hashlib.sha256(text.encode()).hexdigest()[:8]}"'
        known = request.headers.get("If-None-Match" if kind == "ETag" else "If-Modified-Since")
        status = 304 if known == tag else 200
        sent.append((request.path, status))
        return (status, {kind: tag}, "" if status == 304 else text)

    return dict.fromkeys(pages, answer)


@pytest.mark.parametrize("kind", ["ETag", "Last-Modified"])
def test_unchanged_pages_come_from_the_earlier_run(tmp_path: Path, kind: str) -> None:
    sent: list[tuple[str, int]] = []
    pages = {"/l": items("a", "b", more="<a href=/l2>n</a>"), "/l2": items("c")}
    host = SmallHost(_with_etags(pages, kind, sent))
    with serving(host.application) as site:
        loaded = plan_of(tmp_path, PLAN.replace("UNTIL", ""), site)
        with Run.begin(loaded, tmp_path / "runs") as first:
            first.crawl()
        pages["/l2"] = items("c", "d")
        with Run.begin(loaded, tmp_path / "runs", since=str(first.folder)) as second:
            second.crawl()
            assert [row[0] for row in second.read().rows] == ["a", "b", "c", "d"]
        assert sent == [("/l", 200), ("/l2", 200), ("/l", 304), ("/l2", 200)]
        with Run.begin(loaded, tmp_path / "runs", since=str(second.folder)) as third:
            third.crawl()  # the second run is whole, though the site sent half of it
            assert [row[0] for row in third.read().rows] == ["a", "b", "c", "d"]
        with pytest.raises(RunError):
            Run.begin(loaded, tmp_path / "runs", since="nothing")


def test_a_newest_first_listing_ends_at_what_is_known(tmp_path: Path) -> None:
    def page(names: list[str], number: int) -> str:
        part = names[(number - 1) * 2 : number * 2]
        return items(*part, more=f"<a href=/l{number + 1}>n</a>" if number * 2 < len(names) else "")

    names = ["f", "e", "d", "c", "b", "a"]
    replies: dict[str, Any] = {
        f"/l{n if n > 1 else ''}": lambda request, body, n=n: page(names, n) for n in range(1, 6)
    }
    host = SmallHost(replies)
    with serving(host.application) as site:
        loaded = plan_of(tmp_path, PLAN.replace("UNTIL", 'until = "known rows"'), site)
        found = []
        for news in ([], ["g"], [], ["j", "i", "h"]):
            names[:0] = news
            host.asked.clear()
            with Run.begin(loaded, tmp_path / "runs") as run:
                run.crawl()
                found.append(([row[0] for row in run.read().rows], len(host.asked)))
    assert found == [
        (["f", "e", "d", "c", "b", "a"], 3),
        (["g", "f", "e", "d"], 2),
        (["g", "f"], 1),
        (["j", "i", "h", "g", "f", "e"], 3),
    ]
