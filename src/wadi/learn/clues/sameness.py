"""Whether a text of a page says a value that a person names: the same text, or the same number or date in another form."""

from __future__ import annotations

import re
from datetime import date
from decimal import Decimal
from functools import lru_cache

from wadi.clean.dates import date_reader
from wadi.clean.errors import NotReadable
from wadi.clean.numbers import NumberWriting, value_reader
from wadi.learn.clues.types import guessed_type

_LONGEST = 60
_DAY = re.compile(r"\d{4}-\d\d-\d\d\Z")
_NUMERAL = re.compile(r"[-+−]?\d[\d.,'’\s\u00a0\u2009\u202f]*")
_MEASURES = frozenset({"integer", "number", "money", "percent"})
_LOCALES = ("en", "de", "fr")


def folded(text: str) -> str:
    """A text as it is compared: without case, and with single blanks."""
    return " ".join(text.split()).casefold()


def says(text: str, value: str, language: str = "") -> bool:
    """Whether a text is a value in another form: `12.4` for `12,4 l/s`, `2026-03-04` for `4 March 2026`. Equal texts are not
    asked here."""
    if not text or len(text) > _LONGEST or not any(character.isdigit() for character in text):
        return False
    if _DAY.match(value):
        return value[2:4] in text and value in _days_of(text, language)
    number = _number(value)
    return number is not None and number in _numbers_of(text) and _is_measure(text, language)


@lru_cache(maxsize=4096)
def _is_measure(text: str, language: str) -> bool:
    """Whether a text is a number as a column has it, alone or with its unit."""
    return guessed_type([text], None, language).type in _MEASURES


@lru_cache(maxsize=4096)
def _number(value: str) -> Decimal | None:
    """The number that a person typed, in a plain writing or with its unit; None for other texts."""
    found = _NUMERAL.fullmatch(value.strip())
    numbers = _numbers_of(value) if found else frozenset()
    return min(numbers, key=lambda number: (len(str(number)), number)) if len(numbers) == 1 else _plainly(value)


def _plainly(value: str) -> Decimal | None:
    return Decimal(value) if re.fullmatch(r"-?\d+(?:\.\d+)?", value) else None


@lru_cache(maxsize=4096)
def _numbers_of(text: str) -> frozenset[Decimal]:
    """What a text with one number in it may be read as, by several locales."""
    found = _NUMERAL.findall(text)
    if len(found) != 1:
        return frozenset()
    numeral = found[0].strip()
    numbers = set()
    for locale in _LOCALES:
        try:
            numbers.add(value_reader(NumberWriting(locale))(numeral))
        except NotReadable:
            continue
    return frozenset(numbers)


@lru_cache(maxsize=4096)
def _days_of(text: str, language: str) -> frozenset[str]:
    """The day that a text says, in ISO 8601; empty for other texts."""
    guess = guessed_type([text], None, language)
    if guess.type != "date":
        return frozenset()
    try:
        day = date_reader(guess.format, guess.locale, this_year=2000)(text)
    except NotReadable:
        return frozenset()
    return frozenset({day.isoformat()}) if isinstance(day, date) else frozenset({str(day)})
