"""Sums of money from text: the amount, and the currency by ISO 4217.

Read are amounts as numbers are, with a code or sign before or after them, both where they agree (`$5.00 CAD`), hundredths
(`99¢`), `12,–`, and words for thousands and millions. A sign of several currencies is settled by the column's `currency` if it
bears that sign, by the territory of the locale, or by the trade at large (`£`). Refused are signs that stay in doubt or
contradict one another, signs that are unknown, and codes that are words as well (`TOP 5`).
"""

from __future__ import annotations

import re
from collections.abc import Callable
from decimal import Decimal
from typing import NamedTuple

from wadi.clean.amounts import NO_WHOLE, Amount, Scales, amounts_in, longest_first, scaled
from wadi.clean.currencies import Named, codes, is_sign_like, mentioned, named, settled
from wadi.clean.errors import BadSetting, NotReadable
from wadi.clean.locales import Separators, locale_of, marks_of, scales_of, separators
from wadi.clean.numbers import NumberWriting, PlainNumber, as_float, end_of, negated, plain_value
from wadi.clean.text import latin_digits

_EVEN = re.compile(r"(?<=\d)(?:[.,:]\s?[-–—]{1,2}|/-)(?=\D|$)")
_FRANCS = re.compile(r"\b(?:CHF|S?Fr)\b")
_GROUPED_EVEN = re.compile(r"(?<![\d.,])\d{1,3}(?:\.\d{3})+,\s?[-–—]{1,2}(?=\D|$)")
_HUNDREDTHS = re.compile(r"(?<![\d.,])\d+\.\d\d(?![\d.,])")
_OPEN_END = re.compile(r"^[^.,]*\d(?:[.,]\d{3})*\s?[-\u2212–](?=\D*$)(?!\s?\d)")
_OUTSIDE = re.compile(r"([^\d()]*)\(([^()]*\d[^()]*)\)([^\d()]*)")
_SUM_SCALES = {"m": 6, "b": 9, "B": 9, "bn": 9, "tn": 12, "MM": 6}
"""Letters for millions and more that stand at sums of money alone, in English."""


class _Sum(NamedTuple):
    """An amount, the factor of `million` and the like in it, what its signs name, and whether something stands after it."""

    value: Decimal
    scale: Decimal
    names: tuple[Named, ...]
    has_end: bool


def money_reader(writing: NumberWriting, currency: str | None = None) -> Callable[[str], list[float | str | None]]:
    """A function from text to amount and currency code. `currency` is that of texts that name none.

    Raises BadSetting for a code that ISO 4217 does not have; the function raises NotReadable.
    """
    if currency is not None and currency not in codes():
        raise BadSetting("wrong-value", f'currency "{currency}" is no code of ISO 4217', 'such as "EUR"')
    marks = marks_of(writing.locale)
    is_swiss = currency == "CHF" or (writing.locale is not None and locale_of(writing.locale).territory in ("CH", "LI"))
    is_english = writing.locale is None or locale_of(writing.locale).language == "en"
    sums = {word: Decimal(10) ** power for word, power in _SUM_SCALES.items() if is_english}
    scales = longest_first(sums | scales_of(writing.locale))

    def read(text: str) -> list[float | str | None]:
        if isinstance(text, PlainNumber):
            return [as_float(plain_value(text), text), currency]
        found = _amounts(text, marks, among_words=writing.around, is_swiss=is_swiss)
        if not found and _HUNDREDTHS.search(text) is not None:  # two digits behind a point are no group in any locale
            found = _amounts(text, None, among_words=writing.around, is_swiss=is_swiss)
        if not found:
            raise NotReadable("not-a-number", f"{text[:60]!r} is no sum of money", _how_written(writing.locale))
        sums = [_sum(text, amount, scales, writing, currency) for amount in found]
        if len(sums) == 2:
            return _of_range(text, sums, writing, currency)
        names = sums[0].names
        if writing.around:
            names = _with_mentioned(names, mentioned(text, writing.locale, currency))
        code, part = _currency(text, names, writing.locale, currency)
        value = negated(sums[0].value * part, found[0], writing.negative, text, is_alone=True)
        return [as_float(value, text), code]

    return read


def _how_written(locale: str | None) -> str:
    if locale is None:
        return 'locale = "de"  or  "en"  says how it is written'
    return f"{locale!r} writes {separators(locale).decimal!r} before the hundredths"


def _amounts(text: str, marks: Separators | None, *, among_words: bool, is_swiss: bool) -> tuple[Amount, ...]:
    plain = latin_digits(text).strip()
    if (dash := NO_WHOLE.search(plain)) is not None:
        if dash[2] != "," and not is_swiss and _FRANCS.search(plain) is None:
            why = "a minus, or a dash for no whole ones: write one of them with clean"
            raise NotReadable("ambiguous-number", f"{text[:60]!r} begins with a dash", why)
        plain = f"{plain[: dash.start()]}0{plain[dash.end(1) :].lstrip()}"
    if any(dash in plain for dash in "-–—"):
        if _GROUPED_EVEN.search(plain) is not None:
            plain = plain.replace(".", "")  # 1.234,– says itself what its marks are
        plain = _EVEN.sub("", plain)
        if _OPEN_END.match(plain) is not None:
            why = "a minus, or a sum without hundredths: write the sign before it with clean"
            raise NotReadable("ambiguous-number", f"{text[:60]!r} ends with a dash", why)
    if (
        "(" in plain
        and (outside := _OUTSIDE.fullmatch(plain)) is not None
        and (outside[1].strip() or outside[3].strip())
        and not among_words
    ):
        plain = f"({outside[1]}{outside[2]}{outside[3]})"  # the currency stands outside the brackets of bookkeeping
    return amounts_in(plain, marks, among_words=among_words)


def _sum(text: str, amount: Amount, scales: Scales, writing: NumberWriting, currency: str | None) -> _Sum:
    """An amount with what its signs name. Raises NotReadable for what is no sign."""
    names: list[Named] = []
    scale, after = scaled(amount.after, scales)
    for place, beside in (("before", amount.before), ("after", after)):
        if not beside:
            continue
        found = _names(beside, place, writing.locale, currency, among_words=writing.around)
        if found is None:
            what = f"{text[:60]!r} has {beside[:40]!r} {place} the amount, which names no currency"
            raise NotReadable("not-a-number", what, "find takes the sum out, or  other_words = true")
        names += found
    return _Sum(amount.value * scale, scale, tuple(names), bool(amount.after))


def _names(
    beside: str, place: str, locale: str | None, currency: str | None, *, among_words: bool
) -> list[Named] | None:
    """What signs, codes and words beside an amount name; None where one of them names nothing."""
    whole = named(beside, locale, currency) if len(beside) < 20 else None
    if whole is not None:
        return [whole]
    words = beside.split()
    if len(words) == 1 and (cut := re.fullmatch(r"([A-Z]{3})(\W+)", beside)) is not None:
        words = [cut[1], cut[2]]  # CAD$5
    found = [named(word, locale, currency) for word in words]
    if all(found) and len(found) <= 2:
        return [name for name in found if name is not None]
    if not among_words:
        return None
    # The piece at the number: the zł of `zł/kg`, the USD of `(USD)`. What is behind a slash is measured, and not paid.
    pieces = _AT_END.findall(beside) if place == "before" else _AT_START.findall(beside)
    name = _named_by(pieces[0], locale, currency) if pieces else None
    if name is not None:
        return [name]
    return None if pieces and is_sign_like(pieces[0]) else []


_APART = r"\s\d()\[\]{},;:*!?|–—"
_AT_START = re.compile(rf"^[{_APART}.-]*([^{_APART}/-]+)")
_AT_END = re.compile(rf"([^{_APART}/]+)[{_APART}-]*$")


def _named_by(piece: str, locale: str | None, currency: str | None) -> Named | None:
    """What a piece of text at a number names, where the language has no blanks by its first sign."""
    name = named(piece, locale, currency)
    if name is None and piece[:1] in "円元원":
        name = named(piece[0], locale, currency)
    return name


def _with_mentioned(names: tuple[Named, ...], everywhere: list[Named]) -> tuple[Named, ...]:
    """The names at a number with those that stand elsewhere in its text, where these say something else or are the only ones."""
    if not names:
        return tuple(dict.fromkeys(everywhere))
    further = (other for other in everywhere if not set(other.codes) & {code for name in names for code in name.codes})
    return (*names, *dict.fromkeys(further))


def _currency(
    text: str, names: tuple[Named, ...], locale: str | None, currency: str | None
) -> tuple[str | None, Decimal]:
    """The currency that is named, or the column's where none is; and the part of it that the sign stands for."""
    if not names:
        return currency, Decimal(1)
    code, common = settled(names, locale, currency)
    if not common:
        raise NotReadable("ambiguous-currency", f"{text[:60]!r} names two currencies")
    if code is None:
        why = 'currency = "USD"  says it for the column; a locale says it by its territory'
        raise NotReadable("ambiguous-currency", f"{text[:60]!r} could be {' or '.join(common[:4])}", why)
    parts = {name.part for name in names}
    if len(parts) > 1:
        raise NotReadable("not-a-number", f"{text[:60]!r} names a currency and a hundredth of it")
    return code, parts.pop()


def _of_range(text: str, sums: list[_Sum], writing: NumberWriting, currency: str | None) -> list[float | str | None]:
    if writing.end is None:
        why = 'range = "low", "high" or "middle"  takes one sum of it'
        raise NotReadable("not-a-number", f"{text[:60]!r} is a range", why)
    low, high = sums
    if low.scale == 1 and not low.has_end:
        low = low._replace(value=low.value * high.scale)  # $1–2 million
    code, low_part = _currency(text, low.names or high.names, writing.locale, currency)
    other, part = _currency(text, high.names or low.names, writing.locale, currency)
    if code != other:
        raise NotReadable("ambiguous-currency", f"{text[:60]!r} names two currencies")
    return [as_float(end_of(text, (low.value * low_part, high.value * part), writing.end), text), code]
