"""Proxies: which is next, which rest and are withdrawn; real crawls through stand-ins of both kinds; log-ins stay secret."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from conftest import Program, serving
from small_host import SmallHost, items, plan_of
from wadi.demo.proxies import StandInProxy, proxies
from wadi.plan.reader import parse_plan
from wadi.problems import PlanError
from wadi.web.routes import BadRoute, Routes, checked


def test_routes_take_turns_rest_and_are_withdrawn() -> None:
    routes = Routes(3, "request", 60.0)
    assert [routes.choose(0.0) for _ in range(4)] == [0, 1, 2, 0]
    routes.failed(1, 0.0)
    assert [routes.choose(1.0) for _ in range(3)] == [2, 0, 2]
    assert [routes.choose(61.0) for _ in range(3)] == [0, 1, 2]
    routes.failed(1, 61.0)
    routes.failed(1, 61.0)
    assert routes.withdrawn() == [1]
    assert 1 not in {routes.choose(1000.0) for _ in range(6)}
    for route in (0, 2):
        routes.failed(route, 1000.0)
    assert routes.choose(1001.0) is None


def test_a_session_keeps_its_route_until_that_fails() -> None:
    routes = Routes(2, "session", 60.0)
    assert [routes.choose(0.0) for _ in range(3)] == [0, 0, 0]
    routes.failed(0, 0.0)
    assert [routes.choose(1.0) for _ in range(2)] == [1, 1]
    routes.succeeded(1)
    assert routes.choose(100.0) == 1


@pytest.mark.parametrize("route", ["", "h:80", "ftp://h:1", "http://h", "socks5://:1", "http://u:hidden@h:port"])
def test_what_is_no_route(route: str) -> None:
    with pytest.raises(BadRoute) as caught:
        checked(route)
    assert "hidden" not in str(caught.value)


def test_a_log_in_of_a_proxy_does_not_stand_in_a_plan() -> None:
    plan = 'wadi = 1\n[start]\npage = "p"\naddresses = "http://h/"\n[manners]\nroutes = ["ROUTE"]\n[page.p]\ntable = "t"\nfields = { x = "b" }\n'
    for route, code in (("http://u:w@h:80", "secret-in-plan"), ("h", "bad-route")):
        with pytest.raises(PlanError, match=code):
            parse_plan(plan.replace("ROUTE", route), "p.toml")


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


PLAN = """[start]
page = "list"
addresses = ["{+site}/l1"]
[page.list]
rows = "li"
table = "t"
next = "a"
fields = { name = "." }
"""


@pytest.mark.parametrize("kind", ["http", "socks5"])
@pytest.mark.parametrize("login", [None, "office:opensesame"])
def test_a_crawl_goes_through_proxies_in_turn_and_around_broken_ones(
    program: Program, kind: str, login: str | None
) -> None:
    pages = {f"/l{n}": items(f"r{n}", more=f"<a href=/l{n + 1}>n</a>" if n < 8 else "") for n in range(1, 9)}
    host = SmallHost(pages)
    good, other, broken = StandInProxy(kind, login), StandInProxy(kind, login), StandInProxy(kind, broken=True)
    with serving(host.application) as site, standing_in(good, other, broken) as addresses:
        plan_of(program.folder, PLAN)
        path = program.folder / "p.toml"
        text = path.read_text().replace("retries = 0", 'retries = 6\nroutes_from = "OFFICE_ROUTES"')
        path.write_text(text)
        assert program("run", "p.toml", "-i", f"site={site}").status == 2
        program.environment["OFFICE_ROUTES"] = " ".join(addresses)
        done = program("run", "p.toml", "-i", f"site={site}", "-o", "out.csv")
        assert done.status == 0, done.err
        assert (program.folder / "out.csv").read_text().split() == ["name", *(f"r{n}" for n in range(1, 9))]
        assert good.count > 0
        assert other.count > 0
        everything = b"".join(p.read_bytes() for p in Path(program.folder, "runs").rglob("*") if p.is_file())
        assert b"route_failed" in everything
        assert b"opensesame" not in everything
        assert "opensesame" not in done.err


def test_when_no_route_leads_anywhere_the_run_says_so(program: Program) -> None:
    with standing_in(StandInProxy(broken=True)) as addresses:
        plan_of(program.folder, PLAN)
        path = program.folder / "p.toml"
        path.write_text(path.read_text().replace("retries = 0", f'retries = 1\nroutes = ["{addresses[0]}"]'))
        done = program("run", "p.toml", "-i", "site=http://127.0.0.1:9")
        assert done.status == 3
        assert "[no-route]" in done.err or "[broken-off]" in done.err
