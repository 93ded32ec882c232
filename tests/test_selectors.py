"""CSS Selectors Level 4, relative to where they are searched from: literal cases, and the same results by translation to XPath."""

from __future__ import annotations

import contextlib

import pytest
from cssselect import HTMLTranslator
from hypothesis import given
from hypothesis import strategies as st

from wadi.page.css import BadSelector, selector_of
from wadi.page.document import html_document, read_document
from wadi.page.expressions import BadExpression, compile_expression
from wadi.page.nodes import Element, elements, first

PAGE = """<!doctype html><html lang=en><body><main id=m>
<ul class="list big"><li id=a class="x">1</li><li id=b class="x y">2<b id=bb>n</b></li><li id=c lang=de-CH>3</li><li id=d class=y></li></ul>
<form id=f><input id=i1 type=TEXT required><input id=i2 type=checkbox checked><input id=i3 disabled>
<fieldset disabled><legend><input id=i4></legend><input id=i5></fieldset><textarea id=t1 readonly>v</textarea>
<select id=s1><option id=o1 selected>1<optgroup disabled><option id=o2>2</optgroup></select>
<button id=b1>Go</button><button id=b2>Stay</button><input id=i6 placeholder=p></form>
<p id=p1><a id=l1 href=/x>l</a><a id=l2>m</a></p><p id=p2><!-- c --></p><p id=p3> </p><h2 id=h1>A</h2><p id=p4>s</p><p id=p5>t</p>
<h2 id=h2>B</h2><div id=d1 data-k="Ab cd" DATA-Up=1 class="Ü"></div></main></body></html>"""
CASES = [
    ("li", "a b c d"),
    ("LI", "a b c d"),
    ("#b", "b"),
    ("li.x.y", "b"),
    ("li:not(.x, .y)", "c"),
    ("li:not(ul.big > .x)", "c d"),
    (":is(h2, #p1 > a)", "l1 l2 h1 h2"),
    (":where(h2)", "h1 h2"),
    ("ul:has(> li b) li:last-child", "d"),
    ("li:has(b, i)", "b"),
    ("h2:has(+ p)", "h1"),
    ("h2:has(~ h2)", "h1"),
    ("p:has(> a:not([href]))", "p1"),
    ("li:nth-child(2n + 1)", "a c"),
    ("li:nth-child(odd)", "a c"),
    ("li:nth-child(-n+2)", "a b"),
    ("li:nth-last-child(1)", "d"),
    ("li:nth-child(1 of .y)", "b"),
    ("li:nth-last-child(1 of .x)", "b"),
    ("main > *:nth-of-type(2)", "p2 h2"),
    ("main > :first-of-type:not(ul, form)", "p1 h1 d1"),
    ("b:only-child", "bb"),
    ("h2 + p", "p4"),
    ("h2 ~ p", "p4 p5"),
    ("p:empty", "p2 p3"),
    ("li:empty", "d"),
    (":any-link", "l1"),
    ("a:link", "l1"),
    ("a:visited", ""),
    ("li:lang(de)", "c"),
    ("li:lang('*-CH')", "c"),
    ("li:lang(fr, en)", "a b d"),
    (":checked", "i2 o1"),
    ("input:disabled", "i3 i5"),
    ("option:disabled", "o2"),
    ("input:enabled", "i1 i2 i4 i6"),
    (":required", "i1"),
    ("textarea:read-only", "t1"),
    ("input:read-write", "i1 i4 i6"),
    ("button:default", "b1"),
    ("[data-k='ab cd' i]", "d1"),
    ("[data-k='ab cd']", ""),
    ("[DATA-K~=cd]", "d1"),
    ("[data-up]", "d1"),
    ("input[type=text]", "i1"),
    ("input[type=text s]", ""),
    ("[data-k^='Ab'][data-k$=cd][data-k*='b c']", "d1"),
    ("[data-k^='']", ""),
    (r"#d\31", "d1"),
    (r".\DC ", "d1"),
    (".Ü", "d1"),
    ("p /* c */ a", "l1 l2"),
    ("p > a , h2", "l1 l2 h1 h2"),
    ("*|h2", "h1 h2"),
]


def _ids(found: object) -> str:
    return " ".join(one.attr("id") or "" for one in found if isinstance(one, Element))  # type: ignore[attr-defined]


@pytest.mark.parametrize(("selector", "wanted"), CASES)
def test_selectors_of_level_4(selector: str, wanted: str) -> None:
    document = read_document(PAGE.encode(), "http://h/", "text/html; charset=utf-8")
    expression = compile_expression(f"css: {selector}")
    assert _ids(expression.nodes(document.scope, document)) == wanted
    assert _ids(expression.nodes(first(document.top, "body"), document)) == wanted


@pytest.mark.parametrize(
    ("selector", "wanted"),
    [("> li", "a b c d"), ("+ form", "f"), ("~ p", "p1 p2 p3 p4 p5"), ("~ p a", "l1 l2"), (":scope > .y", "b d"), (":scope b", "bb"),
     ("ul li", ""), (":is(main ul) b", ""), ("li:is(main li)", "a b c d"), ("body li", ""), ("> li, + form", "a b c d f"),
     (":scope ~ p", "p1 p2 p3 p4 p5"), ("li:not(:scope > .x)", "c d"), ("[class='x y'], li:is(.y, .z)", "b d"), ("b,/* , */i", "bb")],
)  # fmt: skip
def test_selectors_are_relative_to_where_they_are_searched_from(selector: str, wanted: str) -> None:
    document = read_document(PAGE.encode(), "http://h/", "text/html; charset=utf-8")
    row = first(document.top, "ul")
    assert _ids(compile_expression(selector).nodes(row, document)) == wanted


XML = b"""<r xmlns:n="urn:n"><Item id="1" k="v w"/><n:Item id="2"><sub id="4"/></n:Item><item id="3"/></r>"""


@pytest.mark.parametrize(
    ("selector", "wanted"),
    [("Item", "1 2"), ("item", "3"), ("r > Item", "1 2"), ("Item sub, item", "4 3"), ("[k~=w]", "1"), ("> Item", "1 2"),
     ("Item + Item", "2"), ("r:root", ""), (":scope > item", "3"), ("r item:last-child", "3")],
)  # fmt: skip
def test_xml_minds_case_and_matches_in_any_namespace(selector: str, wanted: str) -> None:
    document = read_document(XML, "http://h/x", "text/xml")
    found = compile_expression(selector).nodes(document.scope, document)
    assert sorted(_ids(found).split()) == sorted(wanted.split())


def test_in_rows_of_xml_selectors_are_relative_to_the_row() -> None:
    document = read_document(XML, "http://h/x", "text/xml")
    row = next(elements(document.top, "{urn:n}Item"))
    found = [
        (one, _ids(compile_expression(one).nodes(row, document))) for one in ("sub", "r sub", "> sub", "+ item", "~ *")
    ]
    assert found == [("sub", "4"), ("r sub", ""), ("> sub", "4"), ("+ item", "3"), ("~ *", "3")]


def test_what_xml_cannot_be_asked_is_refused() -> None:
    document = read_document(XML, "http://h/x", "text/xml")
    with pytest.raises(BadExpression, match="not known for XML"):
        compile_expression("item:nth-child(1 of .x)").nodes(document.scope, document)


TAGS, CLASSES = ["div", "p", "span", "a", "ul", "li"], ["a", "b", "c"]
LEAVES = st.builds(
    lambda tag, classes, name, text: (tag, classes, name, text, ()),
    st.sampled_from(TAGS), st.lists(st.sampled_from(CLASSES), max_size=2), st.sampled_from(["", "v", "v-w", "u v"]), st.sampled_from(["", "t"]),
)  # fmt: skip


def _trees(depth: int) -> st.SearchStrategy[tuple[str, list[str], str, str, tuple[object, ...]]]:
    if not depth:
        return LEAVES
    return st.builds(lambda own, children: (*own[:4], tuple(children)), LEAVES, st.lists(_trees(depth - 1), max_size=3))


TREES = _trees(3)
SIMPLE = [".a", ".b", "[data-k]", "[data-k=v]", "[data-k^=v]", "[data-k|=v]", "[data-k~=v]", "[data-k$=w]", "[data-k*=u]", ":first-child",
          ":last-child", ":only-child", ":nth-child(2n+1)", ":nth-child(2)", ":nth-last-child(2)", ":empty", ":not(.a)", ":not(p)",
          ":is(.a)", ":has(p)", ":has(> .a)"]  # fmt: skip
COMPOUNDS = st.builds(
    lambda tag, parts: tag + "".join(parts),
    st.sampled_from(["*", *TAGS]),
    st.lists(st.sampled_from(SIMPLE), max_size=2),
)
SELECTORS = st.builds(
    lambda first, rest: first + "".join(combinator + part for combinator, part in rest),
    COMPOUNDS, st.lists(st.tuples(st.sampled_from([" ", " > ", " + ", " ~ "]), COMPOUNDS), max_size=2),
)  # fmt: skip


def _markup(made: tuple[str, list[str], str, str, tuple[object, ...]]) -> str:
    tag, classes, name, text, children = made
    inner = "".join(map(_markup, children))  # type: ignore[arg-type]
    marks = (f' class="{" ".join(classes)}"' if classes else "") + (f' data-k="{name}"' if name else "")
    return f"<{tag}{marks}>{text}{inner}</{tag}>"


@given(TREES, SELECTORS)
def test_results_are_those_of_the_translation_to_xpath(
    made: tuple[str, list[str], str, str, tuple[object, ...]], selector: str
) -> None:
    document = html_document(f"<body><main>{_markup(made)}</main>".encode(), "http://h/")
    translated = compile_expression("xpath:" + HTMLTranslator().css_to_xpath(selector, prefix="descendant::"))
    expression = compile_expression(f"css:{selector}")
    for scope in list(elements(first(document.top, "main")))[1:4]:
        assert expression.nodes(scope, document) == translated.nodes(scope, document)


@given(st.text(alphabet="ab.#[]=\"':()*>+~ ,\\nthof-123|/", max_size=30))
def test_any_text_is_a_selector_or_a_mistake_with_its_place(text: str) -> None:
    with contextlib.suppress(BadSelector):
        found = selector_of(text)
        found.below(html_document(b"<p>x", "http://h/").tree.select("p")[0])
        return
    with pytest.raises(BadSelector) as caught:
        selector_of(text)
    assert 0 <= caught.value.offset <= len(text)


@pytest.mark.parametrize(
    ("selector", "wanted"),
    [
        ("a:first-of-type", ["1", "4"]), ("b:last-of-type", ["3", "5"]), ("a:nth-of-type(2)", ["2"]), ("a:nth-last-of-type(1)", ["2", "4"]),
        ("c a:only-of-type", ["4"]), ("r > b:nth-of-type(2)", ["3"]), ("b[x]:first-of-type", ["0"]), ("b:not(b:last-of-type)", ["0"]),
    ],
)  # fmt: skip
def test_elements_of_xml_are_counted_among_those_of_their_name(selector: str, wanted: list[str]) -> None:
    body = b"<r><a i='1'/><b i='0' x=''/><n:a xmlns:n='urn:n' i='2'/><b i='3'/><c><a i='4'/><b i='5'/></c></r>"
    document = read_document(body, "http://h/x", "text/xml")
    found = compile_expression(selector).nodes(document.scope, document)
    assert [node.attr("i") for node in found if not isinstance(node, str | bool | float)] == wanted


@pytest.mark.parametrize("selector", [":first-of-type", "a:checked", "a:link", "a:enabled", "a:disabled"])
def test_what_xml_has_no_answer_to_is_refused_and_never_empty(selector: str) -> None:
    document = read_document(b"<r><a/></r>", "http://h/x", "text/xml")
    with pytest.raises(BadExpression, match="not known for XML"):
        compile_expression(selector).nodes(document.scope, document)
