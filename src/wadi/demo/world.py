"""The Merrowdale Water Office's register: one deterministic data set, from which pages and truth are both made.

The same springs come out on every machine: only `Random.random()`, whose numbers Python promises to keep, is used.
"""

from __future__ import annotations

import random
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from functools import cache
from typing import TypeVar

SPRINGS = 354
PAGE_ROWS = 30
_SEED = 1847
_T = TypeVar("_T")

_FIRST = (
    "Alder Bracken Cold Deer Elder Fallow Grey Hollow Iron Juniper Kestrel Lark Mossy Nettle Otter Pebble "
    "Quiet Rowan Silver Thistle Upper Violet Willow Yarrow Ash Barley Copper Dusk Ember Fern"
).split()
_SECOND = ("Head", "Well", "Spring", "Rise", "Pool", "Keld", "Spout", "Source")
_PLACES = (
    "Merrow",
    "Tarn Édou",
    "Saint Avel",
    "Brânmoor",
    "Hollin’s Gate",
    "Low Fell",
    "Nørby",
    "Quarry Row",
    "Öster Dale",
)
_DISTRICTS = (
    ("upper-merrow", "Upper Merrow"),
    ("lower-merrow", "Lower Merrow"),
    ("thornmere", "Thornmere"),
    ("saltholm", "Saltholm"),
    ("kestrel-down", "Kestrel Down"),
    ("ashwater", "Ashwater"),
)
_GIVEN = ("Ilsa", "Bram", "Tove", "Edda", "Joran", "Maren", "Osk", "Pell", "Runa", "Sten", "Ulla", "Wim")
_FAMILY = ("Thornbeck", "Ottery", "Fennimoor", "Halldal", "Quillane", "Brackwell", "Sundermere", "Vossing", "Yarrowby")
_NOTES = (
    "Lined basin, overflow to the north; gauged every spring.",
    "Access over the mill track only – closed in winter.",
    "Iron-rich water: not for drinking.",
    "The trough was rebuilt by the parish in two stages.",
    "Flow falls quickly after dry weeks; see the field notes.",
)


@dataclass(frozen=True, slots=True)
class District:
    slug: str
    name: str


@dataclass(frozen=True, slots=True)
class Spring:
    """One spring or well as the office knows it. None is what the register leaves out."""

    number: int
    code: str
    name: str
    kind: str
    district: District
    status: str | None
    flow_lps: float | None
    depth_m: float | None
    registered: date
    altitude_m: int | None
    temperature_c: float | None
    keepers: tuple[str, ...]
    has_photo: bool
    note: str | None

    @property
    def path(self) -> str:
        return f"/register/{self.code}"

    @property
    def photo_path(self) -> str | None:
        return f"/photos/{self.code}.svg" if self.has_photo else None


DISTRICTS = tuple(District(slug, name) for slug, name in _DISTRICTS)


@cache
def springs() -> tuple[Spring, ...]:
    """All springs in the order of the register: the last registered first."""
    rng = random.Random(_SEED)
    made = [_spring(number, rng) for number in range(1, SPRINGS + 1)]
    return tuple(sorted(made, key=lambda s: (s.registered, s.number), reverse=True))


def spring_of(code: str) -> Spring | None:
    """The spring with this code."""
    return next((spring for spring in springs() if spring.code == code), None)


def register_page(number: int) -> Sequence[Spring]:
    """The springs on a page of the register, numbered from 1."""
    return springs()[(number - 1) * PAGE_ROWS : number * PAGE_ROWS]


def page_count() -> int:
    return -(-SPRINGS // PAGE_ROWS)


def springs_in(district: District) -> list[Spring]:
    """The district's springs by name."""
    return sorted((s for s in springs() if s.district is district), key=lambda s: (s.name, s.code))


def _pick(rng: random.Random, choices: Sequence[_T]) -> _T:
    return choices[int(rng.random() * len(choices))]


def _spring(number: int, rng: random.Random) -> Spring:
    name = f"{_pick(rng, _FIRST)} {_pick(rng, _SECOND)}"
    if rng.random() < 0.3:
        name += f" at {_pick(rng, _PLACES)}"
    status = _pick(rng, ("flowing", "flowing", "flowing", "seasonal", "dry", None))
    return Spring(
        number=number,
        code=f"MW-{number:04d}",
        name=name,
        kind="well" if rng.random() < 0.25 else "spring",
        district=_pick(rng, DISTRICTS),
        status=status,
        flow_lps=_flow(rng, status),
        depth_m=round(2 + rng.random() * 58, 2) if rng.random() < 0.9 else None,
        registered=date(1921, 4, 1) + timedelta(days=int(rng.random() * 37_000)),
        altitude_m=int(40 + rng.random() * 900) if rng.random() < 0.95 else None,
        temperature_c=round(5 + rng.random() * 7, 1) if rng.random() < 0.85 else None,
        keepers=_keepers(rng),
        has_photo=rng.random() < 0.35,
        note=_pick(rng, _NOTES) if rng.random() < 0.5 else None,
    )


def _flow(rng: random.Random, status: str | None) -> float | None:
    """Flow in litres a second, from a trickle to a river's head; dry ones have none, some were never gauged."""
    scale, share = rng.random(), rng.random()
    if status == "dry":
        return 0.0
    return round(0.2 + 2400 * scale**5, 1) if share < 0.92 else None


def _keepers(rng: random.Random) -> tuple[str, ...]:
    chance = rng.random()
    names = [f"{_pick(rng, _GIVEN)} {_pick(rng, _FAMILY)}" for _ in range(2)]
    if chance < 0.1:
        return ()
    return tuple(dict.fromkeys(names)) if chance < 0.35 else (names[0],)
