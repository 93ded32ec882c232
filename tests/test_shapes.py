"""Where records stand, which links are taken, forms, log-ins, files, lists in, duplicates: each on a small host."""

from __future__ import annotations

import gzip
import hashlib
from pathlib import Path
from typing import Any

import pytest
from aiohttp import web

from conftest import serving
from small_host import SmallHost, crawled, items, plan_of
from wadi.actions.begin import begin
from wadi.actions.crawl import crawl
from wadi.actions.run import Run
from wadi.crawl.forms import credentials_names, form_of
from wadi.page.document import html_document
from wadi.store.outcome import State
from wadi.table.files import named

# -- details


DETAILS = """[start]
page = "list"
addresses = ["{+site}/l"]
[page.list]
rows = "li"
table = "t"
OPEN
[page.list.fields]
name = "b"
[page.one]
completes = "t"
[page.one.fields]
one = "i"
[page.one.open]
two = "a.two"
[page.two]
completes = "t"
[page.two.fields]
two = "u"
[table.t]
columns = ["name", "one", "two"]
"""


@pytest.mark.parametrize(
    ("opening", "pages", "wanted", "asked"),
    [
        # each row its own page
        ('open = { one = "a" }', {"/l": "<li><b>A</b><a href=/1>x</a><li><b>B</b><a href=/2>x</a>", "/1": "<i>1</i>", "/2": "<i>2</i>"}, [["A", "1", None], ["B", "2", None]], 3),
        # one page for both rows, under two addresses that are the same
        ('open = { one = "a" }', {"/l": "<li><b>A</b><a href=/1#x>x</a><li><b>B</b><a href=/./1>x</a>", "/1": "<i>1</i>"}, [["A", "1", None], ["B", "1", None]], 2),
        # two pages for a row
        ('open = { one = "a.one", two = "a.two" }', {"/l": "<li><b>A</b><a class=one href=/1>x</a><a class=two href=/2>x</a>", "/1": "<i>1</i>", "/2": "<u>2</u>"}, [["A", "1", "2"]], 3),
        # a page that leads on to another
        ('open = { one = "a" }', {"/l": "<li><b>A</b><a href=/1>x</a>", "/1": "<i>1</i><a class=two href=/2>x</a>", "/2": "<u>2</u>"}, [["A", "1", "2"]], 3),
        # the second of a chain is not there
        ('open = { one = "a" }', {"/l": "<li><b>A</b><a href=/1>x</a>", "/1": "<i>1</i><a class=two href=/3>x</a>"}, [["A", "1", None]], 3),
        # a row without a link
        ('open = { one = "a" }', {"/l": "<li><b>A</b><li><b>B</b><a href=/1>x</a>", "/1": "<i>1</i>"}, [["A", None, None], ["B", "1", None]], 2),
        # several links in a row: the first is opened, so that no two pages mix in a row
        ('open = { one = "a" }', {"/l": "<li><b>A</b><a href=/1>x</a><a href=/2>y</a>", "/1": "<i>1</i>", "/2": "<i>2</i>"}, [["A", "1", None]], 2),
    ],
)  # fmt: skip
def test_details_complete_rows(tmp_path: Path, opening: str, pages: Any, wanted: Any, asked: int) -> None:
    plan = DETAILS.replace("OPEN", opening)
    with crawled(tmp_path, pages, plan) as done:
        assert done.rows() == wanted
        assert len(done.host.asked) == asked
        assert done.run.read().ledger.incomplete == len(done.failures)


def test_limited_rows_wait_for_the_end_of_the_chain(tmp_path: Path) -> None:
    pages = {
        "/l": "".join(f"<li><b>{n}</b><a href=/one{n}>x</a>" for n in range(9)),
        **{f"/one{n}": f"<i>{n}</i><a class=two href=/two{n}>x</a>" for n in range(9)},
        **{f"/two{n}": f"<u>{n}</u>" for n in range(9)},
    }
    with crawled(tmp_path, pages, DETAILS.replace("OPEN", 'open = { one = "a" }'), rows=2) as done:
        assert done.rows() == [["0", "0", "0"], ["1", "1", "1"]]
        assert done.run.end == "rows limit"


LISTS = """[start]
page = "list"
addresses = ["{+site}/l"]
[page.list]
rows = "li"
table = "t"
open = { one = "a" }
[page.list.fields]
name = "b"
[page.list.lists.tags]
rows = "em"
carry = "name"
[page.list.lists.tags.fields]
tag = "."
[page.one]
completes = "t"
[page.one.fields]
size = "i"
[page.one.lists.days]
rows = "td"
carry = ["name", "size"]
fields = { day = { at = ".", type = "integer" } }
[table.t]
key = "name"
"""


def test_lists_carry_their_row_and_come_once_for_each_that_survives(tmp_path: Path) -> None:
    shared = "<i>9</i><table><tr><td>1<td>2x</table>"
    listing = "<li><b>A</b><em>x</em><em>y</em><a href=/1>d</a><li><b>B</b><a href=/1>d</a><li><b>A</b><em>z</em>"
    with crawled(tmp_path, {"/l": listing, "/1": shared}, LISTS) as done:
        assert done.rows() == [["A", "9"], ["B", "9"]]
        assert done.rows("tags") == [["A", "x"], ["A", "y"]]
        assert done.rows("days") == [["A", "9", 1], ["A", "9", None], ["B", "9", 1], ["B", "9", None]]
        assert done.run.read("days").ledger.unread == {"day": 1}
        assert [column.name for column in done.run.read("days").columns] == ["name", "size", "day"]


def test_a_page_may_hold_several_tables_and_none_of_its_own(tmp_path: Path) -> None:
    plan = """[start]
page = "two"
addresses = ["{+site}/l"]
[page.two.lists.first]
rows = "ul li"
fields = { a = "." }
[page.two.lists.second]
rows = "ol li"
fields = { b = "." }
"""
    with crawled(tmp_path, {"/l": "<ul><li>1<li>2</ul><ol><li>3</ol>"}, plan) as done:
        assert (done.rows("first"), done.rows("second")) == ([["1"], ["2"]], [["3"]])


@pytest.mark.parametrize(
    ("page", "fields", "wanted"),
    [
        # a group heading as one cell, the first cell of a row a th, a check box in front, the pager as the last row
        ("<table><tr><th colspan=2>North<tr class=r><th>A<td>1<tr class=r><th>B<td>2<tr><th colspan=2>South<tr class=r><th>C<td>3<tr><td>next</table>",
         'g = { from = "heading", at = "th[colspan]" }\nn = "th"\nv = "td"', [["North", "A", "1"], ["North", "B", "2"], ["South", "C", "3"]]),
        ("<p class=r>0<h2>X</h2><h3>a</h3><p class=r>1<h3>b</h3><p class=r>2<h2>Y</h2><p class=r>3",
         'g = { from = "heading", at = "h2" }\nh = { from = "heading", at = "h3" }\nv = "."', [[None, None, "0"], ["X", "a", "1"], ["X", "b", "2"], ["Y", "b", "3"]]),
        # merged cells, headings of two lines, a heading over two columns
        ("<table><thead><tr><th rowspan=2>Area<th colspan=2>Flow<tr><th>Low<th>High<tbody><tr class=r><td rowspan=2>N<td>1<td>2<tr class=r><td colspan=2>3</table>",
         'a = { under = "area" }\nlow = { under = "Flow / Low" }\nhigh = { under = "High" }', [["N", "1", "2"], ["N", "3", "3"]]),
        ("<table><tr><td>Code<td>Link<tr class=r><td>A<td><a href=x>go</a></table>",
         'c = { under = "Code" }\nl = { under = "Link", at = "a", attr = "href" }', [["A", "x"]]),
        ("<table><tr><th>Code<tr class=r><td>A</table>", 'c = { under = "Gone" }', [[None]]),
        # a record over two rows, of which the second may be missing
        ("<table><tr class=r><td>A<tr class=more><td>a<tr class=r><td>B<tr class=r><td>C<tr class=more><td>c</table>",
         'n = "td"\nm = "+ tr.more td"', [["A", "a"], ["B", None], ["C", "c"]]),
        # "Parent Directory", a check box in front, decorations as further links in the title cell
        ("<table><tr class=r><td><a href=..>Parent Directory</a><tr class=r><td><input type=checkbox><td><a href=a>A</a> <a href=e>edit</a></table>",
         't = { at = "td + td a", required = true }', [["A"]]),
        # nested entries, and a cell that folds a chain of three
        ("<ul><li class=r>one<ul><li>inner</ul><li class=r><a>x</a>/<a>y</a>/<a>z</a></ul>",
         't = { at = ".", take = "direct text", missing = ["", "/ /"] }\nc = { at = "> a", many = true }', [["one", []], [None, ["x", "y", "z"]]]),
        # several terms to one description
        ("<dl class=r><dt>Flow<dt>Output<dd>3<dt>Depth<dd>4</dl>",
         "f = \"(.//dt[.='Flow']/following-sibling::dd)[1]\"\no = \"(.//dt[.='Output']/following-sibling::dd)[1]\"", [["3", "3"]]),
        # two values in one cell, text after a link
        ("<div class=r><a href=x>A</a> (N1) <span>-4</span>/<span>+77</span></div>",
         'n = "a"\ncode = { at = ".", take = "direct text", find = "\\\\((.*?)\\\\)" }\nup = "span:nth-of-type(2)"', [["A", "N1", "+77"]]),
    ],
)  # fmt: skip
def test_rows_that_are_none_and_rows_in_disguise(tmp_path: Path, page: str, fields: str, wanted: Any) -> None:
    plan = f'[start]\npage = "p"\naddresses = ["{{+site}}/l"]\n[page.p]\nrows = ".r"\ntable = "t"\n[page.p.fields]\n{fields}\n'
    with crawled(tmp_path, {"/l": page}, plan) as done:
        assert done.rows() == wanted


SIDE = """[start]
page = "p"
addresses = ["{+site}/l"]
[page.p]
side_by_side = true
table = "t"
[page.p.fields]
a = "b"
n = { at = "i", type = "integer" }
where = { from = "url", find = "/(\\\\w)$" }
"""


def test_parallel_lists_are_put_together_only_when_they_are_of_one_length(tmp_path: Path) -> None:
    with crawled(tmp_path / "1", {"/l": "<b>x</b><b>y</b><i>1</i><i>2</i>"}, SIDE) as done:
        assert done.rows() == [["x", 1, "l"], ["y", 2, "l"]]
    with crawled(tmp_path / "2", {"/l": "<b>x</b><b>y</b><i>1</i>"}, SIDE) as done:
        assert (done.rows(), done.failures) == ([], ["uneven-columns"])
        assert "2 × a, 1 × n" in next(done.run.state.failures()).problem["what"]


# -- links


LINKS = """<base href="/sub/"><main><a href="1">Spring One</a> <a href="1#top">again</a> <a href="./1">and again</a>
<a href="2?b=1&amp;sid=9&amp;a=2">Two</a> <a href="2?a=2&amp;b=1">Two</a> <a href="a%2Fb">escaped</a> <a href="a/b">slash</a>
<a href="/x%c3%a9">é</a> <a href="/x%C3%A9">É</a> <a href="http://elsewhere.example/1">away</a>
<a href="q?x=%23%25&amp;y=a+b;c">signs</a> <a href="javascript:go()">script</a></main>
<nav><a href="/logout">Log out</a> <a href="/x?sort=name">Sort</a></nav>"""


@pytest.mark.parametrize(
    ("opening", "rules", "wanted"),
    [
        ('at = "a"', "", ["/sub/1", "/sub/2?b=1&sid=9&a=2", "/sub/2?a=2&b=1", "/sub/a%2Fb", "/sub/a/b", "/x%c3%a9", "/sub/q?x=%23%25&y=a+b;c", "/logout", "/x?sort=name"]),
        ('at = "a"\nwithin = "nav"', "", ["/logout", "/x?sort=name"]),
        ('at = "a"\nwithin = "nav"\nskip_text = "log *out"', "", ["/x?sort=name"]),
        ('at = "a"\ntext = ["spring*", "two"]', "", ["/sub/1", "/sub/2?b=1&sid=9&a=2", "/sub/2?a=2&b=1"]),
        ('at = "a"\ntext = "two"', 'drop = "s*d"\nsort = true', ["/sub/2?a=2&b=1"]),
        ('at = "a"\ntext = "two"', 'drop = ["b", "a", "sid"]', ["/sub/2"]),
        ('at = "a"\nonly = "*/sub/*"\nskip = ["*[?]*", "*%*"]', "", ["/sub/1", "/sub/a/b"]),
        ('at = "a"\ncall = "short"', "", ["/sub/1", "/sub/2?b=1&sid=9&a=2", "/sub/2?a=2&b=1", "/x%c3%a9"]),
    ],
)  # fmt: skip
def test_which_links_are_taken(tmp_path: Path, opening: str, rules: str, wanted: list[str]) -> None:
    (tmp_path / "own.py").write_text("def short(url, text):\n    return len(text) < 4 or text == 'Spring One'\n")
    plan = f"""[start]
page = "list"
addresses = ["{{+site}}/l"]
[links]
{rules}
[page.list.open.one]
{opening}
[page.one]
table = "t"
fields = {{ x = "b" }}
"""
    with crawled(tmp_path, {"/l": LINKS}, plan, top='code = "own.py"') as done:
        assert sorted(done.host.asked[1:]) == sorted(f"GET {path}" for path in wanted)


@pytest.mark.parametrize(
    ("code", "words"),
    [
        ("def short(url, text):\n    return 1 / 0\n", "short(): ZeroDivisionError: division by zero"),
        ("def short(url):\n    return True\n", "short(): TypeError"),
    ],
)
def test_a_function_that_fails_fails_the_page_and_says_so(tmp_path: Path, code: str, words: str) -> None:
    (tmp_path / "own.py").write_text(code)
    plan = """[start]
page = "list"
addresses = ["{+site}/l"]
[page.list.open.one]
at = "a"
call = "short"
[page.one]
table = "t"
fields = { x = "b" }
"""
    with crawled(tmp_path, {"/l": "<a href=/1>x</a>"}, plan, top='code = "own.py"') as done:
        assert done.failures == ["code-failed"]
        assert words in next(done.run.state.failures()).problem["what"]


# -- forms


FORM = """<form id=f action="/go?old=1" METHOD=post><input type=hidden name=token value="t&amp;1"><input name=q value="x">
<input type=checkbox name=c1 checked><input type=checkbox name=c2 value=2><input type=radio name=r value=1><input type=radio name=r value=2 checked>
<select name=s><option>one<option value=2>two</select><select name=m multiple><option selected>a<option selected>b<option>c</select>
<select name=chosen><option value=1>x<option value=2 selected>y</select><textarea name=t>
 two
lines</textarea><input name=off disabled value=1><fieldset disabled><input name=off2 value=1></fieldset><input type=file name=file>
<input type=reset name=reset value=r><input type=submit name=go value=Go><button name=second value=2>x</button><input value=nameless></form><input name=outside form=f value=o>"""
ALL_SENT = "token=t%261&q=x&c1=on&r=2&s=one&m=a&m=b&chosen=2&t=+two%0Alines&outside=o&go=Go"


@pytest.mark.parametrize(
    ("markup", "values", "method", "url", "body"),
    [
        (FORM, {}, "POST", "http://h/go?old=1", ALL_SENT),
        (FORM, {"q": "a b/ä"}, "POST", "http://h/go?old=1", ALL_SENT.replace("q=x", "q=a+b%2F%C3%A4")),
        (FORM, {"m": ["c"], "c2": 2, "r": 1}, "POST", "http://h/go?old=1", ALL_SENT.replace("m=a&m=b", "m=c").replace("r=2", "r=1") + "&c2=2"),
        ("<form action='/find?x=1#y'><input name=q><button>Go", {"q": "ä+"}, "GET", "http://h/find?q=%C3%A4%2B", ""),
        ("<form><input name=q value=1>", {}, "GET", "http://h/sub/page?q=1", ""),
        ("<p><form action=//other.example/go><input name=q>", {"q": True}, "GET", "http://other.example/go?q=true", ""),
        ("<meta charset=windows-1252><form method=post action=/go><input name=q>", {"q": "ä€ř"}, "POST", "http://h/go", "q=%E4%80%26%23345%3B"),
    ],
)  # fmt: skip
def test_what_a_form_sends(markup: str, values: dict[str, Any], method: str, url: str, body: str) -> None:
    document = html_document(
        markup.encode(), "http://h/sub/page?p=1" if "<form><" not in markup else "http://h/sub/page"
    )
    form = form_of(document.tree.select("form")[0], document)
    request = form.request(values)
    assert (request.method, request.url, request.body.decode()) == (method, url, body)


def test_multipart_forms_and_forms_that_are_none() -> None:
    document = html_document(
        b'<form id=f method=post enctype=multipart/form-data><input name="a" value="1"></form><p><b>x', "http://h/"
    )
    request = form_of(document.top, document).request({"b": "ü"})
    boundary = dict(request.headers)["Content-Type"].partition("boundary=")[2]
    assert request.body.decode().split(f"--{boundary}")[1:3] == [
        '\r\nContent-Disposition: form-data; name="a"\r\n\r\n1\r\n',
        '\r\nContent-Disposition: form-data; name="b"\r\n\r\nü\r\n',
    ]
    with pytest.raises(ValueError, match="no form"):
        form_of(html_document(b"<p>x", "http://h/").top, document)
    login = html_document(b"<form><input name=n><input type=email name=mail><input type=password name=p>", "http://h/")
    assert credentials_names(login.top) == ("mail", "p")


def test_a_form_is_sent_for_each_value_and_what_it_lacks_is_said(tmp_path: Path) -> None:
    plan = """area = ["n", "s", "x"]
[start]
page = "search"
addresses = ["{+site}/l"]
[page.search.open.found]
form = "form.b"
values = { area = "{area}", typo = 1 }
[page.found]
rows = "li"
table = "t"
fields = { name = ".", area = { from = "input.area" } }
"""

    def answer(request: web.Request, body: str) -> Any:
        return (404, {}, "") if "area=x" in body else items("r1") if "area=n" in body else items()

    pages = {
        "/l": "<form><input name=q></form><form class=b method=post action=/go><input type=hidden name=k value=v><input name=area>",
        "/go": answer,
    }
    with crawled(tmp_path, pages, plan) as done:
        assert done.host.asked == ["GET /l", *(f"POST /go k=v&area={area}&typo=1" for area in "nsx")]
        assert done.rows() == [["r1", "n"]]
        assert done.notes == ["unknown-control", "rowless"]
        assert [row[:3] for row in done.rows("outcomes")] == [
            ["n", "found", 1],
            ["s", "not found", 0],
            ["x", "not found", 0],
        ]


# -- lists in


def test_outcomes_for_every_line(tmp_path: Path) -> None:
    (tmp_path / "who.csv").write_text("slug,rows\na,1\nb,2\nc,3\nd,4\na,5\n")
    plan = """who = { file = "who.csv" }
[start]
page = "one"
addresses = ["{+site}/p/{who.slug}"]
[page.one]
expect = "ul"
rows = "li"
table = "t"
fields = { name = ".", n = { from = "input.who.rows", type = "integer" } }
"""
    pages = {"/p/a": items("A"), "/p/b": items("B1", "B2"), "/p/c": "<p>blocked"}
    with crawled(tmp_path, pages, plan) as done:
        assert done.rows() == [["A", 1], ["B1", 2], ["B2", 2]]
        outcomes = [row[:4] for row in done.rows("outcomes")]
        assert outcomes == [
            ["a", "1", "found", 1],
            ["b", "2", "found", 2],
            ["c", "3", "failed", 0],
            ["d", "4", "not found", 0],
            ["a", "5", "found", 1],
        ]
        assert [column.name for column in done.run.read("outcomes").columns] == [
            "slug",
            "who_rows",
            "outcome",
            "rows",
            "problem",
        ]
    with crawled(tmp_path, pages, plan, pages=1) as done:
        assert [row[2] for row in done.rows("outcomes")] == [
            "found",
            "not finished",
            "not finished",
            "not finished",
            "found",
        ]


# -- duplicates


def test_duplicates_say_how_they_came_about(tmp_path: Path) -> None:
    plan = """side = ["n", "s"]
[start]
page = "list"
addresses = ["{+site}/{side}", "{+site}/top"]
[page.list]
rows = "li"
table = "t"
next = "a.next"
open = { list = "a.sub", one = "a.one" }
fields = { name = "." }
[page.one]
table = "t"
fields = { name = "b" }
[table.t]
key = "name"
"""
    pages = {
        "/n": items("a", "a", more="<a class=next href=/n2>n</a>"),
        "/n2": items("a", "b"),
        "/s": items("b", more="<a class=sub href=/s/x>x</a><a class=one href=/one>1</a>"),
        "/s/x": items("b"),
        "/one": "<b>b</b>",
        "/top": items("c"),
    }
    with crawled(tmp_path, pages, plan) as done:
        assert done.rows() == [["a"], ["b"], ["c"]]
        account = done.run.read().ledger
        ways = {way: found.count for way, found in account.duplicate_ways.items()}
        assert ways == {
            "twice on one page": 1,
            "on two pages of one listing": 1,
            "from two starts": 2,
            "by two ways, list and list → one": 1,
        }
        assert account.duplicate_ways["twice on one page"].examples == [
            ("a", f"{done.host.address}/n", f"{done.host.address}/n")
        ]
        assert account.given - account.duplicates == account.accepted


# -- limits


@pytest.mark.parametrize(
    ("limits", "end", "least", "most"),
    [({"time": 0.4}, "time limit", 1, 40), ({"bytes": 500}, "bytes limit", 3, 12), ({"pages": 4}, "pages limit", 4, 4), ({"depth": 0}, "depth limit", 1, 1)],
)  # fmt: skip
def test_limits_end_the_crawl_and_say_so(
    tmp_path: Path, limits: dict[str, float], end: str, least: int, most: int
) -> None:
    plan = """[start]
page = "any"
addresses = ["{+site}/0"]
[page.any]
table = "t"
open = { any = "a" }
fields = { name = "b" }
"""
    pages = {f"/{n}": f"<b>{n}</b><a href=/{n + 1}>next</a>{' ' * 80}" for n in range(3000)}
    with crawled(tmp_path, pages, plan, **limits) as done:
        assert done.run.end == end
        if end != "time limit":
            assert least <= len(done.rows()) <= most


# -- files


FILES = """[start]
page = "list"
addresses = ["{+site}/l"]
[page.list]
rows = "li"
table = "t"
[page.list.fields]
name = "b"
pic = { at = "img", attr = "src", type = "file" NAMED}
[table.t]
columns = ["name", "pic", "pic_size", "pic_type", "pic_sha256"]
"""
PICTURES = {
    "/l": "<li><b>../../a/b</b><img src=/1.png><li><b>x</b><img src=/2.png#f><li><b>X</b><img src=/3><li><b>none</b><li><b>gone</b><img src=/4.png><li><b>page</b><img src=/5.png>",
    "/1.png": (200, {"Content-Type": "image/png"}, b"one"),
    "/2.png": (200, {"Content-Type": "image/png"}, b"two"),
    "/3": (200, {"Content-Type": "image/jpeg"}, b"one"),
    "/5.png": "<p>Please log in",
}


def test_files_are_kept_once_with_size_type_and_checksum(tmp_path: Path) -> None:
    one, two = (hashlib.sha256(text).hexdigest() for text in (b"one", b"two"))
    with crawled(tmp_path, PICTURES, FILES.replace("NAMED", "")) as done:
        assert done.rows() == [
            ["../../a/b", f"downloads/{one}.png", 3, "image/png", one],
            ["x", f"downloads/{two}.png", 3, "image/png", two],
            ["X", f"downloads/{one}.jpg", 3, "image/jpeg", one],
            ["none", None, None, None, None],
            ["gone", None, None, None, None],
            ["page", None, None, None, None],
        ]
        assert sorted(done.failures) == ["http-status", "not-the-file"]
        assert (done.run.folder / "downloads" / f"{one}.png").read_bytes() == b"one"
        assert sorted(done.host.asked)[:3] == ["GET /1.png", "GET /2.png", "GET /3"]


def test_files_named_by_their_row_stay_below_their_folder(tmp_path: Path) -> None:
    with crawled(tmp_path, PICTURES, FILES.replace("NAMED", ', name = "{name}/p"')) as done:
        assert [row[1] for row in done.rows()][:3] == [
            "downloads/_.._a_b/p.png",
            "downloads/x/p.png",
            "downloads/X/p.jpg",
        ]
        kept = sorted(str(path.relative_to(done.run.folder)) for path in done.run.folder.glob("downloads/*/*"))
        assert kept == ["downloads/X/p.jpg", "downloads/_.._a_b/p.png", "downloads/x/p.png"]


@pytest.mark.parametrize(
    ("pattern", "values", "wanted"),
    [
        ("{a}", {"a": "../../etc/passwd"}, "downloads/_.._etc_passwd.png"),
        ("{a}/{b}", {"a": "..", "b": "."}, "downloads/file.png"),
        ("{a}", {"a": "con\x00:*?\n"}, "downloads/con_____.png"),
        ("{a}.PNG", {"a": "x"}, "downloads/x.PNG"),
        ("{a}", {"a": None}, "downloads/file.png"),
        ("{a}", {"a": "x" * 500}, f"downloads/{'x' * 120}.png"),
        ("{a}", {"a": 3.5}, "downloads/3.5.png"),
    ],
)
def test_names_of_files(pattern: str, values: dict[str, Any], wanted: str) -> None:
    assert named(pattern, values, "downloads/abc.png") == wanted


def test_other_files_of_the_same_name_get_a_number(tmp_path: Path) -> None:
    with crawled(
        tmp_path,
        PICTURES,
        FILES.replace("NAMED", ', name = "p{none}"')
        .replace('name = "b"', 'name = "b"\nnone = "s"')
        .replace('"name", ', '"name", "none", '),
    ) as done:
        assert [row[2] for row in done.rows()][:3] == ["downloads/p.png", "downloads/p-2.png", "downloads/p.jpg"]


def test_downloads_go_on_after_a_break(tmp_path: Path) -> None:
    """What is committed is not asked for again: here the run stops after the listing and one file."""
    host = SmallHost(PICTURES)
    with serving(host.application) as address:
        loaded = plan_of(tmp_path, FILES.replace("NAMED", ""), address, pages=2)
        with begin(loaded, tmp_path / "runs") as run:
            crawl(run)
            folder = run.folder
        assert len(host.asked) == 2
        with Run.open(folder) as run:
            assert run.state.counts()[State.WAITING] == 4
            run.loaded = plan_of(tmp_path, FILES.replace("NAMED", ""), address)
            crawl(run)
            assert [row[1] is not None for row in run.read().rows] == [True, True, True, False, False, False]
        assert len(host.asked) == len(set(host.asked)) == 6


# -- starts


FEEDS = {
    "rss": '<rss version="2.0"><channel><title>t</title><link>SITE/</link><item><title>1</title><link> SITE/1 </link></item><item><link>SITE/2</link></item></channel></rss>',
    "atom": '<feed xmlns="http://www.w3.org/2005/Atom"><link href="SITE/"/><entry><link rel="self" href="SITE/x"/><link rel="alternate" href="SITE/1"/></entry><entry><link href="/2"/></entry></feed>',
    "rdf": '<rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#" xmlns="http://purl.org/rss/1.0/"><channel><link>SITE/</link></channel><item><link>SITE/1</link></item><item><link>SITE/2</link></item></rdf:RDF>',
}  # fmt: skip
URLSET = "<urlset xmlns='http://www.sitemaps.org/schemas/sitemap/0.9'><url><loc>\nSITE/1\n</loc></url><url><loc>SITE/2</loc></url></urlset>"
SITEMAPS = {
    "xml": {"/s": URLSET},
    "gzip": {"/s": lambda site: gzip.compress(URLSET.replace("SITE", site).encode())},
    "index": {"/s": "<sitemapindex><sitemap><loc>SITE/a</loc></sitemap><sitemap><loc>SITE/b</loc></sitemap></sitemapindex>", "/a": "<urlset><url><loc>SITE/1</loc></url></urlset>", "/b": URLSET},
    "text": {"/s": "SITE/1\r\nSITE/2\r\n"},
    "robots": {"/s": "User-agent: *\nDisallow: /x\nsitemap: SITE/a", "/a": URLSET},
    "elsewhere": {"/s": URLSET.replace("</urlset>", "<url><loc>http://elsewhere.example/1</loc></url></urlset>")},
}  # fmt: skip


@pytest.mark.parametrize(
    ("key", "name"), [*(("feed", name) for name in FEEDS), *(("sitemap", name) for name in SITEMAPS)]
)
def test_starts_from_feeds_and_sitemaps(tmp_path: Path, key: str, name: str) -> None:
    plan = f"""[start]
page = "one"
{key} = "{{+site}}/s"
[page.one]
table = "t"
fields = {{ name = "b" }}
"""
    replies: dict[str, Any] = {"/1": "<b>1</b>", "/2": "<b>2</b>"}
    for path, text in {"/s": FEEDS[name]}.items() if key == "feed" else SITEMAPS[name].items():
        kind = {"Content-Type": "text/plain" if name in ("text", "robots") and path == "/s" else "application/xml"}

        def answer(request: web.Request, body: str, text: Any = text, kind: dict[str, str] = kind) -> Any:
            site = f"http://{request.host}"
            return (200, kind, text(site) if callable(text) else text.replace("SITE", site))

        replies[path] = answer
    with crawled(tmp_path, replies, plan) as done:
        assert done.rows() == [["1"], ["2"]]
        assert done.failures == []
        assert done.notes == (["other-host"] if name == "elsewhere" else [])


def test_a_sitemap_that_is_none_is_a_failed_page(tmp_path: Path) -> None:
    plan = '[start]\npage = "one"\nsitemap = "{+site}/s"\n[page.one]\ntable = "t"\nfields = { name = "b" }\n'
    with crawled(tmp_path, {"/s": "<title>Wait</title><p>Please wait"}, plan) as done:
        assert (done.rows(), done.failures) == ([], ["not-the-page"])
