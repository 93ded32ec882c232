"""Trees as a browser has them, XML, JSON, literals in scripts, structured data, JSONPath."""

from __future__ import annotations

import pickle
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wadi.page.document import NotADocument, kind_of, read_document
from wadi.page.expressions import compile_expression
from wadi.page.json_values import text_of_value
from wadi.page.jsonpath import BadPath, compile_path, pointed
from wadi.page.literals import NoLiteral, assignments, literal
from wadi.page.nodes import JsonNode, elements, line_of
from wadi.page.structured import structured
from wadi.page.text import text_of


def test_the_same_expression_holds_on_a_tidy_and_on_a_sloppy_page() -> None:
    tidy = b"<table class=t><tbody><tr><td>1</td></tr></tbody></table>"
    sloppy = b"<TABLE CLASS=t><TR><TD>1"
    for page in (tidy, sloppy):
        document = read_document(page, "http://h/", "text/html")
        assert len(compile_expression("table.t > tbody > tr > td").nodes(document.scope, document)) == 1


@given(st.text(alphabet="<>/ab =\"'!-&;pdtr\n\0\x0b:@", max_size=60))
def test_any_markup_becomes_a_tree_that_is_written_and_read_alike(html: str) -> None:
    try:
        document = read_document(html.encode(), "http://h/", parse="html")
    except NotADocument:
        return
    tags = [element.tag for element in elements(document.top)]
    assert tags[0] == "html"
    assert text_of(document.top) == text_of(document.top)
    for element in elements(document.top):
        assert (line_of(element) or 1) <= html.count("\n") + 1


@pytest.mark.parametrize(
    ("body", "content_type", "kind"),
    [
        (b"<p>x", "text/html", "html"),
        (b"<p>x", "", "html"),
        (b"plain words", "text/plain", "html"),
        (b'<?xml version="1.0"?><rss/>', "text/html", "xml"),
        (b'<?xml version="1.0"?><!DOCTYPE html [<!ENTITY x "y">]><html>', "text/html", "html"),
        (b"<html xmlns=x>", "application/xhtml+xml", "html"),
        (b"<feed/>", "application/atom+xml; charset=utf-8", "xml"),
        (b'{"a": 1}', "text/html", "json"),
        (b" [1]", "", "json"),
        (b")]}',\n{}", "text/plain", "json"),
        (b"x", "application/vnd.api+json", "json"),
        (b"\x89PNG\r\n", "text/html", None),
        (b"a\0b\0c", "text/html", "html"),
        (b"<p>\0x", "", "html"),
        (b"a\0b\0c", "application/octet-stream", None),
        (b"GIF", "image/gif", None),
        (b"", "text/html", None),
        ("\ufeff<p>x".encode("utf-16"), "", "html"),
    ],
)
def test_what_a_reply_is_read_as(body: bytes, content_type: str, kind: str | None) -> None:
    assert kind_of(body, content_type) == kind


@pytest.mark.parametrize(
    ("body", "telling"),
    [
        (b"", "empty"),
        (b"\x89PNG\r\n\x1a\n", "binary"),
        (b"<!-- nothing -->", "no element"),
        (b"{broken", "no JSON"),
        (b"[" * 100_000, "no JSON"),
    ],
)
def test_what_is_no_document_says_why(body: bytes, telling: str) -> None:
    with pytest.raises(NotADocument, match=telling):
        read_document(body, "http://h/")


FEED = b"""<?xml version="1.0" encoding="ISO-8859-1"?>
<feed xmlns="http://www.w3.org/2005/Atom" xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:media="http://search.yahoo.com/mrss/">
<title>Springs</title><entry><title>Caf\xe9</title><dc:creator>Ilsa</dc:creator><media:title>Photo</media:title></entry></feed>"""


@pytest.mark.parametrize(
    ("expression", "wanted"),
    [
        ("//entry/title", ["Café"]),
        ("//entry/dc:creator", ["Ilsa"]),
        ("//media:title", ["Photo"]),
        ("entry > title", ["Café", "Photo"]),
        ("creator", ["Ilsa"]),
        ("//other:title", []),
        ("//*[local-name()='creator']", ["Ilsa"]),
    ],
)
def test_names_in_xml(expression: str, wanted: list[str]) -> None:
    document = read_document(FEED, "http://h/", "application/xml")
    assert [text_of(node) for node in compile_expression(expression).nodes(document.scope, document)] == wanted  # type: ignore[arg-type]


BOMB = "".join(f'<!ENTITY a{n} "{f"&a{n - 1};" * 10}">' for n in range(1, 9))


@pytest.mark.parametrize(
    ("source", "text", "is_whole"),
    [
        ("<!DOCTYPE r [<!ENTITY a 'Ash'>]><r>&a; Well &amp; Co</r>", "Ash Well & Co", True),
        ("<!DOCTYPE r [<!ENTITY a SYSTEM 'file:///etc/hostname'>]><r>Ash &a;Well</r>", "Ash &a;Well", True),
        ("<r>caf&eacute; &co; <![CDATA[&eacute;]]><!-- &x; --></r>", "café &co; &eacute;", True),
        ("<!DOCTYPE r [<!ENTITY co 'Ash'>]><r>caf&eacute; &co;</r>", "café Ash", True),
        ("<!DOCTYPE r [<!ENTITY co '<b>Ash</b>'>]><r>&co; &lt;b></r>", "Ash <b>", True),
        (f"<!DOCTYPE r [<!ENTITY a0 'ha'>{BOMB}]><r>Ash &a8;</r>", "Ash", False),
    ],
)
def test_entities_of_xml_are_those_that_the_document_declares_and_bounded(
    source: str, text: str, is_whole: bool
) -> None:
    document = read_document(source.encode(), "http://h/", "application/xml")
    assert (text_of(document.top), not document.cut_off) == (text, is_whole)
    assert document.unknown_entities == (tuple(name for name in ("a", "co") if f"&{name};" in text))


def test_broken_xml_is_read_as_far_as_it_goes_and_told() -> None:
    document = read_document(b"<a><b>1</b><c>2</a>", "http://h/", "text/xml")
    assert "line 1" in document.cut_off
    assert [text_of(n) for n in compile_expression("//b").nodes(document.scope, document)] == ["1"]  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("body", "wanted"),
    [
        (b'{"a": [1, null]}', {"a": [1, None]}),
        (b'{"a": 1}\n{"a": 2}\n', [{"a": 1}, {"a": 2}]),
        (b'[{"n": 123456789012345678901234567890}]', [{"n": 123456789012345678901234567890}]),
        (b")]}'\n[1]", [1]),
        (b"\xef\xbb\xbf[1]", [1]),
        (b"[0.12345678901234567890123]", [0.12345678901234568]),
        (b"[9007199254740993, 1e3, 0.1]", [9007199254740993, 1000.0, 0.1]),
        (rb'["\ud83d\ude00 \ud800"]', ["\U0001f600 \ufffd"]),
        (rb'[12345678901234567890, "\ud800"]', [12345678901234567890, "\ufffd"]),
    ],
)
def test_json_in_its_forms(body: bytes, wanted: Any) -> None:
    assert read_document(body, "http://h/", "application/json").data == wanted


@pytest.mark.parametrize(
    ("path", "wanted"),
    [
        ("$", [("$", 0)]),
        ("$.a.b[1]", [("$.a.b[1]", 2)]),
        ("$.a.b[-1]", [("$.a.b[2]", 3)]),
        ("$['a']['c d']", [("$.a['c d']", "x")]),
        ('$["a"]["b"][0]', [("$.a.b[0]", 1)]),
        ("$.a.b[9]", []),
        ("$.none.b", []),
        ("$.a.b[*]", [("$.a.b[0]", 1), ("$.a.b[1]", 2), ("$.a.b[2]", 3)]),
        ("$.a.b[?@ > 1]", [("$.a.b[1]", 2), ("$.a.b[2]", 3)]),
        ("$..b[0]", [("$.a.b[0]", 1)]),
    ],
)
def test_json_paths(path: str, wanted: list[tuple[str, Any]]) -> None:
    data = {"a": {"b": [1, 2, 3], "c d": "x"}}
    found = [(pointed(node.path), node.value) for node in compile_path(path)(data)]
    assert found == (wanted if path != "$" else [("$", data)])


_JSON = st.recursive(
    st.none() | st.integers(-5, 5) | st.text("ab'", max_size=2),
    lambda inner: (
        st.lists(inner, max_size=3) | st.dictionaries(st.text("ab' ", min_size=1, max_size=2), inner, max_size=3)
    ),
    max_leaves=8,
)


@given(_JSON, st.lists(st.sampled_from([".a", ".b", "[0]", "[-1]", "['a']", "['b ']", '["ab"]']), max_size=3))
def test_plain_paths_walked_here_equal_the_librarys(data: Any, steps: list[str]) -> None:
    import jsonpath_rfc9535 as library

    path = "$" + "".join(steps)
    theirs = [(tuple(node.location), node.value) for node in library.find(path, data)]
    assert [(node.path, node.value) for node in compile_path(path)(data)] == theirs


def test_a_bad_path_says_where() -> None:
    with pytest.raises(BadPath) as bad:
        compile_path("$.a[?@.x ==]")
    assert bad.value.offset == 11


@pytest.mark.parametrize(
    ("script", "wanted"),
    [
        ("var x = {a: 1, 'b': [true, null, undefined], };", {"x": {"a": 1, "b": [True, None, None]}}),
        ('window.__DATA__ = {"t": "\\u003Cb\\u003E"}; run(x)', {"__DATA__": {"t": "<b>"}}),
        ("let d = [new Date('2026-11-03'), new Date(0), -1.5e3, 0x10]", {"d": ["2026-11-03", 0, -1500.0, 16]}),
        ("a.b['c'] = [!0, !1, void 0, NaN]", {"a.b['c']": [True, False, None, None]}),
        ("x = JSON.parse('{\"a\": [1]}');", {"x": {"a": [1]}}),
        ("/* c */ x = { // note\n a: `t` }", {"x": {"a": "t"}}),
        ("f = {a: function () { return 1 }}; g = {b: 2}", {"g": {"b": 2}}),
        ("if (a == {}) {}", {}),
        (
            "x = {a: '\\uD83D\\uDE00', n: 0.1234567890123456789}",
            {"x": {"a": "\U0001f600", "n": 0.12345678901234568}},
        ),
        ("x = {a: 'it\\'s', b: \"q\\\\\"}", {"x": {"a": "it's", "b": "q\\"}}),
        ("x = {a: 'never closed", {}),
    ],
)
def test_literals_in_scripts(script: str, wanted: dict[str, Any]) -> None:
    assert {name: value for name, value in assignments(script) if value} == wanted


@given(st.text(alphabet="x={}[]:,'\"\\`1.-newDate()tru/* \n", max_size=60))
def test_any_script_gives_literals_or_none(script: str) -> None:
    assert isinstance(dict(assignments(script)), dict)
    try:
        literal(script)
    except NoLiteral:
        pass


MACHINE = """<html><head><meta name=Description content=" Springs  of  the dale "><meta property="og:title" content="Ash">
<script type="application/ld+json">{"@graph": [{"@type": "Place", "name": "Ash"}, {"@type": "Person"}]}</script>
<script type="application/json" id="state">{"rows": [{"code": "MW-1"}]}</script><script>window.cfg = {page: 2}</script></head>
<body><div itemscope itemtype="http://schema.org/Place"><span itemprop="name">Ash</span><a itemprop="url" href="/a">x</a>
<time itemprop="seen" datetime="2026-11-03">today</time><div itemprop="geo" itemscope><meta itemprop="latitude" content="1.5"></div></div>
<div vocab="http://schema.org/" typeof="Event"><b property="name">Week</b><div typeof="Place" property="location"><i property="name">Ash</i></div></div></body></html>"""


def test_structured_data_is_gathered() -> None:
    data = structured(read_document(MACHINE.encode(), "http://h/x/", "text/html"))
    assert data["jsonld"] == [{"@type": "Place", "name": "Ash"}, {"@type": "Person"}]
    assert data["meta"] == {"description": "Springs of the dale", "og:title": "Ash"}
    assert data["state"] == {"state": {"rows": [{"code": "MW-1"}]}, "cfg": {"page": 2}}
    (place,) = data["microdata"]
    assert place["type"] == ["http://schema.org/Place"]
    assert place["properties"] == {
        "name": ["Ash"], "url": ["http://h/a"], "seen": ["2026-11-03"], "geo": [{"properties": {"latitude": ["1.5"]}}],
    }  # fmt: skip
    assert [(item["type"], item["properties"]["name"]) for item in data["rdfa"]] == [
        (["Event"], ["Week"]),
        (["Place"], ["Ash"]),
    ]


def test_numbers_with_many_digits_are_floats_that_keep_them() -> None:
    document = read_document(b'{"rows": [{"a": 51.123456789012345678}, {"a": 0.5}]}', "http://h/", "application/json")
    (node,) = compile_expression("$.rows[?@.a > 51].a").nodes(document.scope, document)
    assert isinstance(node, JsonNode)
    assert (node.value, str(node.value)) == (51.123456789012345678, "51.123456789012345678")
    assert str(pickle.loads(pickle.dumps(node.value))) == "51.123456789012345678"
    assert text_of_value(document.data) == '{"rows":[{"a":51.123456789012345678},{"a":0.5}]}'


def test_json_nodes_know_their_key() -> None:
    assert (JsonNode(1, ("a", 0)).key, JsonNode(1, ()).key) == ("0", None)
