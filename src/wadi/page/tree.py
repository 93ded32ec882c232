"""HTML bytes to the tree that a browser's inspector shows: the HTML Standard's, implied `tbody` included.

Two ways. *strict*: lexbor, a conforming parser, builds the Standard's tree; its serialisation is turned into XML, which
lxml reads without second thoughts. *fast*: lxml's own HTML parser, which differs on many pages (no implied `tbody`,
misnested and stray elements kept, SVG names in small letters).

Strict is the default on every page: on a 15 KB page it costs 1.6 ms against 0.9 ms, and the cheapest test that could tell
that a page does not need it costs the 0.7 ms that it would save (docs/pages.md has the figures).
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from itertools import accumulate
from typing import Literal

from lxml import etree

Way = Literal["strict", "fast"]

VOID = ("area base basefont bgsound br col embed frame hr img input keygen link meta param source track wbr").split()
_RAW = "script|style|xmp|iframe|noembed|noframes|plaintext"
# What has to change between lexbor's serialisation and XML: comments and doctype, raw text, elements without end tags.
_PIECES = re.compile(
    rf"<(?:!--(.*?)-->|!DOCTYPE[^>]*>|({_RAW})((?: [^>]*)?)>(.*?)</\2>|((?:{'|'.join(VOID)})(?: [^>]*)?)>)",
    re.DOTALL,
)
_NAMESPACE = re.compile(r' xmlns(?::[\w.\-]+)?="[^"]*"')
_ATTRIBUTE = re.compile(r' ([^\s=]+)="([^"]*)"')
_NAME = re.compile(r"[A-Za-z_][\w.\-]*\Z")
_PLAIN = re.compile(r'[A-Za-z_][\w.\-]*(?: [A-Za-z_][\w.\-]*="[^"<&]*")*\Z')
_BARE_AMPERSAND = re.compile(r"&(?!(?:amp|lt|gt|quot);)")
# Characters that XML 1.0 cannot hold; a reader does not see them either.
_CONTROLS = bytes(c for c in range(32) if c not in b"\t\n\f\r")
_NOT_XML = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff]")

# lexbor, like every parser that follows the Standard to the letter, takes time by the square of the depth.
_MANY_TAGS = 1500
_DEPTH_LIMIT = 512
_TAG = re.compile(rb"</?[A-Za-z][A-Za-z0-9]*")
_OFTEN_UNCLOSED = frozenset(
    name.encode() for name in [*VOID, *"p li td th tr dt dd option tbody thead html body head".split()]
)
_CUT_OFF_CODES = frozenset({"ERR_RESOURCE_LIMIT", "ERR_EXCESSIVE_DEPTH", "ERR_NAME_TOO_LONG"})


@dataclass(frozen=True, slots=True)
class Tree:
    """A parsed page. `cut_off` says why the end of the page is missing, if it is; `why_fast` why strict was not used."""

    root: etree._Element
    way: Way
    cut_off: str = ""
    why_fast: str = ""


def html_tree(data: bytes, way: Way = "strict") -> Tree | None:
    """The tree of an HTML page in UTF-8; None when there is no element in it.

    Pages nested deeper than 512 levels, and the few whose tree XML cannot hold, are read fast whatever `way` says.
    """
    if not data.strip():
        return None
    if way == "fast":
        return _fast(data)
    if is_deep(data):
        return _fast(data, f"it is nested deeper than {_DEPTH_LIMIT} levels")
    try:
        return _strict(data)
    except etree.XMLSyntaxError as error:
        return _fast(data, f"its tree cannot be handed over: {error}")


def is_deep(data: bytes) -> bool:
    """Whether a page nests so deeply that it is read fast."""
    return depth_of(data) > _DEPTH_LIMIT


def depth_of(data: bytes) -> int:
    """About how deep the elements nest: exact enough to tell pages from traps, 0 for pages of few tags."""
    if data.count(b"<") < _MANY_TAGS:
        return 0
    return max(accumulate(map(_Steps().__getitem__, _TAG.findall(data))), default=0)


class _Steps(dict[bytes, int]):
    """Tag → how many levels it leads down: 1 for a start tag, -1 for an end tag, 0 for those whose ends are often left out."""

    def __missing__(self, tag: bytes) -> int:
        name = tag.lstrip(b"</").lower()
        step = self[tag] = 0 if name in _OFTEN_UNCLOSED else -1 if tag.startswith(b"</") else 1
        return step


def _fast(data: bytes, why: str = "") -> Tree | None:
    parser = etree.HTMLParser(encoding="utf-8", huge_tree=True, collect_ids=False, remove_pis=True)
    try:
        root = etree.fromstring(data, parser)
    except etree.XMLSyntaxError:
        return None
    if root is None:
        return None
    cut_off = next((entry.message for entry in parser.error_log if entry.type_name in _CUT_OFF_CODES), "")
    return Tree(root, "fast", cut_off, why)


def _strict(data: bytes) -> Tree | None:
    from selectolax.lexbor import LexborHTMLParser

    html = LexborHTMLParser(data).html or ""
    if len(data.translate(None, _CONTROLS)) != len(data):
        html = _NOT_XML.sub("", html)
    if "xmlns" in html:
        html = _NAMESPACE.sub("", html)
    xml = _PIECES.sub(_as_xml, html)
    if "&nbsp;" in xml:
        xml = xml.replace("&nbsp;", "\u00a0")
    try:
        root = _read_xml(xml)
    except etree.XMLSyntaxError:
        # Prefixed or odd names, `<` in attributes, or controls that came as character references.
        root = _read_xml(thorough_xml(_NOT_XML.sub("", html)))
    return Tree(root, "strict") if _holds_something(root) else None


def _holds_something(root: etree._Element) -> bool:
    """Whether there is more than the head and body that the Standard makes for every page."""
    if len(root) != 2 or len(root[0]) or len(root[1]):
        return True
    return bool((root[1].text or "").strip() or root[1].attrib)


def _read_xml(xml: str) -> etree._Element:
    parser = etree.XMLParser(
        encoding="utf-8", huge_tree=True, resolve_entities=False, collect_ids=False, no_network=True
    )
    # A comment before or after the root is legal in XML too.
    return etree.fromstring(xml.encode("utf-8", "replace"), parser)


def _as_xml(piece: re.Match[str]) -> str:
    comment, raw, attributes, text, void = piece.groups()
    if void is not None:
        return f"<{void}/>"
    if raw is not None:
        return f"<{raw}{attributes}>{_escaped(text)}</{raw}>"
    return f"<!--{comment}-->" if comment and "--" not in comment and not comment.endswith("-") else ""


def _escaped(text: str) -> str:
    return text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")


def thorough_xml(html: str) -> str:
    """The serialisation as XML, piece by piece: for pages with `<` in attributes, prefixed names or odd attribute names.

    Elements whose names XML cannot hold get underscores for what it cannot; such attributes are left out.
    """
    parts = html.split("<")
    out = [parts[0]]
    known: dict[str, str] = {}
    place = 1
    while place < len(parts):
        part, place = _whole_tag(parts, place)
        if part.startswith("!"):
            mark = "-->" if part.startswith("!--") else ">"
            out.append(part.partition(mark)[2])
            continue
        tag, after = part[: (end := _tag_end(part))], part[end + 1 :]
        if tag.startswith("/"):
            out.append(f"</{_xml_name(tag[1:])}>{after}")
            continue
        name = tag.partition(" ")[0]
        if tag not in known:
            known[tag] = _xml_tag(tag, name)
        if re.fullmatch(_RAW, name):
            while place < len(parts) and not parts[place].startswith(f"/{name}>"):
                after += "<" + parts[place]
                place += 1
            after = _escaped(after)
        out.append(f"<{known[tag]}>{after}")
    return "".join(out).replace("&nbsp;", "\u00a0")


def _whole_tag(parts: list[str], place: int) -> tuple[str, int]:
    """The part at a place, joined with those after it while a comment or a quoted `<` cut it; and the next place."""
    part = parts[place]
    place += 1
    while place < len(parts) and (("-->" not in part) if part.startswith("!--") else _tag_end(part) < 0):
        part += "<" + parts[place]
        place += 1
    return part, place


def _tag_end(part: str) -> int:
    """Where the `>` stands that ends the tag, past those inside quotes; -1 when it does not end here."""
    end = part.find(">")
    while end >= 0 and part.count('"', 0, end) % 2:
        end = part.find(">", end + 1)
    return end


def _xml_tag(tag: str, name: str) -> str:
    if not _PLAIN.match(tag):
        pairs = (
            (n.rpartition(":")[2] if n.startswith("xlink:") else n, v) for n, v in _ATTRIBUTE.findall(tag[len(name) :])
        )
        seen: dict[str, str] = {}
        for attribute, value in pairs:
            if _NAME.match(attribute):
                seen.setdefault(
                    attribute, _BARE_AMPERSAND.sub("&amp;", value.replace("&nbsp;", "\u00a0")).replace("<", "&lt;")
                )
        tag = _xml_name(name) + "".join(f' {n}="{v}"' for n, v in seen.items())
    return f"{tag}/" if name in VOID else tag


def _xml_name(name: str) -> str:
    return name if _NAME.match(name) else re.sub(r"[^\w.\-]", "_", name)
