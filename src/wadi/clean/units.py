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
    return _decimal(folded.pop()) if len(folded) == 1 else _size_factor(key, known)


_SIZE = re.compile(r"(?:([kKMGTPE])(i?))?([Bo]?)")
"""A number of bytes (octets), as lists of files write it, where the letter of bytes may be left out."""


def _size_factor(key: str, known: list[tuple[str, float]]) -> Decimal | None:
    """The factor of a size where the column has sizes: `K` is the one of its units that begins so, `KiB` is 1024 bytes
    (IEC 80000-13 §13-9) where that is none of them. None for what is no size."""
    sizes = [(found[1] or "", found[2] or "", factor) for name, factor in known
             if (found := _SIZE.fullmatch(unit_key(name))) is not None and found[3]]  # fmt: skip
    written = _SIZE.fullmatch(key)
    if written is None or not written[1] or not sizes:
        return None
    letter, is_binary = written[1].upper(), bool(written[2])
    if not is_binary and not written[3]:
        alike = {factor for name, _, factor in sizes if name.upper() == letter}
        return _decimal(alike.pop()) if len(alike) == 1 else None
    prefix, mark, factor = sizes[0]
    others = {round(one[2] / factor, 9) for one in sizes[1:] if one[0]}
    if not is_binary or mark or any(ratio in (1024, 1024**2, round(1 / 1024, 9)) for ratio in others):
        return None  # where KB are 1024 bytes nothing else is said of KiB
    place = "KMGTPE".index
    base = Decimal(1000) ** (place(prefix.upper()) + 1) if prefix else Decimal(1)
    return Decimal(1024) ** (place(letter) + 1) / base * _decimal(factor)


@lru_cache(maxsize=1024)
def is_measured(unit: str) -> bool:
    """Whether a unit is one of measures, whose letters may be told apart by case and have prefixes: kg, °C, km/h, MB."""
    return "°" in unit or any(isinstance(_reading(part), tuple) for part in _SPLIT.findall(unit_key(unit)))


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
