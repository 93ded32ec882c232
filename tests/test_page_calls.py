"""Page kinds written in Python: what a function gives becomes rows, links and the next page, and goes the way of any page."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from conftest import Done, Program, serving
from small_host import HEAD, SmallHost
from wadi.actions.open_page import open_page
from wadi.actions.run import Run
from wadi.problems import UsageError

PLAN = (
    'code = "p.py"\n'
    + HEAD
    + """[start]
page = "list"
addresses = ["{+site}/l"]
[page.list]
call = "read"
table = "t"
expect = "main"
open = { one = {}, other = {} }
[page.list.fields]
name = {}
n = { type = "number" }
whence = { from = "url", find = "[^/]+$" }
head = { from = "page", at = "h1" }
[page.list.lists.parts]
rows = "$.parts[*]"
carry = ["name"]
fields = { part = {} }
[page.one]
completes = "t"
call = "details"
fields = { more = {} }
[page.other]
table = "others"
fields = { b = "b" }
"""
)
CODE = """
import wadi
from datetime import date
from decimal import Decimal

def read(page):
    rows = [
        {"name": "  A  b", "n": "1,5", "one": "/1", "parts": [{"part": "x"}, {"part": "y"}]},
        {"name": page.value("b"), "n": Decimal("2.50"), "one": None, "parts": []},
        {"name": date(2026, 11, 27), "n": float("nan"), "parts": None},
    ]
    following = page.resolve("l?2") if page.url.endswith("/l") else None
    return wadi.PageData(rows=rows, links={"other": "o"}, next=following, total=6)

def details(page):
    return wadi.PageData(rows=[{"more": page.select("li")[1].text}])
"""
PAGES = {
    "/l": "<main><h1>Head</h1><b>B</b></main>",
    "/l?2": "<main><h1>Head</h1><b>C</b></main>",
    "/1": "<ul><li>one<li>two</ul>",
    "/o": "<b>other</b>",
}


def _written(folder: Path, plan: str = PLAN, code: str = CODE) -> None:
    (folder / "p.toml").write_text(plan, "utf-8")
    (folder / "p.py").write_text(code, "utf-8")


def test_a_function_gives_rows_links_and_the_next_page(program: Program) -> None:
    _written(program.folder)
    host = SmallHost(PAGES)
    with serving(host.application) as site:
        done = program("run", "p.toml", "-i", f"site={site}", "-o", "t.csv", "--with-code")
    assert done.status == 0, done.err
    assert sorted(host.asked) == ["GET /1", "GET /l", "GET /l?2", "GET /o"]
    with Run.open("p", program.folder / "runs") as run:
        assert run.loaded.code is not None
        run.loaded.code.allow()
        assert run.read("t").rows == [
            ["  A  b", 1.5, "l", "Head", "two"],
            ["B", 2.5, "l", "Head", None],
            ["2026-11-27", None, "l", "Head", None],
            ["  A  b", 1.5, "l?2", "Head", "two"],
            ["C", 2.5, "l?2", "Head", None],
            ["2026-11-27", None, "l?2", "Head", None],
        ]
        assert run.read("parts").rows == [["  A  b", part] for part in ("x", "y", "x", "y")]
        assert run.read("others").rows == [["other"]]
    assert program("verify", "p").status == 0
    traced = program("trace", "p", "t", "1", "more")
    assert "call: details" in traced.out, traced.out + traced.err
    first = (program.folder / "t.csv").read_bytes()
    (program.folder / "p.py").write_text(CODE.replace("1,5", "2,5"), "utf-8")
    refused = program("reparse", "p", "p.toml", "-o", "t.csv")
    assert (refused.status, "code-not-approved" in refused.err) == (2, True)
    assert (program.folder / "t.csv").read_bytes() == first
    assert program("reparse", "p", "p.toml", "-o", "t.csv", "--with-code").status == 0
    assert (program.folder / "t.csv").read_bytes() == first.replace(b"1.5", b"2.5")


@pytest.mark.parametrize(
    ("body", "said"),
    [
        ("return [{'name': 1}]", "read() gives a list: wadi.PageData(rows=…, links=…, next=…) is wanted"),
        ("return None", "read() gives None"),
        ("return wadi.PageData(rows='abc')", "read(): rows: a str is no list"),
        ("return wadi.PageData(rows=[1])", "read(): row 1 is an int: a dict is wanted"),
        ("return wadi.PageData(rows=[{}, {'name': page}])", "read(): row 2, name: a Page is no value of a table"),
        ("return wadi.PageData(rows=[{'n': float('inf')}])", "read(): row 1, n: inf is no value"),
        ("return wadi.PageData(links={'two': '/x'})", 'read(): links to "two", which the page kind does not open'),
        ("return wadi.PageData(links={'one': 5})", "read(): links to one: an int is no list"),
        ("return wadi.PageData(links=['/x'])", "read(): links are a list: a dict is wanted"),
        ("return wadi.PageData(next=2)", "read(): next is an int: a URL is wanted"),
        ("return wadi.PageData(rows=({'name': 1 / 0} for _ in '1'))", "read(): ZeroDivisionError: division by zero"),
        ("a = []; a.append(a); return wadi.PageData(rows=[{'name': a}])", "nested too deeply"),
        ("raise SystemExit(3)", "read(): SystemExit: 3"),
        ("return page.value('b[')", "read(): UsageError: value: b[: "),
    ],
)  # fmt: skip
def test_what_a_function_gives_wrongly_fails_its_page_in_words(program: Program, body: str, said: str) -> None:
    done = _one_page(program, f"import wadi\ndef read(page):\n    {body}\n", inside=True)
    assert "Traceback" not in done.err
    assert f"{said}" in done.err.replace("\n", " "), done.err
    assert "[code-failed]" in done.err


ONE = (
    'code = "p.py"\n'
    + HEAD
    + """[start]
page = "list"
addresses = ["{+site}/l", "{+site}/m"]
[page.list]
call = "read"
table = "t"
fields = { name = {}, n = {} }
open = { one = {} }
[page.one]
table = "ones"
fields = { b = "b" }
[limits]
page_time = 2
"""
)


def _one_page(program: Program, code: str, plan: str = ONE, *, inside: bool = False) -> Done:
    _written(program.folder, plan, code)
    with serving(SmallHost({"/l": "<main><b>1</b>", "/m": "<i>2</i>"}).application) as site:
        run = program.inside if inside else program
        return run("run", "p.toml", "-i", f"site={site}", "--with-code", "-o", "t.csv")


def test_a_page_fails_and_the_run_goes_on(program: Program) -> None:
    code = "import wadi\ndef read(page):\n    return wadi.PageData(rows=[{'name': page.select('i')[0].text}])\n"
    done = _one_page(program, code)
    assert done.status == 1
    assert "read(): IndexError: list index out of range [code-failed]" in done.err
    assert (program.folder / "t.csv").read_text("utf-8") == "name,n\n2,\n"


def test_a_function_that_never_ends_loses_its_page_alone(program: Program) -> None:
    code = "import wadi\ndef read(page):\n    while page.select('b'):\n        pass\n    return wadi.PageData([{'name': 1}])\n"
    done = _one_page(program, code)
    assert done.status == 1
    assert "takes longer than 2 s to read [beyond-bounds]" in done.err, done.err
    assert (program.folder / "t.csv").read_text("utf-8") == "name,n\n1,\n"


def test_a_function_that_gives_nothing_is_told(program: Program) -> None:
    done = _one_page(program, "import wadi\ndef read(page):\n    return wadi.PageData()\n")
    assert "without a row from read()" in done.err, done.err


@pytest.mark.parametrize(
    ("given", "said"),
    [
        ("rows=[{'more': 1}, {'more': 2}]", "details() gives 2 rows of a page that completes one row"),
        ("rows=[{'more': 1}], next='/2'", "details() gives a next page of a page that completes one row"),
        ("", ""),
    ],
)
def test_a_page_that_completes_a_row_is_one_row(program: Program, given: str, said: str) -> None:
    code = CODE.replace('rows=[{"more": page.select("li")[1].text}]', given)
    assert code != CODE
    _written(program.folder, code=code)
    with serving(SmallHost(PAGES).application) as site:
        done = program.inside("run", "p.toml", "-i", f"site={site}", "--with-code")
    assert done.status == 1
    assert said in done.err
    traced = program.inside("trace", "p~newest", "t", "1", "more")
    assert traced.status == 0, traced.err


@pytest.mark.parametrize(("rows", "told"), [("[{'nmae': 1, 'n': 2}]", True), ("[{'name': 1, 'n': 2, 'm': 3}]", False)])
def test_a_key_that_is_no_field_is_told_where_a_field_lacks_its_own(program: Program, rows: str, told: bool) -> None:
    done = _one_page(program, f"import wadi\ndef read(page):\n    return wadi.PageData({rows})\n", inside=True)
    assert ('read() gives no "name", but "nmae", which is no field' in done.err) == told, done.err


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ('code = "p.py"\n', "", '"read" is called, but there is no code'),
        ('call = "read"', 'call = "raed"', 'p.py has no function "raed"\n  did you mean "read"?'),
        ('call = "read"', 'call = "read"\nrows = "li"', "rows picks among what read() gives: it is JSONPath"),
        ('call = "read"', 'call = "read"\nside_by_side = true', "side by side columns make the rows themselves"),
    ],
)
def test_a_plan_that_calls_wrongly_is_refused(program: Program, old: str, new: str, said: str) -> None:
    assert old in ONE
    _written(program.folder, ONE.replace(old, new), "def read(page): ...\n")
    done = program("lint", "p.toml")
    assert done.status == 2
    assert said.split("\n")[0] in done.err.replace("\n", " "), done.err


def test_a_page_in_the_library(tmp_path: Path) -> None:
    file = tmp_path / "p.html"
    file.write_text("<title>T</title><ul><li id=x><b>1,5</b> m<li><b>x</b><a href=q>q</a></ul>", "utf-8")
    page: Any = open_page(str(file))
    first, second = page.select("li")
    assert (page.title, page.status, first.text, first.attr("id"), second.attr("id")) == ("T", 200, "1,5 m", "x", None)
    assert first.value("b", type="number", locale="de") == 1.5
    assert (page.value("i"), page.values("b")) == (None, ["1,5", "x"])
    assert page.values({"at": "a", "attr": "href", "type": "url"}) == [file.with_name("q").as_uri()]
    assert page.records("li", b="b", to={"at": "a", "attr": "href"}) == [
        {"b": "1,5", "to": None},
        {"b": "x", "to": "q"},
    ]
    assert second.markup == '<li><b>x</b><a href="q">q</a></li>'
    assert (page.body, page.markup) == (file.read_bytes(), file.read_text("utf-8"))
    with pytest.raises(UsageError, match=r"b\["):
        page.select("b[")
    json = tmp_path / "p.json"
    json.write_text('{"a": [{"b": 1.50}]}', "utf-8")
    (part,) = open_page(str(json)).select("$.a[*]")
    assert (part.data, part.text, part.value("$.b")) == ({"b": 1.5}, '{"b":1.5}', "1.5")
