"""How listings go on and end: what sites do past the end, loops, splitting, limits, order."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from aiohttp import web

from small_host import crawled, items, list_plan

COUNT = 'count = { parameter = "page" }'


def _plan(following: str, extra: str = "") -> str:
    return list_plan(page=f"{extra}\n[page.list.next]\n{following}")


def _two(past: Any) -> dict[str, Any]:
    """Two pages of a counted listing, and what stands past its end."""
    return {"/l": items("a", "b"), "/l?page=2": items("c"), "/l?page=3": past}


@pytest.mark.parametrize(
    ("past", "following", "extra", "notes", "failures", "asked"),
    [
        (items(), COUNT, "", [], [], 3),
        (items("c"), COUNT, "", ["rows-again"], [], 3),
        (items("a", "b"), COUNT, "", ["rows-again"], [], 3),
        ((302, {"Location": "/l"}, ""), COUNT, "", ["rows-again"], [], 4),
        ((404, {}, "gone"), f"{COUNT}\nend_status = 404", "", [], [], 3),
        ((410, {}, "gone"), f"{COUNT}\nend_status = [404, 410]", "", [], [], 3),
        ((404, {}, "gone"), COUNT, "", [], ["http-status"], 3),
        ("<p class=sorry>No such page", COUNT, 'expect = "ul"\nempty = "p.sorry"', [], [], 3),
        ("<p class=sorry>Try again", COUNT, 'expect = "ul"', [], ["not-the-page"], 3),
        (items("b", "a"), f'{COUNT}\nend_when = "no new rows"', "", [], [], 3),
        (items("c", "a"), COUNT + "\nmost = 3", "", ["listing-too-long", "listing-shifted"], [], 3),
    ],
)
def test_what_sites_do_past_the_end(
    tmp_path: Path, past: Any, following: str, extra: str, notes: list[str], failures: list[str], asked: int
) -> None:
    with crawled(tmp_path, _two(past), _plan(following, extra) + '[table.t]\nkey = "name"\n') as done:
        assert [row[0] for row in done.rows()] == ["a", "b", "c"]
        assert (done.notes, done.failures, len(done.host.asked)) == (notes, failures, asked)


@pytest.mark.parametrize(
    ("following", "extra", "pages", "wanted"),
    [
        ('end_when = "total"', 'total = "b"', {"/l": items(1, 2, more="<b>3</b>"), "/l?page=2": items(3, more="<b>3</b>")}, 2),
        ('end_page = { at = "i", find = "\\\\d+$" }', "", {"/l": items(1, more="<i>page 1 of 2</i>"), "/l?page=2": items(2, more="<i>page 2 of 2</i>")}, 2),
        ('end_at = "i.end"', "", {"/l": items(1), "/l?page=2": items(2, more="<i class=end>")}, 2),
        ('end_unless = "i"', "", {"/l": items(1, more="<i>yes</i>"), "/l?page=2": items(2, more="<i>no</i>")}, 2),
    ],
)  # fmt: skip
def test_counted_listings_end_where_the_page_says_so(
    tmp_path: Path, following: str, extra: str, pages: dict[str, str], wanted: int
) -> None:
    with crawled(tmp_path, pages, _plan(f"{COUNT}\n{following}", extra)) as done:
        assert (len(done.host.asked), done.notes, done.failures) == (wanted, [], [])


def test_a_stated_total_does_not_overrule_a_link(tmp_path: Path) -> None:
    pages = {"/l": items("a", more="<b>1</b><a href=/l2>next</a>"), "/l2": items("b", more="<b>1</b>")}
    with crawled(tmp_path, pages, _plan('at = "a"', 'total = "b"')) as done:
        assert [row[0] for row in done.rows()] == ["a", "b"]
        assert done.run.state.listings() == [("list", f"{done.host.address}/l", 1, 2)]


@pytest.mark.parametrize(
    ("following", "second", "third"),
    [
        ('count = { parameter = "page", first = 0 }', "/l?page=1", "/l?page=2"),
        ('count = { parameter = "from", first = 0, step = "rows" }', "/l?from=2", "/l?from=3"),
        ('count = { parameter = "page" }\naddress = "/l/{page}"', "/l/2", "/l/3"),
        (
            'count = { parameter = "page" }\naddress = "/l/{page}"\nvalues = { size = 50 }',
            "/l/2?size=50",
            "/l/3?size=50",
        ),
        ('send = { n = { from = "header.Next-Page" } }', "/l?n=7", None),
        ("at = \"//span[@class='here']/following-sibling::a[1]\"", "/l?a;b=1&@p[x]=2", None),
        ('send = { after = { at = "li:last-child", find = "." } }', "/l?after=b", "/l?after=c"),
    ],
)
def test_requests_for_the_next_page(tmp_path: Path, following: str, second: str, third: str | None) -> None:
    links = '<a href="?page=1">1</a> <span class=here>1</span> <a href="?a;b=1&amp;@p[x]=2">2</a> <a href="?p=9">3</a>'
    pages = {"/l": (200, {"Next-Page": "7"}, items("a", "b", more=links)), second: items("c")}
    with crawled(tmp_path, pages, _plan(f"{following}\nend_status = 404")) as done:
        assert done.host.asked == [f"GET {path}" for path in ("/l", second, third) if path]


@pytest.mark.parametrize(
    ("following", "bodies"),
    [
        (f'{COUNT}\npost = "form"\naddress = "/more"\nvalues = {{ q = "a b" }}', ["q=a+b&page=2", "q=a+b&page=3"]),
        (f'{COUNT}\npost = "json"\naddress = "/more"', ['{"page":2}', '{"page":3}']),
        (
            'count = { parameter = "paging.page" }\npost = "json"\naddress = "/more"\nvalues = { paging = { size = 2 } }',
            ['{"paging":{"size":2,"page":2}}', '{"paging":{"size":2,"page":3}}'],
        ),
        (
            f'{COUNT}\npost = "form"\naddress = "/more"\nremember = {{ token = {{ at = "form", attr = "data-t" }} }}',
            ["token=x%261&page=2", "token=x%261&page=3"],
        ),
    ],
)
def test_bodies_that_are_counted_on(tmp_path: Path, following: str, bodies: list[str]) -> None:
    pages = {
        "/l": items("a", more='<form data-t="x&amp;1">'),
        "/more": lambda request, body: items("b") if body == bodies[0] else items(),
    }
    with crawled(tmp_path, pages, _plan(following)) as done:
        assert done.host.asked == ["GET /l", *(f"POST /more {body}" for body in bodies)]
        assert [row[0] for row in done.rows()] == ["a", "b"]


def test_header_fields_carry_what_the_page_says(tmp_path: Path) -> None:
    seen: list[tuple[str | None, str | None]] = []

    def answer(request: web.Request, body: str) -> str:
        seen.append((request.headers.get("X-Token"), request.headers.get("X-Requested-With")))
        return '{"rows": [{"n": 1}]}'

    plan = """[start]
page = "shell"
addresses = ["{+site}/l"]
[page.shell.open.data]
address = "/api{?q}"
send = { token = "re:token: '(\\\\w+)'", q = { at = "meta", attr = "content" } }
headers = { X-Token = "{token}", X-Requested-With = "XMLHttpRequest" }
[page.data]
rows = "$.rows[*]"
table = "t"
[page.data.fields]
n = "$.n"
"""
    pages = {"/l": "<meta name=q content='a b'><script>f({token: 'abc'})</script>", "/api?q=a%20b": answer}
    with crawled(tmp_path, pages, plan) as done:
        assert done.rows() == [["1"]]
        assert seen == [("abc", "XMLHttpRequest")]


@pytest.mark.parametrize(
    ("pages", "code", "rows"),
    [
        ({"/l": items("a", more="<a href=/l>n</a>")}, "page-again", ["a"]),
        ({"/l": items("a", more="<a href=/m>n</a>"), "/m": items("b", more="<a href=/l#x>n</a>")}, "page-again", ["a", "b"]),
        ({"/l": lambda request, _: items("a", more=f"<a href=/l?nonce={request.query.get('nonce', '')}1>n</a>")}, "rows-again", ["a"]),
        ({"/l": lambda request, _: items(more=f"<a href=/l?nonce={request.query.get('nonce', '')}1>n</a>")}, "rowless no-rows-again", []),
        ({"/l": lambda request, _: items(f"r{request.query_string}", more=f"<a href=/l?{request.query_string}1>n</a>")}, "listing-too-long", None),
    ],
)  # fmt: skip
def test_no_listing_is_endless(tmp_path: Path, pages: dict[str, Any], code: str, rows: list[str] | None) -> None:
    with crawled(tmp_path, pages, _plan('at = "a"\nmost = 20')) as done:
        assert done.notes == code.split()
        assert done.run.end == "complete"
        if rows is not None:
            assert [row[0] for row in done.rows()] == rows
        else:
            assert len(done.rows()) == 20


SPLIT = """area = ["n", "s"]
kind = ["x", "y"]
[start]
page = "list"
addresses = ["{+site}/l{?area,kind}"]
split = ["area", "kind"]
most = 2
[page.list]
rows = "li"
table = "t"
total = "b"
[page.list.fields]
name = "."
area = { from = "input.area" }
"""


def test_a_listing_too_long_is_split_and_what_stays_too_long_is_said(tmp_path: Path) -> None:
    pages = {
        "/l": items(1, 2, more="<b>6</b>"),
        "/l?area=n": items("n1", "n2", more="<b>2</b>"),
        "/l?area=s": items("s1", "s2", more="<b>4</b>"),
        "/l?area=s&kind=x": items("s1", more="<b>1</b>"),
        "/l?area=s&kind=y": items("s2", "s3", more="<b>3</b>"),
    }
    with crawled(tmp_path, pages, SPLIT) as done:
        assert done.rows() == [["n1", "n"], ["n2", "n"], ["s1", "s"], ["s2", "s"], ["s3", "s"]]
        assert done.notes == ["split", "split", "part-too-long"]
        stated = [(total, rows) for _, _, total, rows in done.run.state.listings()]
        assert stated == [(2, 2), (1, 1), (3, 2)]


def test_depth_is_the_shortest_way_whatever_order_pages_come_in(tmp_path: Path) -> None:
    plan = """[start]
page = "any"
addresses = ["{+site}/a"]
[page.any]
table = "t"
open = { any = "a" }
[page.any.fields]
url = { from = "url", find = "/(\\\\w+)$" }
"""
    # /e is three links away by /b, /c, /d, and found there first, but one by the last link of /a.
    links = {"a": "be", "b": "c", "c": "d", "d": "e", "e": "f", "f": "g", "g": ""}
    pages = {f"/{name}": "<p>" + "".join(f"<a href=/{one}>x</a>" for one in to) for name, to in links.items()}
    for depth, wanted in ((0, "a"), (1, "abe"), (2, "abcef"), (3, "abcdefg"), (9, "abcdefg")):
        with crawled(tmp_path / str(depth), pages, plan, depth=depth) as done:
            assert sorted(row[0] for row in done.rows()) == list(wanted)
            assert done.run.end == ("complete" if depth >= 3 else "depth limit")


def test_a_listing_that_shifts_while_it_is_read_is_noticed(tmp_path: Path) -> None:
    """A record is added after the first page was read: what was its last stands on the second again."""
    names = ["e", "d", "c", "b", "a"]

    def page(request: web.Request, body: str) -> str:
        number = int(request.path[2:] or 1)
        text = items(*names[(number - 1) * 2 : number * 2], more=f"<a href=/l{number + 1}>n</a>" if number < 3 else "")
        if number == 1:
            names.insert(0, "new")
        return text

    plan = _plan('at = "a"') + '[table.t]\nkey = "name"\n'
    with crawled(tmp_path, {"/l": page, "/l2": page, "/l3": page}, plan) as done:
        assert [row[0] for row in done.rows()] == ["e", "d", "c", "b", "a"]
        assert done.notes == ["listing-shifted"]
    steady = {"/l": items("a", "b", more="<a href=/l2>n</a>"), "/l2": items("c", "d")}
    with crawled(tmp_path, steady, plan) as done:
        assert done.notes == []


REREAD = """[start]
page = "list"
addresses = ["{+site}/l"]
[page.list]
rows = "li"
table = "t"
fields = { name = "." }
[page.list.next]
at = "a"
reread = true
"""


@pytest.mark.parametrize("taken_away", [None, "b", "d"])
def test_a_page_asked_for_once_more_tells_that_records_were_taken_away(tmp_path: Path, taken_away: str | None) -> None:
    names = list("abcdefgh")

    def page(number: int) -> Callable[[object, str], str]:
        def answer(request: object, body: str) -> str:
            part = names[number * 2 : number * 2 + 2]
            text = items(*part, more=f"<a href=/l{number + 1}>n</a>" if number < 2 else "")
            if number == 1 and taken_away in names:
                names.remove(taken_away)  # after the second page was read, before the third
            return text

        return answer

    with crawled(tmp_path, {"/l": page(0), "/l1": page(1), "/l2": page(2)}, REREAD) as done:
        rows = [row[0] for row in done.rows()]
        assert rows == (list("abcdef") if taken_away is None else list("abcdfg"))
        assert done.host.asked.count("GET /l") == done.host.asked.count("GET /l1") == 2
        assert done.host.asked.count("GET /l2") == 1
        assert set(done.notes) == (set() if taken_away is None else {"listing-shifted"})


def test_another_total_on_the_next_page_tells_that_the_listing_shifted(tmp_path: Path) -> None:
    plan = REREAD.replace("reread = true\n", "").replace('table = "t"', 'table = "t"\ntotal = "b"')
    pages = {"/l": items("a", more="<b>3</b><a href=/l1>n</a>"), "/l1": items("b", more="<b>2</b>")}
    with crawled(tmp_path, pages, plan) as done:
        assert done.notes == ["listing-shifted"]


@pytest.mark.parametrize(
    ("links", "text", "wanted", "codes"),
    [
        ("<a href=/x>Make the next page work</a><a href=/l2>Next ›</a>", "next", True, []),
        ("<a href=/x>Next steps</a><a href=/l2>» NEXT</a>", "next", True, []),
        ("<a href=/x>context</a><a href=/l2>Next page</a>", "next", True, []),
        ("<a href=/x>Make the next page work</a>", "next", False, ["no-next"]),
        ("<a href=/l2>Older</a><p><a href=/l2#top>older ›</a><a href='l2'>Older</a>", "Older", True, []),
        ("<a href=/l2>Next</a><a href=/x>next</a>", "next", True, ["several-next"]),
        ("<a class=disabled href=/x>Next</a><a href=/l2>Next 10</a>", "next", True, []),
    ],
)
def test_a_listing_goes_on_by_what_a_link_says(
    tmp_path: Path, links: str, text: str, wanted: bool, codes: list[str]
) -> None:
    host = {"/l": items("a", more=links), "/l2": items("b"), "/x": items("wrong")}
    plan = f"""[start]
page = "list"
addresses = ["{{+site}}/l"]
[page.list]
rows = "li"
table = "t"
next = {{ text = "{text}" }}
fields = {{ name = "." }}
"""
    with crawled(tmp_path, host, plan) as done:
        assert done.rows() == ([["a"], ["b"]] if wanted else [["a"]])
        assert done.notes == codes
