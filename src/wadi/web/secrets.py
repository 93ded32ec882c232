"""Secrets of requests: put in where a request goes onto the wire, and nowhere before.

Above the transport a secret is its mark, `~secret.NAME~`, in addresses, header fields and bodies: what is stored, logged and
shown holds marks alone. The mark becomes the secret only for the hosts that the plan itself names. What a host sends back of
it, in a link or in an echo of the request, becomes the mark again before anybody sees it.
"""

from __future__ import annotations

import base64
import html
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from urllib.parse import quote, quote_plus

import orjson

from wadi.urls import host_of
from wadi.web.messages import Headers, Request

_LEAST_MASKED = 8
"""Shorter secrets are left in what hosts send: they may be words of the page."""


def mark_of(name: str) -> str:
    """What stands for the secret of a name: letters that no address and no body escapes."""
    return f"~secret.{name}~"


def basic(user: str, password: str) -> str:
    """The Authorization field of the scheme Basic (RFC 7617), in UTF-8."""
    return "Basic " + base64.b64encode(f"{user}:{password}".encode()).decode()


def bearer(token: str) -> str:
    """The Authorization field of the scheme Bearer (RFC 6750 §2.1)."""
    return f"Bearer {token}"


@dataclass(frozen=True)
class Secrets:
    """The secrets of a run: those that marks stand for, by mark, with the hosts (`host:port`) that may have them; and the
    Authorization field of requests to `authorized` hosts, empty without one."""

    values: Mapping[str, str] = field(default_factory=dict, repr=False)
    hosts: frozenset[str] = frozenset()
    authorization: str = field(default="", repr=False)
    authorized: frozenset[str] = frozenset()

    def __bool__(self) -> bool:
        return bool(self.values or self.authorization)

    def put_into(self, request: Request) -> Request:
        """The request as it goes onto the wire; its header fields are `fields`' matter."""
        if not self.values or request.host not in self.hosts:
            return request
        kind = next((value for name, value in request.headers if name.lower() == "content-type"), "")
        escape = _in_json if "json" in kind else quote_plus
        return replace(
            request,
            url=self._filled(request.url, lambda value: quote(value, safe="")),
            body=self._filled(request.body.decode("utf-8", "surrogateescape"), escape).encode(
                "utf-8", "surrogateescape"
            ),
        )

    def put_into_text(self, host: str, text: str) -> str | None:
        """A text that is typed on a page of a host; None where the host may not have what is secret in it."""
        if not self._has_mark(text):
            return text
        return self._filled(text, str) if host in self.hosts else None

    def fields(self, host: str, fields: Headers) -> Headers:
        """Header fields as they go to a host: filled in, with the Authorization field where it has none. A field with a secret
        that the host may not have is left out."""
        filled = fields
        if self.values:
            may_have = host in self.hosts
            filled = tuple(
                (name, self._filled(value, str)) for name, value in fields if may_have or not self._has_mark(value)
            )
        has_own = any(name.lower() == "authorization" for name, _ in filled)
        if self.authorization and host in self.authorized and not has_own:
            return (*filled, ("Authorization", self.authorization))
        return filled

    def masked(self, host: str, data: bytes) -> bytes:
        """What a host sent with the marks in place of secrets that it was sent."""
        if host in self.hosts or host in self.authorized:
            for written, mark in self._written:
                data = data.replace(written, mark)
        return data

    def masked_fields(self, host: str, fields: Headers) -> Headers:
        """The same of header fields."""
        return tuple(
            (name, self.masked(host, value.encode("utf-8", "surrogateescape")).decode("utf-8", "surrogateescape"))
            for name, value in fields
        )

    def _filled(self, text: str, escape: Callable[[str], str]) -> str:
        for mark, value in self.values.items():
            if mark in text:
                text = text.replace(mark, escape(value))
        return text

    def _has_mark(self, text: str) -> bool:
        return any(mark in text for mark in self.values)

    @cached_property
    def _written(self) -> list[tuple[bytes, bytes]]:
        """Each secret as hosts may write it, the longest first, with its mark."""
        found: list[tuple[bytes, bytes]] = []
        known = [*self.values.items()]
        if self.authorization:
            known.append((mark_of("authorization"), self.authorization.partition(" ")[2]))
        for mark, value in known:
            if len(value) < _LEAST_MASKED:
                continue
            ways = {value, quote(value, safe=""), quote(value), quote_plus(value), html.escape(value), _in_json(value)}
            for way in sorted(ways, key=len, reverse=True):
                found.append((way.encode("utf-8", "surrogateescape"), mark.encode()))
        return found


def _in_json(value: str) -> str:
    return orjson.dumps(value).decode()[1:-1]


def without_credentials(url: str) -> tuple[str, str]:
    """A URL without its user name and password, and the Authorization field that they come to; empty where it has none."""
    from urllib.parse import unquote, urlsplit, urlunsplit

    parts = urlsplit(url)
    if "@" not in parts.netloc:
        return url, ""
    credentials, _, place = parts.netloc.rpartition("@")
    user, _, password = credentials.partition(":")
    return urlunsplit(parts._replace(netloc=place)), basic(unquote(user), unquote(password))


def for_url(url: str) -> tuple[str, Secrets]:
    """A URL to be asked for, and what it says of who asks: for its own host alone."""
    plain, authorization = without_credentials(url)
    return plain, Secrets(
        authorization=authorization, authorized=frozenset({host_of(plain)}) if authorization else frozenset()
    )
