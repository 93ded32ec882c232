"""A reply and its page kind → rows, links, the stated total, or the reason why it is not the page.

What depends on the way by which a page was reached (link text, inputs) is left open here: one page may be reached by
several ways, and its extract is the same for all.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from lxml import etree

from wadi.clean.numbers import PlainNumber
from wadi.clean.stages import Unread
from wadi.clean.text import tidied, tidied_lines
from wadi.crawl.kinds import Field, Kind
from wadi.crawl.links import links_of
from wadi.crawl.paging import next_request
from wadi.page.document import Document, NotADocument, read_document
from wadi.page.expressions import Node, Scope, first_of
from wadi.page.jsonpath import JsonNode
from wadi.page.text import direct_text_of, text_of
from wadi.problems import Place, Problem, shortened
from wadi.store.outcome import CellProblem, Link, Role, TableRows
from wadi.web.messages import Reply


@dataclass(frozen=True, slots=True)
class Extract:
    """What stands on a page. `failure` tells why it is not the page that the plan expects; then there is nothing else."""

    tables: tuple[TableRows, ...] = ()
    links: tuple[Link, ...] = ()
    total: int | None = None
    failure: Problem | None = None
    notes: tuple[Problem, ...] = ()
    row_count: int = 0


@dataclass(slots=True)
class _Found:
    """What is gathered row by row."""

    rows: list[list[Any]] = field(default_factory=list)
    problems: list[CellProblem] = field(default_factory=list)
    several: dict[str, int] = field(default_factory=dict)


def extract(
    reply: Reply,
    kind: Kind,
    kinds: Mapping[str, Kind],
    expect_place: str = "",
    *,
    number: int = 0,
    most_rows: int | None = None,
) -> Extract:
    """What stands on the page. `number` is its place in its listing, from 0; `expect_place` says where `expect` stands.

    `most_rows` is for rehearsals: only so many of the rows are read, and `row_count` tells how many there are.
    """
    place = Place(reply.url)
    try:
        document = read_document(reply.body, reply.url, reply.content_type, parse=kind.parse)
    except NotADocument as error:
        return Extract(failure=Problem("wrong-kind", f"reply {reply.status} is no page: {error}", place))
    if not is_readable(document, kind):
        what = f"reply {reply.status} is {document.kind.upper()}, which no expression of page {kind.name!r} reads"
        return Extract(failure=Problem("wrong-kind", what, place, now="JSON is read with JSONPath: $.…"))
    is_empty = bool(kind.empty and first_of(kind.empty, document.scope, document))
    if kind.expect and not is_empty and not first_of(kind.expect, document.scope, document):
        return Extract(failure=_not_the_page(document, reply, kind, expect_place))
    every = row_scopes(document, kind)
    scopes = every[:most_rows]
    tables = (_rows(document, reply, kind, scopes),) if kind.table and kind.fields else ()
    links, notes = links_of(document, kind, kinds, scopes if kind.rows else None)
    if kind.next is not None:
        following = next_request(document, reply, kind.next, number, len(every) if kind.rows else None)
        if isinstance(following, Problem):
            notes.append(following)
        elif following is not None:
            links.append(Link(Role.NEXT, 0, kind.name, following))
    if document.cut_off:
        notes = [*notes, Problem("cut-off", f"the end of the page is not read: {document.cut_off}", place)]
    return Extract(tables, tuple(links), _stated_total(document, reply, kind), None, tuple(notes), len(every))


def is_readable(document: Document, kind: Kind) -> bool:
    """Whether some expression of the page kind reads such a document at all."""
    reads = kind.reads
    return not reads or bool(reads & {"any", "json" if document.kind == "json" else "tree"})


def row_scopes(document: Document, kind: Kind) -> list[Scope]:
    """The elements or JSON values that are rows; the whole document where the kind has no `rows`."""
    if not kind.rows:
        return [document.scope]
    found = first_of(kind.rows, document.scope, document)
    return [node for node in found if isinstance(node, etree._Element | JsonNode)]


def picked(field: Field, scope: Scope, document: Document, reply: Reply) -> list[str]:
    """The texts that a field picks, before any stage: none when there is nothing."""
    if field.source in _ELSEWHERE:
        value = _ELSEWHERE[field.source](field, scope, reply)
        return [value] if value else []
    texts = [text for node in nodes_of(field, scope, document) for text in taken(node, field)]
    if not field.then:
        return texts
    return [text for outer in texts for text in _inside(outer, field, document)]


def nodes_of(field: Field, scope: Scope, document: Document) -> list[Node]:
    """The nodes that a field's expressions pick."""
    if field.source == "page":
        scope = document.scope
    elif field.source == "data":
        scope = data_scope(document)
    return first_of(field.expressions, scope, document)


def data_scope(document: Document) -> JsonNode:
    """The structured data of a page, where `from = "data"` searches; made once for each document."""
    from wadi.page.structured import structured

    kept: JsonNode | None = document.__dict__.get("_data_scope")
    if kept is None:
        kept = JsonNode(structured(document), ())
        document.__dict__["_data_scope"] = kept
    return kept


def taken(node: Node, field: Field) -> list[str]:
    """The texts of one picked node: one, or none when an attribute or a JSON value is not there; lists give all of theirs."""
    if isinstance(node, JsonNode):
        if field.plan.many and isinstance(node.value, list):
            return [text for value in node.value for text in _json_text(value)]
        return _json_text(node.value)
    if isinstance(node, etree._Element):
        text = _element_text(node, field)
        return [] if text is None else [text]
    if isinstance(node, bool):
        return ["true" if node else "false"]
    if isinstance(node, float):
        return [PlainNumber(int(node) if node.is_integer() else node)]
    return [tidied(node)]


def _element_text(element: etree._Element, field: Field) -> str | None:
    if field.plan.attr is not None:
        value = element.get(field.plan.attr)
        return None if value is None else tidied(value)
    if not isinstance(element.tag, str):
        return tidied(element.text or "")
    return _TAKES[field.plan.take or "text"](element)


def _json_text(value: Any) -> list[str]:
    """A JSON value as text; null is no value."""
    if value is None:
        return []
    if isinstance(value, str):
        return [tidied_lines(value)]
    if isinstance(value, bool):
        return ["true" if value else "false"]
    if isinstance(value, int | float):
        return [PlainNumber(value)]
    import orjson

    return [orjson.dumps(value).decode()]


def _inside(text: str, field: Field, document: Document) -> list[str]:
    """What `then` picks in a text that is a document of its own. A text that is none gives nothing."""
    try:
        kind = field.plan.inside
        inner = read_document(text.encode(), document.base, parse="json" if kind == "json" else "strict")
    except NotADocument:
        return []
    nodes = first_of(field.then, inner.scope, inner)
    return [text for node in nodes for text in taken(node, field)]


def _html(element: etree._Element) -> str:
    return str(etree.tostring(element, encoding="unicode", method="html", with_tail=False))


def _inner_html(element: etree._Element) -> str:
    return (element.text or "") + "".join(
        str(etree.tostring(child, encoding="unicode", method="html")) for child in element
    )


_TAKES = {"text": text_of, "direct text": direct_text_of, "html": _html, "inner html": _inner_html}
_ELSEWHERE: dict[str, Callable[[Field, Scope, Reply], str | None]] = {
    "url": lambda field, scope, reply: reply.url,
    "header": lambda field, scope, reply: reply.header(field.detail),
    "key": lambda field, scope, reply: scope.key if isinstance(scope, JsonNode) else None,
}


def _rows(document: Document, reply: Reply, kind: Kind, scopes: list[Scope]) -> TableRows:
    found = _Found()
    for number, scope in enumerate(scopes):
        found.rows.append([_cell(f, number, scope, document, reply, found) for f in kind.fields])
    assert kind.table is not None
    return TableRows(kind.table, kind.columns, found.rows, kind.completes, tuple(found.problems), found.several)


def _cell(field: Field, row: int, scope: Scope, document: Document, reply: Reply, found: _Found) -> Any:
    if field.by_route:
        return None
    texts = picked(field, scope, document, reply)
    if len(texts) > 1 and not field.plan.many:
        found.several[field.name] = found.several.get(field.name, 0) + 1
    return cell_of(
        field, texts, document.base, lambda unread: found.problems.append(problem_of(field.name, row, unread))
    )


def cell_of(field: Field, texts: list[str], base: str, report: Callable[[Unread], None]) -> Any:
    """The cell for the picked texts. What cannot be read is handed to `report` and leaves the cell empty."""
    values: list[Any] = []
    unread = False
    for text in texts if field.plan.many else texts[:1]:
        value = field.stages.value_of(text, base)
        if isinstance(value, Unread):
            report(value)
            unread = True
        elif value is not None:
            values.append(value)
    if field.plan.many:
        return values
    if values:
        return values[0]
    return None if unread else field.plan.default


def problem_of(column: str, row: int, unread: Unread) -> CellProblem:
    """A text that could not be read, as it is kept with the run."""
    return CellProblem(row, column, shortened(unread.raw, 500), unread.code, unread.what, unread.why)


def _stated_total(document: Document, reply: Reply, kind: Kind) -> int | None:
    if kind.total is None:
        return None
    texts = picked(kind.total, document.scope, document, reply)
    value = kind.total.stages.value_of(texts[0], document.base) if texts else None
    return value if isinstance(value, int) else None


def _not_the_page(document: Document, reply: Reply, kind: Kind, expect_place: str) -> Problem:
    wanted = " or ".join(f'"{one.text}"' for one in kind.expect)
    where = f" (expect, {expect_place})" if expect_place else ""
    title = f'its title is "{shortened(document.title, 50)}"; ' if document.title else ""
    return Problem(
        "not-the-page",
        f"reply {reply.status} without {wanted}{where}",
        Place(reply.url),
        why=f"{title}a block, a log-in or a redesign: it counts as failed, not as a page with no rows",
    )
