"""One request on the wire and its whole reply, through aiohttp. No retries, no redirects, no pauses: layers above do those."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Protocol

from wadi.urls import without_secret
from wadi.web.coding import ACCEPTED, BadCoding, TooLarge, decoded
from wadi.web.lag import Lag
from wadi.web.messages import FetchFailed, Headers, Reply, Request
from wadi.web.session import Cookie, Session

if TYPE_CHECKING:
    import aiohttp

_READ_BYTES = 65_536


@dataclass(frozen=True, slots=True)
class Bounds:
    """What one request may cost: seconds to connect, to the first byte, and in all; bytes of a reply, decoded."""

    connect_s: float = 15.0
    first_byte_s: float = 60.0
    whole_s: float = 180.0
    size_bytes: int = 50_000_000


class Transport(Protocol):
    """Sends one request. Raises FetchFailed when no whole reply came; a reply of any status is a reply."""

    async def send(self, request: Request, sent: Callable[[], None] = ...) -> Reply: ...

    async def close(self) -> None: ...


class HttpTransport:
    """HTTP/1.1 with connections kept alive. Made inside a running event loop."""

    def __init__(
        self,
        *,
        bounds: Bounds,
        identity: str,
        per_host: int,
        session: Session | None = None,
        headers: Headers = (),
        route: str | None = None,
    ) -> None:
        import aiohttp

        self._bounds = bounds
        self._own = session or Session()
        self._proxy = route if route is not None and not route.startswith("socks") else None
        self._session = aiohttp.ClientSession(
            connector=_connector(route, per_host),
            cookie_jar=aiohttp.CookieJar(unsafe=True, quote_cookie=False),
            timeout=aiohttp.ClientTimeout(total=bounds.whole_s, sock_connect=bounds.connect_s),
            headers={"User-Agent": identity, "Accept": "*/*", "Accept-Encoding": ACCEPTED, **dict(headers)},
            auto_decompress=False,
            trace_configs=[_tracing()],
            # aiohttp bounds single header lines at 8 kB; sites send longer cookies.
            max_line_size=65_536,
            max_field_size=65_536,
        )
        self._lag = Lag()
        self._take_cookies(self._own.cookies)

    def _take_cookies(self, cookies: Iterable[Cookie]) -> None:
        from http.cookies import BaseCookie

        from yarl import URL

        for cookie in cookies:
            morsels: BaseCookie[str] = BaseCookie()
            morsels[cookie.name] = cookie.value
            morsels[cookie.name]["path"] = cookie.path
            if not cookie.host_only:
                morsels[cookie.name]["domain"] = cookie.domain
            if cookie.secure:
                morsels[cookie.name]["secure"] = True
            scheme = "https" if cookie.secure else "http"
            self._session.cookie_jar.update_cookies(
                morsels, URL.build(scheme=scheme, host=cookie.domain, path=cookie.path)
            )

    async def close(self) -> None:
        self._lag.close()
        await self._session.close()

    async def send(self, request: Request, sent: Callable[[], None] = lambda: None) -> Reply:
        """Send a request; `sent` is called when it is on the wire."""
        import aiohttp
        from yarl import URL

        where = without_secret(request.url)
        began = time.time()
        clock = time.perf_counter
        start, held_up = clock(), self._lag.total_s()
        try:
            async with asyncio.timeout(self._bounds.connect_s + self._bounds.first_byte_s) as patience:
                response = await self._session.request(
                    request.method,
                    URL(request.url, encoded=True),
                    headers=(*self._own.headers, *request.headers)
                    if request.host == self._own.host
                    else request.headers,
                    data=request.body or None,
                    allow_redirects=False,
                    trace_request_ctx=sent,
                    proxy=self._proxy,
                )
                patience.reschedule(None)
                async with response:
                    # What we or the machine held up is not the host's time.
                    first_byte_s = max(0.0, clock() - start - (self._lag.total_s() - held_up))
                    raw = await self._body(response)
        except TimeoutError as error:
            raise FetchFailed("timed-out", f"{where}: no whole answer within {clock() - start:.0f} s") from error
        except aiohttp.ClientConnectorError as error:
            raise FetchFailed("unreachable", f"{where}: {_connection_words(error)}") from error
        except aiohttp.InvalidURL as error:
            raise FetchFailed("bad-url", f"{where}: the address cannot be sent: {error}") from error
        except aiohttp.ClientHttpProxyError as error:
            raise FetchFailed("unreachable", f"{where}: the proxy answers {error.status}") from error
        except (aiohttp.ClientError, OSError, ValueError, EOFError) as error:
            if type(error).__module__.startswith("python_socks"):
                raise FetchFailed("unreachable", f"{where}: the proxy: {_words(error)}") from error
            raise FetchFailed("broken-off", f"{where}: the reply broke off: {_words(error)}") from error
        body = self._decoded(raw, response, where)
        headers = tuple((name, value) for name, value in response.headers.items())
        elapsed = clock() - start
        return Reply(request, request.url, response.status, headers, body, began, first_byte_s, elapsed, len(raw))

    async def _body(self, response: aiohttp.ClientResponse) -> bytes:
        chunks: list[bytes] = []
        size = 0
        async for chunk in response.content.iter_chunked(_READ_BYTES):
            size += len(chunk)
            if size > self._bounds.size_bytes:
                raise FetchFailed("too-large", self._too_large(without_secret(str(response.url))))
            chunks.append(chunk)
        return b"".join(chunks)

    def _decoded(self, raw: bytes, response: aiohttp.ClientResponse, where: str) -> bytes:
        try:
            return decoded(raw, response.headers.get("Content-Encoding", ""), self._bounds.size_bytes)
        except TooLarge as error:
            raise FetchFailed("too-large", self._too_large(where)) from error
        except BadCoding as error:
            raise FetchFailed("bad-coding", f"{where}: the content coding cannot be undone: {error}") from error

    def _too_large(self, where: str) -> str:
        return f"{where}: the reply is larger than {self._bounds.size_bytes / 1e6:.0f} MB (limits.page_size)"


def _connector(route: str | None, per_host: int) -> aiohttp.BaseConnector:
    """Connections to hosts; by SOCKS where the route says so."""
    import aiohttp

    if route is not None and route.startswith("socks"):
        from aiohttp_socks import ProxyConnector

        connector: aiohttp.BaseConnector = ProxyConnector.from_url(route, limit=0, limit_per_host=per_host)
        return connector
    return aiohttp.TCPConnector(limit=0, limit_per_host=per_host, ttl_dns_cache=300)


def _tracing() -> aiohttp.TraceConfig:
    """Calls what a request brought along when its headers are on the wire."""
    import aiohttp

    async def on_wire(session: object, context: Any, params: object) -> None:
        context.trace_request_ctx()

    config = aiohttp.TraceConfig()
    config.on_request_headers_sent.append(on_wire)
    return config


def _connection_words(error: aiohttp.ClientConnectorError) -> str:
    from aiohttp import ClientConnectorDNSError

    host = f"{error.host}:{error.port}"
    if isinstance(error, ClientConnectorDNSError):
        return f'the host name "{error.host}" is not known'
    if isinstance(error.os_error, ConnectionRefusedError):
        return f"nothing answers at {host} (connection refused)"
    return f"no connection to {host}: {error.os_error.strerror or _words(error.os_error)}"


def _words(error: BaseException) -> str:
    return str(error) or type(error).__name__
