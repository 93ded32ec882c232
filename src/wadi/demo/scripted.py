"""Pages of the sample site that scripts draw: walks that load while one scrolls, under a banner that has to be accepted first;
telephones of the keepers, more of which come by a button, each shown by a click; the hardness of the water, whose provisional
rows change after two seconds, page by page in the same document."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from aiohttp import web

from wadi.demo import office, world
from wadi.demo.pages import html, page

WALKS_AT_A_TIME = 20
KEEPERS_AT_A_TIME = 25
MEASURED_AT_A_TIME = 20


def walks() -> list[dict[str, Any]]:
    """The walks in the order of the register: each begins at a spring."""
    found = [spring for spring in world.springs() if spring.number % 4 == 1]
    return [
        {
            "code": spring.code,
            "title": f"Round walk by {spring.name}",
            "km": round(2 + spring.number % 37 / 4, 2),
            "district": spring.district.name,
        }
        for spring in found
    ]


async def _walks(request: web.Request) -> web.Response:
    return html(page("walks.html"))


def _whole_number(text: str) -> int:
    return int(text) if text.isdecimal() and len(text) < 5 else 0


async def _walks_json(request: web.Request) -> web.Response:
    first = _whole_number(request.query.get("from", "0"))
    shown = walks()[first : first + WALKS_AT_A_TIME]
    following = first + WALKS_AT_A_TIME
    return web.json_response(
        {"total": len(walks()), "walks": shown, "next": following if following < len(walks()) else None}
    )


def telephones() -> list[dict[str, Any]]:
    """The keepers by name, with their telephones (None for those without)."""
    return [
        {"name": name, "springs": springs, "telephone": None if place % 9 == 4 else f"01632 960{(place * 7) % 1000:03}"}
        for place, (name, springs) in enumerate(office.keepers())
    ]


async def _telephones(request: web.Request) -> web.Response:
    return html(page("telephones.html"))


async def _telephones_json(request: web.Request) -> web.Response:
    first, every = _whole_number(request.query.get("from", "0")), telephones()
    following = first + KEEPERS_AT_A_TIME
    shown = [
        {
            "name": keeper["name"],
            "springs": keeper["springs"],
            "ask": f"/api/telephones/{place}" if keeper["telephone"] else None,
        }
        for place, keeper in enumerate(every[first:following], first)
    ]
    return web.json_response({"keepers": shown, "next": following if following < len(every) else None})


async def _telephone(request: web.Request) -> web.Response:
    place, every = _whole_number(request.match_info["place"]), telephones()
    if place >= len(every):
        raise web.HTTPNotFound()
    return web.json_response({"telephone": every[place]["telephone"]})


def hardness() -> list[dict[str, Any]]:
    """The springs whose hardness was measured (°dH), by code."""
    found = sorted((spring for spring in world.springs() if spring.number % 5 == 2), key=lambda spring: spring.code)
    return [
        {
            "code": spring.code,
            "name": spring.name,
            "hardness": round(2.25 + spring.number * 7 % 230 / 10, 2),
            "softened": spring.number % 3 == 1,
        }
        for spring in found
    ]


async def _hardness(request: web.Request) -> web.Response:
    return html(page("hardness.html"))


async def _hardness_json(request: web.Request) -> web.Response:
    every, number = hardness(), max(1, _whole_number(request.query.get("page", "1")))
    shown = every[(number - 1) * MEASURED_AT_A_TIME : number * MEASURED_AT_A_TIME]
    return web.json_response({"pages": -(-len(every) // MEASURED_AT_A_TIME), "measured": shown})


ROUTES: dict[str, Callable[[web.Request], Any]] = {
    "/walks": _walks,
    "/api/walks": _walks_json,
    "/telephones": _telephones,
    "/api/telephones": _telephones_json,
    "/api/telephones/{place}": _telephone,
    "/hardness": _hardness,
    "/api/hardness": _hardness_json,
}
