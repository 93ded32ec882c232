"""Weather over the sample site: which requests meet trouble, decided by a seed, the address and how often it was asked for.

The same seed gives the same troubles, so that a crawl through rough weather can be compared with the truth.
"""

from __future__ import annotations

import asyncio
import hashlib
from collections import Counter
from collections.abc import Awaitable, Callable
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime
from typing import Any, Literal

from aiohttp import web

Weather = Literal["calm", "rough", "storm"]
TROUBLES = ("slow", "cut short", "reset", "429", "429 after", "503", "503 date", "challenge", "redirect loop")
_SHARE = {"calm": 0.0, "rough": 0.15, "storm": 0.4}
_ATTEMPTS = {"calm": 0, "rough": 1, "storm": 4}
_NEVER = {"calm": 0.0, "rough": 0.0, "storm": 0.01}
CHALLENGE = (
    "<!doctype html><title>One moment</title><h1>Are you a human?</h1><form action=/><div class=challenge-box></div>"
    "<p>The office has seen unusual traffic.</p></form>"
)


def trouble_for(seed: int, weather: Weather, path: str, attempt: int) -> str | None:
    """What meets the `attempt`-th request (from 1) for a path; None for none. `never` stays however often it is asked."""
    if _drawn(seed, "never", path) < _NEVER[weather] and path.startswith("/register/"):
        return "never"
    if attempt > _ATTEMPTS[weather] or _drawn(seed, "share", path, attempt) >= _SHARE[weather]:
        return None
    return TROUBLES[int(_drawn(seed, "kind", path, attempt) * len(TROUBLES))]


def _drawn(*words: object) -> float:
    """A number from 0 to 1 that follows from the words."""
    digest = hashlib.sha256(repr(words).encode()).digest()
    return int.from_bytes(digest[:6], "big") / 2**48


def middleware(seed: int, weather: Weather) -> Any:
    """The weather for the site's application; `request["trouble"]` says what a request met. robots.txt and what is sent by POST
    are spared."""
    asked: Counter[str] = Counter()

    @web.middleware
    async def blow(request: web.Request, handler: Callable[[web.Request], Awaitable[web.StreamResponse]]) -> Any:
        if request.path == "/robots.txt" or request.method != "GET":
            return await handler(request)
        asked[request.path_qs] += 1
        trouble = trouble_for(seed, weather, request.path_qs, asked[request.path_qs])
        request["trouble"] = trouble
        return await handler(request) if trouble is None else await _troubled(request, handler, trouble)

    return blow


async def _troubled(
    request: web.Request, handler: Callable[[web.Request], Awaitable[web.StreamResponse]], trouble: str
) -> web.StreamResponse:
    transport = request.transport
    if trouble == "slow":
        await asyncio.sleep(0.4)
        return await handler(request)
    if trouble == "reset" and transport is not None:
        transport.abort()
        return web.Response()
    if trouble == "cut short":
        response = web.StreamResponse(headers={"Content-Length": "5000", "Content-Type": "text/html"})
        await response.prepare(request)
        await response.write(b"<!doctype html><p>and then")
        if transport is not None:
            transport.close()
        return response
    if trouble == "challenge":
        return web.Response(text=CHALLENGE, content_type="text/html")
    if trouble == "redirect loop":
        return web.Response(status=302, headers={"Location": request.path_qs, "Retry-After": "0"})
    headers = {}
    if trouble == "429 after":
        headers["Retry-After"] = "1"
    if trouble == "503 date":
        headers["Retry-After"] = format_datetime(datetime.now(UTC) + timedelta(seconds=1), usegmt=True)
    return web.Response(status=429 if trouble.startswith("429") else 503, headers=headers, text="too many requests")
