"""What to write in a plan so that a date that could not be read is read: a pattern that fits the text at hand."""

from __future__ import annotations

import re

from wadi.clean.locales import month_number
from wadi.clean.text import latin_digits

_LANGUAGES = (
    "en",
    "de",
    "fr",
    "es",
    "it",
    "pt",
    "nl",
    "sv",
    "da",
    "pl",
    "cs",
    "fi",
    "hu",
    "ro",
    "tr",
    "ru",
    "uk",
    "el",
)
_TOKEN = re.compile(r"\d+:\d{2}(?::\d{2})?(?:\s?[ap]\.?m\.?)?|\d+|[^\W\d_]{3,}\.?|\W+|\w", re.IGNORECASE)
_LOOSE_LETTER = re.compile(r"(?<![^\W\d_])[^\W\d_]{1,2}(?![^\W\d_])(?<!am)(?<!pm)(?<!de)(?<!AM)(?<!PM)")
_LETTERS = 'format = "…" says how it is written: d day, M or MMMM month, y year, H hour, m minute'


def how_to_read(text: str) -> str:
    """What to do about a text that is no date: the pattern that it is written in, both where there are two, or the letters
    that patterns are made of."""
    plain = latin_digits(text).strip()
    if len(plain) > 60 or not re.search(r"\d", plain):
        return _LETTERS
    found = _patterns(plain) if _LOOSE_LETTER.search(plain) is None else []
    if not found:
        return _LETTERS
    shown = [f'format = "{pattern}"' + (f', locale = "{locale}"' if locale else "") for pattern, locale in found]
    return f"{'  or  '.join(shown)}  reads it" if len(shown) == 1 else f"{'  or  '.join(shown)}  says which"


def _patterns(plain: str) -> list[tuple[str, str]]:
    tokens = _TOKEN.findall(plain)
    locale, months = _month_of(tokens)
    numbers = [token for token in tokens if token.isdecimal()]
    years = [token for token in numbers if len(token) == 4]
    others = [token for token in numbers if len(token) < 3]
    if len(numbers) != len(years) + len(others) or len(years) > 1 or any(len(token) > 2 for token in others):
        return []
    if months is not None:
        days = others if years else others[:1]
        if len(days) != 1 or (not years and len(others) != 2):
            return []
        return [(_written(tokens, {days[0]: "d"}, months), locale)]
    orders: list[tuple[str, ...]]
    if not years and len(others) == 3:
        orders = [("d", "M", "yy"), ("M", "d", "yy")]
    elif len(others) == 2 and years:
        orders = [("d", "M"), ("M", "d")] if numbers[0] != years[0] else [("M", "d")]
    else:
        return []
    fitting = [order for order in orders if int(others[order.index("M")]) <= 12]
    return [(_ordered(tokens, order), "") for order in fitting]


def _month_of(tokens: list[str]) -> tuple[str, str | None]:
    for token in tokens:
        if token[0].isalpha():
            for locale in _LANGUAGES:
                if month_number(token, locale) is not None:
                    return locale, token
    return "", None


def _written(tokens: list[str], letters: dict[str, str], month: str) -> str:
    rest = dict(letters)
    return "".join(
        "MMMM" if token == month else rest.pop(token) if token in rest else _piece(token) for token in tokens
    )


def _ordered(tokens: list[str], order: tuple[str, ...]) -> str:
    letters = iter(order)
    return "".join(next(letters) if token.isdecimal() and len(token) < 3 else _piece(token) for token in tokens)


def _piece(token: str) -> str:
    if token.isdecimal():
        return "y" if len(token) == 4 else "yy"
    if ":" in token:
        clock = "h:mm" if token[-1].isalpha() or token[-1] == "." else "HH:mm"
        clock += ":ss" if token.count(":") > 1 else ""
        return clock + (" a" if clock.startswith("h:") and " " in token else "a" if clock.startswith("h:") else "")
    return f"'{token}'" if token[0].isalpha() else token
