"""Where a page leads: the links that it opens, and how its listing goes on. Decisions only, nothing is fetched here."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from lxml import etree

from wadi.crawl.kinds import Kind, NextLink, OpenLink
from wadi.page.document import Document
from wadi.page.expressions import Node, Scope, first_of
from wadi.page.jsonpath import JsonNode
from wadi.page.text import text_of
from wadi.problems import Place, Problem, shortened
from wadi.store.outcome import Link, Role
from wadi.urls import NotAUrl, normalised, resolve
from wadi.web.messages import Request

_OFF_CLASSES = frozenset({"disabled", "inactive"})


def links_of(
    document: Document, kind: Kind, kinds: Mapping[str, Kind], rows: Sequence[Scope] | None
) -> tuple[list[Link], list[Problem]]:
    """The links out of a page in the order of their places, and what was wrong with some."""
    links: list[Link] = []
    notes: list[Problem] = []
    for number, row in enumerate(rows or ()):
        for opening in kind.open:
            if opening.in_rows:
                _add_opened(links, notes, opening, row, document, number)
    for opening in kind.open:
        if not opening.in_rows:
            # A page that is one row, and opens what completes that row, opens it for row 0.
            row_number = 0 if rows is None and kinds[opening.target].completes else None
            _add_opened(links, notes, opening, document.scope, document, row_number)
    following = next_url(document, kind.next) if kind.next else None
    if isinstance(following, Problem):
        notes.append(following)
    elif following is not None:
        links.append(Link(Role.NEXT, 0, kind.name, Request(following)))
    return links, notes


def _add_opened(
    links: list[Link],
    notes: list[Problem],
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
        if is_taken(url, opening):
            links.append(Link(Role.OPEN, len(links), opening.target, Request(url), row, text))


def is_taken(url: str, opening: OpenLink) -> bool:
    """Whether the plan opens this URL, by `only` and `skip`."""
    if opening.only and not opening.only.match(url):
        return False
    return not (opening.skip and opening.skip.match(url))


def next_url(document: Document, following: NextLink) -> str | Problem | None:
    """The URL of the listing's next page; None at its end; a Problem when the link leads nowhere or back to this page.

    The listing ends when `stop` stands on the page, when there is no link, or when the link is switched off: no
    `href`, `aria-disabled="true"`, or a class that says so.
    """
    if following.stop and first_of(following.stop, document.scope, document):
        return None
    for expression in following.expressions:
        for node in expression.nodes(document.scope, document):
            link = _live_link(node, following.text)
            if link is None:
                continue
            try:
                url = resolve(document.base, link)
            except NotAUrl as error:
                return _bad_link(link, document, str(error))
            if normalised(url) == normalised(document.url):
                return Problem(
                    "page-again", "the next link leads to the page itself: the listing ends here", Place(document.url)
                )
            return _sent(url)
    return None


def _live_link(node: Node, text: str | None) -> str | None:
    """The reference of a link that can be followed; None when the node is none, is switched off, or says another text."""
    if isinstance(node, JsonNode):
        node = node.value if isinstance(node.value, str) else ""
    if not isinstance(node, etree._Element):
        return str(node) or None if text is None and isinstance(node, str) else None
    if text is not None and text.casefold() not in text_of(node).casefold():
        return None
    link = node if node.get("href") is not None else node.find(".//a[@href]")
    if link is None or not link.get("href") or _is_off(node) or _is_off(link):
        return None
    return link.get("href")


def _is_off(element: etree._Element) -> bool:
    classes = (element.get("class") or "").lower().split()
    return element.get("aria-disabled") == "true" or not _OFF_CLASSES.isdisjoint(classes)


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
