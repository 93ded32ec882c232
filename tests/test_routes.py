"""Proxies: which is next, which rest and are withdrawn; real crawls through stand-ins of both kinds; log-ins stay secret."""

from __future__ import annotations

from pathlib import Path

import pytest
from aiohttp import web

from conftest import Program, serving
from small_host import HEAD, Page, SmallHost, items, list_plan, plan_of, standing_in
from wadi.demo.proxies import StandInProxy
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


PLAN = list_plan(start='"{+site}/l1"', page='next = "a"')


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
        assert program.inside("run", "p.toml", "-i", f"site={site}").status == 2
        program.environment["OFFICE_ROUTES"] = " ".join(addresses)
        done = program.inside("run", "p.toml", "-i", f"site={site}", "-o", "out.csv")
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
        done = program.inside("run", "p.toml", "-i", "site=http://127.0.0.1:9")
        assert done.status == 3
        assert "[no-route]" in done.err or "[broken-off]" in done.err


REGIONAL = """[start]
page = "list"
addresses = ["{+site}/l"]
[page.list]
rows = "li"
table = "t"
next = "a.next"
open = { one = "b a" }
[page.list.fields]
region = { from = "route" }
name = "i"
[page.one]
completes = "t"
fields = { price = "u" }
"""


def _regional(request: web.Request, body: str) -> Page:
    """A site that says another thing to each region, and links within it."""
    region = {"127.0.0.2": "north", "127.0.0.3": "south"}.get(request.remote or "", "nowhere")
    if request.path == "/one":
        return f"<u>{region} price</u>"
    second = "" if request.path == "/l2" else "<a class=next href=/l2>"
    return items(f"<i>{region} {request.path}</i><b><a href=/one>x</a></b>", more=second)


REGIONAL_PAGES = {"/l": _regional, "/l2": _regional, "/one": _regional}
ROWS = {name: [[name, f"{name} {path}", f"{name} price"] for path in ("/l", "/l2")] for name in ("north", "south")}


def _regions(program: Program, site: str, routes: str) -> None:
    plan_of(program.folder, REGIONAL, site, manners=f"routes = {{ {routes} }}")
    path = program.folder / "p.toml"
    path.write_text(path.read_text().replace("http://h", site))


def _cells(text: str) -> list[list[str]]:
    return [line.split(",") for line in text.splitlines()[1:]]


@pytest.mark.parametrize("kind", ["http", "socks5"])
def test_a_plan_reads_a_site_as_each_region_sees_it(program: Program, kind: str) -> None:
    proxies = (StandInProxy(kind, region="127.0.0.2"), StandInProxy(kind, "office:opensesame", region="127.0.0.3"))
    with serving(SmallHost(REGIONAL_PAGES).application) as site, standing_in(*proxies) as (north, south):
        program.environment["SOUTH"] = south
        _regions(program, site, f'north = "{north}", south = {{ secret_from = "SOUTH" }}')
        done = program.inside("run", "p.toml", "-o", "all.csv")
        assert done.status == 0, done.err
        assert _cells((program.folder / "all.csv").read_text()) == [*ROWS["north"], *ROWS["south"]]
        done = program.inside("run", "p.toml", "--route", "south", "-o", "south.csv")
        assert done.status == 0, done.err
        assert _cells((program.folder / "south.csv").read_text()) == ROWS["south"]
        assert "south price" in program.inside("preview", "p.toml", "--route", "south").out
        assert program.inside("export", "p", "--table", "pages", "-o", "pages.csv").status == 0
        assert {row[-2] for row in _cells((program.folder / "pages.csv").read_text())} == {"south"}
        reread = program.inside("reparse", "p", "-o", "again.csv")
        assert (program.folder / "again.csv").read_text() == (program.folder / "south.csv").read_text(), reread.err
        everything = b"".join(p.read_bytes() for p in Path(program.folder, "runs").rglob("*") if p.is_file())
        assert b"opensesame" not in everything


def test_a_run_that_was_cut_off_goes_on_by_the_same_routes(program: Program) -> None:
    proxies = (StandInProxy(region="127.0.0.2"), StandInProxy(region="127.0.0.3"))
    with serving(SmallHost(REGIONAL_PAGES).application) as site, standing_in(*proxies) as (north, south):
        _regions(program, site, f'north = "{north}", south = "{south}"')
        for option, rows in ((("--route", "south"), ROWS["south"]), ((), [*ROWS["north"], *ROWS["south"]])):
            program.inside("run", "p.toml", "--pages", "1", *option)
            assert program.inside("resume", "-o", "out.csv").status == 0
            assert _cells((program.folder / "out.csv").read_text()) == rows


def test_a_region_that_nobody_leads_to_does_not_end_the_others(program: Program) -> None:
    with (
        serving(SmallHost(REGIONAL_PAGES).application) as site,
        standing_in(StandInProxy(region="127.0.0.3")) as (south,),
    ):
        _regions(program, site, f'north = "http://127.0.0.1:9", south = "{south}"')
        done = program.inside("run", "p.toml", "-o", "out.csv")
        assert done.status == 1
        assert _cells((program.folder / "out.csv").read_text()) == ROWS["south"]
        assert "the proxy: " in done.err


@pytest.mark.parametrize(
    ("routes", "option", "said"),
    [
        ('north = "127.0.0.1:80"', (), "a proxy is written http://HOST:PORT"),
        ('north = "http://me:SECRET@p:80"', (), "a proxy's log-in does not belong in a plan"),
        ('north = { secret_from = "NORTH" }', (), 'route "north" of the environment variable NORTH'),
        ('north = "http://127.0.0.1:9"', ("--route", "nort"), 'the plan has no route "nort"'),
    ],
)
def test_routes_that_cannot_be_gone_are_told(program: Program, routes: str, option: tuple[str, ...], said: str) -> None:
    path = program.folder / "p.toml"
    path.write_text(HEAD.replace("[manners]\n", f"[manners]\nroutes = {{ {routes} }}\n") + REGIONAL)
    done = program.inside("run", "p.toml", *option)
    assert done.status == 2
    assert said in done.err
    assert "SECRET" not in done.err
