"""What is found on pages that no plan describes: rows, fields, types, paging, kinds, sources; robots.txt; the day's cache."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from labelled.pages import PAGES
from wadi.learn.clues.types import guessed_type
from wadi.learn.first_look.envelope import envelope_of
from wadi.learn.first_look.fields import field_candidates
from wadi.learn.first_look.kind import page_kind
from wadi.learn.first_look.look import look_at
from wadi.learn.first_look.outline import json_rows, outline
from wadi.learn.first_look.paging import paging_of
from wadi.learn.first_look.rows import row_candidates
from wadi.learn.first_look.sources import data_sources
from wadi.learn.first_look.trying import why_nothing
from wadi.page.document import read_document
from wadi.page.expressions import CARRIED, compile_expression
from wadi.page.structured import structured
from wadi.store.page_cache import PageCache
from wadi.web.messages import Hop, Reply, Request
from wadi.web.robots import read_robots, verdict_for

KNOWN_MISSES = {"directory listing"}
"""Documented in docs/inspect.md: nothing but its text tells the way up from the files."""


@pytest.mark.parametrize(("name", "html", "label"), PAGES, ids=[name for name, _, _ in PAGES])
def test_the_main_listing_stands_first(name: str, html: str, label: str) -> None:
    document = read_document(html.encode(), "http://h/", "text/html")
    wanted = set(compile_expression(label).nodes(document.scope, document))
    first = row_candidates(document)[0]
    missed = set(first.rows) != wanted
    assert missed == (name.partition(" (")[0] in KNOWN_MISSES)
    assert set(compile_expression(first.expression).nodes(document.scope, document)) == set(first.rows)


@pytest.mark.parametrize(
    ("name", "html", "expression", "count"),
    [
        # the shapes of real pages: a package index, a manual's contents, a database browser, a file server
        ("links in a line", "<h1>Simple index</h1>" + "".join(f'<a href="/simple/p{n}/">package {n}</a><br>' for n in range(9)), "body > a", 9),
        ("contents", "<div id=apicontent><ul>" + "".join(f"<li><a href=c{n}.html>Chapter number {n}</a></li>" for n in range(20)) + "</ul></div>", "ul > li", 20),
        ("database browser", "<table class=rows-and-columns><thead><tr><th><a href=?s=a>code</a><th><a href=?s=b>flow</a></tr></thead><tbody>" + "".join(f"<tr><td class=type-pk><a href=/s/{n}>{n}</a><td class=type-float>{n}.5</tr>" for n in range(30)) + "</tbody></table><p><a href=?_next=30>Next page</a>", "tbody > tr", 30),
        ("file server", "<h1>Directory listing for /</h1><hr><ul>" + "".join(f'<li><a href="f{n}.txt">f{n}.txt</a></li>' for n in range(12)) + "</ul><hr>", "ul > li", 12),
        ("news in a list", "<ul>" + "".join(f"<li>Fixed <a href=/b/{n}>bug {n}</a> in the <code>part{n}</code>, which had been wrong since release {n}.</li>" for n in range(15)) + "</ul>", "li", 15),
    ],
)  # fmt: skip
def test_shapes_of_real_pages(name: str, html: str, expression: str, count: int) -> None:
    document = read_document(html.encode(), "http://h/", "text/html")
    look = look_at(document, Reply(Request("http://h/"), "http://h/", 200, (), html.encode(), 0.0))
    first = look.rows[0].rows
    assert (first.count, look.kind.kind in ("listing", "table")) == (count, True), (name, first.expression, look.kind)
    wanted = set(compile_expression(expression).nodes(document.scope, document))
    assert set(first.rows) == wanted


def test_fields_have_expressions_types_and_names() -> None:
    name, html, _ = next(page for page in PAGES if page[0].startswith("table with thead"))
    document = read_document(html.encode(), "http://h/", "text/html")
    fields = {f.name: f for f in field_candidates(document, row_candidates(document)[0].rows)}
    assert {"code", "name", "district", "flow", "url"} <= set(fields), name
    assert fields["flow"].as_plan() == '{ under = "Flow", type = "number", locale = "fr", unit = "l/s" }'
    assert fields["url"].type.type == "url"
    assert fields["code"].samples == ("MW-0141", "MW-0094", "MW-0276")


@pytest.mark.parametrize(
    ("texts", "keys"),
    [
        (["1", "22", "333"], 'type = "integer"'),
        (["1.5", "22.25"], 'type = "number", locale = "en"'),
        (["1 472,5 l/s", "2,2 l/s", "—"], 'type = "number", locale = "fr", unit = "l/s"'),
        (["1.234,5", "7,25"], 'type = "number", locale = "de"'),
        (["3 March 2021", "28 May 2022"], 'type = "date", locale = "en", format = "d MMMM y"'),
        (["3. März 2021", "28. Mai 2022"], 'type = "date", locale = "de", format = "d. MMMM y"'),
        (["31/12/2021", "01/02/2022"], 'type = "date", format = "d/M/y"'),
        (["2021-03-03", "2022-01-01T10:00"], 'type = "date"'),
        (["yes", "no", "yes"], 'type = "boolean"'),
        (["MW-1", "MW-2"], ""),
        (["007", "012", "100"], ""),
        (["Ash", "12"], ""),
        ([], ""),
        (["£3,358.10", "£12.00"], 'type = "money", locale = "en"'),
        (["12,50 €", "1 213 €"], 'type = "money", locale = "fr"'),
        (["EUR 12", "USD 5"], 'type = "money"'),
        (["$5", "$12"], 'type = "money", locale = "en"'),
        (["TOP 5", "ALL 6"], ""),
        (["3 for £5", "2 for £1"], ""),
        (["£3", "on request", "£5", "£6", "£7"], 'type = "money", missing = ["…", "on request"]'),
        (["1 m", "dry", "3 m", "dry", "4 m", "9 m"], 'type = "integer", unit = "m", missing = ["…", "dry"]'),
        (["3/3/2021", "28/5/2022", "1/2/2022", "lost", "9/9/2020"], 'type = "date", format = "d/M/y", missing = ["…", "lost"]'),
        (["x", "3", "y", "4", "z", "5", "6", "w"], ""),
        (["2026-05-04T10:00", "2026-05-04 10:30:22Z"], 'type = "datetime"'),
        (["09:30", "10:15"], 'type = "time"'),
        (["9:30", "25:15"], ""),
        (["54.015625, -2.316406", "54.0312, -2.1"], 'type = "geopoint"'),
        (["54°00′00″N 2°13′28.5″W"], 'type = "geopoint"'),
        (["ada@office.example", "keeper (at) office (dot) example"], 'type = "email"'),
        (["look at this", "now at home"], ""),
        (["02.03.26", "28.12.25"], 'type = "date", format = "d.M.y"'),
        (["1.2.3", "1.10.4", "2.0.1"], ""),
        (["468.00", "12.00"], 'type = "number", locale = "en"'),
        (["1.8K", "950"], 'type = "number", locale = "en"'),
        (["(12)", "(7)"], "find = '\\((.+)\\)', type = \"integer\""),
        (["+2", "+3"], ""),
        (["+2", "-3"], 'type = "integer"'),
        (["3 years ago", "2 months ago", "yesterday"], 'type = "date"'),
        (["3 hours ago", "2 months ago"], 'type = "datetime"'),
        (["vor 3 Tagen", "gestern"], 'type = "date", locale = "de"'),
        (["5 March 2026 14:05", "6 March 2026 9:30"], 'type = "datetime", locale = "en"'),
        (["March 5, 2026, 2:05 p.m."], 'type = "datetime", locale = "en"'),
        (["05.03.2026, 14:05 Uhr"], 'type = "datetime", locale = "de"'),
        (["05.03.2026 14:05"], 'type = "datetime", locale = "de"'),
        (["Thu, 05 Mar 2026 14:05:00 GMT"], 'type = "datetime"'),
        (["Tue 5 Mar 2024", "Wed 6 Mar 2024"], 'type = "date", locale = "en", format = "d MMMM y"'),
    ],
)  # fmt: skip
def test_types_are_guessed(texts: list[str], keys: str) -> None:
    assert guessed_type(texts).keys() == keys


@pytest.mark.parametrize(
    ("language", "texts", "keys"),
    [
        ("", ["1.234", "2.468"], 'type = "number", locale = "en"'),
        ("de", ["1.234", "2.468"], 'type = "integer", locale = "de"'),
        ("de-CH", ["1.234", "2.468"], 'type = "number", locale = "de_CH"'),
        ("sv", ["1 234,5 kr"], 'type = "money", locale = "sv"'),
        ("en-GB", ["3/4/2026", "5/6/2026"], 'type = "date", format = "d/M/y"'),
        ("en-US", ["3/4/2026", "5/6/2026"], 'type = "date", format = "M/d/y"'),
        ("en-US", ["13/4/2026", "5/6/2026"], 'type = "date", format = "d/M/y"'),
        ("cs", ["3. listopadu 2026"], 'type = "date", locale = "cs", format = "d. MMMM y"'),
        ("fr", ["12,345 €"], 'type = "money", locale = "fr"'),
        ("tlh", ["1.5"], 'type = "number", locale = "en"'),
        ("not a language", ["1.5"], 'type = "number", locale = "en"'),
    ],
)
def test_what_can_be_read_in_several_ways_is_read_in_the_language_of_the_page(
    language: str, texts: list[str], keys: str
) -> None:
    assert guessed_type(texts, None, language).keys() == keys


@pytest.mark.parametrize(
    ("html", "how", "telling"),
    [
        ("<a href=?p=2>Older ›</a>", "next link", "?p=2"),
        ("<a href=?p=2>Nächste Seite</a>", "next link", "?p=2"),
        ("<a href=?p=2>次へ</a>", "next link", "?p=2"),
        ("<a href=?p=2 aria-label='Next page'>»</a>", "next link", "?p=2"),
        ("<a href=?p=2><img src=n.gif alt=weiter></a>", "next link", "?p=2"),
        ("<link rel=next href=/two>", "rel=next", "/two"),
        ("<p><a href=?page=1>1</a> <b>2</b> <a href=?page=3>3</a> <a href=?page=9>9</a></p>", "page numbers", "'page'"),
        ("<a href=?p=2>[next]</a>", "next link", "?p=2"),
        ("<a href=?p=2>(next)</a>", "next link", "?p=2"),
        (
            "<p>"
            + "".join(f"<a href=?year={n}>{n}</a> " for n in range(1990, 2021))
            + "</p><p><a href=?pg=1>1</a> <a href=?pg=2>2</a> 3</p>",
            "page numbers",
            "'pg'",
        ),
        ("<p><a href=/l/7>7</a> <a href=/l/8>8</a> <b>9</b> <a href=/l/10>10</a></p>", "page numbers", "the path"),
        ("<p>Showing 1–30 of 1,354 results</p>", "stated total", "1354"),
        ("<p>354 records found</p>", "stated total", "354"),
        ("<button data-url='/more?x=2'>Load more</button>", "load more", "/more?x=2"),
    ],
)
def test_how_pages_go_on(html: str, how: str, telling: str) -> None:
    found = paging_of(read_document(f"<body>{html}</body>".encode(), "http://h/", "text/html"))
    assert [one.how for one in found if telling in one.value] == [how]


@pytest.mark.parametrize(
    ("link", "plan"),
    [
        ("<a href=?p=2 aria-label='Next page'><svg></svg></a>", """next = 'a[aria-label="Next page"]'"""),
        ("<a href=?p=2 title=weiter></a>", """next = 'a[title="weiter"]'"""),
        ("<a href=?p=2><img src=n.gif alt=Next></a>", """next = 'a:has(img[alt="Next"])'"""),
    ],
)
def test_a_next_link_without_a_text_is_picked_by_what_it_is_called(link: str, plan: str) -> None:
    document = read_document(f"<body><p><a href=/>Home</a> {link}</p>".encode(), "http://h/", "text/html")
    (found,) = [one for one in paging_of(document) if one.how == "next link"]
    assert found.plan == plan
    link_element = document.tree.select("a")[1]
    assert compile_expression(found.expression).nodes(document.scope, document)[0] == link_element


@pytest.mark.parametrize(
    "html",
    [
        "<p>0 of 50 selected</p>",
        "<p>" + "".join(f"<a href=?year={n}>{n}</a> " for n in range(1990, 2021)) + "</p>",
        "<p>Version 1.0.8 of 13 July 2019</p>",
        "<p>Page 2 of 9 pages</p>",
        "<p>one of 3 ways</p>",
    ],
)
def test_what_is_no_total(html: str) -> None:
    assert paging_of(read_document(html.encode(), "http://h/", "text/html")) == []


def test_columns_of_json_have_telling_names() -> None:
    member = {"id": 1, "attributes": {"title": "x"}, "district": {"name": "a"}, "keeper": None, "list": [1]}
    (found,) = json_rows({"rows": [member, {**member, "id": 2, "keeper": {"code": "K"}}]}, 1)
    names = [(one.name, one.expression) for one in found.fields]
    assert names == [
        ("id", "$.id"),
        ("title", "$.attributes.title"),
        ("district_name", "$.district.name"),
        ("list", "$.list"),
        ("keeper_code", "$.keeper.code"),
    ]


def test_a_script_that_names_records_is_not_one_that_asks_for_them() -> None:
    links = ", ".join(f'"/api/weirs/{n}"' for n in range(1, 9))
    html = f'<body><div id=app></div><script>let all = [{links}]; let other = "/api/keepers";</script>'
    document = read_document(html.encode(), "http://h/", "text/html")
    found = data_sources(document)
    assert [(one.url, one.alike) for one in found] == [("http://h/api/weirs/1", 7), ("http://h/api/keepers", 0)]
    assert not any("asks for" in reason for reason in page_kind(document, [], found).reasons)


def test_paging_in_json_and_in_the_link_header() -> None:
    reply = Reply(
        Request("http://h/"), "http://h/", 200, (("Link", '</a>; rel="prev", </b?x=1>; rel="next"'),), b"", 0.0
    )
    data = b'{"meta": {"total": 354, "has_more": true, "cursor": "abc=="}, "next": "/api?page=2", "items": [{"a": 1}, {"a": 2}]}'
    found = paging_of(read_document(data, "http://h/", "application/json"), reply)
    assert [(one.how, one.expression) for one in found] == [
        ("Link header", "rel=next"),
        ("next URL", "$.next"),
        ("stated total", "$.meta.total"),
        ("flag", "$.meta.has_more"),
        ("cursor", "$.meta.cursor"),
    ]


ROWS = [{"a": number} for number in range(20)]


@pytest.mark.parametrize(
    ("query", "envelope", "plans"),
    [
        ("?_page=1", {"first": 1, "prev": None, "next": 2, "last": 26, "pages": 26, "items": 5127, "data": ROWS},
         ['next = { send = { _page = "$.next" } }', 'total = "$.items"']),
        ("?page=1", {"current_page": 1, "data": ROWS, "last_page": 257, "last_row": 5127, "per_page": 20, "next_page_url": "http://h/?page=2"},
         ['next = "$.next_page_url"', 'total = "$.last_row"']),
        ("", {"data": {"wells": {"totalCount": 354, "pageInfo": {"hasNextPage": True, "endCursor": "YXJy"}, "nodes": ROWS}}},
         ['next = { send = { after = "$.data.wells.pageInfo.endCursor" }, end_unless = "$.data.wells.pageInfo.hasNextPage" }',
          'total = "$.data.wells.totalCount"']),
        ("", {"count": 354, "next": "http://h/?page=2", "previous": None, "results": ROWS}, ['next = "$.next"', 'total = "$.count"']),
        ("", {"count": 20, "results": ROWS}, []),
        ("", {"data": ROWS, "total": 5}, []),
        ("?limit=20&offset=0", {"offset": 0, "limit": 20, "total": 354, "rows": ROWS},
         ['next = { count = { parameter = "offset", first = 0, step = "rows" } }', 'total = "$.total"']),
        ("", {"response": {"numFound": 354, "start": 0, "docs": ROWS}},
         ['next = { count = { parameter = "start", first = 0, step = "rows" } }', 'total = "$.response.numFound"']),
        ("", {"items": ROWS, "nextPageToken": "abc"}, ['next = { send = { pageToken = "$.nextPageToken" } }']),
        ("?page=0", {"content": ROWS, "totalPages": 18, "totalElements": 354, "number": 0, "size": 20, "first": True},
         ['next = { count = { parameter = "page", first = 0 } }', 'total = "$.totalElements"']),
        ("?pg=4", {"meta": {"page": 4, "pages": 18, "total": 354}, "list": ROWS},
         ['next = { count = { parameter = "pg" }, end_page = "$.meta.pages" }', 'total = "$.meta.total"']),
        ("", {"has_more": True, "next_cursor": "c1", "rows": ROWS}, ['next = { send = { cursor = "$.next_cursor" }, end_unless = "$.has_more" }']),
        ("?start_after=x", {"last_key": "k", "next_token": "k9", "rows": ROWS}, ['next = { send = { start_after = "$.next_token" } }']),
        ("", {"recordsTotal": 354, "recordsFiltered": 120, "draw": 1, "data": ROWS}, ['total = "$.recordsTotal"']),
        ("", {"@odata.nextLink": "http://h/?$skiptoken=2", "value": ROWS}, ["""next = "$['@odata.nextLink']\""""]),
        ("", ROWS, []),
    ],
)  # fmt: skip
def test_what_envelopes_of_json_tell(query: str, envelope: Any, plans: list[str]) -> None:
    reply = Reply(Request(f"http://h/{query}"), "http://h/", 200, (), b"", 0.0)
    document = read_document(json.dumps(envelope).encode(), "http://h/", "application/json")
    assert [found.plan for found in paging_of(document, reply) if found.plan] == plans


SHELL = """<title>Gauges</title><div id=root></div><noscript>Please enable JavaScript</noscript>
<script src=/app.1234.js></script><script>fetch('/api/gauges?page=1')</script>"""


@pytest.mark.parametrize(
    ("html", "status", "kind"),
    [
        (SHELL, 200, "script shell"),
        ("<title>Just a moment…</title><p>Checking your browser before you enter.</p>", 200, "block"),
        ("<h1>Too many requests</h1>", 429, "block"),
        ("<form><input name=u><input type=password name=p></form>", 200, "log-in"),
        ("<h1>Not found</h1>", 404, "error"),
        (PAGES[0][1], 200, "listing"),
        (PAGES[6][1], 200, "table"),
        (
            "<h1>About captchas</h1>" + "<p>A captcha tells people from programs, and this article says how.</p>" * 30,
            200,
            "single page",
        ),
        (PAGES[0][1].replace("</main>", "<form><input type=password></form></main>"), 200, "listing"),
    ],
)
def test_kinds_of_pages(html: str, status: int, kind: str) -> None:
    document = read_document(html.encode(), "http://h/", "text/html")
    found = page_kind(document, row_candidates(document), data_sources(document), status)
    assert (found.kind, bool(found.reasons)) == (kind, True), found


def test_hidden_sources_come_in_the_order_of_likelihood() -> None:
    html = (
        SHELL
        + '<link rel=alternate type="application/rss+xml" href=/feed.xml><table data-source="/api/levels.json"></table>'
        "<a href=data.csv>download</a><script>var u = '/v2/items', logo = '/logo.png'</script>"
    )
    found = data_sources(read_document(html.encode(), "http://h/x/", "text/html"))
    assert [source.url for source in found] == [
        "http://h/api/gauges?page=1", "http://h/api/levels.json", "http://h/feed.xml", "http://h/x/data.csv", "http://h/v2/items",
    ]  # fmt: skip


def test_the_outline_of_json() -> None:
    data = {
        "total": 2,
        "rows": [{"code": "A", "at": {"x": 1.5}}, {"code": "B", "at": {"x": None}}],
        "by": {f"k{n}": {"v": n} for n in range(20)},
    }
    paths = {one.path: (one.count, dict(one.types)) for one in outline(data)}
    assert paths["$.rows[*].at.x"] == (2, {"number": 1, "null": 1})
    assert paths["$.by.*.v"] == (20, {"integer": 20})
    assert {(one.expression, one.count) for one in json_rows(data)} == {("$.rows[*]", 2), ("$.by.*", 20)}


def test_an_expression_without_a_match_gets_help() -> None:
    document = read_document(PAGES[0][1].encode(), "http://h/", "text/html")

    def told(expression: str) -> str:
        help_ = why_nothing(document, document.scope, expression)
        return f"{list(help_.steps)} {help_.hints}"

    assert "('ol.register > li', 8), ('ol.register > li.entri', 0)" in told("ol.register > li.entri h3")
    assert 'but 8 have "entry"' in told("ol.register > li.entri h3")
    assert '"li", not "LI"' in told("//LI")
    assert "leave the step out" in told("//ol/tbody/li")
    assert "from the root" in told("/html/body/div/p")
    assert 'without ">" it matches 8' in told("ol > h3")
    assert "the data that it carries are under $.state" in told("$.a")
    feed = read_document(b"<a><b/></a>", "http://h/", "text/xml")
    assert "the page is XML" in why_nothing(feed, feed.scope, "$.a").hints[0]
    assert set(structured(document)) == set(CARRIED)
    carried = read_document(b'<script>window.LIST = {"wells": [{"code": 1}]};</script><p>', "http://h/", "text/html")
    found = why_nothing(carried, carried.scope, "$.state.LIST.well[*]")
    assert found.steps == (("$.state", 1), ("$.state.LIST", 1), ("$.state.LIST.well", 0))
    assert any('have "wells"' in hint for hint in found.hints)
    data = read_document(b'{"items": [{"code": 1}]}', "http://h/", "application/json")
    assert any('keys there: "code"' in hint for hint in why_nothing(data, data.scope, "$.items[*].kode").hints)
    assert any('have "items"' in hint for hint in why_nothing(data, data.scope, "$.item[*].code").hints)


# -- robots.txt, RFC 9309

ROBOTS = b"""\xef\xbb\xbfUser-Agent: *\r\nDisallow: /private/\r\nAllow: /private/open\r\nDisallow: /*.pdf$\r\nCrawl-delay: 2\r\n
User-agent: wadi\r\nuser-agent: other\r\nDisallow: /only-us # a note\r\n\r\nUSER-AGENT: Wadi/2.0\r\ndisallow: /also\r\nDisallow:\r\nSitemap: http://h/s.xml"""


@pytest.mark.parametrize(
    ("path", "agent", "allowed"),
    [
        ("/", "elsewho", True),
        ("/private/x", "elsewho", False),
        ("/private/open/x", "elsewho", True),
        ("/a.pdf", "elsewho", False),
        ("/a.pdf?x", "elsewho", True),
        ("/private/x", "Wadi/1.0", True),
        ("/only-us", "wadi", False),
        ("/also/this", "WADI", False),
        ("/only-us", "other", False),
        ("/also", "other", True),
        ("/robots.txt", "elsewho", True),
        ("/%70rivate/x", "elsewho", False),
        ("/private%2Fx", "elsewho", True),
    ],
)
def test_what_robots_txt_says(path: str, agent: str, allowed: bool) -> None:
    assert verdict_for(read_robots(ROBOTS), f"http://h{path}", agent).allowed is allowed


@pytest.mark.parametrize(
    ("rules", "path", "allowed"),
    [
        ("Allow: /example/page/\nDisallow: /example/page/disallowed.gif", "/example/page/disallowed.gif", False),
        ("Disallow: /a\nAllow: /a", "/a", True),
        ("Disallow: *", "/x", False),
        ("Disallow: /a$b", "/a$b", False),
        ("Disallow: /a$b", "/a%24b", False),
        ("Disallow: /a/%2A.html", "/a/*.html", False),
        ("Disallow: /a/%2a.html", "/a/%2A.html", False),
        ("Disallow: /a/%2A.html", "/a/x.html", True),
        ("Disallow: /d%24$", "/d$", False),
        ("Disallow: /d%24$", "/d$e", True),
        ("Disallow: /foo/bar/ツ", "/foo/bar/%E3%83%84", False),
        ("Disallow: /foo/bar/%62%61%7A", "/foo/bar/baz", False),
        ("nonsense\n\nDisallow /x", "/x", True),
        ("Disallow: /x\nUser-agent: q", "/x", False),
    ],
)
def test_examples_and_corners_of_the_standard(rules: str, path: str, allowed: bool) -> None:
    assert verdict_for(read_robots(f"User-agent: *\n{rules}".encode()), f"http://h{path}", "wadi").allowed is allowed


@given(st.binary(max_size=200))
def test_any_bytes_are_a_robots_txt(body: bytes) -> None:
    assert verdict_for(read_robots(body), "http://h/x", "wadi").allowed in (True, False)


def test_robots_tell_delay_rule_and_sitemap() -> None:
    robots = read_robots(ROBOTS)
    word = verdict_for(robots, "http://h/private/x", "elsewho")
    assert (word.crawl_delay_s, word.rule and word.rule.line, robots.sitemaps) == (2.0, 2, ("http://h/s.xml",))


# -- pages kept for the day


def test_a_page_is_kept_for_the_day_with_its_redirects(tmp_path: Path) -> None:
    now = [1000.0]
    cache = PageCache(tmp_path / "c", now=lambda: now[0])
    request = Request("http://h/a")
    assert cache.find(request) is None
    cache.keep(
        request,
        Reply(
            request, "http://h/b", 200, (("Content-Type", "text/html"),), b"x", 1000.0, hops=(Hop("http://h/a", 302),)
        ),
    )
    now[0] += 3600
    found = cache.find(Request("HTTP://h:80/a#top"))
    assert found is not None
    reply, age = found
    assert (reply.url, reply.hops, reply.body, age) == ("http://h/b", (Hop("http://h/a", 302),), b"x", 3600.0)
    now[0] += 24 * 3600
    assert cache.find(request) is None


def test_a_cache_that_cannot_be_written_stops_nobody(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("in the way")
    cache = PageCache(tmp_path / "file" / "c")
    cache.keep(Request("http://h/"), Reply(Request("http://h/"), "http://h/", 200, (), b"", 0.0))
    assert cache.find(Request("http://h/")) is None


@pytest.mark.parametrize(
    ("data", "rows", "fields"),
    [
        ({"at": "x", "levels": {"MW-1": {"level": 1.5}, "MW-2": {"level": 2}, "MW-3": {"level": 3}}}, "$.levels.*",
         {"key": '{ from = "key" }', "level": '{ at = "$.level", type = "number" }'}),
        ({"flows": {"AAA": 1.5, "BBB": 2.25, "CCC": None}}, "$.flows.*",
         {"key": '{ from = "key" }', "value": '{ at = "$", type = "number" }'}),
        ([{"code": f"C{n}", "years": {str(year): year * n for year in range(1990, 2010)}} for n in range(4)], "$[*]",
         {"code": '"$.code"', "years": '"$.years"'}),
        ({"rows": [{"a": 1, "b": 2, "c": 3}, {"a": 2, "b": 3, "c": 4}]}, "$.rows[*]",
         {name: f'{{ at = "$.{name}", type = "integer" }}' for name in "abc"}),
    ],
)  # fmt: skip
def test_objects_keyed_by_codes_are_rows_with_their_key(data: Any, rows: str, fields: dict[str, str]) -> None:
    (found,) = json_rows(data, 1)
    assert found.expression == rows
    assert {field.name: field.as_plan() for field in found.fields} == fields


def test_terms_without_descriptions_are_rows_and_no_labels() -> None:
    contents = "".join(f"<dt><a href=#s{n}>Chapter {n}: on {word}</a></dt>" for n, word in enumerate("abcdefgh"))
    html = f"<main><h1>Contents</h1><dl class=terms>{contents}</dl></main>"
    document = read_document(html.encode(), "http://h/", "text/html")
    look = look_at(document, Reply(Request("http://h/"), "http://h/", 200, (), b"", 0.0))
    assert (look.kind.kind, look.rows[0].rows.count, look.fields) == ("listing", 8, [])
    assert [(field.name, field.expression) for field in look.rows[0].fields] == [("name", "a"), ("url", "a")]


def test_columns_of_a_table_are_named_by_its_headings_and_picked_by_their_own_classes() -> None:
    cells = "".join(f"<tr><td class=col_name>N{n}<td class='num where_2'>{n}.5<td class=num>{n * 3}" for n in range(6))
    html = f"<table><thead><tr><th>Spring<th>Flow l/s<th>Depth</thead><tbody>{cells}</tbody></table>"
    document = read_document(html.encode(), "http://h/", "text/html")
    found = field_candidates(document, row_candidates(document)[0].rows)
    assert [(field.name, field.expression or field.under) for field in found] == [
        ("spring", ".col_name"), ("flow_l_s", "Flow l/s"), ("depth", "Depth"),
    ]  # fmt: skip


def test_columns_that_say_nothing_on_this_page_are_offered_as_such() -> None:
    cells = "".join(f"<tr><td>N{n}<td><td>l/s<td>{n}.5" for n in range(6))
    html = f"<table><thead><tr><th>Spring<th>Note<th>Unit<th>Flow</thead><tbody>{cells}</tbody></table>"
    document = read_document(html.encode(), "http://h/", "text/html")
    found = field_candidates(document, row_candidates(document)[0].rows)
    assert [(field.name, field.under, field.remark) for field in found] == [
        ("spring", "Spring", ""),
        ("flow", "Flow", ""),
        ("note", "Note", "blank on this page"),
        ("unit", "Unit", "the same in all rows of this page"),
    ]


@given(
    st.text(max_size=12),
    st.integers(2, 9),
    st.dictionaries(st.text(max_size=8), st.integers(0, 99) | st.text(max_size=9), max_size=5),
)
def test_whatever_an_address_and_an_envelope_say_the_plan_is_toml(
    name: str, number: int, envelope: dict[str, Any]
) -> None:
    from urllib.parse import quote

    url = f"http://h/?{quote(name)}={number}"
    for sign in envelope_of({**envelope, "page": number, "pages": 20, "data": ROWS}, url, 20):
        assert isinstance(tomllib.loads(sign.plan), dict)
