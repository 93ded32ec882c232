"""XML: read by lxml, its nodes wrapped so that they have the face that HTML's have.

Entities that the document declares itself are put in as far as the XML parser bounds it; nothing is loaded. Where it declares
none they stay as they are written. A broken document is read as far as it goes. Elements of a default namespace bear their
plain names, as people write them.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from html.entities import html5
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from lxml import etree


@dataclass(frozen=True, slots=True)
class XmlText:
    """A text in an XML tree."""

    data: str


@dataclass(frozen=True, slots=True)
class XmlOther:
    """A comment, a processing instruction, or an entity that was not resolved."""

    data: str


class XmlElement:
    """An element of XML. Two of the same node are equal."""

    __slots__ = ("node",)

    def __init__(self, node: etree._Element) -> None:
        self.node = node

    def __eq__(self, other: object) -> bool:
        return isinstance(other, XmlElement) and other.node is self.node

    def __hash__(self) -> int:
        return hash(self.node)

    @property
    def tag(self) -> str:
        return str(self.node.tag)

    @property
    def attrs(self) -> Iterable[str]:
        return map(str, self.node.attrib)

    def attr(self, name: str, /) -> str | None:
        return self.node.get(name)

    @property
    def parent(self) -> XmlElement | None:
        above = self.node.getparent()
        return None if above is None else XmlElement(above)

    @property
    def ancestors(self) -> Iterator[XmlElement]:
        return map(XmlElement, self.node.iterancestors())

    @property
    def children(self) -> list[XmlElement | XmlText | XmlOther]:
        nodes: list[XmlElement | XmlText | XmlOther] = [XmlText(self.node.text)] if self.node.text else []
        for child in self.node:
            nodes += _with_tail(child)
        return nodes

    @property
    def next_siblings(self) -> Iterator[XmlElement | XmlText | XmlOther]:
        if self.node.tail:
            yield XmlText(self.node.tail)
        for sibling in self.node.itersiblings():
            yield from _with_tail(sibling)

    @property
    def previous_siblings(self) -> Iterator[XmlElement | XmlText | XmlOther]:
        for sibling in self.node.itersiblings(preceding=True):
            yield from reversed(_with_tail(sibling))
        above = self.node.getparent()
        if above is not None and above.text:
            yield XmlText(above.text)

    def iter_elements(self, tags: Iterable[str] | None = None, include_self: bool = False) -> Iterator[XmlElement]:
        for node in self.node.iter(*(tags or ("*",))):
            if include_self or node is not self.node:
                yield XmlElement(node)

    @property
    def strings(self) -> Iterator[str]:
        return map(str, self.node.itertext())

    @property
    def text(self) -> str:
        return "".join(map(str, self.node.itertext()))

    @property
    def source_line(self) -> int | None:
        line = self.node.sourceline
        return line if isinstance(line, int) else None

    @property
    def html(self) -> str:
        return _written(self.node, with_tail=False)

    @property
    def inner_html(self) -> str:
        from html import escape

        return escape(self.node.text or "", quote=False) + "".join(
            _written(child, with_tail=True) for child in self.node
        )


def _with_tail(node: etree._Element) -> list[XmlElement | XmlText | XmlOther]:
    wrapped = XmlElement(node) if isinstance(node.tag, str) else XmlOther(str(node.text or ""))
    return [wrapped, XmlText(node.tail)] if node.tail else [wrapped]


def _written(node: etree._Element, *, with_tail: bool) -> str:
    from lxml import etree

    return str(etree.tostring(node, encoding="unicode", with_tail=with_tail))


@dataclass(frozen=True, slots=True)
class XmlTree:
    """A parsed XML document: its root, the prefixes that it declares, and what is wrong with it ("" when nothing is)."""

    root: XmlElement
    namespaces: dict[str, str]
    broken: str
    unknown_entities: tuple[str, ...] = ()


def xml_tree(text: str) -> XmlTree:
    """The tree of an XML document. Raises ValueError where there is no element in it."""
    from lxml import etree

    declares = "<!ENTITY" in text
    # The parser bounds how far entities may grow, but not in huge trees: no document is both.
    parser = etree.XMLParser(
        encoding="utf-8",
        huge_tree=not declares,
        resolve_entities="internal" if declares else False,  # type: ignore[arg-type] # the stubs know of no "internal"
        no_network=True,
        recover=True,
        remove_pis=True,
    )
    try:
        written, unknown = _with_entities(_without_declaration(text))
        root = etree.fromstring(written.encode("utf-8", "replace"), parser)
    except etree.XMLSyntaxError as error:
        raise ValueError(str(error)) from error
    if root is None:
        raise ValueError("there is no element in it")
    namespaces = _without_default_namespace(root)
    entries = (f"{e.message.strip()} (line {e.line})" for e in parser.error_log if e.level_name in ("ERROR", "FATAL"))
    return XmlTree(XmlElement(root), namespaces, next(entries, ""), tuple(unknown))


_PIECE = re.compile(
    r"<!\[CDATA\[.*?\]\]>|<!--.*?-->|<\?.*?\?>|<!DOCTYPE[^\[>]*(?:\[.*?\]\s*)?>|&(?P<name>[A-Za-z_:][\w:.-]*);",
    re.DOTALL,
)
_DECLARED = re.compile(r"<!ENTITY\s+([\w:.-]+)\s+[\"']")
_OF_XML = frozenset({"amp", "lt", "gt", "quot", "apos"})


def _with_entities(text: str) -> tuple[str, list[str]]:
    """The text with references to entities of HTML as characters, as feeds have them; and the names of those that nobody has
    declared, or that stand elsewhere, which are left as they are written."""
    declared = frozenset(_DECLARED.findall(text)) if "<!ENTITY" in text else frozenset()
    unknown: dict[str, None] = {}

    def replaced(piece: re.Match[str]) -> str:
        name = piece["name"]
        if name is None or name in _OF_XML or name in declared:
            return piece[0]
        if (characters := html5.get(f"{name};")) is not None:
            return "".join(f"&#{ord(character)};" for character in characters)
        unknown[name] = None
        return f"&amp;{name};"

    return (_PIECE.sub(replaced, text), list(unknown)) if "&" in text else (text, [])


def _without_declaration(text: str) -> str:
    """The text without its XML declaration, whose encoding is not that of a text any more."""
    text = text.lstrip()
    if not text.startswith("<?xml") or "?>" not in text:
        return text
    declaration, _, rest = text.partition("?>")
    return "\n" * declaration.count("\n") + rest


def _without_default_namespace(root: etree._Element) -> dict[str, str]:
    """Give elements of a default namespace their plain names; returns the document's prefixes."""
    from lxml import etree

    prefixes: dict[str, str] = {}
    for element in root.iter(etree.Element):
        for prefix, uri in element.nsmap.items() if element.prefix not in prefixes or element is root else ():
            if prefix:
                prefixes.setdefault(prefix, uri)
        if element.prefix is None and element.tag[:1] == "{":
            element.tag = element.tag.rpartition("}")[2]
    return prefixes


def wrapped(found: Any) -> list[Any]:
    """What an XPath gives as nodes: elements wrapped, comments as their texts; a string, number or truth value alone."""
    if not isinstance(found, list):
        return [found]
    return [_wrapped(node) for node in found]


def _wrapped(found: Any) -> Any:
    if isinstance(found, str):
        return str(found)
    if isinstance(found, tuple):  # a namespace node
        return str(found[1])
    return XmlElement(found) if isinstance(found.tag, str) else str(found.text or "")
