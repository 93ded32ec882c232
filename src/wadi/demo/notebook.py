"""The surveyors' notebook: the messiest page of the sample site, each entry written as people write, and what it means."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from html import escape
from typing import Any

from wadi.demo.world import Spring, springs

ENTRIES = 40
_MONTHS = (
    "janvier",
    "février",
    "mars",
    "avril",
    "mai",
    "juin",
    "juillet",
    "août",
    "septembre",
    "octobre",
    "novembre",
    "décembre",
)
_STARS = ("☆☆☆☆☆", "★☆☆☆☆", "★★☆☆☆", "★★★☆☆", "★★★★☆", "★★★★★")
_NO = ("n/a", "–", "?", "", "not measured")


@dataclass(frozen=True, slots=True)
class Entry:
    """An entry: its number and its spring."""

    number: int
    spring: Spring

    @property
    def litres(self) -> float | None:
        """The flow in tenths; none in every ninth entry."""
        return None if self.number % 9 == 4 or self.spring.flow_lps is None else round(self.spring.flow_lps, 1)

    @property
    def day(self) -> date:
        return self.spring.registered

    @property
    def stars(self) -> int:
        return self.number % 6

    @property
    def cents(self) -> int:
        return 12_550 + self.number * 1375

    @property
    def span(self) -> tuple[int, int]:
        return (self.number % 7 + 2, self.number % 7 + 2 + self.number % 4 + 1)


def entries() -> list[Entry]:
    """The notebook's entries."""
    return [Entry(number, spring) for number, spring in enumerate(springs()[:ENTRIES])]


def flow_text(entry: Entry) -> str:
    """A flow as a surveyor writes it: about, estimated, in other units, with thin spaces, or not at all."""
    if entry.litres is None:
        return _NO[entry.number % len(_NO)]
    litres = f"{entry.litres:,.1f}".replace(",", "\u202f").replace(".", ",")
    ways = (f"{litres} l/s", f"ca. {litres} l/s", f"{litres} l/s (est.)", f"{litres}\u00a0L/s", f"~ {litres} l/s")
    if entry.number % 6 == 5:
        return f"{entry.litres * 60:,.0f} l/min".replace(",", "\u202f")
    return ways[entry.number % len(ways)]


def flow_of(entry: Entry) -> float | None:
    """What the plan must read from it, in l/s."""
    if entry.litres is not None and entry.number % 6 == 5:
        return round(round(entry.litres * 60) / 60, 3)
    return entry.litres


def day_text(entry: Entry) -> str:
    """A day in French: in full, with the day's short form, in figures."""
    day = entry.day
    if entry.number % 3 == 0:
        return f"{day.day}{'er' if day.day == 1 else ''} {_MONTHS[day.month - 1]} {day.year}"
    return f"{day.day:02}/{day.month:02}/{day.year}" if entry.number % 3 == 1 else day.isoformat()


def point(entry: Entry) -> tuple[float, float]:
    """Latitude and longitude of the made-up dale."""
    return (54.0 + entry.number / 64, -2.5 + entry.spring.number / 512)


def point_text(entry: Entry) -> str:
    """A place in decimal degrees, or in degrees, minutes and seconds."""
    lat, lon = point(entry)
    if entry.number % 2:
        return f"{lat:.6f}, {lon:.6f}"
    return f"{_sexagesimal(lat)}{'N' if lat > 0 else 'S'} {_sexagesimal(abs(lon))}{'E' if lon > 0 else 'W'}"


def _sexagesimal(angle: float) -> str:
    seconds = round(angle * 3600, 2)
    degrees, rest = divmod(seconds, 3600)
    minutes, rest = divmod(rest, 60)
    return f"{int(degrees)}°{int(minutes):02}′{rest:05.2f}″"


def _point_of(entry: Entry) -> tuple[float, float]:
    lat, lon = point(entry)
    if entry.number % 2:
        return round(lat, 6), round(lon, 6)
    return tuple(round(round(angle * 3600, 2) / 3600, 8) for angle in (lat, lon))  # type: ignore[return-value]


def page() -> str:
    """The page: one block for each entry, its facts in an order that changes."""
    blocks = "".join(_block(entry) for entry in entries())
    style = (
        "body{font:16px/1.5 Georgia,serif;margin:2rem auto;max-width:60rem}article{border-block-start:1px solid #999}"
    )
    return (
        f"<!doctype html><html lang=fr><meta charset=utf-8><title>Surveyors’ notebook</title><style>{style}</style>"
        f"<h1>Surveyors’ notebook</h1>{blocks}</html>"
    )


def _block(entry: Entry) -> str:
    low, high = entry.span
    facts = [
        ("Flow", flow_text(entry)),
        ("Reliability", _STARS[entry.stars]),
        ("Basins", f"{low}–{high}"),
        ("Cost", f"{entry.cents / 100:,.2f} €".replace(",", "\u00a0").replace(".", ",")),
        ("Where", point_text(entry)),
        ("Fenced", "oui" if entry.number % 2 else "non"),
        ("Walk", f"{1 + entry.number % 3} h {(entry.number * 7) % 60:02} min"),
    ]
    turned = facts[entry.number % len(facts) :] + facts[: entry.number % len(facts)]
    pairs = "".join(f"<dt>{name} :</dt><dd>{escape(value)}</dd>" for name, value in turned)
    district = entry.spring.district.name
    return (
        f"<article><h2>{entry.spring.code}\u00ad</h2><p class=day>le {day_text(entry)}</p>"
        f"<p class=size>lined, {low} basins, {entry.number + 3},5 m</p><p class=tags>{district}; survey ;{entry.spring.kind}</p>"
        f"<dl>{pairs}</dl><p class=mail>{entry.spring.district.slug} (at) merrowdale (dot) example</p></article>"
    )


def rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/notebook.toml`."""
    return [_row(entry) for entry in entries()]


def _row(entry: Entry) -> dict[str, Any]:
    lat, lon = _point_of(entry)
    low, high = entry.span
    hours, minutes = 1 + entry.number % 3, (entry.number * 7) % 60
    cost = entry.cents / 100
    return {
        "code": entry.spring.code,
        "day": entry.day.isoformat(),
        "basins": low,
        "reach": entry.number + 3.5,
        "tags": [entry.spring.district.name, "survey", entry.spring.kind],
        "flow": flow_of(entry),
        "stars": entry.stars,
        "basins_most": high,
        "cost": cost,
        "cost_currency": "EUR",
        "place": f"{lon},{lat}",
        "place_longitude": lon,
        "place_latitude": lat,
        "fenced": bool(entry.number % 2),
        "walk": f"PT{hours}H{minutes}M" if minutes else f"PT{hours}H",
        "mail": f"{entry.spring.district.slug}@merrowdale.example",
        "a_basin": round(cost / low, 2),
        "source": "notebook",
    }
