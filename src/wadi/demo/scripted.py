"""Pages of the sample site that scripts draw: walks that load while one scrolls, under a banner that has to be accepted first."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from aiohttp import web

from wadi.demo import world
from wadi.demo.pages import html, page

WALKS_AT_A_TIME = 20


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


async def _walks_json(request: web.Request) -> web.Response:
    asked = request.query.get("from", "0")
    first = int(asked) if asked.isdecimal() and len(asked) < 5 else 0
    shown = walks()[first : first + WALKS_AT_A_TIME]
    following = first + WALKS_AT_A_TIME
    return web.json_response(
        {"total": len(walks()), "walks": shown, "next": following if following < len(walks()) else None}
    )


ROUTES: dict[str, Callable[[web.Request], Any]] = {"/walks": _walks, "/api/walks": _walks_json}
