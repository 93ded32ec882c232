"""HTML tables with their headings, and definition lists."""

from __future__ import annotations

from dataclasses import dataclass

from lxml import etree

from wadi.learn.selectors import expression_for
from wadi.page.document import Document
from wadi.page.text import text_of

_MOST = 12


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
    for table in document.tree.iter("table"):
        rows = [row for row in table.iter("tr") if _owner(row) is table]
        if len(rows) < 2 or table.find(".//table") is not None or len(found) >= _MOST:
            continue
        headings = _headings(rows[0], table)
        expression, _ = expression_for(document, [table], [])
        caption = table.find("caption")
        below = len(rows) - (1 if headings else 0)
        found.append(
            TableFound(expression or "table", headings, below, text_of(caption) if caption is not None else "")
        )
    return found


def _owner(row: etree._Element) -> etree._Element | None:
    return next((a for a in row.iterancestors() if a.tag == "table"), None)


def _headings(row: etree._Element, table: etree._Element) -> tuple[str, ...]:
    """The texts of the first row if it is one of headings: cells of `th` alone, or a row in `thead`."""
    parent = row.getparent()
    cells = [cell for cell in row if isinstance(cell.tag, str)]
    if (parent is not None and parent.tag == "thead") or (cells and all(cell.tag == "th" for cell in cells)):
        return tuple(text_of(cell) for cell in cells)
    return ()


def definition_lists(document: Document) -> list[LabelsFound]:
    """Definition lists; those with the same labels count as one."""
    groups: dict[tuple[str, ...], list[etree._Element]] = {}
    for element in document.tree.iter("dl"):
        labels = tuple(text_of(label) for label in element.iter("dt"))
        if labels:
            groups.setdefault(labels[:12], []).append(element)
    found = []
    for labels, elements in list(groups.items())[:_MOST]:
        values = [text_of(value) for value in elements[0].iter("dd")]
        expression, _ = expression_for(document, elements, [])
        found.append(LabelsFound(expression or "dl", len(elements), tuple(zip(labels, values, strict=False))))
    return found
