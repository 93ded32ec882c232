"""What goes out and what comes back: requests, replies, and failures to get a reply."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, replace
from typing import Literal

from wadi.urls import host_of, normalised
from wadi.web.pickled import pickled_by_value
from wadi.web.rendering import Rendering

Headers = tuple[tuple[str, str], ...]


def header_text(line: bytes) -> str:
    """A line of a head as text: UTF-8 where it is that, as nearly all are beyond ASCII, else Latin-1, which any bytes are
    (RFC 9110 §5.5)."""
    try:
        return line.decode("utf-8")
    except UnicodeDecodeError:
        return line.decode("latin-1")


_NEGOTIATING = frozenset({"accept", "accept-language", "accept-charset"})


@dataclass(frozen=True, slots=True)
class Hop:
    """One redirect on the way: the URL that answered, with what status."""

    url: str
    status: int


@pickled_by_value
@dataclass(frozen=True, slots=True)
class Request:
    """One request. `url` is sent as it stands (already escaped), without its fragment; `route` names the way that it goes,
    where a plan has named ones; `rendering` is how a browser shows the page, where one does; `turn` how often it has gone on
    there, and `typed` the inputs that are typed there. `led_to` is the URL from which to go on, where `hops` led there before."""

    url: str
    method: str = "GET"
    headers: Headers = ()
    body: bytes = b""
    route: str = ""
    rendering: Rendering | None = None
    turn: int = 0
    typed: Headers = ()
    hops: tuple[Hop, ...] = ()
    led_to: str = ""

    @property
    def host(self) -> str:
        """The host that is asked, `host:port`."""
        return host_of(self.led_to or self.url)

    @property
    def identity(self) -> str:
        """What makes two requests the same: method, normalised URL (RFC 3986 §6), body, what replies vary by, and
        the named route.

        Of the header fields those count by which content is negotiated (RFC 9110 §12.5); others may hold a token that is
        another one each time.
        """
        digest = f" {hashlib.sha256(self.body).hexdigest()}" if self.body else ""
        asked_for = "".join(f" {n.lower()}: {v}" for n, v in self.headers if n.lower() in _NEGOTIATING)
        way = f" by {self.route}" if self.route else ""
        way += f" shown {self.rendering!r}" if self.rendering is not None else ""
        way += "".join(f" typed {name}={value!r}" for name, value in self.typed)
        way += f" turn {self.turn}" if self.turn else ""
        return f"{self.method} {normalised(self.url)}{digest}{asked_for}{way}"


@pickled_by_value
@dataclass(frozen=True, slots=True)
class Reply:
    """A whole reply. `body` has its content coding undone; `url` is where the redirects ended.

    `started_at` is in seconds since 1970 (UTC); the other times are durations in seconds.
    `received_bytes` is the size of the body on the wire; `left_out_bytes` that of a body which is not at hand any more. `tries`
    is how often the request was sent. `beside` are the background replies that are data, of a page that a browser showed.
    """

    request: Request
    url: str
    status: int
    headers: Headers
    body: bytes
    started_at: float
    first_byte_s: float = 0.0
    elapsed_s: float = 0.0
    received_bytes: int = 0
    hops: tuple[Hop, ...] = ()
    left_out_bytes: int = 0
    tries: int = 1
    beside: tuple[Reply, ...] = ()

    @property
    def size_bytes(self) -> int:
        """The size of the body, its content coding undone."""
        return self.left_out_bytes or len(self.body)

    def without_body(self) -> Reply:
        """The same where the body has been read and only its size is of interest."""
        return replace(self, body=b"", left_out_bytes=self.size_bytes, beside=())

    def header(self, name: str) -> str:
        """The value of a header field, lines of the same name joined with commas (RFC 9110 §5.3); empty without it."""
        wanted = name.lower()
        return ", ".join(value for key, value in self.headers if key.lower() == wanted)

    @property
    def is_end(self) -> bool:
        """Whether a browser found that a listing does not go on: the page has nothing that was not there before."""
        return bool(self.header(END_OF_TURNS))

    @property
    def content_type(self) -> str:
        return self.header("content-type")


END_OF_TURNS = "Wadi-End-Of-Turns"
"""The header field, of our own, of a page by which a browser says that a listing did not go on."""
NOTICED = "Wadi-Noticed"
"""The header field, of our own, with what a page did besides in a browser: a dialog, a download, a window."""
Cause = Literal[
    "unreachable",
    "timed-out",
    "broken-off",
    "too-large",
    "bad-coding",
    "redirect-loop",
    "http-status",
    "bad-url",
    "robots",
    "no-route",
    "route-withdrawn",
    "private-address",
    "led-elsewhere",
    "not-stored",
]
"""Why there is no page: a problem's code."""


class FetchFailed(Exception):
    """A request that gave no page. `reply` is there when the host answered, with a status that is no success; `tries` is how
    often it was sent."""

    def __init__(self, cause: Cause, what: str, reply: Reply | None = None, *, tries: int = 1) -> None:
        super().__init__(what)
        self.cause: Cause = cause
        self.what = what
        self.reply = reply
        self.tries = tries
