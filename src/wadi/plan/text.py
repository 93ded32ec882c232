"""A plan's text with the places of everything in it: how a finding gets its line."""

from __future__ import annotations

from dataclasses import dataclass

from wadi.plan.positions import Path, Positions
from wadi.problems import Place, Problem, shortened

Finding = tuple[Path, Problem]
"""A problem with the path of what it speaks of."""


@dataclass(frozen=True)
class PlanText:
    """A plan's text with the places of everything in it."""

    path: str
    positions: Positions

    def place(self, path: Path, *, key: bool = False, inside: int | None = None) -> Place:
        """Where a key or value stands; `inside` counts characters into a text."""
        spot = self.positions.spot(path)
        if spot is None:
            return Place(self.path, 1)
        offset = spot.key if key else spot.value
        if inside is not None and spot.inside is not None:
            offset = spot.inside + inside
        return Place(self.path, *self.positions.line_and_column(offset))

    def problem(
        self,
        code: str,
        path: Path,
        what: str,
        *,
        now: str = "",
        why: str = "",
        key: bool = False,
        inside: int | None = None,
        shows_line: bool = True,
    ) -> Problem:
        """A problem at a path, with the line that it stands on, unless there is a secret in it."""
        place = self.place(path, key=key, inside=inside)
        excerpt = self.positions.line(place.line or 1).rstrip() if shows_line and self.positions.spot(path) else ""
        return Problem(code, what, place, excerpt=shortened(excerpt, 110), why=why, now=now)
