"""Findings about columns that a table makes itself: derived, constant, renamed, hashed."""

from __future__ import annotations

from collections.abc import Iterator

from wadi.clean.arithmetic import Formula
from wadi.clean.errors import BadSetting
from wadi.plan.columns import columns_of, fields_giving
from wadi.plan.model import Plan
from wadi.plan.positions import Path
from wadi.plan.text import Finding, PlanText
from wadi.problems import Problem, listed, nearest


def made_columns(plan: Plan, name: str, text: PlanText) -> Iterator[Finding]:
    """What is wrong with the columns that the table makes."""
    table, known = plan.table[name], columns_of(plan, name)
    before = [column for column in known if column not in table.derive]
    for column, derived in table.derive.items():
        path: Path = ("table", name, "derive", column)
        try:
            names = Formula(derived.formula).names
        except BadSetting as error:
            yield path, text.problem(error.code, path, error.what, now=error.now, inside=error.offset)
            continue
        for used in sorted(names):
            if used not in before:
                yield path, unknown_column(text, path, name, used, before)
        before.append(column)
    for key in ("derive", "constant"):
        for column in getattr(table, key):
            if fields_giving(plan, name, column):
                path = ("table", name, key, column)
                yield path, text.problem("double-column", path, f'column "{column}" comes from a field, too', key=True)
    for column in table.rename:
        if column not in known:
            path = ("table", name, "rename", column)
            yield path, unknown_column(text, path, name, column, known)
    final = [table.rename.get(column, column) for column in known]
    for column, new in table.rename.items():
        if final.count(new) > 1:
            path = ("table", name, "rename", column)
            yield path, text.problem("double-column", path, f'two columns would be called "{new}"', key=True)
    for index, column in enumerate(table.hash):
        if column not in known:
            path = ("table", name, "hash", index)
            yield path, unknown_column(text, path, name, column, known)


def unknown_column(text: PlanText, path: Path, table: str, column: str, known: list[str]) -> Problem:
    """A column that the table does not have."""
    near = nearest(column, known)
    now = f'did you mean "{near}"?' if near else f"columns: {listed(known)}"
    return text.problem("unknown-column", path, f'table "{table}" has no column "{column}"', now=now)
