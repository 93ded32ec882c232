"""Numbers from text, by the separators of a CLDR locale, or without one where only one reading is possible."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from decimal import Decimal
from typing import Literal

from wadi.clean.errors import NotReadable
from wadi.clean.locales import BLANKS, Separators, scales_of, separators
from wadi.clean.text import latin_digits


class PlainNumber(str):
    """A number that came as one (JSON, XPath), in Python's own writing: no locale has a say in it."""

    __slots__ = ()


RangeEnd = Literal["low", "high", "middle"]
NumberReader = Callable[[str], float]
IntegerReader = Callable[[str], int]

_SIGNS = {"-": "-", "\u2212": "-", "–": "-", "\u2010": "-", "\u2011": "-", "\uff0d": "-", "+": "", "\uff0b": ""}
_SHAPE = re.compile(
    r"(?P<sign>[+\-\u2212–\u2010\u2011\uff0d\uff0b]?)[ \u00a0]?"
    r"(?P<body>\d(?:[\d.,'’٫٬،]|[ \u00a0\u2009\u202f\u2007](?=\d))*|[.,٫]\d+)"
    r"(?P<exponent>[eE][+\-\u2212]?\d+)?"
)
_INTEGER_BITS = 63
_WHOLE_IN_FLOATS = 2.0**53
_ABOUT = re.compile(
    r"^(?:[~≈∼≃]|(?:ca|circa|c|about|approx|approximately|around|roughly|some|est|etwa|ungefähr|rund|zirka|env|environ|vers|"
    r"aprox|aproximadamente|unos|cerca de|cca|около|ок|прибл)\b\.?|약|约|約|大约|およそ)\s*",
    re.IGNORECASE,
)
_ESTIMATED = re.compile(
    r"\s*\((?:e|est|estimated|approx|ca|about|geschätzt|gesch|estimé|env)\.?\)$|\s+(?:or so|approx\.?|est\.?|ca\.?)$",
    re.IGNORECASE,
)
_BODY = r"[+\-\u2212]?[^\d\s]{0,3}\s?\d[\d.,'’٫٬\u00a0\u202f\u2009 ]*"
_RANGE = re.compile(
    rf"({_BODY}?[^\d]*?)\s*(?:–|—|‒|\.\.\.?|…|-|\bto\b|\bbis\b|\bà\b|\bau\b|\ba\b|\bdo\b|\bdo\b|〜|～|~)\s*({_BODY}.*)"
)
_NUMBER = re.compile(r"(?:(?<![\w.,])[+\-\u2212])?\d(?:[\d.,'’٫٬،]|[ \u00a0\u2009\u202f](?=\d))*")
_VULGAR = re.compile(r"(\d+)?\s?([¼-¾⅐-⅞↉])")
_BROKEN = re.compile(r"(?:(\d+)\s)?(\d{1,3})(?:⁄|(?<=\d\s\d)/|(?<=\d\s\d\d)/)(\d{1,3})(?!\d)")


@dataclass(frozen=True, slots=True)
class NumberWriting:
    """How numbers are written: `unit` stands after (or, as a currency sign, before) the number; `units` are others that may
    stand there, with the factor that turns them into it. `around`: other words may stand around the number. `end` picks one
    end of a range, or its middle."""

    locale: str | None = None
    unit: str | None = None
    units: tuple[tuple[str, float], ...] = ()
    around: bool = False
    end: RangeEnd | None = None


def number_reader(
    locale: str | None = None, unit: str | None = None, writing: NumberWriting | None = None
) -> NumberReader:
    """A function from text to number, for numbers as `writing` says, or by `locale` and `unit` alone: to a float, or to an int
    where the number is whole and beyond what a float holds.

    Raises BadSetting for an unknown locale; the function raises NotReadable.
    """
    digits = _digits_reader(writing or NumberWriting(locale, unit))
    return lambda text: _number(digits(text))


def _number(digits: str) -> float:
    """A number in Python's own writing: a float, but a whole number that a float cannot hold as an int (64 bits)."""
    value = float(digits)
    if -_WHOLE_IN_FLOATS < value < _WHOLE_IN_FLOATS or not digits.lstrip("+-").isdecimal():
        return value
    whole = int(digits)
    return whole if whole.bit_length() <= _INTEGER_BITS else value


def integer_reader(
    locale: str | None = None, unit: str | None = None, writing: NumberWriting | None = None
) -> IntegerReader:
    """A function from text to int (64 bits, signed); `12.0` is a whole number, `12.5` is not."""
    digits_of = _digits_reader(writing or NumberWriting(locale, unit))

    def read(text: str) -> int:
        digits = digits_of(text)
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


def _digits_reader(writing: NumberWriting) -> Callable[[str], str]:
    """From a text to the number in Python's own writing: the plain ways first, since nearly all are written so."""
    marks = separators(writing.locale) if writing.locale else None
    scales = scales_of(writing.locale)
    plainly = plain_number(marks, writing.unit).fullmatch

    def read(text: str) -> str:
        # Digits, the locale's decimal mark, the unit: nine of ten numbers, in a fifth of the time.
        if text.__class__ is str and (match := plainly(text)) is not None:
            whole, fraction = match.groups()
            return f"{whole}.{fraction}" if fraction else whole
        try:
            return digits_in(text, marks, writing.locale, writing.unit)
        except NotReadable as error:
            if isinstance(text, PlainNumber):
                raise
            found = _elaborate(text, writing, marks, scales)
            if found is None:
                raise
            if isinstance(found, NotReadable):
                raise found from error
            return found

    return read


def plain_number(marks: Separators | None, unit: str | None) -> re.Pattern[str]:
    """A number without groups, blanks of any kind around it; without a locale no decimal mark is beyond doubt."""
    fraction = rf"(?:{re.escape(marks.decimal)}([0-9]+))?" if marks is not None else "()"
    after = rf"(?:\s*{re.escape(unit)})?" if unit else ""
    return re.compile(rf"\s*(-?[0-9]+){fraction}{after}\s*")


def _elaborate(
    text: str, writing: NumberWriting, marks: Separators | None, scales: Mapping[str, Decimal]
) -> str | NotReadable | None:
    """The number in a text that is more than one: about, in a range, a fraction, in thousands, in another unit. None where it
    is no such text either."""
    plain = latin_digits(text).strip()
    if plain.startswith("(") and plain.endswith(")") and "-" not in plain:
        inner = _elaborate(plain[1:-1], writing, marks, scales)
        return f"-{inner}" if isinstance(inner, str) and not inner.startswith("-") else inner
    plain = _ESTIMATED.sub("", _ABOUT.sub("", plain)).strip()
    found = _one(plain, writing, marks, scales)
    if found is None and (ends := _range_of(plain)) is not None:
        return _of_range(text, ends, writing, marks, scales)
    if found is None and writing.around:
        starts = [match.start() for match in _NUMBER.finditer(plain)]
        if len(starts) > 1:
            what = f"{text!r} has {len(starts)} numbers"
            return NotReadable("not-a-number", what, "find takes one of them out, range reads two as a range")
        found = _one(plain[starts[0] :], writing, marks, scales, rest_may_be_words=True) if starts else None
    return found


def _range_of(plain: str) -> tuple[str, str] | None:
    """The two ends of a text like `10–12 m`."""
    match = _RANGE.fullmatch(plain)
    return (match[1].strip(), match[2].strip()) if match else None


def _of_range(
    text: str, ends: tuple[str, str], writing: NumberWriting, marks: Separators | None, scales: Mapping[str, Decimal]
) -> str | NotReadable | None:
    low, high = (_one(end, writing, marks, scales) for end in ends)
    if low is None or high is None:
        return None
    if writing.end is None:
        why = 'range = "low", "high" or "middle"  takes one number of it'
        return NotReadable("not-a-number", f"{text!r} is a range", why)
    if writing.end == "middle":
        return _written((Decimal(low) + Decimal(high)) / 2)
    return low if writing.end == "low" else high


def _one(
    plain: str,
    writing: NumberWriting,
    marks: Separators | None,
    scales: Mapping[str, Decimal],
    *,
    rest_may_be_words: bool = False,
) -> str | None:
    """One number: sign, digits or a fraction, thousands or millions, a unit."""
    sign = ""
    if plain[:1] in _SIGNS and plain[:1]:
        sign, plain = _SIGNS[plain[0]], plain[1:].lstrip()
    if writing.unit and plain.startswith(writing.unit):
        plain = plain[len(writing.unit) :].lstrip()
    taken = _fraction(plain) or _plain_body(plain, marks)
    if taken is None or (sign and taken[0].is_signed()):
        return None
    value, rest = taken
    if rest in ("-", "\u2212") and not sign and not value.is_signed():
        sign, rest = "-", ""
    factor = _factor(rest.strip(), writing, scales, words=rest_may_be_words)
    if factor is None:
        return None
    return sign + _written(value * factor)


def _fraction(plain: str) -> tuple[Decimal, str] | None:
    """`½`, `1½`, `1 ½`, `1 1/2`, `3⁄4` at the beginning of a text, and what follows."""
    if (match := _VULGAR.match(plain)) is not None:
        # Thirds and sixths have no end in decimal digits: the nearest float's digits are taken.
        part = Decimal(repr(unicodedata.numeric(match[2])))
        return Decimal(match[1] or 0) + part, plain[match.end() :]
    if (match := _BROKEN.match(plain)) is not None and int(match[3]):
        return Decimal(match[1] or 0) + Decimal(match[2]) / Decimal(match[3]), plain[match.end() :]
    return None


def _plain_body(plain: str, marks: Separators | None) -> tuple[Decimal, str] | None:
    match = _SHAPE.match(plain)
    if match is None:
        return None
    digits = _by_locale(match["body"], marks) if marks else _by_itself(match["body"], plain)
    if digits is None:
        return None
    exponent = (match["exponent"] or "").replace("\u2212", "-")
    return Decimal(_SIGNS.get(match["sign"], "") + digits + exponent), plain[match.end() :]


def _factor(rest: str, writing: NumberWriting, scales: Mapping[str, Decimal], *, words: bool) -> Decimal | None:
    """By what the number is multiplied for what stands after it; None where that is neither scale nor unit."""
    if not rest or _is_unit(rest, writing.unit):
        return Decimal(1)
    for unit, factor in sorted(writing.units, key=lambda pair: rest != pair[0]):
        if _is_unit(rest, unit):
            return Decimal(repr(factor))
    for scale in sorted(scales, key=len, reverse=True):
        if rest.startswith(scale) and not rest[len(scale) : len(scale) + 1].isalpha():
            inner = _factor(rest[len(scale) :].lstrip(". "), writing, {}, words=words)
            return None if inner is None else scales[scale] * inner
    if not words:
        return None
    first = re.split(r"[\s,;(]", rest, maxsplit=1)[0]
    if writing.unit is None or _is_unit(first, writing.unit):
        return Decimal(1)
    return next((Decimal(repr(factor)) for unit, factor in writing.units if _is_unit(first, unit)), None)


def _is_unit(rest: str, unit: str | None) -> bool:
    return unit is not None and "".join(rest.split()).casefold() == "".join(unit.split()).casefold()


def _written(value: Decimal) -> str:
    """A decimal without an exponent where it has few digits."""
    return f"{value:f}" if -30 < value.adjusted() < 30 else str(value)


def digits_in(text: str, marks: Separators | None, locale: str | None, unit: str | None) -> str:
    """The number in Python's own writing, the unit taken off."""
    if isinstance(text, PlainNumber):
        return str(text)
    plain = latin_digits(text.strip())
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
    if "٫" in body or "٬" in body:  # the marks of Arabic numerals are never in doubt
        marks = Separators("٫", frozenset("٬،"), (3, 3))
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
    if "٫" in used or "٬" in used:
        return _by_locale(body, Separators("٫", frozenset("٬،"), (3, 3)))
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
