"""HTML tables with their headings, and definition lists."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from wadi.learn.clues.selectors import expression_for
from wadi.page.document import Document
from wadi.page.nodes import Element, ancestors, children, elements, first, parent
from wadi.page.text import text_of
from wadi.plan.model import MISSING_TEXTS

_MOST = 12
_LEAST_BELOW = 3
_ROWS_READ = 40
_MOSTLY = 0.8


@dataclass(frozen=True, slots=True)
class TableFound:
    """A table: expression, headings (empty texts where a column has none), number of rows below them, caption."""

    expression: str
    headings: tuple[str, ...]
    rows: int
    caption: str = ""


@dataclass(frozen=True, slots=True)
class LabelsFound:
    """A definition list, or the shape of several alike: expression, how many, labels with the first value of each."""

    expression: str
    count: int
    pairs: tuple[tuple[str, str], ...]


def html_tables(document: Document) -> list[TableFound]:
    """The tables that hold data, in document order; those that only lay a page out are left out."""
    found: list[TableFound] = []
    for table in elements(document.top, "table"):
        rows = [row for row in elements(table, "tr") if next(ancestors(row, "table"), None) == table]
        if len(rows) < 2 or first(table, "table") is not None or len(found) >= _MOST:
            continue
        headings = _headings(rows)
        expression, _ = expression_for(document, [table], [])
        caption = first(table, "caption")
        below = len(rows) - (1 if headings else 0)
        found.append(
            TableFound(expression or "table", headings, below, text_of(caption) if caption is not None else "")
        )
    return found


def _headings(rows: Sequence[Element]) -> tuple[str, ...]:
    """The texts of the first row if it is one of headings: cells of `th` alone, a row in `thead`, or by what it says."""
    above, cells = parent(rows[0]), _cells(rows[0])
    said = (above is not None and above.tag == "thead") or (cells and all(cell.tag == "th" for cell in cells))
    if said or is_heading(rows[0], rows[1:]):
        return tuple(text_of(cell) for cell in cells)
    return ()


def is_heading(first: Element, below: Sequence[Element]) -> bool:
    """Whether a row of `td` is one of headings for those below, though it does not say so: its texts stand nowhere below them,
    have no digits, and stand above columns that do, or are bold where those are not."""
    if first.tag != "tr" or len(below) < _LEAST_BELOW:
        return False
    heads = [text_of(cell) for cell in _cells(first)]
    rows = [_cells(row) for row in below[:_ROWS_READ]]
    if not any(heads) or any(len(row) != len(heads) for row in rows) or any(re.search("[0-9]", head) for head in heads):
        return False
    columns = [[text_of(cell) for cell in column] for column in zip(*rows, strict=True)]
    if any(head in column for head, column in zip(heads, columns, strict=True) if head):
        return False
    measured = [_share(column, lambda text: re.search("[0-9]", text)) > _MOSTLY for column in columns]
    are_bold = all(_is_bold(cell) for cell, head in zip(_cells(first), heads, strict=True) if head)
    others = sum(_is_bold(cell) for row in rows for cell in row) <= (1 - _MOSTLY) * len(rows) * len(heads)
    above = [head for is_one, head in zip(measured, heads, strict=True) if is_one and head]
    # A single word in place of a figure may be one for a figure that is missing.
    return len(above) > 1 or (len(above) == 1 and not above[0][0].islower()) or (are_bold and others)


def _cells(row: Element) -> list[Element]:
    return children(row)


def _share(texts: Sequence[str], test: Callable[[str], object]) -> float:
    filled = [text for text in texts if text not in MISSING_TEXTS]
    return sum(bool(test(text)) for text in filled) / len(filled) if filled else 0.0


def _is_bold(cell: Element) -> bool:
    """Whether all that a cell says is bold."""
    inner = children(cell)
    return len(inner) == 1 and inner[0].tag in ("b", "strong") and text_of(cell) == text_of(inner[0])


def definition_lists(document: Document) -> list[LabelsFound]:
    """Definition lists; those with the same labels count as one."""
    groups: dict[tuple[str, ...], list[Element]] = {}
    for element in elements(document.top, "dl"):
        labels = tuple(text_of(label) for label in elements(element, "dt"))
        if labels:
            groups.setdefault(labels[:12], []).append(element)
    found = []
    for labels, lists in list(groups.items())[:_MOST]:
        values = [text_of(value) for value in elements(lists[0], "dd")]
        expression, _ = expression_for(document, lists, [])
        found.append(LabelsFound(expression or "dl", len(lists), tuple(zip(labels, values, strict=False))))
    return found
