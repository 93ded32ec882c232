"""A session that began elsewhere: cookies from a file, or the headers of a request saved from a browser's network panel.

What is read here goes to the transport and nowhere else: it is not stored and not logged.
"""

from __future__ import annotations

import itertools
import json
import re
import shlex
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit

from wadi.urls import host_of
from wadi.web.messages import Headers

_KEPT = re.compile(r"cookie|authorization|x-[\w-]+|csrf[\w-]*|referer|origin", re.IGNORECASE)
_REQUEST_LINE = re.compile(r"([A-Z]+) (\S+)(?: HTTP/[\d.]+)?$")
_COLUMNS = 7
_HTTP_ONLY = "#HttpOnly_"


class BadSession(ValueError):
    """The file holds no cookies and no request; `str()` says why."""


@dataclass(frozen=True, slots=True)
class Cookie:
    """A cookie for a domain and, unless `host_only`, those below it. `expires` in seconds since 1970, 0 for none."""

    domain: str
    path: str
    name: str
    value: str
    secure: bool = False
    host_only: bool = True
    expires: float = 0.0


@dataclass(frozen=True, slots=True)
class Session:
    """Cookies, and header fields for one host (`host:port`); `expired` counts cookies that were left out."""

    cookies: tuple[Cookie, ...] = ()
    host: str = ""
    headers: Headers = ()
    expired: int = 0


def read_cookies(text: str, now: float) -> Session:
    """The session in a file of cookies: seven columns with tabs between: domain, below it too, path, secure, expires,
    name, value. Lines that begin with # are comments, but for `#HttpOnly_`. Raises BadSession.
    """
    cookies: list[Cookie] = []
    expired = 0
    for number, line in enumerate(text.lstrip("\ufeff").splitlines(), 1):
        if not line.strip() or (line.startswith("#") and not line.startswith(_HTTP_ONLY)):
            continue
        try:
            cookie = cookie_of_line(line)
        except BadSession as error:
            raise BadSession(f"line {number} {error}") from error
        if cookie.expires and cookie.expires < now:
            expired += 1
            continue
        cookies.append(cookie)
    if not cookies:
        raise BadSession(f"all cookies in it have expired ({expired})" if expired else "there are no cookies in it")
    return Session(tuple(cookies), expired=expired)


def cookie_of_line(line: str) -> Cookie:
    """A cookie in a line of seven columns. Raises BadSession."""
    cells = line.removeprefix(_HTTP_ONLY).split("\t")
    if len(cells) != _COLUMNS:
        raise BadSession(f"has {len(cells)} columns with tabs between, and cookies have {_COLUMNS}")
    domain, below, path, secure, expires, name, value = cells
    try:
        until = float(expires or 0)
    except ValueError as error:
        raise BadSession(f'has "{expires}", which is no time in seconds') from error
    host_only = below.upper() != "TRUE"
    return Cookie(domain.lstrip("."), path, name, value, secure.upper() == "TRUE", host_only, until)


def read_saved_request(text: str) -> Session:
    """The session of a saved request: its Cookie, Authorization and X- headers, for its host only.

    Three forms are read: the request as text (request line and headers), a command line with `-H` options, and an HTTP
    archive (JSON), of which the last request with a cookie or an authorization counts. Raises BadSession.
    """
    stripped = text.lstrip("\ufeff \r\n\t")
    if stripped.startswith("{"):
        url, headers = _of_archive(stripped)
    elif _REQUEST_LINE.match(stripped.splitlines()[0] if stripped else ""):
        url, headers = _of_text(stripped)
    else:
        url, headers = _of_command(stripped)
    kept = tuple((name, value) for name, value in headers if _KEPT.fullmatch(name))
    try:
        host = urlsplit(url).hostname or ""
    except ValueError as error:
        raise BadSession(f"its address is none: {error}") from error
    cookies = tuple(
        Cookie(host, "/", name.strip(), value.strip())
        for key, text in kept
        if key.lower() == "cookie"
        for name, _, value in (pair.partition("=") for pair in text.split(";"))
        if name.strip()
    )
    others = tuple((name, value) for name, value in kept if name.lower() != "cookie")
    if not cookies and not others:
        raise BadSession("the request has neither cookies nor an authorization")
    return Session(cookies, host_of(url), others)


def _of_text(text: str) -> tuple[str, list[tuple[str, str]]]:
    first, *lines = text.splitlines()
    target = first.split()[1]
    headers: list[tuple[str, str]] = []
    for line in lines:
        if not line.strip():
            break
        name, colon, value = line.partition(":")
        if not colon:
            raise BadSession(f'"{line[:40]}" is no header line')
        headers.append((name.strip(), value.strip()))
    host = next((value for name, value in headers if name.lower() == "host"), "")
    url = target if "://" in target else f"http://{host}{target}"
    if not host and "://" not in target:
        raise BadSession("the request has no Host header")
    return url, headers


def _of_command(text: str) -> tuple[str, list[tuple[str, str]]]:
    try:
        words = shlex.split(text.replace("\\\n", " ").replace("\\\r\n", " "))
    except ValueError as error:
        raise BadSession(f"it is no request that can be read: {error}") from error
    headers: list[tuple[str, str]] = []
    for option, value in itertools.pairwise(words):
        if option in ("-H", "--header"):
            name, _, rest = value.partition(":")
            headers.append((name.strip(), rest.strip()))
        elif option in ("-b", "--cookie"):
            headers.append(("Cookie", value))
    url = next((word for word in words if word.startswith(("http://", "https://"))), "")
    if not url or not headers:
        raise BadSession("it is neither a request (GET /path …), nor a command line with -H, nor an HTTP archive")
    return url, headers


def _of_archive(text: str) -> tuple[str, list[tuple[str, str]]]:
    try:
        data: Any = json.loads(text)
        requests = [entry["request"] for entry in data["log"]["entries"]]
        found = [(str(r["url"]), [(str(h["name"]), str(h["value"])) for h in r["headers"]]) for r in requests]
    except (ValueError, KeyError, TypeError, RecursionError) as error:
        raise BadSession(f"it is no HTTP archive: {error}") from error
    named = [form for form in found if _has_secret(name for name, _ in form[1])]
    if not named:
        raise BadSession("no request in it has cookies or an authorization")
    return named[-1]


def _has_secret(names: Iterable[str]) -> bool:
    return any(name.lower() in ("cookie", "authorization") for name in names)
