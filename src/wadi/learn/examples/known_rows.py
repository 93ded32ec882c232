"""The rows of an earlier run as what is known of a site: by them the same records are found again on pages that were built
anew."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

from wadi.actions.run import Run
from wadi.learn.clues.sameness import folded
from wadi.page.document import Document
from wadi.table.cells import is_missing

_MOST_ROWS = 20_000
_LEAST_LETTERS = 4
_CLOSE = 1e-9


@dataclass(frozen=True)
class KnownRows:
    """The rows of a table of an earlier run: one dict for each, cells as a run stores them. `key` are the columns that tell
    records apart; `filled` is the share of rows that have a column, `urls` the addresses of the run's pages by kind."""

    name: str
    rows: Sequence[Mapping[str, Any]]
    key: tuple[str, ...]
    filled: Mapping[str, float]
    urls: Mapping[str, frozenset[str]]

    def at(self, old: str, new: str) -> KnownRows:
        """The same where the site moved to another origin (`https://host`)."""
        if not old or old == new:
            return self
        moved = {kind: frozenset(_moved(url, old, new) for url in found) for kind, found in self.urls.items()}
        rows = [{name: _moved(value, old, new) for name, value in row.items()} for row in self.rows]
        return replace(self, rows=rows, urls=moved)

    def on_page(self, document: Document, most: int) -> list[Mapping[str, Any]]:
        """The rows whose key stands on a page, or without a key at least two of whose texts do; in their order."""
        said = folded(document.text)
        found = []
        for row in self.rows:
            texts = [folded(value) for name in self.key if isinstance(value := row[name], str)]
            others = [folded(v) for v in row.values() if isinstance(v, str) and len(v) >= _LEAST_LETTERS]
            is_here = all(text in said for text in texts) if texts else sum(text in said for text in others) > 1
            if is_here and any(text in said for text in others):
                found.append(row)
            if len(found) == most:
                break
        return found

    def same(self, row: Mapping[str, Any]) -> Mapping[str, Any] | None:
        """The earlier row of a record, by its key; None for a new one."""
        if not self.key or any(name not in row for name in self.key):
            return None
        wanted = tuple(row[name] for name in self.key)
        return self._by_key.get(wanted)

    @cached_property
    def _by_key(self) -> dict[tuple[Any, ...], Mapping[str, Any]]:
        return {tuple(row[name] for name in self.key): row for row in self.rows}


def _moved(value: Any, old: str, new: str) -> Any:
    return new + value.removeprefix(old) if isinstance(value, str) and value.startswith(f"{old}/") else value


def known_rows(run: Run) -> KnownRows:
    """What the main table of a run knows."""
    table = run.read()
    names = [column.name for column in table.columns]
    rows = [dict(zip(names, row, strict=True)) for row in table.rows[:_MOST_ROWS]]
    plan = run.loaded.plan.table.get(table.name)
    key = tuple(name for name in (plan.key if plan is not None else ()) if name in names) or _telling(rows, names)
    urls: dict[str, set[str]] = {}
    for page in run.state.all_pages():
        urls.setdefault(page.kind, set()).add(page.url)
    count = max(1, len(rows))
    filled = {name: sum(not is_missing(row[name]) for row in rows) / count for name in names}
    return KnownRows(table.name, rows, key, filled, {kind: frozenset(found) for kind, found in urls.items()})


def _telling(rows: Sequence[Mapping[str, Any]], names: Sequence[str]) -> tuple[str, ...]:
    """A column that no two rows share, where the plan names no key: a text, as a rule a code or an address."""
    for name in names:
        values = [row[name] for row in rows]
        if rows and all(isinstance(value, str) and value for value in values) and len(set(values)) == len(values):
            return (name,)
    return ()


def is_same(one: Any, other: Any) -> bool:
    """Whether two cells hold the same value."""
    if isinstance(one, int | float) and isinstance(other, int | float) and not isinstance(one, bool):
        return abs(one - other) <= _CLOSE * max(1.0, abs(one))
    if isinstance(one, str) and isinstance(other, str):
        return folded(one) == folded(other)
    return bool(one == other)


def as_seen(value: Any) -> str | None:
    """A stored cell as a text that may stand on a page; None for what is no single value."""
    if isinstance(value, bool) or is_missing(value) or isinstance(value, list | dict):
        return None
    if isinstance(value, float):
        return f"{value:.10f}".rstrip("0").rstrip(".")
    return str(value)
