"""The rows of a page: one scope for each, one cell for each field; lists inside rows; columns picked side by side."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from itertools import groupby
from typing import Any, cast

from lxml import etree

from wadi.clean.stages import Unread
from wadi.clean.text import tidied
from wadi.clean.types import Where
from wadi.crawl.kinds import ChildRows, Field, Kind
from wadi.crawl.picking import cell_of, picked, problem_of, texts_in
from wadi.page.alike import AlikeRow
from wadi.page.document import Document
from wadi.page.expressions import Scope, first_of
from wadi.page.jsonpath import JsonNode
from wadi.page.selectors.shape import Picks, Shapes
from wadi.page.text import text_of
from wadi.store.outcome import CellProblem, TableRows
from wadi.web.messages import Reply

_Way = list[tuple[Callable[[etree._Element, Where], Any], int]]
"""Of each field what gives its value, and the place of the element that has it."""


@dataclass(frozen=True, slots=True)
class _Cells:
    """A page whose cells are read, and what is gathered row by row."""

    document: Document
    reply: Reply
    where: Where
    rows: list[list[Any]] = field(default_factory=list)
    problems: list[CellProblem] = field(default_factory=list)
    several: dict[str, int] = field(default_factory=dict)
    parents: list[int] = field(default_factory=list)
    ways: dict[Picks, _Way | None] = field(default_factory=dict)

    def table(self, name: str, columns: tuple[str, ...], *, completes: bool = False, nested: bool = False) -> TableRows:
        parents = self.parents if nested else None
        return TableRows(name, columns, self.rows, completes, tuple(self.problems), self.several, parents)

    def add_row(self, fields: Sequence[Field], shapes: Shapes, scope: Scope) -> None:
        """One cell for each field, read in a scope."""
        is_by_shape = shapes.is_of_use and self.document.kind == "html" and isinstance(scope, etree._Element)
        # An element without a parent is the page, or made of a text.
        if is_by_shape and scope.getparent() is not None:  # type: ignore[union-attr]
            self.rows.append(self._by_shape(fields, shapes, scope))  # type: ignore[arg-type]
        else:
            self.rows.append([self._cell(one, scope) for one in fields])

    def _by_shape(self, fields: Sequence[Field], shapes: Shapes, scope: etree._Element) -> list[Any]:
        """The same where the shape of the row tells what the fields pick."""
        elements, picks = shapes.picks(scope)
        where = self.where
        if picks not in self.ways:
            self.ways[picks] = _way_of(fields, picks)
        if (way := self.ways[picks]) is not None:
            values = [value_in(elements[place], where) for value_in, place in way]
            if Unread not in map(type, values):
                return values
        row = []
        for one, places in zip(fields, picks, strict=True):
            if places.__class__ is int:
                # One element for one cell: nearly always so.
                value = one.value_in(elements[places], where)
                if value is None or value.__class__ is Unread or one.is_many:
                    value = self._of_texts(one, texts_in(one, [elements[places]]))
            elif places is None:
                value = self._cell(one, scope)
            else:
                value = self._of_texts(one, texts_in(one, [elements[place] for place in places]))  # type: ignore[union-attr]
            row.append(value)
        return row

    def add_alike(self, fields: Sequence[Field], rows: Sequence[AlikeRow]) -> None:
        """Rows that were read from the source: plain columns at once, and cell by cell what is not, or cannot be read."""
        texts = list(zip(*(row.texts for row in rows), strict=True))
        columns = [self._plain_column(one, column) for one, column in zip(fields, texts, strict=True)]
        if not any(column is None or Unread in map(type, column) for column in columns):
            self.rows.extend(map(list, zip(*columns, strict=True)))
            return
        for number in range(len(rows)):
            cells = []
            for one, column, text in zip(fields, columns, texts, strict=True):
                is_read = column is not None and column[number].__class__ is not Unread
                cells.append(column[number] if is_read else self._cell_of(one, text[number]))  # type: ignore[index]
            self.rows.append(cells)

    def _plain_column(self, one: Field, texts: Sequence[str | None]) -> list[Any] | None:
        """The values of a column where each is that of one text, some perhaps Unread; nothing is noted of them yet."""
        if one.is_many or one.plan.default is not None or None in texts:
            return None
        return one.stages.values_of_raw(texts, self.where)  # type: ignore[arg-type]

    def _cell_of(self, one: Field, text: str | None) -> Any:
        """A cell by its text in the source; without one the field picks nothing in the row, or picks elsewhere."""
        if text is not None:
            return self._of_texts(one, [tidied(text)])
        return self._of_texts(one, []) if one.matchers else self._cell(one, self.document.scope)

    def _cell(self, one: Field, scope: Scope) -> Any:
        return None if one.by_route else self._of_texts(one, picked(one, scope, self.document, self.reply))

    def _of_texts(self, one: Field, texts: list[str]) -> Any:
        if len(texts) > 1 and not one.plan.many:
            self.several[one.name] = self.several.get(one.name, 0) + 1
        return self.read(one, texts)

    def read(self, one: Field, texts: list[str]) -> Any:
        """The cell of the row that comes next; what cannot be read is kept as a problem."""
        row = len(self.rows)
        return cell_of(one, texts, self.where, lambda unread: self.problems.append(problem_of(one.name, row, unread)))


def _way_of(fields: Sequence[Field], picks: Picks) -> _Way | None:
    """The way to a row's cells where each field picks one element, as most do: a list is made faster than cell by cell."""
    places = [place for place in picks if place.__class__ is int]
    is_plain = len(places) == len(fields) and not any(one.is_many or one.plan.default is not None for one in fields)
    return [(one.value_in, place) for one, place in zip(fields, places, strict=True)] if is_plain else None


def _cells(document: Document, reply: Reply) -> _Cells:
    return _Cells(document, reply, Where(document.base, reply.started_at))


class Uneven(ValueError):
    """Columns side by side are of different lengths."""


def row_scopes(document: Document, kind: Kind) -> list[Scope]:
    """The elements or JSON values that are rows; the whole document where the kind has no `rows`."""
    if not kind.rows:
        return [document.scope]
    return _scopes(first_of(kind.rows, document.scope, document))


def _scopes(nodes: Sequence[Any]) -> list[Scope]:
    return [node for node in nodes if isinstance(node, etree._Element | JsonNode)]


def _is_alike(row: Scope | AlikeRow) -> bool:
    return row.__class__ is AlikeRow


def elements_of(rows: Sequence[Scope | AlikeRow]) -> list[Scope]:
    """The rows that stand in a tree: where something is looked for in rows, all do."""
    return [row for row in rows if not isinstance(row, AlikeRow)]


def inner_scopes(child: ChildRows, scope: Scope, document: Document) -> list[Scope]:
    """The rows of a list inside a row: what its expression picks, or the pieces of the texts of that."""
    found = _scopes(first_of(child.rows, scope, document))
    if child.split is None:
        return found
    pieces: list[Scope] = []
    for one in found:
        text = text_of(one) if isinstance(one, etree._Element) else str(one.value or "")
        for piece in filter(None, map(str.strip, text.split(child.split))):
            element = etree.Element("span")
            element.text = piece
            pieces.append(element)
    return pieces


def tables_of(document: Document, reply: Reply, kind: Kind, scopes: Sequence[Scope | AlikeRow]) -> list[TableRows]:
    """The page's own rows, then those of the lists inside them."""
    tables = []
    if kind.table and kind.fields:
        tables.append(
            _side_by_side(document, reply, kind) if kind.side_by_side else _rows(document, reply, kind, scopes)
        )
    return tables + [_list_rows(document, reply, child, elements_of(scopes)) for child in kind.lists]


def _rows(document: Document, reply: Reply, kind: Kind, scopes: Sequence[Scope | AlikeRow]) -> TableRows:
    cells = _cells(document, reply)
    for is_alike, some in groupby(scopes, _is_alike):
        if is_alike:
            cells.add_alike(kind.fields, cast(list[AlikeRow], list(some)))
        else:
            for scope in some:
                cells.add_row(kind.fields, kind.shapes, cast(Scope, scope))
    assert kind.table is not None
    return cells.table(kind.table, kind.columns, completes=kind.completes)


def _list_rows(document: Document, reply: Reply, child: ChildRows, scopes: list[Scope]) -> TableRows:
    """The rows of a list, each with the number of the row that it stands in."""
    cells = _cells(document, reply)
    for parent, scope in enumerate(scopes):
        for inner in inner_scopes(child, scope, document):
            cells.add_row(child.fields, child.shapes, inner)
            cells.parents.append(parent)
    return cells.table(child.table, child.columns, nested=True)


def _side_by_side(document: Document, reply: Reply, kind: Kind) -> TableRows:
    """Rows made of columns that are picked one by one; what comes from elsewhere than the page's text goes into each."""
    cells = _cells(document, reply)
    columns = {f.name: picked(f, document.scope, document, reply) for f in kind.fields if not f.by_route}
    lengths = {f.name: len(columns[f.name]) for f in kind.fields if f.source == ""}
    if len(set(lengths.values())) > 1:
        raise Uneven(", ".join(f"{count} × {name}" for name, count in lengths.items()))
    for number in range(next(iter(lengths.values()), 0)):
        chosen = {name: texts[number : number + 1] if name in lengths else texts[:1] for name, texts in columns.items()}
        cells.rows.append([cells.read(f, chosen.get(f.name, [])) for f in kind.fields])
    assert kind.table is not None
    return cells.table(kind.table, kind.columns)
