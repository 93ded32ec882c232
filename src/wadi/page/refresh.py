"""A page that sends its reader on: after how many seconds, and where to (HTML Standard §4.2.5.3 and §7.4.6, "shared declarative
refresh steps")."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Protocol

from wadi.page.document import NotADocument, every_element, read_document
from wadi.page.nodes import ancestors
from wadi.urls import NotAUrl, normalised, resolve

_WORD = b"refresh"
_LOOKED_AT = 65_536
"""Bytes of a page in which it is looked for: it stands in the head."""
_MOST_S = 10.0
"""What takes longer is a page to be read, which renews itself."""
_REFRESH = re.compile(
    r"\s*(?P<seconds>\d+|(?=\.))(?:\.[\d.]*)?\s*(?:[;,]|\s)\s*(?:url\s*=\s*)?(?P<target>\S.*)", re.I | re.S
)


class Answer(Protocol):
    """What has to be known of a reply."""

    @property
    def url(self) -> str: ...

    @property
    def body(self) -> bytes: ...

    @property
    def content_type(self) -> str: ...

    def header(self, name: str) -> str: ...


def refresh_of(reply: Answer) -> tuple[float, str] | None:
    """Seconds and the URL that a page sends its reader on to, by the header field Refresh or by a `meta`; None for one that does
    not, that only renews itself, or takes longer than ten seconds."""
    for said, base in _said(reply):
        found = _REFRESH.match(said)
        if found is None:
            continue
        seconds = float(found["seconds"] or 0)
        try:
            target = resolve(base, _unquoted(found["target"]))
        except NotAUrl:
            return None
        return (seconds, target) if seconds <= _MOST_S and normalised(target) != normalised(reply.url) else None
    return None


def _said(reply: Answer) -> Iterator[tuple[str, str]]:
    """What the header field and the page's `meta` elements say, with the URL that it is relative to. What stands in `noscript` is
    for readers who would see nothing otherwise: the page that is there is the one to be read."""
    if header := reply.header("refresh"):
        yield header, reply.url
    start, kind = reply.body[:_LOOKED_AT], reply.content_type
    if _WORD not in start.lower() or (kind and "html" not in kind.lower()):
        return
    try:
        document = read_document(start, reply.url, kind, parse="html")
    except NotADocument:
        return
    for element in every_element(document, "meta"):
        is_refresh = (element.attr("http-equiv") or "").strip().lower() == "refresh"
        if is_refresh and next(ancestors(element, "noscript", "template"), None) is None:
            yield element.attr("content") or "", document.base


def _unquoted(target: str) -> str:
    """A target without the quotes that may stand around it."""
    quote = target[:1]
    return target[1:].partition(quote)[0] if quote in ("'", '"') else target.strip()
