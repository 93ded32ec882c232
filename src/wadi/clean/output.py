"""Dates, times and moments written out by a pattern of Unicode TR 35, in the words of a locale."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import UTC, date, datetime, time
from typing import Any

from wadi.clean.errors import BadSetting
from wadi.clean.locales import locale_of

_QUOTED = re.compile(r"'[^']*'")
_LETTER = re.compile(r"[A-Za-z]")
WRITTEN_OUT = frozenset({"date", "datetime", "time"})
"""The types whose values can be written out so."""


def output_of(pattern: str, locale: str | None) -> Callable[[Any], Any]:
    """A function from a date, time or moment to its text; what is none of these stays as it is. Raises BadSetting."""
    from babel.dates import PATTERN_CHARS, parse_pattern

    words = locale_of(locale or "en")
    try:
        if unknown := [letter for letter in _LETTER.findall(_QUOTED.sub("", pattern)) if letter not in PATTERN_CHARS]:
            raise ValueError(f'"{unknown[0]}" is no letter of a pattern; words stand in quotes')
        parsed = parse_pattern(pattern)
        parsed.apply(datetime(2026, 11, 3, 14, 5, tzinfo=UTC), words)
    except (ValueError, KeyError, AttributeError, NotImplementedError) as error:
        what = f'output = "{pattern}" cannot be read: {error}'
        raise BadSetting("bad-format", what, 'letters of TR 35:  "yyyy-MM-dd HH:mm",  "d MMMM y"') from error

    def written(value: Any) -> Any:
        # A date has no hours and a time no day: lint refuses patterns that ask for them.
        return str(parsed.apply(value, words)) if isinstance(value, date | time) else value

    return written


def asks_beyond(pattern: str, kind: str) -> str:
    """The letters of a pattern that a date (hours, zones) or a time (days, zones) has nothing for; empty where there are none."""
    from babel.dates import tokenize_pattern

    letters = {field[0] for what, field in tokenize_pattern(pattern) if what == "field"}
    of_times, of_zones = set("abBhHKkmsSA"), set("zZOvVXx")
    known = {"date": lambda letter: letter not in of_times | of_zones, "time": lambda letter: letter in of_times}.get(
        kind
    )
    return "".join(sorted(letter for letter in letters if known is not None and not known(letter)))
