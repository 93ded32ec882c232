"""The records that the pages of the corpus show, and the ways in which their values are written."""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

_FIRST = "Ash Cold Iron Alder Grey Rowan Deer Upper Mill Long Black Holly Stone White Otter Fern".split()
_SECOND = "Spring Source Rise Well Head Pool Spout Basin Trough Fountain".split()
_DISTRICTS = ("Saltholm", "Thornmere", "Upper Merrow", "Lower Merrow", "Kestrel Down", "Ashwater")
_KEEPERS = ("K. Pike", "Oda Lamm", "R. Heron", "Ines Moor", "T. O'Dell")
_NOTES = (
    "Lined basin, overflow to the north; gauged every spring.",
    "Access over the mill track only, closed in winter.",
    "Iron-rich water: not for drinking, nor for cattle.",
    "The trough was rebuilt by the parish, lately in summer.",
    "Fenced since the flood. Key at the mill (ring twice).",
)
MONTHS = {
    "en": "January February March April May June July August September October November December".split(),
    "fr": "janvier février mars avril mai juin juillet août septembre octobre novembre décembre".split(),
    "de": "Januar Februar März April Mai Juni Juli August September Oktober November Dezember".split(),
}


@dataclass(frozen=True, slots=True)
class Record:
    """One spring. `flow` is missing now and then."""

    number: int
    code: str
    name: str
    district: str
    status: str
    flow: float | None
    depth: int
    surveyed: date
    keeper: str
    note: str


def records(seed: int, count: int, *, gaps: bool = True) -> list[Record]:
    """So many springs, the same for the same seed. Names and districts come twice; with `gaps` one of seven has no flow."""
    rng = random.Random(f"springs {seed}")
    start = rng.randrange(100, 400)
    return [
        Record(
            number=start + n * 3,
            code=f"MW-{start + n * 3:04d}",
            name=f"{rng.choice(_FIRST)} {rng.choice(_SECOND)}",
            district=rng.choice(_DISTRICTS),
            status=rng.choice(("flowing", "flowing", "dry", "closed")),
            flow=None if gaps and n % 7 == 4 else round(rng.choice((3, 40, 1900)) * rng.random() + 0.2, 1),
            depth=rng.randrange(4, 620),
            surveyed=date(2019, 2, 3) + timedelta(days=rng.randrange(2400)),
            keeper=rng.choice(_KEEPERS),
            note=rng.choice(_NOTES),
        )
        for n in range(count)
    ]


@dataclass(frozen=True, slots=True)
class Column:
    """A column of the truth: how a page shows it (None: not at all), and what a table should have."""

    shown: Callable[[Record], str | None]
    true: Callable[[Record], Any]


def _grouped(value: float, group: str, point: str) -> str:
    return f"{value:,.1f}".replace(",", "\0").replace(".", point).replace("\0", group)


def _flow(group: str, point: str, unit: str = " l/s") -> Column:
    return Column(lambda r: None if r.flow is None else _grouped(r.flow, group, point) + unit, lambda r: r.flow)


def _day(written: Callable[[date], str]) -> Column:
    return Column(lambda r: written(r.surveyed), lambda r: r.surveyed.isoformat())


def _text(name: str) -> Column:
    return Column(lambda r: getattr(r, name), lambda r: getattr(r, name))


COLUMNS: dict[str, Column] = {
    **{name: _text(name) for name in ("code", "name", "district", "status", "keeper", "note")},
    "flow": _flow(",", "."),
    "flow_de": _flow(".", ","),
    "flow_fr": _flow("\u202f", ","),
    "flow_plain": Column(lambda r: None if r.flow is None else str(r.flow), lambda r: r.flow),
    "depth": Column(lambda r: f"{r.depth} m", lambda r: r.depth),
    "depth_plain": Column(lambda r: str(r.depth), lambda r: r.depth),
    "surveyed": _day(lambda d: f"{d.day} {MONTHS['en'][d.month - 1]} {d.year}"),
    "surveyed_us": _day(lambda d: f"{MONTHS['en'][d.month - 1][:3]} {d.day}, {d.year}"),
    "surveyed_de": _day(lambda d: f"{d.day:02}.{d.month:02}.{d.year}"),
    "surveyed_fr": _day(lambda d: f"{d.day} {MONTHS['fr'][d.month - 1]} {d.year}"),
    "surveyed_iso": _day(date.isoformat),
    "url": Column(lambda r: f"/springs/{r.number}", lambda r: f"/springs/{r.number}"),
    "photo": Column(lambda r: f"/img/{r.code.lower()}.jpg", lambda r: f"/img/{r.code.lower()}.jpg"),
}
