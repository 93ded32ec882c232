"""The library's face: a run that did not go to its end raises, an interrupt ends it at once and leaves nothing behind."""

from __future__ import annotations

import asyncio
import os
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

import pytest
from aiohttp import web

import wadi
from conftest import serving
from small_host import HEAD, SmallHost, items

PLAN = """[start]
page = "l"
addresses = ["{+site}/1"]
[page.l]
rows = "li"
table = "t"
next = "a"
fields = { name = "." }
"""
SCRIPT = """import time, wadi
plan = wadi.load_plan("p.toml")
BEGIN
    try:
        run = wadi.run(plan)
    except KeyboardInterrupt as error:
        at = time.monotonic()  # before pandas is imported for the table
        print("interrupted", type(error).__mro__[1].__name__, len(error.run.table("t")), at)
        time.sleep(1.5)
    else:
        print("whole", len(run.table("t")), flush=True)
END
"""
WAYS = {
    "a script": ("def main():", "main()"),
    "a running event loop": ("import asyncio\nasync def main():", "asyncio.run(main())"),
}


def _plan(folder: Path, site: str) -> wadi.runs.LoadedPlan:  # type: ignore[name-defined]
    path = folder / "p.toml"
    path.write_text(HEAD.replace("http://h", site) + PLAN)
    return wadi.load_plan(path)


@pytest.mark.parametrize(
    ("pages", "words"),
    [
        ({}, "0 pages were read"),
        ({"/1": (403, {}, "not for you")}, 'status 403 (Forbidden): "not for you"'),
    ],
)
def test_a_site_without_a_page_is_an_error_and_not_no_rows(tmp_path: Path, pages: Any, words: str) -> None:
    with serving(SmallHost(pages).application) as site:
        with pytest.raises(wadi.RunStopped, match="the crawl did not go to its end") as caught:
            wadi.run(_plan(tmp_path, site), runs=tmp_path)
        assert words in str(caught.value)
        assert isinstance(caught.value, wadi.WadiError)
        assert len(caught.value.run.table("t")) == 0


def test_a_site_that_is_not_there_is_an_error_that_names_it(tmp_path: Path) -> None:
    with pytest.raises(wadi.RunStopped, match="host unreachable") as caught:
        wadi.run(_plan(tmp_path, "http://127.0.0.1:9"), runs=tmp_path)
    assert "nothing answers at 127.0.0.1:9" in str(caught.value)


def test_a_limit_that_was_asked_for_is_an_end(tmp_path: Path) -> None:
    pages = {"/1": items("a", more="<a href=/2>next</a>"), "/2": items("b")}
    with serving(SmallHost(pages).application) as site:
        run = wadi.run(_plan(tmp_path, site), runs=tmp_path, pages=1)
    assert list(run.table("t")["name"]) == ["a"]


@pytest.mark.parametrize("way", WAYS)
def test_an_interrupt_is_raised_within_two_seconds_and_nothing_asks_on(tmp_path: Path, way: str) -> None:
    begin, end = WAYS[way]
    asked: list[float] = []
    slowly = threading.Event()

    async def page(request: web.Request) -> web.Response:
        asked.append(time.monotonic())
        if len(asked) > 3:
            slowly.set()
            await asyncio.sleep(8.0 if len(asked) == 4 else 0.05)
        number = int(request.path[1:])
        return web.Response(text=items(f"r{number}", more=f"<a href=/{number + 1}>next</a>"), content_type="text/html")

    def application() -> web.Application:
        app = web.Application()
        app.router.add_get(r"/{number:\d+}", page)
        return app

    with serving(application) as site:
        _plan(tmp_path, site)
        (tmp_path / "s.py").write_text(SCRIPT.replace("BEGIN", begin).replace("END", end))
        environment = {**os.environ, "PYTHONUNBUFFERED": "1"}
        process = subprocess.Popen(
            [sys.executable, "s.py"],
            cwd=tmp_path,
            env=environment,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        assert slowly.wait(30)
        time.sleep(0.3)
        process.send_signal(signal.SIGINT)
        began = time.monotonic()
        try:
            out, err = process.communicate(timeout=15)
        finally:
            process.kill()
        last = max(asked)
    word, error, rows, at = out.split()
    assert (word, error, rows) == ("interrupted", "KeyboardInterrupt", "3"), (out, err)
    assert float(at) - began < 2.5  # and a little for the machine
    assert last < began
