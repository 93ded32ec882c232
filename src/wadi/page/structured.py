"""Data that a page carries for machines: JSON-LD, microdata, RDFa Lite, meta elements, JSON and literals in scripts.

Sources: JSON-LD 1.1 §7 (embedding in HTML), the microdata section of the HTML Standard, RDFa Lite 1.1, the Open Graph
protocol (meta with `property`).
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from typing import Any

from wadi.page.document import Document
from wadi.page.json_values import read_value
from wadi.page.literals import assignments
from wadi.page.nodes import Element, JsonNode, ancestors, children, elements, raw_text_of
from wadi.page.text import text_of
from wadi.urls import NotAUrl

_URL_ATTRIBUTES = {
    "a": "href", "area": "href", "link": "href", "img": "src", "audio": "src", "embed": "src", "iframe": "src",
    "source": "src", "track": "src", "video": "src", "object": "data",
}  # fmt: skip
_VALUE_ATTRIBUTES = {"meta": "content", "data": "value", "meter": "value", "time": "datetime"}
_SCRIPT_BYTES = 20_000_000
_DEEPEST = 30


def structured(document: Document) -> dict[str, Any]:
    """All of it as one JSON value, which JSONPath searches: keys `jsonld`, `microdata`, `rdfa` (lists), `meta`, `state`.

    `meta` maps a name or property to its first content; `state` maps a variable's name or a script's id to its value.
    """
    if document.kind != "html":
        return {"jsonld": [], "microdata": [], "rdfa": [], "meta": {}, "state": {}}
    return {
        "jsonld": json_ld(document),
        "microdata": microdata(document),
        "rdfa": rdfa(document),
        "meta": meta(document),
        "state": state(document),
    }


def data_scope(document: Document) -> JsonNode:
    """The structured data of a page as what JSONPath starts from; made once for each document. Of values that came beside the
    page it is their tuple, each of which is a start."""
    if document.beside is not None:
        return JsonNode(document.beside, ())
    return document.cached("structured", lambda: JsonNode(structured(document), ()))


def json_ld(document: Document) -> list[Any]:
    """The JSON-LD of a page, one value for each block; a block that is a list or a graph gives its members."""
    found: list[Any] = []
    for script in elements(document.top, "script"):
        if (script.attr("type") or "").split(";")[0].strip().lower() != "application/ld+json":
            continue
        value = _json_of(raw_text_of(script))
        if isinstance(value, dict) and isinstance(value.get("@graph"), list):
            value = value["@graph"]
        found += value if isinstance(value, list) else [] if value is None else [value]
    return found


def meta(document: Document) -> dict[str, str]:
    """`<meta>` by name, property or http-equiv (in small letters), the first content of each."""
    found: dict[str, str] = {}
    for element in elements(document.top, "meta"):
        name = element.attr("name") or element.attr("property") or element.attr("http-equiv")
        content = element.attr("content")
        if name and content is not None:
            found.setdefault(name.strip().lower(), " ".join(content.split()))
    return found


def state(document: Document) -> dict[str, Any]:
    """Values that scripts hold: blocks of JSON by their id (or `script1` …), and assigned literals by their variable."""
    found: dict[str, Any] = {}
    for number, script in enumerate(elements(document.top, "script"), 1):
        text = raw_text_of(script)
        kind = (script.attr("type") or "").split(";")[0].strip().lower()
        if not text.strip() or len(text) > _SCRIPT_BYTES or kind == "application/ld+json":
            continue
        if kind.endswith("json"):
            value = _json_of(text)
            if value is not None:
                found.setdefault(script.attr("id") or f"script{number}", value)
        elif kind in ("", "module", "text/javascript", "application/javascript"):
            for name, value in assignments(text):
                if value:
                    found.setdefault(name, value)
    return found


def microdata(document: Document) -> list[dict[str, Any]]:
    """The top-level items: `type` (list), `id`, `properties` (name → list of values), as in the HTML Standard's JSON."""
    items = document.tree.select("[itemscope]:not([itemprop])")
    return [_item(element, document, ()) for element in items]


def _item(element: Element, document: Document, above: tuple[Element, ...]) -> dict[str, Any]:
    item: dict[str, Any] = {"properties": {}}
    if element.attr("itemtype"):
        item["type"] = (element.attr("itemtype") or "").split()
    if element.attr("itemid"):
        item["id"] = element.attr("itemid")
    roots = [element]
    for name in (element.attr("itemref") or "").split():
        roots += [found for found in document.tree.select("[id]") if found.attr("id") == name]
    for root in roots:
        for holder in _property_elements(root, is_item=root == element):
            _put(holder, item["properties"], document, (*above, element))
    return item


def _property_elements(root: Element, *, is_item: bool) -> Iterator[Element]:
    """The elements that are properties of an item, in reading order; what stands in an inner item is that one's."""
    stack = list(reversed(children(root))) if is_item else [root]
    while stack:
        upper = stack.pop()
        if upper.attr("itemprop"):
            yield upper
        if upper.attr("itemscope") is None:
            stack += reversed(children(upper))


def _put(element: Element, found: dict[str, list[Any]], document: Document, above: tuple[Element, ...]) -> None:
    """Put the value of a property's element under its names. An item inside itself has none."""
    is_item = element.attr("itemscope") is not None
    is_loop = is_item and (element in above or len(above) > _DEEPEST)
    value = None if is_loop else _item(element, document, above) if is_item else _value(element, document)
    for name in (element.attr("itemprop") or "").split():
        found.setdefault(name, []).append(value)


def _value(element: Element, document: Document) -> str:
    """The value of a property's element (HTML Standard, "Values"): a URL, an attribute, or the text."""
    tag = element.tag
    url = element.attr(_URL_ATTRIBUTES[tag]) if tag in _URL_ATTRIBUTES else None
    if url is not None:
        with contextlib.suppress(NotAUrl):
            return document.resolve(url)
        return url
    content = element.attr("content")
    value = content if content is not None or tag not in _VALUE_ATTRIBUTES else element.attr(_VALUE_ATTRIBUTES[tag])
    return text_of(element) if value is None else " ".join(value.split())


def rdfa(document: Document) -> list[dict[str, Any]]:
    """RDFa Lite: elements with `typeof` and the `property` values inside them, those of nested ones apart."""
    found = []
    for element in document.tree.select("[typeof]"):
        item: dict[str, Any] = {"type": (element.attr("typeof") or "").split(), "properties": {}}
        if element.attr("resource"):
            item["id"] = element.attr("resource")
        for inner in element.select("[property]"):
            owner = next((a for a in ancestors(inner) if a.attr("typeof") is not None), None)
            if owner == element:
                for name in (inner.attr("property") or "").split():
                    item["properties"].setdefault(name, []).append(_value(inner, document))
        found.append(item)
    return found


def _json_of(text: str) -> Any:
    """The JSON in a script, which may stand in an old comment; None when it is none."""
    body = (
        text.strip().removeprefix("<!--").removesuffix("-->").strip().removeprefix("//<![CDATA[").removesuffix("//]]>")
    )
    try:
        return read_value(body)
    except ValueError:
        return None
