"""The second edition of the register: the same springs on pages that were built anew, as a redesign leaves them.

Other tags, classes and order; statuses are words, flows are written the English way with another unit's name, depths stand on
the pages of the springs, and the link to the next page has another text.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from aiohttp import web

from wadi.demo import world
from wadi.demo.pages import html, missing, page

EDITIONS = (1, 2)


async def _register(request: web.Request) -> web.Response:
    asked = request.query.get("page", "1")
    if not asked.isdecimal() or not 1 <= int(asked) <= world.page_count():
        return missing()
    number = int(asked)
    rows = world.register_page(number)
    return html(
        page("register-redesigned.html", springs=rows, number=number, pages=world.page_count(), total=world.SPRINGS)
    )


async def _spring(request: web.Request) -> web.Response:
    spring = world.spring_of(request.match_info["code"])
    return missing() if spring is None else html(page("spring-redesigned.html", spring=spring))


ROUTES: dict[str, Callable[[web.Request], Any]] = {"/register": _register, "/register/{code}": _spring}
