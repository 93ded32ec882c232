"""The rows of a page: one scope for each, one cell for each field; lists inside rows; columns picked side by side."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from operator import itemgetter
from typing import Any

from wadi.clean.stages import Unread
from wadi.crawl.kinds import ChildRows, Kind
from wadi.crawl.requests import source_of
from wadi.page.cells import Notes, read_column, value_of_texts
from wadi.page.document import Document
from wadi.page.expressions import Expression, first_of
from wadi.page.field import Field, Source, texts_of
from wadi.page.nodes import Element, JsonNode, Scope
from wadi.page.text import text_of
from wadi.problems import shortened
from wadi.store.outcome import CellProblem, TableRows, as_stored, column_as_stored
from wadi.web.messages import Reply


@dataclass(frozen=True, slots=True)
class _Rows:
    """Rows as they are read, with what is to be told of their cells."""

    source: Source
    notes: Notes = field(default_factory=Notes)
    rows: list[list[Any]] = field(default_factory=list)
    problems: list[CellProblem] = field(default_factory=list)
    parents: list[int] = field(default_factory=list)

    def add(self, fields: Sequence[Field], scopes: Sequence[Scope]) -> None:
        """One row for each scope, with one cell for each field. What depends on the way to the page is left open."""
        columns = [
            [None] * len(scopes)
            if spec.by_route
            else column_as_stored(read_column(spec, scopes, self.source, self.notes))
            for spec in fields
        ]
        self._keep_unread()
        self.rows.extend(map(list, zip(*columns, strict=True)) if columns else ([] for _ in scopes))

    def put(self, row: list[Any]) -> None:
        """Keep a row, and what could not be read in it."""
        self._keep_unread()
        self.rows.append([as_stored(value) for value in row])

    def _keep_unread(self) -> None:
        """Keep what could not be read in the rows that come next."""
        if self.notes.unread:
            unread = sorted(self.notes.unread, key=itemgetter(0))
            self.problems.extend(problem_of(name, len(self.rows) + row, text) for row, name, text in unread)
            self.notes.unread.clear()

    def table(self, name: str, columns: tuple[str, ...], *, completes: bool = False, nested: bool = False) -> TableRows:
        parents = self.parents if nested else None
        return TableRows(name, columns, self.rows, completes, tuple(self.problems), self.notes.several, parents)


class Uneven(ValueError):
    """Columns side by side are of different lengths."""


def problem_of(column: str, row: int, unread: Unread) -> CellProblem:
    """A text that could not be read, as it is kept with the run."""
    return CellProblem(row, column, shortened(unread.raw, 500), unread.code, unread.what, unread.why)


def row_scopes(document: Document, rows: Sequence[Expression]) -> list[Scope]:
    """The elements or JSON values that are rows; the whole document where there is no expression for them."""
    if not rows:
        return [document.scope]
    return _scopes(first_of(rows, document.scope, document))


def _scopes(nodes: Sequence[Any]) -> list[Scope]:
    return [node for node in nodes if isinstance(node, Element | JsonNode)]


def inner_scopes(child: ChildRows, scope: Scope, document: Document) -> list[Scope]:
    """The rows of a list inside a row: what its expression picks, or the pieces of the texts of that."""
    found = _scopes(first_of(child.rows, scope, document))
    if child.split is None:
        return found
    texts = [text_of(node) if isinstance(node, Element) else str(node.value or "") for node in found]
    pieces = [piece.strip() for text in texts for piece in text.split(child.split)]
    return [_element_with(piece) for piece in pieces if piece]


def _element_with(text: str) -> Element:
    """An element that holds a text and no more."""
    import turbohtml

    return turbohtml.Element("span", children=[turbohtml.Text(text)])


def tables_of(document: Document, reply: Reply, kind: Kind, scopes: Sequence[Scope]) -> list[TableRows]:
    """The page's own rows, then those of the lists inside them."""
    tables = []
    if kind.table and kind.fields:
        is_beside = kind.side_by_side
        tables.append(_side_by_side(document, reply, kind) if is_beside else _own_rows(document, reply, kind, scopes))
    return tables + [_list_rows(document, reply, child, scopes) for child in kind.lists]


def _own_rows(document: Document, reply: Reply, kind: Kind, scopes: Sequence[Scope]) -> TableRows:
    rows = _Rows(source_of(document, reply))
    rows.add(kind.fields, scopes)
    assert kind.table is not None
    return rows.table(kind.table, kind.columns, completes=kind.completes)


def _list_rows(document: Document, reply: Reply, child: ChildRows, scopes: Sequence[Scope]) -> TableRows:
    """The rows of a list, each with the number of the row that it stands in."""
    rows = _Rows(source_of(document, reply))
    for parent, scope in enumerate(scopes):
        inner = inner_scopes(child, scope, document)
        rows.add(child.fields, inner)
        rows.parents.extend([parent] * len(inner))
    return rows.table(child.table, child.columns, nested=True)


def _side_by_side(document: Document, reply: Reply, kind: Kind) -> TableRows:
    """Rows made of columns that are picked one by one; what comes from elsewhere than the page's text goes into each."""
    rows = _Rows(source_of(document, reply))
    columns = {spec.name: texts_of(spec, document.scope, rows.source) for spec in kind.fields if not spec.by_route}
    lengths = {spec.name: len(columns[spec.name]) for spec in kind.fields if spec.source == ""}
    if len(set(lengths.values())) > 1:
        raise Uneven(", ".join(f"{count} × {name}" for name, count in lengths.items()))
    for number in range(next(iter(lengths.values()), 0)):
        chosen = {name: texts[number : number + 1] if name in lengths else texts[:1] for name, texts in columns.items()}
        where = rows.source.where
        rows.put(
            [
                None if spec.by_route else value_of_texts(spec, chosen[spec.name], where, rows.notes)
                for spec in kind.fields
            ]
        )
    assert kind.table is not None
    return rows.table(kind.table, kind.columns)
