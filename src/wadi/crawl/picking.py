"""What a field picks: from its row, from elsewhere on the page, from the reply; as texts, before any stage, then as a cell."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable
from typing import Any

from lxml import etree

from wadi.clean.numbers import PlainNumber
from wadi.clean.stages import Unread
from wadi.clean.text import tidied, tidied_lines
from wadi.clean.types import Where
from wadi.crawl.kinds import Field
from wadi.page.document import Document, NotADocument, read_document
from wadi.page.expressions import Node, Scope, first_of, index_of
from wadi.page.grid import Grid, grid_of
from wadi.page.jsonpath import JsonNode
from wadi.page.labels import LabelsIn
from wadi.page.selectors.shape import first_picked
from wadi.page.text import direct_text_of, text_of
from wadi.problems import shortened
from wadi.store.outcome import CellProblem
from wadi.web.messages import Reply


def picked(field: Field, scope: Scope, document: Document, reply: Reply) -> list[str]:
    """The texts that a field picks, before any stage: none when there is nothing."""
    if field.matchers and document.kind == "html" and scope is not document.root:
        return _picked_plainly(field, scope, document)  # type: ignore[arg-type]
    if field.source in _ELSEWHERE:
        value = _ELSEWHERE[field.source](field, scope, reply)
        return _pieces([value], field) if value else []
    texts = [text for node in nodes_of(field, scope, document) for text in taken(node, field)]
    if field.then:
        texts = [text for outer in texts for text in _inside(outer, field, document)]
    return _pieces(texts, field)


def _picked_plainly(field: Field, scope: etree._Element, document: Document) -> list[str]:
    """The same for the fields that most are, in a row of HTML: a fifth of the time, and there are hundreds on a page."""
    return texts_in(field, first_picked(field.matchers, scope, index_of(scope, document)))


def texts_in(field: Field, elements: list[etree._Element]) -> list[str]:
    """The texts of the elements that a plain field picks, or its attribute."""
    name = field.plan.attr
    if name is None:
        return [text_of(element) for element in elements]
    return [tidied(value) for element in elements if (value := element.get(name)) is not None]


def _pieces(texts: list[str], field: Field) -> list[str]:
    """The texts split where the field says so."""
    between = field.plan.split
    if between is None:
        return texts
    return [piece.strip() for text in texts for piece in text.split(between) if piece.strip()]


def nodes_of(field: Field, scope: Scope, document: Document) -> list[Node]:
    """The nodes that a field's expressions pick."""
    if field.source == "page":
        scope = document.scope
    elif field.source == "data":
        scope = _data_of(document)
    elif field.source == "heading":
        return _heading(field, scope, document)
    if field.plan.under is not None:
        return _under(field, field.plan.under, scope, document)
    if field.plan.label:
        return _beside_label(field, scope, document)
    return first_of(field.expressions, scope, document)


def _data_of(document: Document) -> JsonNode:
    from wadi.page.structured import data_scope

    return data_scope(document)


def _beside_label(field: Field, scope: Scope, document: Document) -> list[Node]:
    """What stands beside a label in the row, or in what the field's expressions pick."""
    around = first_of(field.expressions, scope, document) if field.expressions else [scope]
    found: list[Node] = []
    for one in around:
        if isinstance(one, etree._Element):
            found += _labels_in(one, document).find(field.plan.label)
    return found


def _labels_in(scope: etree._Element, document: Document) -> LabelsIn:
    """The labels of a row, kept until those of another are asked for."""
    kept: LabelsIn | None = document.__dict__.get("_labels")
    if kept is None or kept.scope is not scope:
        kept = document.__dict__["_labels"] = LabelsIn(scope)
    return kept


def _heading(field: Field, scope: Scope, document: Document) -> list[Node]:
    """The last of the headings that stand before the row; of JSON, what the nearest value around the row has."""
    if isinstance(scope, JsonNode):
        for length in range(len(scope.path) - 1, -1, -1):
            value = document.data if document.kind == "json" else _data_of(document).value
            for step in scope.path[:length]:
                value = value[step]
            if found := first_of(field.expressions, JsonNode(value, scope.path[:length]), document):
                return found[:1]
        return []
    places = _places(document)
    headings = [n for n in first_of(field.expressions, document.scope, document) if isinstance(n, etree._Element)]
    before = bisect_left([places[heading] for heading in headings], places[scope])
    return [headings[before - 1]] if before else []


def _places(document: Document) -> dict[etree._Element, int]:
    """Where each element of a document stands, counted in reading order; made once for each document."""
    kept: dict[etree._Element, int] | None = document.__dict__.get("_places")
    if kept is None:
        kept = document.__dict__["_places"] = {element: place for place, element in enumerate(document.tree.iter())}
    return kept


def _under(field: Field, heading: str, scope: Scope, document: Document) -> list[Node]:
    """The row's cells below a heading of its table, or what the field's expressions pick in them."""
    if not isinstance(scope, etree._Element):
        return []
    row = scope if scope.tag == "tr" else next(scope.iterancestors("tr"), None)
    table = next(row.iterancestors("table"), None) if row is not None else None
    if row is None or table is None:
        return []
    grids: dict[etree._Element, Grid] = document.__dict__.setdefault("_grids", {})
    if table not in grids:
        grids[table] = grid_of(table)
    cells = grids[table].under(row, heading)
    if not field.expressions:
        return list(cells)
    return [node for cell in cells for node in first_of(field.expressions, cell, document)]


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


def _clean_html(element: etree._Element) -> str:
    from wadi.page.markup import clean_html

    return clean_html(element)


def _markdown(element: etree._Element) -> str:
    from wadi.page.markup import markdown_of

    return markdown_of(element)


_TAKES = {
    "clean html": _clean_html,
    "markdown": _markdown,
    "text": text_of,
    "direct text": direct_text_of,
    "html": _html,
    "inner html": _inner_html,
}
_ELSEWHERE: dict[str, Callable[[Field, Scope, Reply], str | None]] = {
    "url": lambda field, scope, reply: reply.url,
    "header": lambda field, scope, reply: reply.header(field.detail),
    "key": lambda field, scope, reply: scope.key if isinstance(scope, JsonNode) else None,
}


def cell_of(field: Field, texts: list[str], where: Where, report: Callable[[Unread], None]) -> Any:
    """The cell for the picked texts. What cannot be read is handed to `report` and leaves the cell empty."""
    values: list[Any] = []
    unread = False
    for text in texts if field.plan.many else texts[:1]:
        value = field.stages.value_of(text, where)
        if isinstance(value, Unread):
            report(value)
            unread = True
        elif value is not None:
            values.append(value)
    if field.plan.many:
        return values if field.plan.join is None else _joined(values, field.plan.join) or field.plan.default
    if values:
        return values[0]
    return None if unread else field.plan.default


def _joined(values: list[Any], between: str) -> str | None:
    return between.join(map(str, values)) if values else None


def problem_of(column: str, row: int, unread: Unread) -> CellProblem:
    """A text that could not be read, as it is kept with the run."""
    return CellProblem(row, column, shortened(unread.raw, 500), unread.code, unread.what, unread.why)
