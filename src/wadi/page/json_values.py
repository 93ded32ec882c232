"""JSON values from text, with their digits: numbers that a float would change stay as they are written.

A number is an int or a float; one with more digits than a float has is a float that knows them. NaN and the guards that
sites put before JSON against script inclusion are let pass; JSON Lines are read as a list.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from math import isinf
from typing import Any

_GUARDS = (")]}',", ")]}'", "while(1);", "for(;;);")
# With fewer digits than these a float says what was written, and orjson's integers are whole.
_MOST_IN_FLOATS = b"0" * 16
_DIGITS = bytes.maketrans(b"0123456789.", b"0" * 11)
_SAFE_DIGITS = 15
_MOST_DIGITS = 1000
_HALF = re.compile(r"\\u[dD][89A-Fa-f]")


class LongFloat(float):
    """A number with more digits than a float keeps: it is compared and reckoned with as a float, and written as it was."""

    __slots__ = ("written",)
    written: str

    def __new__(cls, written: str) -> LongFloat:
        number = super().__new__(cls, written)
        number.written = written
        return number

    def __str__(self) -> str:
        return self.written

    def __repr__(self) -> str:
        return self.written

    def __reduce__(self) -> tuple[Any, ...]:
        return LongFloat, (self.written,)


def is_guarded(start: str) -> bool:
    """Whether a text begins with a guard."""
    return start.startswith(_GUARDS)


def read_value(text: str) -> Any:
    """The value of a JSON text, or of JSON Lines. Raises ValueError, which says why there is none."""
    text = text.strip()
    for guard in _GUARDS:
        text = text.removeprefix(guard)
    try:
        return _value(text)
    except RecursionError as error:
        raise ValueError("nested too deeply") from error
    except ValueError as error:
        lines = [line for line in text.split("\n") if line.strip()]
        if len(lines) > 1 and lines[0].strip()[:1] in "{[" and lines[0].strip()[-1:] in "}]":
            try:
                return [_value(line) for line in lines]
            except (ValueError, RecursionError):
                pass
        raise error


def _value(text: str) -> Any:
    import orjson

    data = text.encode("utf-8", "surrogatepass")
    # Looked for among digits that are all the same: a tenth of the time that an expression takes.
    if _MOST_IN_FLOATS not in data.translate(_DIGITS):
        try:
            return orjson.loads(data)
        except orjson.JSONDecodeError as error:
            return _loosely(text, error)
    return _with_whole_characters(json.loads(text, parse_float=number_of, parse_int=whole_of), text)


def number_of(written: str) -> float:
    """A number with a fraction or an exponent, which keeps all of its digits."""
    digits = sum(character.isdigit() for character in written.lower().partition("e")[0])
    number = float(written)
    is_beyond = isinf(number) or (number == 0.0 and re.search("[1-9]", written.lower().partition("e")[0]) is not None)
    return LongFloat(written) if digits > _SAFE_DIGITS or is_beyond else number


def whole_of(written: str) -> int | float:
    """A whole number; one with more digits than any that is reckoned with keeps them as they are written."""
    return int(written) if len(written) <= _MOST_DIGITS else LongFloat(written)


def _loosely(text: str, first: ValueError) -> Any:
    """Python's own reader takes NaN, Infinity and whole numbers of any size; what it refuses too is no JSON."""
    try:
        return _with_whole_characters(json.loads(text, parse_float=number_of, parse_int=whole_of), text)
    except ValueError:
        raise first from None


def _with_whole_characters(value: Any, text: str) -> Any:
    """The value with U+FFFD for halves of characters, which JSON's escapes can name and no file can hold."""
    return _mended(value) if _HALF.search(text) else value


def whole_characters(text: str) -> str:
    """The text with the halves of characters (UTF-16 surrogates) put together, U+FFFD for one that stands alone."""
    return text.encode("utf-16", "surrogatepass").decode("utf-16", "replace")


def _mended(value: Any) -> Any:
    """The value, its texts and keys with whole characters, however deep it is."""
    top = [value]
    waiting: list[Any] = [top]
    while waiting:
        holder = waiting.pop()
        places = list(holder.items()) if isinstance(holder, dict) else list(enumerate(holder))
        if isinstance(holder, dict):
            holder.clear()
        for place, inner in places:
            holder[whole_characters(place) if isinstance(place, str) else place] = (
                whole_characters(inner) if isinstance(inner, str) else inner
            )
            if isinstance(inner, list | dict):
                waiting.append(inner)
    return top[0]


def text_of_value(value: Any) -> str:
    """A JSON value as JSON text, numbers with all of their digits."""
    import orjson

    try:
        return orjson.dumps(value).decode()
    except TypeError:  # a number with all of its digits, a whole one beyond 64 bits, or deeper than orjson writes
        return "".join(_written(value))


def _written(value: Any) -> Iterator[str]:
    """The pieces of a value's JSON text, however deep it is."""
    waiting: list[Any] = [value]
    while waiting:
        current = waiting.pop()
        if isinstance(current, _Written):
            yield current
        elif isinstance(current, dict):
            pieces: list[Any] = [_Written("{")]
            for place, (key, inner) in enumerate(current.items()):
                pieces += [_Written(("," if place else "") + json.dumps(key, ensure_ascii=False) + ":"), inner]
            waiting += reversed([*pieces, _Written("}")])
        elif isinstance(current, list):
            between = [piece for inner in current for piece in (_Written(","), inner)][1:]
            waiting += reversed([_Written("["), *between, _Written("]")])
        else:
            yield str(current) if isinstance(current, LongFloat) else json.dumps(current, ensure_ascii=False)


class _Written(str):
    """A piece of JSON text, told from a text that is to be one."""

    __slots__ = ()
