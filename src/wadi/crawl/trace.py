"""A field's cell read again on a stored page, with each step on the way recorded."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from wadi.clean.stages import Step
from wadi.crawl.kinds import Kind
from wadi.crawl.requests import source_of
from wadi.crawl.rows import inner_scopes, row_scopes
from wadi.page.cells import Notes, read_column, value_of_texts
from wadi.page.document import Document
from wadi.page.field import Field, Picked, Source, Steps, expression_of, texts_of
from wadi.page.json_values import text_of_value
from wadi.page.nodes import Element, JsonNode, Node, Scope, markup_of
from wadi.web.messages import Reply

_SNIPPET = 600


@dataclass(frozen=True)
class Retraced:
    """What a field came to: the expression, the markup of the first node, the steps as they happened, the value."""

    expression: str
    markup: str
    steps: tuple[Step, ...]
    value: Any


def scope_of(kind: Kind, document: Document, number: int) -> Scope | None:
    """The row of a page by its number; the whole page where the kind has no rows."""
    scopes = row_scopes(document, kind.rows)
    return scopes[number] if number < len(scopes) else None


def list_scope(kind: Kind, document: Document, table: str, number: int) -> Scope | None:
    """The row of a list inside the rows of a page, by its number among all of them."""
    child = next((nested for nested in kind.lists if nested.table == table), None)
    count = 0
    for scope in row_scopes(document, kind.rows) if child else ():
        assert child is not None
        inner = inner_scopes(child, scope, document)
        if number < count + len(inner):
            return inner[number - count]
        count += len(inner)
    return None


def retrace(spec: Field, scope: Scope, document: Document, reply: Reply, *, beside: int | None = None) -> Retraced:
    """The way of one cell. `beside` is the row's number where columns are picked side by side."""
    steps: Steps = []
    source = source_of(document, reply)
    if beside is None or spec.source:
        (value,) = read_column(spec, [scope], source, Notes(), steps)
    else:
        texts = texts_of(spec, scope, source, steps)[beside : beside + 1]
        value = value_of_texts(spec, texts, source.where, Notes(), steps=steps)
    return _retraced(spec, steps, value, beside or 0)


def retrace_route(spec: Field, source: Source) -> Retraced:
    """The way of a cell whose value depends on how its page was reached."""
    steps: Steps = []
    (value,) = read_column(spec, [None], source, Notes(), steps)
    return _retraced(spec, steps, value, 0)


def _retraced(spec: Field, steps: Steps, value: Any, number: int) -> Retraced:
    """The steps; of what was picked the markup of the node that counts."""
    nodes = next((step.nodes for step in steps if isinstance(step, Picked)), [])
    markup = markup_of_node(nodes[number]) if number < len(nodes) else ""
    stages = tuple(step for step in steps if isinstance(step, Step))
    return Retraced(expression_of(spec), markup, stages, value)


def markup_of_node(node: Node) -> str:
    """The beginning of a node's markup, folded."""
    if isinstance(node, JsonNode):
        return text_of_value(node.value)[:_SNIPPET]
    if isinstance(node, Element):
        return " ".join(markup_of(node).split())[:_SNIPPET]
    return str(node)[:_SNIPPET]
