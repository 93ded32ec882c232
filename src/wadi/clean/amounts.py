"""An amount as it stands in a text: a sign, what stands before the number and after it; two of them in a range.

What a unit, a currency or a scale (`Mio.`) means is for those who read numbers and money; here is only where things stand.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from decimal import Decimal
from functools import lru_cache
from typing import NamedTuple

from wadi.clean.errors import NotReadable
from wadi.clean.locales import Separators
from wadi.clean.neighbours import ARROW, TAKE_OUT, check_neighbours, without_arrow
from wadi.clean.numerals import MINUS, PLUS, Numeral, count_numerals, numeral_at, numeral_start
from wadi.clean.text import latin_digits

LONGEST = 1000
"""A text with more characters is no value."""
_LONGEST_WORD = 24
_MOST_WAYS = 20

_SIGNS = re.escape(MINUS + PLUS)
_MINUS_WORDS = "minus|moins|menos|meno|минус|мінус|μείον|miinus|eksi"
_HEAD = re.compile(
    rf"(?P<outer>[{_SIGNS}])?\s*(?P<before>.*?)\s*(?:(?P<word>(?<![^\W\d_])(?:{_MINUS_WORDS}|plus)\s+|マイナス|負|负|零下|ลบ)\s*"
    rf"|(?P<inner>[{_SIGNS}])(?P<gap>\s*))?",
    re.IGNORECASE | re.DOTALL,
)
_ABOUT = re.compile(
    r"^(?:[~≈∼≃≅]\s*|(?-i:c\.)\s*|ok\.\s*|(?:ca|circa|about|approx|approximately|around|roughly|some|est|etwa|ungefähr|rund|zirka|"
    r"env|environ|vers|aprox|aproximadamente|unos|cerca de|cca|около|ок|прибл|omkring|noin|yaklaşık)(?:\.\s*|\s+)|"
    r"(?:약|约|約|大约|およそ)\s*)",
    re.IGNORECASE,
)
_ESTIMATED = re.compile(
    r"\s*\((?:e|est|estimated|approx|ca|about|geschätzt|gesch|estimé|env)\.?\)$|\s+(?:or so|approx\.?|est\.?|ca\.?)$",
    re.IGNORECASE,
)
_ESTIMATED_ENDS = frozenset(").oOxXtTaA")
_SIGN_LIKE = re.compile(rf"[{_SIGNS}±]|\w{{4}}|負|负|零下|ลบ")
_BETWEEN = re.compile(
    r"–|—|‒|\.\.\.?|…|-|〜|～|~|\b(?:to|bis|à|a|au|till|til|do|до|al|tot|t/m|až|ila|έως|ως|μέχρι)\b|至|から|到",
    re.IGNORECASE,
)
_AND = re.compile(r"\b(?:and|und|et|y|e|i|и|en|og|och)\b", re.IGNORECASE)
_BELOW = re.compile(
    r"below zero|unter null|sous zéro|bajo cero|sotto zero|abaixo de zero|ниже нуля|minusgrad", re.IGNORECASE
)
NO_WHOLE = re.compile(r"(?<![\w.,])([-–—‒])\s?([.,])(?=\d\d(?!\d))")
"""A dash for the whole part (`-,99 €`, `CHF -.95`), as prices are written in Germany, Austria, Switzerland."""
_IDEOGRAPH = re.compile("[\u3400-\u9fff\uac00-\ud7af]")
_FROM = re.compile(
    r"\b(?:between|from|zwischen|von|entre|de|du|da|tra|van|tussen|от|од|od|mezi|από|μεταξύ|między|mellan|mellem)\s+",
    re.IGNORECASE,
)


class Amount(NamedTuple):
    """A number with its sign, and the texts before and after it. `in_brackets`: it stands in brackets, which may be a way to
    say that it is negative."""

    value: Decimal
    before: str
    after: str
    in_brackets: bool = False


def amounts_in(text: str, marks: Separators | None, *, among_words: bool = False) -> tuple[Amount, ...]:
    """The amount that a text is, or the two of a range; none where it is neither. `among_words`: other words may stand before
    and after it. Raises NotReadable where there are several numbers, or one can be read in two ways."""
    if len(text) > LONGEST:
        raise NotReadable("not-a-number", f"a text of {len(text):,} characters is no number")
    plain, in_brackets = _out_of_brackets(latin_digits(text).strip())
    bare = without_about(plain)
    if bare != plain:
        bare, _ = _out_of_brackets(bare)
    found = _one(bare, marks, among_words=among_words)
    if found is None or count_numerals(found.after):
        if (ends := next(_ranges(bare, marks, among_words=among_words), None)) is not None:
            return ends
        if among_words and (count := count_numerals(bare)) > 1:
            what = f"{text!r} has {count} numbers"
            raise NotReadable("not-a-number", what, "find takes one of them out, range reads two as a range")
    if found is None:
        return ()
    # What is about so much is no bookkeeping: (~5).
    return (found._replace(in_brackets=True) if in_brackets and bare == plain else found,)


def without_about(plain: str) -> str:
    """A text without the words that say that its number is not exact."""
    if not plain[:1].isdecimal():
        plain = _ABOUT.sub("", plain)
    return _ESTIMATED.sub("", plain).strip() if plain[-1:] in _ESTIMATED_ENDS else plain


def _out_of_brackets(plain: str) -> tuple[str, bool]:
    if plain[:1] == "(" and plain[-1:] == ")" and not set(plain[1:-1]) & set("()"):
        return plain[1:-1].strip(), True
    return plain, False


def _one(plain: str, marks: Separators | None, *, among_words: bool) -> Amount | None:
    """The amount that begins with the first numeral of a text."""
    if among_words and _BELOW.search(plain) is not None:
        raise NotReadable("ambiguous-number", f"{plain!r}: a number below zero, or not", "find takes the number out")
    start = numeral_start(plain)
    if start is None or (numeral := numeral_at(plain, start, marks)) is None:
        return None
    if not plain.isascii() and (parts := _IN_PARTS.match(plain, start)) is not None:
        numeral = _of_parts(parts, plain, marks)
    head, after, points_down = plain[:start], plain[numeral.end :].strip(), None
    if not plain.isascii() and ARROW.search(plain) is not None:
        head, after, points_down = without_arrow(plain, head, after)
    found = _signed(head, among_words=among_words)
    if found is None:
        return None
    is_negative, has_sign, before = found
    if points_down is not None:
        if has_sign and is_negative is not points_down:
            raise NotReadable(
                "ambiguous-number", f"{plain[:60]!r} has a sign and an arrow that say two things", TAKE_OUT
            )
        is_negative, has_sign = points_down, True
    if among_words and (before or after):
        check_neighbours(plain, start, before, after)
    if not has_sign and after[:1] in ("-", "\u2212") and not count_numerals(after):
        behind = after[1:].strip()
        if not behind[:1].isalpha():
            is_negative, after = True, behind  # 12-, as bookkeeping writes it
    return Amount(-numeral.value if is_negative else numeral.value, before, after)


_TEN_THOUSANDS = {"万": 4, "萬": 4, "만": 4, "億": 8, "亿": 8, "억": 8, "兆": 12, "조": 12}
_HUNDREDS = {"百": 2, "백": 2, "千": 3, "천": 3}
_IN_PARTS = re.compile(r"[0-9][0-9.,]*[百백千천万萬만億亿억兆조]+(?:[0-9][0-9.,]*[百백千천万萬만億亿억兆조]*)+")
_PART = re.compile(r"([0-9][0-9.,]*)([百백千천]?)([万萬만億亿억兆조]?)(?=[0-9]|$)")


def _of_parts(found: re.Match[str], plain: str, marks: Separators | None) -> Numeral:
    """A number in parts, `1万2千`, `3億5000万`, each of which is smaller than the one before. Raises NotReadable."""
    total, last, at = Decimal(0), Decimal(10) ** 20, 0
    for part in _PART.finditer(found[0]):
        number = numeral_at(part[1], 0, marks)
        if part.start() != at or number is None or number.end != len(part[1]):
            break
        factor = Decimal(10) ** (_HUNDREDS.get(part[2], 0) + _TEN_THOUSANDS.get(part[3], 0))
        if number.value * factor >= last:
            break
        at, total, last = part.end(), total + number.value * factor, factor
    if at != len(found[0]):
        raise NotReadable("ambiguous-number", f"{plain[:60]!r} has a number in parts that do not go together", TAKE_OUT)
    return Numeral(total, found.end())


def _signed(text: str, *, among_words: bool) -> tuple[bool, bool, str] | None:
    """What stands before a numeral: whether it makes it negative, whether there is a sign, and what else there is. None where
    there are two signs, or one that says both."""
    if not text or not _SIGN_LIKE.search(text):
        return False, False, text.strip()
    head = _HEAD.fullmatch(text)
    if head is None or "±" in text:
        return None
    before, outer, inner = head["before"], head["outer"], head["inner"]
    if inner and before:
        is_apart = text[head.start("inner") - 1].isspace()
        if not is_apart and before[-1].isalnum():
            if not among_words:
                return None
            before, inner = before + inner, None  # MW-0141: a hyphen that joins
        elif among_words and is_apart and head["gap"] and inner in "-–":
            raise NotReadable("ambiguous-number", f"{text.strip()!r}: the dash could be a minus, or be between words")
    if outer and among_words and any(char.isalpha() for char in before):
        raise NotReadable("ambiguous-number", f"{text.strip()!r}: the dash could be a minus, or begin a list")
    signs = [sign.strip() for sign in (outer, inner or head["word"]) if sign]
    if len(signs) > 1:
        return None
    return bool(signs) and signs[0] not in PLUS and signs[0].casefold() != "plus", bool(signs), before


def _ranges(plain: str, marks: Separators | None, *, among_words: bool) -> Iterator[tuple[Amount, Amount]]:
    """Every way in which a text is a range."""
    lead = _FROM.search(plain) if among_words else _FROM.match(plain)
    rest = plain[lead.end() :] if lead is not None else plain
    ways = [*_BETWEEN.finditer(rest), *(_AND.finditer(rest) if lead is not None else ())]
    for way in ways[:_MOST_WAYS]:
        low_text, high_text = rest[: way.start()].strip(), rest[way.end() :].strip()
        if not (count_numerals(low_text) and count_numerals(high_text)):
            continue
        try:
            low, high = _one(low_text, marks, among_words=among_words), _one(high_text, marks, among_words=among_words)
        except NotReadable as error:
            if error.code == "ambiguous-number":
                raise
            continue
        if low is None or high is None or count_numerals(low.after) or count_numerals(high.after):
            continue
        yield low, high


Scales = tuple[tuple[str, Decimal], ...]
"""Words for thousands and millions with their factors, the longest first."""


def longest_first(scales: Mapping[str, Decimal]) -> Scales:
    """Words for thousands and millions as `scaled` takes them."""
    return tuple(sorted(scales.items(), key=lambda item: -len(item[0])))


def scaled(after: str, scales: Scales) -> tuple[Decimal, str]:
    """The factor of a word for thousands or millions that stands at the beginning of what follows a number, and the rest."""
    if not after[:1].isalpha():
        return Decimal(1), after
    word, rest = after[:_LONGEST_WORD], after[_LONGEST_WORD:]
    factor, length = _scale_at(word, scales)
    if not length:
        return factor, after
    rest = word[length:] + rest
    return factor, rest.lstrip(". \u00a0") if rest[:1] == "." else rest.strip()


@lru_cache(maxsize=4096)
def _scale_at(word: str, scales: Scales) -> tuple[Decimal, int]:
    """The factor, and how many letters say so; 1 and 0 for other words."""
    for scale, factor in scales:
        if word.startswith(scale) or (len(scale) > 2 and word.casefold().startswith(scale.casefold())):
            behind = word[len(scale) : len(scale) + 1]
            if not behind.isalpha() or _IDEOGRAPH.match(scale[-1]):  # 1.5万円
                return factor, len(scale)
    return Decimal(1), 0
