"""The type of a column, guessed from its texts: what nearly all of them can be read as, most exact first."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

from wadi.clean.dates import date_reader
from wadi.clean.errors import NotReadable
from wadi.clean.numbers import PlainNumber, integer_reader, number_reader
from wadi.clean.types import TypeName, read_boolean
from wadi.plan.model import MISSING_TEXTS

_ENOUGH = 0.9
_LOCALES = ("en", "fr", "de", "de_CH")
_DATE_LOCALES = ("en", "de", "fr", "es", "it", "pt", "nl", "sv", "pl", "cs", "ru", "ja", "zh")
_DATE_PATTERNS = ("d MMMM y", "d MMM y", "MMMM d, y", "MMM d, y", "d. MMMM y", "d.M.y", "d/M/y", "M/d/y", "y年M月d日")
_NUMERIC_DATES = ("d.M.y", "d/M/y", "M/d/y")
_UNIT = re.compile(r"^[^\d]*?[\d][\d.,'’\s\u00a0\u2009\u202f]*\s*(?P<unit>[^\d\s.,][^\d]{0,11})$")
_MOST = 200


@dataclass(frozen=True, slots=True)
class TypeGuess:
    """A type with what it takes to read it. `share` of the texts can be read so."""

    type: TypeName
    locale: str | None = None
    format: str | None = None
    unit: str | None = None
    share: float = 1.0

    def keys(self) -> str:
        """As keys of a plan's field: `type = "number", locale = "fr", unit = "l/s"`; empty for a plain string."""
        given = {"type": self.type, "locale": self.locale, "format": self.format, "unit": self.unit}
        if self.type == "string":
            return ""
        return ", ".join(f'{name} = "{value}"' for name, value in given.items() if value is not None)


STRING = TypeGuess("string")


def guessed_type(texts: Iterable[str], attribute: str | None = None) -> TypeGuess:
    """The type that at least nine of ten texts have; texts that count as missing are left out. String when none fits.

    Method: readers of the plan's own types are tried in order (integer, number, number by locale and unit, date by
    common patterns, boolean). Codes with leading zeros stay text.
    """
    values = [text for text in texts if text.strip() not in MISSING_TEXTS][:_MOST]
    if not values:
        return STRING
    if attribute in ("href", "src"):
        return TypeGuess("url")
    if sum(bool(re.match(r"0\d", text)) for text in values) > len(values) * 0.2:
        return _date(values) or STRING
    return _number(values) or _date(values) or _boolean(values) or STRING


def _number(values: Sequence[str]) -> TypeGuess | None:
    if all(isinstance(value, PlainNumber) for value in values):
        return TypeGuess("integer" if all(re.fullmatch(r"-?\d+", value) for value in values) else "number")
    if sum(value[:1].isdigit() or value[:1] in "+-−.(" or value[-1:].isdigit() for value in values) < len(values) * 0.5:
        return None
    unit = _common_unit(values)
    # A mark in a number belongs to some locale; without any, none has to be named.
    marked = any(re.search(r"\d[.,'’\u00a0\u2009\u202f ]\d", value) for value in values)
    for locale in _LOCALES if marked else (None,):
        for name, read in (("integer", integer_reader(locale, unit)), ("number", number_reader(locale, unit))):
            share = _share(values, read)
            if share >= _ENOUGH:
                return TypeGuess("integer" if name == "integer" else "number", locale, None, unit, share)
    return None


def _common_unit(values: Sequence[str]) -> str | None:
    units = Counter(found["unit"].strip() for value in values if (found := _UNIT.match(value)))
    if not units:
        return None
    unit, count = units.most_common(1)[0]
    return unit if count >= len(values) * 0.5 else None


def _date(values: Sequence[str]) -> TypeGuess | None:
    if sum(any(c.isdigit() for c in value) for value in values) < len(values) * _ENOUGH:
        return None
    if (share := _share(values, date_reader())) >= _ENOUGH:
        return TypeGuess("date", share=share)
    worded = any(c.isalpha() for value in values for c in value)
    for pattern in _DATE_PATTERNS:
        if worded == (pattern in _NUMERIC_DATES):
            continue
        for locale in (None,) if pattern in _NUMERIC_DATES else _DATE_LOCALES:
            if (share := _share(values, date_reader(pattern, locale))) >= _ENOUGH:
                return TypeGuess("date", locale, pattern, None, share)
    return None


def _boolean(values: Sequence[str]) -> TypeGuess | None:
    return TypeGuess("boolean") if len(set(values)) <= 2 and _share(values, read_boolean) >= 1 else None


def _share(values: Sequence[str], read: Callable[[str], object]) -> float:
    good = 0
    for number, value in enumerate(values, 1):
        try:
            read(value)
            good += 1
        except NotReadable:
            if number - good > len(values) * (1 - _ENOUGH):
                return 0.0
    return good / len(values)
