"""How the office's web site writes its data: numbers, dates, and the traces that word processors leave in text."""

from __future__ import annotations

from datetime import date

from wadi.demo.world import Spring

NBSP, SOFT_HYPHEN = "\u00a0", "\u00ad"
_MONTHS = ("January February March April May June July August September October November December").split()
MARKS = {"flowing": "●", "seasonal": "◐", "dry": "○"}


def flow(spring: Spring) -> str:
    """`1 472,5 l/s` with a no-break blank between thousands; a dash where the spring was never gauged."""
    if spring.flow_lps is None:
        return "—"
    whole, _, tenth = f"{spring.flow_lps:.1f}".partition(".")
    grouped = f"{int(whole):,}".replace(",", NBSP)
    return f"{grouped},{tenth}{NBSP}l/s"


def flow_redesigned(spring: Spring) -> str:
    """`1,472.5 litres/s`, as the second edition of the register has it."""
    return "" if spring.flow_lps is None else f"{spring.flow_lps:,.1f} litres/s"


def depth(spring: Spring) -> str:
    """`12.40 m`, or an empty-looking no-break blank."""
    return NBSP if spring.depth_m is None else f"{spring.depth_m:.2f} m"


def written(day: date) -> str:
    """`3 March 2021`."""
    return f"{day.day} {_MONTHS[day.month - 1]} {day.year}"


def altitude(spring: Spring) -> str:
    return "n/a" if spring.altitude_m is None else f"{spring.altitude_m} m"


def temperature(spring: Spring) -> str:
    return "" if spring.temperature_c is None else f"{spring.temperature_c:.1f} °C"


def name(spring: Spring) -> str:
    """The name as some clerk typed it: blanks doubled, a no-break blank, or a soft hyphen inside a long word."""
    trace = spring.number % 5
    if trace == 0:
        return spring.name.replace(" ", NBSP, 1)
    if trace == 1:
        return spring.name.replace(" ", "\n          ", 1)
    if trace == 2:
        return f"{spring.name[:3]}{SOFT_HYPHEN}{spring.name[3:]}"
    return spring.name


def note(spring: Spring) -> str:
    """The note; some were pasted with a control character and a zero-width blank in them."""
    text = spring.note or ""
    return f"{text[:6]}\x0b{text[6:12]}\u200b{text[12:]}" if spring.number % 3 == 0 else text
