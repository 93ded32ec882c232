"""Where a page leads: the links that it opens, the forms that it sends, the files it has. Decisions only, nothing is fetched."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from wadi.crawl.forms import form_of
from wadi.crawl.kinds import Kind, OpenLink
from wadi.crawl.requests import asked, headers_of, sent_values, several_sent
from wadi.page.document import Document
from wadi.page.expressions import first_of
from wadi.page.nodes import Element, JsonNode, Node, Scope, link_of
from wadi.page.text import text_of
from wadi.plan.starts import FILE, file_request
from wadi.problems import Place, Problem, listed, shortened
from wadi.store.outcome import Link, Role, TableRows
from wadi.urls import NotAUrl, host_of
from wadi.web.messages import Reply, Request
from wadi.web.parameters import LinkRules


@dataclass(slots=True)
class _Gathered:
    """Links as they are found, each once, and what was wrong with some."""

    document: Document
    reply: Reply
    rules: LinkRules
    links: list[Link] = field(default_factory=list)
    notes: list[Problem] = field(default_factory=list)
    elsewhere: list[str] = field(default_factory=list)
    seen: set[tuple[Any, ...]] = field(default_factory=set)
    several_sent: list[str] = field(default_factory=list)
    lacking: Counter[tuple[str, str]] = field(default_factory=Counter)
    was_sent: set[str] = field(default_factory=set)

    def add(self, target: str, request: Request, row: int | None, text: str, inputs: Mapping[str, Any] | None) -> None:
        """Keep a link unless the same place has had it."""
        name = (target, request, row, repr(inputs) if inputs else "")
        if name not in self.seen:
            self.seen.add(name)
            self.links.append(Link(Role.OPEN, len(self.links), target, request, row, text, inputs or None))

    def keep_one(self, count: int) -> bool:
        """Of the links found since there were `count` keep the first. Whether there were several."""
        is_one_of_several = len(self.links) > count + 1
        del self.links[count + 1 :]
        return is_one_of_several

    def note(self, code: str, what: str, now: str = "") -> None:
        self.notes.append(Problem(code, what, Place(self.document.url), now=now))


def links_of(
    document: Document, reply: Reply, kind: Kind, kinds: Mapping[str, Kind], rows: Sequence[Scope] | None
) -> tuple[list[Link], list[Problem]]:
    """The links that a page opens, in the order of their places, and what was wrong with some."""
    found = _Gathered(document, reply, kind.links)
    several: Counter[str] = Counter()
    for number, row in enumerate(rows or ()):
        for opening in kind.open:
            if opening.in_rows:
                several[opening.target] += _add_to_row(found, opening, row, number, kinds)
    for opening in kind.open:
        if not opening.in_rows:
            # A page that is one row, and opens what completes that row, opens it for row 0.
            row_number = 0 if rows is None and kinds[opening.target].completes else None
            several[opening.target] += _add_to_row(found, opening, document.scope, row_number, kinds)
    for target, count in several.items():
        if count:
            what = f'{count} {"row has" if count == 1 else "rows have"} several links to page "{target}", which completes a row'
            found.note("several-links", f"{what}: the first was opened", "at = … says which one it is")
    for (target, name), times in found.lacking.items():
        if target not in found.was_sent:  # where some rows have it, others may do without
            where = f" in {times} rows" if times > 1 else ""
            found.note("nothing-to-send", f'"{name}" picks nothing{where}, so page "{target}" is not asked for')
    for name, times in Counter(found.several_sent).items():
        found.notes.append(several_sent(name, document, times))
    if found.elsewhere:
        what = f"links to other hosts are not opened: {len(found.elsewhere)}, first {shortened(found.elsewhere[0])}"
        found.note("other-host", what, 'hosts = ["…"] opens them')
    return found.links, found.notes


def file_links(tables: Sequence[TableRows], kind: Kind, first_place: int) -> list[Link]:
    """The files that the cells of type file name, each once for each row; on whatever host they are."""
    if not kind.file_columns:
        return []
    links: list[Link] = []
    seen: set[tuple[str, int | None]] = set()
    for table in tables:
        places = [place for place, name in enumerate(table.columns) if name in kind.file_columns]
        for number, cells in enumerate(table.rows):
            row = number if table.parents is None else None
            for place in places:
                for url in cells[place] if isinstance(cells[place], list) else [cells[place]]:
                    if url and (url, row) not in seen:
                        seen.add((url, row))
                        links.append(
                            Link(Role.OPEN, first_place + len(links), FILE, file_request(url), row, deeper=False)
                        )
    return links


def _add_to_row(found: _Gathered, opening: OpenLink, scope: Scope, row: int | None, kinds: Mapping[str, Kind]) -> bool:
    """Add what is opened. A row is completed by one page of a kind: several would mix in it. Whether there were several."""
    before = len(found.links)
    _add_opened(found, opening, scope, row)
    return row is not None and kinds[opening.target].completes and found.keep_one(before)


def _add_opened(found: _Gathered, opening: OpenLink, scope: Scope, row: int | None) -> None:
    if opening.where and not any(condition.stands(scope, found.document) for condition in opening.where):
        return
    if opening.form:
        _add_form(found, opening, scope)
        return
    if opening.asking.is_set:
        _add_asked(found, opening, scope, row)
        return
    for node in _link_nodes(opening, scope, found.document):
        reference, text = reference_of(node, found.document)
        if reference is None:
            continue
        try:
            url = found.rules.applied(found.document.resolve(reference))
        except NotAUrl as error:
            found.note("bad-link", f'link "{shortened(reference)}" is not followed: {error}')
            continue
        if not is_taken(url, text, opening):
            continue
        if is_near(url, found.document.url, opening):
            found.add(opening.target, Request(url, headers=headers_of(opening.asking)), row, text, None)
        else:
            found.elsewhere.append(url)


def _link_nodes(opening: OpenLink, scope: Scope, document: Document) -> list[Node]:
    if not opening.within:
        return first_of(opening.expressions, scope, document)
    parts = [part for part in first_of(opening.within, scope, document) if isinstance(part, Element | JsonNode)]
    return [node for part in parts for node in first_of(opening.expressions, part, document)]


def _add_form(found: _Gathered, opening: OpenLink, scope: Scope) -> None:
    picked = first_of(opening.form, scope, found.document)
    if not picked:
        found.note("no-form", f"no form {listed(e.text for e in opening.form)} on the page")
    for element in picked[:1]:
        if not isinstance(element, Element):
            continue
        try:
            form = form_of(element, found.document)
        except (ValueError, NotAUrl) as error:
            found.note("no-form", f"the form cannot be sent: {error}")
            return
        unknown = form.unknown(opening.asking.variants[0][0])
        if unknown:
            found.note(
                "unknown-control", f"the form has no field {listed(unknown)}", f"its fields: {listed(form.names)}"
            )
        for values, inputs in opening.asking.variants:
            found.add(opening.target, form.request(values), None, "", inputs)


def _add_asked(found: _Gathered, opening: OpenLink, scope: Scope, row: int | None) -> None:
    values, lacking, several = sent_values(opening.asking.send, scope, found.document, found.reply)
    found.several_sent += several
    if lacking is not None:
        found.lacking[opening.target, lacking] += 1
        return
    found.was_sent.add(opening.target)
    for constant, inputs in opening.asking.variants:
        try:
            request = asked(found.document.base, opening.asking, values, constant, inputs=inputs)
        except NotAUrl as error:
            found.note("bad-link", f'address "{opening.asking.address}" is not asked for: {error}')
            return
        if is_near(request.url, found.document.url, opening):
            found.add(opening.target, request, row, "", inputs)
        else:
            found.elsewhere.append(request.url)


def is_near(url: str, page_url: str, opening: OpenLink) -> bool:
    """Whether a URL is on the page's own host, or on one that the plan names (with or without its port)."""
    host = host_of(url)
    return host == host_of(page_url) or not opening.hosts.isdisjoint({host, host.rpartition(":")[0], "*"})


def is_taken(url: str, text: str, opening: OpenLink) -> bool:
    """Whether the plan opens this link: by patterns on its URL and its text, and by the analyst's function."""
    if opening.only and not opening.only.match(url):
        return False
    if opening.skip and opening.skip.match(url):
        return False
    folded = " ".join(text.split()).casefold()
    if opening.text and not opening.text.match(folded):
        return False
    if opening.skip_text and opening.skip_text.match(folded):
        return False
    return opening.call is None or bool(opening.call(url, text))


def reference_of(node: Node, document: Document) -> tuple[str | None, str]:
    """The reference and the text of a link: of the element itself, of the first link inside it, or an XML element's text."""
    if isinstance(node, Element):
        link = link_of(node)
        if link is not None:
            return link.attr("href"), text_of(link)
        return (text_of(node) or None, "") if document.kind == "xml" else (None, "")
    value = node.value if isinstance(node, JsonNode) else node
    return (value, "") if isinstance(value, str) and value else (None, "")
