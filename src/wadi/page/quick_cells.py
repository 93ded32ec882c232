"""A plain field read in all rows of a page at once: each cell is what `cell` gives, or left to it.

Nine of ten cells are the text or an attribute of the one node that an expression finds in the row, or the value to which
a plain JSONPath leads. Read field by field, what the field says stays at hand, and what was read before is known by how it is
written: a third of the time for HTML, a fifth for JSON (docs/performance.md). WADI_PLAIN_VALUES=1 does without.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from operator import methodcaller
from typing import Any

from wadi.clean import quick
from wadi.clean.stages import Unread
from wadi.clean.text import tidied
from wadi.clean.types import Where
from wadi.page.cells import Field
from wadi.page.document import Document
from wadi.page.nodes import Element, JsonNode
from wadi.page.text import inline_text_of

_NEW = object()
_LEFT = object()
"""What stands for a cell that has more to it."""
_WHOLE_IN_FLOATS = 2**53


def quick_cells(
    spec: Field,
    scopes: Sequence[Any],
    document: Document,
    where: Where,
    stored: Callable[[Any], Any],
    otherwise: Callable[[int], Any],
) -> list[Any]:
    """The values of a field in rows, as `stored` makes them. A cell with more to it is what `otherwise` makes of the number of
    its row."""
    cells: list[Any]
    if _is_of_tree(spec, document):
        cells = _of_tree(spec, scopes, document, where, stored)
    elif _is_of_json(spec, scopes, document):
        cells = list(_of_json(spec, scopes, where, stored))
    else:
        cells = [_LEFT] * len(scopes)
    for number, value in enumerate(cells):
        if value is _LEFT:
            cells[number] = otherwise(number)
    return cells


def _is_of_tree(spec: Field, document: Document) -> bool:
    """Whether a field is the text or an attribute of what one expression finds in rows of HTML or XML."""
    if not (quick.IS_ON and spec.is_plain and not spec.is_verbatim and document.kind != "json"):
        return False
    return spec.expressions[0].language in ("css", "xpath")


def _is_of_json(spec: Field, scopes: Sequence[Any], document: Document) -> bool:
    """Whether a field is the value to which a plain path leads in rows of JSON."""
    if not (quick.IS_ON and spec.is_plain and document.beside is None):
        return False
    return spec.expressions[0].steps is not None and all(scope.__class__ is JsonNode for scope in scopes)


def _of_tree(
    spec: Field, scopes: Sequence[Any], document: Document, where: Where, stored: Callable[[Any], Any]
) -> list[Any]:
    default, missing = spec.default, spec.stages.missing
    found, take = _found(spec, scopes, document), _taking(spec)
    # How each is written, and None for one that several nodes were found for, or none, or one with more to it.
    raws = [take(nodes[0]) if len(nodes) == 1 else None for nodes in found]
    if missing is not None:
        return [
            (default if (text := tidied(raw)) in missing else text)
            if raw is not None
            else (_LEFT if nodes else default)
            for raw, nodes in zip(raws, found, strict=True)
        ]
    read, known = _reader(spec, where, stored), spec.stages.written.get
    return [
        (read(raw) if (value := known(raw, _NEW)) is _NEW else value)
        if raw is not None
        else (_LEFT if nodes else default)
        for raw, nodes in zip(raws, found, strict=True)
    ]


def _found(spec: Field, scopes: Sequence[Any], document: Document) -> list[list[Any]]:
    """What the field's expression finds in each row: by the parser's own engine at once, where a selector of HTML asks for no
    more."""
    expression, root = spec.expressions[0], document.root
    selector = expression.selector
    if selector is None or selector.siblings or document.kind != "html":
        return [expression.pick(row, document) for row in scopes]
    inside = selector.inside
    return [row.select(inside) if row is not root else document.tree.select(selector.page) for row in scopes]


def _taking(spec: Field) -> Callable[[Any], str | None]:
    """What takes the text of a node as it is written; None where there is more to it, or no such attribute."""
    take: Callable[[Any], str | None] = inline_text_of if spec.attr is None else methodcaller("attr", spec.attr)
    if spec.expressions[0].language == "css":
        return take
    return lambda node: node if node.__class__ is str else take(node) if isinstance(node, Element) else None


def _of_json(spec: Field, scopes: Sequence[Any], where: Where, stored: Callable[[Any], Any]) -> Iterator[Any]:
    default, missing = spec.default, spec.stages.missing
    read, written = _reader(spec, where, stored), spec.stages.written
    is_verbatim, as_number = spec.is_verbatim, spec.stages.as_number
    steps = spec.expressions[0].steps
    assert steps is not None
    for scope in scopes:
        value = _at(steps, scope.value)
        kind = value.__class__
        if kind is bool:
            value, kind = "true" if value else "false", str
        elif (kind is int or kind is float) and missing is not None:
            value, kind = str(value), str
        if value is None:
            yield default
        elif kind is str and missing is not None:
            if not is_verbatim and "\n" in value:
                yield _LEFT
            else:
                text = value if is_verbatim else tidied(value)
                yield default if text in missing else text
        elif kind is str and "\n" not in value:
            found = written.get(value, _NEW)
            yield read(value) if found is _NEW else found
        elif as_number and (kind is float or kind is int) and -_WHOLE_IN_FLOATS <= value <= _WHOLE_IN_FLOATS:
            yield float(value)
        else:
            yield _LEFT


def _at(steps: Sequence[str | int], value: Any) -> Any:
    """The value to which steps lead; None where there is none."""
    for step in steps:
        if isinstance(step, str):
            value = value.get(step) if value.__class__ is dict else None
        else:
            value = value[step] if value.__class__ is list and -len(value) <= step < len(value) else None
    return value


def _reader(spec: Field, where: Where, stored: Callable[[Any], Any]) -> Callable[[str], Any]:
    """What makes a cell of a text that was not written so before."""
    default, stages = spec.default, spec.stages
    quickly, written = stages.quickly, stages.written

    def read(raw: str) -> Any:
        value: Any = quickly(raw, where) if quickly is not None else None
        if value is not None:
            value, is_same_elsewhere = stored(value), stages.remembers
        else:
            text = tidied(raw)
            value = stages.value_of(text, where)
            if value.__class__ is Unread:
                return _LEFT
            value, is_same_elsewhere = default if value is None else stored(value), stages.is_known(text)
        if is_same_elsewhere:
            quick.remember(written, raw, value)
        return value

    return read
