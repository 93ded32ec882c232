"""Cells: what is taken of nodes and made of it, from wherever it comes; the same in runs, at the prompt and in Python."""

from __future__ import annotations

import json
from decimal import Decimal
from pathlib import Path
from typing import Any

import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import wadi
from conftest import Program
from small_host import crawled
from wadi.actions.export import export
from wadi.actions.trace import Tracer
from wadi.page.document import NotADocument, read_document
from wadi.page.json_values import LongFloat, read_value, text_of_value
from wadi.problems import UsageError

JSON = """{"rows": [
 {"name": " Ash \\n\\n spring", "state": "-", "flow": 0.12345678901234567890123, "big": 9007199254740993,
  "tags": {"deep": true, "old": 1}, "note": "N/A", "html": "<p>a &amp; <b>b</b></p>", "more": "{\\"x\\": [1, 2]}"},
 {"name": "", "state": null, "flow": "-", "big": "n/a", "tags": {}, "note": null, "html": "", "more": "no"}]}"""


@pytest.mark.parametrize(
    ("field", "wanted"),
    [
        # a string of JSON is the value as it is; a dash is one, too
        ({"at": "$.name"}, [" Ash \n\n spring", None]),
        ({"at": "$.name", "take": "text"}, ["Ash\nspring", None]),
        ({"at": "$.state"}, ["-", None]),
        ({"at": "$.state", "missing": ["-"]}, [None, None]),
        ({"at": "$.note", "missing": "…"}, [None, None]),
        ({"at": "$.name", "missing": []}, [" Ash \n\n spring", ""]),
        # numbers keep their digits; for them a dash is none
        ({"at": "$.flow"}, ["0.12345678901234567890123", "-"]),
        ({"at": "$.flow", "type": "number"}, [0.12345678901234568, None]),
        ({"at": "$.big"}, ["9007199254740993", "n/a"]),
        ({"at": "$.big", "type": "integer"}, [9007199254740993, None]),
        # the keys of an object, and what stands in a string
        ({"at": "$.tags", "take": "keys", "many": True}, [["deep", "old"], []]),
        ({"at": "$.tags", "take": "keys", "many": True, "join": ", "}, ["deep, old", None]),
        ({"at": "$.tags"}, ['{"deep":true,"old":1}', "{}"]),
        ({"at": "$.html", "inside": "html", "then": "b"}, ["b", None]),
        ({"at": "$.more", "inside": "json", "then": "$.x", "many": True, "type": "integer"}, [[1, 2], []]),
        ({"from": "key"}, ["0", "1"]),
    ],
)
def test_cells_of_json(tmp_path: Path, field: dict[str, Any], wanted: list[Any]) -> None:
    (tmp_path / "a.json").write_text(JSON)
    assert _values(wadi.open_page(str(tmp_path / "a.json")).rows("$.rows[*]", x=field)["x"]) == wanted


def _values(column: pd.Series[Any]) -> list[Any]:
    return [one if isinstance(one, list) else None if pd.isna(one) else one for one in column.tolist()]


@pytest.mark.parametrize("ending", ["csv", "jsonl", "sqlite", "xlsx", "parquet"])
def test_whole_numbers_beyond_floats_are_written_whole_where_a_format_can(tmp_path: Path, ending: str) -> None:
    host = {"/": (200, {"Content-Type": "application/json"}, '[{"n": 9007199254740993}, {"n": 1.5}, {"n": 2}]')}
    plan = """[start]
page = "l"
addresses = ["{+site}/"]
[page.l]
rows = "$[*]"
table = "t"
fields = { n = { at = "$.n", type = "number" } }
"""
    with crawled(tmp_path, host, plan) as done:
        assert done.rows() == [[9007199254740993], [1.5], [2.0]]
        assert export(done.run, tmp_path / f"t.{ending}") == 3
        if ending in ("csv", "jsonl"):
            assert "9007199254740993" in (tmp_path / f"t.{ending}").read_text()
        assert done.run.table()["n"].tolist()[1:] == [1.5, 2.0]


HTML = """<ul><li id=a><pre>
 one
   two
</pre><p title=" x  y ">say  <b>so</b><br>1. &lt;b&gt;</p><template><i>t</i></template><noscript><i>n</i></noscript></li></ul>"""


@pytest.mark.parametrize(
    ("field", "wanted"),
    [
        ({"at": "pre"}, " one\n   two"),
        ({"at": "pre", "take": "verbatim"}, " one\n   two\n"),
        ({"at": "p"}, "say so\n1. <b>"),
        ({"at": "p", "take": "verbatim"}, "say  so1. <b>"),
        ({"at": "p", "take": "direct text"}, "say 1. <b>"),
        ({"at": "p", "attr": "title"}, "x y"),
        ({"at": "p", "attr": "title", "take": "verbatim"}, " x  y "),
        ({"at": "p", "take": "html"}, '<p title=" x  y ">say  <b>so</b><br>1. &lt;b&gt;</p>'),
        ({"at": "p", "take": "inner html"}, "say  <b>so</b><br>1. &lt;b&gt;"),
        ({"at": "p", "take": "safe html"}, "say <b>so</b><br>1. &lt;b&gt;"),
        ({"at": "p", "take": "markdown"}, "say **so**  \n1\\. \\<b>"),
        ({"at": "template", "inside": "html", "then": "i"}, "t"),
        ({"at": "noscript", "inside": "html", "then": "i"}, "n"),
        ({"at": "i"}, None),
        ({"at": ".//p/@title", "take": "verbatim"}, " x  y "),
        ({"at": "p", "take": "keys"}, None),
    ],
)
def test_cells_of_html(tmp_path: Path, field: dict[str, Any], wanted: str | None) -> None:
    (tmp_path / "a.html").write_text(HTML)
    assert _values(wadi.open_page(str(tmp_path / "a.html")).rows("li", x=field)["x"]) == [wanted]


def test_cells_of_files_of_columns_are_as_they_stand(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text('name;n\n" a  b ";-\nn/a;3\n;4\n')
    frame = wadi.open_page(str(tmp_path / "a.csv")).rows(
        "$[*]", name={"at": "$.name"}, n={"at": "$.n", "type": "integer"}
    )
    assert _values(frame["name"]) == [" a  b ", "n/a", None]
    assert _values(frame["n"]) == [None, 3, 4]


@pytest.mark.parametrize(
    "field", [{"at": "li["}, {"at": "b", "type": "nubmer"}, {"at": "b", "clean": "aftr x"}, {"took": "b"}]
)
def test_a_field_that_means_nothing_is_refused_in_python(tmp_path: Path, field: dict[str, Any]) -> None:
    (tmp_path / "a.html").write_text(HTML)
    with pytest.raises(UsageError):
        wadi.open_page(str(tmp_path / "a.html")).rows("li", x=field)


def test_what_comes_by_the_way_to_a_page_is_read_as_all_cells_are(tmp_path: Path) -> None:
    host = {"/": '<a href="/a">12; x; 7</a>', "/a": "<p>one</p><p>two</p>"}
    plan = """years = "3;four"
day = "2026-11-03"
[start]
page = "home"
addresses = ["{+site}/"]
[page.home.open.list]
at = "a"
[page.list]
rows = "p"
table = "t"
[page.list.fields]
name = "."
each = { from = "link", split = ";", many = true, type = "integer" }
first = { from = "link", find = '\\d+', type = "integer" }
years = { from = "input.years", split = ";", many = true, type = "integer" }
both = { from = "input.years", many = true, split = ";", join = "+" }
day = { from = "input.day", type = "date" }
"""
    with crawled(
        tmp_path,
        host,
        plan,
    ) as done:
        table = done.run.read()
        assert table.rows == [[name, [12, 7], 12, [3], "3+four", "2026-11-03"] for name in ("one", "two")]
        assert table.ledger.unread == {"each": 2, "years": 2}
        assert table.ledger.unread_examples["years"][1].raw == "four"


def test_a_detail_page_too_has_values_by_the_way_to_it(tmp_path: Path) -> None:
    host = {
        "/": '<ul><li><a href="/1">No 1</a></li><li><a href="/2">No x</a></li></ul>',
        "/1": "<b>x</b>",
        "/2": "<b>y</b>",
    }
    plan = """area = "north"
[start]
page = "l"
addresses = ["{+site}/"]
[page.l]
rows = "li"
table = "t"
fields = { name = "a" }
[page.l.open.d]
at = "a"
[page.d]
completes = "t"
[page.d.fields]
b = "b"
number = { from = "link", find = "No (.*)", type = "integer" }
area = { from = "input.area" }
"""
    with crawled(tmp_path, host, plan) as done:
        assert done.rows() == [["No 1", "x", 1, "north"], ["No x", "y", None, "north"]]
        assert done.run.read().ledger.unread == {"number": 1}
        tracer = Tracer(done.run)
        name, assembly, placed = tracer.row("t", "1")
        cells = [tracer.cell(name, assembly, placed, place) for place in range(4)]
        assert [(one.value, one.final) for one in cells] == [(one.final, one.final) for one in cells]
        assert [step.name for step in cells[2].steps] == ["from link", "picked", "find", "missing", "type: integer"]


TRY = """<dl><dt>Depth<dd>12 m<dt>Kind<dd>well; spring</dl><table><tr><th>Flow<th>On<tr><td>3<td>x</table><p>no</p>"""


@pytest.mark.parametrize(
    ("arguments", "telling"),
    [
        (["--label", "Depth", "--type", "integer", "--unit", "m"], "12 m  →  12"),
        (["--label", "Kind", "--split", ";", "--many", "--rows", "dl"], "well; spring"),
        (["--under", "Flow", "--rows", "tr:has(td)"], "3"),
        (["--from", "url", "--find", "[^/]*$", "--rows", "dl"], "try.html"),
        (["p", "--map", "no=false", "--type", "boolean"], "no  →  false"),
        (["p", "--missing", "no", "--default", "none", "--rows", "body"], "none"),
        (["dl", "--take", "markdown"], "Depth"),
        (["--label", "None"], "label None    nothing"),
        (["dd", "--type", "integer", "--unit", "m", "--units", "km=1000"], "12 m  →  12"),
        (["p", "--units", "km=x"], "--units wants numbers"),
        (["p", "--map", "x"], "is no TEXT=VALUE"),
        (["p", "--adjust", "put-behind x"], "adjust"),
        (["p", "--parse", "html"], "1 match"),
    ],
)
def test_try_knows_every_key_of_a_field(program: Program, arguments: list[str], telling: str) -> None:
    (program.folder / "try.html").write_text(TRY)
    done = program.inside("try", "try.html", *arguments)
    assert telling in done.out + done.err
    assert done.status in (0, 1, 2)


def test_options_stand_anywhere_and_values_are_those_of_a_table(program: Program) -> None:
    (program.folder / "try.html").write_text(TRY)
    first = program.inside(
        "try", "--rows", "tr:has(td)", "try.html", "--type", "boolean", "td + td", "--map", "x=yes", "td"
    )
    assert first.status == 0
    assert "true" in first.out
    assert "True" not in first.out
    (program.folder / "a.csv").write_text("a;b\n1;2\n")
    done = program.inside("try", "a.csv", "--parse", "csv", "$[*].b", "--json")
    assert json.loads(done.out)["found"]["$[*].b"][0]["values"] == ["2"]


@pytest.mark.parametrize(
    ("expression", "place"),
    [
        (".//a[foo(@href)]", 5),
        (".//a[contains(@href)]", 5),
        ("//a[b[last(1)]]", 6),
        ("li:nth-child(x)", 13),
        ("$.a[-0]", 4),
    ],
)
def test_lint_names_the_place_of_a_mistake_in_an_expression(program: Program, expression: str, place: int) -> None:
    plan = f'wadi = 1\n[start]\npage = "l"\naddresses = ["http://h/"]\n[page.l]\nrows = "li"\ntable = "t"\n[page.l.fields]\nx = \'{expression}\'\n'
    (program.folder / "p.toml").write_text(plan)
    done = program.inside("lint", "p.toml")
    assert done.status == 2
    assert f"p.toml:9:{6 + place}: " in done.err + done.out
    assert "bad-expression" in done.err + done.out


def test_an_expression_that_xml_cannot_be_asked_fails_the_page_and_not_the_run(tmp_path: Path) -> None:
    host = {"/": (200, {"Content-Type": "text/xml"}, "<r><i>1</i></r>")}
    plan = '[start]\npage = "l"\naddresses = ["{+site}/"]\n[page.l]\nrows = "i:nth-child(1 of i)"\ntable = "t"\nfields = { x = "." }\n'
    with crawled(tmp_path, host, plan) as done:
        assert done.failures == ["bad-expression"]


@given(st.recursive(
    st.none() | st.booleans() | st.integers(-(10**30), 10**30) | st.text(max_size=8)
    | st.decimals(allow_nan=False, allow_infinity=False, places=20).map(lambda one: LongFloat(str(one))),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=4), inner, max_size=4), max_leaves=12,
))  # fmt: skip
def test_what_is_written_as_json_reads_back_with_all_digits(value: Any) -> None:
    assert _plain(read_value(text_of_value([value]))) == _plain([value])


def _plain(value: Any) -> Any:
    if isinstance(value, list):
        return [_plain(one) for one in value]
    if isinstance(value, dict):
        return {key: _plain(one) for key, one in value.items()}
    return Decimal(str(value)) if isinstance(value, float | int) and not isinstance(value, bool) else value


@given(st.binary(max_size=200), st.sampled_from(["application/json", "text/csv", "text/xml", "text/html", ""]))
def test_any_reply_is_a_document_or_none(body: bytes, content_type: str) -> None:
    try:
        assert read_document(body, "http://h/", content_type).text is not None
    except NotADocument as error:
        assert str(error)
