"""Locales by CLDR (through Babel): separators of numbers, names of months."""

from __future__ import annotations

import unicodedata
from dataclasses import dataclass
from decimal import Decimal
from functools import lru_cache
from typing import TYPE_CHECKING

from wadi.clean.errors import BadSetting

if TYPE_CHECKING:
    from babel import Locale

BLANKS = frozenset(" \u00a0\u2009\u202f\u2007")
APOSTROPHES = frozenset("'’")


@dataclass(frozen=True, slots=True)
class Separators:
    """How a locale writes numbers: the decimal mark, the marks between groups, and the sizes of groups from the right.

    `groups` is (3, 3) in most places and (3, 2) in the Indian way of writing.
    """

    decimal: str
    group: frozenset[str]
    groups: tuple[int, int]


@lru_cache(maxsize=256)
def locale_of(name: str) -> Locale:
    """The CLDR locale called `name` (`fr`, `de-CH`, `pt_BR`). Raises BadSetting when there is none."""
    from babel import Locale, UnknownLocaleError

    try:
        return Locale.parse(name.replace("-", "_"))
    except (ValueError, UnknownLocaleError, TypeError) as error:
        raise BadSetting(
            "bad-locale", f'locale "{name}" is not known', 'write a CLDR name such as "en", "fr" or "de_CH"'
        ) from error


@lru_cache(maxsize=256)
def separators(name: str) -> Separators:
    """The separators of a locale; all blanks count as one, and so do both apostrophes."""
    from babel.numbers import get_decimal_symbol, get_group_symbol

    locale = locale_of(name)
    group = get_group_symbol(locale)
    alike = BLANKS if group in BLANKS else APOSTROPHES if group in APOSTROPHES else frozenset(group)
    sizes = locale.decimal_formats[None].grouping
    return Separators(get_decimal_symbol(locale), alike, (sizes[0], sizes[1]))


_SCALES = {"k": 3, "K": 3, "M": 6, "G": 9, "bn": 9, "mn": 6, "thousand": 3, "million": 6, "billion": 9}


@lru_cache(maxsize=256)
def scales_of(name: str | None) -> dict[str, Decimal]:
    """What stands after a number for thousands, millions and so on → the factor: `k`, `M` and the words of the locale (CLDR
    compact decimal formats). A word that stands for two factors is left out."""
    found = {word: Decimal(10) ** power for word, power in _SCALES.items()}
    if name is None:
        return found
    formats = locale_of(name).compact_decimal_formats
    doubtful: set[str] = set()
    for width in ("short", "long"):
        for plural in formats.get(width, {}).values():
            for power, pattern in plural.items():
                word = "".join(pattern.suffix if isinstance(pattern.suffix, str) else pattern.suffix[0])
                word = word.replace("'", "").strip("\u00a0 ").rstrip(".")
                if word:
                    factor = Decimal(power) / Decimal(10) ** (str(pattern.pattern).count("0") - 1)
                    if found.setdefault(word, factor) != factor:
                        doubtful.add(word)
    return {word: factor for word, factor in found.items() if word not in doubtful}


def folded(word: str) -> str:
    """A name of a month or day as it is compared: case aside, without a final dot, in NFC again (some letters fold to more)."""
    return unicodedata.normalize("NFC", word.casefold()).rstrip(".")


@lru_cache(maxsize=256)
def month_names(name: str) -> dict[str, int]:
    """Every way in which CLDR writes a month in this locale, case-folded and without a final dot → 1 to 12.

    Narrow names (J, F, M …) are left out, since several months share a letter.
    """
    months = locale_of(name).months
    found: dict[str, int] = {}
    for context in ("format", "stand-alone"):
        for width in ("wide", "abbreviated"):
            for number, word in months[context][width].items():
                found.setdefault(folded(word), number)
    return found


@lru_cache(maxsize=256)
def day_names(name: str) -> tuple[str, ...]:
    """Every way in which CLDR writes a day of the week in this locale, case-folded, without a final dot, longest first."""
    days = locale_of(name).days
    words = {
        folded(word)
        for context in ("format", "stand-alone")
        for width in ("wide", "abbreviated")
        for word in days[context][width].values()
    }
    return tuple(sorted(words, key=len, reverse=True))


@lru_cache(maxsize=256)
def day_periods(name: str) -> tuple[str, ...]:
    """How CLDR writes before and after noon in this locale, case-folded, longest first; `am` and `pm` everywhere."""
    return tuple(sorted({*_periods(name, "am"), *_periods(name, "pm")}, key=len, reverse=True))


def is_after_noon(period: str, name: str) -> bool:
    """Whether a word of `day_periods` says that the hour is after noon."""
    return period.casefold() in _periods(name, "pm")


@lru_cache(maxsize=256)
def _periods(name: str, which: str) -> frozenset[str]:
    periods = locale_of(name).day_periods
    dotted = f"{which[0]}.{which[1]}."
    found = {which, dotted, f"{which[0]}. {which[1]}."}
    for context in ("format", "stand-alone"):
        for width in ("wide", "abbreviated"):
            word = periods.get(context, {}).get(width, {}).get(which)
            if word:
                found.add(str(word).casefold())
    return frozenset(found)
