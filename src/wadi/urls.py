"""URLs: resolved against a base, and normalised so that one page has one address.

Follows RFC 3986: §5.2 reference resolution, §6.2.2 syntax-based and §6.2.3 scheme-based normalisation.
Encoded slashes stay encoded, and the order of parameters is kept: servers tell them apart.
"""

from __future__ import annotations

import re
from functools import lru_cache
from urllib.parse import quote, urljoin, urlsplit, urlunsplit

SCHEMES = ("http", "https")
_DEFAULT_PORTS = {"http": 80, "https": 443}
_UNRESERVED = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~")
_ESCAPE = re.compile(r"%([0-9A-Fa-f]{2})")
_STRAY_PERCENT = re.compile(r"%(?![0-9A-Fa-f]{2})")
# What a URL may hold as it is; everything else is percent-encoded as UTF-8 (blanks, quotes, letters beyond ASCII).
_SAFE = "!#$%&'()*+,/:;=?@[]~-._"
# A path from the root, from here or from above, of segments without leading dots; with a query, a fragment.
_PLAIN_REFERENCE = re.compile(
    r"(/|(?:\.\./)*)([\w~-][\w.~-]*(?:/[\w~-][\w.~-]*)*/?(?:\?[\w.~/&=+-]+)?(?:#[\w.~/-]+)?)", re.ASCII
)
_PORT = "(?:[1-9][0-9]{0,3}|[1-5][0-9]{4}|6[0-4][0-9]{3})"
# In these nothing is to be evened out; asked first, since nearly all are so.
_EVEN = re.compile(
    rf"(?:http://[a-z0-9-]+(?:\.[a-z0-9-]+)*(?!:80/)|https://[a-z0-9-]+(?:\.[a-z0-9-]+)*(?!:443/))(?::{_PORT})?"
    r"(?:/(?!\.)[\w~!$&'()*+,;=:@.-]*)+(?:\?[\w~!$&'()*+,;=:@./-]+)?",
    re.ASCII,
)
_PLAIN_HOST = re.compile(rf"(https?)://([a-z0-9.-]+)(?::({_PORT}))?(?=[/?#]|\Z)")
_BLANKS = str.maketrans("", "", "\t\r\n")


class NotAUrl(ValueError):
    """The text does not become an absolute http(s) URL. `str()` says why."""


def resolve(base: str, reference: str) -> str:
    """The absolute URL of `reference` as found on a page at `base`; blanks around it and line ends in it are dropped.

    Raises NotAUrl when the result is not http(s) (`mailto:`, `javascript:` …) or cannot be read.
    """
    return plainly_resolved(base, reference) or _resolved(base, reference)


def plainly_resolved(base: str, reference: str) -> str | None:
    """The same for references that are paths with nothing to be evened out, as nearly all are; None for others."""
    plain = _PLAIN_REFERENCE.fullmatch(reference)
    return _before(base, plain[1]) + plain[2] if plain is not None else None


@lru_cache(maxsize=2048)
def _before(base: str, start: str) -> str:
    """What stands before a plain reference that begins so on a page: worked out once for the page, and for its neighbours."""
    path = base.partition("#")[0].partition("?")[0]
    last = path.rfind("/")
    return _resolved(path[: last + 1] if last > len("https://") else base, start + "x")[:-1]


@lru_cache(maxsize=2048)
def _resolved(base: str, reference: str) -> str:
    text = reference.strip().translate(_BLANKS)
    try:
        joined = urljoin(base, text)
        parts = urlsplit(joined)
        host = parts.hostname
        _ = parts.port
    except ValueError as error:
        raise NotAUrl(str(error)) from error
    if parts.scheme not in SCHEMES:
        raise NotAUrl(f"scheme {parts.scheme!r} is not http or https" if parts.scheme else "it is not absolute")
    if not host:
        raise NotAUrl("it has no host")
    return quote(_STRAY_PERCENT.sub("%25", joined), safe=_SAFE)


@lru_cache(maxsize=2048)
def normalised(url: str) -> str:
    """The URL by which a page is known: case, default port, dot segments and escapes evened out, no fragment."""
    if _EVEN.fullmatch(url) is not None:
        return url
    parts = urlsplit(url)
    host = (parts.hostname or "").lower()
    if ":" in host:
        host = f"[{host}]"
    port = parts.port
    if port is not None and port != _DEFAULT_PORTS.get(parts.scheme.lower()):
        host = f"{host}:{port}"
    if parts.username:
        secret = f":{parts.password}" if parts.password else ""
        host = f"{parts.username}{secret}@{host}"
    path = _without_dots(_evened(parts.path)) or "/"
    return urlunsplit((parts.scheme.lower(), host, path, _evened(parts.query), ""))


@lru_cache(maxsize=2048)
def host_of(url: str) -> str:
    """`host:port` of a URL, the unit that manners are kept for."""
    if (plain := _PLAIN_HOST.match(url)) is not None:
        return f"{plain[2]}:{plain[3] or _DEFAULT_PORTS[plain[1]]}"
    parts = urlsplit(url)
    port = parts.port or _DEFAULT_PORTS.get(parts.scheme, 0)
    return f"{(parts.hostname or '').lower()}:{port}"


def without_secret(url: str) -> str:
    """The URL with user name and password taken out, for messages and logs."""
    if "@" not in url:
        return url
    parts = urlsplit(url)
    return url if "@" not in parts.netloc else urlunsplit(parts._replace(netloc="…@" + parts.netloc.rpartition("@")[2]))


def _evened(text: str) -> str:
    """Escapes in upper case; those of unreserved characters undone (RFC 3986 §6.2.2.1 and §6.2.2.2)."""
    if "%" not in text:
        return text
    return _ESCAPE.sub(_one_escape, text)


def _one_escape(match: re.Match[str]) -> str:
    character = chr(int(match[1], 16))
    return character if character in _UNRESERVED else match[0].upper()


def _without_dots(path: str) -> str:
    """The path without `.` and `..` segments (RFC 3986 §5.2.4)."""
    if "/." not in path:
        return path
    kept: list[str] = []
    segments = path.split("/")
    for segment in segments[1:]:
        if segment == "..":
            del kept[-1:]
        elif segment != ".":
            kept.append(segment)
    if segments[-1] in (".", ".."):
        kept.append("")
    return "/" + "/".join(kept)
