"""The steps of `adjust`: from a number or a date to the same, `VERB ARGUMENT…`.

A new one is a function and a line in ADJUSTMENTS.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Callable
from datetime import UTC, date, datetime, timedelta, timezone, tzinfo
from decimal import ROUND_HALF_EVEN, Decimal
from math import isinf
from typing import Any

from wadi.clean.errors import BadSetting, NotReadable
from wadi.clean.steps import Functions, called
from wadi.problems import listed, nearest

Adjustment = Callable[[Any], Any]


def _number(make: Callable[[Decimal, Decimal], Decimal]) -> Callable[[str], Adjustment]:
    """A step with a number: reckoned in decimals, so that 0.1 stays 0.1."""

    def with_argument(argument: str) -> Adjustment:
        try:
            other = Decimal(argument)
        except ArithmeticError as error:
            raise BadSetting("bad-step", f"{argument!r} is no number", "write it with a point: 0.001") from error

        def adjust(value: Any) -> Any:
            if isinstance(value, bool) or not isinstance(value, int | float):
                raise NotReadable("formula-failed", f"{value!r} is no number to reckon with")
            try:
                result = make(Decimal(repr(value)), other)
                if isinf(float(result)):
                    raise OverflowError
            except (ArithmeticError, OverflowError) as error:
                raise NotReadable("formula-failed", f"{value!r} and {argument} give no number of 64 bits") from error
            return int(result) if isinstance(value, int) and result == result.to_integral_value() else float(result)

        return adjust

    return with_argument


def _divided(value: Decimal, other: Decimal) -> Decimal:
    if not other:
        raise NotReadable("formula-failed", "divided by 0")
    return value / other


def _rounded(value: Decimal, digits: Decimal) -> Decimal:
    return value.quantize(Decimal(1).scaleb(-int(digits)), ROUND_HALF_EVEN)


def _round(argument: str) -> Adjustment:
    if not re.fullmatch(r"-?\d{1,2}", argument):
        raise BadSetting("bad-step", f"{argument!r} is no number of digits after the point")
    return _number(_rounded)(argument)


def _days(argument: str) -> Adjustment:
    try:
        delta = timedelta(days=int(argument))
    except (ValueError, OverflowError) as error:
        raise BadSetting("bad-step", f"{argument!r} is no whole number of days that a date can have") from error

    def adjust(value: Any) -> Any:
        if not isinstance(value, date):
            raise NotReadable("formula-failed", f"{value!r} is no date")
        try:
            return value + delta
        except OverflowError as error:
            raise NotReadable(
                "formula-failed", f"{value!r} and {argument} days give no date of the calendar"
            ) from error

    return adjust


_OFFSET = re.compile(r"([+-])(\d{2}):?(\d{2})")


def _in_zone(argument: str) -> Adjustment:
    zone = _zone(argument)

    def adjust(value: Any) -> Any:
        if not isinstance(value, datetime) or value.tzinfo is None:
            now = 'zone = "…" says where texts that name none are from'
            raise NotReadable(
                "formula-failed", f"{value!r} is no moment with a zone, which could be told in another", now
            )
        return value.astimezone(zone)

    return adjust


def _zone(name: str) -> tzinfo:
    """The zone of `UTC`, an offset such as `+02:00`, or an IANA name. Raises BadSetting."""
    from wadi.clean.times import zone_of

    if name in ("UTC", "Z"):
        return UTC
    if (found := _OFFSET.fullmatch(name)) is None:
        return zone_of(name)
    minutes = int(found[2]) * 60 + int(found[3])
    if minutes >= 24 * 60 or int(found[3]) > 59:
        raise BadSetting("bad-step", f"{name!r} is no offset from UTC", "write it so: +02:00")
    return timezone(timedelta(minutes=minutes if found[1] == "+" else -minutes))


ADJUSTMENTS: dict[str, tuple[Callable[[str], Adjustment], str, str]] = {
    "*": (_number(lambda value, other: value * other), "NUMBER", "multiplied by NUMBER"),
    "/": (_number(_divided), "NUMBER", "divided by NUMBER"),
    "+": (_number(lambda value, other: value + other), "NUMBER", "NUMBER added"),
    "-": (_number(lambda value, other: value - other), "NUMBER", "NUMBER taken away"),
    "round": (_round, "DIGITS", "rounded to DIGITS after the point, halves to even"),
    "add-days": (_days, "DAYS", "of a date: so many days later; earlier when negative"),
    "in-zone": (_in_zone, "ZONE", "of a moment: the same in another zone: UTC, +02:00, Europe/Paris"),
    "call": (lambda name: called(name, {}), "FUNCTION", "what a function of the plan's code makes of the value"),
}


def adjustment_of(sentence: str, functions: Functions | None = None) -> Adjustment:
    """The function that a sentence stands for. Raises BadSetting."""
    try:
        words = shlex.split(sentence)
    except ValueError as error:
        raise BadSetting("bad-step", f"step {sentence!r} has a quote that is not closed") from error
    name = words[0] if words else ""
    if name not in ADJUSTMENTS:
        near = nearest(name, ADJUSTMENTS)
        now = f'did you mean "{near}"?' if near else f"verbs: {listed(ADJUSTMENTS, 99)}"
        raise BadSetting("bad-step", f'step {sentence!r}: there is no verb "{name}" of adjust', now, offset=0)
    make, argument, _ = ADJUSTMENTS[name]
    if len(words) != 2:
        raise BadSetting("bad-step", f"step {sentence!r} has {len(words) - 1} arguments", f"write:  {name} {argument}")
    return called(words[1], functions) if name == "call" else make(words[1])
