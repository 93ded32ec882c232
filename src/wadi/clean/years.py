"""Years from text: four digits (1000 to 2199), or two behind an apostrophe; other words may stand around them.

Refused are several years, decades, years before Christ and of other calendars, numbers with a unit, `before 1850`.
"""

from __future__ import annotations

import re

from wadi.clean.calendars import gregorian_year
from wadi.clean.dates import full_year
from wadi.clean.errors import NotReadable
from wadi.clean.neighbours import TO_NOW
from wadi.clean.text import latin_digits

_OTHER_ERA = re.compile(
    r"\bb\.?\s?c\.?(?:\s?e\.?)?(?!\w)|\bv\.?\s?(?:chr|u\.?\s?z)\b|\bav\.?\s?j|\ba\.?\s?c\.?(?!\w)|до\s?н|п\.?\s?н\.?\s?е|紀元前|公元前|기원전",
    re.IGNORECASE,
)
_YEAR = re.compile(r"(?<!\d)(?<!\d[.,])(?:\d{4}|(?<=['’])\d{2})(?![\d]|[.,]\d)|(?<=\d[./-])\d{4}(?!\d)")
_AT_YEAR = re.compile(r"\s*(?:s\b|er\b|['’]s\b|[%$€£¥]|\s?(?:m|km|cm|mm|ft|kg|g|l|ha|m²|km²|l/s|m/s)\b)", re.IGNORECASE)
_OPEN_YEAR = re.compile(
    r"\b(?:before|after|until|since|vor|nach|bis|seit|avant|après|depuis|antes de|después de|prima del|dopo il|до|после)\s+$",
    re.IGNORECASE,
)
_LEAST_OF_YEARS, _MOST_OF_YEARS = 1000, 2199


def read_year(text: str, this_year: int | None = None, locale: str | None = None) -> int:
    """The year that a text names: four digits (1000 to 2199), or two by the window behind an apostrophe. Raises NotReadable.

    Other words may stand around it; refused are several years, decades, years before Christ, numbers with a unit, years of
    other calendars.
    """
    plain = latin_digits(text).strip()
    years = list(_YEAR.finditer(plain))
    if len(years) != 1 or re.search(r"\d{4}\s?[/–-]\s?\d{1,2}(?![\d-]|\s?[/–-])", plain):
        count = "several years" if len(years) else "no year"
        raise NotReadable("not-a-date", f"{text[:60]!r} names {count}")
    found = years[0]
    before, after = plain[: found.start()], plain[found.end() :]
    if _OTHER_ERA.search(after) or (_OTHER_ERA.search(before) and not re.search(r"\bAD\b", before)):
        raise NotReadable("not-a-date", f"{text[:60]!r} names a year before Christ, or of another era")
    if _OPEN_YEAR.search(before):
        raise NotReadable("not-a-date", f"{text[:60]!r} names a time before or after a year")
    if TO_NOW.match(after) or re.fullmatch(r"\s*[-–—]\s*", after):
        raise NotReadable("not-a-date", f"{text[:60]!r} names a time from a year to now")
    if _AT_YEAR.match(after) or re.search(r"[$€£¥]\s*$|(?:^|\s)[-−]$", before):
        raise NotReadable("not-a-date", f"{text[:60]!r} is no year: {found[0]} is a number of something else")
    try:
        year = full_year(found[0], this_year)
    except ValueError as error:
        raise NotReadable("not-a-date", f"{text[:60]!r} is no year: {error}") from error
    year = gregorian_year(year, text, locale)
    if not _LEAST_OF_YEARS <= year <= _MOST_OF_YEARS:
        raise NotReadable(
            "not-a-date", f"{text[:60]!r} is no year: {year} is not from {_LEAST_OF_YEARS} to {_MOST_OF_YEARS}"
        )
    return year
