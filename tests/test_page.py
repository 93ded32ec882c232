"""Bytes to documents: decoding, trees, expressions, text."""

from __future__ import annotations

import codecs
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wadi.page.decode import decoded, encoding_of
from wadi.page.document import NotADocument, html_document, read_document
from wadi.page.expressions import BadExpression, compile_expression, language_of
from wadi.page.nodes import Element, ancestors, elements
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
        (b"<META HTTP-EQUIV=Content-Type CONTENT='text/html; CHARSET=koi8-r'>\xc1", "", "koi8-r", "meta element"),
        (b"<META HTTP-EQUIV=x CONTENT='text/html; CHARSET=koi8-r'>x", "", "utf-8", "valid UTF-8"),
        (b"<a title='<meta charset=koi8-r>'>x", "", "utf-8", "valid UTF-8"),
        (b"<meta charset=x-user-defined>", "", "windows-1252", "meta element"),
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
    found, encoding = decoded(text.encode("windows-1252"))
    assert (encoding.learned_from, found) == ("guess", text)


@given(st.binary(max_size=400), st.sampled_from(["", "text/html; charset=gbk", "text/html; charset=utf-8"]))
def test_any_bytes_become_a_page_or_none(body: bytes, content_type: str) -> None:
    text, _ = decoded(body, content_type)
    text.encode("utf-8")
    try:
        assert "\0" not in text_of(html_document(body, "http://h/", content_type).top)
    except NotADocument:
        pass


def test_a_document_knows_its_base_and_title() -> None:
    document = html_document(b"<base href='/x/'><base href=/y/>" + PAGE, "http://h/a/b")
    assert (document.base, document.title) == ("http://h/x/", "The list")
    assert html_document(PAGE, "http://h/a/b").base == "http://h/a/b"


@pytest.mark.parametrize("body", [b"", b"   \n", b"<!-- only a comment -->"])
def test_a_page_without_elements_is_none(body: bytes) -> None:
    with pytest.raises(NotADocument):
        html_document(body, "http://h/")


def test_a_page_of_any_depth_is_read_whole_and_flattened_as_browsers_do() -> None:
    document = html_document(b"<div>x" * 100_000 + b"<p>end", "http://h/")
    assert len(list(elements(document.top, "div"))) == 100_000
    assert text_of(document.top).endswith("end")
    assert max(len(list(ancestors(p))) for p in elements(document.top, "p")) < 600


# What a hand-made template gets wrong, and what stands on every page of some kind; a browser's tree for each.
ROWS = [("1", "One", "10"), ("2", "Two", "20"), ("3", "Three", "30")]
SLOPPY = {
    "a quote too many": '<li class="r"><a href="/{0}"">{1}</a> <b>{2}</b></li>',
    "a quote in a title": '<li class="r"><a title="Monitor 24" wide" href="/{0}">{1}</a><br><b>{2}</b></li>',
    "a name that is a quote": '<li class=r "><a \' href="/{0}">{1}</a> <b>{2}</b></li>',
    "no quotes, upper case": "<LI CLASS=r><A HREF=/{0}>{1}</A><B>{2}</B>",
    "no end tags": '<li class="r"><a href="/{0}">{1}<b>{2}</b></a>',
    "a script with a script": '<li class="r"><script><!-- if (a<b) document.write("<script>x</script>") --></script>'
    '<a href="/{0}">{1}</a><b>{2}</b></li>',
    "namespaces": '<li class="r" xmlns="urn:x"><a href="/{0}">{1}</a> <b>{2}</b></li>',
    "a NUL": '<li class="r">\0<a href="/{0}">{1}</a> <b>{2}</b></li>',
    "stray end tags": '</p></table><li class="r"></i><a href="/{0}">{1}</a></b> <b>{2}</b></li>',
}


@pytest.mark.parametrize("template", SLOPPY.values(), ids=SLOPPY)
def test_no_row_is_lost_on_sloppy_pages(template: str) -> None:
    page = "<ul>" + "".join(template.format(*row) for row in ROWS) + "</ul>"
    document = read_document(page.encode(), "http://h/", "text/html")
    rows = compile_expression("li.r").nodes(document.scope, document)
    found = []
    for row in rows:
        (link,), (number,) = (compile_expression(one).nodes(row, document) for one in ("a", "b"))  # type: ignore[arg-type]
        found.append((link.attr("href").strip("/"), text_of(link).split("\n")[0][: len("Three")], text_of(number)))  # type: ignore[union-attr, arg-type]
    assert [(place, number) for place, _, number in found] == [(place, number) for place, _, number in ROWS]
    assert all(name in text for (_, name, _), (_, text, _) in zip(ROWS, found, strict=True))


@pytest.mark.parametrize(
    ("html", "expression", "wanted"),
    [
        # every tracking pixel: what follows stays in the head
        ("<head><noscript><img src=x></noscript><link rel=next href=/2></head><p>x", "head > link[rel=next]", 1),
        ('<p>x <code>&lt;a xmlns="urn:y"></code>', "//code[contains(., ' xmlns=\"urn:y\"')]", 1),
        ("<table><tr><td>1", "table > tbody > tr > td", 1),
        ("<svg viewbox='0 0 1 1'><lineargradient/></svg>", "linearGradient", 1),
        ("<fb:like data-x=1>q</fb:like>", r"fb\:like[data-x]", 1),
        ("<p @click=go>x", r"[\@click]", 1),
        ("<template><p>x<template><b>y</b></template></p></template>", "p, b", 0),
        ("<template><p>x</p></template>", "//template[starts-with(., '<p>')]", 1),
    ],
)
def test_the_tree_is_the_one_that_a_browser_shows(html: str, expression: str, wanted: int) -> None:
    assert len(_picked(expression, html.encode())) == wanted


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
    assert [text_of(node) if isinstance(node, Element) else node for node in found] == wanted


def test_a_row_is_never_its_own_match() -> None:
    document = html_document(PAGE, "http://h/")
    (row,) = compile_expression("li.c").nodes(document.scope, document)
    assert isinstance(row, Element)
    assert compile_expression("li").nodes(row, document) == []
    assert len(compile_expression("> a").nodes(row, document)) == 1


@pytest.mark.parametrize(
    ("expression", "offset", "telling"),
    [
        ("a[", 2, "expected"),
        ("css: a[", 7, "expected"),
        ("h3 a, ", 5, "the end"),
        ("a::text", 1, "::text"),
        ("li:not(.a, )", 11, "selector"),
        ("li:nth-child(x)", 13, "An"),
        ("a:contains('x')", 1, "no pseudo-class"),
        ("p:unheard", 1, "unheard"),
        ("p:is", 4, "after the pseudo-class"),
        ("[a=]", 3, "identifier"),
        ("svg|a", 3, "no prefixes"),
        ("a || b", 2, "column combinator"),
        ("//a[", 4, "expected a node test"),
        ("//a[contains(@x 'b')]", 16, "expected"),
        ("string(foo(1))", 7, "no function foo"),
        (".//a[foo(@href)]", 5, "no function foo"),
        (".//a[contains(@href)]", 5, "takes 2 arguments, not 1"),
        ("//a[b[last(1)]]", 6, "takes 0 arguments, not 1"),
        ("//a[count('x') > 1]", 4, "non-node-set"),
        ("//a[$v]", 4, "no variables"),
        ("//a[ends-with(., 'x')]", 4, "no function"),
        ("//a[re:test(., 'x')]", 4, "no function"),
        ("$[-0]", 2, "leading zero"),
        ("$.a[9007199254740992]", 3, "beyond"),
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
        ("<pre>\n a\n  b\n</pre>", " a\n  b"),
        ("x <pre>a  b<br>c\n\n d</pre> y", "x\na  b\nc\n\n d\ny"),
        ("<textarea>\nx\n y</textarea>", "x\n y"),
        ("<p>a<span hidden>b</span>\nc</p>", "a c"),
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
    assert text_of(html_document(b"<i>" * 1700 + b"deep", "http://h/").top) == "deep"
    code = b"<pre><code>a\n  b</code></pre>"
    assert text_of(_picked("code", code)[0]) == "a\n  b"


@pytest.mark.parametrize(
    ("base", "reference", "wanted"),
    [
        ("http://h/a/b", "c", "http://h/a/c"),
        ("http://h/a/b", "?x=1", "http://h/a/b?x=1"),
        ("http://h/a/b", "//o/c", "http://o/c"),
        ("http://h/a/b", " \n/c d ", "http://h/c%20d"),
        ("http://h/", "/é?q=%2F", "http://h/%C3%A9?q=%2F"),
        ("http://h/", "/100%", "http://h/100%"),
        ("http://h/a/", "docs\\page2.html", "http://h/a/docs/page2.html"),
        ("http://h/", "http://münchen.example/", "http://xn--mnchen-3ya.example/"),
        ("http://h/", "http://h:80/a/../b", "http://h/b"),
        ("http://h/", "/a\tb\n", "http://h/ab"),
        ("http://h/a/", "../../c", "http://h/c"),
    ],
)
def test_references_resolve(base: str, reference: str, wanted: str) -> None:
    assert resolve(base, reference) == wanted


@pytest.mark.parametrize(
    ("encoding", "reference", "wanted"),
    [
        ("windows-1251", "?q=я", "http://h/?q=%FF"),
        ("windows-1251", "/я?q=я&p=€℃#я", "http://h/%D1%8F?q=%FF&p=%88%26%238451%3B#%D1%8F"),
        ("shift_jis", "?q=表", "http://h/?q=%95\\"),
        ("utf-16le", "?q=я", "http://h/?q=%D1%8F"),
    ],
)
def test_queries_are_in_the_encoding_of_the_page(encoding: str, reference: str, wanted: str) -> None:
    assert resolve("http://h/", reference, encoding) == wanted


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
