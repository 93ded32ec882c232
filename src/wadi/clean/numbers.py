"""Numbers from text, by the separators of a CLDR locale, or without one where only one reading is possible.

Read are: digits of every script with the marks of the locale (or without, where they have one reading), blanks and apostrophes
between groups, signs before or after and as words, exponents, fractions, `about` and the like, words for thousands and millions,
the column's unit and those it is told. Refused are: two readings, other units, ranges unless one end is asked for, several
numbers, other words unless they may be there, and what 64 bits do not hold. Nothing is guessed.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from decimal import Decimal
from typing import Literal

from wadi.clean.amounts import NO_WHOLE, Amount, Scales, amounts_in, longest_first, scaled
from wadi.clean.errors import NotReadable
from wadi.clean.locales import BLANKS, marks_of, scales_of, separators
from wadi.clean.numerals import plain_digits, plain_number
from wadi.clean.units import is_measured, unit_factor, unit_key


class PlainNumber(str):
    """A number that came as one (JSON, XPath), in Python's own writing: no locale has a say in it."""

    __slots__ = ()


RangeEnd = Literal["low", "high", "middle"]
Negative = Literal["brackets"]
NumberReader = Callable[[str], float]
IntegerReader = Callable[[str], int]

_INTEGER_BITS = 63
_WHOLE_IN_FLOATS = 2**53
_MOST_DIGITS = 400


@dataclass(frozen=True, slots=True)
class NumberWriting:
    """How numbers are written: `unit` stands after (or, as a currency sign, before) the number; `units` are others that may
    stand there, with the factor that turns them into it. `around`: other words may be around the number. `end` picks one
    end of a range, or its middle. `negative`: numbers in brackets are negative, as in bookkeeping."""

    locale: str | None = None
    unit: str | None = None
    units: tuple[tuple[str, float], ...] = ()
    around: bool = False
    end: RangeEnd | None = None
    negative: Negative | None = None


def number_reader(
    locale: str | None = None, unit: str | None = None, writing: NumberWriting | None = None
) -> NumberReader:
    """A function from text to number, for numbers as `writing` says, or by `locale` and `unit` alone: to a float, or to an int
    where the number is whole and beyond what a float holds.

    Raises BadSetting for an unknown locale; the function raises NotReadable.
    """
    writing = writing or NumberWriting(locale, unit)
    value_of = value_reader(writing)
    plainly = plain_number(marks_of(writing.locale), writing.unit)

    def read(text: str) -> float:
        if text.__class__ is str and (match := plainly(text)) is not None:
            return float(plain_digits(match))
        return as_float(value_of(text), text)

    return read


def integer_reader(
    locale: str | None = None, unit: str | None = None, writing: NumberWriting | None = None
) -> IntegerReader:
    """A function from text to int (64 bits, signed); `12.0` is a whole number, `12.5` is not."""
    writing = writing or NumberWriting(locale, unit)
    value_of = value_reader(writing)
    plainly = plain_number(marks_of(writing.locale), writing.unit)

    def read(text: str) -> int:
        if text.__class__ is str and (match := plainly(text)) is not None and not match[2]:
            return int(plain_digits(match))
        return as_integer(value_of(text), text)

    return read


def as_float(value: Decimal, text: str) -> float:
    """A number as a float, or as an int where it is whole and a float does not hold it (64 bits). Raises NotReadable."""
    if value.adjusted() <= _MOST_DIGITS and value == value.to_integral_value() and abs(value) > _WHOLE_IN_FLOATS:
        whole = int(value)
        if whole.bit_length() <= _INTEGER_BITS:
            return whole
    number = float(value)
    if number in (float("inf"), float("-inf")) or (number == 0.0 and value):
        raise NotReadable("too-large-number", f"{_cut(text)!r} is beyond what a number of 64 bits holds")
    return number


def as_integer(value: Decimal, text: str) -> int:
    """A whole number of 64 bits. Raises NotReadable."""
    if value.adjusted() < _MOST_DIGITS and value != value.to_integral_value():
        raise NotReadable(
            "not-an-integer", f"{_cut(text)!r} is not a whole number", 'type = "number" keeps the fraction'
        )
    if value.adjusted() > 20 or (whole := int(value)).bit_length() > _INTEGER_BITS:
        raise NotReadable(
            "too-large-integer",
            f"{_cut(text)!r} does not fit into 64 bits",
            "a code or a number to call? keep it as text",
        )
    return whole


def _cut(text: str) -> str:
    return text if len(text) <= 60 else f"{text[:60]}…"


def value_reader(writing: NumberWriting) -> Callable[[str], Decimal]:
    """A function from text to the number that it is, exactly; it raises NotReadable."""
    marks, scales = marks_of(writing.locale), longest_first(scales_of(writing.locale))

    def read(text: str) -> Decimal:
        if isinstance(text, PlainNumber):
            return plain_value(text)
        if "," in text and (dash := NO_WHOLE.search(text)) is not None and dash[2] == ",":
            why = "a minus, or a dash for no whole ones, as in prices: write one of them with clean"
            raise NotReadable("ambiguous-number", f"{_cut(text)!r} begins with a dash", why)
        found = amounts_in(text, marks, among_words=writing.around)
        if not found:
            raise _no_number(text, writing.locale)
        if len(found) == 2:
            return _of_range(text, found, writing, scales)
        scale, factor, rest = _meaning(text, found[0], writing, scales)
        value = found[0].value * scale * factor
        return negated(value, found[0], writing.negative, text, is_alone=rest in ("", "%"))

    return read


def plain_value(text: str) -> Decimal:
    """A number that came as one. Raises NotReadable."""
    if len(text) > _MOST_DIGITS:
        raise NotReadable("too-large-number", f"{_cut(text)!r} is beyond what a number of 64 bits holds")
    value = Decimal(text)
    if not value.is_finite():
        raise NotReadable("not-a-number", f"{text!r} is no number")
    return value


def negated(value: Decimal, amount: Amount, negative: Negative | None, text: str, *, is_alone: bool) -> Decimal:
    """The value by what brackets around it mean. Raises NotReadable where nothing says whether they mean anything."""
    if not amount.in_brackets:
        return value
    if negative == "brackets":
        if amount.value.is_signed():
            raise NotReadable("not-a-number", f"{text!r} has brackets and a sign")
        return -value
    if not is_alone:
        return value  # (12 reviews): bookkeeping has no words there
    now = """negative = "brackets"  reads it as bookkeeping does,  find = '\\((.+)\\)'  takes it as it stands"""
    raise NotReadable("ambiguous-number", f"{text!r} could be {value:f} or {-value:f}", now)


def _meaning(text: str, amount: Amount, writing: NumberWriting, scales: Scales) -> tuple[Decimal, Decimal, str]:
    """Scale and factor of an amount, by what stands before and after its number; and what is left. Raises NotReadable."""
    before, after, words = amount.before, amount.after, writing.around
    if before and not words and (unit_factor(before, writing.unit, writing.units) is None or after):
        raise _beside(text, before, writing, "before")
    factor = (unit_factor(before, writing.unit, writing.units) if before and not after else None) or Decimal(1)
    if not after:
        return Decimal(1), factor, ""
    if (by_unit := unit_factor(after, writing.unit, writing.units)) is not None:
        return Decimal(1), by_unit, after
    scale, rest = scaled(after, scales)
    letter = after.rstrip(".")
    units = [*([writing.unit] if writing.unit else []), *(name for name, _ in writing.units)]
    # A letter at a measure is a unit, or a prefix of one, and no word for thousands: 20 K, 500G, 1.6M.
    is_doubtful = len(letter) == 1 and any(map(is_measured, units))
    if scale != 1 and not rest and units and (is_doubtful or any(_are_alike(letter, unit) for unit in units)):
        why = f"units = {{ {letter} = … }}  says which unit it is"
        raise NotReadable(
            "other-unit", f"{text!r}: {after!r} could be {scale:,f} times, or the unit {writing.unit!r}", why
        )
    if not rest:
        return scale, factor, ""
    if (by_unit := unit_factor(rest, writing.unit, writing.units)) is not None:
        return scale, by_unit, rest
    if words:
        first = re.split(r"[\s,;()]", rest, maxsplit=1)[0]
        if writing.unit is None:
            return scale, factor, rest
        if (by_unit := unit_factor(first, writing.unit, writing.units)) is not None:
            return scale, by_unit, rest
    raise _beside(text, rest, writing, "after")


def _are_alike(one: str, other: str) -> bool:
    return unit_key(one).casefold() == unit_key(other).casefold()


def _of_range(text: str, ends: tuple[Amount, ...], writing: NumberWriting, scales: Scales) -> Decimal:
    if writing.end is None:
        why = 'range = "low", "high" or "middle"  takes one number of it'
        raise NotReadable("not-a-number", f"{text!r} is a range", why)
    low, high = ends
    scale, factor, _ = _meaning(text, high, writing, scales)
    own_scale, own_factor, rest = _meaning(text, low, writing, scales)
    if not low.after:  # the end's unit and scale are those of the beginning, unless that has its own
        own_scale, own_factor = scale, own_factor if low.before and not writing.around else factor
    elif not rest and own_scale != 1:
        own_factor = factor
    return end_of(text, (low.value * own_scale * own_factor, high.value * scale * factor), writing.end)


def end_of(text: str, ends: tuple[Decimal, Decimal], which: RangeEnd) -> Decimal:
    """One end of a range, or its middle. Raises NotReadable for one that begins above its end."""
    low, high = ends
    if low > high:
        raise NotReadable("not-a-number", f"{text!r} would be a range from {low:f} to {high:f}")
    return (low + high) / 2 if which == "middle" else low if which == "low" else high


def _beside(text: str, rest: str, writing: NumberWriting, where: str) -> NotReadable:
    """Why something that stands at a number makes it none."""
    if writing.unit is None:
        return NotReadable(
            "not-a-number",
            f"{_cut(text)!r} has {_cut(rest)!r} {where} the number",
            f"if that is its unit, write:  unit = {_cut(rest)!r};  else take the number out with find",
        )
    return NotReadable("other-unit", f"{_cut(text)!r} has the unit {_cut(rest)!r}, not {writing.unit!r}")


def _no_number(text: str, locale: str | None) -> NotReadable:
    if not locale:
        return NotReadable("not-a-number", f"{_cut(text)!r} is no number")
    marks = separators(locale)
    group = "blanks" if marks.group == BLANKS else " or ".join(repr(char) for char in sorted(marks.group))
    return NotReadable(
        "not-a-number",
        f"{_cut(text)!r} is no number in locale {locale!r}",
        f"{locale!r} writes {marks.decimal!r} before the fraction and groups by {group}",
    )
