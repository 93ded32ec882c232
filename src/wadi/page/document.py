"""A page as a tree, with the base that its links are relative to."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from lxml import etree

from wadi.page.decode import Encoding, utf8_of
from wadi.urls import NotAUrl, resolve

# libxml2 gives up below about 255 levels, or after 10 MB of one text, unless told otherwise; then below about 2,047.
_CUT_OFF_CODES = frozenset({"ERR_RESOURCE_LIMIT", "ERR_EXCESSIVE_DEPTH", "ERR_NAME_TOO_LONG"})


class NotADocument(ValueError):
    """The bytes hold no element at all: an empty page, or no markup."""


@dataclass(frozen=True)
class Document:
    """An HTML page. `cut_off` tells that the parser left out the end of it, and why."""

    root: etree._Element
    url: str
    encoding: Encoding
    cut_off: str = ""

    @cached_property
    def base(self) -> str:
        """The URL that links are relative to: the first `<base href>`, itself relative to the page's URL."""
        for element in self.root.iter("base"):
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
        found = self.root.find(".//title")
        return " ".join((found.text or "").split()) if found is not None else ""


def read_html(body: bytes, url: str, content_type: str = "") -> Document:
    """The page's tree. Tag names are in small letters. Raises NotADocument when there is no element in it."""
    data, encoding = utf8_of(body, content_type)
    parser = etree.HTMLParser(encoding="utf-8", huge_tree=True, collect_ids=False, remove_pis=True)
    try:
        root = etree.fromstring(data, parser) if data.strip() else None
    except etree.XMLSyntaxError as error:
        raise NotADocument(str(error)) from error
    if root is None:
        raise NotADocument("the reply is empty" if not data.strip() else "there is no element in it")
    cut_off = next((entry.message for entry in parser.error_log if entry.type_name in _CUT_OFF_CODES), "")
    return Document(root, url, encoding, cut_off)
