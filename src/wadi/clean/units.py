"""Whether two writings of a unit mean the same: exact first, other letters only where nothing else is meant (SI Brochure)."""

from __future__ import annotations

import re
import unicodedata
from decimal import Decimal
from functools import lru_cache

_PREFIXES = {"q": -30, "r": -27, "y": -24, "z": -21, "a": -18, "f": -15, "p": -12, "n": -9, "µ": -6, "m": -3, "c": -2,
             "d": -1, "da": 1, "h": 2, "k": 3, "M": 6, "G": 9, "T": 12, "P": 15, "E": 18, "Z": 21, "Y": 24, "R": 27,
             "Q": 30}  # fmt: skip
_SYMBOLS = frozenset(
    "m g s A K mol cd Hz N Pa J W V F Ω C S T lm lx Bq Gy Sv kat L t b B bit eV Wh VA var bar h min d dB".split()
)
_BY_FOLD = {symbol.casefold(): symbol for symbol in sorted(_SYMBOLS - {"b", "B"}, reverse=True)}
_SPLIT = re.compile(r"[^\W\d_]+")


@lru_cache(maxsize=4096)
def unit_key(unit: str) -> str:
    """A unit as it is compared: without blanks, a final dot and ways of raising (`m²`, `m2`, `m^2`), in NFKC."""
    plain = unicodedata.normalize("NFKC", unit.replace("º", "°").replace("˚", "°")).replace("μ", "µ")
    return "".join(plain.split()).replace("^", "").rstrip(".")


@lru_cache(maxsize=4096)
def unit_factor(written: str, unit: str | None, units: tuple[tuple[str, float], ...]) -> Decimal | None:
    """By what a number with a unit is multiplied to be one in the column's: 1 for `unit` itself, the factor for one of
    `units`; None for any other. Letters of another case count only where they can mean nothing else."""
    key = unit_key(written)
    known = [*([(unit, 1.0)] if unit else []), *units]
    for name, factor in known:
        if unit_key(name) == key:
            return _decimal(factor)
    folded = {factor for name, factor in known if unit_key(name).casefold() == key.casefold() and _is_alike(key, name)}
    return _decimal(folded.pop()) if len(folded) == 1 else None


def _decimal(factor: float) -> Decimal:
    return Decimal(int(factor)) if factor == int(factor) else Decimal(repr(factor))


def _is_alike(key: str, name: str) -> bool:
    """Whether two writings that differ by case alone mean one unit, part by part (`Km/H`, `km/h`)."""
    parts = zip(_SPLIT.findall(key), _SPLIT.findall(unit_key(name)), strict=False)
    return all(one == other or _means_the_same(one, other) for one, other in parts)


def _means_the_same(written: str, known: str) -> bool:
    if written in _PREFIXES and written != known.casefold() and len(written) == 1 and written.isupper():
        return False  # M, G, T: a prefix alone is a word for millions and more
    readings = _reading(written), _reading(known)
    return readings[0] == readings[1] or any(isinstance(reading, str) for reading in readings)


def _reading(part: str) -> tuple[int, str] | str:
    """A symbol as power of ten and unit, its prefix as it is written; any other word case aside."""
    if part.casefold() in _BY_FOLD:
        return 0, _BY_FOLD[part.casefold()]
    for length in (1, 2):
        prefix, rest = part[:length], part[length:]
        prefix = "k" if prefix == "K" else prefix
        if prefix in _PREFIXES and rest:
            if rest in ("b", "B"):
                return _PREFIXES[prefix], rest
            if rest.casefold() in _BY_FOLD:
                return _PREFIXES[prefix], _BY_FOLD[rest.casefold()]
    return (0, part) if part in ("b", "B") else part.casefold()
