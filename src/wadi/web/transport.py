"""One request on the wire and its whole reply, through libcurl. No retries, no redirects, no pauses: layers above do those."""

from __future__ import annotations

import asyncio
import errno
import functools
import re
import socket
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol
from urllib.parse import urlsplit

from wadi.urls import without_secret
from wadi.web.coding import ACCEPTED, BadCoding, TooLarge, decoded
from wadi.web.lag import Lag
from wadi.web.messages import FetchFailed, Headers, Reply, Request, header_text
from wadi.web.private import AddressGuard
from wadi.web.secrets import Secrets
from wadi.web.session import Cookie, Session, cookie_of_line

if TYPE_CHECKING:
    import pycurl

NO_SECRETS = Secrets()
_GRACE_S = 1.0
_READ_BYTES = 131_072
_KEPT_CONNECTIONS = 4096
_PROXY_FAILURES = frozenset({5, 7, 97})
"""libcurl's codes for a proxy that is not known, that nobody answers at, that does not lead on."""
_TLS_FAILURES = frozenset({35, 51, 53, 54, 58, 59, 60, 66, 77, 80, 82, 83, 90, 91, 98})
"""Its codes for what may go wrong before a connection by TLS stands."""


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


class _Coming:
    """What comes of a reply: its header fields and the pieces of its body, which is cut off when it gets too long."""

    def __init__(self, most_bytes: int, heard: Callable[[], None]) -> None:
        self.fields: list[tuple[str, str]] = []
        self.pieces: list[bytes] = []
        self.is_too_large = False
        self._left = most_bytes
        self._heard = heard
        self._in_head = False

    def take_line(self, line: bytes) -> None:
        """A line of a head. One may come before another (RFC 9110 §15.2), and fields may come after the body."""
        if line.startswith(b"HTTP/"):
            self.fields.clear()
            self._in_head = True
            self._heard()
        elif not line.strip():
            self._in_head = False
        elif self._in_head:
            text = header_text(line)
            name, _, value = text.partition(":")
            if text[0] in " \t" and self.fields:  # a line that goes on (RFC 9112 §5.2)
                before = self.fields[-1]
                self.fields[-1] = (before[0], f"{before[1]} {text.strip()}")
            else:
                self.fields.append((name.strip(), value.strip()))

    def take_piece(self, piece: bytes) -> int | None:
        """A piece of the body; to have taken none of it ends the transfer."""
        self._left -= len(piece)
        if self._left < 0:
            self.is_too_large = True
            return 0
        self.pieces.append(piece)
        return None

    def field(self, name: str) -> str:
        """The value of a header field; empty without it."""
        return next((value for key, value in self.fields if key.lower() == name), "")


_PRIVATE = "it has an address of a private network, and the plan begins elsewhere (manners.private = true allows it)"
_NO_CONNECTION = re.compile(r"(?i)(?:connection|resolving) (?:timed out|timeout)|failed to connect|could not connect")
"""What libcurl says of a time that was over before there was a connection."""
_UNTRUSTED = " (manners.certificates names authorities that are trusted besides those of this machine)"


class _Sockets:
    """The sockets that a transfer opens: none at an address that the guard refuses, which is then in `refused`."""

    def __init__(self, guard: AddressGuard, host: str) -> None:
        self.refused = ""
        self._guard = guard
        self._host = host
        self._made: list[socket.socket] = []

    def open(self, purpose: int, address: Any) -> Any:
        """A socket for an address, as libcurl asks for it."""
        import pycurl

        family, kind, protocol, place = address
        if self._guard.refuses(self._host, str(place[0])):
            self.refused = self.refused or str(place[0])
            return pycurl.SOCKET_BAD
        self._made.append(socket.socket(family, kind, protocol))
        return self._made[-1]  # libcurl works on a copy of it

    def close(self) -> None:
        """Let go of ours; libcurl keeps its copies."""
        for made in self._made:
            made.close()


_GO_ON = 0
"""What libcurl is told for a request that it may send (CURL_PREREQFUNC_OK)."""


class _Times:
    """The times of one exchange: when it is on the wire, which is told, and when the host is first heard, within `most_s`."""

    def __init__(self, lag: Lag, most_s: float, sent: Callable[[], None]) -> None:
        self.first_byte_s = 0.0
        self.patience: asyncio.Timeout | None = None
        self._lag = lag
        self._most_s = most_s
        self._sent = sent
        self._start, self._held_up = time.perf_counter(), lag.total_s()

    def elapsed_s(self) -> float:
        return time.perf_counter() - self._start

    def on_wire(self, *_: object) -> int:
        """What libcurl calls when there is a connection."""
        self._sent()
        self._wait_until(asyncio.get_running_loop().time() + self._most_s)
        return _GO_ON

    def heard(self) -> None:
        """The first line of an answer came. What we or the machine held up is not the host's time."""
        self._wait_until(None)
        self.first_byte_s = max(0.0, self.elapsed_s() - (self._lag.total_s() - self._held_up))

    def _wait_until(self, at: float | None) -> None:
        if self.patience is not None and not self.patience.expired():
            self.patience.reschedule(at)


class HttpTransport:
    """HTTP/2 where a server offers it by TLS (RFC 9113 §3.2), else HTTP/1.1, with connections kept alive. Made inside a running
    event loop."""

    def __init__(
        self,
        *,
        bounds: Bounds,
        identity: str,
        session: Session | None = None,
        secrets: Secrets = NO_SECRETS,
        headers: Headers = (),
        route: str | None = None,
        guard: AddressGuard | None = None,
        resolve: Iterable[str] = (),
        certificates: str = "",
    ) -> None:
        import pycurl

        self._bounds = bounds
        self._guard = guard
        self._resolve = list(resolve)
        self._certificates = certificates
        self._own = session or Session()
        self._secrets = secrets
        try:
            self._transfers = pycurl.AsyncCurlMulti()
        except pycurl.error as error:  # it opens a few files of its own
            raise OSError(errno.EMFILE, str(error.args[-1])) from error
        self._transfers.setopt(pycurl.M_MAXCONNECTS, _most_connections())
        usual = {"User-Agent": identity, "Accept": "*/*", "Accept-Encoding": ACCEPTED, **dict(headers)}
        self._usual = tuple(usual.items())
        # The route's proxy looks up the names of hosts. Empty: none, whatever the environment says.
        self._proxy = (route or "").replace("socks5://", "socks5h://")
        self._jar = pycurl.CurlShare()
        self._jar.setopt(pycurl.SH_SHARE, pycurl.LOCK_DATA_COOKIE)
        self._idle: list[pycurl.Curl] = []
        self._lag = Lag()
        self.take_cookies(self._own.cookies)

    def cookies(self) -> tuple[Cookie, ...]:
        """The cookies that the session has now."""
        import pycurl

        handle = self._handle()
        lines = handle.getinfo(pycurl.INFO_COOKIELIST)
        self._idle.append(handle)
        return tuple(map(cookie_of_line, lines))

    def take_cookies(self, cookies: Iterable[Cookie]) -> None:
        """Have cookies that came from elsewhere in the session, too."""
        import pycurl

        handle = self._handle()
        for cookie in cookies:
            domain = cookie.domain if cookie.host_only else f".{cookie.domain}"
            marks = ["FALSE" if cookie.host_only else "TRUE", cookie.path, "TRUE" if cookie.secure else "FALSE"]
            handle.setopt(
                pycurl.COOKIELIST, "\t".join([domain, *marks, f"{cookie.expires:.0f}", cookie.name, cookie.value])
            )
        self._idle.append(handle)

    async def close(self) -> None:
        self._lag.close()
        await self._transfers.aclose()
        for handle in self._idle:
            handle.close()

    def _handle(self) -> pycurl.Curl:
        """A handle that knows what is the same in all requests: one for each request at work, used again and again."""
        import pycurl

        if self._idle:
            return self._idle.pop()
        handle, bounds = pycurl.Curl(), self._bounds
        handle.setopt(pycurl.NOSIGNAL, 1)
        handle.setopt(pycurl.PROTOCOLS, pycurl.PROTO_HTTP | pycurl.PROTO_HTTPS)
        handle.setopt(pycurl.HTTP_VERSION, pycurl.CURL_HTTP_VERSION_2TLS)
        handle.setopt(pycurl.PATH_AS_IS, 1)
        handle.setopt(pycurl.BUFFERSIZE, _READ_BYTES)
        handle.setopt(pycurl.MAXFILESIZE_LARGE, bounds.size_bytes)
        handle.setopt(pycurl.CONNECTTIMEOUT_MS, round(bounds.connect_s * 1000))
        handle.setopt(pycurl.TIMEOUT_MS, round(bounds.whole_s * 1000))
        handle.setopt(pycurl.PROXY, self._proxy)
        handle.setopt(pycurl.NOPROXY, "")
        handle.setopt(pycurl.SHARE, self._jar)
        handle.setopt(pycurl.COOKIEFILE, "")
        if self._resolve:
            handle.setopt(pycurl.RESOLVE, self._resolve)
        return handle

    async def send(self, request: Request, sent: Callable[[], None] = lambda: None) -> Reply:
        """Send a request; `sent` is called when it is on the wire."""
        import pycurl

        where = without_secret(request.url)
        name = urlsplit(request.url).hostname or ""
        if self._guard is not None and self._guard.refuses(name, name):
            raise FetchFailed("private-address", f"{where}: {_PRIVATE}")
        began, times = time.time(), _Times(self._lag, self._bounds.first_byte_s, sent)
        sockets = _Sockets(self._guard, name) if self._guard is not None and not self._proxy else None
        coming = _Coming(self._bounds.size_bytes, times.heard)
        handle = self._handle()
        try:
            if sockets is not None:
                handle.setopt(pycurl.OPENSOCKETFUNCTION, sockets.open)
            self._prepare(handle, self._secrets.put_into(request) if self._secrets else request)
            handle.setopt(pycurl.PREREQFUNCTION, times.on_wire)
            handle.setopt(pycurl.HEADERFUNCTION, coming.take_line)
            handle.setopt(pycurl.WRITEFUNCTION, coming.take_piece)
            # To connect is bounded by libcurl itself; the time to the first byte begins when the request is on the wire.
            async with asyncio.timeout(self._bounds.connect_s + _GRACE_S) as times.patience:
                await self._transfers.perform(handle)
            status = int(handle.getinfo(pycurl.RESPONSE_CODE))
            raw = b"".join(coming.pieces)
        except TimeoutError as error:
            raise FetchFailed("timed-out", f"{where}: no whole answer within {times.elapsed_s():.0f} s") from error
        except pycurl.error as failure:
            if coming.is_too_large:
                raise FetchFailed("too-large", self._too_large(where)) from failure
            if sockets is not None and sockets.refused:
                raise FetchFailed("private-address", f"{where}: {_PRIVATE} ({sockets.refused})") from failure
            code, words = failure.args
            if code == pycurl.E_COULDNT_CONNECT and handle.getinfo(pycurl.OS_ERRNO) == errno.ECONNREFUSED:
                words = "connection refused"
            raise self._failed(code, words, request, times.elapsed_s()) from failure
        finally:
            if sockets is not None:
                sockets.close()
            coming.pieces = []  # the handle, which is kept, holds on to what takes its replies
            # What a plain GET sets, the next one sets again.
            self._idle.append(handle) if _is_plain(request) else handle.close()
        body = self._decoded(raw, coming.field("content-encoding"), where)
        elapsed_s, fields = times.elapsed_s(), tuple(coming.fields)
        if self._secrets:
            body, fields = self._secrets.masked(request.host, body), self._secrets.masked_fields(request.host, fields)
        return Reply(request, request.url, status, fields, body, began, times.first_byte_s, elapsed_s, len(raw))

    def _prepare(self, handle: pycurl.Curl, request: Request) -> None:
        """Tell a handle what is asked for. Raises FetchFailed."""
        import pycurl

        url = _sendable(request.url)
        handle.setopt(pycurl.URL, url)
        handle.setopt(pycurl.REQUEST_TARGET, self._target(url))
        is_usual = _is_plain(request) and not request.headers and not self._own.headers and not self._secrets
        handle.setopt(pycurl.HTTPHEADER, self._usual_lines if is_usual else self._fields(request))
        if not _is_plain(request):
            handle.setopt(pycurl.CUSTOMREQUEST, request.method)
            handle.setopt(pycurl.POSTFIELDS, request.body)
        if request.url.startswith("https:") or self._proxy.startswith("https:"):
            for option, value in self._trusted:
                handle.setopt(option, value)

    @functools.cached_property
    def _trusted(self) -> list[tuple[int, str | bytes]]:
        """What says which certificates are trusted: the file and the folder of this machine (of libcurl where there are none),
        and those that are given."""
        import ssl

        import pycurl

        paths = ssl.get_default_verify_paths()
        said: list[tuple[int, str | bytes]] = [(pycurl.CAPATH, paths.capath)] if paths.capath else []
        if self._certificates:
            usual = Path(paths.cafile).read_text("ascii", "replace") if paths.cafile else ""
            said.append((pycurl.CAINFO_BLOB, f"{usual}\n{self._certificates}".encode()))
        elif paths.cafile:
            said.append((pycurl.CAINFO, paths.cafile))
        return said

    def _target(self, url: str) -> str:
        """What is asked for (RFC 9112 §3.2), letter by letter as the URL says it: libcurl would write escapes its own way.
        A proxy is told the whole address."""
        whole = url.partition("#")[0]
        scheme, _, rest = whole.partition("://")
        if scheme == "http" and self._proxy.startswith("http"):
            return whole
        start = min(place for place in (rest.find("/"), rest.find("?"), len(rest)) if place >= 0)
        target = rest[start:]
        return target if target.startswith("/") else f"/{target}"

    @functools.cached_property
    def _usual_lines(self) -> list[bytes]:
        return self._fields(Request("http://host/"))

    def _fields(self, request: Request) -> list[bytes]:
        """The lines of the header: the request's own fields, those of the session for its host, the usual ones."""
        lasting = self._own.headers if request.host == self._own.host else ()
        given = (*lasting, *request.headers)
        names = {name.lower() for name, _ in given}
        usual = [(name, value) for name, value in self._usual if name.lower() not in names]
        if (request.body or request.method == "POST") and "content-type" not in names:
            usual.append(("Content-Type", "application/octet-stream"))
        fields = self._secrets.fields(request.host, (*usual, *given)) if self._secrets else (*usual, *given)
        lines = [f"{name}: {value}" if value else f"{name};" for name, value in fields]
        for line in lines:
            if "\r" in line or "\n" in line or "\0" in line:
                what = f'the header field "{line.partition(":")[0]}" has a line end in it'
                raise FetchFailed("bad-url", f"{without_secret(request.url)}: it cannot be sent: {what}")
        return [line.encode("utf-8", "surrogateescape") for line in (*lines, "Expect:")]

    def _failed(self, code: int, words: str, request: Request, seconds: float) -> FetchFailed:
        """What libcurl's code for a transfer that failed means."""
        import pycurl

        where = without_secret(request.url)
        if code == pycurl.E_OPERATION_TIMEDOUT and _NO_CONNECTION.match(words) and not self._proxy:
            return FetchFailed("unreachable", f"{where}: nothing answers at {request.host} within {seconds:.0f} s")
        if code == pycurl.E_OPERATION_TIMEDOUT:
            return FetchFailed("timed-out", f"{where}: no whole answer within {seconds:.0f} s")
        if code == pycurl.E_FILESIZE_EXCEEDED:
            return FetchFailed("too-large", self._too_large(where))
        if code == pycurl.E_URL_MALFORMAT:
            return FetchFailed("bad-url", f"{where}: the address cannot be sent: {words}")
        if code == pycurl.E_COULDNT_RESOLVE_HOST:
            return FetchFailed("unreachable", f'{where}: the host name "{urlsplit(request.url).hostname}" is not known')
        if self._proxy and (code in _PROXY_FAILURES or "CONNECT" in words):
            return FetchFailed("no-route", f"{where}: the proxy: {words}")
        if code == pycurl.E_COULDNT_CONNECT:
            return FetchFailed("unreachable", f"{where}: nothing answers at {request.host} ({words})")
        if code in _TLS_FAILURES:
            hint = _UNTRUSTED if "issuer" in words or "self-signed" in words else ""
            return FetchFailed("unreachable", f"{where}: no connection to {request.host}: {words}{hint}")
        return FetchFailed("broken-off", f"{where}: the reply broke off: {words}")

    def _decoded(self, raw: bytes, coding: str, where: str) -> bytes:
        try:
            return decoded(raw, coding, self._bounds.size_bytes)
        except TooLarge as error:
            raise FetchFailed("too-large", self._too_large(where)) from error
        except BadCoding as error:
            raise FetchFailed("bad-coding", f"{where}: the content coding cannot be undone: {error}") from error

    def _too_large(self, where: str) -> str:
        return f"{where}: the reply is larger than {self._bounds.size_bytes / 1e6:.0f} MB (limits.page_size)"


def _is_plain(request: Request) -> bool:
    """Whether a request is a GET and sends no content."""
    return request.method == "GET" and not request.body


def _most_connections() -> int:
    """How many connections are kept open for requests to come: half as many as this process may have files."""
    import resource

    files, _ = resource.getrlimit(resource.RLIMIT_NOFILE)
    return max(16, min(_KEPT_CONNECTIONS, files // 2)) if files > 0 else _KEPT_CONNECTIONS


def _sendable(url: str) -> str:
    """The URL with its host in the letters of host names (RFC 5891). Raises FetchFailed."""
    if url.isascii():
        return url
    parts = urlsplit(url)
    host = parts.hostname or ""
    try:
        return url.replace(host, host.encode("idna").decode(), 1) if not host.isascii() else url
    except UnicodeError as error:
        raise FetchFailed("bad-url", f"{without_secret(url)}: the address cannot be sent: {error}") from error
