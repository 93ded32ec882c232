"""Dates from text, by the date patterns of Unicode TR 35 (CLDR) with the month names of a locale, or by ISO 8601.

Times are read by the same patterns, in `times`.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, date, datetime
from functools import lru_cache

from wadi.clean.errors import BadSetting, NotReadable
from wadi.clean.locales import day_names, day_periods, folded, locale_of, month_names
from wadi.clean.text import latin_digits

DateReader = Callable[[str], date]

_PIECE = re.compile(
    r"'(?P<quoted>(?:[^']|'')*)'|(?P<letter>[A-Za-z])(?P=letter)*|(?P<blank>\s+)|(?P<other>.)", re.DOTALL
)
_LENGTHS = ("full", "long", "medium", "short")
_SKELETONS = ("yMMMd", "yMMMMd", "yMMMEd", "yMMMMEEEEd", "yMd")
# Where the month is a word, or the year comes first, no order of day and month is in doubt.
_WORDY = (
    "y-MM-dd",
    "d MMMM y",
    "d. MMMM y",
    "d MMM y",
    "MMMM d, y",
    "MMM d, y",
    "MMMM d y",
    "d-MMM-y",
    "EEEE, d MMMM y",
    "y MMMM d",
)
_DAY = ("year", "month", "day")
_PARTIAL_SKELETONS = ("yMMMM", "yMMM", "yM")
_ZONE = r"(?P<zone>Z|UTC|GMT|[A-Z]{2,5}(?:[+\-\u2212]\d{1,2})?|(?:UTC|GMT)?[+\-\u2212]\d{1,2}:?(?:\d{2})?)"
_ISO = re.compile(r"(\d{4})-?(\d{2})-?(\d{2})(?=$|[T ]\d{2}:?\d{2})")
# A two-digit year is the one within 80 years back and 19 ahead of this one (the window of TR 35, Date Field Symbol Table).
_WINDOW_BACK = 80


_NEEDS = {1: "a time needs H:  HH:mm", 2: "a month needs y and M:  MMMM y", 3: "a date needs y, M and d:  d MMMM y",
          4: "a date with a time needs y, M, d and H:  d MMMM y HH:mm"}  # fmt: skip


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
        skeletons = locale_of(locale or "en").datetime_skeletons
        named = [str(formats[length].pattern) for length in _LENGTHS]
        named += [str(skeletons[name].pattern) for name in _SKELETONS if name in skeletons]
        patterns = [date_pattern(name, locale) for name in dict.fromkeys([*named, *_WORDY])]
    wanted = f'format "{pattern}"' if pattern else f'locale "{locale}"'

    def read(text: str) -> date:
        plain = latin_digits(text).strip()
        for form in patterns:
            found = form.expression.fullmatch(plain)
            if found:
                return date_of(found, form.months, text, this_year)
        raise NotReadable("not-a-date", f"{text!r} is no date in {wanted}", example_of(patterns[:4], locale))

    return read


def month_reader(
    pattern: str | None = None, locale: str | None = None, *, this_year: int | None = None
) -> Callable[[str], str]:
    """A function from text to year and month, `2026-05`: by a pattern, the ways of a locale, or ISO 8601. Raises BadSetting."""
    needs = ("year", "month")
    if pattern is not None:
        patterns = [date_pattern(pattern, locale, needs)]
    else:
        skeletons = locale_of(locale or "en").datetime_skeletons
        named = [str(skeletons[name].pattern) for name in _PARTIAL_SKELETONS if name in skeletons]
        patterns = [date_pattern(name, locale, needs) for name in dict.fromkeys(["y-MM", *named, "MMMM y", "MMM y"])]

    def read(text: str) -> str:
        plain = latin_digits(text).strip()
        for form in patterns:
            if (found := form.expression.fullmatch(plain)) is not None:
                day = date_of(found, form.months, text, this_year)
                return f"{day.year:04}-{day.month:02}"
        raise NotReadable("not-a-date", f"{text!r} is no year and month", 'format = "MMMM y" says how it is written')

    return read


def read_year(text: str, this_year: int | None = None) -> int:
    """The year that a text names: four digits, or two by the window. Raises NotReadable."""
    years = re.findall(r"(?<!\d)(?:\d{4}|(?<=['’])\d{2})(?!\d)", latin_digits(text))
    if len(years) != 1:
        raise NotReadable("not-a-date", f"{text!r} names {len(years) or 'no'} year{'s' * (len(years) != 1)}")
    try:
        return full_year(years[0], this_year)
    except ValueError as error:
        raise NotReadable("not-a-date", f"{text!r} is no year: {error}") from error


@lru_cache(maxsize=4096)
def date_pattern(pattern: str, locale: str | None = None, needs: tuple[str, ...] = _DAY) -> DatePattern:
    """The pattern compiled; names come from `locale` (default English), `needs` are the parts that it must have.

    Raises BadSetting.
    """
    name = locale or "en"
    months = month_names(name)
    pieces = [_regex_of(piece, pattern, name, months) for piece in _PIECE.finditer(pattern)]
    try:
        expression = re.compile("".join(pieces), re.IGNORECASE)
    except re.error as error:  # the same field twice
        raise BadSetting("bad-format", f'format "{pattern}" names a field twice') from error
    for field in needs:
        if field not in expression.groupindex:
            raise BadSetting("bad-format", f'format "{pattern}" has no {field}', _NEEDS[len(needs)])
    return DatePattern(pattern, expression, months)


def _regex_of(piece: re.Match[str], pattern: str, locale: str, months: dict[str, int]) -> str:
    if piece["blank"]:
        return r"\s+"
    if piece["other"] in ("\u200e", "\u200f", "\u061c"):
        return ""  # marks of direction have no shape, and are not in the texts that are read
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
    if letter in _TIMES:
        return _TIMES[letter]
    if letter in "abB":
        return f"(?P<period>{_either(day_periods(locale))})"
    raise BadSetting(
        "bad-format",
        f'format "{pattern}" has the letter "{letter}", which stands for no part of a date',
        "y year, M or MMMM month, d day, EEEE day of the week, H or h hour, m minute, s second, a am/pm, z zone; others in '…'",
        offset=piece.start(),
    )


_TIMES = {
    **dict.fromkeys("Hk", r"(?P<hour>\d{1,2})"),
    **dict.fromkeys("hK", r"(?P<hour12>\d{1,2})"),
    "m": r"(?P<minute>\d{1,2})",
    "s": r"(?P<second>\d{1,2})",
    "S": r"(?P<fraction>\d{1,9})",
    **dict.fromkeys("zZxXOvV", _ZONE),
}


def _either(words: dict[str, int] | tuple[str, ...]) -> str:
    return "|".join(re.escape(word) for word in sorted(words, key=len, reverse=True))


def date_of(found: re.Match[str], months: dict[str, int], text: str, this_year: int | None) -> date:
    """The date that a pattern found; the first of the month where it has no day."""
    month = found["month"]
    year = found["year"]
    number = int(month) if month.isdecimal() else months[folded(month)]
    try:
        day = found["day"] if "day" in found.re.groupindex else None
        return date(full_year(year, this_year), number, int(day or 1))
    except ValueError as error:
        raise NotReadable("not-a-date", f"{text!r} is no day of the calendar", str(error)) from error


def full_year(year: str, this_year: int | None) -> int:
    """A year of two digits by the window, others as they are. Raises ValueError."""
    if len(year) != 2:
        return int(year)
    if this_year is None:
        raise ValueError("a two-digit year, and nothing says which century")
    first = this_year - _WINDOW_BACK
    return first + (int(year) - first) % 100


def _iso_date(text: str) -> date:
    found = _ISO.match(latin_digits(text).strip())
    if not found:
        raise NotReadable(
            "not-a-date", f"{text!r} is no ISO 8601 date", 'say how it is written:  format = "d MMMM y", locale = "en"'
        )
    try:
        return date(int(found[1]), int(found[2]), int(found[3]))
    except ValueError as error:
        raise NotReadable("not-a-date", f"{text!r} is no day of the calendar", str(error)) from error


def example_of(patterns: list[DatePattern], locale: str | None) -> str:
    """How a day would look in these patterns."""
    from babel.dates import format_datetime

    day = datetime(2026, 11, 3, 14, 5, tzinfo=UTC)
    shown = dict.fromkeys(
        format_datetime(day, pattern.pattern, locale=(locale or "en").replace("-", "_")) for pattern in patterns
    )
    return "so written it would look like  " + "  or  ".join(shown)
