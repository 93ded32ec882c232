"""Rows that are alike are read from the source of a page as a parser would have found them, or the page is read whole."""

from __future__ import annotations

import json
import random
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import Program
from small_host import crawled
from wadi.crawl import extract as extracting
from wadi.crawl.extract import Extract, extract
from wadi.crawl.kinds import Kind, compile_kinds
from wadi.page import alike
from wadi.plan.reader import load_plan, parse_plan
from wadi.reparsing import reparse
from wadi.web.messages import Reply, Request

URL = "http://127.0.0.1:1/list/1"
FIELDS = """code = ".code"
name = ".name"
url = { at = ".name a[href]", attr = "href", type = "url" }
flow = { at = "td:nth-child(3)", type = "number", locale = "de", unit = "l/s", missing = ["—", ""] }
day = { at = "td.day time", type = "date", format = "dd.MM.yyyy" }
from = { from = "url" }
"""
PLAN = """wadi = 1
[start]
page = "list"
addresses = ["http://127.0.0.1:1/list/1"]
[page.list]
WAY rows = "ROWS"
table = "t"
MORE
[page.list.fields]
"""


def kind_of(fields: str = FIELDS, *, rows: str = "table.list tr.rec", more: str = "", way: str = "fast") -> Kind:
    """The page kind of a plan with these rows and fields."""
    said = f'parse = "{way}"\n' if way != "strict" else ""
    plan = PLAN.replace("WAY ", said).replace("ROWS", rows).replace("MORE", more) + fields
    loaded = parse_plan(plan, "p.toml", {})
    return compile_kinds(loaded.plan, this_year=2026, functions=loaded.functions)["list"]


def row(
    number: int, *, text: str = "Ash", own: str = "", inner: str = "d", href: str = "/s/1.html", more: str = ""
) -> str:
    """A row of a table of springs."""
    return (
        f'<tr class="rec {("even", "odd")[number % 2]}" id="r{number}"{own}><td class="code"><b>A</b> <i>MW-{number}</i></td>\n'
        f'<td class="name {inner}"><a href="{href}">{text}</a>{more}</td><td>{number},5 l/s</td>'
        f'<td class="day"><time>0{number % 9 + 1}.02.2024</time></td></tr>\n'
    )


def page(*rows: str, before: str = "", after: str = "") -> str:
    body = f'{before}<table class="list"><tbody>{"".join(rows)}</tbody></table>{after}'
    return f"<!doctype html><html><head><title>t</title></head><body>{body}</body></html>"


def reply(html: str) -> Reply:
    headers = (("Content-Type", "text/html; charset=utf-8"),)
    return Reply(Request(URL), URL, 200, headers, html.encode("utf-8", "replace"), 1.0)


def whole(kind: Kind, html: str) -> Extract:
    """What stands on a page that is read whole."""
    return extracting._read(extracting._Page(reply(html), kind, {"list": kind}, "", 0, None, None))


def by_source(kind: Kind, html: str) -> tuple[Extract | None, int]:
    """What stands on a page by way of its source, and how many of its rows were not parsed; None when there is doubt."""
    assert kind.alike is not None
    taking = kind.alike.taking()
    assert taking is not None
    given = extracting._Page(reply(html), kind, {"list": kind}, "", 0, None, None)
    found = extracting._read_by(taking, given)
    return found, sum(len(run.rows) - len(run.staying) for run in taking._runs)


PLAIN = [row(n) for n in range(12)]


def learned(**said: str) -> Kind:
    kind = kind_of(**said)
    whole(kind, page(*PLAIN))
    return kind


@pytest.mark.parametrize("way", ["fast", "strict"])
@pytest.mark.parametrize(
    ("html", "cut"),
    [
        (page(*PLAIN), 9),
        # texts and values of any kind, and what stands around the rows
        (
            page(
                *(row(n, text=f"a &amp; b{n}&nbsp;c > d --> &lt;", href="x?a=1&amp;b=2") for n in range(20)),
                before="<b><p>",
            ),
            17,
        ),
        (page(*(row(n, text="é \u00ad\u200b \x85\x0b x\r\n", href="a>b 'c'\n") for n in range(9))), 6),
        # ways in which attributes differ that selectors ask for: one of each stays
        (page(*(row(n, inner=("d", "e", "f")[n // 5]) for n in range(15))), 15 - 6 - 1),
        (page(*(row(n, own=f' title="{n}"') for n in range(12))), 0),
        # references and rows that fit nothing are left to the parser, with the rows beside them
        (page(*PLAIN, row(12, text="&copy;"), *PLAIN, row(13, more="<br>x"), *PLAIN[:5]), 18),
        (page(*PLAIN, row(12, more="<b>x</b>"), *PLAIN), 18),
        (page(*PLAIN[:6]), 0),
        # a row that is none
        (page(*PLAIN, row(1).replace("rec ", "sum "), *PLAIN), 25 - 2 - 1 - 1),
        # a character that only one parser drops; a page that has our mark
        (page(*PLAIN, before="\ufffe"), 0),
        (page(*PLAIN, before='<p wadi-row="1">'), 0),
    ],
)
def test_rows_are_read_from_the_source_as_a_parser_finds_them(html: str, cut: int, way: str) -> None:
    kind = kind_of(way=way)
    for inner in ("d", "e", "f"):
        whole(kind, page(*(row(n, inner=inner) for n in range(12))))
    found, not_parsed = by_source(kind, html)
    assert (found, not_parsed) == (whole(kind, html), cut)


@pytest.mark.parametrize("way", ["fast", "strict"])
@pytest.mark.parametrize(
    ("before", "after"),
    [
        ("<!--", ""), ("<script>", "</script>"), ("<textarea>", ""), ("<title>", "</title>"),
        # a mark of the page's own
        ('<table class=list><tr class=rec WADI-ROW="x.0"><td class=code>x</td></tr></table>', ""),
        ('<table class=list><tr class=rec WADI-ROW="0.1"><td class=code>x</td></tr></table>', ""),
        # a second table of the same rows that is not the one
        ("<table class=other><tbody>" + "".join(PLAIN) + "</tbody></table>", ""),
        # a row of the same table in which the others stand
        ("<table class=list><tr class=rec><td class=code>x<td class=name>", "</table>"),
    ],
)  # fmt: skip
def test_rows_that_do_not_stand_in_the_tree_as_written_make_doubt(before: str, after: str, way: str) -> None:
    html = page(*PLAIN, before=before, after=after)
    kind = learned(way=way)
    assert by_source(kind, html)[0] is None
    assert extract(reply(html), kind, {"list": kind}) == whole(kind, html)


@pytest.mark.parametrize(
    ("more", "html", "is_sure"),
    [
        ('next = "a.next"', page(*PLAIN, after="<a class=next href=/list/2>2</a>"), True),
        ('next = "a"', page(*PLAIN, after="<a class=next href=/list/2>2</a>"), False),
        ('next = { at = "a", text = "Older" }', page(*PLAIN, after="<a href=/list/2>Older</a>"), False),
        ('next = { rel = "next" }', page(*PLAIN, after="<a rel=next href=/list/2>2</a>"), True),
        ('total = "p.count"', page(*PLAIN, before="<p class=count>12</p>"), True),
        ('total = { at = "body", find = "([0-9]+)$" }', page(*PLAIN, after="<p>12</p>"), False),
        ('total = { at = "td", find = "([0-9]+)" }', page(*PLAIN), False),
        ('expect = "td.code"\nempty = "p.none"', page(*PLAIN), True),
        (
            'expect = "i, td.other"',
            page(*(row(n).replace("<i>", "<em>").replace("</i>", "</em>") for n in range(12))),
            True,
        ),
    ],
)
def test_what_the_page_is_asked_for_must_not_stand_in_its_rows(more: str, html: str, is_sure: bool) -> None:
    kind = learned(more=more)
    assert (by_source(kind, html)[0] is not None) is is_sure
    assert extract(reply(html), kind, {"list": kind}) == whole(kind, html)


@pytest.mark.parametrize(
    ("fields", "rows", "more"),
    [
        (FIELDS, "//table/tr", ""),
        (FIELDS, "tr:nth-child(2n)", ""),
        (FIELDS, "tr + tr", ""),
        (FIELDS, "tr.rec", 'expect = "tr:last-child"'),
        (FIELDS, "tr.rec", 'total = "//p"'),
        (FIELDS, "tr.rec", 'next = { count = { parameter = "page" }, send = { cursor = "p" } }'),
        ('code = "./td"\n', "tr.rec", ""),
        ('code = { label = "Code" }\n', "tr.rec", ""),
        ('head = { at = "h2", from = "heading" }\ncode = ".code"\n', "tr.rec", ""),
        ('photo = { at = "img", attr = "src", type = "file" }\ncode = ".code"\n', "tr.rec", ""),
    ],
)
def test_kinds_that_may_depend_on_how_many_rows_stand_there_are_parsed(fields: str, rows: str, more: str) -> None:
    assert kind_of(fields, rows=rows, more=more).alike is None


@pytest.mark.parametrize(
    "field",
    [
        # not on the page, and not to be read: a problem for each row
        'n = { from = "url", find = "page=([0-9]+)", type = "integer" }',
        'n = { from = "url", find = "list/(.*)", type = "date", format = "d.M.y" }',
        'n = { from = "header.Content-Type", split = ";", many = true }',
        'n = { from = "header.None" }',
        'n = { from = "header.None", default = "x" }',
        'n = { from = "url", many = true }',
        'n = { from = "link" }',
        # on the page: some cells cannot be read, or are several, or are none
        'n = { at = ".name", type = "number" }',
        'n = { at = ".name", many = true }',
        'n = { at = ".name", default = "z", missing = ["Ash"] }',
        'n = { at = ".none", default = 7 }',
        'n = ".none"',
        'n = { at = ".name a", attr = "title", required = true }',
        'n = { at = "time", type = "date", format = "d.M.y", missing = ["02.02.2024"] }',
        'n = { at = "time", type = "array" }',
    ],
)
def test_cells_and_problems_are_those_of_a_page_read_whole(field: str) -> None:
    kind = kind_of(FIELDS + field + "\n")
    html = page(*(row(n, text=("Ash", "7", "b&amp;c", "")[n % 4]) for n in range(16)))
    whole(kind, page(*PLAIN))
    found, cut = by_source(kind, html)
    assert cut == 13
    assert found == whole(kind, html)


def test_functions_of_the_plan_are_called_once_for_each_cell(tmp_path: Path) -> None:
    (tmp_path / "own.py").write_text("def plainly(text):\n    return text\n")
    plan = (
        PLAN.replace("WAY ", "")
        .replace("ROWS", "tr.rec")
        .replace("MORE", "")
        .replace("wadi = 1", 'wadi = 1\ncode = "own.py"')
    )
    (tmp_path / "p.toml").write_text(plan + 'code = ".code"\nname = { at = ".name", clean = ["call plainly"] }\n')
    loaded = load_plan(tmp_path / "p.toml")
    assert compile_kinds(loaded.plan, this_year=2026, functions=loaded.functions)["list"].alike is None


@pytest.mark.parametrize(
    "written",
    [
        "<tr class=rec><td class=code>{n}<td class=name>{n}",  # end tags left out
        "<tr class=rec><td class=code>{n}</td><td class=name><!-- {n} -->{n}</td></tr>",
        "<tr class=rec><td class=code>{n}</td><td class=name><p>a<div>{n}</div></td></tr>",
        "<tr class=rec><td class=code>{n}</td><td class=name><select><option>{n}</select></td></tr>",
        "<tr class=rec>x<td class=code>{n}</td></tr>",
        "<tr class=rec><td class=code class=x>{n}</td></tr>",
        "<tr class=rec><td class=code/>{n}</td></tr>",
        "<tr class=rec><td class=code><a rel=next href=/>{n}</a></td></tr>",
        "<tr class=rec><td class=code hidden>{n}<b>x<i>y</i></b></td></tr>",
    ],
)
def test_rows_that_are_written_in_odd_ways_have_no_template(written: str) -> None:
    kind = kind_of('code = ".code"\nname = ".name"\n')
    whole(kind, page(*(written.format(n=n) for n in range(12))))
    assert kind.alike is not None
    assert kind.alike.taking() is None


def test_a_page_that_comes_out_otherwise_ends_it(monkeypatch: pytest.MonkeyPatch) -> None:
    kind, html = learned(), page(*(row(n, text=f"S{n}") for n in range(12)))
    assert kind.alike is not None
    monkeypatch.setattr(alike, "unescape", str.upper)
    monkeypatch.setattr(alike, "_OTHER_REFERENCE", alike.re.compile("(?!)"))
    amp = page(*(row(n, text=f"a{n} &amp; b") for n in range(12)))
    assert extract(reply(html), kind, {"list": kind}) == whole(kind, html)
    assert kind.alike.taking() is not None
    assert extract(reply(amp), kind, {"list": kind}) == whole(kind, amp)
    assert kind.alike.taking() is None
    assert not kind.alike.may_learn


def test_what_is_in_vain_for_many_pages_is_left_off() -> None:
    kind = learned()
    assert kind.alike is not None
    for _ in range(30):
        extract(reply(page(*PLAIN[:3])), kind, {"list": kind})
    assert kind.alike.taking() is None


MARKUP = (
    "<b> </b> </td> </tr> </table> <table> <tr> <td> <tr_class=rec> <!-- --> <script> </script> <template> <a_href=x> </a> <form> "
    "<select> <svg> <textarea> <plaintext> <title> </title> <p> </p> <div> </div> <base_href=/q/> <p_class=count>77</p> <caption> "
    "<tbody> <font_color=red> &copy; &lt &amp x \x00 \x0c \ufffe ' \" < > & <td_hidden> <nobr> <body_class=z> <frameset> ]]> <?x?>"
).split()  # fmt: skip
TEXTS = ["Ash", "1 234,5 l/s", "7", "—", "", " x  y", "a &amp; b", "x&nbsp;y", "&quot;", "&eacute;", "-->", "é", "\r\n", "\x85", "31.02.2020"]  # fmt: skip


@settings(max_examples=60, deadline=None)
@given(
    st.sampled_from(["fast", "strict"]),
    st.sampled_from(["table.list tr.rec", "tr:has(.code)", ".rec", "tr:not(.odd)"]),
    st.randoms(),
)
def test_pages_are_read_alike_whatever_stands_in_them(way: str, rows: str, rng: random.Random) -> None:
    more = rng.choice(["", 'next = "a.next"', 'total = "p.count"', 'expect = ".list"'])
    kind = kind_of(way=way, rows=rows, more=more)
    assert kind.alike is not None
    kind.alike._compared = 100  # no page is compared, so that differences come to light here

    def odd(share: float) -> str:
        return rng.choice(MARKUP).replace("_", " ") if rng.random() < share else ""

    for share in (0, 0.01, 0.03):
        made = [
            odd(share) + row(n, text=rng.choice(TEXTS), own=odd(share / 3), inner=rng.choice("de"), more=odd(share))
            for n in range(rng.choice([8, 15, 25]))
        ]
        html = page(
            *made, before=odd(share * 5), after='<a class="next" href="/2">2</a><p class=count>30</p>' + odd(share * 5)
        )
        assert extract(reply(html), kind, {"list": kind}) == whole(kind, html)


def _listings(count: int) -> dict[str, str]:
    """Listing pages of 14 rows each; on each one a row that is written in another way, and a cell that is no number."""

    def listing(number: int) -> str:
        link = f'<a class="next" href="/list/{number + 1}">more</a>' if number < count else ""
        rows = [row(100 * number + n, text=f"S{number}-{n}") for n in range(14)]
        rows[5] = rows[5].replace("</a>", " <b>new</b></a>")
        rows[9] = rows[9].replace(",5 l/s", ",5 buckets")
        return page(*rows, after=link)

    return {f"/list/{number}": listing(number) for number in range(1, count + 1)}


def _crawl_plan() -> str:
    plan = PLAN.replace("WAY ", "").replace("ROWS", "tr.rec").replace("MORE", 'next = "a.next"') + FIELDS
    return plan.replace("wadi = 1\n", "").replace("http://127.0.0.1:1/list/1", "{+site}/list/1")


def test_a_crawl_gives_all_rows_in_their_order(tmp_path: Path) -> None:
    with crawled(tmp_path, _listings(9), _crawl_plan()) as found:
        wanted = [
            [f"A MW-{100 * number + n}", f"S{number}-{n}" + " new" * (n == 5)]
            for number in range(1, 10)
            for n in range(14)
        ]
        assert [one[:2] for one in found.rows()] == wanted
        assert [one[3] for one in found.rows()][:11] == [*(100.5 + n for n in range(9)), None, 110.5]


@pytest.mark.parametrize("workers", [1, 2])
def test_pages_read_again_give_the_same_table(tmp_path: Path, workers: int) -> None:
    with crawled(tmp_path, _listings(160 if workers > 1 else 5), _crawl_plan()) as found:
        new, done = reparse(found.run, found.run.loaded, tmp_path / "again", workers=workers)
        with new:
            assert done.read == len(_listings(160 if workers > 1 else 5))
            assert new.read().rows == found.rows()
            troubles = [run.read("problems").rows for run in (found.run, new)]
            assert len(troubles[0]) == done.read
            assert troubles[0] == troubles[1]


def test_a_cell_read_from_the_source_is_followed_to_its_element(tmp_path: Path, program: Program) -> None:
    with crawled(tmp_path, _listings(6), _crawl_plan()) as found:
        folder = found.run.folder
    wanted = {f"A MW-{100 * number + n}" for number in range(1, 7) for n in range(14)}
    assert {line.split(",")[0] for line in program("export", folder, "-o", "-").out.splitlines()[1:]} == wanted
    told = program("trace", folder, "t", "80", "--json")
    cells = {cell["column"]: cell for cell in json.loads(told.out)["cells"]}
    assert told.status == 0
    assert (cells["code"]["value"], cells["name"]["value"]) == ("A MW-609", "S6-9")
    assert cells["flow"]["value"] is None
    assert "609,5 buckets" in str(cells["flow"]["steps"])
