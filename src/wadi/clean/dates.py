"""Dates from text, by the date patterns of Unicode TR 35 (CLDR) with the month names of a locale, or by ISO 8601."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from functools import lru_cache

from wadi.clean.errors import BadSetting, NotReadable
from wadi.clean.locales import day_names, locale_of, month_names

DateReader = Callable[[str], date]

_PIECE = re.compile(
    r"'(?P<quoted>(?:[^']|'')*)'|(?P<letter>[A-Za-z])(?P=letter)*|(?P<blank>\s+)|(?P<other>.)", re.DOTALL
)
_LENGTHS = ("full", "long", "medium", "short")
_ISO = re.compile(r"(\d{4})-?(\d{2})-?(\d{2})(?=$|[T ]\d{2}:?\d{2})")
# A two-digit year is the one within 80 years back and 19 ahead of this one (the window of TR 35, Date Field Symbol Table).
_WINDOW_BACK = 80


@dataclass(frozen=True, slots=True)
class DatePattern:
    """A compiled pattern: the expression, and the month names that its `month` group is looked up in."""

    pattern: str
    expression: re.Pattern[str]
    months: dict[str, int]


def date_reader(pattern: str | None = None, locale: str | None = None, *, this_year: int | None = None) -> DateReader:
    """A function from text to date.

    `pattern` is a date pattern of TR 35 (`d MMMM y`, `dd/MM/yy`). Without one the four date formats of the locale
    are tried, and without a locale the text must be ISO 8601. `this_year` is needed for two-digit years alone.
    Raises BadSetting for a pattern that cannot be read; the function raises NotReadable.
    """
    if pattern is None and locale is None:
        return _iso_date
    if pattern is not None:
        patterns = [date_pattern(pattern, locale)]
    else:
        formats = locale_of(locale or "en").date_formats
        patterns = [date_pattern(str(formats[length].pattern), locale) for length in _LENGTHS]
    wanted = f'format "{pattern}"' if pattern else f'locale "{locale}"'

    def read(text: str) -> date:
        for one in patterns:
            found = one.expression.fullmatch(text.strip())
            if found:
                return _date_of(found, one.months, text, this_year)
        raise NotReadable("not-a-date", f"{text!r} is no date in {wanted}", _example(patterns, locale))

    return read


@lru_cache(maxsize=512)
def date_pattern(pattern: str, locale: str | None = None) -> DatePattern:
    """The pattern compiled; month and day names come from `locale` (default English). Raises BadSetting."""
    name = locale or "en"
    months = month_names(name)
    pieces = [_regex_of(piece, pattern, name, months) for piece in _PIECE.finditer(pattern)]
    try:
        expression = re.compile("".join(pieces), re.IGNORECASE)
    except re.error as error:  # the same field twice
        raise BadSetting("bad-format", f'format "{pattern}" names a field twice') from error
    for field in ("year", "month", "day"):
        if field not in expression.groupindex:
            raise BadSetting("bad-format", f'format "{pattern}" has no {field}', "a date needs y, M and d:  d MMMM y")
    return DatePattern(pattern, expression, months)


def _regex_of(piece: re.Match[str], pattern: str, locale: str, months: dict[str, int]) -> str:
    if piece["blank"]:
        return r"\s+"
    if piece["other"]:
        return re.escape(piece["other"]) + (r"\s*" if piece["other"] in ".,/" else "")
    if piece["quoted"] is not None:
        return re.escape(piece["quoted"].replace("''", "'") or "'")
    letter, count = piece["letter"], len(piece[0])
    if letter in "yu":
        return r"(?P<year>\d{2})" if count == 2 else r"(?P<year>\d{1,4})"
    if letter in "ML":
        return r"(?P<month>\d{1,2})" if count <= 2 else f"(?P<month>{_either(months)})\\.?"
    if letter == "d":
        return r"(?P<day>\d{1,2})(?:st|nd|rd|th|er|º|ª)?"
    if letter in "Ec":
        return f"(?:{_either(day_names(locale))})\\.?"
    if letter == "G":
        return r"\S+"
    raise BadSetting(
        "bad-format",
        f'format "{pattern}" has the letter "{letter}", which stands for no part of a date',
        "y year, M or MMMM month, d day, EEEE day of the week; other letters in '…'",
        offset=piece.start(),
    )


def _either(words: dict[str, int] | tuple[str, ...]) -> str:
    return "|".join(re.escape(word) for word in sorted(words, key=len, reverse=True))


def _date_of(found: re.Match[str], months: dict[str, int], text: str, this_year: int | None) -> date:
    month = found["month"]
    year = found["year"]
    number = int(month) if month.isdecimal() else months[month.casefold().rstrip(".")]
    try:
        return date(_full_year(year, this_year), number, int(found["day"]))
    except ValueError as error:
        raise NotReadable("not-a-date", f"{text!r} is no day of the calendar", str(error)) from error


def _full_year(year: str, this_year: int | None) -> int:
    if len(year) != 2:
        return int(year)
    if this_year is None:
        raise ValueError("a two-digit year, and nothing says which century")
    first = this_year - _WINDOW_BACK
    return first + (int(year) - first) % 100


def _iso_date(text: str) -> date:
    found = _ISO.match(text.strip())
    if not found:
        raise NotReadable(
            "not-a-date", f"{text!r} is no ISO 8601 date", 'say how it is written:  format = "d MMMM y", locale = "en"'
        )
    try:
        return date(int(found[1]), int(found[2]), int(found[3]))
    except ValueError as error:
        raise NotReadable("not-a-date", f"{text!r} is no day of the calendar", str(error)) from error


def _example(patterns: list[DatePattern], locale: str | None) -> str:
    from babel.dates import format_date

    day = date(2026, 11, 3)
    shown = dict.fromkeys(format_date(day, one.pattern, locale=(locale or "en").replace("-", "_")) for one in patterns)
    return "so written it would look like  " + "  or  ".join(shown)
