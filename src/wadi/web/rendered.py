"""A transport by which pages come as a browser shows them, where their requests ask for that; all others go the usual way,
with the same cookies."""

from __future__ import annotations

import asyncio
import contextlib
import socket
from collections.abc import Callable
from dataclasses import replace
from urllib.parse import urlsplit

from wadi.urls import host_of
from wadi.web.browser import Browser, Visitor
from wadi.web.messages import FetchFailed, Headers, Reply, Request
from wadi.web.private import AddressGuard
from wadi.web.secrets import Secrets
from wadi.web.transport import NO_SECRETS, HttpTransport


class RenderingTransport:
    """Sends requests with a `rendering` to a browser, by the route of the other transport, whose cookies the two share."""

    def __init__(
        self,
        browser: Browser,
        other: HttpTransport,
        *,
        route: str = "",
        headers: Headers = (),
        most_bytes: int = 50_000_000,
        guard: AddressGuard | None = None,
        secrets: Secrets = NO_SECRETS,
    ) -> None:
        self._browser = browser
        self._other = other
        self._route = route
        self._headers = headers
        self._most = most_bytes
        self._guard = guard if not route else None  # the proxy looks up the names of hosts
        self._secrets = secrets

    async def close(self) -> None:
        """End the browser, and what sends the others."""
        await self._browser.close()
        await self._other.close()

    async def send(self, request: Request, sent: Callable[[], None] = lambda: None) -> Reply:
        """The page as it is shown: its document as HTML, with the background replies that are data beside it. Raises
        FetchFailed, UsageError where no browser can be started."""
        if request.rendering is None:
            return await self._other.send(request, sent)
        await self._check(request.url)
        sent()
        visitor = Visitor(self._route, self._other.cookies(), self._typed)
        wanted = self._secrets.put_into(request)
        shown = await self._browser.render(
            replace(wanted, headers=(*self._headers, *request.headers)), request.rendering, visitor
        )
        self._other.take_cookies(shown.cookies)
        await self._check(shown.reply.url)
        reply, beside = (
            self._masked(request, shown.reply),
            tuple(self._masked(request, one) for one in shown.background),
        )
        if sum(len(one.body) for one in (reply, *beside)) > self._most:
            raise FetchFailed("too-large", f"the document and its data are larger than {self._most / 1e6:.0f} MB")
        return replace(reply, request=request, beside=beside)

    def _typed(self, url: str, text: str) -> str:
        """A text that is typed on a page, with what is secret in it. Raises FetchFailed where the page's host may not have it."""
        host = host_of(url)
        filled = self._secrets.put_into_text(host, text)
        if filled is None:
            raise FetchFailed("broken-off", f"a secret is not typed on a page of {host}, which the plan does not name")
        return filled

    def _masked(self, request: Request, reply: Reply) -> Reply:
        """What came, without secrets that were sent."""
        if not self._secrets:
            return reply
        host = request.host
        asked = reply.request
        return replace(
            reply,
            request=replace(asked, url=self._text(host, asked.url), body=self._secrets.masked(host, asked.body)),
            url=self._text(host, reply.url),
            headers=self._secrets.masked_fields(host, reply.headers),
            body=self._secrets.masked(host, reply.body),
        )

    def _text(self, host: str, text: str) -> str:
        return self._secrets.masked(host, text.encode()).decode()

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
