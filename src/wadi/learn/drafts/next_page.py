"""Whether a drafted plan goes on: its second page is asked for and compared with the first."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any

from wadi.crawl.extract import extract
from wadi.crawl.kinds import compile_kinds
from wadi.plan.reader import LoadedPlan
from wadi.store.outcome import Role
from wadi.web.messages import Reply, Request


@dataclass(frozen=True, slots=True)
class NextPage:
    """The second page of a listing as a plan reads it: its address, how many rows it has, how many of them the first page has
    too, and the columns that no two rows of both pages share."""

    url: str
    rows: int
    repeated: int
    unique: frozenset[str]

    @property
    def goes_on(self) -> bool:
        """Whether it has rows, most of them new."""
        return self.rows > 0 and self.repeated * 2 < self.rows


def next_page(loaded: LoadedPlan, reply: Reply, ask: Callable[[Request], Reply]) -> NextPage | None:
    """What the page after a first one has; None where the plan does not lead to one. Raises what `ask` does."""
    kinds = compile_kinds(loaded.plan, this_year=date.today().year, functions=loaded.functions)  # noqa: DTZ011
    kind = kinds[loaded.plan.start.page]
    first = extract(reply, kind, kinds)
    link = next((link for link in first.links if link.role is Role.NEXT), None)
    if link is None or not first.tables:
        return None
    second = extract(ask(kind.shown(link.request)), kind, kinds, number=1)
    columns, before = first.tables[0].columns, first.tables[0].rows
    after = second.tables[0].rows if second.tables and second.failure is None else []
    known = {repr(row) for row in before}
    repeated = sum(repr(row) in known for row in after)
    return NextPage(link.request.url, len(after), repeated, frozenset(_unique(columns, [*before, *after])))


def _unique(columns: Sequence[str], rows: Sequence[Sequence[Any]]) -> list[str]:
    found = []
    for place, name in enumerate(columns):
        cells = [repr(row[place]) for row in rows if row[place] is not None]
        if len(cells) == len(rows) == len(set(cells)):
            found.append(name)
    return found
