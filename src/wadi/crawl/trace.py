"""A field followed on a stored page: the nodes that it picks, and each stage's value on the way to the cell."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from lxml import etree

from wadi.clean.stages import Step, Unread
from wadi.clean.types import Where
from wadi.crawl.kinds import Field, Kind
from wadi.crawl.picking import nodes_of, picked
from wadi.crawl.rows import inner_scopes, row_scopes
from wadi.page.document import Document
from wadi.page.expressions import Node, Scope
from wadi.page.jsonpath import JsonNode
from wadi.web.messages import Reply

_SNIPPET = 600


@dataclass(frozen=True)
class Followed:
    """What a field came to: the expression, the markup of the first node, the raw texts, the steps, the value."""

    expression: str
    markup: str
    texts: tuple[str, ...]
    steps: tuple[Step, ...]
    value: Any


def scope_of(kind: Kind, document: Document, number: int) -> Scope | None:
    """The row of a page by its number; the whole page where the kind has no rows."""
    scopes = row_scopes(document, kind)
    return scopes[number] if number < len(scopes) else None


def list_scope(kind: Kind, document: Document, table: str, number: int) -> Scope | None:
    """The row of a list inside the rows of a page, by its number among all of them."""
    child = next((one for one in kind.lists if one.table == table), None)
    count = 0
    for scope in row_scopes(document, kind) if child else ():
        assert child is not None
        inner = inner_scopes(child, scope, document)
        if number < count + len(inner):
            return inner[number - count]
        count += len(inner)
    return None


def follow(field: Field, scope: Scope, document: Document, reply: Reply, *, beside: int | None = None) -> Followed:
    """The way of one cell. `beside` is the row's number where columns are picked side by side."""
    texts = picked(field, scope, document, reply)
    if beside is not None and field.source == "":
        texts = texts[beside : beside + 1]
    nodes = [] if field.source in ("url", "header", "key") else nodes_of(field, scope, document)
    if beside is not None:
        nodes = nodes[beside : beside + 1]
    return through_stages(field, texts, Where(document.base, reply.started_at), markup=_markup(nodes, document))


def through_stages(field: Field, texts: Sequence[str], where: Where, *, markup: str = "") -> Followed:
    """The stages of a field for texts that were picked."""
    plan = field.plan
    steps: list[Step] = []
    values: list[Any] = []
    unread = False
    for text in texts if plan.many else texts[:1]:
        steps.append(Step("picked", text))
        way = list(field.stages.followed(text, where))
        steps += way
        value = way[-1].value if way else text
        if isinstance(value, Unread):
            unread = True
        elif value is not None:
            values.append(value)
    value = _cell(field, values, unread, steps)
    expression = " or ".join(plan.at or ([f'label "{plan.label[0]}"'] if plan.label else [f"from {plan.source}"]))
    return Followed(expression, markup, tuple(texts), tuple(steps), value)


def _cell(field: Field, values: list[Any], unread: bool, steps: list[Step]) -> Any:
    plan = field.plan
    if plan.many:
        if plan.join is None:
            steps.append(Step("many", values))
            return values
        value = plan.join.join(map(str, values)) if values else plan.default
        steps.append(Step("join", value))
        return value
    if values:
        return values[0]
    if not unread and plan.default is not None:
        steps.append(Step("default", plan.default))
        return plan.default
    return None


def _markup(nodes: Sequence[Node], document: Document) -> str:
    for node in nodes[:1]:
        if isinstance(node, JsonNode):
            import orjson

            return orjson.dumps(node.value).decode()[:_SNIPPET]
        if isinstance(node, etree._Element):
            method = "html" if document.kind == "html" else "xml"
            source = str(etree.tostring(node, encoding="unicode", method=method, with_tail=False))
            return " ".join(source.split())[:_SNIPPET]
        return str(node)[:_SNIPPET]
    return ""
