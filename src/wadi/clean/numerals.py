"""One numeral in a text: digits with their marks, an exponent, a fraction. The only place that knows how digits are written.

Marks are those of a CLDR locale; without one, and where the locale's own do not fit, what has but one reading counts.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable
from decimal import Decimal
from typing import NamedTuple

from wadi.clean.errors import NotReadable
from wadi.clean.locales import BLANKS, Separators

MINUS = "-\u2212–\u2010\u2011\uff0d"
"""Signs that say that a number is negative."""
PLUS = "+\uff0b"
LONGEST = 400
"""So many characters a numeral has at most: a float has 309 digits before the point."""

_BLANK = " \u00a0\u2009\u202f\u2007"
_BODY = re.compile(rf"[0-9]+(?:(?:[.,'’٫٬،．，]|[{_BLANK}])[0-9]+)*|[.,٫．，][0-9]+")
_EXPONENT = re.compile(
    r"[eE](?P<plain>[+\-\u2212]?[0-9]+)(?![0-9A-Za-z])"
    r"|\s?[×x·*]\s?10(?:\^(?P<power>[+\-\u2212]?[0-9]+)|(?P<raised>[⁺⁻]?[⁰¹²³⁴-⁹]+))(?![0-9])"
)
_EXPONENT_MARKS = frozenset("eE×x·* ")
_VULGARS = frozenset("¼½¾⅐⅑⅒⅓⅔⅕⅖⅗⅘⅙⅚⅛⅜⅝⅞↉")
_FRACTION_MARKS = _VULGARS | frozenset("/⁄")
_VULGAR = re.compile(r"([0-9]+)?\s?([¼-¾⅐-⅞↉])(?![¼-¾⅐-⅞↉0-9])")
_BROKEN = re.compile(r"(?:([0-9]+)\s)?([0-9]{1,3})(?:⁄|(?<=[0-9]\s[0-9])/|(?<=[0-9]\s[0-9]{2})/)([0-9]{1,3})(?![0-9])")
_FULL_WIDTH = str.maketrans("．，", ".,")
_RAISED = str.maketrans("⁺⁻⁰¹²³⁴⁵⁶⁷⁸⁹\u2212", "+-0123456789-")
_POWER = re.compile("[⁺⁻]?[⁰¹²³⁴-⁹]{1,3}")
_MOST_EXPONENT = 5
_ARABIC = Separators("٫", frozenset("٬،"), (3, 3))
_NONE = "\0"


class Numeral(NamedTuple):
    """A number without its sign, and where it ends in the text."""

    value: Decimal
    end: int


_START = re.compile(r"[0-9¼-¾⅐-⅞↉]|(?<![\w.,])[.,٫．，](?=[0-9])")
_OWN_START = re.compile(
    r"(?<![^\W_\u0e00-\u0e7f\u3040-\u30ff\u3400-\u9fff\uac00-\ud7af])(?<!\^)(?:[¼-¾⅐-⅞↉]|[.,٫．，]?[0-9][0-9.,'’]*)"
)


def numeral_start(text: str) -> int | None:
    """Where the first numeral of a text with Latin digits begins: a digit, a fraction, a decimal mark before a digit."""
    found = _START.search(text)
    return None if found is None else found.start()


def count_numerals(text: str) -> int:
    """How many numbers of their own stand in a text: the `2` of `m2` is none; what stands behind a letter of a language that
    leaves no blanks is one."""
    return len(_OWN_START.findall(text)) if text else 0


def numeral_at(text: str, at: int, marks: Separators | None) -> Numeral | None:
    """The numeral that begins at a place of a text with decimal digits in Latin; None where there is none that holds.

    Raises NotReadable where it can be read in two ways, or is longer than any number.
    """
    body = _BODY.match(text, at)
    end = body.end() if body is not None else at
    if body is None or text[end : end + 1] in _FRACTION_MARKS or text[end + 1 : end + 2] in _VULGARS:
        if (fraction := _fraction_at(text, at)) is not None:
            return fraction
        if body is None or (text[end : end + 1] and text[end] in _VULGARS):
            return None
    if len(body[0]) > LONGEST:
        raise NotReadable("too-large-number", f"{body[0][:20]}… has more digits than any number that is kept")
    written = body[0] if body[0].isascii() else body[0].translate(_FULL_WIDTH)
    digits = digits_of(written, marks)
    if digits is None:
        return None
    if (power := _POWER.match(text, end)) is not None:
        what = f"{text[at : power.end()][:40]!r} could have a power, or a note"
        raise NotReadable("ambiguous-number", what, "find takes the number out")
    if text[end : end + 1] not in _EXPONENT_MARKS or (raised := _EXPONENT.match(text, end)) is None:
        return Numeral(Decimal(digits), end)
    exponent = (raised["plain"] or raised["power"] or raised["raised"]).translate(_RAISED)
    if len(exponent) > _MOST_EXPONENT:
        raise NotReadable("too-large-number", f"{text[at : raised.end()][:40]!r} is beyond what a number holds")
    return Numeral(Decimal(digits).scaleb(int(exponent)), raised.end())


def _fraction_at(text: str, at: int) -> Numeral | None:
    """`½`, `1½`, `1 ½`, `1 1/2`, `3⁄4` at a place of a text."""
    if (match := _VULGAR.match(text, at)) is not None:
        # Thirds and sixths have no end in decimal digits: the nearest float's digits are taken.
        return Numeral(Decimal(match[1] or 0) + Decimal(repr(unicodedata.numeric(match[2]))), match.end())
    if (match := _BROKEN.match(text, at)) is not None and int(match[3]):
        return Numeral(Decimal(match[1] or 0) + Decimal(match[2]) / Decimal(match[3]), match.end())
    return None


def digits_of(body: str, marks: Separators | None) -> str | None:
    """A numeral's digits in Python's own writing (`1234.5`); None where its marks stand as in no number.

    Raises NotReadable without a locale where one mark could be before a fraction or between groups.
    """
    if body.isdecimal():
        return body
    if marks is not None:
        return _by_marks(body, marks) or _beyond_doubt(body)
    return _by_itself(body)


def _by_marks(body: str, marks: Separators) -> str | None:
    """The body with the locale's own marks read; None when a mark stands where the locale has none.

    Blanks group in every locale (ISO 80000-1 §7.3.1), if the groups are whole.
    """
    if "٫" in body or "٬" in body:  # the marks of Arabic numerals are never in doubt
        marks = _ARABIC
    whole, mark, fraction = body.partition(marks.decimal)
    if mark and not fraction.isdecimal():
        return None
    if not whole:
        return f"0.{fraction}"
    groups = _groups(whole, marks.group)
    if groups is None or not _are_whole(groups, marks.groups):
        return None
    return "".join(groups) + (f".{fraction}" if mark else "")


def _beyond_doubt(body: str) -> str | None:
    """What is written with marks of another locale, and has one reading all the same: two kinds of marks, or many groups."""
    used = [char for char in body if not char.isdecimal() and char not in BLANKS]
    return _by_itself(body) if len(used) > 1 else None


def _by_itself(body: str) -> str | None:
    """The body read without a locale: refused when a single mark could be a decimal or a grouping one."""
    used = [char for char in body if not char.isdecimal() and char not in BLANKS]
    if "٫" in used or "٬" in used:
        return _by_marks(body, _ARABIC)
    if not used:
        return _by_marks(body, Separators(_NONE, BLANKS, (3, 3)))
    if len(set(used)) > 1:
        return _by_marks(body, Separators(used[-1], frozenset(used[:-1]), (3, 2) if len(used) > 2 else (3, 3)))
    mark = used[0]
    grouped = _by_marks(body, Separators(_NONE, frozenset(mark), (3, 2) if len(used) > 1 else (3, 3)))
    decimal = _by_marks(body, Separators(mark, BLANKS, (3, 3))) if len(used) == 1 and mark in ".,٫" else None
    if grouped and decimal:
        raise NotReadable(
            "ambiguous-number",
            f"{body!r} could be {grouped} or {decimal}",
            'a locale decides:  locale = "en"  reads a decimal point,  locale = "de"  a decimal comma',
        )
    return decimal or grouped


def _groups(whole: str, group: frozenset[str]) -> list[str] | None:
    used = {char for char in whole if not char.isdecimal()}
    if not used:
        return [whole]
    if used <= BLANKS or (len(used) == 1 and used <= group):
        return re.split(r"[^0-9]", whole)
    return None


def _are_whole(groups: list[str], sizes: tuple[int, int]) -> bool:
    """Whether the groups have the sizes of the locale; the threes used everywhere else count too."""
    if len(groups) == 1:
        return True
    # A first group with a zero before it is a code, a version, a telephone number.
    return not groups[0].startswith("0") and (_sized(groups, *sizes) or _sized(groups, 3, 3))


def _sized(groups: list[str], last: int, others: int) -> bool:
    first, *middle = groups[:-1]
    return len(groups[-1]) == last and all(len(group) == others for group in middle) and 1 <= len(first) <= others


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
    return re.compile(rf"\s*(-?(?:[0-9]{{1,15}}{group})){fraction}{after}\s*", re.ASCII).fullmatch


_MARK = re.compile("[^0-9-]")


def plain_digits(match: re.Match[str]) -> str:
    """What `plain_number` found, in Python's own writing."""
    whole, fraction = match.groups()
    if not whole.isdecimal():
        whole = _MARK.sub("", whole)
    return f"{whole}.{fraction}" if fraction else whole
