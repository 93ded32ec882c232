"""What of a plan has changed since an earlier run: what was changed on purpose is no drift."""

from __future__ import annotations

import tomllib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any, TypeVar

from wadi.quality.measures import Measures

_NOT_OF_ROWS = ("fields", "lists", "total")
"""The keys of a page kind by which it has other columns, or is judged, but has the same rows."""
_OF_TABLES = ("key", "duplicates", "call", "history")
_ADDRESSES = ("addresses", "sitemap", "feed")
Name = TypeVar("Name")


@dataclass(frozen=True)
class PlanChange:
    """What differs between two texts of a plan: tables whose rows come about otherwise, and columns, by table."""

    tables: frozenset[str] = frozenset()
    columns: frozenset[tuple[str, str]] = frozenset()

    def __bool__(self) -> bool:
        return bool(self.tables or self.columns)


def change_between(old: str, new: str) -> PlanChange:
    """What differs between two plans in TOML; nothing where one cannot be read."""
    try:
        before, after = tomllib.loads(old), tomllib.loads(new)
    except tomllib.TOMLDecodeError:
        return PlanChange()
    return PlanChange(
        frozenset(_differing(_rows_of(before), _rows_of(after))),
        frozenset(_differing(_columns_of(before), _columns_of(after))),
    )


def _differing(before: Mapping[Name, Any], after: Mapping[Name, Any]) -> Iterator[Name]:
    return (name for name in {**before, **after} if before.get(name) != after.get(name))


def comparable(measures: Measures, change: PlanChange) -> Measures:
    """The measures of an earlier run without what the plan had otherwise then."""
    kept = {}
    for name, table in measures.tables.items():
        if name not in change.tables:
            columns = {key: found for key, found in table.columns.items() if (name, key) not in change.columns}
            kept[name] = replace(table, columns=columns)
    return replace(measures, tables=kept)


def _rows_of(plan: Mapping[str, Any]) -> dict[str, list[Any]]:
    """What the plan says of how the rows of each table come about."""
    start = {key: value for key, value in _table(plan, "start").items() if key not in _ADDRESSES}
    found: dict[str, list[Any]] = {}
    for name, kind in _tables(plan, "page"):
        said = [start, {key: value for key, value in kind.items() if key not in _NOT_OF_ROWS}]
        found.setdefault(_table_of(name, kind), []).append(said)
        for nested, child in _tables(kind, "lists"):
            found.setdefault(str(child.get("table", nested)), []).append([*said, child.get("rows"), child.get("split")])
    for name, table in _tables(plan, "table"):
        if rules := [table.get(key) for key in _OF_TABLES if key in table]:
            found.setdefault(name, []).append(rules)
    return found


def _columns_of(plan: Mapping[str, Any]) -> dict[tuple[str, str], Any]:
    """What the plan says of how each column comes about, and whether it is written; by the name in which it is written, too."""
    found: dict[tuple[str, str], list[Any]] = {}
    for name, kind in _tables(plan, "page"):
        for column, said in _table(kind, "fields").items():
            found.setdefault((_table_of(name, kind), column), []).append(said)
        for key, child in _tables(kind, "lists"):
            for column, said in _table(child, "fields").items():
                found.setdefault((str(child.get("table", key)), column), []).append(said)
    for name, table in _tables(plan, "table"):
        for column, said in _table(table, "derive").items():
            found.setdefault((name, column), []).append(said)
    fields_by_column: dict[tuple[str, str], Any] = {}
    for (name, column), said in found.items():
        rules = _table(_table(plan, "table"), name)
        chosen = rules.get("columns")
        is_written = not chosen or column in chosen or "…" in chosen
        fields_by_column[name, column] = (said, is_written)
        fields_by_column[name, str(_table(rules, "rename").get(column, column))] = (said, is_written)
    return fields_by_column


def _table_of(name: str, kind: Mapping[str, Any]) -> str:
    return str(kind.get("table") or kind.get("completes") or name)


def _table(part: Mapping[str, Any], key: str) -> Mapping[str, Any]:
    value = part.get(key)
    return value if isinstance(value, dict) else {}


def _tables(part: Mapping[str, Any], key: str) -> Iterator[tuple[str, Mapping[str, Any]]]:
    for name, value in _table(part, key).items():
        if isinstance(value, dict):
            yield name, value
