"""Further records of the office: gaugings of springs, inspections, parishes, the yearbook. Made from the same springs."""

from __future__ import annotations

import random
from dataclasses import dataclass
from datetime import date, timedelta
from functools import cache

from wadi.demo.world import DISTRICTS, District, Spring, springs, springs_in

_BASINS = ("North basin", "South basin")
_REMARKS = ("Weir cleared of gravel.", "Lock replaced.", "Moss on the sill, reading taken twice.", "")
_PARISHES = ("Upper End", "Mill Side", "Church Field")


@dataclass(frozen=True, slots=True)
class Gauging:
    """A measurement of a spring's flow on a day."""

    spring: Spring
    day: date
    flow_lps: float


@dataclass(frozen=True, slots=True)
class Inspection:
    """A visit to a spring: who came, and what was found (an empty remark for nothing)."""

    spring: Spring
    day: date
    keeper: str
    remark: str


@dataclass(frozen=True, slots=True)
class YearbookLine:
    """The lowest and the highest flow of a spring in a year, below the basin that it feeds."""

    district: District
    basin: str
    spring: Spring
    low_lps: float
    high_lps: float


@cache
def gaugings(spring: Spring) -> tuple[Gauging, ...]:
    """Up to four gaugings of a spring, the latest first; none where it was never gauged."""
    rng = random.Random(spring.number * 31)
    count = 0 if spring.flow_lps is None else int(rng.random() * 5)
    flow = spring.flow_lps or 0.0
    made = []
    for number in range(count):
        day = date(2026, 9, 20) - timedelta(days=int(rng.random() * 60) + number * 180)
        made.append(Gauging(spring, day, round(flow * (0.8 + rng.random() * 0.4), 1)))
    return tuple(made)


@cache
def inspections() -> tuple[Inspection, ...]:
    """Thirty inspections, grouped by district in the order of the districts."""
    rng = random.Random(5)
    made = []
    for district in DISTRICTS:
        for spring in springs_in(district)[:5]:
            keeper = spring.keepers[0] if spring.keepers else "the office"
            remark = _REMARKS[int(rng.random() * len(_REMARKS))]
            made.append(Inspection(spring, date(2026, 8, 1) + timedelta(days=int(rng.random() * 60)), keeper, remark))
    return tuple(made)


@cache
def yearbook() -> tuple[YearbookLine, ...]:
    """Four springs of every district, two for each basin."""
    rng = random.Random(13)
    made = []
    for district in DISTRICTS:
        flowing = [spring for spring in springs_in(district) if spring.flow_lps][:4]
        for place, spring in enumerate(flowing):
            flow = spring.flow_lps or 0.0
            low, high = round(flow * (0.3 + rng.random() * 0.4), 1), round(flow * (1.1 + rng.random()), 1)
            made.append(YearbookLine(district, _BASINS[place // 2], spring, low, high))
    return tuple(made)


def parishes(district: District) -> dict[str, list[Spring]]:
    """The parishes of a district with their springs: every third spring of it by name."""
    springs = springs_in(district)[:12]
    return {f"{district.slug}-{number + 1}": springs[number :: len(_PARISHES)] for number in range(len(_PARISHES))}


def parish_name(slug: str) -> str:
    """The name of a parish; raises KeyError for one that is not there."""
    names = {
        f"{district.slug}-{n + 1}": f"{district.name}, {name}"
        for district in DISTRICTS
        for n, name in enumerate(_PARISHES)
    }
    return names[slug]


def old_springs() -> list[Spring]:
    """Those registered before 1940, in the order of the register."""
    return [spring for spring in springs() if spring.registered.year < 1940]


def photographed() -> list[Spring]:
    """The first 24 springs that have a photograph."""
    return [spring for spring in springs() if spring.has_photo][:24]


def chosen(district: str | None, kind: str | None) -> list[Spring]:
    """The springs of a district and a kind; None leaves either open."""
    return [s for s in springs() if district in (None, "", s.district.slug) and kind in (None, "", s.kind)]
