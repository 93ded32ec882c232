"""Lengths of time from text, as ISO 8601 writes them.

Read are ISO 8601, `2 h 30 min` with the numbers and words of the locale and of English, `1:45:00`, fractions, years and months.
Refused are `1:45` without a format, minutes or seconds beyond 59, the same unit twice, ranges, lengths without a unit.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import timedelta
from decimal import Decimal
from functools import lru_cache

from wadi.clean.amounts import without_about
from wadi.clean.errors import BadSetting, NotReadable
from wadi.clean.from_now import UNITS, WIDTHS, Unit, told
from wadi.clean.locales import marks_of
from wadi.clean.numerals import numeral_at, numeral_start
from wadi.clean.text import latin_digits

_ISO_LENGTH = re.compile(
    r"P(?=.)(?:(\d+)Y)?(?:(\d+)M)?(?:(\d+)W)?(?:(\d+)D)?(?:T(?=.)(?:(\d+)H)?(?:(\d+)M)?(?:(\d+(?:[.,]\d+)?)S)?)?", re.I
)
_CLOCK = re.compile(r"(\d+):(\d{2})(?::(\d{2}(?:[.,]\d+)?))?")
_BETWEEN = re.compile(r"[\s,;+&]*(?:(?:and|und|et|y|e|en|og|och|и|і)\s+)?", re.IGNORECASE)
_MINUTES = re.compile(r"([0-5][0-9])")
_WORD = re.compile(r"\s*([^\W\d_]+)\.?")
_WORDS: dict[str, str] = {
    "w": "week", "wk": "week", "wks": "week", "d": "day", "h": "hour", "hr": "hour", "hrs": "hour", "std": "hour", "stde": "hour",
    "m": "minute", "min": "minute", "mins": "minute", "s": "second", "sec": "second", "secs": "second", "sek": "second",
    "ms": "millisecond", "msec": "millisecond", "µs": "microsecond", "us": "microsecond", "y": "year", "yr": "year",
    "yrs": "year", "hod": "hour",
    "小时": "hour", "小時": "hour", "时": "hour", "分": "minute", "分钟": "minute", "分鐘": "minute", "秒": "second",
    "mo": "month", "mos": "month", "mth": "month", "mths": "month",
}  # fmt: skip
_WORDS = {word.casefold(): unit for word, unit in _WORDS.items()}
_SECONDS = {"week": Decimal(604_800), "day": Decimal(86_400), "hour": Decimal(3600), "minute": Decimal(60), "second": Decimal(1),
            "millisecond": Decimal("0.001"), "microsecond": Decimal("0.000001")}  # fmt: skip
_MONTHS = {"year": 12, "month": 1}
_MOST_SECONDS = Decimal(10) ** 12
_SAMPLE_SECONDS = {"year": 366 * 86_400, "month": 30 * 86_400 + 43_200}


def duration_reader(pattern: str | None = None, locale: str | None = None) -> Callable[[str], str]:
    """A function from text to a length of time as ISO 8601 writes it (`PT2H30M`): from ISO 8601, `2 h 30 min`, `1:45:00`.

    `1:45` is in doubt: `format = "H:mm"` or `"mm:ss"` settles it.
    """
    if pattern not in (None, "H:mm", "HH:mm", "mm:ss", "m:ss"):
        raise BadSetting("bad-format", f'format "{pattern}" is none of a length of time', '"H:mm" or "mm:ss"')
    marks = marks_of(locale)

    def read(text: str) -> str:
        plain = latin_digits(text).strip().replace("μ", "µ")
        if _ISO_LENGTH.fullmatch(plain):
            return plain.upper()
        if (clock := _CLOCK.fullmatch(plain)) is not None:
            return _of_clock(text, clock, pattern)
        months, seconds, at = Decimal(0), Decimal(0), 0
        seen: set[str] = set()
        last = ""
        plain = without_about(plain)
        while at < len(plain):
            between = _BETWEEN.match(plain, at)
            at = between.end() if between is not None and seen else at
            if (
                at >= len(plain)
                or numeral_start(plain[at : at + 2]) != 0
                or (numeral := numeral_at(plain, at, marks)) is None
            ):
                raise _no_length(text)
            word = _WORD.match(plain, numeral.end)
            if word is None and seen and last == "hour" and (minutes := _MINUTES.fullmatch(plain, at)) is not None:
                seconds += Decimal(minutes[1]) * 60  # 2 h 05
                break
            unit = _unit_of(word[1], locale or "en") if word is not None else None
            if word is None or unit is None or unit in seen:
                raise _no_length(text)
            seen.add(unit)
            last = unit
            at = word.end()
            if unit in _MONTHS:
                months += numeral.value * _MONTHS[unit]
            else:
                seconds += numeral.value * _SECONDS[unit]
            at += len(plain[at:]) - len(plain[at:].lstrip(" "))
        if not seen or seconds > _MOST_SECONDS or months > _MOST_SECONDS or months != months.to_integral_value():
            raise _no_length(text)
        return _iso_length(int(months), seconds)

    return read


def _of_clock(text: str, clock: re.Match[str], pattern: str | None) -> str:
    first, second, third = clock.groups()
    if int(second) > 59 or (third is not None and int(third[:2]) > 59) or len(first) > 9:
        raise NotReadable("not-a-duration", f"{text[:60]!r} has more than 59 minutes or seconds")
    if third is not None:
        return _iso_length(0, Decimal(int(first) * 3600 + int(second) * 60) + Decimal(third.replace(",", ".")))
    if pattern is None:
        why = 'format = "H:mm" or "mm:ss" says which'
        raise NotReadable("not-a-duration", f"{text!r} could be hours and minutes, or minutes and seconds", why)
    large, small = (3600, 60) if "H" in pattern else (60, 1)
    return _iso_length(0, Decimal(int(first) * large + int(second) * small))


def _no_length(text: str) -> NotReadable:
    return NotReadable(
        "not-a-duration", f"{text[:60]!r} is no length of time", "such as  2 h 30 min,  1:45:00,  PT2H30M"
    )


def _unit_of(word: str, locale: str) -> str | None:
    key = word.casefold()
    return _WORDS.get(key) or _length_words(locale).get(key)


@lru_cache(maxsize=64)
def _length_words(locale: str) -> dict[str, Unit]:
    """The words of a locale and of English for units of time (CLDR) → the unit."""
    words: dict[str, Unit] = {}
    for unit, seconds in UNITS.items():
        for count in (1, 2, 3, 5, 11):
            for name in (locale, "en"):
                for width in WIDTHS:
                    length = timedelta(seconds=count * (seconds or _SAMPLE_SECONDS[unit]))
                    word = re.sub(r"[\d\s]", "", told(length, unit, name, width)).rstrip(".")
                    if word:
                        words.setdefault(word, unit)
    return words


def _iso_length(months: int, seconds: Decimal) -> str:
    days, rest = divmod(seconds, 86_400)
    hours, rest = divmod(rest, 3600)
    minutes, rest = divmod(rest, 60)
    years, months = divmod(months, 12)
    day = "".join(f"{value}{mark}" for value, mark in ((years, "Y"), (months, "M"), (int(days), "D")) if value)
    clock = "".join(f"{_shown(value)}{mark}" for value, mark in ((hours, "H"), (minutes, "M"), (rest, "S")) if value)
    return f"P{day}{f'T{clock}' if clock else ''}" if day or clock else "PT0S"


def _shown(value: Decimal) -> str:
    """A decimal without an exponent and without zeros at its end."""
    shown = f"{value:f}"
    return shown.rstrip("0").rstrip(".") if "." in shown else shown
