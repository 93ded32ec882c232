"""Reading order: pages as a reader would come to them, each at its least route, from the committed links.

The order is that of a walk in depth: a page, then what it opens by place on the page, then the next page of the
listing. The first time a page is met so is its least route, because routes are met from the least to the greatest.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

from wadi.store.outcome import Role, State
from wadi.store.pages import Edge
from wadi.store.view import RunView


@dataclass(frozen=True, slots=True)
class Visit:
    """A page in its place: its kind, the text of the link that led there, and the input values that hold there.

    `start` is the place of the start that it was reached from, `listing` the first page of its listing, `way` the kinds of
    the pages from the start to it.
    """

    page: int
    kind: str
    state: State
    text: str
    inputs: Mapping[str, Any]
    start: int
    listing: int
    way: tuple[str, ...]


class Walk:
    """A walk over the pages of a run that can stop at a page still waiting, and go on when it is settled.

    With `edges` only what these links lead to is walked.
    """

    def __init__(self, state: RunView, *, edges: list[Edge] | None = None) -> None:
        self._state = state
        self._seen = Numbers()
        first = state.starts() if edges is None else edges
        self._stack: list[tuple[Iterator[Edge], Visit | None]] = [(iter(first), None)]
        self._held: Visit | None = None

    def settled(self) -> Iterator[Visit]:
        """The pages from where the walk stands up to the first that is still waiting, which is kept for the next call."""
        while (visit := self._held or self._next()) is not None:
            if visit.state is State.WAITING:
                current = self._state.state_of(visit.page)
                if current is State.WAITING:
                    self._held = visit
                    return
                visit = replace(visit, state=current)
            self._held = None
            self._enter(visit)
            yield visit

    def all(self) -> Iterator[Visit]:
        """Every page that is known, waiting ones too."""
        while (visit := self._next()) is not None:
            self._enter(visit)
            yield visit

    def _enter(self, visit: Visit) -> None:
        if visit.state is State.DONE:
            self._stack.append((iter(self._state.edges(visit.page)), visit))

    def _next(self) -> Visit | None:
        while self._stack:
            edges, source = self._stack[-1]
            edge = next(edges, None)
            if edge is None or edge.role is Role.NEXT:
                self._stack.pop()  # the next page comes last, so a listing of any length keeps the stack short
            if edge is not None and edge.target not in self._seen:
                self._seen.add(edge.target)
                return _visit(edge, source)
        return None


class Numbers:
    """A set of page numbers, which are dense: one bit for each."""

    def __init__(self) -> None:
        self._bits = bytearray()

    def __contains__(self, number: int) -> bool:
        place, bit = divmod(number, 8)
        return place < len(self._bits) and bool(self._bits[place] & 1 << bit)

    def add(self, number: int) -> None:
        place, bit = divmod(number, 8)
        if place >= len(self._bits):
            self._bits.extend(bytes(place - len(self._bits) + 1))
        self._bits[place] |= 1 << bit


def _visit(edge: Edge, source: Visit | None) -> Visit:
    if source is None:
        return Visit(
            edge.target, edge.kind, edge.state, edge.text, edge.inputs or {}, edge.place, edge.target, (edge.kind,)
        )
    inputs = {**source.inputs, **edge.inputs} if edge.inputs else source.inputs
    if edge.role is Role.NEXT:
        return replace(source, page=edge.target, kind=edge.kind, state=edge.state, inputs=inputs)
    way = (*source.way, edge.kind) if source.way[-1:] != (edge.kind,) else source.way
    return Visit(edge.target, edge.kind, edge.state, edge.text, inputs, source.start, edge.target, way)
