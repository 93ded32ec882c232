"""The quick ways to values give what the plain ways give: addresses, numbers, characters."""

from __future__ import annotations

import unicodedata

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wadi.clean import numbers, quick
from wadi.clean.errors import NotReadable
from wadi.clean.locales import marks_of
from wadi.clean.text import UNSEEN, tidied
from wadi.urls import NotAUrl, addressed, resolve

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
    quickly = quick.plain_address(reference, base)
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
    assert (quick.plain_address(reference, "http://h/x/y") is not None) is (is_plain and quick.IS_ON)


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
        assert quick.plain_number(marks_of(locale), unit)(text) is None
    else:
        assert read(text) == expected
