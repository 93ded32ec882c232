"""Bytes to documents: decoding, trees, expressions, text."""

from __future__ import annotations

import codecs
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from lxml import etree

from wadi.page.decode import encoding_of, utf8_of
from wadi.page.document import NotADocument, read_document, read_html
from wadi.page.expressions import BadExpression, compile_expression, language_of
from wadi.page.text import direct_text_of, text_of
from wadi.urls import NotAUrl, host_of, normalised, resolve, without_secret

PAGE = b"""<!doctype html><TITLE> The  list </TITLE><body>
<UL class=list><LI class="a x" id=one>one<LI class=b>two<p>sub</p><LI class=c><a HREF=foo>three</a> 3</UL>
<dl><dt>Depth<dd>12 m<dt>Note<dd>soft&shy;ly<br>said</dl></body>"""


def _picked(expression: str, page: bytes, content_type: str = "text/html") -> list[Any]:
    document = read_document(page, "http://h/", content_type)
    return compile_expression(expression).nodes(document.scope, document)


@pytest.mark.parametrize(
    ("body", "content_type", "name", "learned_from"),
    [
        (b"plain", "", "utf-8", "valid UTF-8"),
        (codecs.BOM_UTF8 + b"x", "text/html; charset=latin1", "utf-8", "byte order mark"),
        ("é".encode("utf-16"), "", "utf-16le", "byte order mark"),
        (b"\xe9", "text/html; charset=ISO-8859-1", "windows-1252", "HTTP header"),
        (b"\xe9", 'text/html; charset="x-sjis"', "shift_jis", "HTTP header"),
        (b"<meta charset=latin1>\x96", "text/html", "windows-1252", "meta element"),
        (b"<META HTTP-EQUIV=x CONTENT='text/html; CHARSET=koi8-r'>\xc1", "", "koi8-r", "meta element"),
        (b"<!-- <meta charset=koi8-r> --><meta charset=euc-jp>", "", "euc-jp", "meta element"),
        (b"<!--" + b"x" * 600 + b"--><meta charset=gbk>", "", "gbk", "meta element"),
        (b"<meta charset=utf-16>ok", "", "utf-8", "meta element"),
        (b"<?xml version='1.0' encoding='ISO-8859-2'?><a/>", "", "iso-8859-2", "XML declaration"),
        (b"<meta charset=nonsense>ok", "text/html; charset=nonsense", "utf-8", "valid UTF-8"),
    ],
)
def test_the_encoding_is_the_browsers(body: bytes, content_type: str, name: str, learned_from: str) -> None:
    encoding = encoding_of(body, content_type)
    assert (encoding.name, encoding.learned_from) == (name, learned_from)


def test_without_any_word_the_encoding_is_guessed() -> None:
    text = "Ärger über schöne Brunnen; die Quelle fließt, das Wasser ist kühl. " * 5
    data, encoding = utf8_of(text.encode("windows-1252"))
    assert encoding.learned_from == "guess"
    assert data.decode() == text


@given(st.binary(max_size=400), st.sampled_from(["", "text/html; charset=gbk", "text/html; charset=utf-8"]))
def test_any_bytes_become_a_page_or_none(body: bytes, content_type: str) -> None:
    data, _ = utf8_of(body, content_type)
    assert b"\0" not in data
    data.decode("utf-8")
    try:
        text_of(read_html(body, "http://h/", content_type).tree)
    except NotADocument:
        pass


def test_a_document_knows_its_base_and_title() -> None:
    document = read_html(b"<base href='/x/'><base href=/y/>" + PAGE, "http://h/a/b")
    assert (document.base, document.title) == ("http://h/x/", "The list")
    assert read_html(PAGE, "http://h/a/b").base == "http://h/a/b"


@pytest.mark.parametrize("body", [b"", b"   \n", b"<!-- only a comment -->"])
def test_a_page_without_elements_is_none(body: bytes) -> None:
    with pytest.raises(NotADocument):
        read_html(body, "http://h/")


def test_a_page_nested_too_deeply_says_that_it_was_cut_off() -> None:
    assert read_html(b"<div>" * 100_000, "http://h/").cut_off
    middling = read_html(b"<div>" * 1_600 + b"x", "http://h/")
    assert (middling.cut_off, middling.way) == ("", "fast")
    assert "512 levels" in middling.why_fast


@pytest.mark.parametrize(
    ("text", "language"),
    [
        ("h3 a", "css"),
        ("//a", "xpath"),
        ("(//a)[1]", "xpath"),
        ("@href", "xpath"),
        (".", "xpath"),
        ("..", "xpath"),
        ("./td", "xpath"),
        ("../td", "xpath"),
        ("string(.//a)", "xpath"),
        ("descendant::a", "xpath"),
        (".note", "css"),
        ("text", "css"),
        ("xpath: a", "xpath"),
        ("css:descendant", "css"),
        ("$.rows[*]", "json"),
    ],
)
def test_the_form_of_an_expression_says_its_language(text: str, language: str) -> None:
    assert language_of(text)[0] == language


@pytest.mark.parametrize(
    ("expression", "wanted"),
    [
        ("li", ["one", "two\nsub", "three 3"]),
        ("li.a, li.c", ["one", "three 3"]),
        ("li.c, li.a", ["one", "three 3"]),
        ("LI.x", ["one"]),
        ("#one", ["one"]),
        ("ul > li:not(.a)", ["two\nsub", "three 3"]),
        ("li:nth-of-type(2) p", ["sub"]),
        ("li:has(> a)", ["three 3"]),
        (":scope > body dd", ["12 m", "softly\nsaid"]),
        ("> body dd", ["12 m", "softly\nsaid"]),
        (".//dt[.='Depth']/following-sibling::dd[1]", ["12 m"]),
        ("//a/@href", ["foo"]),
        ("count(//li)", [3.0]),
        ("string(//a)", ["three"]),
        ("boolean(//a)", [True]),
        ("//li[@class='b']/text()", ["two"]),
        (".none", []),
    ],
)
def test_expressions_pick(expression: str, wanted: list[object]) -> None:
    found = _picked(expression, PAGE)
    assert [text_of(node) if isinstance(node, etree._Element) else node for node in found] == wanted


def test_a_row_is_never_its_own_match() -> None:
    document = read_html(PAGE, "http://h/")
    (row,) = compile_expression("li.c").nodes(document.scope, document)
    assert isinstance(row, etree._Element)
    assert compile_expression("li").nodes(row, document) == []
    assert len(compile_expression("> a").nodes(row, document)) == 1


@pytest.mark.parametrize(
    ("expression", "offset", "telling"),
    [
        ("a[", 2, "expected"),
        ("css: a[", 7, "expected"),
        ("h3 a, ", 5, "the end"),
        ("a::text", 1, "::text"),
        ("li:not(.a, )", 11, "a selector"),
        ("li:nth-child(x)", 13, "odd, even"),
        ("a:contains('x')", 1, "no pseudo-class"),
        ("p:unheard", 1, "unheard"),
        ("p:is", 1, "wants an argument"),
        ("[a=5]", 3, "in quotes"),
        ("svg|a", 3, "no prefixes"),
        ("a || b", 2, "column combinator"),
        ("//a[", 4, "invalid expression"),
        ("//a[contains(@x 'b')]", 16, "invalid"),
        ("string(foo(1))", None, "unregistered function"),
        ("", 0, "empty"),
        ("$.a[", 4, "JSONPath"),
        ("$.a[?@.x ==]", 11, "JSONPath"),
        ("re:(x", 3, "unterminated"),
    ],
)
def test_bad_expressions_say_where(expression: str, offset: int | None, telling: str) -> None:
    with pytest.raises(BadExpression, match=telling) as bad:
        compile_expression(expression)
    assert bad.value.offset == offset


@given(st.text(alphabet="abli.#[]()>+~:*='\" ,/@|^$-", max_size=12))
def test_any_text_is_an_expression_or_refused(text: str) -> None:
    try:
        assert isinstance(_picked(text, PAGE), list)
    except BadExpression:
        pass


@pytest.mark.parametrize(
    ("html", "wanted"),
    [
        ("<p>a<br>b</p>", "a\nb"),
        ("<p>a</p><p>b</p>", "a\nb"),
        ("a <b>bold</b>  move", "a bold move"),
        ("un<b>bro</b>ken", "unbroken"),
        ("<script>x</script>seen<style>y</style><template>z</template>", "seen"),
        ("<span hidden>x</span>seen<i style='color:red; display: none'>y</i>", "seen"),
        ("<!-- no -->seen<?pi no?>", "seen"),
        ("<table><tr><td>1<td>2<tr><td>3</table>", "1 2\n3"),
        ("<ul><li>1<li>2</ul>tail", "1\n2\ntail"),
        ("a&nbsp;b&shy;c", "a bc"),
        ("line\n   feed", "line feed"),
        ("", ""),
    ],
)
def test_text_is_what_a_reader_sees(html: str, wanted: str) -> None:
    assert text_of(_picked("#x", f"<div id=x>{html}</div>".encode())[0]) == wanted


def test_the_element_that_is_asked_for_counts_as_shown_and_deep_ones_do_no_harm() -> None:
    page = b"<div hidden>x</div><p>a<b>b</b>c</p>"
    assert text_of(_picked("div", page)[0]) == "x"
    assert direct_text_of(_picked("p", page)[0]) == "a c"
    assert text_of(read_html(b"<i>" * 1700 + b"deep", "http://h/").tree) == "deep"


@pytest.mark.parametrize(
    ("base", "reference", "wanted"),
    [
        ("http://h/a/b", "c", "http://h/a/c"),
        ("http://h/a/b", "?x=1", "http://h/a/b?x=1"),
        ("http://h/a/b", "//o/c", "http://o/c"),
        ("http://h/a/b", " \n/c d ", "http://h/c%20d"),
        ("http://h/", "/é?q=%2F", "http://h/%C3%A9?q=%2F"),
        ("http://h/", "/100%", "http://h/100%25"),
        ("http://h/a/", "../../c", "http://h/c"),
    ],
)
def test_references_resolve(base: str, reference: str, wanted: str) -> None:
    assert resolve(base, reference) == wanted


@pytest.mark.parametrize("reference", ["mailto:x@y", "javascript:1", "http://[bad", "http://h:99999999/"])
def test_what_is_no_page_is_no_url(reference: str) -> None:
    with pytest.raises(NotAUrl):
        resolve("http://h/", reference)


@pytest.mark.parametrize(
    ("url", "wanted"),
    [
        ("HTTP://Host:80/a", "http://host/a"),
        ("https://h:443", "https://h/"),
        ("http://h:8080/", "http://h:8080/"),
        ("http://h/a/./b/../c", "http://h/a/c"),
        ("http://h/..", "http://h/"),
        ("http://h/%7euser/%2f", "http://h/~user/%2F"),
        ("http://h/a?b=%c3%a9#frag", "http://h/a?b=%C3%A9"),
        ("http://h/a?b&a", "http://h/a?b&a"),
        ("http://u:p@h/", "http://u:p@h/"),
        ("http://[::1]:80/", "http://[::1]/"),
    ],
)
def test_one_page_has_one_url(url: str, wanted: str) -> None:
    assert normalised(url) == wanted
    assert normalised(wanted) == wanted


def test_hosts_and_secrets() -> None:
    assert host_of("https://Host/x") == "host:443"
    assert without_secret("http://u:p@h:1/x") == "http://…@h:1/x"
