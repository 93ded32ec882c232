"""Faults planted in the register, as sites have them after a redesign or a mishap: for trying what a check of a run finds."""

from __future__ import annotations

import re
from collections.abc import Awaitable, Callable, Collection
from dataclasses import replace
from typing import Any

from aiohttp import web

from wadi.demo import wording, world

_SKIPPED_AFTER = 5
_DOUBLED = "Ashwater"
_OTHER_UNIT_ROWS = 10
_LARGE_LPS = 60.0
_ENTRY = re.compile(r'<li class="entry" data-code="[^"]*">.*?</li>', re.DOTALL)


def _column_renamed(text: str, number: int) -> str:
    """The class of a column is another."""
    return re.sub(r"(class=[\"']?)depth\b", r"\1how-deep", text, flags=re.IGNORECASE)


def _page_skipped(text: str, number: int) -> str:
    """A page links past the next one."""
    following = _SKIPPED_AFTER + 1
    return text.replace(f"page={following}", f"page={following + 1}") if number == _SKIPPED_AFTER else text


def _district_doubled(text: str, number: int) -> str:
    """All springs of a district stand twice."""
    return _ENTRY.sub(lambda entry: entry[0] * 2 if f">{_DOUBLED}<" in entry[0] else entry[0], text)


def _unit_changed(text: str, number: int) -> str:
    """Ten flows are in litres a minute, and labelled as before."""
    for spring in [candidate for candidate in world.springs() if (candidate.flow_lps or 0) > _LARGE_LPS][
        :_OTHER_UNIT_ROWS
    ]:
        assert spring.flow_lps is not None
        shown, other = wording.flow(spring), wording.flow(replace(spring, flow_lps=spring.flow_lps * 60))
        text = re.sub(
            rf'(data-code="{spring.code}">.*?class="flow">){re.escape(shown)}', rf"\g<1>{other}", text, flags=re.DOTALL
        )
    return text


def _total_changed(text: str, number: int) -> str:
    """The site states more springs than it shows."""
    return text.replace(f"of {world.SPRINGS}<", f"of {world.SPRINGS + 6}<")


FAULTS: dict[str, Callable[[str, int], str]] = {
    "column": _column_renamed,
    "page": _page_skipped,
    "duplicates": _district_doubled,
    "unit": _unit_changed,
    "total": _total_changed,
}


def middleware(names: Collection[str]) -> Any:
    """A middleware for the site that plants the named faults in its register."""

    @web.middleware
    async def planted(request: web.Request, handler: Callable[[web.Request], Awaitable[web.StreamResponse]]) -> Any:
        response = await handler(request)
        if (
            request.path != "/register"
            or not isinstance(response, web.Response)
            or not isinstance(response.body, bytes)
        ):
            return response
        asked = request.query.get("page", "1")
        encoding = response.charset or "windows-1252"
        text = response.body.decode(encoding)
        for name in names:
            text = FAULTS[name](text, int(asked) if asked.isdecimal() else 1)
        response.body = text.encode(encoding)
        return response

    return planted
