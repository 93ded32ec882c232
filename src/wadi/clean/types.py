"""The types of columns and how text becomes them. Names are those of the Table Schema standard, and our own `url` and `file`."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from typing import Literal, get_args

from wadi.clean.dates import date_reader
from wadi.clean.errors import NotReadable
from wadi.clean.numbers import integer_reader, number_reader
from wadi.urls import NotAUrl, resolve

TypeName = Literal["string", "integer", "number", "boolean", "date", "url", "file"]
TYPE_NAMES: tuple[str, ...] = get_args(TypeName)
Value = str | int | float | bool | date


@dataclass(frozen=True, slots=True)
class Setting:
    """What a plan says about a value's type. `this_year` settles two-digit years."""

    type: TypeName = "string"
    locale: str | None = None
    format: str | None = None
    unit: str | None = None
    this_year: int | None = None


Converter = Callable[[str, str], Value]
"""From a text and the base URL of its page to a value; raises NotReadable."""

_YES = frozenset({"true", "yes", "y", "on", "1", "✓", "✔", "☑", "x"})
_NO = frozenset({"false", "no", "n", "off", "0", "✗", "✘", "☐"})


def converter(setting: Setting) -> Converter:
    """The function that makes values of this type. Raises BadSetting when locale or format mean nothing."""
    return _MAKERS[setting.type](setting)


def _string(setting: Setting) -> Converter:
    return lambda text, base: text


def _integer(setting: Setting) -> Converter:
    read = integer_reader(setting.locale, setting.unit)
    return lambda text, base: read(text)


def _number(setting: Setting) -> Converter:
    read = number_reader(setting.locale, setting.unit)
    return lambda text, base: read(text)


def _date(setting: Setting) -> Converter:
    read = date_reader(setting.format, setting.locale, this_year=setting.this_year)
    return lambda text, base: read(text)


def _boolean(setting: Setting) -> Converter:
    return lambda text, base: read_boolean(text)


def _url(setting: Setting) -> Converter:
    return lambda text, base: read_url(text, base)


def read_boolean(text: str) -> bool:
    """True or False by the common words and marks; anything else raises NotReadable."""
    word = text.strip().casefold()
    if word in _YES:
        return True
    if word in _NO:
        return False
    raise NotReadable(
        "not-a-boolean", f"{text!r} is neither yes nor no", 'a map turns it into one:  map = { "…" = "yes" }'
    )


def read_url(text: str, base: str) -> str:
    """The absolute URL of `text` on a page with this base."""
    try:
        return resolve(base, text)
    except NotAUrl as error:
        raise NotReadable("not-a-url", f"{text!r} is no URL: {error}") from error


_MAKERS: dict[TypeName, Callable[[Setting], Converter]] = {
    "string": _string,
    "integer": _integer,
    "number": _number,
    "boolean": _boolean,
    "date": _date,
    "url": _url,
    "file": _url,
}
