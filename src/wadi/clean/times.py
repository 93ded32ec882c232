"""Times, dates with times, lengths of time, and dates told from now ("3 days ago"), by CLDR patterns and words."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import UTC, date, datetime, time, timedelta, timezone, tzinfo
from functools import lru_cache
from typing import Literal

from wadi.clean.dates import date_of, date_pattern, example_of
from wadi.clean.errors import BadSetting, NotReadable
from wadi.clean.locales import is_after_noon, locale_of
from wadi.clean.text import latin_digits

_LENGTHS = ("full", "long", "medium", "short")
_WITH_TIME = ("year", "month", "day", "hour")
_NAMED_TIMES = {"midnight": time(0), "noon": time(12), "midday": time(12)}
_AT = re.compile(r"(?<=\d),?\s+(?:à|at|um|kl\.?|о|в|alle|ore|a las|às|om|o)\s+(?=\d)", re.IGNORECASE)
_OFFSET = re.compile(r"(?:UTC|GMT)?([+\-\u2212])(\d{1,2}):?(\d{2})?")
# Short names of zones are not unique in the world; these are the common readings of the ones that mean one offset.
_ZONES = {"Z": 0, "UTC": 0, "GMT": 0, "WET": 0, "WEST": 60, "BST": 60, "CET": 60, "CEST": 120, "EET": 120, "EEST": 180,
          "MSK": 180, "EST": -300, "EDT": -240, "CDT": -300, "MST": -420, "MDT": -360, "PST": -480, "PDT": -420,
          "JST": 540, "KST": 540, "AEST": 600, "AEDT": 660, "NZST": 720, "NZDT": 780}  # fmt: skip


def zone_of(name: str) -> tzinfo:
    """The time zone of an IANA name. Raises BadSetting."""
    from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError) as error:
        raise BadSetting(
            "bad-format", f'zone "{name}" is not known', 'write an IANA name such as "Europe/Paris"'
        ) from error


def datetime_reader(
    pattern: str | None = None, locale: str | None = None, zone: str | None = None, *, this_year: int | None = None
) -> Callable[[str], datetime]:
    """A function from text to a moment: by a pattern of TR 35, the ways of a locale, or ISO 8601 (RFC 3339 included).

    What has no offset of its own is in `zone`; without one it stays local. Raises BadSetting; the function NotReadable.
    """
    local = zone_of(zone) if zone else None
    if pattern is None and locale is None:
        return lambda text: _in_zone(_iso_moment(text), local)
    name = locale or "en"
    patterns = [date_pattern(form, locale, _needs(form)) for form in ([pattern] if pattern else _moment_patterns(name))]

    def read(text: str) -> datetime:
        plain = _AT.sub(" ", latin_digits(text).replace("\u202f", " ").strip())
        for form in patterns:
            if (found := form.expression.fullmatch(plain)) is not None:
                moment = datetime.combine(date_of(found, form.months, text, this_year), _time_of(found, name, text))
                return _in_zone(moment, local)
        what = f'format "{pattern}"' if pattern else f'locale "{locale}"'
        raise NotReadable(
            "not-a-date",
            f"{text!r} is no date with a time in {what}",
            "" if pattern else example_of(patterns[:2], locale),
        )

    return read


def time_reader(pattern: str | None = None, locale: str | None = None) -> Callable[[str], time]:
    """A function from text to a time of day, by a pattern, the ways of a locale, or as `14:05`, `2:05 pm`, `14h05`."""
    name = locale or "en"
    named = (
        [pattern]
        if pattern
        else list(
            dict.fromkeys([*_time_patterns(name), "HH:mm:ss", "HH:mm", "H'h'mm", "H.mm", "h:mm a", "h a", "ah:mm"])
        )
    )
    patterns = [date_pattern(form, locale, (_needs(form)[-1],)) for form in named]

    def read(text: str) -> time:
        if (known := _NAMED_TIMES.get(text.strip().casefold())) is not None:
            return known
        plain = latin_digits(text).replace("\u202f", " ").strip()
        for form in patterns:
            if (found := form.expression.fullmatch(plain)) is not None:
                return _time_of(found, name, text)
        raise NotReadable("not-a-time", f"{text!r} is no time of day", 'format = "HH:mm" says how it is written')

    return read


def _needs(pattern: str) -> tuple[str, ...]:
    plain = re.sub(r"'[^']*'", "", pattern)
    return (*_WITH_TIME[:3], "hour12" if re.search(r"[hK]", plain) else "hour")


def _time_patterns(locale: str) -> list[str]:
    formats = locale_of(locale).time_formats
    return [str(formats[length].pattern).replace("\u202f", " ") for length in _LENGTHS]


def _moment_patterns(locale: str) -> list[str]:
    dates, joined = locale_of(locale).date_formats, locale_of(locale).datetime_formats
    found = [
        str(joined[length]).replace("{1}", str(dates[length].pattern)).replace("{0}", pattern)
        for length in _LENGTHS
        for pattern in _time_patterns(locale)
    ]
    days = [str(dates[length].pattern) for length in _LENGTHS]
    plain = [
        f"{day}{between}{form}"
        for day in [*days, "d MMMM y"]
        for between in (" ", ", ")
        for form in ("HH:mm:ss", "HH:mm", "h:mm a")
    ]
    return list(dict.fromkeys([*found, *plain]))


def _time_of(found: re.Match[str], locale: str, text: str) -> time:
    parts = found.groupdict()
    hour = int(parts.get("hour") or parts.get("hour12") or 0)
    if parts.get("hour12") is not None:
        hour = hour % 12 + (12 if parts.get("period") and is_after_noon(parts["period"], locale) else 0)
    try:
        micro = int((parts.get("fraction") or "0").ljust(6, "0")[:6])
        return time(
            0 if hour == 24 else hour,
            int(parts.get("minute") or 0),
            int(parts.get("second") or 0),
            micro,
            _offset(parts.get("zone")),
        )
    except ValueError as error:
        raise NotReadable("not-a-time", f"{text!r} is no time of day: {error}") from error


def _offset(zone: str | None) -> tzinfo | None:
    if not zone:
        return None
    if (match := _OFFSET.fullmatch(zone)) is not None:
        minutes = int(match[2]) * 60 + int(match[3] or 0)
        return timezone(timedelta(minutes=-minutes if match[1] != "+" else minutes))
    if zone.upper() not in _ZONES:
        raise NotReadable(
            "not-a-time", f"{zone!r} is no zone that means one offset", 'zone = "Europe/Paris" says it for the column'
        )
    return timezone(timedelta(minutes=_ZONES[zone.upper()]))


def _in_zone(moment: datetime, zone: tzinfo | None) -> datetime:
    return moment if moment.tzinfo or zone is None else moment.replace(tzinfo=zone)


def _iso_moment(text: str) -> datetime:
    plain = re.sub(r"\s*(?:\[.*\]|\(.*\))$", "", latin_digits(text).strip())
    plain = re.sub(r"^(\d{4}-\d{2}-\d{2})\.(?=\d)", r"\1T", plain)
    try:
        return datetime.fromisoformat(re.sub(r"(\d)\s+([+\-]\d|Z)", r"\1\2", plain))
    except ValueError as error:
        now = 'say how it is written:  format = "d MMMM y HH:mm", locale = "en"'
        raise NotReadable("not-a-date", f"{text!r} is no ISO 8601 date with a time", now) from error


# -- from now

Width = Literal["long", "short", "narrow"]
_WIDTHS: tuple[Width, ...] = ("long", "short", "narrow")
Unit = Literal["second", "minute", "hour", "day", "week", "month", "year"]
_UNITS: dict[Unit, int] = {
    "second": 1,
    "minute": 60,
    "hour": 3600,
    "day": 86_400,
    "week": 7 * 86_400,
    "month": 0,
    "year": 0,
}
_TODAY = {
    "en": ("yesterday", "today", "tomorrow", "just now|now|moments? ago"),
    "de": ("gestern", "heute", "morgen", "gerade eben|jetzt"),
    "fr": ("hier", "aujourd[’']hui", "demain", "à l[’']instant|maintenant"),
    "es": ("ayer", "hoy", "mañana", "ahora|ahora mismo"),
    "it": ("ieri", "oggi", "domani", "ora|adesso"),
    "pt": ("ontem", "hoje", "amanhã", "agora"),
    "nl": ("gisteren", "vandaag", "morgen", "nu"),
    "sv": ("i ?går", "i ?dag", "i ?morgon", "nu"),
    "da": ("i ?går", "i ?dag", "i ?morgen", "nu"),
    "nb": ("i ?går", "i ?dag", "i ?morgen", "nå"),
    "fi": ("eilen", "tänään", "huomenna", "nyt"),
    "pl": ("wczoraj", "dziś|dzisiaj", "jutro", "teraz"),
    "cs": ("včera", "dnes", "zítra", "nyní"),
    "ru": ("вчера", "сегодня", "завтра", "сейчас|только что"),
    "uk": ("вчора|учора", "сьогодні", "завтра", "зараз"),
    "tr": ("dün", "bugün", "yarın", "şimdi"),
    "el": ("χθες|χτες", "σήμερα", "αύριο", "τώρα"),
    "hu": ("tegnap", "ma", "holnap", "most"),
    "ro": ("ieri", "azi|astăzi", "mâine", "acum"),
    "ar": ("أمس", "اليوم", "غد[اًا]*", "الآن"),
    "he": ("אתמול", "היום", "מחר", "עכשיו"),
    "fa": ("دیروز", "امروز", "فردا", "اکنون"),
    "ja": ("昨日|きのう", "今日|本日", "明日", "今"),
    "zh": ("昨天", "今天", "明天", "刚刚|刚才|现在"),
    "ko": ("어제", "오늘", "내일", "방금|지금"),
    "id": ("kemarin", "hari ini", "besok", "sekarang"),
    "vi": ("hôm qua", "hôm nay", "ngày mai", "bây giờ"),
}
_SHORT = re.compile(
    r"(?P<count>\d+|an?|one)\s*(?P<unit>s|secs?|seconds?|m|mins?|minutes?|h|hrs?|hours?|d|days?|w|wks?|weeks?|mo|mos|months?|y|yrs?|years?)"
    r"\.?\s*(?P<ago>ago)",
    re.IGNORECASE,
)
_SHORT_UNITS: dict[str, Unit] = {"s": "second", "m": "minute", "h": "hour", "d": "day", "w": "week", "y": "year"}


def moment_from_now(text: str, locale: str | None, at: float, zone: str | None = None) -> datetime | None:
    """The moment that a text tells from `at` (seconds since 1970): "3 days ago", "yesterday", "in 2 hours"; None for others.

    Words of the locale by CLDR, and of English; days begin in `zone` (default UTC).
    """
    now = datetime.fromtimestamp(at, zone_of(zone) if zone else UTC).replace(microsecond=0)
    plain = " ".join(latin_digits(text).casefold().split())
    language = locale_of(locale).language if locale else "en"
    plain = plain.replace("منذ", "قبل")  # both words of Arabic mean "ago", CLDR has one
    for name in dict.fromkeys((language, "en")):
        for days, words in zip((-1, 0, 1, 0), _TODAY.get(name, ()), strict=False):
            if words and (
                found := re.fullmatch(
                    rf"(?:{words})(?:,?\s*(?:at|um|à|às|alle|om|kl\.?|о|в)?\s*(\d{{1,2}})[:.h](\d{{2}}))?", plain
                )
            ):
                day = now + timedelta(days=days)
                return day.replace(hour=int(found[1]), minute=int(found[2]), second=0) if found[1] else day
    for unit, expression, sign in _relative_patterns(locale or "en"):
        if (match := expression.fullmatch(plain)) is not None:
            return _moved(now, unit, sign * int(match[1]))
    if (match := _SHORT.fullmatch(plain)) is not None:
        word = match["unit"]
        named: Unit = "month" if word.startswith("mo") else _SHORT_UNITS[word[0]]
        count = int(match["count"]) if match["count"].isdecimal() else 1
        return _moved(now, named, -count)
    return None


def _moved(now: datetime, unit: Unit, count: int) -> datetime | None:
    try:
        if _UNITS[unit]:
            return now + timedelta(seconds=count * _UNITS[unit])
        months = now.year * 12 + now.month - 1 + count * (12 if unit == "year" else 1)
        first = date(months // 12, months % 12 + 1, 1)
        after = date((months + 1) // 12, (months + 1) % 12 + 1, 1)
    except (ValueError, OverflowError):
        return None
    return now.replace(year=first.year, month=first.month, day=min(now.day, (after - first).days))


@lru_cache(maxsize=64)
def _relative_patterns(locale: str) -> tuple[tuple[Unit, re.Pattern[str], int], ...]:
    """Unit, expression with the count, and direction, of every way in which the locale tells a time from now (CLDR)."""
    found: dict[str, tuple[Unit, int]] = {}
    seconds: dict[Unit, int] = {**_UNITS, "month": 30 * 86_400 + 43_200, "year": 366 * 86_400}
    for unit, length in seconds.items():
        for count in (1, 2, 3, 5, 8, 11, 21, 100):
            for sign in (-1, 1):
                for width in _WIDTHS:
                    delta = timedelta(seconds=sign * count * length)
                    shown = _told(delta, unit, locale, width, from_now=True)
                    if len(re.findall(r"\d+", shown)) == 1:
                        found.setdefault(re.sub(r"\d+", "\0", shown), (unit, sign))
    return tuple(
        (unit, re.compile(re.escape(shown).replace("\0", r"(\d+)").replace(r"\ ", r"\s*")), sign)
        for shown, (unit, sign) in found.items()
    )


def _told(delta: timedelta, unit: Unit, locale: str, width: Width, *, from_now: bool = False) -> str:
    """A length of time in the locale's words, in one unit; empty where CLDR has none for this width."""
    from babel.dates import format_timedelta

    try:
        shown = format_timedelta(
            delta,
            granularity=unit,
            threshold=10**9,
            add_direction=from_now,
            format=width,
            locale=locale_of(locale),
        )
    except KeyError:
        return ""
    return " ".join(latin_digits(shown).casefold().split())


# -- lengths of time

_ISO_LENGTH = re.compile(
    r"P(?=.)(?:(\d+)Y)?(?:(\d+)M)?(?:(\d+)W)?(?:(\d+)D)?(?:T(?=.)(?:(\d+)H)?(?:(\d+)M)?(?:(\d+(?:[.,]\d+)?)S)?)?", re.I
)
_PART = re.compile(r"(\d+(?:[.,]\d+)?)\s*([^\W\d]+)\.?")
_BETWEEN = re.compile(r"[\s,;+&]*(?:and|und|et|y|e|en|och|og)?[\s,;]*", re.IGNORECASE)
_LENGTH_WORDS = {
    "w": 604_800, "wk": 604_800, "wks": 604_800, "d": 86_400, "h": 3600, "hr": 3600, "hrs": 3600, "std": 3600, "m": 60, "min": 60,
    "mins": 60, "minute": 60, "s": 1, "sec": 1, "secs": 1, "sek": 1, "ms": 0.001,
}  # fmt: skip


def duration_reader(pattern: str | None = None, locale: str | None = None) -> Callable[[str], str]:
    """A function from text to a length of time as ISO 8601 writes it (`PT2H30M`): from ISO 8601, `2 h 30 min`, `1:45:00`.

    `1:45` is in doubt: `format = "H:mm"` or `"mm:ss"` settles it.
    """
    if pattern not in (None, "H:mm", "HH:mm", "mm:ss", "m:ss"):
        raise BadSetting("bad-format", f'format "{pattern}" is none of a length of time', '"H:mm" or "mm:ss"')
    words = _length_words(locale or "en")

    def read(text: str) -> str:
        plain = latin_digits(text).strip()
        if _ISO_LENGTH.fullmatch(plain):
            return plain.upper()
        if (clock := re.fullmatch(r"(\d+):(\d{2})(?::(\d{2}(?:[.,]\d+)?))?", plain)) is not None:
            first, second, third = clock.groups()
            if third is not None:
                return _iso_length(int(first) * 3600 + int(second) * 60 + float(third.replace(",", ".")))
            if pattern is None:
                why = 'format = "H:mm" or "mm:ss" says which'
                raise NotReadable("not-a-duration", f"{text!r} could be hours and minutes, or minutes and seconds", why)
            return _iso_length(
                int(first) * (3600 if "H" in pattern else 60) + int(second) * (60 if "H" in pattern else 1)
            )
        seconds, end = 0.0, 0
        for part in _PART.finditer(plain):
            length = words.get(part[2].casefold())
            if length is None or not _BETWEEN.fullmatch(plain[end : part.start()]):
                break
            seconds, end = seconds + float(part[1].replace(",", ".")) * length, part.end()
        if not end or plain[end:].strip(" ."):
            raise NotReadable(
                "not-a-duration", f"{text!r} is no length of time", "such as  2 h 30 min,  1:45:00,  PT2H30M"
            )
        return _iso_length(seconds)

    return read


@lru_cache(maxsize=64)
def _length_words(locale: str) -> dict[str, float]:
    words: dict[str, float] = dict(_LENGTH_WORDS)
    for unit, length in _UNITS.items():
        for count in (1, 2, 3, 5, 11) if length else ():
            for name in (locale, "en"):
                for width in _WIDTHS:
                    shown = _told(timedelta(seconds=count * length), unit, name, width)
                    word = re.sub(r"[\d\s]", "", shown).rstrip(".")
                    if word:
                        words.setdefault(word, length)
    return words


def _iso_length(seconds: float) -> str:
    whole = round(seconds, 3)
    days, rest = divmod(whole, 86_400)
    hours, rest = divmod(rest, 3600)
    minutes, rest = divmod(rest, 60)
    clock = "".join(
        f"{round(value, 3):g}{mark}" for value, mark in ((hours, "H"), (minutes, "M"), (rest, "S")) if value
    )
    return f"P{f'{days:g}D' if days else ''}{f'T{clock}' if clock else ''}" if whole else "PT0S"
