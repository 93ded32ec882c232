"""The document of a reply as its page kind reads it: with the data of a browser's background replies, where it wants them."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from wadi.crawl.kinds import Kind
from wadi.page.document import Document, NotADocument, read_document
from wadi.web.messages import Reply


def document_of(reply: Reply, kind: Kind) -> Document:
    """The document. Raises NotADocument."""
    document = read_document(
        reply.body, reply.url, reply.content_type, parse=kind.parse, sheet=kind.sheet, header=kind.heading_line
    )
    return document if kind.data_from is None else replace(document, beside=tuple(_data(reply, kind)))


def _data(reply: Reply, kind: Kind) -> list[Any]:
    """The values of the background replies that a kind wants, in the order in which they came."""
    found = []
    for other in reply.beside:
        sent = other.request.body.decode("utf-8", "replace")
        if kind.data_from is None or not kind.data_from.fullmatch(other.url) or other.status >= 400:
            continue
        if kind.data_sent is not None and not kind.data_sent.fullmatch(sent):
            continue
        try:
            found.append(read_document(other.body, other.url, other.content_type, parse="json").data)
        except NotADocument as error:
            raise NotADocument(f"the reply of {other.url} cannot be read: {error}") from error
    return found
