"""How a listing goes on: from a page to the request for the next one, or its end. Decisions only, nothing is fetched here."""

from __future__ import annotations

import re
from urllib.parse import parse_qsl, quote, urlsplit, urlunsplit

from lxml import etree

from wadi.crawl.kinds import Next
from wadi.page.document import Document
from wadi.page.expressions import Expression, Node, first_of
from wadi.page.jsonpath import JsonNode
from wadi.page.text import text_of
from wadi.problems import Place, Problem, shortened
from wadi.urls import NotAUrl, normalised, resolve
from wadi.web.messages import Reply, Request

_OFF_CLASSES = frozenset({"disabled", "inactive"})
_LINK_VALUE = re.compile(r"<([^>]*)>((?:\s*;\s*[^,;=]+(?:=(?:\"[^\"]*\"|[^,;]*))?)*)")
_REL = re.compile(r"\brel\s*=\s*\"?([^\";]*)", re.IGNORECASE)


def next_request(
    document: Document, reply: Reply, following: Next, number: int, rows: int | None
) -> Request | Problem | None:
    """The request for the listing's next page; None at its end; a Problem when the way leads nowhere or back to this page.

    `number` is the page's place in its listing, from 0; `rows` how many rows it has (None where the kind has no rows).
    """
    if following.stop and first_of(following.stop, document.scope, document):
        return None
    if following.more and not is_true(following.more, document):
        return None
    plan = following.plan
    if plan.count is not None:
        if not rows:
            return None
        return Request(
            with_parameters(
                reply.request.url, {plan.count.parameter: str(plan.count.first + (number + 1) * plan.count.step)}
            )
        )
    if following.send:
        return _sending(document, reply, following)
    reference = linked_next(document, reply) if plan.rel else _link(document, following)
    return None if reference is None else _to(document, reference)


def _to(document: Document, reference: str) -> Request | Problem:
    """The request for a link; the page itself is no next page."""
    try:
        url = resolve(document.base, reference).partition("#")[0]
    except NotAUrl as error:
        return Problem("bad-link", f'link "{shortened(reference)}" is not followed: {error}', Place(document.url))
    if normalised(url) == normalised(document.url):
        return Problem(
            "page-again", "the next link leads to the page itself: the listing ends here", Place(document.url)
        )
    return Request(url)


def _link(document: Document, following: Next) -> str | None:
    """The reference of the first link that can be followed.

    A link without `href`, with `aria-disabled="true"` or with a class that says so is switched off: the listing is at its end.
    """
    for expression in following.at:
        for node in expression.nodes(document.scope, document):
            link = _live_link(node, following.plan.text)
            if link is not None:
                return link
    return None


def _live_link(node: Node, text: str | None) -> str | None:
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


def header_next(reply: Reply) -> str | None:
    """The target of the relation `next` in the Link header (RFC 8288 §3)."""
    for target, parameters in _LINK_VALUE.findall(reply.header("link")):
        said = _REL.search(parameters)
        if said and "next" in said[1].lower().split():
            return str(target)
    return None


def linked_next(document: Document, reply: Reply) -> str | None:
    """The target of the relation `next`: in the Link header, else of a `link` or `a` of the page."""
    if (target := header_next(reply)) is not None:
        return target
    for element in document.root.iter("link", "a", "area") if document.root is not None else ():
        if "next" in (element.get("rel") or "").lower().split() and element.get("href"):
            return element.get("href")
    return None


def is_true(expressions: tuple[Expression, ...], document: Document) -> bool:
    """Whether a flag is set: true in JSON, or a text that is neither empty nor a word for no."""
    for node in first_of(expressions, document.scope, document):
        value = (
            node.value if isinstance(node, JsonNode) else text_of(node) if isinstance(node, etree._Element) else node
        )
        return value not in (None, False, 0, "", "false", "no", "0", "null")
    return False


def _sending(document: Document, reply: Reply, following: Next) -> Request | Problem | None:
    """The page's own address with values out of the page as parameters; the end when one of them is not there."""
    values: dict[str, str] = {}
    for name, expressions in following.send:
        found = first_of(expressions, document.scope, document)
        value = _sent_value(found[0]) if found else ""
        if not value:
            return None
        values[name] = value
    url = with_parameters(reply.request.url, values)
    if normalised(url) == normalised(reply.request.url):
        return Problem("page-again", "the page sends us to itself: the listing ends here", Place(document.url))
    return Request(url)


def _sent_value(node: Node) -> str:
    value = node.value if isinstance(node, JsonNode) else text_of(node) if isinstance(node, etree._Element) else node
    return "" if value is None or isinstance(value, bool | dict | list) else str(value)


def with_parameters(url: str, values: dict[str, str]) -> str:
    """The URL with parameters of its query set: those that are there in their places, others at the end."""
    parts = urlsplit(url)
    pieces = parts.query.split("&") if parts.query else []
    left = dict(values)
    for place, piece in enumerate(pieces):
        ((name, _),) = parse_qsl(piece, keep_blank_values=True) or [("", "")]
        if name in values:
            pieces[place] = _pair(name, values[name])
            left.pop(name, None)
    pieces += [_pair(name, value) for name, value in left.items()]
    return urlunsplit(parts._replace(query="&".join(pieces), fragment=""))


def _pair(name: str, value: str) -> str:
    return f"{quote(name, safe='[]@')}={quote(value, safe='')}"
