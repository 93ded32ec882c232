"""A transport by which pages come as a browser shows them, where their requests ask for that; all others go the usual way."""

from __future__ import annotations

import asyncio
import contextlib
import socket
from collections.abc import Callable
from dataclasses import replace
from urllib.parse import urlsplit

from wadi.web.browser import Browser
from wadi.web.messages import FetchFailed, Headers, Reply, Request
from wadi.web.private import AddressGuard
from wadi.web.transport import Transport


class RenderingTransport:
    """Sends requests with a `rendering` to a browser, which is started when the first of them comes."""

    def __init__(
        self,
        start: Callable[[], Browser],
        other: Transport,
        *,
        headers: Headers = (),
        most_bytes: int = 50_000_000,
        guard: AddressGuard | None = None,
    ) -> None:
        self._start = start
        self._other = other
        self._headers = headers
        self._most = most_bytes
        self._guard = guard
        self._browser: Browser | None = None

    async def close(self) -> None:
        """End the browser, and what sends the others."""
        if self._browser is not None:
            await self._browser.close()
        await self._other.close()

    async def send(self, request: Request, sent: Callable[[], None] = lambda: None) -> Reply:
        """The page as it is shown: its document as HTML. Raises FetchFailed, UsageError where no browser can be started."""
        if request.rendering is None:
            return await self._other.send(request, sent)
        await self._check(request.url)
        if self._browser is None:
            self._browser = self._start()
        sent()
        shown = await self._browser.render(
            replace(request, headers=(*self._headers, *request.headers)), request.rendering
        )
        await self._check(shown.reply.url)
        if len(shown.reply.body) > self._most:
            raise FetchFailed("too-large", f"the document is larger than {self._most / 1e6:.0f} MB")
        return replace(shown.reply, request=request)

    async def _check(self, url: str) -> None:
        """Raise FetchFailed for a page at an address where a site of the open net may not send us."""
        host = urlsplit(url).hostname or ""
        if self._guard is None or not host:
            return
        found: list[str] = []
        with contextlib.suppress(OSError):
            places = await asyncio.get_running_loop().getaddrinfo(host, None, type=socket.SOCK_STREAM)
            found = [str(place[4][0]) for place in places]
        if any(self._guard.refuses(host, address) for address in found):
            raise FetchFailed("private-address", f"{host} is at an address of a private network")
