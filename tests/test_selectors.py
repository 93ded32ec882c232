"""CSS Selectors Level 4 by our own matcher: literal cases, and the same results as by translation to XPath where that speaks."""

from __future__ import annotations

import contextlib

import pytest
from cssselect import HTMLTranslator
from hypothesis import given
from hypothesis import strategies as st
from lxml import etree

from wadi.page.document import read_document
from wadi.page.expressions import compile_expression
from wadi.page.selectors.index import Index
from wadi.page.selectors.match import Matcher
from wadi.page.selectors.parse import BadSelector, parse_selectors
from wadi.page.selectors.shape import Shapes, first_picked

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
    ("p:empty", "p2"),
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
    ("input:placeholder-shown", "i6"),
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
    ("p/* c */a", "l1 l2"),
    ("p > a , h2", "l1 l2 h1 h2"),
    ("*|h2", "h1 h2"),
    ("li:matches(.x)", "a b"),
]


@pytest.mark.parametrize(("selector", "wanted"), CASES)
def test_selectors_of_level_4(selector: str, wanted: str) -> None:
    document = read_document(PAGE.encode(), "http://h/", "text/html; charset=utf-8")
    found = compile_expression(f"css: {selector}").nodes(document.scope, document)
    assert " ".join(one.get("id", "") for one in found if isinstance(one, etree._Element)) == wanted
    body = document.tree.find(".//body")
    assert body is not None
    by_index = Matcher(parse_selectors(selector), html=True).select(body, Index(body))
    assert " ".join(one.get("id", "") for one in by_index) == wanted


@pytest.mark.parametrize(
    ("selector", "wanted"),
    [("> li", "a b c d"), ("+ form", "f"), ("~ p", "p1 p2 p3 p4 p5"), ("~ p a", "l1 l2"), (":scope > .y", "b d"), (":scope b", "bb"),
     ("ul li", ""), (":is(main ul) b", ""), ("li:is(main li)", "a b c d"), ("body li", ""), ("> li, + form", "a b c d f")],
)  # fmt: skip
def test_selectors_are_relative_to_where_they_are_searched_from(selector: str, wanted: str) -> None:
    document = read_document(PAGE.encode(), "http://h/", "text/html; charset=utf-8")
    row = document.tree.find(".//ul")
    assert row is not None
    found = compile_expression(selector).nodes(row, document)
    assert " ".join(one.get("id", "") for one in found if isinstance(one, etree._Element)) == wanted


def test_xml_minds_case_and_matches_in_any_namespace() -> None:
    document = read_document(
        b'<r xmlns:n="urn:n"><Item id="1"/><n:Item id="2"/><item id="3"/></r>', "http://h/x", "text/xml"
    )
    found = compile_expression("Item").nodes(document.scope, document)
    assert [one.get("id") for one in found if isinstance(one, etree._Element)] == ["1", "2"]


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


def _element(made: tuple[str, list[str], str, str, tuple[object, ...]]) -> etree._Element:
    tag, classes, name, text, children = made
    element = etree.Element(tag)
    if classes:
        element.set("class", " ".join(classes))
    if name:
        element.set("data-k", name)
    element.text = text or None
    element.extend(_element(child) for child in children)  # type: ignore[arg-type]
    return element


@given(TREES, SELECTORS)
def test_results_are_those_of_the_translation_to_xpath(
    made: tuple[str, list[str], str, str, tuple[object, ...]], selector: str
) -> None:
    holder = etree.Element("main")
    holder.append(_element(made))
    translated = etree.XPath(HTMLTranslator().css_to_xpath(selector, prefix="descendant::"))
    matcher = Matcher(parse_selectors(selector), html=True)
    for scope in list(holder.iter("*"))[1:4]:
        wanted = translated(scope)
        assert matcher.select(scope) == wanted
        assert matcher.select(scope, Index(scope)) == wanted


LEVEL_4 = ["a:not(.b)", "> a", "a + p", ":is(a, .a)", ":where(p):last-child", ":scope > p", ":scope.a > p", ":not(li .a)", "p:root",
           "+ a", "a:lang(en)", "li:nth-of-type(1)", "p:nth-child(2 of .a)", ":is(div .a)", ":has(+ p)", ":not(:scope) > a"]  # fmt: skip


@given(
    TREES,
    st.lists(st.lists(st.one_of(SELECTORS, st.sampled_from(LEVEL_4)), min_size=1, max_size=2), min_size=1, max_size=4),
)
def test_by_the_shape_of_rows_the_same_is_picked(
    tree: tuple[str, list[str], str, str, tuple[object, ...]], fields: list[list[str]]
) -> None:
    root = etree.Element("html")
    root.append(_element(tree))
    matchers = [[Matcher(parse_selectors(text), html=True) for text in one] for one in fields]
    shapes = Shapes(matchers)
    for row in root.iter("*"):
        if row is not root:
            elements, picks = shapes.picks(row)
            for one, places in zip(matchers, picks, strict=True):
                picked = [] if places is None else [places] if isinstance(places, int) else places
                if places is not None:
                    assert [elements[place] for place in picked] == first_picked(one, row, None)


def test_rows_that_are_all_of_other_shapes_are_not_asked_for_theirs() -> None:
    shapes = Shapes([[Matcher(parse_selectors("b[id^=n]"), html=True)]])
    table = etree.fromstring("<table>" + "".join(f"<tr><b id='n{n}'/></tr>" for n in range(400)) + "</table>")
    asked = 0
    for row in table:
        if not shapes.is_of_use:
            break
        asked += 1
        assert shapes.picks(row)[1] == (1,)
    assert 200 < asked < 210


@given(st.text(alphabet="ab.#[]=\"':()*>+~ ,\\nthof-123|/", max_size=30))
def test_any_text_is_a_selector_or_a_mistake_with_its_place(text: str) -> None:
    with contextlib.suppress(BadSelector):
        Matcher(parse_selectors(text), html=True).select(etree.Element("a"))
        return
    with pytest.raises(BadSelector) as caught:
        parse_selectors(text)
    assert 0 <= caught.value.offset <= len(text)
