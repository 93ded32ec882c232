"""A reply as a document: an HTML or XML tree, JSON values, or a file of columns, with the base that its links are relative to.

The way is one for every page: bytes → text (`decode`) → a tree or values, by one reader for each kind → nodes (`nodes`).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Hashable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal, TypeVar

import turbohtml

from wadi.page.columns import BadColumns, columns_kind, read_columns, unpacked
from wadi.page.decode import Encoding, decoded
from wadi.page.nodes import Element, JsonNode, Scope, attributes, children, elements, first, raw_text_of
from wadi.urls import NotAUrl, resolve

DocumentKind = Literal["html", "xml", "json"]
Parse = Literal["html", "xml", "json", "csv", "excel"]
T = TypeVar("T")

MOST_TAGS = 5_000_000
"""What a page may hold at most: its tree takes about 300 bytes for each tag."""
_JSON_TYPES = re.compile(r"[/+]json\b|/x-json\b|/javascript\b|json-seq|/x-ndjson|/jsonl", re.IGNORECASE)
_XML_TYPES = re.compile(r"[/+]xml\b", re.IGNORECASE)
_TEXT_TYPES = re.compile(r"text/|[/+](?:xml|json)\b|javascript|utf-16", re.IGNORECASE)
_HTML_ROOT = re.compile(rb"<(?:!doctype\s+html|html)\b", re.IGNORECASE)
_XML_START = re.compile(rb"\s*<\?xml\b")
_NO_TEXT = (
    b"\x89PNG", b"GIF8", b"\xff\xd8\xff", b"%PDF-", b"PK\x03\x04", b"RIFF", b"\x7fELF", b"\x1f\x8b", b"OggS", b"ID3", b"BM6",
)  # fmt: skip
_MEDIA_TYPES = ("image/", "audio/", "video/", "font/")


class NotADocument(ValueError):
    """The bytes are no document: empty, binary, too large, or JSON or XML that cannot be read."""


@dataclass(frozen=True)
class Document:
    """A parsed reply. `root` is the root element of HTML and XML, `data` the value of JSON; `text` the source, decoded.

    `parsed_as` is the kind, or which file of columns the JSON was; `cut_off` says why the end of an XML document is
    missing, if it is. `unknown_entities` are those of an XML document that it does not declare: they stand as written.
    `beside` are values of JSON that came beside the page and are its data, in place of what it carries.
    """

    kind: DocumentKind
    url: str
    encoding: Encoding
    text: str
    root: Element | None = None
    data: Any = None
    parsed_as: Parse = "html"
    cut_off: str = ""
    namespaces: Mapping[str, str] = field(default_factory=dict)
    html: turbohtml.Document | None = None
    unknown_entities: tuple[str, ...] = ()
    beside: tuple[Any, ...] | None = None
    _kept: dict[Hashable, Any] = field(default_factory=dict, init=False, repr=False, compare=False)

    def cached(self, key: Hashable, make: Callable[[], T]) -> T:
        """What `make` makes of the document, made once and kept with it."""
        if key not in self._kept:
            self._kept[key] = make()
        return self._kept[key]  # type: ignore[no-any-return]

    @cached_property
    def base(self) -> str:
        """The URL that links are relative to: the first `<base href>`, itself relative to the page's URL."""
        if self.root is not None and self.kind == "html":
            for element in self.root.iter_elements("base"):
                if href := element.attr("href"):
                    try:
                        return resolve(self.url, href, self.encoding.name)
                    except NotAUrl:
                        break
        return self.url

    def resolve(self, reference: str) -> str:
        """The absolute URL of a reference that stands on the page. Raises NotAUrl."""
        return resolve(self.base, reference, self.encoding.name)

    def resolved_or_not(self, reference: str) -> str:
        """The absolute URL of a reference without its fragment; the reference itself where it is none."""
        try:
            return self.resolve(reference).partition("#")[0]
        except NotAUrl:
            return reference

    @cached_property
    def title(self) -> str:
        """The text of `<title>`, folded; empty where there is none."""
        found = first(self.root, "title") if self.root is not None else None
        return " ".join(raw_text_of(found).split()) if found is not None else ""

    @property
    def scope(self) -> Scope:
        """What expressions of the page start from: the root element, or the JSON value."""
        return self.top if self.kind != "json" else JsonNode(self.data, ())

    @property
    def top(self) -> Element:
        """The root of a document that is a tree: HTML or XML."""
        assert self.root is not None, "JSON documents have no tree"
        return self.root

    @property
    def tree(self) -> turbohtml.Document:
        """The tree of an HTML page, what stands outside of its root included."""
        assert self.html is not None, "only HTML has such a tree"
        return self.html


def read_document(
    body: bytes,
    url: str,
    content_type: str = "",
    *,
    parse: Parse | None = None,
    sheet: str | None = None,
    header: int | None = None,
) -> Document:
    """The document in a reply. `parse` demands a way of reading; without it the reply's own words and bytes decide.

    What is packed (gzip, zip) is unpacked. Files of columns become JSON documents: a list of records; `sheet` and
    `header` are said for those. Raises NotADocument, which says why.
    """
    try:
        body, name = unpacked(body, sheet)
        columns = (
            parse if parse in ("csv", "excel") else columns_kind(body, url, content_type, name) if not parse else None
        )
        if columns is not None:
            if columns == "csv" and body[:512].lstrip(b"\xef\xbb\xbf \t\r\n")[:1] == b"<":
                raise NotADocument("it is a page and no file of columns")
            records, text, encoding = read_columns(body, columns, content_type, sheet=sheet, header=header)
            return Document("json", url, encoding, text, None, records, columns)
    except BadColumns as error:
        raise NotADocument(str(error)) from error
    kind = parse if parse in ("html", "xml", "json") else kind_of(body, content_type)
    if kind is None:
        raise NotADocument(
            f"it is binary ({content_type or 'no type is given'})" if body.strip() else "the reply is empty"
        )
    try:
        return _READERS[kind](body, url, content_type)
    except NotADocument:
        if kind != "xml" or parse or "html" not in content_type.lower():
            raise
        return html_document(body, url, content_type)  # a page that begins as XML does


def kind_of(body: bytes, content_type: str) -> DocumentKind | None:
    """What a reply holds, by its type and its first bytes; None for binary data and for nothing."""
    from wadi.page.json_values import is_guarded

    start = body[:512].lstrip(b"\xef\xbb\xbf \t\r\n")
    if not start or start.startswith(_NO_TEXT) or _is_binary(body, start, content_type):
        return None
    if _JSON_TYPES.search(content_type):
        return "json"
    if start[:1] in b"{[" or is_guarded(start.decode("latin-1")):
        return "json" if not _HTML_ROOT.search(body[:2048]) else "html"
    xml = bool(_XML_TYPES.search(content_type)) or bool(_XML_START.match(start))
    if xml and "xhtml" not in content_type.lower() and not _HTML_ROOT.search(body[:4096]):
        return "xml"
    return "html"


def _is_binary(body: bytes, start: bytes, content_type: str) -> bool:
    """Whether it is no text: by a type of media, or by zeros in what neither says nor shows that it is text."""
    if content_type.lower().startswith(_MEDIA_TYPES):
        return "svg" not in content_type.lower()
    is_text = _TEXT_TYPES.search(content_type) or start[:1] == b"<" or body.startswith((b"\xff\xfe", b"\xfe\xff"))
    return b"\0" in body[:1024] and not is_text


def html_document(body: bytes, url: str, content_type: str = "") -> Document:
    """An HTML page: the tree that a browser's inspector shows. Raises NotADocument when there is no element in it.

    The tree is that of a browser in which scripts run: what stands in `noscript` and in `template` is a text in it.
    """
    text, encoding = decoded(body, content_type)
    if len(text) > MOST_TAGS and text.count("<") > MOST_TAGS:
        raise NotADocument(f"it has more than {MOST_TAGS:,} tags")
    tree = turbohtml.parse(text, scripting=True, allow_declarative_shadow_roots=False)
    for template in tree.select("template:not(template template)"):
        markup = template.inner_html
        template.clear()
        template.append(turbohtml.Text(markup))
    root = tree.root
    if root is None or (not _holds_something(root) and not _TAG.search(text)):
        raise NotADocument("the reply is empty" if not text.strip() else "there is no element in it")
    return Document("html", url, encoding, text, root, parsed_as="html", html=tree)


_TAG = re.compile("<[A-Za-z]")


def _holds_something(root: Element) -> bool:
    """Whether there is more than the head and body that the Standard makes for every page."""
    parts = children(root)
    if len(parts) != 2 or any(children(part) for part in parts):
        return True
    body = parts[1]
    return bool(raw_text_of(body).strip() or attributes(body))


def xml_document(body: bytes, url: str, content_type: str = "") -> Document:
    """An XML document. Entities are those that it declares itself, within bounds, and those of HTML; nothing is loaded; a broken
    one is read as far as it goes."""
    from wadi.page.xml_tree import xml_tree

    text, encoding = decoded(body, content_type)
    try:
        tree = xml_tree(text.replace("\0", "\ufffd"))
    except ValueError as error:
        raise NotADocument(f"it is no XML: {error}") from error
    return Document(
        "xml",
        url,
        encoding,
        text,
        tree.root,
        None,
        "xml",
        tree.broken,
        tree.namespaces,
        unknown_entities=tree.unknown_entities,
    )


def json_document(body: bytes, url: str, content_type: str = "") -> Document:
    """A JSON document, or JSON Lines as a list."""
    from wadi.page.json_values import read_value

    text, encoding = decoded(body, content_type)
    try:
        value = read_value(text)
    except ValueError as error:
        raise NotADocument(f"it is no JSON: {error}") from error
    return Document("json", url, encoding, text, None, value, "json")


_READERS: Mapping[DocumentKind, Callable[[bytes, str, str], Document]] = {
    "html": html_document,
    "xml": xml_document,
    "json": json_document,
}


def every_element(document: Document, *tags: str) -> Any:
    """The elements of a tree in reading order, those of some names or all; none of JSON."""
    return elements(document.root, *tags) if document.root is not None else iter(())
