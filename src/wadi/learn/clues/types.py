"""The type of a column, guessed from its texts: what nearly all of them can be read as, most exact first."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from decimal import Decimal
from functools import partial
from typing import NamedTuple

from wadi.clean.amounts import longest_first, scaled
from wadi.clean.contacts import read_email
from wadi.clean.currencies import names_currency
from wadi.clean.dates import date_reader
from wadi.clean.errors import BadSetting, NotReadable
from wadi.clean.from_now import moment_from_now
from wadi.clean.locales import locale_of, scales_of, separators
from wadi.clean.money import money_reader
from wadi.clean.numbers import NumberWriting, PlainNumber, value_reader
from wadi.clean.points import point_reader
from wadi.clean.times import datetime_reader
from wadi.clean.types import TypeName, read_boolean
from wadi.learn.clues.toml_text import quoted
from wadi.plan.model import MISSING_TEXTS

_ENOUGH = 0.9
_LOCALES = ("en", "fr", "de", "de_CH")
_DATE_LOCALES = ("en", "de", "fr", "es", "it", "pt", "nl", "sv", "pl", "cs", "ru", "ja", "zh")
_WORDED_DATES = ("d MMMM y", "d MMM y", "MMMM d, y", "MMM d, y", "d. MMMM y", "y年M月d日")
_NUMERIC_DATES = ("d.M.y", "d/M/y", "M/d/y")
_NUMERIC_DATE = re.compile(r"\d{1,2}([./])\d{1,2}\1(?:\d{4}|\d\d)\s*")
_SOME_YEAR = 2000
"""In which century a year of two digits is does not count here."""
_UNIT = re.compile(r"^[^\d]*?[\d][\d.,'’\s\u00a0\u2009\u202f]*\s*(?P<unit>[^\d\s.,\"\\()][^\d\n\"\\]{0,11})$")
_TIMES = re.compile(r"([01]?\d|2[0-3]):[0-5]\d(?::[0-5]\d)?")
_MOMENT = re.compile(r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d")
_CLOCK = re.compile(r"\d[:.h]\d\d(?!\d)|\d\s?[ap]\.?m\b", re.IGNORECASE)
_LONGEST_MOMENT = 60
_SOME_MOMENT = 1_700_000_000
_IN_BRACKETS = re.compile(r"\(\s*\d[\d.,' ]*\)")
_ROUNDED = re.compile(r"\d\s?(?:[kKM]|mln|[Mm]io\.?|[Tt]sd\.?|тыс\.?|млн|[万億만])(?!\w)")
_POINT = re.compile(r"-?\d{1,3}\.\d{3,}\s*[,;]?\s*-?\d{1,3}\.\d+$|.*\d\s*°")
_WORDS = re.compile(r"[^\d\n\"\\]{1,30}")
_ADDRESS = re.compile(r"https?://\S+|/[\w-]+(?:/[\w.%-]+)+/?(?:\?\S*)?")
_MOST, _LONGEST_TEXT = 200, 120
_MOST_WORDS = 3
_WORD_SHARE = 0.4


@dataclass(frozen=True, slots=True)
class TypeGuess:
    """A type with what it takes to read it. `share` of the texts can be read so; `missing` are words that stand for no value;
    `find` takes the value out of what stands around it. `note` is what a person should know of the values."""

    type: TypeName
    locale: str | None = None
    format: str | None = None
    unit: str | None = None
    share: float = 1.0
    missing: tuple[str, ...] = ()
    find: str | None = None
    note: str = ""

    def keys(self) -> str:
        """As keys of a plan's field: `type = "number", locale = "fr", unit = "l/s"`; empty for a plain string."""
        given = {"type": self.type, "locale": self.locale, "format": self.format, "unit": self.unit}
        keys = [f"find = {quoted(self.find)}"] if self.find else []
        if self.type == "string":
            return ", ".join(keys)
        keys += [f'{name} = "{value}"' for name, value in given.items() if value is not None]
        words = ", ".join(f'"{word}"' for word in ("…", *self.missing))
        return ", ".join([*keys, *([f"missing = [{words}]"] if self.missing else [])])


STRING = TypeGuess("string")
_Guess = Callable[[Sequence[str]], TypeGuess | None]


def guessed_type(texts: Iterable[str], attribute: str | None = None, language: str = "") -> TypeGuess:
    """The type that at least nine of ten texts have; texts that count as missing are left out. String when none fits.

    Method: readers of the plan's own types are tried in order (money, number by locale and unit, date with a time, date,
    "3 days ago", boolean, time, point, mail address). Codes with leading zeros stay text. Where up to three words come in
    place of a number or date ("on request"), they count as missing. What can be read in several ways (`1.234`, `3/4/2026`) is
    read as in the page's `language` (RFC 5646).
    """
    values = [text for text in texts if text.strip() not in MISSING_TEXTS][:_MOST]
    if not values:
        return STRING
    if attribute in ("href", "src") or all(map(_ADDRESS.fullmatch, values)):
        return TypeGuess("url")
    if sum(len(text) > _LONGEST_TEXT for text in values) > len(values) * (1 - _ENOUGH):
        return STRING  # no other type is as long, and readers take their time over sentences
    is_code = sum(bool(re.match(r"0\d", text)) for text in values) > len(values) * 0.2
    tongue = _tongue(language)
    dates = (partial(_moment, tongue=tongue), partial(_date, tongue=tongue), partial(_from_now, tongue=tongue))
    guesses = dates if is_code else (partial(_money, tongue=tongue), partial(_number, tongue=tongue), *dates)
    found = _first(guesses, values) or _first((_boolean, _other), values)
    return found or _with_words(values, guesses) or STRING


class _Tongue(NamedTuple):
    """In which order locales of numbers and of dates, numeric dates, and locales that tell day and month apart, are tried."""

    numbers: tuple[str, ...]
    dates: tuple[str, ...]
    regions: tuple[str, ...]
    numeric: tuple[str, ...]


def _tongue(language: str) -> _Tongue:
    """The page's language first, if CLDR has it; the month before the day where it names the United States."""
    name, _, region = language.replace("-", "_").partition("_")
    name_of_locale = f"{name.lower()}_CH" if region.upper() == "CH" else name.lower()
    try:
        locale_of(name_of_locale)
    except BadSetting:
        name_of_locale = ""
    first = (name_of_locale,) if name_of_locale else ()
    usual = ("en_US", "en_GB", "de") if region.upper() == "US" else ("en_GB", "de", "en_US")
    regions = tuple(dict.fromkeys((*(name for name in first if name != "en"), *usual)))
    numeric = ("M/d/y", *_NUMERIC_DATES) if region.upper() == "US" else _NUMERIC_DATES
    return _Tongue(
        tuple(dict.fromkeys((*first, *_LOCALES))), tuple(dict.fromkeys((*first, *_DATE_LOCALES))), regions, numeric
    )


def _first(guesses: Iterable[_Guess], values: Sequence[str]) -> TypeGuess | None:
    return next((found for guess in guesses if (found := guess(values)) is not None), None)


def _with_words(values: Sequence[str], guesses: Iterable[_Guess]) -> TypeGuess | None:
    """A measure in whose place a word stands now and then."""
    words = Counter(value for value in values if _WORDS.fullmatch(value))
    rest = [value for value in values if value not in words]
    if len(words) > _MOST_WORDS or len(rest) < 4 or len(rest) < len(values) * (1 - _WORD_SHARE):
        return None
    found = _first(guesses, rest)
    return replace(found, missing=tuple(words)) if found is not None else None


def _money(values: Sequence[str], tongue: _Tongue) -> TypeGuess | None:
    """A sum of money: nearly every text names a currency."""
    if sum(map(names_currency, values)) < len(values) * _ENOUGH:
        return None
    marked = any(re.search(r"\d[.,'’\u00a0\u2009\u202f ]\d", value) for value in values)
    for locale in tongue.numbers if marked else (None, "en"):  # "$" is the sign of several currencies without any
        if (share := _share(values, money_reader(NumberWriting(locale)))) >= _ENOUGH:
            return TypeGuess("money", locale, share=share)
    return None


def _moment(values: Sequence[str], tongue: _Tongue) -> TypeGuess | None:
    """A date with a time, as ISO 8601, mail or a locale writes it."""
    if sum(_MOMENT.match(value) is not None for value in values) >= len(values) * _ENOUGH:
        share = _share(values, datetime_reader())
        return TypeGuess("datetime", share=share) if share >= _ENOUGH else None
    if (
        sum(_CLOCK.search(value) is not None and len(value) <= _LONGEST_MOMENT for value in values)
        < len(values) * _ENOUGH
    ):
        return None
    worded = any(char.isalpha() for value in values for char in value if char not in "TZapmAPM")
    for locale in (None, *(tongue.dates if worded else tongue.regions)):
        if (share := _share(values, datetime_reader(None, locale, this_year=_SOME_YEAR))) >= _ENOUGH:
            return TypeGuess("datetime", locale, share=share)
    return None


def _from_now(values: Sequence[str], tongue: _Tongue) -> TypeGuess | None:
    """A day or a moment that is told from when the page came: "3 years ago"."""
    for locale in tongue.dates:
        if found := _moments(values, locale):
            is_day = all(moment.time() == datetime.fromtimestamp(_SOME_MOMENT, UTC).time() for moment in found)
            kind: TypeName = "date" if is_day else "datetime"
            return TypeGuess(kind, None if locale == "en" else locale, share=len(found) / len(values))
    return None


def _moments(values: Sequence[str], locale: str) -> list[datetime]:
    """The moments that texts tell from now; none where too many tell none."""
    found: list[datetime] = []
    for number, value in enumerate(values, 1):
        moment = moment_from_now(value, locale, _SOME_MOMENT)
        if moment is not None:
            found.append(moment)
        elif number - len(found) > len(values) * (1 - _ENOUGH):
            return []
    return found


def _other(values: Sequence[str]) -> TypeGuess | None:
    """What has a form of its own: times of the day, points on the earth, mail addresses."""
    if all(_TIMES.fullmatch(value) for value in values):
        return TypeGuess("time")
    if all(map(_POINT.match, values)) and (share := _share(values, point_reader())) >= _ENOUGH:
        return TypeGuess("geopoint", share=share)
    share = _share(values, read_email) if all(re.search(r"@|\bat\b", value) for value in values) else 0.0
    return TypeGuess("email", share=share) if share >= _ENOUGH else None


def _number(values: Sequence[str], tongue: _Tongue) -> TypeGuess | None:
    if all(isinstance(value, PlainNumber) for value in values):
        return TypeGuess("integer" if all(re.fullmatch(r"-?\d+", value) for value in values) else "number")
    if sum(value[:1].isdigit() or value[:1] in "+-−.(" or value[-1:].isdigit() for value in values) < len(values) * 0.5:
        return None
    if all(_IN_BRACKETS.fullmatch(value) for value in values):
        inner = _number([value[1:-1] for value in values], tongue)
        return replace(inner, find=r"\((.+)\)") if inner is not None else None
    if all(value.startswith("+") for value in values):
        return None  # a code: of what changes, something falls
    unit = _common_unit(values, tongue)
    # A mark in a number belongs to some locale; without any, none has to be named.
    marked = any(re.search(r"\d[.,'’\u00a0\u2009\u202f ]\d", value) for value in values)
    locales = sorted(tongue.numbers, key=lambda locale: not _are_its_marks(values, locale))
    for locale in locales if marked else (None,):
        read = value_reader(NumberWriting(locale, unit))
        share = _share(values, read)
        if share >= _ENOUGH:
            numbers = [number for value in values if (number := _read(read, value)) is not None]
            is_whole = all(number.as_tuple().exponent == 0 for number in numbers)
            rounded = next((value for value in values if _ROUNDED.search(value)), None)
            note = f"rounded: {rounded}" if rounded is not None and unit is None else ""
            return TypeGuess("integer" if is_whole and not note else "number", locale, None, unit, share, note=note)
    return None


def _read(read: Callable[[str], Decimal], text: str) -> Decimal | None:
    try:
        return read(text)
    except NotReadable:
        return None


def _are_its_marks(values: Sequence[str], locale: str) -> bool:
    """Whether numbers have the locale's own marks alone: others are read as well, where they have one reading."""
    marks = separators(locale)
    used = {mark for value in values for mark in re.findall(r"(?<=\d)[.,'’\u00a0\u2009\u202f ](?=\d)", value)}
    return used <= {marks.decimal} | marks.group


def _common_unit(values: Sequence[str], tongue: _Tongue) -> str | None:
    """What stands behind most numbers, unless it is a word for thousands or millions."""
    units = Counter(found["unit"].strip() for value in values if (found := _UNIT.match(value)))
    if not units:
        return None
    unit, count = units.most_common(1)[0]
    is_scale = any(scaled(unit, longest_first(scales_of(locale)))[0] != 1 for locale in tongue.numbers)
    return unit if count >= len(values) * 0.5 and not is_scale else None


def _date(values: Sequence[str], tongue: _Tongue) -> TypeGuess | None:
    if sum(any(c.isdigit() for c in value) for value in values) < len(values) * _ENOUGH:
        return None
    if (share := _share(values, date_reader())) >= _ENOUGH:
        return TypeGuess("date", share=share)
    worded = any(c.isalpha() for value in values for c in value)
    if not worded and sum(_NUMERIC_DATE.fullmatch(value) is not None for value in values) < len(values) * _ENOUGH:
        return None  # versions have such numbers, too
    for pattern in _WORDED_DATES if worded else tongue.numeric:
        for locale in tongue.dates if worded else (None,):
            if (share := _share(values, date_reader(pattern, locale, this_year=_SOME_YEAR))) >= _ENOUGH:
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
