"""A field, compiled: what it picks (in a row, on the page, in the reply, on the way to it), and the texts that it takes."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, NamedTuple, Protocol

from wadi.clean.numbers import PlainNumber
from wadi.clean.stages import Stages, Step
from wadi.clean.text import tidied, tidied_lines
from wadi.clean.types import Where
from wadi.page.document import Document, NotADocument, read_document
from wadi.page.expressions import Expression, first_of
from wadi.page.grid import Grid, grid_of
from wadi.page.json_values import text_of_value
from wadi.page.labels import LabelsIn
from wadi.page.nodes import (
    Element,
    JsonNode,
    Node,
    Scope,
    ancestors,
    elements,
    inner_markup_of,
    markup_of,
    raw_text_of,
)
from wadi.page.text import direct_text_of, text_of

ROUTE_SOURCES = frozenset({"link", "input", "status", "route"})
"""Sources whose values depend on how a page was reached, or that pages have which failed: filled in when tables are assembled."""


@dataclass(frozen=True)
class Field:
    """A compiled field. `source` is "" for the row, or where else the value comes from, with `detail` (a NAME).

    `takes` is what is taken of a picked node ("" for the usual), `attr` an attribute instead.
    """

    name: str
    stages: Stages
    expressions: tuple[Expression, ...] = ()
    source: str = ""
    detail: str = ""
    under: str | None = None
    label: tuple[str, ...] = ()
    within: tuple[Expression, ...] = ()
    inside: str | None = None
    then: tuple[Expression, ...] = ()
    attr: str | None = None
    takes: str = ""
    many: bool = False
    split: str | None = None
    join: str | None = None
    default: str | int | float | bool | None = None
    distinct: bool = False
    in_order: bool = False
    output: Callable[[Any], Any] | None = None

    @cached_property
    def by_route(self) -> bool:
        """Whether the value depends on how the page was reached."""
        return self.source in ROUTE_SOURCES

    @property
    def is_file(self) -> bool:
        return self.stages.recipe.setting.type == "file"

    @cached_property
    def is_verbatim(self) -> bool:
        """Whether texts stay as they are: where the plan says so, and the strings of JSON and of files of columns."""
        return self.takes == "verbatim" or (not self.takes and self.is_text and self.is_of_json)

    @cached_property
    def is_of_json(self) -> bool:
        """Whether the expressions that pick last read JSON."""
        last = self.then or self.expressions
        return bool(last) and all(expression.language == "json" for expression in last)

    @cached_property
    def is_text(self) -> bool:
        """Whether the value is the text itself."""
        return self.stages.recipe.setting.type == "string"

    @cached_property
    def is_plain(self) -> bool:
        """Whether the value is that of the one node that the expression picks in the row, as most are."""
        more = self.source or self.under is not None or self.label or self.then or self.split is not None or self.output
        return not (more or self.many or self.takes not in ("", "text")) and len(self.expressions) == 1


class ReplyFace(Protocol):
    """What cells need to know of a reply."""

    @property
    def url(self) -> str: ...

    def header(self, name: str) -> str: ...


class Picked(NamedTuple):
    """A step on the way of a cell at which nodes were picked: by which expression, and the nodes."""

    name: str
    nodes: list[Node]


Steps = list[Step | Picked]
"""The way of a cell as it was gone."""


@dataclass(frozen=True, slots=True)
class Source:
    """What cells are read from: a page with its reply, or the way by which it was reached (the text of the link, inputs,
    the status that it came with, the named route)."""

    document: Document | None
    where: Where
    reply: ReplyFace | None = None
    link: str | None = None
    inputs: Mapping[str, Any] = field(default_factory=dict)
    status: int | None = None
    route: str = ""


def recorded(steps: Steps | None, name: str, value: Any) -> Any:
    if steps is not None:
        steps.append(Step(name, value))
    return value


def texts_of(spec: Field, scope: Scope | None, source: Source, steps: Steps | None = None) -> list[str]:
    """The texts that a field takes, before any stage: none when there is nothing."""
    if spec.source in _ELSEWHERE:
        value = _ELSEWHERE[spec.source](spec, scope, source)
        recorded(steps, f"from {spec.source}" + (f".{spec.detail}" if spec.detail else ""), value)
        return _pieces(_texts_of_value(value, spec) if value not in (None, "") else [], spec)
    assert source.document is not None
    nodes = nodes_of(spec, scope, source.document)
    if steps is not None:
        steps.append(Picked(expression_of(spec), nodes))
    if spec.then:
        nodes = _inside(nodes, spec, source.document)
        if steps is not None:
            steps.append(Picked(" or ".join(e.text for e in spec.then), nodes))
    return _pieces([text for node in nodes for text in taken(node, spec)], spec)


def expression_of(spec: Field) -> str:
    """How a field says what it picks, in words."""
    said = [e.text for e in spec.expressions]
    said += [f'label "{spec.label[0]}"'] if spec.label else []
    said += [f'under "{spec.under}"'] if spec.under is not None else []
    return " or ".join(said) or f"from {spec.source}"


def _pieces(texts: list[str], spec: Field) -> list[str]:
    """The texts split where the field says so."""
    if spec.split is None:
        return texts
    return [piece.strip() for text in texts for piece in text.split(spec.split) if piece.strip()]


def nodes_of(spec: Field, scope: Scope | None, document: Document) -> list[Node]:
    """The nodes that a field's expressions pick."""
    if spec.source == "page":
        scope = document.scope
    elif spec.source == "data":
        scope = _data_of(document)
    assert scope is not None
    if spec.source == "heading":
        # The last of the headings that stand before the row; of JSON, what the nearest value around the row has.
        if isinstance(scope, JsonNode):
            return _heading_in_json(spec, scope, document)
        places = document.cached("places", lambda: {e: place for place, e in enumerate(elements(document.top))})
        headings = [node for node in first_of(spec.expressions, document.scope, document) if isinstance(node, Element)]
        before = bisect_left([places[heading] for heading in headings], places[scope])
        return [headings[before - 1]] if before else []
    if spec.under is not None:
        return _under(spec, spec.under, scope, document)
    if spec.label:
        return _beside_label(spec, scope, document)
    return first_of(spec.expressions, scope, document)


def _data_of(document: Document) -> JsonNode:
    from wadi.page.structured import data_scope

    return data_scope(document)


def _beside_label(spec: Field, scope: Scope, document: Document) -> list[Node]:
    """What stands beside a label in the row, or in what `within` picks there; or what the field's expressions pick in that."""
    around = first_of(spec.within, scope, document) if spec.within else [scope]
    found: list[Node] = []
    for node in around:
        if isinstance(node, Element):
            found += document.cached(("labels", node), lambda node=node: LabelsIn(node)).find(spec.label)  # type: ignore[misc]
    if not spec.expressions:
        return found
    return [
        inner for value in found if isinstance(value, Element) for inner in first_of(spec.expressions, value, document)
    ]


def _heading_in_json(spec: Field, scope: JsonNode, document: Document) -> list[Node]:
    for length in range(len(scope.path) - 1, -1, -1):
        value = document.data if document.kind == "json" else _data_of(document).value
        for step in scope.path[:length]:
            value = value[step]
        if found := first_of(spec.expressions, JsonNode(value, scope.path[:length]), document):
            return found[:1]
    return []


def _under(spec: Field, heading: str, scope: Scope, document: Document) -> list[Node]:
    """The row's cells below a heading of its table, or what the field's expressions pick in them."""
    if not isinstance(scope, Element):
        return []
    row = scope if scope.tag == "tr" else next(ancestors(scope, "tr"), None)
    table = next(ancestors(row, "table"), None) if row is not None else None
    if row is None or table is None:
        return []
    grid: Grid = document.cached(("grid", table), lambda: grid_of(table))
    cells = grid.under(row, heading)
    if not spec.expressions:
        return list(cells)
    return [node for inner in cells for node in first_of(spec.expressions, inner, document)]


def taken(node: Node, spec: Field) -> list[str]:
    """The texts of one picked node: one, or none when an attribute or a JSON value is not there; lists give all of theirs."""
    if isinstance(node, JsonNode):
        return _texts_of_value(_keys(node.value) if spec.takes == "keys" else node.value, spec)
    if isinstance(node, Element):
        text = _element_text(node, spec)
        return [] if text is None else [text]
    if isinstance(node, bool):
        return ["true" if node else "false"]
    if isinstance(node, float):
        return [PlainNumber(int(node) if node.is_integer() else node)]
    return [node if spec.is_verbatim else tidied(node)]


def _keys(value: Any) -> list[str] | None:
    return list(value) if isinstance(value, dict) else None


def _element_text(element: Element, spec: Field) -> str | None:
    if spec.attr is not None:
        value = element.attr(spec.attr)
        return value if value is None or spec.is_verbatim else tidied(value)
    return _TAKES[spec.takes](element)


def _texts_of_value(value: Any, spec: Field) -> list[str]:
    """A JSON value as texts; null is no value, a list is several where the field takes many."""
    if isinstance(value, list) and (spec.many or spec.takes == "keys"):
        return [text for inner in value for text in _text_of_value(inner, spec)]
    return _text_of_value(value, spec)


def _text_of_value(value: Any, spec: Field) -> list[str]:
    if value is None:
        return []
    if isinstance(value, str):
        return [value if spec.is_verbatim or spec.takes == "keys" else tidied_lines(value)]
    if isinstance(value, bool):
        return ["true" if value else "false"]
    if isinstance(value, list | dict):
        return [text_of_value(value)]
    return [PlainNumber(value)]


def _inside(nodes: Sequence[Node], spec: Field, document: Document) -> list[Node]:
    """What `then` picks in texts that are documents of their own. A text that is none gives nothing."""
    found: list[Node] = []
    for node in nodes:
        for text in _sources(node, spec):
            try:
                inner = read_document(
                    text.encode("utf-8", "replace"),
                    document.base,
                    "application/json" if spec.inside == "json" else "text/html; charset=utf-8",
                    parse="json" if spec.inside == "json" else "html",
                )
            except NotADocument:
                continue
            found += first_of(spec.then, inner.scope, inner)
    return found


def _sources(node: Node, spec: Field) -> list[str]:
    """The text of a node that is to be read as a document: nothing of it is folded."""
    if isinstance(node, JsonNode):
        values = node.value if isinstance(node.value, list) and spec.many else [node.value]
        return [value if isinstance(value, str) else text_of_value(value) for value in values if value is not None]
    if isinstance(node, Element):
        text = node.attr(spec.attr) if spec.attr is not None else _SOURCES.get(spec.takes, raw_text_of)(node)
        return [] if text is None else [text]
    return [str(node)]


def _clean_html(element: Element) -> str:
    from wadi.page.markup import clean_html

    return clean_html(element)


def _markdown(element: Element) -> str:
    from wadi.page.markup import markdown_of

    return markdown_of(element)


_SOURCES: dict[str, Callable[[Element], str]] = {"html": markup_of, "inner html": inner_markup_of}
_TAKES: dict[str, Callable[[Element], str | None]] = {
    "": text_of,
    "text": text_of,
    "direct text": direct_text_of,
    "verbatim": raw_text_of,
    "html": markup_of,
    "inner html": inner_markup_of,
    "safe html": _clean_html,
    "markdown": _markdown,
    "keys": lambda element: None,
}
_ELSEWHERE: dict[str, Callable[[Field, Scope | None, Source], Any]] = {
    "url": lambda spec, scope, source: source.reply.url if source.reply else None,
    "header": lambda spec, scope, source: source.reply.header(spec.detail) if source.reply else None,
    "key": lambda spec, scope, source: scope.key if isinstance(scope, JsonNode) else None,
    "link": lambda spec, scope, source: source.link,
    "route": lambda spec, scope, source: source.route,
    "status": lambda spec, scope, source: source.status,
    "input": lambda spec, scope, source: source.inputs.get(spec.detail),
}
