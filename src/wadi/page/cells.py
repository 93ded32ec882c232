"""Cells: what the texts come to that a field takes. One function reads them all, wherever they are read.

A page is read field by field: what a field says stays at hand, and what was read before is known by how it is written.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import partial
from operator import methodcaller
from typing import Any

from wadi.clean.identity import each_once
from wadi.clean.stages import Step, Unread
from wadi.clean.text import tidied
from wadi.clean.types import Where
from wadi.page.document import Document
from wadi.page.field import Field, Source, Steps, recorded, texts_of
from wadi.page.nodes import Element, JsonNode, Node, Scope
from wadi.page.text import inline_text_of


@dataclass(slots=True)
class Notes:
    """What is to be told of cells that were read: texts that did not become values, each with its row's number and its field, and
    fields that picked several."""

    unread: list[tuple[int, str, Unread]] = field(default_factory=list)
    several: dict[str, int] = field(default_factory=dict)

    def count_several(self, name: str) -> None:
        self.several[name] = self.several.get(name, 0) + 1


def read_column(
    spec: Field, scopes: Sequence[Scope | None], source: Source, notes: Notes, follow: Steps | None = None
) -> list[Any]:
    """The values of a field in rows, one for each scope, None where there is none; what cannot be read or is too much goes to
    `notes`.

    With `follow`, in a column of one row, each step is recorded as it happens: what was picked, what was taken of it, what each
    stage made, the rules for several, absent and missing values.
    """
    document, where, stages, default = source.document, source.where, spec.stages, spec.default

    def value_of(number: int) -> Any:
        texts = texts_of(spec, scopes[number], source, follow)
        return value_of_texts(spec, texts, where, notes, number, follow)

    if follow is not None or document is None or not spec.is_plain:
        return [value_of(number) for number in range(len(scopes))]
    known, missing, tidy = stages.known, stages.missing, str if spec.is_verbatim else tidied
    every = _as_written(spec, scopes, document)
    if missing is not None:  # a text is its own value
        return [
            (default if (text := tidy(found)) in missing else text)
            if found.__class__ is str
            else default
            if found is None
            else value_of(number)
            for number, found in enumerate(every)
        ]
    values: list[Any] = []
    for number, found in enumerate(every):
        if found.__class__ is str:
            value = known.get(found, _NEW)
            if value is _NEW:
                value = stages.value_of(tidy(found), where, written=found)
                if value.__class__ is Unread:
                    notes.unread.append((number, spec.name, value))
                    values.append(None)
                    continue
            values.append(default if value is None else value)
        elif found is _MORE:
            values.append(value_of(number))
        else:
            values.append(default if found is None else found)
    return values


_NEW: Any = object()
_MORE: Any = object()
"""What stands for a cell that has more to it."""
_WHOLE_IN_FLOATS = 2**53


def _as_written(spec: Field, scopes: Sequence[Any], document: Document) -> list[Any]:
    """What the expression of a plain field finds in each row: the text of the one node as it is written, or the number of JSON
    that is the value; None where it finds nothing, `_MORE` where there is more to it."""
    expression = spec.expressions[0]
    if expression.steps is not None and document.beside is None and all(s.__class__ is JsonNode for s in scopes):
        steps, lines = expression.steps, None if spec.is_verbatim else "\n"
        return [
            value
            if (value := _at(steps, scope.value)).__class__ is str and (lines is None or lines not in value)
            else _json_as_written(value, spec)
            for scope in scopes
        ]
    if document.kind == "json" or spec.is_verbatim or expression.language not in ("css", "xpath"):
        return [_MORE] * len(scopes)
    pick, selector = expression.pick, expression.selector
    if selector is not None and document.kind == "html" and not selector.siblings:
        root, inside = document.root, selector.inside  # by the parser's own engine, without a call between
        every = [row.select(inside) if row is not root else document.tree.select(selector.page) for row in scopes]
    else:
        every = [pick(row, document) for row in scopes]
    take: Callable[[Any], str | None] = inline_text_of if spec.attr is None else methodcaller("attr", spec.attr)
    if selector is None:  # XPath gives texts, too
        take = partial(_text_or, take)
    raws = [take(nodes[0]) if len(nodes) == 1 else None for nodes in every]
    return [(_MORE if nodes else None) if raw is None else raw for raw, nodes in zip(raws, every, strict=True)]


def _text_or(take: Callable[[Element], str | None], node: Node) -> str | None:
    return node if node.__class__ is str else take(node) if isinstance(node, Element) else None


def _json_as_written(value: Any, spec: Field) -> Any:
    kind = value.__class__
    if kind is bool:
        return "true" if value else "false"
    if (kind is float or kind is int) and -_WHOLE_IN_FLOATS <= value <= _WHOLE_IN_FLOATS:
        return float(value) if spec.stages.as_number else str(value) if spec.stages.missing is not None else _MORE
    return None if value is None else _MORE


def _at(steps: Sequence[str | int], value: Any) -> Any:
    """The value of JSON to which steps lead; None where there is none."""
    for step in steps:
        if isinstance(step, str):
            value = value.get(step) if value.__class__ is dict else None
        else:
            value = value[step] if value.__class__ is list and -len(value) <= step < len(value) else None
    return value


def value_of_texts(
    spec: Field, texts: Sequence[str], where: Where, notes: Notes, number: int = 0, steps: Steps | None = None
) -> Any:
    """The value that picked texts come to, in the row of a number: the first's, all as a list, or joined; the default where there
    is none to be read."""
    if len(texts) > 1 and not spec.many:
        notes.count_several(spec.name)
    values: list[Any] = []
    is_unread = False
    for text in texts if spec.many else texts[:1]:
        if steps is None:
            value: Any = spec.stages.value_of(text, where)
        else:
            way = [Step("picked", text), *spec.stages.retraced(text, where)]
            steps += way
            value = way[-1].value
        if value.__class__ is Unread:
            notes.unread.append((number, spec.name, value))
            is_unread = True
        elif value is not None:
            values.append(value)
    if spec.distinct:
        values = recorded(steps, "distinct", each_once(values))
    if spec.in_order:
        values = recorded(steps, "in_order", sorted(values, key=lambda value: (str(type(value)), value)))
    if spec.output is not None:
        values = recorded(steps, "output", [spec.output(value) for value in values])
    if spec.many and spec.join is None:
        return recorded(steps, "many", values)
    if values and spec.many and spec.join is not None:
        return recorded(steps, "join", spec.join.join(map(str, values)))
    if values:
        return values[0]
    # A value that could not be read is no absent one; of several, some may be just that.
    if spec.default is None or (is_unread and not spec.many):
        return None
    return recorded(steps, "default", spec.default)
