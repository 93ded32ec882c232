"""HTML tables as grids: which cell stands in which column, merged cells included, and what the columns are called.

Cells are laid out as the HTML Standard's table model does it (§4.9.12): `colspan` and `rowspan` take their slots, and a
`rowspan` of 0 reaches to the end of its row group.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from wadi.page.nodes import Element, ancestors, children, elements, parent
from wadi.page.text import text_of

_MOST_SPAN = 1000
_MOST_SLOTS = 2_000_000
"""So many places all cells of a table may cover, merged ones each of theirs."""


class TooLargeTable(ValueError):
    """A table whose merged cells cover more places than any table has that people look at."""


@dataclass
class Grid:
    """A table laid out. `cells[row]` maps columns to the cell that covers them; `headings[column]` are the texts above."""

    cells: dict[Element, dict[int, Element]] = field(default_factory=dict)
    headings: dict[int, tuple[str, ...]] = field(default_factory=dict)

    def under(self, row: Element, heading: str) -> list[Element]:
        """The row's cells below a heading, each once: one text of the heading, or all of them joined with ` / `."""
        wanted = _folded(heading)
        whole = [c for c, texts in self.headings.items() if _folded(" / ".join(dict.fromkeys(texts))) == wanted]
        columns = whole or [c for c, texts in self.headings.items() if wanted in map(_folded, texts)]
        found = [self.cells.get(row, {}).get(column) for column in columns]
        return list(dict.fromkeys(cell for cell in found if cell is not None))


def grid_of(table: Element) -> Grid:
    """The grid of a table. Headings are the rows of `thead`, else the first rows that have no cell but `th`."""
    grid = Grid()
    rows = [row for row in elements(table, "tr") if next(ancestors(row, "table"), None) == table]
    hanging: dict[int, tuple[Element, int]] = {}
    group: Element | None = None
    slots = 0
    for row in rows:
        if (above := parent(row)) != group:
            group, hanging = above, {}
        grid.cells[row] = _laid_out(row, hanging)
        slots += len(grid.cells[row])
        if slots > _MOST_SLOTS:
            raise TooLargeTable(f"a table whose cells cover more than {_MOST_SLOTS:,} places")
    heads = _heading_rows(rows)
    for row in heads:
        for column, cell in grid.cells[row].items():
            grid.headings[column] = (*grid.headings.get(column, ()), text_of(cell))
    return grid


def merged_cells(rows: Sequence[Element]) -> dict[Element, list[Element]]:
    """The cells that cover the columns of a table's rows, those among them that hang down from rows above; empty where no cell of
    the rows covers more than one row, and for what are no rows of tables. Raises TooLargeTable."""
    tables = {next(ancestors(row, "table"), None) for row in rows if row.tag == "tr"}
    spans = any(cell.attr("rowspan") for row in rows if row.tag == "tr" for cell in children(row, "td", "th"))
    if not spans or None in tables or any(row.tag != "tr" for row in rows):
        return {}
    every: dict[Element, dict[int, Element]] = {}
    for table in tables:
        every |= grid_of(table).cells if table is not None else {}
    return {row: list(every.get(row, {}).values()) for row in rows}


def _laid_out(row: Element, hanging: dict[int, tuple[Element, int]]) -> dict[int, Element]:
    """The columns of one row; `hanging` are cells from above with the number of rows that they still cover."""
    taken = {column: cell for column, (cell, _) in hanging.items()}
    for column, (cell, left) in list(hanging.items()):
        if left == 1:
            del hanging[column]
        else:
            hanging[column] = (cell, left - 1)
    column = 0
    for cell in children(row, "td", "th"):
        while column in taken:
            column += 1
        down = _span(cell, "rowspan")
        for _ in range(_span(cell, "colspan") or 1):
            taken[column] = cell
            if down != 1:
                hanging[column] = (cell, down - 1 if down else _MOST_SPAN)
            column += 1
    return dict(sorted(taken.items()))


def _heading_rows(rows: list[Element]) -> list[Element]:
    in_head = [row for row in rows if (above := parent(row)) is not None and above.tag == "thead"]
    if in_head:
        return in_head
    found: list[Element] = []
    for row in rows:
        cells = children(row, "td", "th")
        if not cells or any(cell.tag == "td" for cell in cells):
            break
        found.append(row)
    return found or rows[:1]


def _span(cell: Element, name: str) -> int:
    text = (cell.attr(name) or "1").strip()
    return min(int(text[:9]), _MOST_SPAN) if text.isdecimal() else 1


def _folded(text: str) -> str:
    return " ".join(text.split()).casefold()
