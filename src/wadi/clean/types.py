"""The types of columns and how text becomes them. Names are those of the Table Schema standard, and some of our own."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from datetime import date, datetime, time
from typing import Any, Literal, NamedTuple, get_args

from wadi.clean.dates import date_reader, month_reader
from wadi.clean.errors import NotReadable
from wadi.clean.numbers import Negative, NumberWriting, RangeEnd, integer_reader, number_reader
from wadi.urls import NotAUrl, absolute, addressed, plain_address, resolve

TypeName = Literal[
    "string", "integer", "number", "boolean", "date", "time", "datetime", "duration", "year", "yearmonth", "geopoint",
    "array", "object", "url", "email", "phone", "money", "percent", "file",
]  # fmt: skip
TYPE_NAMES: tuple[str, ...] = get_args(TypeName)
Value = str | int | float | bool | date | datetime | time | list[Any] | dict[str, Any]
COUNTED = frozenset({"unix", "unix ms"})
"""Formats of moments that are counted since 1970, in seconds or milliseconds."""
NUMERIC = frozenset({"integer", "number", "money", "percent", "year"})
"""Types whose values are numbers: they stand at the right of their column."""
FROM_NOW = frozenset({"date", "datetime"})
"""Types that are read from what a text tells from now: "3 days ago"."""


class Where(NamedTuple):
    """Where a text stands: the base URL of its page, when the page came, in seconds since 1970, and the page's encoding."""

    base: str = ""
    at: float | None = None
    encoding: str = "utf-8"


@dataclass(frozen=True, slots=True)
class Setting:
    """What a plan says about a value's type. `this_year` settles two-digit years."""

    type: TypeName = "string"
    locale: str | None = None
    format: str | None = None
    unit: str | None = None
    this_year: int | None = None
    units: Mapping[str, float] = field(default_factory=dict)
    around: bool = False
    range: RangeEnd | None = None
    currency: str | None = None
    region: str | None = None
    zone: str | None = None
    negative: Negative | None = None

    @property
    def writing(self) -> NumberWriting:
        """How numbers of this setting are written."""
        unit = self.unit or ("%" if self.type == "percent" else None)
        return NumberWriting(self.locale, unit, tuple(self.units.items()), self.around, self.range, self.negative)


Converter = Callable[[str, Where], Value]
"""From a text and where it stands to a value; raises NotReadable."""

_YES = frozenset(
    (
        "true yes y on 1 ✓ ✔ ☑ ✅ x ja oui sí si sim s da так ano áno igen kyllä evet はい 是 有 예 네 ναι да tak wahr vrai "
        "vero verdadero نعم हाँ हां כן ใช่ có ya ✔ 예 はい"
    ).split()
)
_NO = frozenset(
    (
        "false no n off 0 ✗ ✘ ☐ ❌ ✕ nein non não nao нет ні ne nie nem ei hayır いいえ 否 无 無 아니요 όχι nej nei nee falsch "
        "faux falso hayir لا नहीं לא ไม่ ไม่ใช่ không tidak ✖ ❎ 아니오"
    ).split()
)


def converter(setting: Setting) -> Converter:
    """The function that makes values of this type. Raises BadSetting when locale or format mean nothing."""
    return _MAKERS[setting.type](setting)


def moment_from_now(text: str, setting: Setting, at: float) -> Value | None:
    """The date or moment that a text tells from `at`; None for texts that do not."""
    from wadi.clean.from_now import moment_from_now

    moment = moment_from_now(text, setting.locale, at, setting.zone)
    return None if moment is None else moment.date() if setting.type == "date" else moment


def _string(setting: Setting) -> Converter:
    return lambda text, where: text


def _integer(setting: Setting) -> Converter:
    read = integer_reader(writing=setting.writing)
    return lambda text, where: read(text)


def _number(setting: Setting) -> Converter:
    read = number_reader(writing=setting.writing)
    return lambda text, where: read(text)


_PER_CENT = (
    "procent", "procenten", "prosent", "prosenttia", "procenta", "procento", "procentů", "percento", "por ciento", "por cento",
    "per cento", "процента", "процентов", "процент", "відсотків", "százalék", "パーセント", "퍼센트", "τοις εκατό", "la sută",
)  # fmt: skip


def _percent(setting: Setting) -> Converter:
    """Per cent as they are written: `12.5 %` is 12.5; per mille are a tenth."""
    more = {
        "‰": 0.1,
        "٪": 1.0,
        "percent": 1.0,
        "per cent": 1.0,
        "Prozent": 1.0,
        "pct": 1.0,
        **dict.fromkeys(_PER_CENT, 1.0),
        "pour cent": 1.0,
        **setting.units,
    }
    read = number_reader(writing=replace(setting.writing, unit="%", units=tuple(more.items())))
    return lambda text, where: read(text)


def _date(setting: Setting) -> Converter:
    if setting.format in COUNTED:
        moment = _datetime(setting)
        return lambda text, where: moment(text, where).date()  # type: ignore[union-attr]
    read = date_reader(setting.format, setting.locale, this_year=setting.this_year)
    if setting.format is not None:
        return lambda text, where: read(text)

    def day_of(text: str, where: Where) -> Value:
        try:
            return read(text)
        except NotReadable:
            if ":" not in text and not any(char.isalpha() for char in text):
                raise
            # A date with a time names a day, too.
            from wadi.clean.times import datetime_reader

            moment = datetime_reader(None, setting.locale, this_year=setting.this_year)
            try:
                return moment(text).date()
            except NotReadable:
                pass
            raise

    return day_of


def _year(setting: Setting) -> Converter:
    from wadi.clean.years import read_year

    return lambda text, where: read_year(text, setting.this_year, setting.locale)


def _yearmonth(setting: Setting) -> Converter:
    read = month_reader(setting.format, setting.locale, this_year=setting.this_year)
    return lambda text, where: read(text)


def _datetime(setting: Setting) -> Converter:
    from wadi.clean.times import datetime_reader

    read = datetime_reader(setting.format, setting.locale, setting.zone, this_year=setting.this_year)
    return lambda text, where: read(text)


def _time(setting: Setting) -> Converter:
    from wadi.clean.times import time_reader

    read = time_reader(setting.format, setting.locale)
    return lambda text, where: read(text)


def _duration(setting: Setting) -> Converter:
    from wadi.clean.durations import duration_reader

    read = duration_reader(setting.format, setting.locale)
    return lambda text, where: read(text)


def _boolean(setting: Setting) -> Converter:
    return lambda text, where: read_boolean(text)


def _url(setting: Setting) -> Converter:
    return read_address


def _money(setting: Setting) -> Converter:
    from wadi.clean.money import money_reader

    read = money_reader(setting.writing, setting.currency)
    return lambda text, where: read(text)


def _email(setting: Setting) -> Converter:
    from wadi.clean.contacts import read_email

    return lambda text, where: read_email(text)


def _phone(setting: Setting) -> Converter:
    from wadi.clean.phones import phone_reader

    read = phone_reader(setting.region)
    return lambda text, where: read(text)


def _geopoint(setting: Setting) -> Converter:
    from wadi.clean.points import point_reader

    read = point_reader(setting.format, setting.locale)
    return lambda text, where: read(text)


def _json(setting: Setting) -> Converter:
    wanted: type = list if setting.type == "array" else dict

    def read(text: str, where: Where) -> Value:
        import json

        import orjson

        try:
            value: Any = json.loads(text)
            if isinstance(value, wanted):
                orjson.dumps(value)
        except RecursionError as error:
            raise NotReadable("not-json", f"{text[:80]!r} is nested too deeply") from error
        except TypeError as error:  # whole numbers beyond 64 bits, halves of characters, more than 254 levels
            raise NotReadable("not-json", f"{text[:80]!r} cannot be kept: {error}") from error
        except ValueError as error:
            raise NotReadable("not-json", f"{text[:80]!r} is no JSON: {error}") from error
        if not isinstance(value, wanted):
            raise NotReadable("not-json", f"{text[:80]!r} is JSON, but no {setting.type}")
        return value  # type: ignore[return-value]

    return read


def read_boolean(text: str) -> bool:
    """True or False by the common words and marks; anything else raises NotReadable."""
    word = text.strip().rstrip("\ufe0e\ufe0f").casefold()  # how a mark is drawn is no part of it
    if word in _YES:
        return True
    if word in _NO:
        return False
    raise NotReadable(
        "not-a-boolean", f"{text!r} is neither yes nor no", 'a map turns it into one:  map = { "…" = "yes" }'
    )


_NO_ADDRESSES = frozenset({"javascript", "vbscript", "data", "about", "blob"})
"""Schemes of what is run or held on the page itself."""


def _file(setting: Setting) -> Converter:
    return read_url


def read_address(text: str, where: Where) -> str:
    """The absolute URL of a text as a table has it: normalised, of any scheme but those that run something."""
    plain = plain_address(text, where.base)
    if plain is not None:
        return plain
    try:
        url = absolute(where.base, text, where.encoding)
    except NotAUrl as error:
        raise NotReadable("not-a-url", f"{text!r} is no URL: {error}") from error
    if url.partition(":")[0] in _NO_ADDRESSES:
        raise NotReadable("not-a-url", f"{text!r} is no URL: it leads nowhere")
    return addressed(url)


def read_url(text: str, where: Where) -> str:
    """The absolute URL of a text, as it is asked for."""
    try:
        return resolve(where.base, text, where.encoding)
    except NotAUrl as error:
        raise NotReadable("not-a-url", f"{text!r} is no URL: {error}") from error


_MAKERS: dict[TypeName, Callable[[Setting], Converter]] = {
    "string": _string,
    "integer": _integer,
    "number": _number,
    "boolean": _boolean,
    "date": _date,
    "time": _time,
    "datetime": _datetime,
    "duration": _duration,
    "year": _year,
    "yearmonth": _yearmonth,
    "geopoint": _geopoint,
    "array": _json,
    "object": _json,
    "url": _url,
    "email": _email,
    "phone": _phone,
    "money": _money,
    "percent": _percent,
    "file": _file,
}
