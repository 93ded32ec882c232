"""Which calendar a year is of. Dates are read in the Gregorian one; years of others are refused with its name."""

from __future__ import annotations

import re

from wadi.clean.errors import NotReadable
from wadi.clean.locales import locale_of

_LEAST_YEAR = 1000
_LAST_OF_FIRST, _FIRST_OF_LAST = 1501, 2400
# Language, digits of its script, the first and last year that are taken for one of its calendar, and that calendar.
_OTHERS = (
    ("th", "๐-๙", 2400, 2700, "Buddhist"),
    ("fa", "۰-۹", 1200, 1500, "Persian"),
    ("ps", "۰-۹", 1200, 1500, "Persian"),
    ("ckb", "۰-۹", 1200, 1500, "Persian"),
    ("ar", "٠-٩", 1200, 1500, "Islamic"),
    ("he", "", 5000, 6000, "Hebrew"),
)


_BY_TERRITORY = {"SA": "Islamic", "IR": "Persian", "AF": "Persian", "TH": "Buddhist"}
"""Where a year of two digits is one of another calendar (CLDR, calendar preferences)."""


def check_century(text: str, locale: str | None) -> None:
    """Raise NotReadable for a year of two digits where people mean one of another calendar by it."""
    parsed = locale_of(locale) if locale else None
    for name, digits, _, _, calendar in _OTHERS:
        is_there = parsed is not None and parsed.language == name and name not in ("ar", "he")
        if is_there or (name != "ar" and digits and re.search(f"[{digits}]", text)):
            raise _of_other_calendar(text, calendar)
    if parsed is not None and (known := _BY_TERRITORY.get(parsed.territory or "")) is not None:
        raise _of_other_calendar(text, known)


def _of_other_calendar(text: str, calendar: str) -> NotReadable:
    what = f"{text!r}: the year may be one of the {calendar} calendar, which is not turned into the Gregorian one"
    return NotReadable("other-calendar", what, 'keep it as text:  type = "string"')


def gregorian_year(year: int, text: str, locale: str | None) -> int:
    """The year, if it can be one of the Gregorian calendar in such a text. Raises NotReadable."""
    if _LAST_OF_FIRST <= year < _FIRST_OF_LAST:
        return year  # no other calendar is in these years now
    language = locale_of(locale).language if locale else ""
    for name, digits, first, last, calendar in _OTHERS:
        if first <= year <= last and (language == name or (digits and re.search(f"[{digits}]", text))):
            what = f"{text!r}: {year} is a year of the {calendar} calendar, which is not turned into the Gregorian one"
            raise NotReadable("other-calendar", what, 'keep it as text:  type = "string"')
    if year < _LEAST_YEAR:
        raise NotReadable(
            "not-a-date", f"{text!r}: {year} is no year of four digits", 'keep it as text:  type = "string"'
        )
    return year
