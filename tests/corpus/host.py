"""The corpus on a host of this machine, and what a drafted table has to be compared with."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any

from aiohttp import web

from corpus.details import DETAILS, PAGES
from corpus.listings import LISTINGS, page_of


def application() -> web.Application:
    """All listings and detail pages; how often each was asked for stands in `application()["asked"]`."""
    app = web.Application()
    app["asked"] = Counter()
    app.router.add_route("GET", "/{rest:.*}", _answer)
    return app


async def _answer(request: web.Request) -> web.Response:
    request.app["asked"][request.path_qs] += 1
    name, _, rest = request.path.removeprefix("/").partition("/")
    listing = next((one for one in LISTINGS if one.name == name), None)
    detail = next((one for one in DETAILS if one.name == name), None)
    if listing is not None and (not rest or listing.pages == "path"):
        body, content_type, further = page_of(listing, request.path, dict(request.query))
        return web.Response(body=body.encode(), headers={"Content-Type": content_type, **further})
    if detail is not None and rest.isdecimal() and 1 <= int(rest) <= PAGES:
        return web.Response(text=detail.page(int(rest)), content_type="text/html")
    return web.Response(status=404, text="not here")


def wrong_columns(
    truth: Mapping[str, Sequence[Any]], table: Mapping[str, Sequence[Any]], *, by_name: bool
) -> dict[str, str]:
    """The columns of the truth that a table does not have, with why. Without `by_name` any column may hold the values."""
    wrong = {}
    for name, values in truth.items():
        candidates = [table[name]] if by_name and name in table else [] if by_name else list(table.values())
        if not any(_equal(values, found) for found in candidates):
            wrong[name] = _why(values, candidates)
    return wrong


def _equal(true: Sequence[Any], found: Sequence[Any]) -> bool:
    return len(true) == len(found) and all(_same(one, two) for one, two in zip(true, found, strict=True))


def _same(true: Any, found: Any) -> bool:
    if isinstance(true, int | float) and isinstance(found, int | float):
        return abs(true - found) < 1e-9
    return true == found


def _why(true: Sequence[Any], candidates: list[Sequence[Any]]) -> str:
    if not candidates:
        return "no such column"
    if all(len(found) != len(true) for found in candidates):
        return f"{len(candidates[0])} rows for {len(true)}"
    found = max(candidates, key=lambda values: sum(map(_same, true, values)))
    place = next(n for n, pair in enumerate(zip(true, found, strict=True)) if not _same(*pair))
    return f"row {place + 1}: {found[place]!r} for {true[place]!r}"
