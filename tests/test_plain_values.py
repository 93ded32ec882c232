"""What is plain is read at a look, and is what the long way gives: addresses, numbers, columns of cells read again and alone."""

from __future__ import annotations

import unicodedata
from collections.abc import Sequence
from operator import itemgetter
from typing import Any
from xml.sax.saxutils import escape, quoteattr

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from wadi.clean import numbers
from wadi.clean.errors import NotReadable
from wadi.clean.locales import marks_of
from wadi.clean.numerals import plain_number
from wadi.clean.text import UNSEEN, tidied
from wadi.clean.types import Where
from wadi.page.cells import Notes, read_column
from wadi.page.decode import Encoding
from wadi.page.document import Document, read_document
from wadi.page.expressions import compile_expression
from wadi.page.field import Source
from wadi.page.nodes import JsonNode
from wadi.plan.fields import compile_field
from wadi.plan.model import FieldPlan
from wadi.urls import NotAUrl, addressed, plain_address, resolve

BASES = [
    "http://h/a/b/c.html", "http://h/a/b/", "http://h", "http://h/", "https://h:8443/a?x=/y/z", "http://h/a/b#../c",
    "http://u:p@h/a/", "http://[::1]:80/a/b", "http://h/a%20b/c d/e", "HTTP://H/A/../b", "ftp://h/a", "/a/b", "",
]  # fmt: skip
SEGMENTS = st.text(alphabet="aZ09_-~.é %:;@", min_size=1, max_size=5)
REFERENCES = st.builds(
    lambda start, parts, end, query, fragment: start + "/".join(parts) + end + query + fragment,
    st.sampled_from(["", "/", "../", "../../", "../../../../", "./", "//", "?"]),
    st.lists(SEGMENTS, max_size=3), st.sampled_from(["", "/"]),
    st.sampled_from(["", "?", "?a=1&b=2", "?q=a+b", "?q=../x", "?q=é", "?q=%zz"]), st.sampled_from(["", "#", "#MW-1", "#a/b", "#é"]),
)  # fmt: skip


@given(st.sampled_from(BASES), REFERENCES)
def test_plain_addresses_are_those_of_the_long_way(base: str, reference: str) -> None:
    quickly = plain_address(reference, base)
    try:
        expected = addressed(resolve(base, reference))
    except NotAUrl:
        assert quickly is None
    else:
        assert quickly in (None, expected)


@pytest.mark.parametrize(
    ("reference", "is_plain"),
    [
        ("a.html", True), ("../../sheets/7.html#MW-7", True), ("/l/2?page=3&x=a-b", True), ("a/b/", True), ("a..b/c.", True),
        ("./a", False), ("a/../b", False), ("//h/a", False), ("a:b", False), ("a b", False), ("a%2Fb", False), ("?a=1", False),
        ("#x", False), ("a//b", False), (" a", False), ("a\n", False), ("é", False), ("a?", False), ("a#", False), ("", False),
    ],
)  # fmt: skip
def test_references_with_anything_to_even_out_take_the_long_way(reference: str, is_plain: bool) -> None:
    assert (plain_address(reference, "http://h/x/y") is not None) is is_plain


@given(st.text(max_size=30) | st.text(alphabet="a\u00e9e\u0301\u200b\u00ad\u2066\x07 ", max_size=12))
def test_characters_that_are_not_seen_are_taken_out_wherever_they_are(text: str) -> None:
    shown = unicodedata.normalize("NFC", text.translate(UNSEEN))
    assert tidied(text) == " ".join(shown.split())


LOCALES = ["en", "de", "fr", "de-CH", "ar", "hi", "en_ZA", None]
NUMBERS = st.from_regex(r"\A[-+]?[0-9]{1,3}([.,' \u202f]?[0-9]{1,4}){0,3}( ?(m|l/s|L/S|km))?\Z")


@given(NUMBERS, st.sampled_from(LOCALES), st.sampled_from([None, "m", "l/s"]))
def test_numbers_are_those_of_the_long_way(text: str, locale: str | None, unit: str | None) -> None:
    read = numbers.number_reader(locale, unit)
    try:
        expected = float(numbers.value_reader(numbers.NumberWriting(locale, unit))(text))
    except NotReadable:
        assert plain_number(marks_of(locale), unit)(text) is None
    else:
        assert read(text) == expected


TEXTS = [
    "12", " 12,5\u00a0m", "1\u202f472,5 m", "12 m ", "12,5", "-999", "-999\u00a0m", "&minus;3 m", "n/a", "\u2014", "", " ", "05.03.2024",
    "05.\u00a003.2024", "5.3.2024", "31.02.2024", "05.03.1399", "2024-03-05", "a/b.html", "../x?y=1#z", "n/a ", "http://o/p", "javascript:x",
    "Ash\n spring", "zero\u200bwidth", "soft\u00adhyphen", "e\u0301", "two  blanks", "yes", "No", "3 days ago", "[1, 2]", "&lt;b&gt;", "12\n345", "true",
]  # fmt: skip
WRITTEN = st.sampled_from(TEXTS)
INNER = st.one_of(
    WRITTEN,
    st.builds("<b>{}</b>{}".format, WRITTEN, WRITTEN),
    st.builds("{}<br>{}".format, WRITTEN, WRITTEN),
    st.builds("<span hidden>{}</span>{}".format, WRITTEN, WRITTEN),
    st.builds("<i style='display: none'>{}</i>{}".format, WRITTEN, WRITTEN),
    st.builds("<pre>{}</pre>".format, WRITTEN),
    st.builds("<!-- c -->{}<script>x</script>".format, WRITTEN),
)
CELL = st.one_of(
    st.builds("<td class=x><a title='{}'>{}</a></td>".format, WRITTEN, INNER),
    st.builds("<td class=x>{}</td>".format, INNER),
    st.builds("<td class=x><a title='{}'>{}</a><a>{}</a></td>".format, WRITTEN, INNER, INNER),
    st.just("<td>"),
)
SPECS = [
    {"at": ".x"}, {"at": ".x", "missing": ["\u2014", "12"]}, {"at": ".x a"}, {"at": ".x a", "attr": "title"}, {"at": "> .x, td"},
    {"at": ".x", "type": "number", "locale": "fr", "unit": "m"}, {"at": ".x", "type": "number", "locale": "fr", "missing": ["-999 m", "n/a"]},
    {"at": ".x", "type": "number"}, {"at": ".x", "type": "integer", "locale": "de", "default": 7}, {"at": ".x", "missing": [""], "default": "none"},
    {"at": ".x", "type": "date", "format": "dd.MM.yyyy"}, {"at": ".x", "type": "date"}, {"at": ".x", "type": "date", "locale": "de"},
    {"at": ".x", "type": "date", "format": "d. M. y", "missing": ["05.03.2024"]}, {"at": ".x a", "attr": "title", "type": "url"},
    {"at": ".x", "type": "url", "missing": ["n/a", "a/b.html"]}, {"at": ".x", "type": "boolean"}, {"at": ".x", "type": "array"},
    {"at": ".//td"}, {"at": ".//a/@title", "type": "url"}, {"at": "./td/text()", "type": "number", "locale": "fr", "unit": "m"}, {"at": "count(.//a)"},
    {"at": "string(.//a)"}, {"at": "boolean(.//a)", "type": "boolean"}, {"at": ".//a", "attr": "title"}, {"at": "+ tr .x"}, {"at": ".//comment()"},
    {"at": ".x", "type": "number", "clean": ["drop m"], "missing": []}, {"at": ".x", "map": {"yes": "1"}}, {"at": ".x", "type": "year"},
]  # fmt: skip


def differing(specs: list[dict[str, Any]], scopes: Sequence[Any], document: Document) -> list[tuple[object, ...]]:
    """Fields, and rows in which a column read at once is not what each cell is that is followed step by step. Three times, at other
    addresses and on other days: then what was read before is known, where it means the same."""
    found: list[tuple[object, ...]] = []
    for spec in specs:
        field = compile_field("x", FieldPlan.model_validate(spec), 2026)
        for where in (Where("http://h/a/", 1.77e9), Where("http://o/b/c", 1.78e9), Where("http://o/b/c", 1.78e9)):
            source, notes = Source(document, where), Notes()
            column = read_column(field, scopes, source, notes)
            told = [(name, unread) for _, name, unread in sorted(notes.unread, key=itemgetter(0))]
            alone = Notes()
            for number, (scope, value) in enumerate(zip(scopes, column, strict=True)):
                (followed,) = read_column(field, [scope], source, alone, [])
                if followed != value or isinstance(followed, bool) != isinstance(value, bool):
                    found.append((spec, number, value, followed))
            if told != [(name, unread) for _, name, unread in alone.unread]:
                found.append((spec, told, alone.unread))
            if notes.several != alone.several:
                found.append((spec, notes.several, alone.several))
    return found


@example([f"<td class=x><a title='{text}'>{text}</a></td>" for text in TEXTS])
@given(st.lists(CELL, min_size=1, max_size=6))
def test_cells_are_those_of_the_plain_way(cells: list[str]) -> None:
    rows = "".join(f"<tr class=r>{cell}</tr>" for cell in cells)
    document = read_document(f"<table>{rows}</table>".encode(), "http://h/a/", "text/html; charset=utf-8")
    scopes = compile_expression(".r").nodes(document.scope, document)
    assert differing(SPECS, scopes, document) == []


@example([[text] for text in TEXTS])
@given(st.lists(st.lists(WRITTEN, max_size=3), min_size=1, max_size=6))
def test_cells_of_xml_are_those_of_the_plain_way(rows: list[list[str]]) -> None:
    cells = [
        "".join(f'<td class="x"><a title={quoteattr(t)}>{escape(t)}</a>{escape(t)}</td>' for t in row) for row in rows
    ]
    body = f'<?xml version="1.0"?><table>{"".join(f"<r>{row}</r>" for row in cells)}</table>'
    document = read_document(body.encode(), "http://h/a/", "application/xml")
    scopes = compile_expression("r").nodes(document.scope, document)
    assert differing(SPECS, scopes, document) == []


VALUES = st.recursive(
    st.none()
    | st.booleans()
    | st.integers(-(2**70), 2**70)
    | st.floats(allow_nan=False)
    | WRITTEN
    | st.sampled_from([12, -999, 12.0, 1e300]),
    lambda inner: st.lists(inner, max_size=2) | st.dictionaries(st.sampled_from(["a", "b"]), inner, max_size=2),
    max_leaves=4,
)
OF_JSON = [
    {"at": "$.a"}, {"at": "$.a.b"}, {"at": "$.a[0]"}, {"at": "$['a'][-1].b"}, {"at": "$"}, {"at": "$.a", "take": "text"}, {"at": "$..a"},
    {"at": "$.a", "missing": ["12", "true", "—"]}, {"at": "$.a", "type": "number"}, {"at": "$.a", "type": "number", "missing": ["-999", ""]},
    {"at": "$.a", "type": "number", "locale": "fr", "unit": "m", "default": 3}, {"at": "$.a", "type": "integer"}, {"at": "$.a", "type": "boolean"},
    {"at": "$.a", "type": "boolean", "missing": ["true"]}, {"at": "$.a", "type": "date"}, {"at": "$.a", "type": "url"}, {"at": "$.a", "many": True},
    {"at": "$.a", "type": "array"}, {"at": "$.a", "type": "number", "adjust": ["round 0"]}, {"at": "$.a", "default": "none"},
]  # fmt: skip


@example(
    [
        {"a": value}
        for value in [*TEXTS, 12, -999, 0.5, -0.0, 1e300, 2**53, 2**60 + 1, True, None, [], {}, [1], {"b": "x"}]
    ]
)
@given(st.lists(st.fixed_dictionaries({"a": VALUES}) | VALUES, min_size=1, max_size=6))
def test_cells_of_json_are_those_of_the_plain_way(rows: list[Any]) -> None:
    document = Document("json", "http://h/a/", Encoding("utf-8", "valid UTF-8"), "", data=rows)
    scopes: list[JsonNode] = [JsonNode(row, (number,)) for number, row in enumerate(rows)]
    assert differing(OF_JSON, scopes, document) == []


def test_what_can_be_printed_is_seen() -> None:
    assert not [code for code in UNSEEN if chr(code).isprintable()]


def test_what_is_remembered_is_bounded() -> None:
    stages = compile_field(
        "x", FieldPlan.model_validate({"at": ".x", "type": "number", "clean": ["drop x"]}), 2026
    ).stages
    assert stages.value_of("x" * 1000 + "1", Where()) == 1
    assert stages.known == {}
    for number in range(5000):
        assert stages.value_of(str(number), Where()) == number
    assert (len(stages.known), stages.known["0"], stages.known.get("4999")) == (4096, 0, None)
