"""What a page looks like, for the verdict whether it is a block."""

from __future__ import annotations

import re

from lxml import etree

from wadi.page.document import Document
from wadi.page.text import text_of
from wadi.web.blocked import Look

_MARK = re.compile(r"captcha|challenge|turnstile|are-?you-?human", re.IGNORECASE)
_MARKED = ("id", "class", "name", "src", "action", "data-sitekey")
_SHOWN = 3000


def look_of(document: Document, size_bytes: int) -> Look:
    """The look of a document; JSON and XML show their text alone."""
    if document.kind != "html":
        text = document.text[:_SHOWN]
        return Look(size_bytes, len(text.split()), text)
    body = document.tree.find("body")
    text = text_of(body if body is not None else document.tree)
    shown = f"{document.title} {text[:_SHOWN]}"
    return Look(
        size_bytes,
        len(text.split()),
        shown,
        has_challenge=any(
            _is_marked(element) for element in document.tree.iter("div", "form", "input", "iframe", "script", "img")
        ),
        has_password=document.tree.find(".//input[@type='password']") is not None,
        has_refresh=any((meta.get("http-equiv") or "").lower() == "refresh" for meta in document.tree.iter("meta")),
        has_script=document.tree.find(".//script") is not None,
    )


def _is_marked(element: etree._Element) -> bool:
    return any(_MARK.search(element.get(name) or "") for name in _MARKED)
