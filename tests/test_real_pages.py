"""What real pages do, each with the plan that takes it: odd values, odd places, rows that are none, markup, encodings."""

from __future__ import annotations

import json
from typing import Any

import pytest

from wadi.crawl.extract import Extract, extract
from wadi.crawl.kinds import compile_kinds
from wadi.plan.reader import parse_plan
from wadi.web.messages import Reply, Request

HEAD = 'wadi = 1\n[start]\npage = "list"\naddresses = "http://h/list"\n[page.list]\ntable = "t"\n'


def _extract(
    page: bytes | str, rows: str, fields: str, *, content_type: str = "text/html", page_keys: str = ""
) -> Extract:
    text = f"{HEAD}{page_keys}\n" + (f"rows = {json.dumps(rows)}\n" if rows else "") + f"[page.list.fields]\n{fields}\n"
    kinds = compile_kinds(parse_plan(text, "p.toml").plan, this_year=2026)
    body = page.encode() if isinstance(page, str) else page
    reply = Reply(Request("http://h/list"), "http://h/list", 200, (("Content-Type", content_type),), body, 0.0)
    return extract(reply, kinds["list"], kinds)


def _rows(*arguments: Any, **more: Any) -> list[list[Any]]:
    found = _extract(*arguments, **more)
    assert found.failure is None, found.failure
    return found.tables[0].rows


def _cell(html: str, field: str) -> Any:
    return _rows(f"<table><tr>{html}</tr></table>", "tr", f"x = {field}")[0][0]


@pytest.mark.parametrize(
    ("cell", "field", "wanted"),
    [
        # missing values
        ("<td>\u00a0", '"td"', None),
        ("<td>-", '"td"', None),
        ("<td>—", '"td"', None),
        ("<td title=''>x", '{ at = "td", attr = "title" }', None),
        ("<td>x", '{ at = "td", attr = "title" }', None),
        ("<td>-1", '{ at = "td", type = "integer", missing = ["-1"] }', None),
        ("<td>NA", '"td"', "NA"),
        ("<td>007", '"td"', "007"),
        # booleans that are an image, a mark, a class
        ("<td><img alt=yes>", '{ at = "img", attr = "alt", type = "boolean" }', True),
        ("<td>✗", '{ at = "td", type = "boolean" }', False),
        ("<td class=on>", '{ at = "td", attr = "class", map = { on = "yes" }, else = "no", type = "boolean" }', True),
        # numbers
        ("<td>1\u202f234,5", '{ at = "td", type = "number", locale = "fr" }', 1234.5),
        ("<td>١٢٣", '{ at = "td", type = "integer" }', 123),
        ("<td>1,234", '{ at = "td", type = "number", locale = "en" }', 1234.0),
        # where the value stands
        ("<td><a>more</a> 12 rows", '{ at = "td", take = "direct text", find = "\\\\d+", type = "integer" }', 12),
        ("<td><span>-4</span>/<span>+77</span>", '{ at = "span:nth-of-type(2)", type = "integer" }', 77),
        ("<td><a>Ash</a><em>MW-1</em>", '"em"', "MW-1"),
        ("<td><p>def<p>desc", '{ at = "p:nth-of-type(2)" }', "desc"),
        ("<td><a title='Ash Spring at Merrow'>Ash Spr…</a>", '{ at = "a", attr = "title" }', "Ash Spring at Merrow"),
        ("<td><input value='12'>", '{ at = "input", attr = "value", type = "integer" }', 12),
        ("<td><select><option>a<option selected>b</select>", '"option[selected]"', "b"),
        ("<td><textarea>\nline</textarea>", '"textarea"', "line"),
        ("<td>name (12 m)", "{ at = \"td\", clean = [\"between '(' ')'\"] }", "12 m"),
        (
            '<td data-x=\'{"a": {"b": 7}}\'>',
            '{ at = "td", attr = "data-x", inside = "json", then = "$.a.b", type = "integer" }',
            7,
        ),
        ("<td>x<th>y", '"th"', "y"),
    ],
)
def test_values_and_where_they_stand(cell: str, field: str, wanted: Any) -> None:
    assert _cell(cell, field) == wanted


SCRIPTED = """<script>var app = {"rows": undefined, when: new Date(1), list: [{n: "\\u003Cb\\u003E", v: 1.5}]}; go()</script>
<script type=application/json id=s>{"inner": "{\\"deep\\": [1, 2]}", "html": "<ul><li>a<li>b</ul>"}</script><p>x</p>"""


@pytest.mark.parametrize(
    ("field", "wanted"),
    [
        ('{ from = "data", at = "$.state.app.list[0].n" }', "<b>"),
        ('{ from = "data", at = "$.state.app.list[0].v", type = "number" }', 1.5),
        ('{ from = "data", at = "$.state.s.inner", inside = "json", then = "$.deep[1]", type = "integer" }', 2),
        ('{ from = "data", at = "$.state.s.html", inside = "html", then = "li", many = true }', ["a", "b"]),
        ("{ at = 're:v: ([0-9.]+)', type = \"number\" }", 1.5),
    ],
)
def test_data_in_scripts(field: str, wanted: Any) -> None:
    assert _rows(SCRIPTED, "", f"x = {field}") == [[wanted]]


@pytest.mark.parametrize(
    ("data", "rows", "fields", "wanted"),
    [
        ('{"columns": ["code", "m"], "data": [["A", 1], ["B", null]]}', "$.data[*]", 'c = "$[0]"\nm = { at = "$[1]", type = "integer" }', [["A", 1], ["B", None]]),
        ('{"MW-1": {"m": 1}, "MW-2": {"m": 1.234}}', "$.*", 'c = { from = "key" }\nm = { at = "$.m", type = "number" }', [["MW-1", 1.0], ["MW-2", 1.234]]),
        ('{"rows": []}', "$.rows[*]", 'c = "$.c"', []),
        ('[{"c": null}, {"c": false}, {}]', "$[*]", 'c = { at = "$.c", default = "none" }', [["none"], ["false"], ["none"]]),
        ('[{"k": ["a", "b"]}]', "$[*]", 'k = { at = "$.k", many = true }', [[["a", "b"]]]),
        ('[{"h": "<p>one</p><p>two</p>"}]', "$[*]", 'h = { at = "$.h", inside = "html", then = "p:nth-of-type(2)" }', [["two"]]),
        ('{"c": 1}\n{"c": 2}', "$[*]", 'c = { at = "$.c", type = "integer" }', [[1], [2]]),
        ('[{"c": 12345678901234567890123}]', "$[*]", 'c = "$.c"', [["12345678901234567890123"]]),
    ],
)  # fmt: skip
def test_rows_in_json(data: str, rows: str, fields: str, wanted: list[list[Any]]) -> None:
    assert _rows(data, rows, fields, content_type="application/json") == wanted


TABLE = """<table><tr><th>Code<th>Name</tr><tr><td colspan=2>Saltholm</tr><tr><td><input type=checkbox><td>MW-1<td>Ash</tr>
<tr><td><input type=checkbox><td>MW-2<td>Elm</tr><tr><td colspan=3><a href=?p=1>1</a></table>"""


@pytest.mark.parametrize(
    ("page", "rows", "field", "wanted"),
    [
        (TABLE, "tr:has(td + td)", '"td:nth-child(2)"', ["MW-1", "MW-2"]),
        (TABLE, "tr:has(input)", '"td:nth-child(3)"', ["Ash", "Elm"]),
        ("<table><tr><th>MW-1<td>Ash<tr><th>MW-2<td>Elm</table>", "tr", '"th"', ["MW-1", "MW-2"]),
        ("<ul><li class=notice>!<li>Ash<li>Elm</ul>", "li:not(.notice)", '"."', ["Ash", "Elm"]),
        ("<dl><dt>a<dt>b<dd>1<dt>c<dd>2</dl>", "dd", '"string(preceding-sibling::dt[1])"', ["b", "c"]),
        ("<ul><li>x<ul><li>y</ul></ul>", "body > ul > li", '{ at = ".", take = "direct text" }', ["x"]),
        ("<table><tr><td><a href=../>Parent Directory</a><tr><td><a href=a.csv>a.csv</a></table>", "//tr[not(contains(., 'Parent'))]", '"a"', ["a.csv"]),
    ],
)  # fmt: skip
def test_rows_that_are_none_are_kept_out(page: str, rows: str, field: str, wanted: list[str]) -> None:
    assert [row[0] for row in _rows(page, rows, f"x = {field}")] == wanted


@pytest.mark.parametrize(
    "page",
    [
        '<?xml version="1.0"?>\n<!DOCTYPE html [<!ENTITY x "y">]>\n<html><p class=v>ok</p></html>',
        '<html xmlns="http://www.w3.org/1999/xhtml"><p class="v">ok</p></html>',
        "<!-- first --><!doctype html><P CLASS=v>ok</P></html><!-- last -->",
        "<p class='v'>ok</p></div></span></body></html>trailing",
        "<p class=v>ok",
        f"<p class=v>{' ' * 45}ok\n{' ' * 45}</p>",
    ],
)
@pytest.mark.parametrize("expression", ["p.v", "//p[@class='v']"])
def test_markup_of_all_manners(page: str, expression: str) -> None:
    assert _rows(page, "", f'x = "{expression}"') == [["ok"]]


@pytest.mark.parametrize(
    ("body", "content_type"),
    [
        ("<p>Öster–Dale".encode(), "text/html"),
        ("<meta charset=latin1><p>Öster–Dale".encode("windows-1252"), "text/html"),
        (b"<!--" + b"x" * 600 + "--><meta charset=iso-8859-1><p>Öster–Dale".encode("windows-1252"), "text/html"),
        (
            '<meta http-equiv=content-type content="text/html; charset=x-cp1252"><p>Öster–Dale'.encode("windows-1252"),
            "text/html",
        ),
        ("<meta charset=koi8-r><p>Öster–Dale".encode(), "text/html; charset=UTF-8"),
        ("\ufeff<meta charset=koi8-r><p>Öster–Dale".encode(), "text/html; charset=latin1"),
        ("\ufeff<p>Öster–Dale".encode("utf-16-le"), "text/html"),
    ],
)
def test_encodings_as_browsers_decide(body: bytes, content_type: str) -> None:
    assert _rows(body, "", 'x = "p"', content_type=content_type) == [["Öster–Dale"]]


def test_broken_bytes_do_not_stop_a_page() -> None:
    assert _rows(b"<p>a\xff\xfeb</p>", "", 'x = "p"', content_type="text/html; charset=utf-8")[0][0].startswith("a")


@pytest.mark.parametrize(
    ("page", "content_type", "fields"),
    [
        ('{"a": 1}', "application/json", 'x = "p"'),
        ("<p>x", "text/html", 'x = "$.a"'),
        (b"%PDF-1.7", "application/pdf", 'x = "p"'),
    ],
)
def test_a_reply_of_another_kind_is_a_failure_with_words(page: bytes | str, content_type: str, fields: str) -> None:
    failure = _extract(page, "", fields, content_type=content_type).failure
    assert failure is not None
    assert failure.code == "wrong-kind"


def test_expressions_for_two_kinds_of_documents_are_a_mistake_of_the_plan() -> None:
    from wadi.problems import PlanError

    with pytest.raises(PlanError, match=r'"p" reads HTML or XML, but "\$.a" of this page JSON'):
        parse_plan(f'{HEAD}rows = "$.a"\n[page.list.fields]\nx = "p"\n', "p.toml")
    with pytest.raises(PlanError, match="inside and then go together"):
        parse_plan(f'{HEAD}[page.list.fields]\nx = {{ at = "p", inside = "json" }}\n', "p.toml")
