"""Values: text, numbers, dates, types, steps and the stages of a field."""

from __future__ import annotations

from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wadi.clean.dates import date_pattern, date_reader
from wadi.clean.errors import BadSetting, NotReadable
from wadi.clean.numbers import integer_reader, number_reader
from wadi.clean.stages import Recipe, Stages, Unread
from wadi.clean.steps import STEPS, step_of
from wadi.clean.text import tidied, tidied_lines
from wadi.clean.types import Setting, Where, converter


@pytest.mark.parametrize(
    ("raw", "wanted"),
    [
        ("plain", "plain"),
        ("  two   words\n\t here ", "two words here"),
        ("no\u00a0break\u202fblank", "no break blank"),
        ("soft\u00adhyphen", "softhyphen"),
        ("zero\u200bwidth\ufeff", "zerowidth"),
        ("con\x07trol\x00", "control"),
        ("c1\x85x", "c1x"),
        ("e\u0301", "é"),
        ("\u200fעברית\u200e", "עברית"),
        ("می\u200cخواهم", "می\u200cخواهم"),
        ("\u3000全角\u3000", "全角"),
        ("", ""),
        ("\u00a0", ""),
    ],
)
def test_text_is_tidied(raw: str, wanted: str) -> None:
    assert tidied(raw) == wanted


def test_lines_stay_and_empty_ones_go() -> None:
    assert tidied_lines(" a  b \n\n \u00a0\n c\u00ad ") == "a b\nc"


@given(st.text())
def test_tidying_twice_changes_nothing(text: str) -> None:
    assert tidied(tidied(text)) == tidied(text)


@pytest.mark.parametrize(
    ("text", "locale", "unit", "wanted"),
    [
        ("12", None, None, 12.0),
        ("12.40", None, None, 12.4),
        ("12,5", None, None, 12.5),
        ("-3", None, None, -3.0),
        ("−3.5", None, None, -3.5),
        ("1.234,5", None, None, 1234.5),
        ("1,234.5", None, None, 1234.5),
        ("1.234.567", None, None, 1234567.0),
        ("1 472", None, None, 1472.0),
        ("0.125", None, None, 0.125),
        ("1e3", None, None, 1000.0),
        (".5", None, None, 0.5),
        ("1 472,5 l/s", "fr", "l/s", 1472.5),
        ("1\u00a0472,5\u00a0l/s", "fr", "l/s", 1472.5),
        ("12.40 m", "en", "m", 12.4),
        ("12.40m", "en", "m", 12.4),
        ("$ 5", "en", "$", 5.0),
        ("1,234", "en", None, 1234.0),
        ("1.234", "de", None, 1234.0),
        ("1'234.5", "de_CH", None, 1234.5),
        ("1’234.5", "de-CH", None, 1234.5),
        ("12,34,567.5", "en_IN", None, 1234567.5),
        ("١٢٣", "en", None, 123.0),
        ("१२.५", "en", None, 12.5),
        ("１２", None, None, 12.0),
        ("1.5E-3", "en", None, 0.0015),
    ],
)
def test_numbers_are_read(text: str, locale: str | None, unit: str | None, wanted: float) -> None:
    assert number_reader(locale, unit)(text) == pytest.approx(wanted)


@pytest.mark.parametrize(
    ("text", "locale", "unit", "code"),
    [
        ("1,234", None, None, "ambiguous-number"),
        ("1.234", None, None, "ambiguous-number"),
        ("1.234", "fr", None, "not-a-number"),
        ("1,23", "en", None, "not-a-number"),
        ("1,23,4", "en", None, "not-a-number"),
        ("1 2", "fr", None, "not-a-number"),
        ("about", "en", None, "not-a-number"),
        ("12 m", "en", None, "not-a-number"),
        ("12 km", "en", "m", "other-unit"),
        ("1.2.3", "en", None, "not-a-number"),
        ("", "en", None, "not-a-number"),
        ("--5", "en", None, "not-a-number"),
    ],
)
def test_numbers_are_refused_with_a_code(text: str, locale: str | None, unit: str | None, code: str) -> None:
    with pytest.raises(NotReadable) as refused:
        number_reader(locale, unit)(text)
    assert refused.value.code == code


@given(
    st.floats(-1e12, 1e12).map(lambda x: round(x, 3)),
    st.sampled_from(["en", "fr", "de", "en_IN", "de_CH", "pt_BR", "sv"]),
)
def test_a_number_written_by_cldr_reads_back(number: float, locale: str) -> None:
    from babel.numbers import get_decimal_symbol, get_group_symbol

    # Put together here: releases of the library differ in how they group.
    marks = {",": get_group_symbol(locale), ".": get_decimal_symbol(locale)}
    written = "".join(marks.get(character, character) for character in f"{number:,.3f}")
    assert number_reader(locale)(written) == pytest.approx(number)


@given(st.text(max_size=30))
def test_any_text_is_a_number_or_refused(text: str) -> None:
    for locale in (None, "fr"):
        try:
            assert isinstance(number_reader(locale, "m")(text), float)
        except NotReadable:
            pass


@pytest.mark.parametrize(("text", "wanted"), [("12", 12), ("12.0", 12), ("1 472", 1472), ("-7", -7), ("2e3", 2000)])
def test_integers_are_read(text: str, wanted: int) -> None:
    assert integer_reader()(text) == wanted


@pytest.mark.parametrize(
    ("text", "code"),
    [("12.5", "not-an-integer"), ("99999999999999999999", "too-large-integer"), ("5e-1", "not-an-integer")],
)
def test_integers_are_refused(text: str, code: str) -> None:
    with pytest.raises(NotReadable) as refused:
        integer_reader("en")(text)
    assert refused.value.code == code


@pytest.mark.parametrize(
    ("text", "pattern", "locale", "wanted"),
    [
        ("3 March 2021", "d MMMM y", "en", date(2021, 3, 3)),
        ("3 mars 2021", "d MMMM y", "fr", date(2021, 3, 3)),
        ("1. Dezember 1999", "d. MMMM y", "de", date(1999, 12, 1)),
        ("3rd March 2021", "d MMMM y", "en", date(2021, 3, 3)),
        ("Mar 3, 2021", "MMM d, y", "en", date(2021, 3, 3)),
        ("MAR. 3, 2021", "MMM d, y", "en", date(2021, 3, 3)),
        ("03/04/2021", "dd/MM/yyyy", None, date(2021, 4, 3)),
        ("03/04/21", "dd/MM/yy", None, date(2021, 4, 3)),
        ("03/04/71", "dd/MM/yy", None, date(1971, 4, 3)),
        ("Wednesday, 3 March 2021", "EEEE, d MMMM y", "en", date(2021, 3, 3)),
        ("3 de marzo de 2021", "d 'de' MMMM 'de' y", "es", date(2021, 3, 3)),
        ("2021-03-03", None, None, date(2021, 3, 3)),
        ("2021-03-03T10:00:00Z", None, None, date(2021, 3, 3)),
        ("20210303", None, None, date(2021, 3, 3)),
        ("3 mars 2021", None, "fr", date(2021, 3, 3)),
        ("2021年3月3日", None, "ja", date(2021, 3, 3)),
    ],
)
def test_dates_are_read(text: str, pattern: str | None, locale: str | None, wanted: date) -> None:
    assert date_reader(pattern, locale, this_year=2026)(text) == wanted


@pytest.mark.parametrize(
    ("text", "pattern", "telling"),
    [
        ("31 February 2021", "d MMMM y", "calendar"),
        ("3 Mars 2021", "d MMMM y", "no date in format"),
        ("2021-13-01", None, "calendar"),
        ("soon", None, "ISO 8601"),
        ("03/04/71", "dd/MM/yy", "calendar"),
    ],
)
def test_dates_are_refused(text: str, pattern: str | None, telling: str) -> None:
    with pytest.raises(NotReadable, match=telling):
        date_reader(pattern, "en" if pattern else None)(text)


@pytest.mark.parametrize("pattern", ["d MMMM", "d MMMM Q", "y y MM dd", "hello"])
def test_a_pattern_that_is_no_date_is_a_bad_setting(pattern: str) -> None:
    with pytest.raises(BadSetting) as bad:
        date_pattern(pattern)
    assert bad.value.code == "bad-format"


@pytest.mark.parametrize(
    ("type_name", "text", "wanted"),
    [
        ("string", "x", "x"),
        ("boolean", "Yes", True),
        ("boolean", "✓", True),
        ("boolean", "0", False),
        ("url", "../a b?x=1#top", "http://h/a%20b?x=1#top"),
        ("integer", "12", 12),
    ],
)
def test_types_convert(type_name: str, text: str, wanted: object) -> None:
    assert converter(Setting(type_name))(text, Where("http://h/x/y")) == wanted  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("type_name", "text", "code"),
    [
        ("boolean", "maybe", "not-a-boolean"),
        ("url", "javascript:void(0)", "not-a-url"),
        ("url", "http://[", "not-a-url"),
    ],
)
def test_types_refuse(type_name: str, text: str, code: str) -> None:
    with pytest.raises(NotReadable) as refused:
        converter(Setting(type_name))(text, Where("http://h/"))  # type: ignore[arg-type]
    assert refused.value.code == code


@pytest.mark.parametrize(
    ("sentence", "text", "wanted"),
    [
        ("after 'Depth:'", "Depth: 12 m", "12 m"),
        ("after 'Depth:'", "12 m", "12 m"),
        ("before '('", "12 (est.)", "12"),
        ("between '(' ')'", "a (b) c", "b"),
        ("between '(' ')'", "a b", "a b"),
        ("drop '†'", "Ash† Well", "Ash Well"),
        ("replace ';' ','", "a;b", "a,b"),
        ("lower", "ABC", "abc"),
        ("upper", "abc", "ABC"),
        ("nth 2", "one two three", "two"),
        ("nth -1 /", "a / b / c", "c"),
        ("nth 9", "one", ""),
        ("line 2", "a\nb", "b"),
    ],
)
def test_steps(sentence: str, text: str, wanted: str) -> None:
    assert step_of(sentence)(text) == wanted


@pytest.mark.parametrize(
    ("sentence", "telling"),
    [
        ("aftr 'x'", "no verb"),
        ("", "empty"),
        ("after", "0 arguments"),
        ("after 'x", "quote"),
        ("nth one", "no number"),
        ("nth 0", "no number"),
    ],
)
def test_bad_steps_say_why(sentence: str, telling: str) -> None:
    with pytest.raises(BadSetting, match=telling):
        step_of(sentence)


def test_every_verb_is_in_the_plan_reference() -> None:
    from pathlib import Path

    reference = (Path(__file__).parent.parent / "docs" / "plan.md").read_text("utf-8")
    assert [verb for verb in STEPS if f"| `{verb}" not in reference] == []


@pytest.mark.parametrize(
    ("recipe", "text", "wanted"),
    [
        (Recipe(find=r"(\d+) m"), "is 12 m deep", "12"),
        (Recipe(find=r"\d+"), "is 12 m deep", "12"),
        (Recipe(find=r"\d+", missing=frozenset({"—"})), "—", None),
        (Recipe(missing=frozenset({"", "n/a"})), "n/a", None),
        (Recipe(missing=frozenset()), "", ""),
        (Recipe(clean=("after ':'",), map={"a": "A"}), "x: a", "A"),
        (Recipe(map={"a": "A"}, otherwise="other"), "b", "other"),
        (Recipe(clean=("drop '~'",), setting=Setting("integer")), "~ 12", 12),
    ],
)
def test_stages_run_in_order(recipe: Recipe, text: str, wanted: object) -> None:
    assert Stages(recipe).value_of(text, Where()) == wanted


@pytest.mark.parametrize(
    ("recipe", "text", "code"),
    [
        (Recipe(find=r"\d"), "none", "no-match"),
        (Recipe(map={"a": "A"}), "b", "not-in-map"),
        (Recipe(setting=Setting("number")), "b", "not-a-number"),
    ],
)
def test_what_cannot_be_read_keeps_its_raw_text(recipe: Recipe, text: str, code: str) -> None:
    unread = Stages(recipe).value_of(text, Where())
    assert isinstance(unread, Unread)
    assert (unread.raw, unread.code) == (text, code)
