"""The short ways for what is plain give what the long ways give: references, texts of cells, numbers, values, characters."""

from __future__ import annotations

import re
import unicodedata

import pytest
from hypothesis import given
from hypothesis import strategies as st
from lxml import etree

from wadi import urls
from wadi.clean import numbers
from wadi.clean.errors import NotReadable
from wadi.clean.locales import separators
from wadi.clean.stages import Recipe, Stages, Unread
from wadi.clean.text import _UNSEEN, tidied, tidied_lines
from wadi.clean.types import Setting, Where
from wadi.page import text as texts
from wadi.page.text import text_of
from wadi.urls import _PLAIN_REFERENCE, NotAUrl, _resolved, resolve

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
def test_references_are_resolved_as_by_the_long_way(base: str, reference: str) -> None:
    try:
        expected = _resolved(base, reference)
    except NotAUrl as error:
        with pytest.raises(NotAUrl) as caught:
            resolve(base, reference)
        assert str(caught.value) == str(error)
    else:
        assert resolve(base, reference) == expected


@pytest.mark.parametrize(
    ("reference", "is_plain"),
    [
        ("a.html", True), ("../../sheets/7.html#MW-7", True), ("/l/2?page=3&x=a-b", True), ("a/b/", True), ("a..b/c.", True),
        ("./a", False), ("a/../b", False), ("//h/a", False), ("a:b", False), ("a b", False), ("a%2Fb", False), ("?a=1", False),
        ("#x", False), ("a//b", False), (" a", False), ("a\n", False), ("é", False), ("a?", False), ("a#", False), ("", False),
    ],
)  # fmt: skip
def test_references_with_anything_to_even_out_take_the_long_way(reference: str, is_plain: bool) -> None:
    assert (_PLAIN_REFERENCE.fullmatch(reference) is not None) is is_plain


NEVER = re.compile("(?!)")
URLS = st.builds(
    "{}://{}{}{}{}".format,
    st.sampled_from(["http", "https", "HTTP"]), st.sampled_from(["h", "a.b-c.d", "H", "127.0.0.1", "[::1]", "u:p@h", "u@h", "é.h", "", "a..b"]),
    st.sampled_from(["", ":80", ":443", ":8080", ":65535", ":65535", ":080", ":"]),
    st.lists(st.sampled_from(["/", "a", "b.c", ".", "..", ";x", "%41", "%2f", "é", "~", "=1", ":", "@"]), max_size=5).map("".join),
    st.sampled_from(["", "?", "?a=1&b=/2", "?q=%41", "#x", "?a#b", "/?../x"]),
)  # fmt: skip


def told_of(url: str) -> list[str]:
    """How a URL is known, and its host; or why it cannot be read."""
    told = []
    for work in (urls.normalised.__wrapped__, urls.host_of.__wrapped__):
        try:
            told.append(work(url))
        except ValueError as error:
            told.append(f"no: {error}")
    return told


@given(URLS)
def test_plain_urls_are_normalised_as_by_the_long_way(url: str) -> None:
    found = told_of(url)
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(urls, "_EVEN", NEVER)
        patched.setattr(urls, "_PLAIN_HOST", NEVER)
        assert found == told_of(url)


PIECES = st.text(alphabet="aé \n\t\u00a0\u200b\u00ad", max_size=5)
ELEMENTS = st.recursive(
    st.tuples(st.sampled_from(["b", "i", "a", "br", "script", "p", "td", "!"]), PIECES, PIECES, st.sampled_from(["", "hidden", "style"]), st.just(())),
    lambda inner: st.tuples(st.sampled_from(["b", "span", "div"]), PIECES, PIECES, st.just(""), st.lists(inner, max_size=3)),
    max_leaves=6,
)  # fmt: skip


def _element(made: tuple[str, str, str, str, tuple[object, ...]]) -> etree._Element:
    tag, text, tail, attribute, children = made
    element = etree.Comment(text.replace("-", "")) if tag == "!" else etree.Element(tag)
    if tag != "!":
        element.text = text or None
        if attribute:
            element.set(attribute, "display: none" if attribute == "style" else "")
        element.extend(_element(child) for child in children)  # type: ignore[arg-type]
    element.tail = tail or None
    return element


@given(PIECES, st.lists(ELEMENTS, max_size=4))
def test_texts_of_cells_are_those_of_the_long_way(
    text: str, children: list[tuple[str, str, str, str, tuple[object, ...]]]
) -> None:
    cell = etree.Element("td")
    cell.text = text or None
    cell.extend(_element(child) for child in children)
    pieces: list[str] = []
    texts._gather(cell, pieces)
    assert text_of(cell) == tidied_lines("".join(pieces))


@given(st.text(max_size=30) | st.text(alphabet="a\u00e9e\u0301\u200b\u00ad\u2066\x07 ", max_size=12))
def test_characters_that_are_not_seen_are_taken_out_wherever_they_are(text: str) -> None:
    shown = unicodedata.normalize("NFC", text.translate(_UNSEEN))
    assert tidied(text) == " ".join(shown.split())


LOCALES = ["en", "de", "fr", "de-CH", "ar", "hi", None]
NUMBERS = st.from_regex(r"\A[-+]?[0-9]{1,7}([.,'][0-9]{1,4})?( ?(m|l/s|L/S|km))?\Z")


@given(NUMBERS, st.sampled_from(LOCALES), st.sampled_from([None, "m", "l/s"]))
def test_numbers_are_those_of_the_long_way(text: str, locale: str | None, unit: str | None) -> None:
    read = numbers.number_reader(locale, unit)
    marks = separators(locale) if locale else None
    try:
        expected = float(numbers._digits(text, marks, locale, unit))
    except NotReadable:
        assert numbers._plain_number(marks, unit).fullmatch(text) is None
    else:
        assert read(text) == expected


RAW = st.text("0123456789,.-m \n\u00a0\u202f\u200b\u0663", max_size=8)


@given(
    st.sampled_from([" 3\u00a0m", "3 m", "3,5 m", "n/a", "", " x ", "2\n000 m", "1.5 m", "-99", " -99 "]) | RAW,
    st.booleans(),
    st.sampled_from([frozenset({"", "n/a"}), frozenset({"", "-99", "0 m"})]),
)
def test_values_of_raw_texts_are_those_of_tidied_ones(raw: str, again: bool, missing: frozenset[str]) -> None:
    recipe = Recipe(missing=missing, setting=Setting("number", locale="de", unit="m"))
    stages, where = Stages(recipe), Where("http://h/")
    expected = Stages(recipe).value_of(tidied(raw), where)
    found = [stages.value_of_raw(raw, where) for _ in range(1 + again)]
    assert [one if not isinstance(one, Unread) else one.code for one in found] == [
        expected if not isinstance(expected, Unread) else expected.code
    ] * len(found)


DATES = st.text("0123456789./- \n\u0663\x1f", max_size=11) | st.builds(
    "{}{}{}{}{}".format,
    st.integers(0, 35), st.sampled_from("./- "), st.integers(0, 14), st.sampled_from("./- "), st.sampled_from(["2024", "24", "0099", "1 "]),
)  # fmt: skip


@given(
    st.sampled_from(
        ["dd.MM.yyyy", "d/M/y", "d M y", "yyyy-MM-dd", "M/d/uuuu", "dd.MM.yy", "d MMM y", "ddMMyyyy", "'d'd.M.y"]
    ),
    DATES,
)
def test_dates_of_raw_texts_are_those_of_tidied_ones(pattern: str, raw: str) -> None:
    recipe = Recipe(setting=Setting("date", format=pattern, this_year=2026), missing=frozenset({"", "01.01.1900"}))
    where = Where("http://h/")
    expected, found = Stages(recipe).value_of(tidied(raw), where), Stages(recipe).value_of_raw(raw, where)
    assert (found.code if isinstance(found, Unread) else found) == (
        expected.code if isinstance(expected, Unread) else expected
    )


@given(
    st.sampled_from(
        [
            Setting("string"),
            Setting("number", locale="de", unit="m"),
            Setting("date", format="d.M.y"),
            Setting("url"),
            Setting("integer"),
        ]
    ),
    st.lists(
        st.text("1ab |.,m/\n\u00a0\u200be\u0301", max_size=4) | st.sampled_from(["3 m", "n/a", "5.6.2024", "../a#b"]),
        max_size=4,
    ),
)
def test_values_of_a_column_are_those_of_its_texts(setting: Setting, raws: list[str]) -> None:
    recipe, where = Recipe(setting=setting, missing=frozenset({"", "n/a"})), Where("http://h/a/")
    expected = [Stages(recipe).value_of(tidied(raw), where) for raw in raws]
    found = Stages(recipe).values_of_raw(raws, where)
    assert [one.code if isinstance(one, Unread) else one for one in found] == [
        one.code if isinstance(one, Unread) else one for one in expected
    ]
