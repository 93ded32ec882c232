"""Days on which things break: no network for a while, no room, no memory, a closed terminal, a clock set back, a folder moved."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from aiohttp import web

from conftest import Program
from small_host import items, list_plan, plan_of
from wadi.actions.begin import begin
from wadi.actions.crawl import crawl
from wadi.crawl.events import Event
from wadi.crawl.health import Health
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


def test_silence_of_all_hosts_is_borne_longer_than_that_of_one() -> None:
    health = Health(Hosts(Pace()), 30.0)

    def rests(host: str) -> list[float]:
        now, found = 0.0, []
        while not health.is_given_up(host):
            seconds = health.failed(host, "nobody there", now, is_refusal=False)
            if seconds is not None and not health.is_given_up(host):
                found.append(seconds)
                now += seconds
            if others:
                health.succeeded("other")
        return found

    health.succeeded("h")
    others = False
    assert rests("h") == [30.0, 60.0, 120.0, 240.0, 480.0]
    health.succeeded("i")
    others = True
    assert rests("i") == [30.0, 60.0, 120.0]
