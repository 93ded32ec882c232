"""A drafted plan looked at with the records that were named: whether it gives them as they were named."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from wadi.clean.stages import Unread
from wadi.clean.text import tidied
from wadi.clean.types import Where
from wadi.crawl.extract import extract
from wadi.crawl.kinds import compile_kinds
from wadi.learn.clues.sameness import folded, says
from wadi.learn.examples.sightings import stands_in
from wadi.page.document import NotADocument
from wadi.page.field import Field
from wadi.plan.reader import LoadedPlan
from wadi.problems import WadiError, shortened
from wadi.store.outcome import as_stored
from wadi.web.messages import FetchFailed, Reply


def given_otherwise(loaded: LoadedPlan, reply: Reply, examples: Sequence[Mapping[str, str]]) -> tuple[str, ...]:
    """In words, which of the records the plan gives otherwise on the page that it was drafted from, or not at all."""
    kinds = compile_kinds(loaded.plan, this_year=datetime.fromtimestamp(reply.started_at, UTC).year)
    kind = kinds[loaded.plan.start.page] if isinstance(loaded.plan.start.page, str) else next(iter(kinds.values()))
    try:
        found = extract(reply, kind, kinds)
    except (FetchFailed, NotADocument, WadiError):
        return ()
    if not found.tables:
        return ()
    table, specs = found.tables[0], {spec.name: spec for spec in kind.fields}
    where = Where(reply.url, reply.started_at)
    remarks = []
    for example in examples:
        wanted = {name: value for name, value in example.items() if name in table.columns}
        best: list[str] | None = None
        for row in table.rows:
            cells = dict(zip(table.columns, row, strict=True))
            other = [name for name, value in wanted.items() if not _is_same(cells[name], value, specs[name], where)]
            if best is None or len(other) < len(best):
                best, shown = other, cells
            if not other:
                break
        if best:
            first = next(iter(example.values()))
            what = ", ".join(f"{name} is {shortened(str(shown[name]), 40)!r}, not {wanted[name]!r}" for name in best)
            remarks.append(f"the record of {first!r} is given otherwise: {what}")
        elif best is None and wanted:
            remarks.append("the draft gives no rows on this page")
    return tuple(dict.fromkeys(remarks))


def _is_same(cell: Any, value: str, spec: Field, where: Where) -> bool:
    """Whether a cell is the value that a person named: as it is written, or as the column reads it."""
    if cell is None or cell == []:
        return False
    text = "; ".join(map(str, cell)) if isinstance(cell, list) else str(cell)
    if stands_in(folded(value), folded(text)) or says(text, value):
        return True
    read = spec.stages.value_of(tidied(value), where)
    return not isinstance(read, Unread) and as_stored(read) == cell
