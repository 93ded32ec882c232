"""What else the office publishes: water levels, gauges, notices, partner offices. Made from the same springs."""

from __future__ import annotations

import random
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from functools import cache
from typing import Any

from wadi.demo.world import Spring, springs

GAUGE_PAGE_ROWS = 20
_FIRST_DAY = date(2026, 10, 1)
_SUBJECTS = (
    ("Sampling week", "Some pools are closed while the office takes samples. Follow the signs on site."),
    ("New gauge", "A gauge with hourly readings was set up; its values stand among the water levels."),
    ("Low water", "After dry weeks the flow is below a tenth of the mean. Please draw sparingly."),
    ("Trough repaired", "The parish has mended the trough; the overflow runs free again."),
    ("Path closed", "The path to the spring is closed after heavy rain. A detour is marked."),
)
_PARTNERS = (
    ("青葉水道局", "青葉", "12"),
    ("白滝泉保存会", "白滝", "7"),
    ("湧水の里", "水沢", "31"),
    ("名水研究所", "清水町", "18"),
    ("井戸端組合", "古井", "5"),
)  # fmt: skip
REGIONS = {"north": "127.0.0.2", "south": "127.0.0.3"}
"""The regions that pay otherwise, and the addresses of this machine from which they ask."""
_TARIFFS = (
    ("Connection", 180.0, "house"),
    ("Spring water", 0.42, "m³"),
    ("Well water", 0.31, "m³"),
    ("Sampling", 24.5, "visit"),
    ("Trough licence", 12.0, "year"),
    ("Gauge reading", 3.8, "visit"),
)
_FACTORS = {"north": 1.25, "south": 0.8}


@dataclass(frozen=True, slots=True)
class Level:
    """A water level: the spring, metres above its mark, when it was read."""

    spring: Spring
    level_m: float
    read_at: datetime


@dataclass(frozen=True, slots=True)
class Notice:
    number: int
    title: str
    text: str
    day: date
    spring: Spring


@cache
def levels() -> tuple[Level, ...]:
    """The latest level of 25 springs."""
    rng = random.Random(7)
    midnight = datetime.combine(date(2026, 11, 2), time())
    made = []
    for spring in springs()[::14][:25]:
        level = round(rng.random() * 3 - 0.5, 3)
        made.append(Level(spring, level, midnight + timedelta(minutes=int(rng.random() * 1440))))
    return tuple(made)


def levels_json() -> dict[str, Any]:
    """The levels as the office's JSON service gives them."""
    rows = [
        {
            "code": level.spring.code,
            "name": level.spring.name,
            "level_m": level.level_m,
            "read_at": level.read_at.isoformat(),
        }
        for level in levels()
    ]
    return {"updated": "2026-11-03T06:00:00", "count": len(rows), "levels": rows}


@cache
def gauged() -> tuple[Spring, ...]:
    """The springs with a gauge: those that flow more than 30 litres a second, in the order of the register."""
    return tuple(spring for spring in springs() if (spring.flow_lps or 0) > 30)


def gauges_json(page: int) -> dict[str, Any]:
    """A page of the gauges, numbered from 1, with what a client needs to go on."""
    first = (page - 1) * GAUGE_PAGE_ROWS
    rows = gauged()[first : first + GAUGE_PAGE_ROWS]
    more = first + GAUGE_PAGE_ROWS < len(gauged())
    items = [
        {
            "code": spring.code,
            "spring": {"name": spring.name, "district": spring.district.slug},
            "flow_lps": spring.flow_lps,
            "temperature": spring.temperature_c,
            "keepers": list(spring.keepers),
        }
        for spring in rows
    ]
    following = f"/api/gauges?page={page + 1}" if more else None
    return {"total": len(gauged()), "page": page, "has_more": more, "next": following, "items": items}


@cache
def wells() -> tuple[Spring, ...]:
    """The wells alone, in the order of the register."""
    return tuple(spring for spring in springs() if spring.kind == "well")


@cache
def dry() -> tuple[Spring, ...]:
    """The springs that have run dry, in the order of the register."""
    return tuple(spring for spring in springs() if spring.status == "dry")


@cache
def keepers() -> tuple[tuple[str, int], ...]:
    """Every keeper by name, with how many springs they keep."""
    counts: dict[str, int] = {}
    for spring in springs():
        for keeper in spring.keepers:
            counts[keeper] = counts.get(keeper, 0) + 1
    return tuple(sorted(counts.items()))


def readings_json(after: str | None) -> dict[str, Any]:
    """Ten levels behind a cursor, and the cursor for those after them; raises KeyError for one that was never given."""
    cursors = {f"c{number * 7919 % 9973:04d}==": number * 10 for number in range(1, 3)}
    first = cursors[after] if after else 0
    following = next((name for name, place in cursors.items() if place == first + 10), None)
    rows = levels_json()["levels"][first : first + 10]
    return {"readings": rows, "cursor": following}


@cache
def notices() -> tuple[Notice, ...]:
    """Twenty-four notices, the newest first."""
    rng = random.Random(11)
    made = []
    for number in range(24):
        title, text = _SUBJECTS[int(rng.random() * len(_SUBJECTS))]
        spring = springs()[int(rng.random() * len(springs()))]
        day = _FIRST_DAY - timedelta(days=number * 9)
        made.append(Notice(24 - number, f"{title}: {spring.name}", text, day, spring))
    return tuple(made)


def partners() -> tuple[tuple[str, str, str], ...]:
    """Partner offices: name, place, number of springs."""
    return _PARTNERS


def region_of(address: str) -> str:
    """The region that an address of this machine stands for; empty for the others."""
    return next((name for name, known in REGIONS.items() if known == address), "")


def tariffs(region: str) -> list[tuple[str, float, str]]:
    """Service, price and unit as a region sees them: the north pays more, and the south has no troughs."""
    factor = _FACTORS.get(region, 1.0)
    shown = [tariff for tariff in _TARIFFS if region != "south" or tariff[0] != "Trough licence"]
    return [(service, round(price * factor, 2), per) for service, price, per in shown]
