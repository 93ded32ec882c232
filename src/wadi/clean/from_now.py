"""Dates and moments told from now ("3 days ago", "yesterday at 5 pm"), by the words of CLDR and of people."""

from __future__ import annotations

import re
from datetime import UTC, date, datetime, timedelta
from functools import lru_cache
from typing import Literal

from wadi.clean.errors import NotReadable
from wadi.clean.locales import locale_of
from wadi.clean.text import latin_digits
from wadi.clean.times import time_reader, zone_of

Width = Literal["long", "short", "narrow"]
WIDTHS: tuple[Width, ...] = ("long", "short", "narrow")
Unit = Literal["second", "minute", "hour", "day", "week", "month", "year"]
UNITS: dict[Unit, int] = {
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
    "hi": ("बीता कल", "आज", "आने वाला कल", "अभी"),
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
            if words and (found := re.match(rf"(?:{words.casefold()})(?!\w)", plain)) is not None:
                day, rest = now + timedelta(days=days), plain[found.end() :].lstrip(" ,")
                return day if not rest else _at_time(day, rest, locale, zone)
    for unit, expression, sign in _relative_patterns(locale or "en"):
        if (match := expression.fullmatch(plain)) is not None:
            return _moved(now, unit, sign * int(match[1]))
    if (match := _SHORT.fullmatch(plain)) is not None:
        word = match["unit"]
        named: Unit = "month" if word.startswith("mo") else _SHORT_UNITS[word[0]]
        count = int(match["count"]) if match["count"].isdecimal() else 1
        return _moved(now, named, -count)
    return None


def _at_time(day: datetime, text: str, locale: str | None, zone: str | None) -> datetime | None:
    """That day at a time; without a zone it is local to the site, as other texts of the column are."""
    try:
        clock = time_reader(None, locale)(text)
    except NotReadable:
        return None
    moment = datetime.combine(day.date(), clock)
    return moment if clock.tzinfo or not zone else moment.replace(tzinfo=zone_of(zone))


def _moved(now: datetime, unit: Unit, count: int) -> datetime | None:
    try:
        if UNITS[unit]:
            return now + timedelta(seconds=count * UNITS[unit])
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
    seconds: dict[Unit, int] = {**UNITS, "month": 30 * 86_400 + 43_200, "year": 366 * 86_400}
    for unit, length in seconds.items():
        for count in (1, 2, 3, 5, 8, 11, 21, 100):
            for sign in (-1, 1):
                for width in WIDTHS:
                    delta = timedelta(seconds=sign * count * length)
                    shown = told(delta, unit, locale, width, from_now=True)
                    if len(re.findall(r"\d+", shown)) == 1:
                        found.setdefault(re.sub(r"\d+", "\0", shown), (unit, sign))
    return tuple(
        (unit, re.compile(re.escape(shown).replace("\0", r"(\d+)").replace(r"\ ", r"\s*")), sign)
        for shown, (unit, sign) in found.items()
    )


def told(delta: timedelta, unit: Unit, locale: str, width: Width, *, from_now: bool = False) -> str:
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
