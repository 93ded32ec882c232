"""A plain field read in all rows of a page at once: each cell is what `cell` gives, or left to it.

Nine of ten cells are the text or an attribute of the one element of HTML that a selector finds in the row. Read field by field,
what the field says stays at hand, and what was read before is known by how it is written: a third of the time
(docs/performance.md). WADI_PLAIN_VALUES=1 does without.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from operator import methodcaller
from typing import Any

from wadi.clean import quick
from wadi.clean.stages import Unread
from wadi.clean.text import tidied
from wadi.clean.types import Where
from wadi.page.cells import Field
from wadi.page.document import Document
from wadi.page.text import inline_text_of

_NEW = object()


def is_quick(spec: Field, document: Document) -> bool:
    """Whether a field is the text or an attribute of what one selector finds in rows of HTML."""
    if not (quick.IS_ON and spec.is_plain and document.kind == "html" and len(spec.expressions) == 1):
        return False
    selector = spec.expressions[0].selector
    return selector is not None and not selector.siblings


def quick_cells(
    spec: Field,
    scopes: Sequence[Any],
    document: Document,
    where: Where,
    stored: Callable[[Any], Any],
    otherwise: Callable[[int], Any],
) -> list[Any]:
    """The values of a field in rows for which it `is_quick`, as `stored` makes them. A cell with more to it is what `otherwise`
    makes of the number of its row."""
    default, stages = spec.default, spec.stages
    written, quickly, missing = stages.written, stages.quickly, stages.missing

    def read(raw: str, number: int) -> Any:
        """The value of a text that was not written so before."""
        value: Any = quickly(raw, where) if quickly is not None else None
        if value is not None:
            value, is_same_elsewhere = stored(value), stages.remembers
        else:
            text = tidied(raw)
            value = stages.value_of(text, where)
            if value.__class__ is Unread:
                return otherwise(number)
            value, is_same_elsewhere = default if value is None else stored(value), stages.is_known(text)
        if is_same_elsewhere:
            quick.remember(written, raw, value)
        return value

    found = _found(spec, scopes, document)
    take = inline_text_of if spec.attr is None else methodcaller("attr", spec.attr)
    cells: list[Any] = []
    for number, nodes in enumerate(found):
        raw = take(nodes[0]) if len(nodes) == 1 else None
        if raw is None:
            value = otherwise(number) if nodes else default
        elif missing is not None:
            value = default if (text := tidied(raw)) in missing else text
        elif (value := written.get(raw, _NEW)) is _NEW:
            value = read(raw, number)
        cells.append(value)
    return cells


def _found(spec: Field, scopes: Sequence[Any], document: Document) -> list[list[Any]]:
    """What the field's selector finds in each row."""
    selector = spec.expressions[0].selector
    assert selector is not None
    inside, root = selector.inside, document.root
    return [row.select(inside) if row is not root else document.tree.select(selector.page) for row in scopes]
