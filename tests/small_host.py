"""A small host for tests: replies by path and query, and what it was asked for."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Awaitable, Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from aiohttp import web

from conftest import serving
from wadi.actions.begin import begin
from wadi.actions.crawl import crawl
from wadi.actions.run import Run
from wadi.crawl.events import Event
from wadi.demo.proxies import StandInProxy, proxies
from wadi.plan.reader import LoadedPlan, load_plan, with_limits

Page = str | bytes | tuple[int, Mapping[str, str], str | bytes]
HEAD = 'wadi = 1\n[manners]\npause = "0s"\nretries = 0\nfirst_wait = "0s"\nrest = "0s"\nslowest = "0s"\nparallel = 3\n[inputs]\nsite = "http://h"\n'
"""What test plans begin with; lines before their first heading are further inputs."""


@dataclass
class SmallHost:
    """Answers with pages by `path?query`, or by path; a function gets the request and its body. Unknown ones are 404."""

    pages: Mapping[str, Page | Callable[[web.Request, str], Page | Awaitable[web.StreamResponse]]]
    asked: list[str] = field(default_factory=list)
    address: str = ""

    def application(self) -> web.Application:
        app = web.Application()
        app.router.add_route("*", "/{rest:.*}", self._answer)
        return app

    async def _answer(self, request: web.Request) -> web.StreamResponse:
        body = await request.text()
        name = request.path_qs
        if name != "/robots.txt":
            self.asked.append(f"{request.method} {name}" + (f" {body}" if body else ""))
        page = self.pages.get(name, self.pages.get(request.path, (404, {}, "gone")))
        if callable(page):
            page = page(request, body)
        if asyncio.iscoroutine(page):
            page = await page
        if isinstance(page, web.StreamResponse):
            return page
        status, headers, content = page if isinstance(page, tuple) else (200, {}, page)
        data = content.encode() if isinstance(content, str) else content
        return web.Response(status=status, headers={"Content-Type": "text/html; charset=utf-8", **headers}, body=data)


@dataclass
class Crawled:
    """A finished run with what it reported, and the host that it asked."""

    run: Run
    events: list[Event]
    host: SmallHost

    @property
    def notes(self) -> list[str]:
        return [note["code"] for _, note in self.run.state.notes()]

    @property
    def failures(self) -> list[str]:
        return [failed.problem["code"] for failed in self.run.state.failures()]

    def rows(self, table: str | None = None) -> list[list[Any]]:
        return self.run.read(table).rows


@contextmanager
def crawled(
    folder: Path,
    replies: Mapping[str, Any],
    plan: str,
    *,
    top: str = "",
    manners: str = "",
    rest: str = "0s",
    retries: int = 0,
    **limits: float,
) -> Iterator[Crawled]:
    """A plan (below HEAD) crawled on a small host; files of the plan stand in `folder`. `top` are keys above all headings,
    `manners` further ones of that."""
    host = SmallHost(replies)
    with serving(host.application) as host.address:
        loaded = plan_of(folder, plan, host.address, top=top, manners=manners, rest=rest, retries=retries, **limits)
        events: list[Event] = []
        with begin(loaded, folder / "runs") as run:
            crawl(run, events.append)
            yield Crawled(run, events, host)


def list_plan(
    fields: str = 'name = "."', *, page: str = "", more: str = "", start: str = '"{+site}/l"', first: str = ""
) -> str:
    """A plan (below HEAD) of one listing, whose rows are `li`: `page` are further keys of its kind, `more` stands below it, `first`
    between the start addresses and it."""
    page, first = (f"{part}\n" if part else "" for part in (page, first))
    head = f'[start]\npage = "list"\naddresses = [{start}]\n{first}[page.list]\nrows = "li"\ntable = "t"\n'
    return f"{head}{page}[page.list.fields]\n{fields}\n{more}"


def plan_of(
    folder: Path,
    plan: str,
    site: str = "http://h",
    *,
    top: str = "",
    manners: str = "",
    rest: str = "0s",
    retries: int = 0,
    **limits: float,
) -> LoadedPlan:
    """A plan below HEAD, loaded from a file in `folder`."""
    folder.mkdir(exist_ok=True)
    path = folder / "p.toml"
    head = HEAD.replace('rest = "0s"', f'rest = "{rest}"').replace("retries = 0", f"retries = {retries}")
    head = head.replace("[manners]\n", f"[manners]\n{manners}\n")
    path.write_text(f"{top}\n{head}{plan}", "utf-8")
    loaded = load_plan(path, {"site": site})
    if loaded.code is not None:
        loaded.code.approve()
    return with_limits(loaded, **limits)


def items(*names: object, more: str = "") -> str:
    """A list of rows, and something below it."""
    return f"<title>List</title><ul>{''.join(f'<li>{name}</li>' for name in names)}</ul>{more}"


@contextmanager
def standing_in(*stand_ins: StandInProxy) -> Iterator[list[str]]:
    """Proxies in a thread of their own."""
    ready = threading.Event()
    held: dict[str, object] = {}

    async def serve() -> None:
        async with proxies(*stand_ins) as addresses:
            held["addresses"], held["stop"] = addresses, asyncio.Event()
            held["loop"] = asyncio.get_running_loop()
            ready.set()
            await held["stop"].wait()

    thread = threading.Thread(target=asyncio.run, args=(serve(),), daemon=True)
    thread.start()
    assert ready.wait(10)
    try:
        yield held["addresses"]  # type: ignore[misc]
    finally:
        held["loop"].call_soon_threadsafe(held["stop"].set)  # type: ignore[attr-defined]
        thread.join(10)
