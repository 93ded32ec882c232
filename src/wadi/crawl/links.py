"""Where a page leads: the links that it opens. Decisions only, nothing is fetched here."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from lxml import etree

from wadi.crawl.kinds import Kind, OpenLink
from wadi.page.document import Document
from wadi.page.expressions import Node, Scope, first_of
from wadi.page.jsonpath import JsonNode
from wadi.page.text import text_of
from wadi.problems import Place, Problem, shortened
from wadi.store.outcome import Link, Role
from wadi.urls import NotAUrl, host_of, resolve
from wadi.web.messages import Request


def links_of(
    document: Document, kind: Kind, kinds: Mapping[str, Kind], rows: Sequence[Scope] | None
) -> tuple[list[Link], list[Problem]]:
    """The links that a page opens, in the order of their places, and what was wrong with some."""
    links: list[Link] = []
    notes: list[Problem] = []
    elsewhere: list[str] = []
    for number, row in enumerate(rows or ()):
        for opening in kind.open:
            if opening.in_rows:
                _add_opened(links, notes, elsewhere, opening, row, document, number)
    for opening in kind.open:
        if not opening.in_rows:
            # A page that is one row, and opens what completes that row, opens it for row 0.
            row_number = 0 if rows is None and kinds[opening.target].completes else None
            _add_opened(links, notes, elsewhere, opening, document.scope, document, row_number)
    if elsewhere:
        what = f"links to other hosts are not opened: {len(elsewhere)}, first {shortened(elsewhere[0])}"
        notes.append(Problem("other-host", what, Place(document.url), now='hosts = ["…"] opens them'))
    return links, notes


def _add_opened(
    links: list[Link],
    notes: list[Problem],
    elsewhere: list[str],
    opening: OpenLink,
    scope: Scope,
    document: Document,
    row: int | None,
) -> None:
    for node in first_of(opening.expressions, scope, document):
        reference, text = _reference(node)
        if reference is None:
            continue
        try:
            url = _sent(resolve(document.base, reference))
        except NotAUrl as error:
            notes.append(_bad_link(reference, document, str(error)))
            continue
        if not is_near(url, document.url, opening):
            elsewhere.append(url)
        elif is_taken(url, opening):
            links.append(Link(Role.OPEN, len(links), opening.target, Request(url), row, text))


def is_near(url: str, page_url: str, opening: OpenLink) -> bool:
    """Whether a URL is on the page's own host, or on one that the plan names (with or without its port)."""
    host = host_of(url)
    return host == host_of(page_url) or not opening.hosts.isdisjoint({host, host.rpartition(":")[0], "*"})


def is_taken(url: str, opening: OpenLink) -> bool:
    """Whether the plan opens this URL, by `only` and `skip`."""
    if opening.only and not opening.only.match(url):
        return False
    return not (opening.skip and opening.skip.match(url))


def _reference(node: Node) -> tuple[str | None, str]:
    """The reference and the text of a link: of the element itself, or of the first link inside it."""
    if isinstance(node, etree._Element):
        link = node if node.get("href") is not None else node.find(".//a[@href]")
        return (None, "") if link is None else (link.get("href"), text_of(link))
    value = node.value if isinstance(node, JsonNode) else node
    return (value, "") if isinstance(value, str) and value else (None, "")


def _sent(url: str) -> str:
    """The URL as it is asked for: without its fragment."""
    return url.partition("#")[0]


def _bad_link(reference: str, document: Document, why: str) -> Problem:
    return Problem("bad-link", f'link "{shortened(reference)}" is not followed: {why}', Place(document.url))
