"""What a page looks like, for the verdict whether it is a block."""

from __future__ import annotations

import re

from wadi.page.document import Document, NotADocument, read_document
from wadi.page.nodes import elements, first
from wadi.page.text import text_of
from wadi.problems import shortened
from wadi.web.blocked import Signals
from wadi.web.messages import Reply

_MARK = re.compile(r"captcha|challenge|turnstile|are-?you-?human", re.IGNORECASE)
_MARKED = ("id", "class", "name", "src", "action", "data-sitekey")
_SHOWN = 3000
_LOOKED_AT = 200_000


def signals_of(document: Document, size_bytes: int) -> Signals:
    """The look of a document; JSON and XML show their text alone."""
    if document.kind != "html":
        text = document.text[:_SHOWN]
        return Signals(size_bytes, len(text.split()), text)
    body = first(document.top, "body")
    text = text_of(body if body is not None else document.top)
    shown = f"{document.title} {text[:_SHOWN]}"
    return Signals(
        size_bytes,
        len(text.split()),
        shown,
        has_challenge=any(
            any(_MARK.search(element.attr(name) or "") for name in _MARKED)
            for element in elements(document.top, "div", "form", "input", "iframe", "script", "img")
        ),
        has_password=any((box.attr("type") or "").lower() == "password" for box in elements(document.top, "input")),
        has_refresh=any(
            (meta.attr("http-equiv") or "").lower() == "refresh" for meta in elements(document.top, "meta")
        ),
        has_script=first(document.top, "script") is not None,
    )


def first_words(reply: Reply, most: int = 120) -> str:
    """What a reply says to a reader, folded and cut; empty where it says nothing or is no text."""
    try:
        document = read_document(reply.body[:_LOOKED_AT], reply.url, reply.content_type)
    except NotADocument:
        return ""
    if document.kind != "html":
        text = document.text
    else:
        body = first(document.top, "body")
        text = text_of(body if body is not None else document.top) or document.title
    # What a host says goes to a terminal: nothing in it is a command to that.
    words = ("".join(filter(str.isprintable, word)) for word in text[:_SHOWN].split())
    return shortened(" ".join(words), most)
