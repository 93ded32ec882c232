"""Values as people write them: every writing of the tables, and numbers, sums, dates, moments and lengths of time that come
back when they are written as a locale writes them."""

from __future__ import annotations

from datetime import date, datetime, time
from decimal import Decimal
from functools import lru_cache
from pathlib import Path
from typing import Any

import pytest
from babel.dates import format_date, format_datetime, format_time
from babel.numbers import format_compact_decimal, format_currency, format_decimal
from hypothesis import given
from hypothesis import strategies as st

from conftest import Program
from small_writings import AT, Writing, is_right, read, tables, writings
from wadi.clean.stages import Recipe, Stages, Unread
from wadi.clean.types import Setting, Where

ALL = [writing for table in tables() for writing in writings(table)]


@pytest.mark.parametrize("writing", ALL, ids=lambda writing: f"{writing.kind} {writing.text} [{writing.settings}]"[:70])
def test_a_writing_is_read_as_a_person_reads_it(writing: Writing) -> None:
    got = read(writing)
    assert is_right(writing, got), f"{got!r}, and a person reads {writing.wanted!r}"


def test_there_are_enough_writings_of_enough_kinds_and_locales() -> None:
    assert len(ALL) >= 600
    assert len({writing.kind for writing in ALL}) >= 10
    assert len({word for writing in ALL for word in writing.settings.split() if word.startswith("locale=")}) >= 40


@lru_cache
def _stages(kind: str, locale: str | None, **more: Any) -> Stages:
    return Stages(Recipe(setting=Setting(type=kind, locale=locale, this_year=2026, **more)))  # type: ignore[arg-type]


def _value(kind: str, locale: str | None, text: str, **more: Any) -> Any:
    return _stages(kind, locale, **more).value_of(text, Where("http://h/", AT))


LOCALES = st.sampled_from(["en_US", "en_GB", "de", "de_CH", "fr", "es", "it", "pt_BR", "nl", "sv", "da", "nb", "fi", "pl", "cs", "sk", "hr",
                           "sl", "hu", "ro", "tr", "el", "ru", "uk", "bg", "ja", "zh", "ko", "id", "vi", "he", "hi"])  # fmt: skip
NUMBERS = st.decimals(-(10**9), 10**9, places=2)
DAYS = st.dates(date(1950, 1, 1), date(2040, 12, 31))


@given(LOCALES, NUMBERS, NUMBERS)
def test_the_ends_of_a_range_come_back(locale: str, one: Decimal, other: Decimal) -> None:
    low, high = min(one, other), max(one, other)
    text = f"{format_decimal(low, locale=locale)} … {format_decimal(high, locale=locale)} km"
    for which, wanted in (("low", low), ("high", high)):
        found = _stages("number", locale, unit="m", range=which).recipe.setting
        assert found.range == which
        value = Stages(Recipe(setting=Setting("number", locale, unit="m", units={"km": 1000.0}, range=which))).value_of(
            text, Where()
        )  # type: ignore[arg-type]
        assert value == pytest.approx(float(wanted) * 1000), text


@given(
    LOCALES, st.decimals(0, 10**8, places=2), st.sampled_from(["EUR", "USD", "JPY", "CHF", "SEK", "PLN", "GBP", "INR"])
)
def test_a_sum_comes_back(locale: str, amount: Decimal, code: str) -> None:
    text = format_currency(amount, code, locale=locale, currency_digits=False)
    found = _value("money", locale, text)
    if isinstance(found, Unread):
        assert found.code == "ambiguous-currency", found  # a sign of several currencies, abroad
    else:
        assert found == [pytest.approx(float(amount)), code], text


@given(LOCALES, st.integers(1, 999), st.sampled_from([10**3, 10**6, 10**9]))
def test_thousands_and_millions_come_back_or_are_refused(locale: str, count: int, scale: int) -> None:
    for width in ("short", "long"):
        text = format_compact_decimal(count * scale, format_type=width, locale=locale, fraction_digits=4)  # type: ignore[arg-type]
        found = _value("number", locale, text)
        assert isinstance(found, Unread) or found == count * scale, text


@given(LOCALES, DAYS, st.sampled_from(["full", "long", "medium", "short"]))
def test_a_date_comes_back(locale: str, day: date, length: Any) -> None:
    text = format_date(day, length, locale=locale)
    found = _value("date", locale, text)
    assert found == day or (length == "short" and found.replace(year=day.year) == day), text


@given(LOCALES, DAYS, st.times().map(lambda clock: clock.replace(microsecond=0)), st.sampled_from(["medium", "long"]))
def test_a_moment_comes_back(locale: str, day: date, clock: time, length: Any) -> None:
    moment = datetime.combine(day, clock)
    written = format_datetime(moment, "medium", locale=locale)
    assert _value("datetime", locale, written) == moment, written
    beside = f"{format_date(day, length, locale=locale)} {format_time(clock, 'medium', locale=locale)}"
    assert _value("datetime", locale, beside) == moment, beside


@given(LOCALES, st.integers(1, 10**7))
def test_a_length_of_time_comes_back(locale: str, seconds: int) -> None:
    hours, rest = divmod(seconds, 3600)
    text = f"{format_decimal(hours, locale=locale)} h {rest // 60} min {rest % 60} s"
    days, hours = divmod(hours, 24)
    clock = "".join(f"{value}{mark}" for value, mark in ((hours, "H"), (rest // 60, "M"), (rest % 60, "S")) if value)
    assert _value("duration", locale, text) == f"P{f'{days}D' if days else ''}{f'T{clock}' if clock else ''}"


KINDS = ["number", "integer", "money", "percent", "date", "datetime", "time", "yearmonth", "year", "duration", "geopoint", "phone", "email"]  # fmt: skip
SCRAPS = st.lists(st.sampled_from(["1", "12", "1.5", "1,234", "½", "-", "–", "−", " ", "(", ")", "km", "€", "$", "k", "Mio.", "to", "m2",
                                   "5 March 2024", "2:05 PM", ":", "/", ".", "EUR", "about", "9" * 30, "e9", "N", "\u0664", "ext"]),
                  max_size=8).map("".join)  # fmt: skip


@given(
    st.sampled_from(KINDS),
    st.sampled_from([None, "en", "de", "ar", "ja", "en_ZA"]),
    SCRAPS | st.text(max_size=30),
    st.booleans(),
)
def test_any_text_is_a_value_or_refused(kind: str, locale: str | None, text: str, around: bool) -> None:
    found = _value(kind, locale, text, around=around)
    if isinstance(found, Unread):
        assert found.what
        assert found.code


DEEP = "[" * 800 + "]" * 800
HOSTILE = ['{"a": "half \\ud83d", "n": 1}', '{"a": "nul \\u0000", "n": 2}', f'{{"a": {DEEP}, "n": 3}}', '{"a": "large", "n": 1e400}',
           f'{{"a": "long", "n": {"9" * 5000}}}', '{"a": "none", "n": NaN}', '{"a": "small", "n": 1e-400}', '{"a": "last", "n": 7}']  # fmt: skip
OF_JSON = """
wadi = 1
[start]
page = "list"
addresses = "rows.json"
[page.list]
rows = "$[*]"
table = "rows"
[page.list.fields]
a = "$.a"
n = { at = "$.n", type = "number" }
whole = { at = "$.n", type = "integer" }
deep = { at = "$.a", type = "array" }
"""


def test_values_that_no_cell_holds_are_unread_cells_of_their_rows(program: Program, tmp_path: Path) -> None:
    (tmp_path / "rows.json").write_text(f"[{','.join(HOSTILE)}]", encoding="utf-8")
    (tmp_path / "plan.toml").write_text(OF_JSON, encoding="utf-8")
    done = program("run", "plan.toml", "-o", "rows.csv")
    assert done.status == 1  # deep is blank in every row
    assert "internal error" not in done.err
    lines = (tmp_path / "rows.csv").read_text(encoding="utf-8").splitlines()
    assert [line.rsplit(",", 3)[1] for line in lines[1:]] == ["1.0", "2.0", "3.0", "", "", "", "", "7.0"]
    problems = program("export", "plan", "--table", "problems", "-o", "-").out
    assert "1e400" in problems
    assert problems.count("too-large-number") == 4


OF_HTML = """
wadi = 1
[start]
page = "list"
addresses = "rows.html"
[page.list]
rows = "tr.r"
table = "rows"
[page.list.fields]
n = { at = "td", type = "number" }
whole = { at = "td", type = "integer" }
under = { under = "Depth", type = "number" }
"""


def test_spans_and_numbers_of_any_length_are_read_or_told(program: Program, tmp_path: Path) -> None:
    rows = "".join(f"<tr class=r><td>{text}<td>5" for text in ("1e400", "9" * 400, "9" * 5000, "1" * 50_000, "3"))
    page = f"<table><tr><th colspan={'9' * 5000}>Code<th>Depth{rows}</table>"
    (tmp_path / "rows.html").write_text(page, encoding="utf-8")
    (tmp_path / "plan.toml").write_text(OF_HTML, encoding="utf-8")
    done = program("run", "plan.toml", "-o", "rows.csv")
    assert "internal error" not in done.err
    lines = (tmp_path / "rows.csv").read_text(encoding="utf-8").splitlines()
    assert [line.split(",")[:2] for line in lines[1:]] == [["", ""]] * 4 + [["3.0", "3"]]
