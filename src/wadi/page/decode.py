"""Bytes to text as browsers do it: byte order mark, then HTTP charset, then what the page says, then a guess.

Labels follow the WHATWG Encoding Standard (`latin1` means windows-1252). Broken bytes become U+FFFD and stop no page.
"""

from __future__ import annotations

import codecs
import re
from dataclasses import dataclass
from typing import Literal

import webencodings

LearnedFrom = Literal["byte order mark", "HTTP header", "meta element", "XML declaration", "valid UTF-8", "guess"]

_MARKS = ((codecs.BOM_UTF8, "utf-8"), (codecs.BOM_UTF16_LE, "utf-16le"), (codecs.BOM_UTF16_BE, "utf-16be"))
# The HTML Standard looks at 1024 bytes; real pages put long comments first, so we look further.
_PRESCAN = 8192
_COMMENT = re.compile(rb"<!--.*?-->", re.DOTALL)
_META = re.compile(rb"<meta\b[^>]*?charset\s*=\s*[\"']?\s*([^\s\"'/>;]+)", re.IGNORECASE)
_XML = re.compile(rb"^\s*<\?xml\b[^>]*?encoding\s*=\s*[\"']([^\"']+)[\"']", re.IGNORECASE)
_CHARSET = re.compile(r"charset\s*=\s*[\"']?([^\s\"';,]+)", re.IGNORECASE)
_GUESS_SAMPLE = 65_536
_FEW = 30
_WESTERN_SIGNS = frozenset("€‚„…‘’“”•–—™ ¡£§©«®°±²³´·»½¿×")


@dataclass(frozen=True, slots=True)
class Encoding:
    """The encoding of a page: its WHATWG name and what told us."""

    name: str
    learned_from: LearnedFrom


def utf8_of(body: bytes, content_type: str = "") -> tuple[bytes, Encoding]:
    """The page as UTF-8 bytes without byte order mark or NUL, and the encoding that it came in."""
    encoding = encoding_of(body, content_type)
    if encoding.learned_from == "byte order mark":
        body = body.removeprefix(codecs.BOM_UTF8)
    if encoding.name == "utf-8" and _is_utf8(body):
        data = body
    else:
        text, _ = webencodings.decode(body, encoding.name, errors="replace")
        data = text.encode("utf-8", "replace")
    return (data.replace(b"\0", "\ufffd".encode()) if b"\0" in data else data), encoding


def encoding_of(body: bytes, content_type: str = "") -> Encoding:
    """The encoding that a browser would choose for these bytes with this Content-Type."""
    for mark, name in _MARKS:
        if body.startswith(mark):
            return Encoding(name, "byte order mark")
    said = _CHARSET.search(content_type)
    if said and (known := webencodings.lookup(said[1])):
        return Encoding(known.name, "HTTP header")
    head = _COMMENT.sub(b"", body[:_PRESCAN])
    if (meta := _META.search(head)) and (named := _known(meta[1])):
        return Encoding(named, "meta element")
    if (declared := _XML.match(head)) and (named := _known(declared[1])):
        return Encoding(named, "XML declaration")
    if _is_utf8(body):
        return Encoding("utf-8", "valid UTF-8")
    return Encoding(_guessed(body), "guess")


def _known(label: bytes) -> str | None:
    """The name for a label found inside the page. One that says UTF-16 is wrong there, since we could read it: UTF-8."""
    known = webencodings.lookup(label.decode("ascii", "replace"))
    if known is None:
        return None
    return "utf-8" if known.name.startswith("utf-16") else str(known.name)


def _is_utf8(body: bytes) -> bool:
    try:
        body.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return True


def _guessed(body: bytes) -> str:
    """An encoding by statistics; where there are too few letters beyond ASCII for those, the fallback of browsers."""
    if sum(byte > 127 for byte in body[:_GUESS_SAMPLE]) < _FEW and _is_western(body[:_GUESS_SAMPLE]):
        return "windows-1252"
    from charset_normalizer import from_bytes

    best = from_bytes(body[:_GUESS_SAMPLE]).best()
    known = webencodings.lookup(best.encoding.replace("_", "-")) if best else None
    return str(known.name) if known else "windows-1252"


def _is_western(body: bytes) -> bool:
    """Whether all that is beyond ASCII are letters standing among letters, or signs that texts have, in windows-1252."""
    text = body.decode("windows-1252", "replace")
    return all(
        char.isascii() or char in _WESTERN_SIGNS or (char.isalpha() and not (before.isalpha() and not before.isascii()))
        for before, char in zip(" " + text, text, strict=False)
    )
