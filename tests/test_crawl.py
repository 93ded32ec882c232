"""From stored pages to rows and links, and from a small host to tables: extract, order, limits, duplicates, failures."""

from __future__ import annotations

import random
import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from typing import Any

import pytest
from aiohttp import web

import wadi
from conftest import serving
from small_host import SmallHost, items, list_plan, plan_of
from wadi.actions.begin import begin
from wadi.actions.crawl import crawl
from wadi.actions.export import export
from wadi.actions.run import Run
from wadi.crawl.events import Event, HostGivenUp, PageFailed, Sent
from wadi.crawl.extract import Extract, extract
from wadi.crawl.kinds import compile_kinds
from wadi.crawl.task import Tuning
from wadi.plan.reader import parse_plan, with_limits
from wadi.problems import PlanError
from wadi.store.archive import Archive, DamagedRecord, Location, read_reply
from wadi.store.outcome import Link, Outcome, Role, State, TableRows
from wadi.store.state import RunState
from wadi.web.messages import Reply, Request

HEAD = 'wadi = 1\n[start]\npage = "list"\naddresses = "http://h/list"\n[page.list]\n'


def _extract(page: str, plan: str, *, url: str = "http://h/list", content_type: str = "text/html") -> Extract:
    loaded = parse_plan(HEAD + plan, "p.toml")
    kinds = compile_kinds(loaded.plan, this_year=2026)
    headers = (("Content-Type", content_type), ("X-Area", "north"))
    reply = Reply(Request(url), url, 200, headers, page.encode(), 0.0)
    return extract(reply, kinds["list"], kinds, "p.toml:6")


LIST = """<base href="/sub/"><h1>Springs</h1><ul>
<li id=a><b>Ash</b> <i>1,5 l/s</i> <u>3</u><u>4</u> <a href="x/1">more</a></li>
<li id=b><b> Elm\u00a0Pool </b> <i>—</i> <a href="/x/2#top">more</a></li>
<li id=c><b></b> <i>lots</i> <u>5</u></li></ul>"""


@pytest.mark.parametrize(
    ("field", "wanted"),
    [
        ('"b"', ["Ash", "Elm Pool", None]),
        ('["s", "b"]', ["Ash", "Elm Pool", None]),
        ('{ at = ".", attr = "id" }', ["a", "b", "c"]),
        ('{ at = "b", default = "none" }', ["Ash", "Elm Pool", "none"]),
        ('{ at = "b", missing = [] }', ["Ash", "Elm Pool", ""]),
        ('{ at = "i", type = "number", locale = "fr", unit = "l/s", default = 0 }', [1.5, 0, None]),
        ('{ at = "u", type = "integer" }', [3, None, 5]),
        ('{ at = "u", many = true, type = "integer" }', [[3, 4], [], [5]]),
        ('{ at = "a", attr = "href", type = "url" }', ["http://h/sub/x/1", "http://h/x/2#top", None]),
        ('{ at = "count(.//u)", type = "integer" }', [2, 0, 1]),
        ('{ at = "xpath:a/@title" }', [None, None, None]),
        ('{ at = ".//a/@href" }', ["x/1", "/x/2#top", None]),
        ('{ at = "h1", from = "page" }', ["Springs"] * 3),
        ('{ from = "url", find = "h/(.*)" }', ["list"] * 3),
        ('{ from = "header.X-Area" }', ["north"] * 3),
        ('{ at = "b", take = "html" }', ["<b>Ash</b>", "<b> Elm&nbsp;Pool </b>", "<b></b>"]),
        ('{ at = ".", take = "direct text" }', [None, None, None]),
        ('{ at = "b", map = { Ash = "1" }, else = "2" }', ["1", "2", None]),
    ],
)
def test_fields_pick_from_their_row(field: str, wanted: list[Any]) -> None:
    found = _extract(LIST, f'rows = "li"\ntable = "t"\n[page.list.fields]\nx = {field}')
    assert [row[0] for row in found.tables[0].rows] == wanted


def test_what_cannot_be_read_is_kept_and_several_matches_are_counted() -> None:
    found = _extract(
        LIST, 'rows = "li"\ntable = "t"\n[page.list.fields]\nx = { at = "i", type = "number", locale = "fr" }\ny = "u"'
    )
    (rows,) = found.tables
    assert [(p.row, p.column, p.raw, p.code) for p in rows.problems] == [
        (0, "x", "1,5 l/s", "not-a-number"),
        (2, "x", "lots", "not-a-number"),
    ]
    assert rows.several == {"y": 1}


@pytest.mark.parametrize(
    ("page", "plan", "code"),
    [
        ("<p>Please wait</p>", 'expect = "ul"\nrows = "li"', "not-the-page"),
        ("", 'rows = "li"', "wrong-kind"),
        ("<!-- -->", 'rows = "li"', "wrong-kind"),
    ],
)
def test_a_page_that_is_none_is_a_failure_and_never_no_rows(page: str, plan: str, code: str) -> None:
    found = _extract(page, plan + '\ntable = "t"\n[page.list.fields]\nx = "b"')
    assert found.failure is not None
    assert (found.failure.code, found.tables, found.links) == (code, (), ())


CARRIED = """<!doctype html><title>Wells</title><div id=app></div><a class=older href="?page=2">Older</a>
<script>window.LIST = {"total": 54, "wells": [{"code": "MW-1", "depth": 3.5, "of": {"name": "Ash"}}, {"code": "MW-2", "depth": null}]};</script>
<script type="application/ld+json">{"@type": "ItemList", "itemListElement": [{"item": {"name": "Ash Well"}}, {"item": {"name": "Elm Well"}}]}</script>
<meta name=area content=north>"""
OF_STATE = 'rows = "$.state.LIST.wells[*]"\ntable = "t"\n{}\n[page.list.fields]\ncode = "$.code"\n'


@pytest.mark.parametrize(
    ("plan", "rows"),
    [
        (OF_STATE.format(""), [["MW-1"], ["MW-2"]]),
        (OF_STATE.format('expect = "#app"') + 'depth = { at = "$.depth", type = "number" }', [["MW-1", 3.5], ["MW-2", None]]),
        (OF_STATE.format("") + 'title = { from = "page", at = "title" }', [["MW-1", "Wells"], ["MW-2", "Wells"]]),
        (OF_STATE.format("") + 'n = { from = "page", at = "$.state.LIST.total" }', [["MW-1", "54"], ["MW-2", "54"]]),
        (OF_STATE.format("") + 'area = { from = "data", at = "$.meta.area" }', [["MW-1", "north"], ["MW-2", "north"]]),
        (OF_STATE.format("") + 'n = { from = "key" }', [["MW-1", "0"], ["MW-2", "1"]]),
        (OF_STATE.format("") + 'n = { from = "heading", at = "$.total" }', [["MW-1", "54"], ["MW-2", "54"]]),
        ('rows = "$.jsonld[*].itemListElement[*].item"\ntable = "t"\n[page.list.fields]\nname = "$.name"', [["Ash Well"], ["Elm Well"]]),
        ('table = "t"\n[page.list.fields]\ntitle = "title"\nstated = "$.state.LIST.total"', [["Wells", "54"]]),
        ('rows = "title"\ntable = "t"\ntotal = "$.state.LIST.total"\n[page.list.fields]\nx = "."', [["Wells"]]),
    ],
)  # fmt: skip
def test_rows_and_fields_of_the_data_that_a_page_carries(plan: str, rows: list[list[Any]]) -> None:
    found = _extract(CARRIED, plan)
    assert found.failure is None
    assert found.tables[0].rows == rows


def test_a_listing_of_carried_data_goes_on_in_the_page() -> None:
    found = _extract(CARRIED, OF_STATE.format('next = "a.older"\ntotal = "$.state.LIST.total"'))
    assert [link.request.url for link in found.links] == ["http://h/list?page=2"]
    assert (found.total, found.row_count) == (54, 2)


@pytest.mark.parametrize(
    ("page", "plan", "code"),
    [
        ("<title>Please wait</title>", OF_STATE.format(""), "wrong-kind"),
        ("<title>Please wait</title>", OF_STATE.format('expect = "$.state.LIST"'), "wrong-kind"),
        ("<title>Please wait</title><p>x", OF_STATE.format('expect = "#app"'), "not-the-page"),
        ('<script>window.LIST = {"wells": []};</script>', OF_STATE.format(""), "wrong-kind"),
        (CARRIED, OF_STATE.format("").replace("LIST", "LISTS"), "wrong-kind"),
        (CARRIED, 'table = "t"\n[page.list.fields]\nx = "$.items[0]"', "wrong-kind"),
    ],
)
def test_a_page_that_carries_nothing_of_it_is_a_failure(page: str, plan: str, code: str) -> None:
    found = _extract(page, plan)
    assert found.failure is not None
    assert (found.failure.code, found.tables) == (code, ())


@pytest.mark.parametrize(
    "field",
    ['{ from = "page", at = "$.state.LIST.total" }', '"re:total.: (\\\\d+)"', '{ from = "data", at = "$.meta.area" }'],
)
@pytest.mark.parametrize("rows", ['rows = "li"', ""])
def test_json_in_place_of_a_page_is_a_failure(rows: str, field: str) -> None:
    """Though some field could be read in it."""
    plan = f'{rows}\ntable = "t"\n[page.list.fields]\nx = "b"\ny = {field}'
    found = _extract('{"error": "later", "total": 5}', plan, content_type="application/json")
    assert found.failure is not None
    assert (found.failure.code, found.tables) == ("wrong-kind", ())


def test_an_empty_list_in_the_data_may_be_all_there_is() -> None:
    plan = OF_STATE.format("expect = '$.state.LIST'")
    found = _extract('<script>window.LIST = {"wells": []};</script>', plan)
    assert found.failure is None
    assert found.tables[0].rows == []


@pytest.mark.parametrize(
    ("plan", "told"),
    [
        (OF_STATE.format("") + 'x = "b"', '"b" reads HTML or XML, but'),
        ('rows = "li"\ntable = "t"\n[page.list.fields]\nx = "$.state.y"', r'"$.state.y" reads JSON, but "li"'),
        ('rows = "$.items[*]"\ntable = "t"\nnext = "a"\n[page.list.fields]\nx = "$.y"', '"a" reads HTML or XML, but'),
        ('rows = "li"\ntable = "t"\ntotal = "$.total"\n[page.list.fields]\nx = "b"', '"$.total" reads JSON, but'),
    ],
)
def test_lint_knows_the_data_of_a_page_from_json(plan: str, told: str) -> None:
    with pytest.raises(PlanError, match=re.escape(told)):
        _extract(CARRIED, plan)


def test_an_image_is_no_page_and_an_empty_listing_is_one() -> None:
    plan = 'expect = "ul"\nempty = "p.none"\nrows = "li"\ntable = "t"\n[page.list.fields]\nx = "b"'
    image = _extract("GIF89a", plan, content_type="image/gif")
    assert image.failure is not None
    assert image.failure.code == "wrong-kind"
    empty = _extract("<p class=none>Nothing</p>", plan)
    assert empty.failure is None
    assert empty.tables[0].rows == []


@pytest.mark.parametrize(
    ("page", "following", "wanted"),
    [
        ("<a class=n href=?p=2>x</a>", '"a.n"', "http://h/list?p=2"),
        ("<a href=?p=2>Newer</a><a href=?p=3> OLDER ›</a>", '{ at = "a", text = "Older" }', "http://h/list?p=3"),
        ("<a href=?p=2>Newer</a>", '{ at = "a", text = "Older" }', None),
        ("<a href=?p=2>x</a><i class=end></i>", '{ at = "a", end_at = "i.end" }', None),
        ("<a>x</a>", '"a"', None),
        ("<a href=?p=2 aria-disabled=true>x</a>", '"a"', None),
        ("<li class=disabled><a href=?p=2>x</a></li>", '"li"', None),
        ("<li><a href=?p=2>x</a></li>", '"li"', "http://h/list?p=2"),
        ("<link rel=next href=/two>", "\"//link[@rel='next']/@href\"", "http://h/two"),
        ("<a href=?p=2#rows>x</a>", '["b", "a"]', "http://h/list?p=2"),
        ("<a href=?p=1&amp;s=%2F>x</a>", '"a"', "http://h/list?p=1&s=%2F"),
    ],
)
def test_how_a_listing_goes_on(page: str, following: str, wanted: str | None) -> None:
    found = _extract(f"<p>{page}</p>", f'table = "t"\nnext = {following}\n[page.list.fields]\nx = "b"')
    assert [link.request.url for link in found.links] == ([wanted] if wanted else [])


@pytest.mark.parametrize(
    ("url", "page", "following", "headers", "wanted"),
    [
        ("http://h/list", "<li>x", '{ count = { parameter = "page" } }', "", "http://h/list?page=4"),
        ("http://h/l?a=%2F&page=3&b", "<li>x", '{ count = { parameter = "page" } }', "", "http://h/l?a=%2F&page=4&b"),
        (
            "http://h/list?p[n]=9",
            "<li>x",
            '{ count = { parameter = "p[n]", first = 0, step = 30 } }',
            "",
            "http://h/list?p[n]=90",
        ),
        ("http://h/list", "<p>no rows", '{ count = { parameter = "page" } }', "", None),
        ("http://h/list", "<li>x", '{ rel = "next" }', '<a>; rel=prev, <b?x=1>; rel="nofollow next"', "http://h/b?x=1"),
        ("http://h/list", "<li>x<a rel=next href=c>", '{ rel = "next" }', "", "http://h/c"),
        ("http://h/list", "<li>x", '{ rel = "next" }', "", None),
        (
            "http://h/list?q=1",
            "<li>x<i>t o&k</i>",
            '{ send = { token = "i" } }',
            "",
            "http://h/list?q=1&token=t%20o%26k",
        ),
        ("http://h/list", "<li>x<i></i>", '{ send = { token = "i" } }', "", None),
        ("http://h/list?token=a", "<li>x<i>a</i>", '{ send = { token = "i" } }', "", "page-again"),
        ("http://h/list", "<li>x<i>yes</i><a href=n>", '{ at = "a", end_unless = "i" }', "", "http://h/n"),
        ("http://h/list", "<li>x<i>false</i><a href=n>", '{ at = "a", end_unless = "i" }', "", None),
        ("http://h/list", "<li>x<a href=n>", '{ at = "a", end_unless = "i" }', "", None),
    ],
)
def test_other_ways_in_which_a_listing_goes_on(
    url: str, page: str, following: str, headers: str, wanted: str | None
) -> None:
    plan = f'rows = "li"\ntable = "t"\nnext = {following}\n[page.list.fields]\nx = "."'
    kinds = compile_kinds(parse_plan(HEAD + plan, "p.toml").plan, this_year=2026)
    reply = Reply(Request(url), url, 200, (("Content-Type", "text/html"), ("Link", headers)), page.encode(), 0.0)
    found = extract(reply, kinds["list"], kinds, number=2)
    assert [link.request.url for link in found.links] + [note.code for note in found.notes] == (
        [wanted] if wanted else []
    )


@pytest.mark.parametrize(
    ("data", "following", "wanted"),
    [
        ('{"next": "/l?c=2", "rows": [1]}', '"$.next"', "http://h/l?c=2"),
        ('{"next": null, "rows": [1]}', '"$.next"', None),
        ('{"page": 7, "rows": [1]}', '{ send = { page = "$.page" } }', "http://h/list?page=7"),
        (
            '{"c": "a=", "more": true}',
            '{ send = { after = "$.c" }, end_unless = "$.more" }',
            "http://h/list?after=a%3D",
        ),
        ('{"c": "a=", "more": false}', '{ send = { after = "$.c" }, end_unless = "$.more" }', None),
    ],
)
def test_how_listings_in_json_go_on(data: str, following: str, wanted: str | None) -> None:
    plan = f'rows = "$.rows[*]"\ntable = "t"\nnext = {following}\n[page.list.fields]\nx = "$"'
    found = _extract(data, plan, content_type="application/json")
    assert [link.request.url for link in found.links] == ([wanted] if wanted else [])


@pytest.mark.parametrize(
    ("href", "code"), [("/list#more", "page-again"), ("javascript:next()", "bad-link"), ("http://[", "bad-link")]
)
def test_a_next_link_that_leads_nowhere_is_noted(href: str, code: str) -> None:
    found = _extract(f"<a href='{href}'>x</a>", 'table = "t"\nnext = "a"\n[page.list.fields]\nx = "b"')
    assert (found.links, [note.code for note in found.notes]) == ((), [code])


def test_links_are_opened_from_rows_or_from_the_page_and_filtered() -> None:
    plan = """rows = "li"\ntable = "t"\n[page.list.fields]\nx = "b"
[page.list.open]\ndetail = { at = "a", skip = "*/2" }\nother = { at = "a", only = ["*/sub/*"] }
[page.detail]\ncompletes = "t"\n[page.detail.fields]\ny = "p"
[page.other]\ntable = "o"\n[page.other.fields]\nz = "p"\n"""
    found = _extract(LIST, plan)
    shown = [(link.kind, link.row, link.place, link.request.url, link.text) for link in found.links]
    assert shown == [
        ("detail", 0, 0, "http://h/sub/x/1", "more"),
        ("other", None, 1, "http://h/sub/x/1", "more"),
    ]


@pytest.mark.parametrize(
    ("hosts", "opened"),
    [("[]", ["http://h/a"]), ('["o"]', ["http://h/a", "http://o:81/b"]), ('"o:81"', ["http://h/a", "http://o:81/b"]),
     ('"*"', ["http://h/a", "http://o:81/b", "https://h/c"])],
)  # fmt: skip
def test_other_hosts_are_opened_only_by_name(hosts: str, opened: list[str]) -> None:
    plan = f'table = "t"\n[page.list.fields]\nx = "b"\n[page.list.open]\nd = {{ at = "a", hosts = {hosts} }}\n[page.d]\ntable = "d"\n[page.d.fields]\ny = "p"'
    found = _extract("<a href=/a>1</a><a href=http://o:81/b>2</a><a href=https://h/c>3</a>", plan)
    assert [link.request.url for link in found.links] == opened
    assert [note.code for note in found.notes] == ([] if len(opened) == 3 else ["other-host"])


def test_a_stated_total_is_read() -> None:
    plan = 'table = "t"\ntotal = { at = "p", find = "of ([\\\\d,]+)", locale = "en" }\n[page.list.fields]\nx = "b"'
    assert _extract("<p>1–30 of 1,354</p>", plan).total == 1354
    assert _extract("<p>many</p>", plan).total is None


# -- the store


def test_what_is_archived_comes_back(tmp_path: Path) -> None:
    archive = Archive(tmp_path, software="Wadi/test")
    first = Reply(
        Request("http://h/é"),
        "http://h/%C3%A9",
        200,
        (("Content-Type", "text/html"), ("Set-Cookie", "s=1")),
        b"a\r\n\r\nb",
        12.5,
    )
    second = Reply(Request("http://h/2"), "http://h/2", 404, (), b"", 13.0)
    places = [archive.append(reply).location for reply in (first, second)]
    archive.close()
    again = read_reply(tmp_path, places[0])
    assert (again.url, again.status, again.body, again.started_at) == ("http://h/%C3%A9", 200, b"a\r\n\r\nb", 12.5)
    assert "s=1" not in again.header("set-cookie")
    assert read_reply(tmp_path, places[1]).status == 404
    with pytest.raises(DamagedRecord):
        read_reply(tmp_path, Location(places[0].file, places[0].offset + 1, places[0].length))
    Archive(tmp_path, software="Wadi/test").close()
    assert sorted(path.name for path in tmp_path.iterdir()) == ["00001.warc.gz", "00002.warc.gz"]


def test_a_failing_commit_leaves_nothing_behind(tmp_path: Path) -> None:
    with RunState.create(tmp_path / "run.sqlite") as state:
        state.add_starts([("list", Request("http://h/"), {})])
        good = Outcome(1, links=(Link(Role.NEXT, 0, "list", Request("http://h/2")),))
        bad = Outcome(1, tables=(TableRows("t", ("x",), [[object()]]),))
        with pytest.raises(TypeError):
            state.commit([good, bad])
        assert state.counts() == {State.WAITING: 1, State.DONE: 0, State.FAILED: 0}
        assert state.commit([good]).pages == 1


# -- whole runs over a small host


PLAN = """
wadi = 1
[inputs]
site = "x"
area = "north"
[start]
page = "list"
addresses = ["{+site}/list/1"]
[manners]
pause = 0
parallel = 3
retries = 0
first_wait = "0s"
rest = "0s"
slowest = "0s"
[page.list]
rows = "li"
table = "springs"
next = "a.next"
[page.list.fields]
code = { at = "b", required = true }
area = { from = "input.area" }
[page.list.open]
spring = "a.more"
[page.spring]
expect = "dl"
completes = "springs"
[page.spring.fields]
depth = { at = "dd", type = "integer" }
seen  = { from = "link" }
[table.springs]
key = "code"
"""


def _host(
    pages: int = 4, rows: int = 5, broken: frozenset[str] = frozenset(), jitter: int | None = None
) -> Callable[[], Any]:
    """Listing pages 1 to `pages`, each with springs and their details; the last code of a page comes again on the next."""
    rng = random.Random(jitter)

    async def answer(request: web.Request) -> web.Response:
        import asyncio

        if jitter is not None:
            await asyncio.sleep(rng.random() * 0.02)
        kind, number = request.match_info["kind"], int(request.match_info["number"])
        if request.path in broken:
            return web.Response(status=500 if kind == "list" else 404)
        if kind == "spring":
            return web.Response(text=f"<dl><dd>{number * 10}</dl>", content_type="text/html")
        first = (number - 1) * (rows - 1)
        items = [
            f"<li><b>S{n}</b><a class=more href=/spring/{n}>to {n}</a>" if n % 7 else "<li>no code"
            for n in range(first, first + rows)
        ]
        following = f"<a class=next href=/list/{number + 1}>next</a>" if number < pages else ""
        return web.Response(text=f"<ul>{''.join(items)}</ul>{following}", content_type="text/html")

    def application() -> web.Application:
        app = web.Application()
        app.router.add_get("/{kind}/{number}", answer)
        return app

    return application


@contextmanager
def _run(tmp_path: Path, host: Callable[[], Any], plan: str = PLAN, **limits: int) -> Iterator[tuple[Run, list[Event]]]:
    events: list[Event] = []
    with serving(host) as site:
        loaded = with_limits(parse_plan(plan, "p.toml", {"site": site}), **limits)
        with begin(loaded, tmp_path / "runs", now=datetime(2026, 11, 3, 9, 14)) as run:  # noqa: DTZ001
            crawl(run, events.append)
            yield run, events


def _codes(run: Run) -> list[Any]:
    return [row[0] for row in run.read().rows]


ALL = [f"S{n}" for n in range(17) if n % 7]


def test_a_run_gives_every_record_once_in_reading_order_and_completed(tmp_path: Path) -> None:
    with _run(tmp_path, _host(jitter=1)) as (run, _):
        table = run.read()
        assert [row[0] for row in table.rows] == ALL
        assert all(row[2] == int(row[0][1:]) * 10 for row in table.rows)
        assert {row[1] for row in table.rows} == {"north"}
        assert (table.ledger.duplicates, table.ledger.rejected, run.end) == (3, 3, "complete")
        assert run.table().dtypes.astype(str).to_dict()["depth"] == "Int64"


@pytest.mark.parametrize("jitter", [2, 3])
def test_the_order_of_replies_makes_no_difference(tmp_path: Path, jitter: int) -> None:
    with _run(tmp_path / "a", _host()) as (calm, _), _run(tmp_path / "b", _host(jitter=jitter)) as (shaken, _):
        export(calm, tmp_path / "a.csv")
        export(shaken, tmp_path / "b.csv")
    assert (tmp_path / "a.csv").read_bytes() == (tmp_path / "b.csv").read_bytes()


@pytest.mark.parametrize("rows", [1, 4, 5, 9])
def test_a_rows_limit_gives_exactly_the_first_and_stops_early(tmp_path: Path, rows: int) -> None:
    with _run(tmp_path, _host(pages=8, jitter=rows), rows=rows) as (run, events):
        table = run.read()
        assert [row[0] for row in table.rows] == [f"S{n}" for n in range(40) if n % 7][:rows]
        assert all(row[2] is not None for row in table.rows)
        assert run.end == "rows limit"
        assert sum(isinstance(event, Sent) for event in events) <= rows * 2 + 6


@pytest.mark.parametrize("pages", [1, 3, 6, 8])
def test_a_pages_limit_takes_the_first_in_reading_order(tmp_path: Path, pages: int) -> None:
    with _run(tmp_path, _host(jitter=pages), pages=pages) as (run, events):
        sent = [event.url.partition("//")[2].partition("/")[2] for event in events if isinstance(event, Sent)]
        wanted = ["list/1", "spring/1", "spring/2", "spring/3", "spring/4", "list/2", "spring/5", "spring/6"]
        assert sorted(sent) == sorted(wanted[:pages])
        assert run.end == "pages limit"


def test_a_failed_detail_keeps_its_row_and_a_failed_listing_is_told(tmp_path: Path) -> None:
    with _run(tmp_path, _host(broken=frozenset({"/spring/2", "/list/3"}))) as (run, events):
        table = run.read()
        assert [row[0] for row in table.rows] == [f"S{n}" for n in range(9) if n % 7]
        assert [row[0] for row in table.rows if row[2] is None] == ["S2"]
        assert table.ledger.incomplete == 1
        assert [event.problem.code for event in events if isinstance(event, PageFailed)] == ["http-status"] * 2
        assert run.pages()[State.FAILED] == 2


@pytest.mark.parametrize(("duplicates", "count"), [("first", 14), ("last", 14), ("merge", 14), ("all", 17)])
def test_duplicates_are_taken_as_the_plan_says(tmp_path: Path, duplicates: str, count: int) -> None:
    plan = PLAN.replace('key = "code"', f'key = "code"\nduplicates = "{duplicates}"')
    with _run(tmp_path, _host(), plan) as (run, _):
        assert len(_codes(run)) == count
        assert sorted(set(_codes(run))) == sorted(ALL)


def test_a_status_can_be_the_end_of_a_listing_and_a_circle_is_noticed(tmp_path: Path) -> None:
    async def answer(request: web.Request) -> web.Response:
        number = int(request.query.get("page", "1"))
        if request.path == "/counted":
            return (
                web.Response(status=404)
                if number > 3
                else web.Response(text=f"<li>S{number}", content_type="text/html")
            )
        return web.Response(text=f"<li>S{number}<a href=?page={number % 3 + 1}>on</a>", content_type="text/html")

    def host() -> web.Application:
        app = web.Application()
        app.router.add_get("/{way}", answer)
        return app

    plan = """wadi = 1\n[inputs]\nsite = "x"\n[start]\npage = "l"\naddresses = "{+site}/WAY?page=1"\n[manners]\npause = 0
[page.l]\nrows = "li"\ntable = "t"\nnext = NEXT\n[page.l.fields]\nx = { at = ".", take = "direct text" }\n"""
    counted = plan.replace("WAY", "counted").replace("NEXT", '{ count = { parameter = "page" }, end_status = 404 }')
    with _run(tmp_path / "a", host, counted) as (run, _):
        assert _codes(run) == ["S1", "S2", "S3"]
        assert (run.end, run.pages()[State.FAILED]) == ("complete", 0)
    with _run(tmp_path / "b", host, plan.replace("WAY", "round").replace("NEXT", '"a"')) as (run, _):
        assert _codes(run) == ["S1", "S2", "S3"]
        assert [note["code"] for _, note in run.state.notes()] == ["page-again"]


def test_the_links_text_is_filled_in_by_route(tmp_path: Path) -> None:
    plan = PLAN.replace(
        '[page.list.open]\nspring = "a.more"', '[page.list.open]\nspring = { at = "a.more", scope = "page" }'
    ).replace('completes = "springs"', 'table = "details"')
    with _run(tmp_path, _host(pages=2), plan) as (run, _):
        details = run.read("details")
        assert details.rows[:2] == [[10, "to 1"], [20, "to 2"]]
        with pytest.raises(wadi.WadiError, match='no table "wells"'):
            run.read("wells")


def test_a_host_that_is_not_there_is_given_up(tmp_path: Path) -> None:
    addresses = ", ".join(f'"http://127.0.0.1:1/{n}"' for n in range(9))
    loaded = parse_plan(PLAN.replace('"{+site}/list/1"', addresses).replace('site = "x"\n', ""), "p.toml")
    events: list[Event] = []
    with begin(loaded, tmp_path) as run:
        assert crawl(run, events.append).value == "host unreachable"
        assert run.pages()[State.WAITING] >= 1
    assert sum(isinstance(event, HostGivenUp) for event in events) == 1


def test_the_library_works_inside_a_running_event_loop(tmp_path: Path) -> None:
    import asyncio

    async def notebook(site: str) -> int:
        run = wadi.run(parse_plan(PLAN, "p.toml", {"site": site}), runs=tmp_path)
        return len(run.table("springs"))

    with serving(_host(pages=2)) as site:
        assert asyncio.run(notebook(site)) == len([n for n in range(9) if n % 7])
        assert len(wadi.open_run("p", runs=tmp_path).table()) == len([n for n in range(9) if n % 7])


@pytest.mark.parametrize(
    "tuning",
    [Tuning(), Tuning(many_hosts=0, most_read=0, many_links=0), Tuning(most_read=1, many_links=2, worth_workers=1)],
)
def test_every_window_gives_the_same_rows(tmp_path: Path, tuning: Tuning) -> None:
    pages: dict[str, Any] = {
        f"/l?p={p}": items(
            *(f"<b>r{p}-{n}</b><a href='/d{p}-{n}'>d</a>" for n in range(7)),
            more=f"<a class=n href='/l?p={p + 1}'>n</a>" * (p < 4),
        )
        for p in range(5)
    }
    pages |= {f"/d{p}-{n}": f"<h1>{p * 7 + n}</h1>" for p in range(5) for n in range(7)}
    plan = list_plan('name = "b"', page='next = "a.n"\nopen = { d = { at = "a:not(.n)", scope = "row" } }', start='"{+site}/l?p=0"',
                     more='[page.d]\ncompletes = "t"\n[page.d.fields]\nheight = "h1"\n')  # fmt: skip
    host = SmallHost(pages)
    with serving(host.application) as site, begin(plan_of(tmp_path, plan, site), tmp_path / "runs") as run:
        assert crawl(run, tuning=tuning) == "complete"
        assert run.read().rows == [[f"r{p}-{n}", str(p * 7 + n)] for p in range(5) for n in range(7)]
    assert len(host.asked) == len(set(host.asked)) == 40
