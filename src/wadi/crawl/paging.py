"""How a listing goes on: from a page to the request for the next one, or its end. Decisions only, nothing is fetched here."""

from __future__ import annotations

import re

from wadi.clean.stages import Unread
from wadi.crawl.kinds import Next
from wadi.crawl.requests import asked, going_on, headers_of, sent_values, several_sent, source_of
from wadi.page.cells import Notes, read_column
from wadi.page.document import Document, every_element
from wadi.page.expressions import Expression, first_of
from wadi.page.field import Field
from wadi.page.nodes import Element, JsonNode, Node, link_of
from wadi.page.text import text_of
from wadi.problems import Place, Problem, listed, shortened
from wadi.urls import NotAUrl, normalised
from wadi.web.messages import Reply, Request
from wadi.web.parameters import LinkRules, sent_parameter

_AROUND = re.compile(r"^\W+|\W+$")
_MOST_DIGITS = 15
_OFF_CLASSES = frozenset({"disabled", "inactive"})
_LINK_VALUE = re.compile(r"<([^>]*)>((?:\s*;\s*[^,;=]+(?:=(?:\"[^\"]*\"|[^,;]*))?)*)")
_REL = re.compile(r"\brel\s*=\s*\"?([^\";]*)", re.IGNORECASE)


def next_request(
    document: Document,
    reply: Reply,
    following: Next,
    number: int,
    rows: int | None,
    rules: LinkRules | None = None,
    notes: list[Problem] | None = None,
) -> Request | Problem | None:
    """The request for the listing's next page; None at its end; a Problem when the way leads nowhere or back to this page.

    `number` is the page's place in its listing, from 0; `rows` how many rows it has (None where the kind has no rows).
    What was chosen among several is told in `notes`.
    """
    notes = [] if notes is None else notes
    if following.stop and first_of(following.stop, document.scope, document):
        return None
    if following.more and not is_true(following.more, document):
        return None
    if following.last is not None and _is_last(document, reply, following, following.last, number):
        return None
    plan = following.plan
    if plan.count is not None or following.asking.is_set:
        return _made(document, reply, following, number, rows, notes)
    if plan.rel:
        reference = linked_next(document, reply)
    else:
        found = links_that_go_on(document, following)
        reference = next(iter(found), None)
        if plan.text is not None and (several := _several_say_so(document, plan.text, found)) is not None:
            notes.append(several)
    if reference is None:
        return None
    # The request for a link; the page itself is no next page.
    try:
        url = (rules or LinkRules()).applied(document.resolve(reference))
    except NotAUrl as error:
        return Problem("bad-link", f'link "{shortened(reference)}" is not followed: {error}', Place(document.url))
    if normalised(url) == normalised(document.url):
        return Problem(
            "page-again", "the next link leads to the page itself: the listing ends here", Place(document.url)
        )
    return Request(url, headers=going_on(reply.request, url, headers_of(following.asking)))


def is_at_its_end(document: Document, following: Next) -> bool:
    """Whether a page says itself that it is the last: by what stands on it, or by a link that is switched off."""
    if following.stop and first_of(following.stop, document.scope, document):
        return True
    if following.more and not is_true(following.more, document):
        return True
    nodes = (node for expression in following.at for node in expression.nodes(document.scope, document))
    text = following.plan.text
    return any(
        isinstance(node, Element) and _is_off(node) and (text is None or _fit(text, text_of(node)) is not None)
        for node in nodes
    )


def _several_say_so(document: Document, text: str, references: list[str]) -> Problem | None:
    """What is to be told where several links say the text of the next one, and lead to different pages."""
    found = list(dict.fromkeys(map(document.resolved_or_not, references)))
    if len(found) < 2:
        return None
    what = f'{len(found)} links say "{text}" and lead to different pages; the first counts: {listed(found, 3)}'
    return Problem("several-next", what, Place(document.url), now="at, only or skip say which one goes on")


def stated_number(field: Field, document: Document, reply: Reply) -> int | Unread | None:
    """A whole number that the page states, such as its total; None where it states none, Unread where it cannot be read."""
    notes = Notes()
    (value,) = read_column(field, [document.scope], source_of(document, reply), notes)
    if isinstance(value, int):
        return value
    return notes.unread[0][-1] if notes.unread else None


def _is_last(document: Document, reply: Reply, following: Next, field: Field, number: int) -> bool:
    """Whether this is the page that is stated to be the last: by its own number where pages are counted by one."""
    last = stated_number(field, document, reply)
    return isinstance(last, int) and own_number(following, number) >= last


def own_number(following: Next, number: int) -> int:
    """A page's own number in its listing, from its place (from 0): as it is counted, where pages are counted by one."""
    count = following.plan.count
    return count.first + number if count is not None and count.step == 1 else number + 1


def _made(
    document: Document, reply: Reply, following: Next, number: int, rows: int | None, notes: list[Problem]
) -> Request | Problem | None:
    """The request made from this page: its own with parameters set anew; the end when there is nothing to send or to count."""
    plan, request = following.plan, reply.request
    values, lacking, several = sent_values(following.asking.send, document.scope, document, reply)
    if lacking is not None or (plan.count is not None and not rows):
        return None
    kept, _, also = sent_values(following.keep, document.scope, document, reply)
    notes += [several_sent(name, document) for name in (*several, *also)]
    for field in following.keep:
        if field.name not in kept and (old := _kept(request, following, field.name)) is not None:
            kept[field.name] = old
    counted: dict[str, int] = {}
    if plan.count is not None:
        counted[plan.count.parameter] = _counter(request, following, number, rows or 0)
    constant = following.asking.variants[0][0]
    try:
        made = asked(reply.url, following.asking, {**kept, **values, **counted}, constant, continued=request)
    except NotAUrl as error:
        return Problem("bad-link", f'address "{plan.address}" is not asked for: {error}', Place(document.url))
    if made.identity == request.identity:
        return Problem("page-again", "the page sends us to itself: the listing ends here", Place(document.url))
    return made


def _counter(request: Request, following: Next, number: int, rows: int) -> int:
    """The counted parameter of the next page."""
    count = following.plan.count
    assert count is not None
    if count.step != "rows":
        return count.first + (number + 1) * count.step
    sent = sent_parameter(request, count.parameter)
    is_number = sent is not None and sent.lstrip("-").isdecimal() and len(sent) <= _MOST_DIGITS
    return (int(sent) if sent is not None and is_number else count.first) + rows


def _kept(request: Request, following: Next, name: str) -> str | None:
    """What the page's own request sent for a value that is kept: as a parameter, or as a header that is nothing else."""
    sent = sent_parameter(request, name)
    if sent is not None:
        return sent
    headers = dict(request.headers)
    return next((headers.get(header) for header, text in following.asking.headers if text == f"{{{name}}}"), None)


def links_that_go_on(document: Document, following: Next) -> list[str]:
    """The references of the links that can be followed, each once: those that `text` fits best, the first of them counts.

    A link without `href`, with `aria-disabled="true"` or with a class that says so is switched off: the listing is at its end.
    """
    for expression in following.at:
        live = (_live_link(node, following) for node in expression.nodes(document.scope, document))
        found = [link for link in live if link and _is_taken(link[1], document, following)]
        if found:
            best = min(fit for fit, _ in found)
            return list(dict.fromkeys(reference for fit, reference in found if fit == best))
    return []


def _is_taken(reference: str, document: Document, following: Next) -> bool:
    """Whether the plan's patterns let a listing go on by this reference."""
    if not (following.only or following.skip):
        return True
    url = document.resolved_or_not(reference)
    return (not following.only or bool(following.only.match(url))) and not (
        following.skip and following.skip.match(url)
    )


def _live_link(node: Node, following: Next) -> tuple[int, str] | None:
    """How well the text of a link fits, the least the best, and its reference; None for one that is no such link."""
    text = following.plan.text
    if isinstance(node, JsonNode):
        node = node.value if isinstance(node.value, str) else ""
    if not isinstance(node, Element):
        return (0, str(node)) if text is None and isinstance(node, str) and node else None
    fit = 0 if text is None else _fit(text, text_of(node))
    link = link_of(node)
    if fit is None or link is None or not link.attr("href") or _is_off(node) or _is_off(link):
        return None
    return fit, str(link.attr("href"))


def _fit(wanted: str, text: str) -> int | None:
    """How a link says a text: 0 as all that it says, arrows and marks aside; 1 as words at its begin or end; None not so."""
    said, wanted = (" ".join(words.casefold().split()) for words in (text, wanted))
    if wanted in (said, _AROUND.sub("", said)):
        return 0
    at_an_end = re.search(rf"^\W*{re.escape(wanted)}(?!\w)|(?<!\w){re.escape(wanted)}\W*$", said)
    return 1 if at_an_end else None


def _is_off(element: Element) -> bool:
    classes = (element.attr("class") or "").lower().split()
    return element.attr("aria-disabled") == "true" or not _OFF_CLASSES.isdisjoint(classes)


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
    for element in every_element(document, "link", "a", "area"):
        if "next" in (element.attr("rel") or "").lower().split() and element.attr("href"):
            return str(element.attr("href"))
    return None


def is_true(expressions: tuple[Expression, ...], document: Document) -> bool:
    """Whether a flag is set: true in JSON, or a text that is neither empty nor a word for no."""
    for node in first_of(expressions, document.scope, document):
        value = node.value if isinstance(node, JsonNode) else text_of(node) if isinstance(node, Element) else node
        return value not in (None, False, 0, "", "false", "no", "0", "null")
    return False
