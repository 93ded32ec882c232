"""Quick ways to values: each gives what the plain way beside it gives, or nothing, and then the plain way is gone.

They stay as long as each is worth 5 % of a page (docs/performance.md has the figures). WADI_PLAIN_VALUES=1 in the environment
does without them, for the tests of one against the other.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable
from datetime import date
from functools import lru_cache
from typing import Any

from wadi.clean.locales import Separators
from wadi.urls import NotAUrl, addressed, resolve

IS_ON = not os.environ.get("WADI_PLAIN_VALUES")
"""Whether the quick ways are taken."""
_REMEMBERED, _LONGEST_REMEMBERED = 4096, 100


def remember(known: dict[str, Any], text: str, value: Any) -> None:
    """Keep the value of a text of a field: districts, kinds and dates come again and again. What comes first is kept, since what
    is frequent does; no text that is long, which would fill the memory and hardly come again."""
    if len(text) <= _LONGEST_REMEMBERED and len(known) < _REMEMBERED:
        known[text] = value


# A path from the root, from here or from above, of segments without leading dots; with a query, a fragment.
_PLAIN_REFERENCE = re.compile(
    r"(/|(?:\.\./)*)([\w~-][\w.~-]*(?:/[\w~-][\w.~-]*)*/?(?:\?[\w.~/&=+-]+)?(?:#[\w.~/-]+)?)", re.ASCII
)


def plain_address(reference: str, base: str) -> str | None:
    """The address of a reference that is a path with nothing to be evened out, as most are; None for others."""
    if not IS_ON or (plain := _PLAIN_REFERENCE.fullmatch(reference)) is None:
        return None
    start = _before(base, plain[1])
    return start + plain[2] if start is not None else None


@lru_cache(maxsize=256)
def _before(base: str, start: str) -> str | None:
    """What stands before a plain reference that begins so on a page: worked out once for the page."""
    try:
        return addressed(resolve(base, f"{start}x"))[:-1]
    except NotAUrl:
        return None


FindNumber = Callable[[str], re.Match[str] | None]
"""Whole part and fraction of a number in a text."""


def plain_number(marks: Separators | None, unit: str | None) -> FindNumber:
    """A function that finds the whole part and the fraction of a number, groups of three by the marks of the locale, the unit
    behind it: nine of ten are written so, and read in a tenth of the time. None for all others, among them, without a
    locale, those that could be read in two ways."""
    group, fraction = "", "(?:[.,]([0-9]{1,2}|[0-9]{4,15}))?"  # of three digits it could be a group
    if marks is not None:
        group = "".join(f"|[1-9][0-9]{{0,2}}(?:{re.escape(mark)}[0-9]{{3}}){{1,4}}" for mark in sorted(marks.group))
        fraction = rf"(?:{re.escape(marks.decimal)}([0-9]{{1,15}}))?"
    after = rf"(?:[\s\u00a0\u202f]*{re.escape(unit)})?" if unit else ""
    find = re.compile(rf"\s*(-?(?:[0-9]{{1,15}}{group})){fraction}{after}\s*", re.ASCII).fullmatch
    return find if IS_ON else lambda text: None


def plain_date(expression: re.Pattern[str] | None) -> Callable[[str], date | None]:
    """A function that finds the date in a text in which year, month and day are numbers where the expression of a date pattern
    has them (ISO 8601 without one), in years that are of no other calendar; None for all others."""
    if expression is None:
        matches: Callable[[str], re.Match[str] | None] = _ISO_DATE.fullmatch
    elif set(expression.groupindex) == {"year", "month", "day"}:
        matches = expression.fullmatch
    else:
        return lambda text: None

    def read(text: str) -> date | None:
        if not text.isascii() or (found := matches(text)) is None:
            return None
        year, month, day = found.group("year", "month", "day")
        if not ("1600" <= year < "2400" and len(year) == 4 and month.isdecimal()):
            return None
        try:
            return date(int(year), int(month), int(day))
        except ValueError:
            return None

    return read if IS_ON else lambda text: None


_ISO_DATE = re.compile(r"(?P<year>\d{4})-(?P<month>\d\d)-(?P<day>\d\d)")
_MARK = re.compile("[^0-9-]")


def plain_digits(match: re.Match[str]) -> str:
    """What `plain_number` found, in Python's own writing."""
    whole, fraction = match.groups()
    whole = whole if whole.isdecimal() else _MARK.sub("", whole)
    return f"{whole}.{fraction}" if fraction else whole
