"""Signs of money and the currencies that bear them (ISO 4217, CLDR, the trade at large)."""

from __future__ import annotations

import re
import unicodedata
from decimal import Decimal
from functools import lru_cache
from typing import Any, NamedTuple

from wadi.clean.locales import locale_of

# Sign → the currencies that bear it; the first alone where the trade at large means it by the bare sign.
_DOLLARS = ("USD CAD AUD NZD MXN ARS CLP COP SGD HKD TWD BSD BBD BZD BMD BND KYD XCD FJD GYD JMD LRD NAD SBD SRD TTD UYU DOP "
            "CUP ZWL").split()  # fmt: skip
_PESOS = ["MXN", "ARS", "CLP", "COP", "PHP", "UYU", "DOP", "CUP"]
_KRONER = ["SEK", "NOK", "DKK", "ISK"]
_SHARED: dict[str, list[str]] = {
    "$": _DOLLARS, "dollar": _DOLLARS, "dollars": _DOLLARS, "dólares": _DOLLARS, "¥": ["JPY", "CNY"], "kr": _KRONER,
    "rs": ["INR", "PKR", "LKR", "NPR", "MUR", "SCR"], "₨": ["INR", "PKR", "LKR", "NPR", "MUR", "SCR"],
    "peso": _PESOS, "pesos": _PESOS,
    "r": ["ZAR"], "lei": ["RON", "MDL"], "leu": ["RON", "MDL"], "bs": ["BOB", "VES"], "km": ["BAM"],
    "р": ["RUB", "BYN"], "руб": ["RUB", "BYN"],
    "рублей": ["RUB", "BYN"], "рубля": ["RUB", "BYN"], "рубль": ["RUB", "BYN"], "﷼": ["IRR", "SAR", "YER", "OMR", "QAR"],
}  # fmt: skip
_USUAL: dict[str, list[str]] = {
    "€": ["EUR"], "euro": ["EUR"], "euros": ["EUR"], "eur": ["EUR"], "£": ["GBP", "EGP", "LBP", "SYP", "SDG", "FKP", "GIP"],
    "₹": ["INR"], "₽": ["RUB"], "₩": ["KRW", "KPW"], "원": ["KRW"], "₪": ["ILS"], "₫": ["VND"], "đ": ["VND"], "₴": ["UAH"],
    "грн": ["UAH"], "₺": ["TRY"], "tl": ["TRY"], "฿": ["THB"], "บาท": ["THB"], "₦": ["NGN"], "₱": ["PHP"], "₸": ["KZT"],
    "₮": ["MNT"], "₾": ["GEL"], "₼": ["AZN"], "֏": ["AMD"], "៛": ["KHR"], "₭": ["LAK"], "৳": ["BDT"], "₡": ["CRC"], "₲": ["PYG"],
    "₵": ["GHS"], "zł": ["PLN"], "kč": ["CZK"], "ft": ["HUF"], "лв": ["BGN"], "ден": ["MKD"], "дин": ["RSD"], "rm": ["MYR"],
    "rp": ["IDR"], "s/": ["PEN"], "chf": ["CHF"], "fr": ["CHF"], "sfr": ["CHF"], "元": ["CNY"], "人民币": ["CNY"], "円": ["JPY"],
    "r$": ["BRL"], "us$": ["USD"], "u$s": ["USD"], "c$": ["CAD", "NIO"], "ca$": ["CAD"], "can$": ["CAD"], "a$": ["AUD"],
    "s$": ["SGD"], "nt$": ["TWD"], "rd$": ["DOP"], "b/": ["PAB"],
    "ر.س": ["SAR"], "د.إ": ["AED"], "ج.م": ["EGP"], "د.ك": ["KWD"], "ر.ق": ["QAR"],
    "real": ["BRL"], "reais": ["BRL"], "usdollar": ["USD"], "usdollars": ["USD"], "dh": ["AED", "MAD"], "dhs": ["AED"],
}  # fmt: skip
_CENTS = ["USD", "CAD", "AUD", "NZD", "HKD", "SGD", "MXN", "EUR", "ZAR"]
_MINOR: dict[str, list[str]] = {
    "¢": [code for code in _CENTS if code != "EUR"], "cent": _CENTS, "cents": _CENTS, "ct": ["EUR"], "cts": ["EUR"],
    "p": ["GBP"], "pence": ["GBP"], "rappen": ["CHF"], "gr": ["PLN"], "øre": ["DKK", "NOK"], "öre": ["SEK"],
    "коп": ["RUB"], "centimes": ["EUR", "CHF"], "céntimos": ["EUR"], "centesimi": ["EUR"],
}  # fmt: skip
"""Signs of a hundredth."""
_WORDS = frozenset("ALL BAD BAM BAN BOB COP CUP GEL LAK MAD MOP PEN RON SIT SOS STD TOP TRY".split())
"""Codes that are words as well: they count where the column's locale or currency has them."""
_EXACT = {"km": "KM", "ft": "Ft", "rm": "RM", "rp": "Rp", "r": "R", "p": "p", "l": "L"}
"""Signs of letters that are units in another case."""
_PLAIN_CODES = frozenset("EUR USD GBP CHF JPY CAD AUD NZD SEK NOK DKK ISK PLN CZK HUF RUB UAH INR CNY KRW ILS THB BRL MXN SGD "
                         "HKD ZAR AED SAR".split())  # fmt: skip
"""Codes that stand for nothing else in a text."""
_CODES_IN_ANY_CASE = frozenset("EUR USD GBP CHF JPY CAD AUD NZD PLN CZK HUF INR CNY".split())
"""Codes that are no words in small letters, either."""
_NO_MONEY = frozenset({"XXX", "XTS"})


class Named(NamedTuple):
    """What a sign names: currencies, of which the first is the usual one where `is_usual`, and the part of one that it is."""

    codes: tuple[str, ...]
    is_usual: bool = False
    part: Decimal = Decimal(1)


@lru_cache(maxsize=1)
def codes() -> frozenset[str]:
    """The codes of ISO 4217, those of former currencies among them."""
    return frozenset(str(code) for code in locale_of("en").currencies) - _NO_MONEY


def is_sign_like(word: str) -> bool:
    """Whether a word looks like a currency, known or not: it has a sign of one, or is three capital letters."""
    return any(unicodedata.category(char) == "Sc" for char in word) or re.fullmatch("[A-Z]{3}", word) is not None


@lru_cache(maxsize=1)
def _told() -> re.Pattern[str]:
    words = [w for w in ("kr", *_USUAL) if w.isalpha() and (len(w) > 1 or not w.isascii()) and w != "real"]
    exact = [_EXACT.get(word, word) for word in words]
    return re.compile(rf"(?<![^\W\d_])(?:{'|'.join(map(re.escape, exact))})(?![^\W\d_])", re.IGNORECASE)


_NOUNS: dict[str, tuple[str, ...]] = {
    r"dollars?|d[oó]lar(?:es|as|y|ów|i)?|долл?ар\w*|δολάρια?|ドル|美元|달러|דולר|دولار": tuple(_DOLLARS),
    r"pounds?|sterling(?:s|i|ów)?|esterlinas?|sterline|фунт\w*|ポンド|英镑|파운드": ("GBP", "EGP", "LBP", "SDG", "SYP"),
    r"francs?|franken|franchi|франк\w*|フラン": ("CHF", "XAF", "XOF", "XPF", "CDF", "RWF"),
    r"yens?|円|日元|иен\w*|йен\w*": ("JPY",), r"yuan|renminbi|rmb|人民币|юан\w*": ("CNY",),
    r"kron(?:a|e|en|er|or)|króna|korun[ay]?|korún|coroas?|кроны?": ("SEK", "NOK", "DKK", "ISK", "CZK"),
    r"z[lł]ot(?:y|ys|ych|e|ego)|злот\w+": ("PLN",), r"forints?|форинт\w*": ("HUF",),
    r"r[uo]?ubles?|rubli|rubel|рубл\w+": ("RUB", "BYN"),
    r"rupees?|rupien?|roupies?|rupias|рупи\w+|रुपये": ("INR", "PKR", "LKR", "NPR"),
    r"pesos?": tuple(_PESOS), r"liras?|lir[ae]sı?|лир\w?": ("TRY",), r"shekels?|schekel|שקל|ש״ח": ("ILS",), r"baht|บาท": ("THB",),
    r"dinars?|динар\w*|دينار": ("RSD", "KWD", "JOD", "BHD", "TND", "DZD", "IQD", "LYD"), r"dirhams?|درهم": ("AED", "MAD"),
    r"riyals?|rials?|ريال": ("SAR", "QAR", "OMR", "YER", "IRR"), r"reais": ("BRL",), r"hryvni\w+|гри?ве?н\w*": ("UAH",),
    r"tenge|тенге": ("KZT",), r"đồng": ("VND",), r"ringgit": ("MYR",), r"rupiah": ("IDR",), r"leva|лев[а]?": ("BGN",),
    r"couronnes?": (*_KRONER, "CZK"),
    r"quid|(?:britische[sn]?|englische[sn]?)\s+pfund": ("GBP",), r"bucks?": tuple(_DOLLARS), r"块|塊": ("CNY",),
    r"bitcoins?|btc": (), r"euros?|eur|евро|ευρώ|ユーロ|欧元|유로|يورو": ("EUR",),
}  # fmt: skip
"""How money is called in words, and the currencies that are called so: a word that may mean the column's currency means it."""
_PER = r"(?<![^\W\d_])(?:per|a|an|the|pro|je|das|par|por|al|le|la|za|за)\s+|/\s*"


@lru_cache(maxsize=1)
def _nouns() -> re.Pattern[str]:
    every = "|".join(f"(?P<n{number}>{words})" for number, words in enumerate(_NOUNS))
    return re.compile(rf"(?P<per>{_PER})?(?<![^\W\d_])(?:{every})(?![^\W\d_])", re.IGNORECASE)


_PIECE = re.compile(r"[^\s\d()\[\]{},;:*!?/|–—-]+")


def mentioned(text: str, locale: str | None, currency: str | None) -> list[Named]:
    """The currencies that are named anywhere in a text: by a sign, a code that is no word as well, or in words. What stands after
    `per` is measured and not paid."""
    found: list[Named] = []
    for piece in _PIECE.findall(text):
        if piece.upper() in _CODES_IN_ANY_CASE:
            found.append(Named((piece.upper(),), is_usual=True))
        elif piece.rstrip(".") in _PLAIN_CODES or any(unicodedata.category(char) == "Sc" for char in piece):
            name = named(piece, locale, currency)
            found.append(name or Named(()))  # a sign that nobody knows
    if re.search(r"[0-9]\s?c/", text):
        found.append(Named(()))  # cents for a unit, of whatever
    found += [name for word in _told().findall(text) if (name := named(word, locale, currency)) is not None]
    for match in _nouns().finditer(text):
        if match["per"] is None:
            found.append(_of_noun(match))
    return found


def names_currency(text: str) -> bool:
    """Whether a currency is named anywhere in a text."""
    return bool(mentioned(text, None, None))


@lru_cache(maxsize=64)
def home_of(locale: str | None) -> tuple[str, ...]:
    """The currencies of a locale's territory, or of the one where its language is mostly spoken (CLDR)."""
    if locale is None:
        return ()
    from babel.numbers import get_territory_currencies

    parsed = locale_of(locale)
    territory = parsed.territory or _usual_territory(parsed.language)
    found: list[Any] = list(get_territory_currencies(territory)) if territory else []
    return tuple(str(code) for code in found)


@lru_cache(maxsize=4096)
def named(sign: str, locale: str | None, currency: str | None) -> Named | None:
    """What a sign, code or word beside an amount names; None where it is none of money. A sign may carry the two letters of
    a territory (`US$`, `$US`, `JP¥`)."""
    plain = "".join(unicodedata.normalize("NFKC", sign).split())
    bare = plain.rstrip(".") or plain
    home = home_of(locale)
    if bare in codes():
        return Named((bare,), is_usual=True) if bare not in _WORDS or bare == currency or bare in home else None
    if bare.casefold() == "rp" and (currency == "CHF" or "CHF" in home):
        return Named(("CHF",), is_usual=True, part=Decimal("0.01"))  # Rappen there, rupiahs elsewhere
    if (of_locale := _symbols(locale).get(plain) or _symbols(locale).get(bare)) is not None:
        shared = tuple(_SHARED.get(bare.casefold(), ()))
        return Named(tuple(dict.fromkeys((of_locale, *shared))), is_usual=True)
    if (found := _by_table(bare) or _by_territory(bare)) is not None:
        return found
    # A pound is a weight as well.
    noun = _nouns().fullmatch(bare) if len(bare) > 2 and not bare.casefold().startswith("pound") else None
    return _of_noun(noun) if noun is not None and noun["per"] is None else None


def _of_noun(found: re.Match[str]) -> Named:
    bearers = list(_NOUNS.values())[int(str(found.lastgroup)[1:])]
    return Named(bearers, is_usual=len(bearers) == 1)


def _by_table(bare: str) -> Named | None:
    key = bare.casefold()
    if key in _EXACT and bare != _EXACT[key]:
        return None
    if key in _MINOR:
        return Named(
            tuple(_MINOR[key]), is_usual=len(_MINOR[key]) == 1 and key not in ("p", "gr"), part=Decimal("0.01")
        )
    if key in _USUAL:
        return Named(tuple(_USUAL[key]), is_usual=True)
    return Named(tuple(_SHARED[key])) if key in _SHARED else None


def _by_territory(bare: str) -> Named | None:
    from babel.numbers import get_territory_currencies

    for sign in ("$", "¥", "£"):
        letters = bare.replace(sign, "", 1)
        if sign in bare and len(letters) == 2 and letters.isascii() and letters.isalpha() and letters.isupper():
            bearers = {*_SHARED.get(sign, ()), *_USUAL.get(sign, ())}
            found = [str(code) for code in get_territory_currencies(letters) if str(code) in bearers]
            if len(found) == 1:
                return Named((found[0],), is_usual=True)
    return None


@lru_cache(maxsize=64)
def _symbols(locale: str | None) -> dict[str, str]:
    """How CLDR writes the currencies of the locale's territory there."""
    if locale is None:
        return {}
    from babel.numbers import get_currency_symbol

    parsed = locale_of(locale)
    territory = parsed.territory or _usual_territory(parsed.language)
    found: dict[str, str] = {}
    for code in home_of(locale):
        for name in (parsed, f"{parsed.language}_{territory}"):
            symbol = str(get_currency_symbol(code, name)).replace("\u200f", "").strip()
            if symbol != code:
                plain = "".join(unicodedata.normalize("NFKC", symbol).split())
                found.update({plain: code, plain.rstrip(".") or plain: code})
    return found


@lru_cache(maxsize=1024)
def settled(names: tuple[Named, ...], locale: str | None, currency: str | None) -> tuple[str | None, tuple[str, ...]]:
    """The one currency that all names can mean, or None; and those that are left in doubt (none: the names contradict one
    another). What the column says settles a sign, then the locale's territory, then the usual meaning."""
    common = tuple(code for code in names[0].codes if all(code in other.codes for other in names))
    if len(common) == 1 and (len(names) > 1 or names[0].is_usual or len(names[0].codes) > 1):
        return common[0], common
    if currency in common:
        return currency, common
    if len(at_home := [code for code in home_of(locale) if code in common]) == 1:
        return at_home[0], common
    usual = [name.codes[0] for name in names if name.is_usual and name.codes[0] in common]
    return (usual[0] if usual else None), common


def _usual_territory(language: str) -> str | None:
    """Where a language is mostly spoken, by CLDR's likely subtags."""
    from babel.core import get_global

    likely: str | None = get_global("likely_subtags").get(language)
    return likely.split("_")[-1] if likely else None
