"""Reading order: pages as a reader would come to them, each at its least route, from the committed links.

The order is that of a walk in depth: a page, then what it opens by place on the page, then the next page of the
listing. The first time a page is met so is its least route, because routes are met from the least to the greatest.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from wadi.store.outcome import Role, State
from wadi.store.state import START_PAGE, Edge, RunState


@dataclass(frozen=True, slots=True)
class Visit:
    """A page in its place: the text of the link that led there, and the input values that it inherits."""

    page: int
    state: State
    text: str
    inputs: Mapping[str, Any]


class Walk:
    """A walk over the pages of a run that can stop at a page still waiting, and go on when it is settled."""

    def __init__(self, state: RunState) -> None:
        self._state = state
        self._seen: set[int] = set()
        self._stack: list[tuple[Iterator[Edge], Mapping[str, Any]]] = [(iter(state.edges(START_PAGE)), {})]
        self._held: Visit | None = None

    def settled(self) -> Iterator[Visit]:
        """The pages from where the walk stands up to the first that is still waiting, which is kept for the next call."""
        while (visit := self._held or self._next()) is not None:
            if visit.state is State.WAITING:
                current = self._state.state_of(visit.page)
                if current is State.WAITING:
                    self._held = visit
                    return
                visit = Visit(visit.page, current, visit.text, visit.inputs)
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
            self._stack.append((iter(self._state.edges(visit.page)), visit.inputs))

    def _next(self) -> Visit | None:
        while self._stack:
            edges, inputs = self._stack[-1]
            edge = next(edges, None)
            if edge is None or edge.role is Role.NEXT:
                self._stack.pop()  # the next page comes last, so a listing of any length keeps the stack short
            if edge is not None and edge.target not in self._seen:
                self._seen.add(edge.target)
                own = edge.inputs if edge.inputs is not None else inputs
                return Visit(edge.target, self._state.state_of(edge.target), edge.text, own)
        return None
