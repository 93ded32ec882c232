"""A drafted plan applied to the pages of the corpus, without a host: the table of all pages of a listing, or of all pages of a kind."""

from __future__ import annotations

from typing import Any
from urllib.parse import parse_qsl, urlsplit

from corpus.details import Detail
from corpus.listings import Listing, page_of
from wadi.actions.open_page import OpenedPage
from wadi.crawl.extract import extract
from wadi.crawl.kinds import compile_kinds
from wadi.page.document import read_document
from wadi.plan.reader import parse_plan
from wadi.store.outcome import Role
from wadi.web.messages import Reply, Request

HOST = "http://127.0.0.1"
_MOST_PAGES = 8


def reply_of(page: Listing | Detail, url: str) -> Reply:
    """The reply that the host of the corpus gives."""
    parts = urlsplit(url)
    if isinstance(page, Listing):
        body, content_type, further = page_of(page, parts.path, dict(parse_qsl(parts.query)))
    else:
        body, content_type, further = page.page(int(parts.path.rpartition("/")[2])), "text/html; charset=utf-8", {}
    return Reply(Request(url), url, 200, (("Content-Type", content_type), *further.items()), body.encode(), 0.0)


def opened(page: Listing | Detail) -> OpenedPage:
    """The first page, as if it had been opened."""
    address = page.address if isinstance(page, Listing) else page.addresses()[0]
    reply = reply_of(page, HOST + address)
    return OpenedPage(read_document(reply.body, reply.url, reply.content_type), reply, "the corpus", None)


def table_by(text: str, page: Listing | Detail) -> dict[str, list[Any]]:
    """Column → values of all pages as the plan reads them."""
    plan = parse_plan(text, "p.toml").plan
    kinds = compile_kinds(plan, this_year=2026)
    kind = kinds[plan.start.page]
    table: dict[str, list[Any]] = {}
    left = [HOST + page.address] if isinstance(page, Listing) else [HOST + address for address in page.addresses()]
    number = 0
    while left and number < _MOST_PAGES:
        found = extract(reply_of(page, left.pop(0)), kind, kinds, number=number)
        for own in found.tables:
            for place, name in enumerate(own.columns):
                table.setdefault(name, []).extend(_plain(row[place]) for row in own.rows)
        left += [link.request.url for link in found.links if link.role is Role.NEXT]
        number += 1
    return table


def _plain(value: Any) -> Any:
    return value.isoformat() if hasattr(value, "isoformat") else value
