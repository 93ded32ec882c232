"""URLs: resolved as browsers do, and normalised so that one page has one address.

Reading and resolving follow the URL Standard (WHATWG), by a library that is that: hosts beyond ASCII, backslashes, tabs, default
ports, dot segments, what is percent-encoded. What counts as the same address is our own rule on top of it (RFC 3986 §6.2.2):
escapes evened out, no fragment; encoded slashes stay encoded, and the order of parameters is kept: servers tell them apart.
"""

from __future__ import annotations

import re
from functools import lru_cache
from urllib.parse import urlsplit, urlunsplit

SCHEMES = ("http", "https")
LOCAL = "file"
"""The scheme of local files (RFC 8089), which pages that are such files alone lead to."""
_DEFAULT_PORTS = {"http": 80, "https": 443}
_UNRESERVED = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~")
_ESCAPE = re.compile(r"%([0-9A-Fa-f]{2})")
_SCHEME = re.compile(r"[\x00-\x20]*([A-Za-z][A-Za-z0-9+.-]*):")
_QUERY = re.compile(r"\?([^#]*)")
_BEYOND_ASCII = re.compile(r"[^\x00-\x7f]+")


class NotAUrl(ValueError):
    """The text does not become an absolute http(s) URL. `str()` says why."""


@lru_cache(maxsize=2048)
def resolve(base: str, reference: str, encoding: str = "utf-8") -> str:
    """The absolute URL of `reference` as found on a page at `base`, its fragment kept.

    Raises NotAUrl when the result cannot be asked for: it is not http(s) (`mailto:`, `javascript:` …), nor, on a page that is a
    local file, another one; or when it cannot be read.
    """
    url = absolute(base, reference, encoding)
    scheme = url.partition(":")[0]
    if scheme not in SCHEMES and not (scheme == LOCAL and base.startswith(f"{LOCAL}:")):
        raise NotAUrl(f"scheme {scheme!r} is not http or https")
    return url


def absolute(base: str, reference: str, encoding: str = "utf-8") -> str:
    """The absolute URL of a reference, whatever its scheme. Raises NotAUrl when it cannot be read.

    `encoding` is the page's: what stands beyond ASCII in a query is sent in it (URL Standard §4.4, "encoding override").
    """
    import ada_url

    text = _query_encoded(reference, encoding) if encoding != "utf-8" and not reference.isascii() else reference
    try:
        return str(ada_url.join_url(base, text) if base else ada_url.normalize_url(text))
    except ValueError as error:
        raise NotAUrl(_why_not(base, reference)) from error


def _why_not(base: str, reference: str) -> str:
    """What is wrong with a reference that the standard's parser refuses."""
    said = _SCHEME.match(reference)
    if said is None:
        return "it cannot be read as a URL" if _SCHEME.match(base) else "it is not absolute"
    if said[1].lower() in SCHEMES and not reference.partition(":")[2].strip("/\\ ").partition("?")[0]:
        return "it has no host"
    return "its host or port cannot be read" if said[1].lower() in SCHEMES else "it cannot be read as a URL"


def _query_encoded(reference: str, encoding: str) -> str:
    """The reference with its query's characters beyond ASCII as bytes of an encoding, percent-encoded."""
    import webencodings

    known = webencodings.lookup(encoding)
    if known is None or known.name.startswith("utf-16"):
        return reference
    name = known.codec_info.name

    def encoded(found: re.Match[str]) -> str:
        # What the encoding lacks goes out as a character reference, percent-encoded (§1.3).
        written = found[0].encode(name, "xmlcharrefreplace")
        return "".join(f"%{byte:02X}" if byte > 127 or byte in b"&#;" else chr(byte) for byte in written)

    return _QUERY.sub(lambda query: _BEYOND_ASCII.sub(encoded, query[0]), reference, count=1)


@lru_cache(maxsize=2048)
def normalised(url: str) -> str:
    """The URL by which a page is known: as the standard writes it, escapes evened out, no fragment."""
    return addressed(url).partition("#")[0]


def addressed(url: str) -> str:
    """The URL as it is written in a table: as the standard writes it, escapes evened out, its fragment kept."""
    import ada_url

    try:
        return _evened(str(ada_url.normalize_url(url)))
    except ValueError:
        return url  # what is no URL is known by what it is


_AUTHORITY = re.compile(r"[^/?#]*//[^/?#]*")


def host_of(url: str) -> str:
    """`host:port` of a URL, the unit that manners are kept for; of local files `files`."""
    found = _AUTHORITY.match(url)
    return _host_of(found[0] if found is not None else url)


@lru_cache(maxsize=8192)
def _host_of(url: str) -> str:
    parts = urlsplit(url)
    if parts.scheme == LOCAL:
        return "files"
    try:
        port = parts.port
    except ValueError:
        port = None
    return f"{(parts.hostname or '').lower()}:{port or _DEFAULT_PORTS.get(parts.scheme, 0)}"


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


# A path from the root, from here or from above, of segments without leading dots; with a query, a fragment.
_PLAIN_REFERENCE = re.compile(
    r"(/|(?:\.\./)*)([\w~-][\w.~-]*(?:/[\w~-][\w.~-]*)*/?(?:\?[\w.~/&=+-]+)?(?:#[\w.~/-]+)?)", re.ASCII
)


def plain_address(reference: str, base: str) -> str | None:
    """The address of a reference that is a path with nothing to be evened out, as most are; None for others."""
    if (plain := _PLAIN_REFERENCE.fullmatch(reference)) is None:
        return None
    start = _before(base, plain[1])
    return start + plain[2] if start is not None else None


@lru_cache(maxsize=256)
def _before(base: str, start: str) -> str | None:
    """What stands before a plain reference that begins so on a page: worked out once for the page."""
    try:
        return addressed(resolve(base, f"{start}x"))[:-1]
    except NotAUrl:
        return None
