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
_BLANKS = b"\t\n\x0c\r "
_XML = re.compile(rb"<\?xml\b[^>]*?encoding\s*=\s*[\"']([^\"'>]+)[\"']")
_IN_CONTENT = re.compile(
    r"charset[\t\n\x0c\r ]*=[\t\n\x0c\r ]*(?:\"([^\"]*)\"|'([^']*)'|([^\t\n\x0c\r ;\"']+))", re.IGNORECASE
)
_CHARSET = re.compile(r"charset\s*=\s*[\"']?([^\s\"';,]+)", re.IGNORECASE)
_GUESS_SAMPLE = 65_536
_FEW = 30
_WESTERN_SIGNS = frozenset("€‚„…‘’“”•–—™ ¡£§©«®°±²³´·»½¿×")


@dataclass(frozen=True, slots=True)
class Encoding:
    """The encoding of a page: its WHATWG name and what told us."""

    name: str
    learned_from: LearnedFrom


def decoded(body: bytes, content_type: str = "") -> tuple[str, Encoding]:
    """The page as text without byte order mark, and the encoding that it came in."""
    encoding = encoding_of(body, content_type)
    if encoding.name == "utf-8":
        return body.removeprefix(codecs.BOM_UTF8).decode("utf-8", "replace"), encoding
    text, _ = webencodings.decode(body, encoding.name, errors="replace")
    return text, encoding


def encoding_of(body: bytes, content_type: str = "") -> Encoding:
    """The encoding that a browser would choose for these bytes with this Content-Type."""
    for mark, name in _MARKS:
        if body.startswith(mark):
            return Encoding(name, "byte order mark")
    said = _CHARSET.search(content_type)
    if said and (known := webencodings.lookup(said[1])):
        return Encoding(known.name, "HTTP header")
    if (named := meta_encoding(body[:_PRESCAN])) is not None:
        return Encoding(named, "meta element")
    if (declared := _XML.match(body[:_PRESCAN].lstrip())) and (named := _known(declared[1])):
        return Encoding(named, "XML declaration")
    if _is_utf8(body):
        return Encoding("utf-8", "valid UTF-8")
    return Encoding(_guessed(body), "guess")


def meta_encoding(head: bytes) -> str | None:
    """The encoding that a `meta` element states (HTML Standard §13.2.3.2, "prescan a byte stream"); None without one."""
    at = 0
    while (at := head.find(b"<", at)) >= 0:
        rest = head[at : at + 6].lower()
        if rest.startswith(b"<!--"):
            end = head.find(b"-->", at + 2)
            if end < 0:
                return None
            at = end + 3
        elif rest[:5] == b"<meta" and rest[5:6] and rest[5] in b"/" + _BLANKS:
            attributes, at = _attributes(head, at + 5)
            if at > len(head):
                return None  # the tag is not whole
            if (stated := _stated(attributes)) is not None:
                return stated
        elif rest[1:2].isalpha() or (rest[1:2] == b"/" and rest[2:3].isalpha()):
            while at < len(head) and head[at] not in b">" + _BLANKS:
                at += 1
            _, at = _attributes(head, at)
        elif rest[1:2] in (b"!", b"/", b"?"):
            end = head.find(b">", at)
            if end < 0:
                return None
            at = end + 1
        else:
            at += 1
    return None


def _stated(attributes: dict[str, str]) -> str | None:
    """What the attributes of a `meta` say; `content` counts only beside `http-equiv="content-type"`."""
    if "charset" in attributes:
        return _known(attributes["charset"].encode("latin-1"))
    content = _IN_CONTENT.search(attributes.get("content", ""))
    if content is None or attributes.get("http-equiv") != "content-type":
        return None
    return _known(next(group for group in content.groups() if group is not None).encode("latin-1"))


def _attributes(head: bytes, at: int) -> tuple[dict[str, str], int]:
    """The attributes of a tag, names and values in small letters, the first of a name; and where it ends."""
    found: dict[str, str] = {}
    while True:
        name, value, at = _attribute(head, at)
        if name is None:
            return found, at + 1
        found.setdefault(name.decode("latin-1"), value.decode("latin-1"))


def _attribute(head: bytes, at: int) -> tuple[bytes | None, bytes, int]:
    """The next attribute of a tag and where it ends ("get an attribute"); None for its name at the end of the tag."""
    end = len(head)
    while at < end and head[at] in b"/" + _BLANKS:
        at += 1
    if at >= end or head[at] == 0x3E:
        return None, b"", at
    start = at
    at += head[at] == 0x3D  # a name may begin with an equals sign
    while at < end and head[at] not in b"=/>" + _BLANKS:
        at += 1
    name = head[start:at].lower()
    after = at
    while after < end and head[after] in _BLANKS:
        after += 1
    if after >= end or head[after] != 0x3D:
        return name, b"", at
    after += 1
    while after < end and head[after] in _BLANKS:
        after += 1
    if after < end and head[after] in b"\"'":
        close = head.find(head[after : after + 1], after + 1)
        if close < 0:
            return None, b"", end
        return name, head[after + 1 : close].lower(), close + 1
    start = after
    while after < end and head[after] not in b">" + _BLANKS:
        after += 1
    return (name, head[start:after].lower(), after) if after < end else (None, b"", end)


def _known(label: bytes) -> str | None:
    """The name for a label found inside the page. One that says UTF-16 is wrong there, since we could read it: UTF-8."""
    text = label.decode("ascii", "replace").strip("\t\n\x0c\r ").lower()
    if text == "x-user-defined":
        return "windows-1252"
    known = webencodings.lookup(text)
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
