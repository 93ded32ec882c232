"""What of a plan has changed since an earlier run: what was changed on purpose is no drift."""

from __future__ import annotations

import tomllib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

from wadi.quality.measures import Measures

_OF_ROWS = ("rows", "table", "completes", "expect", "empty", "next", "open", "side_by_side", "parse", "sheet", "header")
"""The keys of a page kind by which it has other rows."""


@dataclass(frozen=True)
class PlanChange:
    """What differs between two texts of a plan: tables whose rows come about otherwise, and columns by table (`*` for any)."""

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
    tables = {*dict(_rows_of(before)), *dict(_rows_of(after))}
    one, other = dict(_rows_of(before)), dict(_rows_of(after))
    columns, others = dict(_columns_of(before)), dict(_columns_of(after))
    return PlanChange(
        frozenset(name for name in tables if one.get(name) != other.get(name)),
        frozenset(name for name in {*columns, *others} if columns.get(name) != others.get(name)),
    )


def comparable(measures: Measures, change: PlanChange) -> Measures:
    """The measures of an earlier run without what the plan had otherwise then."""
    kept = {
        name: replace(
            table,
            columns={
                column: one
                for column, one in table.columns.items()
                if not {(name, column), ("*", column)} & change.columns
            },
        )
        for name, table in measures.tables.items()
        if not {name, "*"} & change.tables
    }
    return replace(measures, tables=kept)


def _rows_of(plan: Mapping[str, Any]) -> Iterator[tuple[str, str]]:
    """How the rows of each table come about, as text."""
    start = {key: value for key, value in _table(plan, "start").items() if key not in ("addresses", "sitemap", "feed")}
    for name, kind in _tables(plan, "page"):
        said = {key: kind[key] for key in _OF_ROWS if key in kind}
        yield str(kind.get("table") or kind.get("completes") or name), repr((start, said))
        for one, child in _tables(kind, "lists"):
            yield str(child.get("table", one)), repr((said, child.get("rows"), child.get("split")))
    for name, table in _tables(plan, "table"):
        yield f"{name} ", repr([table.get(key) for key in ("key", "doubles", "call", "seen")])


def _columns_of(plan: Mapping[str, Any]) -> Iterator[tuple[tuple[str, str], str]]:
    """How each column comes about, as text: by the name in the plan, and by that in which it is written."""
    renamed = {old: new for _, table in _tables(plan, "table") for old, new in _table(table, "rename").items()}
    found: dict[tuple[str, str], list[str]] = {}
    for name, kind in _tables(plan, "page"):
        for column, field in _table(kind, "fields").items():
            found.setdefault((str(kind.get("table") or kind.get("completes") or name), column), []).append(repr(field))
        for one, child in _tables(kind, "lists"):
            for column, field in _table(child, "fields").items():
                found.setdefault((str(child.get("table", one)), column), []).append(repr(field))
    for name, table in _tables(plan, "table"):
        for column, formula in _table(table, "derive").items():
            found.setdefault((name, column), []).append(repr(formula))
        left_out = table.get("columns")
        for column in left_out if isinstance(left_out, list) else []:
            found.setdefault((name, str(column)), []).append("written")
    for (name, column), texts in found.items():
        yield (name, column), repr(texts)
        if column in renamed:
            yield (name, str(renamed[column])), repr(texts)


def _table(part: Mapping[str, Any], key: str) -> Mapping[str, Any]:
    value = part.get(key)
    return value if isinstance(value, dict) else {}


def _tables(part: Mapping[str, Any], key: str) -> Iterator[tuple[str, Mapping[str, Any]]]:
    for name, value in _table(part, key).items():
        if isinstance(value, dict):
            yield name, value
