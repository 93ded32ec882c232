"""Dates from text, by the date patterns of Unicode TR 35 (CLDR) with the month names of a locale, or by ISO 8601.

Read are: by a pattern, what it says; by a locale, the ways in which CLDR writes dates there, those where the month is a word or
the year stands first, a day of the week before or behind (which must be that of the date), ordinals, and `-` for `/`; without
either ISO 8601 and dates with the year first. Refused are: other orders of day and month, days that the calendar lacks, years of
one to three digits, years of other calendars. Guessed is the century of a year of two digits. Times are read in `times`.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import date, timedelta
from functools import lru_cache

from wadi.clean.calendars import check_century, gregorian_year
from wadi.clean.errors import BadSetting, NotReadable
from wadi.clean.locales import day_names, day_periods, folded, locale_of, month_expression, month_number
from wadi.clean.text import latin_digits

DateReader = Callable[[str], date]

_PIECE = re.compile(
    r"'(?P<quoted>(?:[^']|'')*)'|(?P<letter>[A-Za-z])(?P=letter)*|(?P<blank>\s+)|(?P<other>.)", re.DOTALL
)
_LENGTHS = ("full", "long", "medium", "short")
_SKELETONS = ("yMMMd", "yMMMMd", "yMMMEd", "yMMMMEEEEd", "yMd")
# Where the month is a word, or the year comes first, no order of day and month is in doubt.
_YEAR_FIRST = ("yyyy-M-d", "yyyy/M/d", "yyyy.M.d", "yyyy.M.d.", "yyyy年M月d日", "yyyy年M月d号", "yyyy년 M월 d일")
_WORDY = (
    "d MMMM y",
    "d. MMMM y",
    "d MMM y",
    "d MMM, y",
    "MMMM d, y",
    "MMM d, y",
    "MMMM d y",
    "d-MMM-y",
    "d/MMM/y",
    "d MMM ''yy",
    "MMM-d-y",
    "y MMMM d",
    "d 'of' MMMM y",
    "d 'of' MMMM, y",
    "d 'de' MMMM 'de' y",
    "d 'de' MMMM 'del' y",
)
_DAY = ("year", "month", "day")
_PARTIAL_SKELETONS = ("yMMMM", "yMMM", "yM")
_PARTIAL = ("yyyy-MM", "MM/yyyy", "MM.yyyy", "MMMM yyyy", "MMMM, yyyy", "MMM yyyy", "MMM-yyyy", "MMM/yyyy", "M-yyyy",
            "yyyy/MM", "yyyy.MM", "MMM ''yy", "yyyy MMMM",
            "MMMM 'de' yyyy")  # fmt: skip
ZONE = r"(?P<zone>(?-i:Z|UTC|GMT|[A-Z]{2,5}(?:[+\-\u2212]\d{1,2})?)|(?-i:UTC|GMT)?[+\-\u2212]\d{1,2}:?(?:\d{2})?)"
_ISO = re.compile(r"(\d{4})-?(\d{2})-?(\d{2})(?=$|[T ]\d{2}:?\d{2})")
_MIDNIGHT = re.compile(r"[T ]24:?00(?!:?[1-9])")
# A two-digit year is the one within 80 years back and 19 ahead of this one (the window of TR 35, Date Field Symbol Table).
_WINDOW_BACK = 80
_ARTICLES = {
    "de": "den|am|vom",
    "fr": "le",
    "sv": "den",
    "da": r"den|d\.",
    "nb": "den",
    "es": "el",
    "it": "il",
    "nl": "op",
    "pt": "em",
}
"""Words that stand before a date and say nothing, by language."""
_YEAR_WORDS = {"ru": r"г(?:ода?|\.)?", "uk": r"р(?:оку|\.)?", "pl": r"r(?:oku|\.)?", "bg": r"г(?:одина|\.)?"}
"""Words for `year` behind it, by language."""

_NEEDS = {1: "a time needs H:  HH:mm", 2: "a month needs y and M:  MMMM y", 3: "a date needs y, M and d:  d MMMM y",
          4: "a date with a time needs y, M, d and H:  d MMMM y HH:mm"}  # fmt: skip
_IDEOGRAPH = re.compile("[\u3400-\u9fff\uac00-\ud7af]")
_DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")


@dataclass(frozen=True, slots=True)
class DatePattern:
    """A compiled pattern: the expression, and the locale whose names its groups are looked up in."""

    pattern: str
    expression: re.Pattern[str]
    locale: str


_ISO_DATE = re.compile(r"(?P<year>\d{4})-(?P<month>\d\d)-(?P<day>\d\d)", re.ASCII)


def date_reader(pattern: str | None = None, locale: str | None = None, *, this_year: int | None = None) -> DateReader:
    """A function from text to date.

    `pattern` is a date pattern of TR 35 (`d MMMM y`, `dd/MM/yy`). Without one the ways of the locale are tried, and without a
    locale the year must stand first, as in ISO 8601. `this_year` is needed for two-digit years alone.
    Raises BadSetting for a pattern that cannot be read; the function raises NotReadable.
    """
    patterns = [date_pattern(pattern, locale)] if pattern is not None else date_patterns(locale)
    # What nearly all are: three numbers of this calendar, in which there is nothing to be settled.
    numeric = patterns[0].expression if pattern is not None else _ISO_DATE
    is_numeric = set(numeric.groupindex) == {"year", "month", "day"}

    def read(text: str) -> date:
        if is_numeric and text.isascii() and (numbers := numeric.fullmatch(text)) is not None:
            year, month, number = numbers.group("year", "month", "day")
            if len(year) == 4 and "1600" <= year < "2400" and month.isdecimal():
                return _day_of(int(year), int(month), int(number), text)
        plain = latin_digits(text).strip()
        if pattern is None and (iso := _ISO.match(plain)) is not None:
            day = _calendar_day(int(iso[1]), int(iso[2]), int(iso[3]), text, locale)
            return day + timedelta(days=1) if _MIDNIGHT.match(plain, iso.end()) else day
        found = date_in(plain, patterns, text, this_year)
        if found is None:
            from wadi.clean.hints import how_to_read

            where = f'format "{pattern}"' if pattern else f'locale "{locale}"' if locale else "ISO 8601"
            raise NotReadable("not-a-date", f"{text[:60]!r} is no date in {where}", how_to_read(text))
        return found

    return read


def date_in(plain: str, patterns: list[DatePattern], text: str, this_year: int | None) -> date | None:
    """The date that a text with Latin digits is by one of the patterns; None where it is none. Raises NotReadable for a day
    that the calendar lacks."""
    for bare, weekday in _barer(plain, patterns[0].locale):
        for form in patterns:
            if (found := form.expression.fullmatch(bare)) is not None:
                day = date_of(found, form.locale, text, this_year)
                if day is not None:
                    return _checked_weekday(day, weekday, text)
    return None


def _barer(plain: str, locale: str) -> Iterator[tuple[str, int | None]]:
    """A text as it is, then without a day of the week, an article, a word for `year`; with the day of the week."""
    yield plain, None
    before, behind = _beside(locale)
    if (head := before.match(plain)) is not None or behind.search(plain) is not None:
        weekday = folded(head["weekday"]) if head is not None and head["weekday"] else ""
        bare = plain[head.end() :] if head is not None else plain
        if (tail := behind.search(bare)) is not None:
            weekday = weekday or folded(tail["weekday"] or "")
            bare = bare[: tail.start()]
        yield bare.strip(), day_names(locale).get(weekday)


@lru_cache(maxsize=256)
def _beside(locale: str) -> tuple[re.Pattern[str], re.Pattern[str]]:
    """What may stand before a date, and behind it."""
    language = locale_of(locale).language
    days = _either(day_names(locale))
    article, year = _ARTICLES.get(language), _YEAR_WORDS.get(language)
    leading = rf"(?:(?P<weekday>{days})\b\.?,?\s*)?" + (rf"(?:(?:{article})\s+)?" if article else "")
    trailing = (rf"(?:\s*{year},?)?" if year else "") + rf"(?:,?\s*[(（]?\s*(?P<weekday>{days})\.?\s*[)）]?)?\.?"
    return re.compile(rf"(?=\w){leading}(?=.*\d)", re.IGNORECASE), re.compile(rf"(?<=\w|\.){trailing}\Z", re.IGNORECASE)


def _checked_weekday(day: date, weekday: int | None, text: str) -> date:
    if weekday is not None and day.weekday() != weekday:
        what = f"{text!r}: {day.isoformat()} is a {_DAYS[day.weekday()]}, not a {_DAYS[weekday]}"
        raise NotReadable("not-a-date", what, "the order of day and month, or the locale, may be another")
    return day


def date_patterns(locale: str | None) -> list[DatePattern]:
    """The ways in which dates are written in a locale; without one those with the year first."""
    if locale is None:
        return [date_pattern(form) for form in _YEAR_FIRST]
    return _date_patterns(locale)


@lru_cache(maxsize=256)
def _date_patterns(locale: str) -> list[DatePattern]:
    formats, skeletons = locale_of(locale).date_formats, locale_of(locale).datetime_skeletons
    named = [str(formats[length].pattern) for length in _LENGTHS]
    named += [str(skeletons[name].pattern) for name in _SKELETONS if name in skeletons]
    if locale.replace("-", "_") in _TORN_DATES:
        named = [form for form in named if not re.fullmatch(r"[dM]{1,2}/[dM]{1,2}/y+", form)]
    swapped = [form.replace("/", "-") if "/" in form else form.replace("-", "/") for form in named if _is_numeric(form)]
    named += _OF_LANGUAGE.get(locale_of(locale).language, ())
    return [date_pattern(form, locale) for form in dict.fromkeys([*named, *_YEAR_FIRST, *_WORDY, *swapped])]


_OF_LANGUAGE = {"pl": ("d-M-y",), "tr": ("d/M/y", "d-M-y"), "vi": ("'ngày' d 'tháng' M 'năm' y", "d 'tháng' M 'năm' y")}
_TORN_DATES = frozenset({"en_CA", "en_ZA", "en_PH"})
"""Where people write day and month in either order: with slashes neither is read."""


def _is_numeric(pattern: str) -> bool:
    return re.fullmatch(r"(?:d{1,2}|M{1,2}|y+)([/-])(?:d{1,2}|M{1,2}|y+)\1(?:d{1,2}|M{1,2}|y+)", pattern) is not None


def month_reader(
    pattern: str | None = None, locale: str | None = None, *, this_year: int | None = None
) -> Callable[[str], str]:
    """A function from text to year and month, `2026-05`: by a pattern, the ways of a locale, or ISO 8601; a year of two digits
    only where the pattern says so, or with an apostrophe. Raises BadSetting."""
    needs = ("year", "month")
    if pattern is not None:
        patterns = [date_pattern(pattern, locale, needs)]
    else:
        skeletons = locale_of(locale or "en").datetime_skeletons
        named = [str(skeletons[name].pattern) for name in _PARTIAL_SKELETONS if name in skeletons]
        named = [re.sub(r"(?<!y)y(?!y)", "yyyy", form) for form in named]
        patterns = [date_pattern(form, locale, needs) for form in dict.fromkeys([*named, *_PARTIAL])]

    def read(text: str) -> str:
        plain = latin_digits(text).strip()
        for bare, _ in _barer(plain, locale or "en"):
            for form in patterns:
                if (found := form.expression.fullmatch(bare)) is not None:
                    day = date_of(found, form.locale, text, this_year)
                    if day is not None:
                        return f"{day.year:04}-{day.month:02}"
        why = 'format = "MMMM y" says how it is written'
        raise NotReadable("not-a-date", f"{text[:60]!r} is no year and month", why)

    return read


@lru_cache(maxsize=4096)
def date_pattern(pattern: str, locale: str | None = None, needs: tuple[str, ...] = _DAY) -> DatePattern:
    """The pattern compiled; names come from `locale` (default English), `needs` are the parts that it must have.

    Letters: y year (yy of two digits), M or MMMM month, d day, E day of the week, H or h hour, m minute, s second, S fraction,
    a before or after noon, z zone; words stand in '…'. Raises BadSetting.
    """
    name = locale or "en"
    pieces = list(_PIECE.finditer(pattern))
    written = [
        _regex_of(piece, pattern, name, pieces[number - 1] if number else None) for number, piece in enumerate(pieces)
    ]
    if pieces and pieces[-1]["other"] == ".":
        written[-1] = r"\.?"
    try:
        expression = re.compile("".join(written), re.IGNORECASE)
    except re.error as error:  # the same field twice
        raise BadSetting("bad-format", f'format "{pattern}" names a field twice') from error
    for field in needs:
        if field not in expression.groupindex:
            raise BadSetting("bad-format", f'format "{pattern}" has no {field}', _NEEDS[len(needs)])
    return DatePattern(pattern, expression, name)


def _regex_of(piece: re.Match[str], pattern: str, locale: str, before: re.Match[str] | None) -> str:
    if piece["blank"]:
        mark = (before["other"] or before["quoted"] or "")[-1:] if before is not None else ""
        return "" if mark and mark in ".,/" else r"\s*" if mark and _IDEOGRAPH.match(mark) else r"\s+"
    if piece["other"] in ("\u200e", "\u200f", "\u061c"):
        return ""  # marks of direction have no shape, and are not in the texts that are read
    if piece["other"]:
        return re.escape(piece["other"]) + (r"\s*" if piece["other"] in ".,/" else "")
    if piece["quoted"] is not None:
        words = piece["quoted"].replace("''", "'") or "'"
        return "['’]" if words == "'" else re.escape(words)
    letter, count = piece["letter"], len(piece[0])
    if letter in "yu":
        return r"(?P<year>\d{2})" if count == 2 else r"(?P<year>\d{4})" if count > 2 else r"(?P<year>\d{4}|\d{2})"
    if letter in "ML":
        return r"(?P<month>\d{1,2})" if count <= 2 else f"(?P<month>{month_expression(locale)})\\.?"
    if letter == "d":
        return r"(?P<day>\d{1,2})(?:st|nd|rd|th|er|re|e|º|ª|°)?"
    if letter in "Ec":
        return f"(?P<weekday>{_either(day_names(locale))})\\.?"
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
    "m": r"(?P<minute>\d{2})",
    "s": r"(?P<second>\d{2})",
    "S": r"(?P<fraction>\d{1,9})",
    **dict.fromkeys("zZxXOvV", ZONE),
}


def _either(words: dict[str, int] | tuple[str, ...]) -> str:
    return "|".join(re.escape(word) for word in sorted(words, key=len, reverse=True))


def date_of(found: re.Match[str], locale: str, text: str, this_year: int | None) -> date | None:
    """The date that a pattern found; the first of the month where it has no day. None where its word is no month."""
    parts = found.groupdict()
    month = parts["month"]
    number = int(month) if month.isdecimal() else month_number(month, locale)
    if number is None:
        return None
    if len(parts["year"]) == 2:
        check_century(text, locale)
    try:
        year = full_year(parts["year"], this_year)
    except ValueError as error:
        raise NotReadable("not-a-date", f"{text!r} is no day of the calendar", str(error)) from error
    day = _calendar_day(year, number, int(parts.get("day") or 1), text, locale)
    weekday = day_names(locale).get(folded(parts["weekday"])) if parts.get("weekday") else None
    return _checked_weekday(day, weekday, text)


def _calendar_day(year: int, month: int, day: int, text: str, locale: str | None) -> date:
    return _day_of(gregorian_year(year, text, locale), month, day, text)


def _day_of(year: int, month: int, day: int, text: str) -> date:
    try:
        return date(year, month, day)
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
