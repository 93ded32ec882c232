"""What is under way: groups that are taken together, room for more; which of many hosts is asked next."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable
from itertools import pairwise
from pathlib import Path

import pytest
from aiohttp import web

from small_host import items
from wadi.actions.begin import begin
from wadi.actions.crawl import crawl
from wadi.crawl.flight import Flight
from wadi.crawl.task import Tuning
from wadi.plan.reader import load_plan
from wadi.store.pages import Page
from wadi.web.hosts import Hosts, Pace
from wadi.web.messages import Reply, Request
from wadi.web.transport import HttpTransport


def _page(number: int, host: str = "h") -> Page:
    return Page(number, "p", Request(f"http://{host}/{number}"), b"")


async def _flying(flight: Flight[int], count: int) -> list[asyncio.Future[int]]:
    """So many pages under way, each of which comes when its future is set."""
    futures = [asyncio.get_running_loop().create_future() for _ in range(count)]

    async def come(number: int) -> int:
        return int(await futures[number])

    for number in range(count):
        flight.start(_page(number, f"h{number % 2}"), come(number))
    await asyncio.sleep(0)
    return futures


async def _steps() -> None:
    for _ in range(5):
        await asyncio.sleep(0)


def _in_loop(story: Callable[[], Awaitable[None]]) -> None:
    asyncio.run(story())  # type: ignore[arg-type]


def test_what_comes_is_taken_at_once_or_in_groups() -> None:
    async def story() -> None:
        for together, comes, taken in ((False, [2], [2]), (True, [2], []), (True, [3, 0, 1], [0, 1, 3])):
            flight: Flight[int] = Flight(6, Hosts(Pace()), together=together)
            futures = await _flying(flight, 6)
            for number in comes:
                futures[number].set_result(number)
            await flight.wait(0.001)
            assert flight.take() == taken
            assert len(flight) == 6 - len(taken)
            await flight.drop()

    _in_loop(story)


def test_a_page_does_not_wait_long_for_others() -> None:
    async def story() -> None:
        flight: Flight[int] = Flight(6, Hosts(Pace()), together=True)
        futures = await _flying(flight, 6)
        futures[1].set_result(1)
        await flight.wait(30)
        assert flight.take() == [1]
        futures[2].set_result(2)
        await _steps()
        assert flight.take() == []
        assert flight.take(all_that_came=True) == [2]
        await flight.drop()

    _in_loop(story)


def test_there_is_room_while_pages_are_read_but_not_for_any_number() -> None:
    async def story() -> None:
        hosts = Hosts(Pace())
        flight: Flight[int] = Flight(6, hosts, together=True)

        def counts() -> dict[str, tuple[int, int]]:
            return {name: (host.asked, host.under_way) for name, host in hosts.items()}

        futures = await _flying(flight, 6)
        assert (flight.room, counts()) == (0, {"h0:80": (3, 3), "h1:80": (3, 3)})
        for page in flight.pages[:4]:
            flight.answered(page)
        assert (flight.room, counts()["h0:80"]) == (4, (1, 3))
        futures[0].cancel()  # given up before it was sent
        futures[1].set_result(1)
        await _steps()
        assert flight.take(all_that_came=True) == [1]
        assert counts() == {"h0:80": (1, 2), "h1:80": (1, 2)}
        await flight.drop()
        assert counts() == {"h0:80": (0, 0), "h1:80": (0, 0)}
        assert len(flight) == 0

    _in_loop(story)


PLAN = """wadi = 1
[manners]
pause = "PAUSE"
parallel = 1
total = 8
[start]
page = "list"
addresses = [STARTS]
[page.list]
rows = "li"
table = "t"
next = "a"
fields = { name = "." }
"""


def _many_hosts(
    folder: Path, starts: list[str], pause: str, tuning: Tuning
) -> tuple[list[str], list[tuple[float, str]], int]:
    """A crawl of starts (`127.0.0.1/l1`) with two more pages each: its rows, when which host was asked, most at a time.

    When is told by the crawl itself, as a request goes out: a busy machine lets the site notice it late.
    """
    asked: list[tuple[float, str]] = []
    inside = most = 0

    async def answer(request: web.Request) -> web.Response:
        nonlocal inside, most
        if request.path == "/robots.txt":
            raise web.HTTPNotFound
        inside += 1
        most = max(most, inside)
        host = request.host.partition(":")[0]
        await asyncio.sleep(0.005)
        inside -= 1
        number = int(request.path[2:])
        more = f"<a href=/l{number + 1}>n</a>" if number < 3 else ""
        return web.Response(text=items(f"{host} {number}", more=more), content_type="text/html")

    send = HttpTransport.send

    async def noted(self: HttpTransport, request: Request, sent: Callable[[], None]) -> Reply:
        def on_wire() -> None:
            if not request.url.endswith("/robots.txt"):
                asked.append((time.monotonic(), request.host.partition(":")[0]))
            sent()

        return await send(self, request, on_wire)

    async def crawled() -> list[str]:
        app = web.Application()
        app.router.add_get("/{rest:.*}", answer)
        runner = web.AppRunner(app, access_log=None)
        await runner.setup()
        await web.TCPSite(runner, "0.0.0.0", 0).start()
        port = runner.addresses[0][1]
        addresses = ", ".join(f'"http://{start.replace("/", f":{port}/")}"' for start in starts)
        (folder / "p.toml").write_text(PLAN.replace("STARTS", addresses).replace("PAUSE", pause))
        with begin(load_plan(folder / "p.toml"), folder / "runs") as run, pytest.MonkeyPatch.context() as patched:
            patched.setattr(HttpTransport, "send", noted)
            assert await asyncio.to_thread(crawl, run, tuning=tuning) == "complete"
            rows = [row[0] for row in run.read().rows]
        await runner.cleanup()
        return rows

    return asyncio.run(crawled()), asked, most


HOSTS = [f"127.0.{n // 50 + 1}.{n % 50 + 1}" for n in range(80)]


@pytest.mark.parametrize("many", [10, 1000])
def test_of_many_hosts_each_is_asked_at_its_own_pace(tmp_path: Path, many: int) -> None:
    """With hosts looked at all together, and one by one."""
    rows, asked, most = _many_hosts(tmp_path, [f"{host}/l1" for host in HOSTS], "500ms", Tuning(many))
    assert rows == [f"{host} {number}" for host in HOSTS for number in (1, 2, 3)]
    assert 2 <= most <= 8
    for host in HOSTS:
        assert all(late - early >= 0.49 for early, late in pairwise(at for at, one in asked if one == host))
    # Hosts that pause hold up nobody: with eight places the ninth request would be the second one to some host.
    assert len({host for _, host in asked[:16]}) == 16


@pytest.mark.parametrize("many", [10, 1000])
def test_a_host_with_much_to_ask_for_hides_no_others(tmp_path: Path, many: int) -> None:
    starts = [f"{HOSTS[0]}/l3?{n}" for n in range(12)] + [f"{host}/l3" for host in HOSTS[1:20]]
    rows, asked, _ = _many_hosts(tmp_path, starts, "300ms", Tuning(many, waiting_for_each=1))
    assert len(rows) == 31
    assert len({host for _, host in asked[:8]}) == 8
