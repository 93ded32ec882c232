"""A reply as a document: an HTML or XML tree, JSON values, or plain text, with the base that its links are relative to."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal

from lxml import etree

from wadi.page.columns import BadColumns, ColumnsKind, columns_kind, read_columns, unpacked
from wadi.page.decode import Encoding, utf8_of
from wadi.page.tree import Way, html_tree, is_deep
from wadi.urls import NotAUrl, resolve

DocumentKind = Literal["html", "xml", "json"]
Parse = Literal["strict", "fast", "xml", "json", "csv", "excel"]

_JSON_TYPES = re.compile(r"[/+]json\b|/x-json\b|/javascript\b|json-seq|/x-ndjson|/jsonl", re.IGNORECASE)
_XML_TYPES = re.compile(r"[/+]xml\b", re.IGNORECASE)
_HTML_ROOT = re.compile(rb"<(?:!doctype\s+html|html)\b", re.IGNORECASE)
_XML_START = re.compile(rb"\s*<\?xml\b")
_NO_TEXT = (
    b"\x89PNG", b"GIF8", b"\xff\xd8\xff", b"%PDF-", b"PK\x03\x04", b"RIFF", b"\x7fELF", b"\x1f\x8b", b"OggS", b"ID3", b"BM6",
)  # fmt: skip
# The prefixes that sites put before JSON against script inclusion.
_LONG_NUMBER = re.compile(rb"\d{19}")
_JSON_GUARDS = (b")]}',", b")]}'", b"while(1);", b"for(;;);")


Rest = Callable[[bytes], bytes]
"""What is parsed of a page's source: all of it but what is read in another way."""


class NotADocument(ValueError):
    """The bytes are no document: empty, binary, or JSON or XML that cannot be read."""


@dataclass(frozen=True)
class Document:
    """A parsed reply. `root` is the tree of HTML and XML, `data` the value of JSON; `source` the whole text in UTF-8.

    `way` tells how the tree was built, `cut_off` why its end is missing (if it is), `why_fast` why strict was not used.
    """

    kind: DocumentKind
    url: str
    encoding: Encoding
    source: bytes
    root: etree._Element | None = None
    data: Any = None
    way: Way | Literal["xml", "json", "csv", "excel"] = "strict"
    cut_off: str = ""
    why_fast: str = ""
    namespaces: Mapping[str, str] = field(default_factory=dict)

    @cached_property
    def base(self) -> str:
        """The URL that links are relative to: the first `<base href>`, itself relative to the page's URL."""
        for element in self.root.iter("base") if self.root is not None and self.kind == "html" else ():
            href = element.get("href")
            if href:
                try:
                    return resolve(self.url, href)
                except NotAUrl:
                    break
        return self.url

    @cached_property
    def title(self) -> str:
        """The text of `<title>`, folded; empty where there is none."""
        found = self.root.find(".//title") if self.root is not None else None
        return " ".join((found.text or "").split()) if found is not None else ""

    @cached_property
    def text(self) -> str:
        """The source as text."""
        return self.source.decode("utf-8", "replace")

    @property
    def scope(self) -> Any:
        """What expressions of the page start from: the root element, or the JSON value."""
        if self.kind == "json":
            from wadi.page.jsonpath import JsonNode

            return JsonNode(self.data, ())
        return self.root

    @property
    def tree(self) -> etree._Element:
        """The root of a document that is one: HTML or XML."""
        assert self.root is not None, "JSON documents have no tree"
        return self.root


def read_document(
    body: bytes,
    url: str,
    content_type: str = "",
    *,
    parse: Parse | None = None,
    sheet: str | None = None,
    header: int | None = None,
    rest: Rest | None = None,
) -> Document:
    """The document in a reply. `parse` demands a way of reading; without it the reply's own words and bytes decide.

    What is packed (gzip, zip) is unpacked. Files of columns become JSON documents: a list of records; `sheet` and
    `header` are said for those. `rest` makes of the source of an HTML page what is parsed. Raises NotADocument, which says why.
    """
    try:
        body, name = unpacked(body, sheet)
        columns = (
            parse if parse in ("csv", "excel") else columns_kind(body, url, content_type, name) if not parse else None
        )
        if columns is not None:
            return _of_columns(body, url, content_type, columns, sheet, header)
    except BadColumns as error:
        raise NotADocument(str(error)) from error
    kind = parse if parse in ("xml", "json") else kind_of(body, content_type) if parse is None else "html"
    if kind is None:
        raise NotADocument(
            f"it is binary ({content_type or 'no type is given'})" if body.strip() else "the reply is empty"
        )
    if kind == "json":
        return read_json(body, url, content_type)
    if kind == "xml":
        return read_xml(body, url, content_type)
    return read_html(body, url, content_type, way="fast" if parse == "fast" else "strict", rest=rest)


def _of_columns(
    body: bytes, url: str, content_type: str, kind: ColumnsKind, sheet: str | None, header: int | None
) -> Document:
    if kind == "csv" and body[:512].lstrip(b"\xef\xbb\xbf \t\r\n")[:1] == b"<":
        raise NotADocument("it is a page and no file of columns")
    records, source, encoding = read_columns(body, kind, content_type, sheet=sheet, header=header)
    return Document("json", url, encoding, source, None, records, kind)


def kind_of(body: bytes, content_type: str) -> DocumentKind | None:
    """What a reply holds, by its type and its first bytes; None for binary data and for nothing."""
    start = body[:512].lstrip(b"\xef\xbb\xbf \t\r\n")
    if not start or start.startswith(_NO_TEXT):
        return None
    if (
        b"\0" in body[:1024]
        and not body.startswith((b"\xff\xfe", b"\xfe\xff"))
        and "utf-16" not in content_type.lower()
    ):
        return None
    if content_type.lower().startswith(("image/", "audio/", "video/", "font/")) and "svg" not in content_type.lower():
        return None
    if _JSON_TYPES.search(content_type):
        return "json"
    if start[:1] in b"{[" or start.startswith(_JSON_GUARDS):
        return "json" if not _HTML_ROOT.search(body[:2048]) else "html"
    xml = bool(_XML_TYPES.search(content_type)) or bool(_XML_START.match(start))
    if xml and "xhtml" not in content_type.lower() and not _HTML_ROOT.search(body[:4096]):
        return "xml"
    return "html"


def read_html(
    body: bytes, url: str, content_type: str = "", *, way: Way = "strict", rest: Rest | None = None
) -> Document:
    """An HTML page. Tag names are in small letters. Raises NotADocument when there is no element in it."""
    data, encoding = utf8_of(body, content_type)
    # The depth of a page decides how it is read; that of a part of it must not.
    tree = html_tree(data if rest is None or (way == "strict" and is_deep(data)) else rest(data), way)
    if tree is None:
        raise NotADocument("the reply is empty" if not data.strip() else "there is no element in it")
    return Document("html", url, encoding, data, tree.root, None, tree.way, tree.cut_off, tree.why_fast)


def read_xml(body: bytes, url: str, content_type: str = "") -> Document:
    """An XML document. Its entities are not resolved, nothing is loaded; a broken one is read as far as it goes."""
    data, encoding = utf8_of(body, content_type)
    data = re.sub(rb"^(\s*<\?xml\b[^>]*?)\s+encoding\s*=\s*(?:\"[^\"]*\"|'[^']*')", rb"\1", data, count=1)
    parser = etree.XMLParser(
        encoding="utf-8", huge_tree=True, resolve_entities=False, no_network=True, recover=True, remove_pis=True
    )
    try:
        root = etree.fromstring(data.lstrip(), parser)
    except etree.XMLSyntaxError as error:
        raise NotADocument(f"it is no XML: {error}") from error
    if root is None:
        raise NotADocument("it is no XML")
    namespaces = _without_default_namespace(root)
    broken = next(
        (f"{e.message.strip()} (line {e.line})" for e in parser.error_log if e.level_name in ("ERROR", "FATAL")), ""
    )
    return Document("xml", url, encoding, data, root, None, "xml", broken, namespaces=namespaces)


def _without_default_namespace(root: etree._Element) -> dict[str, str]:
    """Give elements of a default namespace their plain names, as people write them; returns the document's prefixes."""
    prefixes: dict[str, str] = {}
    for element in root.iter(etree.Element):
        for prefix, uri in element.nsmap.items() if element.prefix not in prefixes or element is root else ():
            if prefix:
                prefixes.setdefault(prefix, uri)
        if element.prefix is None and element.tag[:1] == "{":
            element.tag = element.tag.rpartition("}")[2]
    return prefixes


def read_json(body: bytes, url: str, content_type: str = "") -> Document:
    """A JSON document, or JSON Lines as a list. NaN and the guards that sites put before JSON are let pass."""
    data, encoding = utf8_of(body, content_type)
    text = data.strip()
    for guard in _JSON_GUARDS:
        text = text.removeprefix(guard)
    try:
        value = _json_value(text)
    except ValueError as error:
        raise NotADocument(f"it is no JSON: {error}") from error
    return Document("json", url, encoding, data, None, value, "json")


def _json_value(text: bytes) -> Any:
    import orjson

    try:
        if _LONG_NUMBER.search(text):
            return json.loads(text)  # orjson makes floats of whole numbers beyond 64 bits
        return orjson.loads(text)
    except RecursionError as error:
        raise ValueError("nested too deeply") from error
    except json.JSONDecodeError as error:  # orjson's is one, too
        lines = [line for line in text.split(b"\n") if line.strip()]
        if len(lines) > 1 and lines[0].strip()[:1] in b"{[" and lines[0].strip()[-1:] in b"}]":
            try:
                return [orjson.loads(line) for line in lines]
            except orjson.JSONDecodeError:
                pass
        return _loosely(text, error)


def _loosely(text: bytes, first: ValueError) -> Any:
    """Python's own reader takes NaN, Infinity and whole numbers of any size; what it refuses too is no JSON."""
    try:
        return json.loads(text)
    except (ValueError, RecursionError):
        raise first from None
