"""Data that a page carries for machines: JSON-LD, microdata, RDFa Lite, meta elements, JSON and literals in scripts.

Sources: JSON-LD 1.1 §7 (embedding in HTML), the microdata section of the HTML Standard, RDFa Lite 1.1, the Open Graph
protocol (meta with `property`).
"""

from __future__ import annotations

import contextlib
from typing import Any

from lxml import etree

from wadi.page.document import Document
from wadi.page.jsonpath import JsonNode
from wadi.page.literals import assignments
from wadi.page.text import text_of
from wadi.urls import NotAUrl, resolve

_URL_ATTRIBUTES = {
    "a": "href", "area": "href", "link": "href", "img": "src", "audio": "src", "embed": "src", "iframe": "src",
    "source": "src", "track": "src", "video": "src", "object": "data",
}  # fmt: skip
_VALUE_ATTRIBUTES = {"meta": "content", "data": "value", "meter": "value", "time": "datetime"}
_SCRIPT_BYTES = 20_000_000


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
    """The structured data of a page as what JSONPath starts from; made once for each document."""
    kept: JsonNode | None = document.__dict__.get("_data_scope")
    if kept is None:
        kept = document.__dict__["_data_scope"] = JsonNode(structured(document), ())
    return kept


def json_ld(document: Document) -> list[Any]:
    """The JSON-LD of a page, one value for each block; a block that is a list or a graph gives its members."""
    found: list[Any] = []
    for script in document.tree.iter("script"):
        if (script.get("type") or "").split(";")[0].strip().lower() != "application/ld+json":
            continue
        value = _json_of(script.text or "")
        if isinstance(value, dict) and isinstance(value.get("@graph"), list):
            value = value["@graph"]
        found += value if isinstance(value, list) else [] if value is None else [value]
    return found


def meta(document: Document) -> dict[str, str]:
    """`<meta>` by name, property or http-equiv (in small letters), the first content of each."""
    found: dict[str, str] = {}
    for element in document.tree.iter("meta"):
        name = element.get("name") or element.get("property") or element.get("http-equiv")
        content = element.get("content")
        if name and content is not None:
            found.setdefault(name.strip().lower(), " ".join(content.split()))
    return found


def state(document: Document) -> dict[str, Any]:
    """Values that scripts hold: blocks of JSON by their id (or `script1` …), and assigned literals by their variable."""
    found: dict[str, Any] = {}
    for number, script in enumerate(document.tree.iter("script"), 1):
        text = script.text or ""
        kind = (script.get("type") or "").split(";")[0].strip().lower()
        if not text.strip() or len(text) > _SCRIPT_BYTES or kind == "application/ld+json":
            continue
        if kind.endswith("json"):
            value = _json_of(text)
            if value is not None:
                found.setdefault(script.get("id") or f"script{number}", value)
        elif kind in ("", "module", "text/javascript", "application/javascript"):
            for name, value in assignments(text):
                if value:
                    found.setdefault(name, value)
    return found


def microdata(document: Document) -> list[dict[str, Any]]:
    """The top-level items: `type` (list), `id`, `properties` (name → list of values), as in the HTML Standard's JSON."""
    root = document.tree
    if root.find(".//*[@itemscope]") is None:
        return []
    return [
        _item(element, document, ()) for element in root.iterfind(".//*[@itemscope]") if element.get("itemprop") is None
    ]


def _item(element: etree._Element, document: Document, above: tuple[etree._Element, ...]) -> dict[str, Any]:
    item: dict[str, Any] = {"properties": {}}
    if element.get("itemtype"):
        item["type"] = (element.get("itemtype") or "").split()
    if element.get("itemid"):
        item["id"] = element.get("itemid")
    roots = [element]
    for name in (element.get("itemref") or "").split():
        roots += [found for found in document.tree.iterfind(".//*[@id]") if found.get("id") == name]
    for root in roots:
        _properties(root, item["properties"], document, (*above, element), own=root is element)
    return item


def _properties(
    element: etree._Element,
    found: dict[str, list[Any]],
    document: Document,
    above: tuple[etree._Element, ...],
    *,
    own: bool,
) -> None:
    for child in element if own else (element,):
        if not isinstance(child.tag, str):
            continue
        names = (child.get("itemprop") or "").split()
        nested = child.get("itemscope") is not None
        if names:
            loops = nested and child in above
            value = None if loops else _item(child, document, above) if nested else _value(child, document)
            for name in names:
                found.setdefault(name, []).append(value)
        if not nested and len(above) < 30:
            _properties(child, found, document, above, own=True)


def _value(element: etree._Element, document: Document) -> str:
    """The value of a property's element (HTML Standard, "Values"): a URL, an attribute, or the text."""
    tag = element.tag
    url = element.get(_URL_ATTRIBUTES[tag]) if tag in _URL_ATTRIBUTES else None
    if url is not None:
        with contextlib.suppress(NotAUrl):
            return resolve(document.base, url)
        return url
    content = element.get("content")
    value = content if content is not None or tag not in _VALUE_ATTRIBUTES else element.get(_VALUE_ATTRIBUTES[tag])
    return text_of(element) if value is None else " ".join(value.split())


def rdfa(document: Document) -> list[dict[str, Any]]:
    """RDFa Lite: elements with `typeof` and the `property` values inside them, those of nested ones apart."""
    found = []
    for element in document.tree.iterfind(".//*[@typeof]"):
        item: dict[str, Any] = {"type": (element.get("typeof") or "").split(), "properties": {}}
        if element.get("resource"):
            item["id"] = element.get("resource")
        for inner in element.iterfind(".//*[@property]"):
            owner = next((a for a in inner.iterancestors() if a.get("typeof") is not None), None)
            if owner is element:
                for name in (inner.get("property") or "").split():
                    item["properties"].setdefault(name, []).append(_value(inner, document))
        found.append(item)
    return found


def _json_of(text: str) -> Any:
    """The JSON in a script, which may stand in an old comment; None when it is none."""
    import orjson

    body = (
        text.strip().removeprefix("<!--").removesuffix("-->").strip().removeprefix("//<![CDATA[").removesuffix("//]]>")
    )
    try:
        return orjson.loads(body)
    except orjson.JSONDecodeError:
        return None
