"""Sums of money from text: the amount, and the currency by ISO 4217, from codes and the symbols of CLDR."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import replace
from functools import lru_cache
from typing import Any

from wadi.clean.errors import BadSetting, NotReadable
from wadi.clean.locales import locale_of
from wadi.clean.numbers import NumberWriting, PlainNumber, number_reader
from wadi.clean.text import latin_digits

_CODE = re.compile(r"(?<![A-Za-z])([A-Z]{3})(?![A-Za-z])")
_WORDS = re.compile(r"[^\d\s.,'’\-\u2212+()½¼¾]+(?:\s?[^\d\s.,'’\-\u2212+()]+)?\.?")
# Symbols that one currency has in the trade at large; "$", "kr", "¥" and "£" of other places are in doubt without a locale.
_SYMBOLS = {"€": "EUR", "£": "GBP", "₹": "INR", "₽": "RUB", "₩": "KRW", "₪": "ILS", "₫": "VND", "₴": "UAH", "₺": "TRY",
            "฿": "THB", "₦": "NGN", "₱": "PHP", "zł": "PLN", "Kč": "CZK", "Ft": "HUF", "R$": "BRL", "US$": "USD",
            "CA$": "CAD", "A$": "AUD", "NZ$": "NZD", "HK$": "HKD", "CHF": "CHF", "Fr.": "CHF", "SFr.": "CHF",
            "元": "CNY", "円": "JPY", "원": "KRW", "¢": "USD", "euro": "EUR", "euros": "EUR", "Euro": "EUR"}  # fmt: skip
_USUAL = frozenset(_SYMBOLS.values()) - {"TRY"} | {"JPY", "SEK", "NOK", "DKK", "ISK", "MXN", "SGD", "ZAR", "AED", "SAR"}


def names_currency(text: str) -> bool:
    """Whether a currency is named in a text, by a sign or by a code that is no word as well (as `ALL` and `TOP` are)."""
    return any(code in _USUAL for code in _CODE.findall(text)) or any(sign in text for sign in _symbols_of(None))


def money_reader(writing: NumberWriting, currency: str | None = None) -> Callable[[str], list[float | str | None]]:
    """A function from text to amount and currency code. `currency` is that of texts that name none.

    Raises BadSetting for a code that ISO 4217 does not have; the function raises NotReadable.
    """
    codes = _codes()
    if currency is not None and currency not in codes:
        raise BadSetting("wrong-value", f'currency "{currency}" is no code of ISO 4217', 'such as "EUR"')
    symbols = _symbols_of(writing.locale)
    amount_of = number_reader(writing=replace(writing, unit=None))

    def read(text: str) -> list[float | str | None]:
        if isinstance(text, PlainNumber):
            return [amount_of(text), currency]
        plain = latin_digits(text).strip()
        found = currency
        if (code := next((c for c in _CODE.findall(plain) if c in codes), None)) is not None:
            found, plain = code, plain.replace(code, " ", 1)
        else:
            named = [symbol for symbol in symbols if symbol in plain]
            if named:
                found, plain = symbols[named[0]] or currency, plain.replace(named[0], " ", 1)
                if found is None:
                    why = 'currency = "USD"  says it for the column; a locale says it by its territory'
                    raise NotReadable(
                        "ambiguous-currency", f"{text!r}: {named[0]!r} is the sign of several currencies", why
                    )
        plain = re.sub(r"(?<=\d)[.,][\-–—]+$", "", plain.strip())  # 12,– and 12.-
        return [amount_of(re.sub(r"^([+\-\u2212])\s+", r"\1", plain.strip())), found]

    return read


@lru_cache(maxsize=1)
def _codes() -> frozenset[str]:
    return frozenset(str(code) for code in locale_of("en").currencies)


@lru_cache(maxsize=64)
def _symbols_of(locale: str | None) -> dict[str, str | None]:
    """Symbol → code, the longest first; None where several currencies share the symbol and nothing says which."""
    found: dict[str, str | None] = {**_SYMBOLS, "$": None, "kr": None, "kr.": None, "¥": None, "￥": None}
    if locale is not None:
        from babel.numbers import get_currency_symbol, get_territory_currencies

        parsed = locale_of(locale)
        territory = parsed.territory or _usual_territory(parsed.language)
        currencies: list[Any] = list(get_territory_currencies(territory)) if territory else []
        for code in currencies:
            for symbol in (
                get_currency_symbol(code, parsed),
                get_currency_symbol(code, f"{parsed.language}_{territory}"),
            ):
                if not symbol.isascii() or symbol != code:
                    found[symbol] = code
            found[_narrow(code)] = code
    return dict(sorted(((s, c) for s, c in found.items() if s), key=lambda pair: -len(pair[0])))


def _narrow(code: str) -> str:
    """The short sign of a currency at home."""
    return {"USD": "$", "CAD": "$", "AUD": "$", "NZD": "$", "MXN": "$", "ARS": "$", "CLP": "$", "COP": "$", "SEK": "kr",
            "NOK": "kr", "DKK": "kr", "ISK": "kr", "JPY": "¥", "CNY": "¥"}.get(code, "")  # fmt: skip


def _usual_territory(language: str) -> str | None:
    """Where a language is mostly spoken, by CLDR's likely subtags."""
    from babel.core import get_global

    likely: str | None = get_global("likely_subtags").get(language)
    return likely.split("_")[-1] if likely else None
