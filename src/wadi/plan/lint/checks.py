"""Findings about checks: columns and tables that are not there, patterns and conditions that cannot be read."""

from __future__ import annotations

from collections.abc import Iterator

from wadi.clean.arithmetic import Formula
from wadi.clean.errors import BadSetting
from wadi.clean.patterns import BadPattern, pattern_of
from wadi.clean.types import NUMERIC, TypeName
from wadi.plan.checks import ColumnCheckPlan
from wadi.plan.columns import columns, helper_columns, table_plan, yielded_tables
from wadi.plan.lint.made import unknown_column
from wadi.plan.model import Plan
from wadi.plan.positions import Path
from wadi.plan.text import Finding, PlanText
from wadi.problems import listed, nearest

_NUMBERS_ONLY = ("total", "mean")


def checks(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """What is wrong with the checks of the plan's tables."""
    tables = yielded_tables(plan)
    for table, own in plan.table.items():
        if own.check is None or table not in tables:
            continue
        types = _types(plan, table)
        for index, condition in enumerate(own.check.where):
            path: Path = ("table", table, "check", "where", index)
            try:
                used = Formula(condition).names
            except BadSetting as error:
                yield path, text.problem(error.code, path, error.what, now=error.now, inside=error.offset)
                continue
            for name in sorted(used - set(types)):
                yield path, unknown_column(text, path, table, name, list(types))
        for column, check in own.check.columns.items():
            path = ("table", table, "check", "columns", column)
            if column not in types:
                yield path, unknown_column(text, path, table, column, list(types))
                continue
            yield from _column(plan, text, path, check, types[column] in NUMERIC)


def _types(plan: Plan, table: str) -> dict[str, TypeName]:
    """The columns of a table under the names that they are written by, those left out as well, with their types."""
    names, every = table_plan(plan, table).rename, [*columns(plan, table), *helper_columns(plan, table)]
    return {names.get(column.name, column.name): column.type for column in every}


def _column(plan: Plan, text: PlanText, path: Path, check: ColumnCheckPlan, is_numeric: bool) -> Iterator[Finding]:
    if check.pattern is not None:
        try:
            pattern_of(check.pattern)
        except BadPattern as error:
            at = (*path, "pattern")
            yield at, text.problem("bad-regex", at, f"regular expression: {error.what}", inside=error.offset)
    for key in _NUMBERS_ONLY:
        if getattr(check, key) is not None and not is_numeric:
            at = (*path, key)
            yield at, text.problem("wrong-value", at, f"{key} is of numbers, and the column has none", key=True)
    for key in ("minimum", "maximum"):
        bound = getattr(check, key)
        if bound is not None and isinstance(bound, str) == is_numeric:
            at = (*path, key)
            wanted = "a number" if is_numeric else 'a text, as in "1900-01-01"'
            yield at, text.problem("wrong-value", at, f"the column wants {wanted} here")
    if check.refers_to is not None:
        table, _, column = check.refers_to.partition(".")
        at = (*path, "refers_to")
        tables = yielded_tables(plan)
        if table not in tables:
            near = nearest(table, tables)
            now = f'did you mean "{near}"?' if near else f"tables of this plan: {listed(tables)}"
            yield at, text.problem("unknown-table", at, f'no page yields the table "{table}" (TABLE.COLUMN)', now=now)
        elif column not in (names := list(_types(plan, table))):
            yield at, unknown_column(text, at, table, column, names)
