"""Locales by CLDR (through Babel): separators of numbers, names of months."""

from __future__ import annotations

import re
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


_TORN = frozenset({"en_ZA", "af_ZA"})
"""Locales that CLDR gives a comma before the fraction, while people there write a point as well."""


def marks_of(name: str | None) -> Separators | None:
    """The separators that numbers of a locale are read by; None where they have to have one reading by themselves."""
    return None if name is None or name.replace("-", "_") in _TORN else separators(name)


_SCALES = {
    "k": 3,
    "K": 3,
    "M": 6,
    "G": 9,
    "bn": 9,
    "mn": 6,
    "thousand": 3,
    "million": 6,
    "billion": 9,
    "lakh": 5,
    "crore": 7,
}
_MORE_SCALES = {
    "de": {"Tsd": 3, "Mio": 6, "Mill": 6, "Mrd": 9, "Bio": 12}, "fr": {"M": 6, "Md": 9, "Mds": 9},
    "pl": {"tys": 3, "mln": 6, "mld": 9},
    "ru": {"тыс": 3, "млн": 6, "млрд": 9}, "uk": {"тис": 3, "млн": 6, "млрд": 9}, "it": {"mila": 3, "mln": 6, "mld": 9},
    "nl": {"mln": 6, "mld": 9}, "cs": {"tis": 3, "mil": 6, "mld": 9}, "sk": {"tis": 3, "mil": 6, "mld": 9},
    "ja": {"千": 3}, "zh": {"千": 3},
    "sv": {"mn": 6, "mdr": 9, "md": 9}, "da": {"mio": 6, "mia": 9}, "nb": {"mill": 6, "mrd": 9},
}  # fmt: skip
"""Words for thousands and millions that CLDR lacks, by language → the power of ten."""


@lru_cache(maxsize=256)
def scales_of(name: str | None) -> dict[str, Decimal]:
    """What stands after a number for thousands, millions and so on → the factor: `k`, `M` and the words of the locale (CLDR
    compact decimal formats). A word that stands for two factors is left out."""
    found = {word: Decimal(10) ** power for word, power in _SCALES.items()}
    if name is None:
        return found
    found.update({word: Decimal(10) ** power for word, power in _MORE_SCALES.get(locale_of(name).language, {}).items()})
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


_VARIANTS = {
    "en": ("en_GB", "en_AU", "en_CA"), "es": ("es_MX", "es_AR", "es_PE"), "de": ("de_AT",), "pt": ("pt_PT",), "fr": ("fr_CA",),
    "ar": ("ar_LB", "ar_IQ", "ar_DZ", "ar_TN", "ar_MA", "ar_MR", "ar_EG"),
}  # fmt: skip
"""Places whose names of months are read wherever the language is."""
_MORE_MONTHS = {
    "de": {"mrz": 3, "maerz": 3, "feber": 2, "jaenner": 1}, "en": {"sept": 9}, "es": {"set": 9, "setiembre": 9},
    "it": {"sett": 9}, "nl": {"mrt": 3}, "fr": {"sept": 9}, "pt": {"set": 9}, "sv": {"sept": 9}, "da": {"sept": 9},
    "nb": {"sept": 9},
}  # fmt: skip
"""Names of months that people write and CLDR lacks, by language."""
_MORE_DAYS = {
    "en": {"tues": 1, "weds": 2, "wednes": 2, "thur": 3, "thurs": 3},
    "sv": {"måndagen": 0, "tisdagen": 1, "onsdagen": 2, "torsdagen": 3, "fredagen": 4, "lördagen": 5, "söndagen": 6},
}
_LEAST_LETTERS = 3
_LETTERS = re.compile(r"[^\W\d_]{3,}")


@lru_cache(maxsize=256)
def month_names(name: str) -> dict[str, int]:
    """Every way in which CLDR writes a month in this locale and the language's other places, and some that people write,
    case-folded and without a final dot → 1 to 12.

    Narrow names (J, F, M …) are left out, since several months share a letter.
    """
    language = locale_of(name).language
    found: dict[str, int] = {}
    for variant in (name, language, *_VARIANTS.get(language, ())):
        months = locale_of(variant).months
        for context in ("format", "stand-alone"):
            for width in ("wide", "abbreviated"):
                for number, word in months[context][width].items():
                    found.setdefault(folded(word), number)
    for word, number in _MORE_MONTHS.get(language, {}).items():
        found.setdefault(word, number)
    return found


@lru_cache(maxsize=4096)
def month_number(word: str, name: str) -> int | None:
    """The month that a word names in this locale: one of its names, with or without accents, or the beginning of one (three
    letters and more) that no other month begins with. None for other words."""
    names, key = month_names(name), folded(word)
    if key in names:
        return names[key]
    bare = without_accents(key)
    if len(bare) < _LEAST_LETTERS or not _LETTERS.fullmatch(bare):
        return None
    alike = {number for known, number in names.items() if without_accents(known) == bare}
    alike = alike or {number for known, number in names.items() if without_accents(known).startswith(bare)}
    return alike.pop() if len(alike) == 1 else None


@lru_cache(maxsize=256)
def month_expression(name: str) -> str:
    """A regular expression for what may be a month in this locale: its names, and any word of three letters and more."""
    odd = [word for word in month_names(name) if not _LETTERS.fullmatch(word)]
    return "|".join([*(re.escape(word) for word in sorted(odd, key=len, reverse=True)), _LETTERS.pattern])


def without_accents(word: str) -> str:
    """The word without marks on its letters."""
    plain = unicodedata.normalize("NFD", word)
    return unicodedata.normalize("NFC", "".join(char for char in plain if not unicodedata.combining(char)))


@lru_cache(maxsize=256)
def day_names(name: str) -> dict[str, int]:
    """Every way in which CLDR writes a day of the week in this locale, case-folded, without a final dot → 0 (Monday) to 6."""
    days = locale_of(name).days
    found = {
        folded(word): number
        for context in ("format", "stand-alone")
        for width in ("wide", "abbreviated", "short")
        for number, word in days[context].get(width, {}).items()
    }
    return found | _MORE_DAYS.get(locale_of(name).language, {})


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
