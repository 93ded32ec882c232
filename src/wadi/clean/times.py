"""Times of the day, and dates with a time: by patterns of Unicode TR 35, the ways of a locale, ISO 8601, RFC 5322.

A time of the day needs minutes, or a word that says that it is one (`2 pm`, `14 Uhr`). 24:00 is the next day's 0:00 in a date
with a time; alone it is refused. Refused are hours after noon beyond 12, zones that mean several offsets, dates without a time.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from datetime import UTC, date, datetime, time, timedelta, timezone, tzinfo
from decimal import Decimal
from functools import lru_cache, partial
from typing import NamedTuple

from wadi.clean.dates import ZONE, DatePattern, date_in, date_of, date_pattern, date_patterns
from wadi.clean.errors import BadSetting, NotReadable
from wadi.clean.hints import how_to_read
from wadi.clean.locales import day_periods, is_after_noon, locale_of
from wadi.clean.text import latin_digits

_LENGTHS = ("full", "long", "medium", "short")
_WITH_TIME = ("year", "month", "day", "hour")
_NAMED_TIMES = {"midnight": time(0), "12 midnight": time(0), "noon": time(12), "12 noon": time(12), "midday": time(12)}
_CONNECTORS = r"@|at|on|um|à|a las|a la|alle ore|alle|ore|às|as|om|kl\.?|klo|o|ob|в|о|godz\.?|saat|kell|lúc|v|ve"
_CONNECTOR = re.compile(rf"\A[\s,;|·–—-]*(?:(?:{_CONNECTORS})\s+)?", re.IGNORECASE)
_TRAILING = re.compile(rf"(?:\s+(?:{_CONNECTORS}))?[\s,;|·–—-]*\Z", re.IGNORECASE)
_OFFSET = re.compile(r"(?:UTC|GMT)?([+\-\u2212])(\d{1,2}):?(\d{2})?")
# Short names of zones are not unique in the world; these are the common readings of the ones that mean one offset.
_ZONES = {"Z": 0, "UTC": 0, "GMT": 0, "WET": 0, "WEST": 60, "BST": 60, "CET": 60, "CEST": 120, "EET": 120, "EEST": 180,
          "MSK": 180, "EST": -300, "EDT": -240, "CDT": -300, "MST": -420, "MDT": -360, "PST": -480, "PDT": -420,
          "MEZ": 60, "MESZ": 120, "JST": 540, "KST": 540, "AEST": 600, "AEDT": 660, "NZST": 720, "NZDT": 780}  # fmt: skip
_ISO_LIKE = re.compile(r"\d{4}-\d{2}-\d{2}(?:[T .]\s?\d|$)|\d{8}(?:T\d|$)")
_ISO_PLAIN = re.compile(r"\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}(?::\d{2}(?:\.\d{3}(?:\d{3})?)?)?(?:Z|[+-]\d{2}:\d{2})?")
# 8:00-12:00 is a time with an offset to a standard, and opening hours to everybody else.
_SPAN = re.compile(r"(?<!T)(?:^|\s)\d{1,2}:\d{2}\s?[-\u2212–]\s?\d{1,2}:?\d{2}$")
_MIDNIGHT = re.compile(r"([T ])24:?00(?::?00(?:\.0+)?)?(?=$|[Z+\- ])")
_RFC_5322 = re.compile(
    r"(?:[A-Za-z]{3},\s*)?\d{1,2} [A-Za-z]{3} \d{4} \d{2}:\d{2}(?::\d{2})? (?:[A-Z]{1,4}|[+-]\d{4})(?: \(.*\))?"
)
_ENGLISH_DAYS = ("EEE, d MMM y", "d MMM y", "EEE MMM d y")
_CTIME = re.compile(r"(?P<day>[A-Z][a-z]{2} [A-Z][a-z]{2} {1,2}\d{1,2}) (?P<clock>\d{2}:\d{2}:\d{2}) (?P<year>\d{4})")
_SCRIPT = re.compile(
    r"(?P<day>[A-Z][a-z]{2} [A-Z][a-z]{2} \d{2}) (?P<year>\d{4}) (?P<clock>\d{2}:\d{2}:\d{2}) GMT(?P<zone>[+-]\d{4})(?: \(.*\))?"
)


class _Clock(NamedTuple):
    """A time of the day; `is_next_day`: 24:00."""

    time: time
    is_next_day: bool


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
    """A function from text to a moment: by a pattern of TR 35, the ways of a locale, ISO 8601 (RFC 3339 included), RFC 5322.

    What has no offset of its own is in `zone`; without one it stays local. Raises BadSetting; the function NotReadable.
    """
    local = zone_of(zone) if zone else None
    name = locale or "en"
    if pattern in _UNIX:
        return partial(_unix_moment, pattern, local)
    if pattern is not None:
        form = date_pattern(pattern, locale, _needs(pattern))
        return lambda text: _in_zone(_by_pattern(form, text, this_year), local)

    def read(text: str) -> datetime:
        plain = latin_digits(text).replace("\u202f", " ").strip()
        moment, why = None, None
        if _ISO_LIKE.match(plain):
            try:
                return _in_zone(_iso_moment(plain, text), local)
            except NotReadable as error:
                why = error
        moment = _standard_moment(plain, text, this_year)
        if moment is None:
            moment = _by_parts(plain, date_patterns(locale), name, text, this_year)
        if moment is None and locale is not None:
            moment = _by_cldr(plain, name, text, this_year)
        if moment is None and why is not None:
            raise why
        if moment is None:
            what = f'locale "{locale}"' if locale else "ISO 8601"
            raise NotReadable("not-a-date", f"{text[:60]!r} is no date with a time in {what}", how_to_read(text))
        return _in_zone(moment, local)

    return read


_UNIX = {"unix": 1, "unix ms": 1000}
"""Formats of moments that are counted: since 1970, in how many parts of a second (POSIX.1-2017 §4.16)."""
_UNIX_NUMBER = re.compile(r"-?[0-9]{1,16}(?:\.[0-9]{1,9})?", re.ASCII)
_LAST_UNIX, _LEAST_UNIX_MS = 10**10, 10**11


def _unix_moment(unit: str, zone: tzinfo | None, text: str) -> datetime:
    """A moment that is counted from 1970. Raises NotReadable, too, where the count is more likely one in the other unit."""
    plain = latin_digits(text).strip()
    if _UNIX_NUMBER.fullmatch(plain) is None:
        raise NotReadable("not-a-date", f"{text[:60]!r} is no time counted from 1970", how_to_read(text))
    count = Decimal(plain)
    if abs(count) > _LAST_UNIX if unit == "unix" else abs(count) < _LEAST_UNIX_MS or abs(count) > _LAST_UNIX * 1000:
        other = "unix ms" if unit == "unix" else "unix"
        what = f"{text[:60]!r} is no likely count of {'seconds' if unit == 'unix' else 'milliseconds'} since 1970"
        raise NotReadable("not-a-date", what, f'format = "{other}"  reads the other unit')
    micro = int(count * 1_000_000 / _UNIX[unit])
    return (_EPOCH + timedelta(microseconds=micro)).astimezone(zone or UTC)


_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def time_reader(pattern: str | None = None, locale: str | None = None) -> Callable[[str], time]:
    """A function from text to a time of day, by a pattern, the ways of a locale, or as `14:05`, `2:05 pm`, `14h05`, `2pm`."""
    name = locale or "en"
    form = date_pattern(pattern, locale, (_needs(pattern)[-1],)) if pattern else None

    def read(text: str) -> time:
        plain = latin_digits(text).replace("\u202f", " ").strip()
        clock = None
        if form is not None:
            clock = _clock_of(found, name, text) if (found := form.expression.fullmatch(plain)) is not None else None
        else:
            clock = _clock_in(plain[_leading(plain) :], name, text)
        if clock is None:
            raise NotReadable(
                "not-a-time", f"{text[:60]!r} is no time of day", 'format = "HH:mm" says how it is written'
            )
        if clock.is_next_day:
            why = "24:00 is the 0:00 of another day, which a time of day cannot say"
            raise NotReadable("not-a-time", f"{text[:60]!r} is no time of one day", why)
        return clock.time

    return read


def _leading(plain: str) -> int:
    found = _CONNECTOR.match(plain)
    return found.end() if found is not None and plain[: found.end()].replace(" ", "").rstrip(".").isalpha() else 0


def _needs(pattern: str) -> tuple[str, ...]:
    plain = re.sub(r"'[^']*'", "", pattern)
    return (*_WITH_TIME[:3], "hour12" if re.search(r"[hK]", plain) else "hour")


@lru_cache(maxsize=256)
def _clock_expression(locale: str) -> re.Pattern[str]:
    """A time of the day as people write it, whatever stands between its parts."""
    periods = "|".join(re.escape(period) for period in day_periods(locale))
    in_brackets = ZONE.replace("zone", "in_brackets")
    return re.compile(
        rf"(?:(?P<early>{periods})\s*)?(?P<hour>\d{{1,2}})(?:(?P<mark>\s?[:.h]\s?(?=\d\d)|\s?[時时点點시]\s?)(?P<minute>\d{{1,2}})(?!\d)"
        r"(?:\s?[:.分분]\s?(?P<second>\d{2})(?:[.,](?P<fraction>\d{1,9}))?(?!\d))?\s?[分秒분초]?)?"
        rf"\s*(?:(?P<late>{periods})|(?P<word>Uhr|h|hrs?|uur|час(?:ов|а)?|時|时|시|ч\.?))?(?:\s*{ZONE}|\s*\({in_brackets}\))?",
        re.IGNORECASE,
    )


@lru_cache(maxsize=256)
def _clock_patterns(locale: str) -> list[DatePattern]:
    formats = locale_of(locale).time_formats
    named = [str(formats[length].pattern).replace("\u202f", " ") for length in _LENGTHS]
    return [date_pattern(form, locale, (_needs(form)[-1],)) for form in dict.fromkeys(named)]


def _clock_in(plain: str, locale: str, text: str) -> _Clock | None:
    """The time of the day that a text with Latin digits is; None where it is none. Raises NotReadable for an impossible one."""
    if (known := _NAMED_TIMES.get(plain.casefold())) is not None:
        return _Clock(known, is_next_day=False)
    if _SPAN.search(plain) is not None:
        raise NotReadable("not-a-time", f"{text[:60]!r} could be two times, or one with an offset from UTC")
    found = _clock_expression(locale).fullmatch(plain)
    if found is not None and (found["minute"] or found["early"] or found["late"] or found["word"]):
        return _clock_of(found, locale, text)
    for form in _clock_patterns(locale):
        if (found := form.expression.fullmatch(plain)) is not None:
            return _clock_of(found, locale, text)
    return None


def _clock_of(found: re.Match[str], locale: str, text: str) -> _Clock:
    parts = found.groupdict()
    period = parts.get("period") or parts.get("early") or parts.get("late")
    hour = int(parts.get("hour") or parts.get("hour12") or 0)
    minute, second = int(parts.get("minute") or 0), int(parts.get("second") or 0)
    is_after = is_after_noon(period, locale) if period else False
    try:
        if period and (hour > 12 or (hour == 0 and is_after)):
            raise ValueError(f"there is no hour {hour} {period}")
        if period or parts.get("hour12") is not None:
            hour = hour % 12 + (12 if is_after else 0)
        is_next_day = hour == 24 and not minute and not second
        micro = int((parts.get("fraction") or "0").ljust(6, "0")[:6])
        clock = time(
            0 if is_next_day else hour, minute, second, micro, _offset(parts.get("zone") or parts.get("in_brackets"))
        )
    except ValueError as error:
        if isinstance(error, NotReadable):
            raise
        raise NotReadable("not-a-time", f"{text[:60]!r} is no time of day: {error}") from error
    return _Clock(clock, is_next_day)


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


def _joined(day: date, clock: _Clock) -> datetime:
    moment = datetime.combine(day, clock.time)
    return moment + timedelta(days=1) if clock.is_next_day else moment


def _by_pattern(form: DatePattern, text: str, this_year: int | None) -> datetime:
    plain = latin_digits(text).replace("\u202f", " ").strip()
    found = form.expression.fullmatch(plain)
    day = date_of(found, form.locale, text, this_year) if found is not None else None
    if found is None or day is None:
        raise NotReadable(
            "not-a-date", f'{text[:60]!r} is no date with a time in format "{form.pattern}"', how_to_read(text)
        )
    return _joined(day, _clock_of(found, form.locale, text))


def _by_parts(
    plain: str, patterns: list[DatePattern], locale: str, text: str, this_year: int | None
) -> datetime | None:
    """A date and a time, one after the other, with a comma, a dash or a word between them; None where the text is not that."""
    for day_text, clock_text in _splits(plain):
        clock = _clock_in(clock_text, locale, text)
        day = date_in(day_text, patterns, text, this_year) if clock is not None else None
        if clock is not None and day is not None:
            return _joined(day, clock)
    return None


_BOUNDARY = re.compile(r"(?<=[\s日일.,])(?=[^\s,])|(?<=年)(?=\d)")
_MOST_BOUNDARIES = 20
_DAY_THEN_CLOCK = re.compile(r"(\S.*?\d{2,4}\.?),?\s+(\d{1,2}:\d{2}(?::\d{2})?(?:\s?[AaPp]\.?[Mm]\.?)?)")
"""As nearly all are written; tried first, and no other way than those below."""
_CLOCK_LIKE = re.compile(
    r"\D{0,12}\d{1,2}(?:\s?[:.h時时시]\s?\d{2}(?!\d)[^/]{0,24}|\s*[^\W\d_][^\d/]{0,12}(?:[A-Z]{0,3}[+-]\d.*)?)|noon|midday|midnight",
    re.IGNORECASE,
)


def _splits(plain: str) -> Iterator[tuple[str, str]]:
    """What may be a date, and what looks like a time behind or before it, the words between them left out."""
    if (usual := _DAY_THEN_CLOCK.fullmatch(plain)) is not None:
        yield usual[1], usual[2]
    for number, boundary in enumerate(_BOUNDARY.finditer(plain)):
        if number > _MOST_BOUNDARIES:
            return
        left, right = plain[: boundary.start()], plain[boundary.start() :]
        if _CLOCK_LIKE.fullmatch(right) is not None:
            yield _TRAILING.sub("", left), _CONNECTOR.sub("", right, count=1)
        if _CLOCK_LIKE.match(left) is not None and _CLOCK_LIKE.fullmatch(clock := _TRAILING.sub("", left)) is not None:
            yield _CONNECTOR.sub("", right, count=1), clock


@lru_cache(maxsize=64)
def _cldr_patterns(locale: str) -> list[DatePattern]:
    dates, joined = locale_of(locale).date_formats, locale_of(locale).datetime_formats
    times = [str(locale_of(locale).time_formats[length].pattern).replace("\u202f", " ") for length in _LENGTHS]
    named = [
        str(joined[length]).replace("{1}", str(dates[length].pattern)).replace("{0}", form)
        for length in _LENGTHS
        for form in times
    ]
    return [date_pattern(form, locale, _needs(form)) for form in dict.fromkeys(named)]


def _by_cldr(plain: str, locale: str, text: str, this_year: int | None) -> datetime | None:
    """A moment by one of the patterns in which CLDR joins a date and a time."""
    for form in _cldr_patterns(locale):
        if (found := form.expression.fullmatch(plain)) is not None:
            day = date_of(found, locale, text, this_year)
            if day is not None:
                return _joined(day, _clock_of(found, locale, text))
    return None


def _iso_moment(plain: str, text: str) -> datetime:
    if _SPAN.search(plain) is not None:
        raise NotReadable("not-a-time", f"{text[:60]!r} could be two times, or one with an offset from UTC")
    if _ISO_PLAIN.fullmatch(plain) is not None:
        try:
            return datetime.fromisoformat(plain)
        except ValueError:
            pass  # 24:00, or a reason that is told below
    plain = re.sub(r"\s*(?:\[.*\]|\(.*\))$", "", plain)
    plain = re.sub(r"^(\d{4}-\d{2}-\d{2})\.(?=\d)", r"\1T", plain)
    plain = re.sub(r"(\d)\s*(?:UTC|GMT)$", r"\1Z", plain)
    is_next_day = _MIDNIGHT.search(plain) is not None
    plain = re.sub(r"(\d)\s+([+\-]\d|Z)", r"\1\2", _MIDNIGHT.sub(r"\g<1>00:00", plain))
    if re.fullmatch(r"[\d-]{8,10}", plain):
        raise NotReadable("not-a-date", f"{text[:60]!r} names no time", 'type = "date" reads the day alone')
    try:
        moment = datetime.fromisoformat(plain)
    except ValueError as error:
        raise NotReadable("not-a-date", f"{text[:60]!r} is no ISO 8601 date with a time", how_to_read(text)) from error
    return moment + timedelta(days=1) if is_next_day else moment


def _standard_moment(plain: str, text: str, this_year: int | None) -> datetime | None:
    """A date with a time as mail and feeds (RFC 5322 §3.3), HTTP (RFC 9110 §5.6.7, asctime) and scripts (ECMA-262 §21.4.4.41)
    write it, in English whatever the locale."""
    if _RFC_5322.fullmatch(plain) is not None:
        day_text, clock_text, zone = re.sub(r" \(.*\)$", "", plain).rsplit(" ", 2)
        clock_text = f"{clock_text} {zone}"
    elif (found := _CTIME.fullmatch(plain) or _SCRIPT.fullmatch(plain)) is not None:
        day_text = f"{' '.join(found['day'].split())} {found['year']}"
        clock_text = f"{found['clock']} {found.groupdict().get('zone') or ''}".strip()
    else:
        return None
    day = date_in(day_text, [date_pattern(form, "en") for form in _ENGLISH_DAYS], text, this_year)
    clock = _clock_in(clock_text, "en", text)
    return _joined(day, clock) if day is not None and clock is not None else None
