"""Numbers from text, by the separators of a CLDR locale, or without one where only one reading is possible."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable

from wadi.clean.errors import NotReadable
from wadi.clean.locales import BLANKS, Separators, separators


class PlainNumber(str):
    """A number that came as one (JSON, XPath), in Python's own writing: no locale has a say in it."""

    __slots__ = ()


NumberReader = Callable[[str], float]
IntegerReader = Callable[[str], int]

_SIGNS = {"-": "-", "\u2212": "-", "–": "-", "+": ""}
_SHAPE = re.compile(
    r"(?P<sign>[+\-\u2212–]?)[ \u00a0]?"
    r"(?P<body>\d(?:[\d.,'’٫٬]|[ \u00a0\u2009\u202f\u2007](?=\d))*|[.,٫]\d+)"
    r"(?P<exponent>[eE][+\-\u2212]?\d+)?"
)
_INTEGER_BITS = 63


def number_reader(locale: str | None = None, unit: str | None = None) -> NumberReader:
    """A function from text to float. `unit` may stand after (or, as a currency sign, before) the number.

    Raises BadSetting for an unknown locale; the function raises NotReadable.
    """
    marks = separators(locale) if locale else None

    def read(text: str) -> float:
        digits = _digits(text, marks, locale, unit)
        return float(digits)

    return read


def integer_reader(locale: str | None = None, unit: str | None = None) -> IntegerReader:
    """A function from text to int (64 bits, signed); `12.0` is a whole number, `12.5` is not."""
    marks = separators(locale) if locale else None

    def read(text: str) -> int:
        digits = _digits(text, marks, locale, unit)
        whole, _, fraction = digits.partition(".")
        if "e" in digits.lower():
            number = float(digits)
            if not number.is_integer():
                raise NotReadable("not-an-integer", f"{text!r} is not a whole number")
            value = int(number)
        elif fraction.strip("0"):
            raise NotReadable("not-an-integer", f"{text!r} is not a whole number", 'type = "number" keeps the fraction')
        else:
            value = int(whole or "0")
        if value.bit_length() > _INTEGER_BITS:
            raise NotReadable(
                "too-large-integer",
                f"{text!r} does not fit into 64 bits",
                "a code or a number to call? keep it as text",
            )
        return value

    return read


def _digits(text: str, marks: Separators | None, locale: str | None, unit: str | None) -> str:
    """The number in Python's own writing, the unit taken off."""
    if isinstance(text, PlainNumber):
        return str(text)
    plain = _latin_digits(text.strip())
    if unit and plain.startswith(unit) and plain != unit:
        plain = plain[len(unit) :].lstrip()
    match = _SHAPE.match(plain)
    if match is None:
        raise _no_number(text, locale)
    _check_rest(text, plain[match.end() :].strip(), unit)
    body = match["body"]
    digits = _by_locale(body, marks) if marks else _by_itself(body, text)
    if digits is None:
        raise _no_number(text, locale)
    exponent = (match["exponent"] or "").replace("\u2212", "-")
    return _SIGNS.get(match["sign"], "") + digits + exponent


def _latin_digits(text: str) -> str:
    """Decimal digits of any script (Arabic-Indic, Devanagari, full-width …) as 0 to 9."""
    if text.isascii():
        return text
    return "".join(str(unicodedata.decimal(c)) if c.isdecimal() else c for c in text)


def _check_rest(text: str, rest: str, unit: str | None) -> None:
    if not rest:
        return
    if unit is None:
        raise NotReadable(
            "not-a-number",
            f"{text!r} has {rest!r} after the number",
            f"if that is its unit, write:  unit = {rest!r};  else take the number out with find",
        )
    if "".join(rest.split()).casefold() != "".join(unit.split()).casefold():
        raise NotReadable("other-unit", f"{text!r} has the unit {rest!r}, not {unit!r}")


def _by_locale(body: str, marks: Separators) -> str | None:
    """The body with the locale's own marks read; None when a mark stands where the locale has none.

    Blanks group in every locale (ISO 80000-1 §7.3.1), if the groups are whole.
    """
    whole, mark, fraction = body.partition(marks.decimal)
    if mark and not fraction.isdigit():
        return None
    if not whole:
        return f"0.{fraction}"
    groups = _groups(whole, marks.group)
    if groups is None or not _whole_groups(groups, marks.groups):
        return None
    return "".join(groups) + (f".{fraction}" if mark else "")


def _groups(whole: str, group: frozenset[str]) -> list[str] | None:
    used = {c for c in whole if not c.isdigit()}
    if not used:
        return [whole]
    if used <= BLANKS or (len(used) == 1 and used <= group):
        return re.split(r"\D", whole)
    return None


def _whole_groups(groups: list[str], sizes: tuple[int, int]) -> bool:
    """Whether the groups have the sizes of the locale; the threes used everywhere else count too."""
    if len(groups) == 1:
        return True
    return _sized(groups, *sizes) or _sized(groups, 3, 3)


def _sized(groups: list[str], last: int, others: int) -> bool:
    first, *middle = groups[:-1]
    return len(groups[-1]) == last and all(len(g) == others for g in middle) and 1 <= len(first) <= others


def _by_itself(body: str, text: str) -> str | None:
    """The body read without a locale: refused when a single mark could be a decimal or a grouping one."""
    used = [c for c in body if not c.isdigit() and c not in BLANKS]
    if not used:
        return _by_locale(body, Separators("\0", BLANKS, (3, 3)))
    if len(set(used)) == 1:
        mark = used[0]
        grouped = _by_locale(body, Separators("\0", frozenset(mark), (3, 3)))
        decimal = _by_locale(body, Separators(mark, BLANKS, (3, 3))) if len(used) == 1 and mark in ".,٫" else None
        if grouped and decimal and not body.startswith("0"):
            raise NotReadable(
                "ambiguous-number",
                f"{text!r} could be {grouped} or {decimal}",
                'a locale decides:  locale = "en"  reads a decimal point,  locale = "de"  a decimal comma',
            )
        return decimal or grouped
    return _by_locale(body, Separators(used[-1], frozenset(used[:-1]), (3, 3)))


def _no_number(text: str, locale: str | None) -> NotReadable:
    if not locale:
        return NotReadable("not-a-number", f"{text!r} is no number")
    marks = separators(locale)
    group = "blanks" if marks.group == BLANKS else " or ".join(repr(c) for c in sorted(marks.group))
    return NotReadable(
        "not-a-number",
        f"{text!r} is no number in locale {locale!r}",
        f"{locale!r} writes {marks.decimal!r} before the fraction and groups by {group}",
    )
