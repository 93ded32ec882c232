"""The columns of the plan's tables: which field gives each, its type and unit, and the recipe of its stages."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from wadi.clean.stages import Recipe
from wadi.clean.types import Setting, TypeName
from wadi.plan.lint import columns_of, yielded_tables
from wadi.plan.model import FieldPlan, Plan, TablePlan


@dataclass(frozen=True, slots=True)
class Column:
    """A column of a finished table. `many` columns hold lists of the type; `pages` are the page kinds that give it."""

    name: str
    type: TypeName
    many: bool
    unit: str | None
    required: bool
    pages: tuple[str, ...]


def tables_of(plan: Plan) -> list[str]:
    """The names of the plan's tables: first those that `[table.*]` names, in that order, then as pages yield them."""
    yielded = yielded_tables(plan)
    return list(dict.fromkeys([*(name for name in plan.table if name in yielded), *yielded]))


def table_plan(plan: Plan, table: str) -> TablePlan:
    """What the plan says about a table; the defaults where it says nothing."""
    return plan.table.get(table) or TablePlan()


def columns(plan: Plan, table: str) -> list[Column]:
    """The table's columns in the order that the plan asks for."""
    named = table_plan(plan, table).columns
    every = columns_of(plan, table)
    rest = [name for name in every if name not in named]
    order: list[str] = []
    for name in named or ["…"]:
        order += rest if name == "…" else [name]
    return [_column(plan, table, name) for name in order]


def _column(plan: Plan, table: str, name: str) -> Column:
    giving = list(fields_giving(plan, table, name))
    first = giving[0][1]
    pages = tuple(page for page, _ in giving)
    return Column(name, first.type, first.many, first.unit, any(field.required for _, field in giving), pages)


def fields_giving(plan: Plan, table: str, column: str) -> Iterator[tuple[str, FieldPlan]]:
    """The page kinds that give a column, with their field: those that yield the table first, then those that complete it."""
    for relation in ("table", "completes"):
        for page, kind in plan.page.items():
            if getattr(kind, relation) == table and column in kind.fields:
                yield page, kind.fields[column]


def recipe_of(field: FieldPlan, *, this_year: int | None = None) -> Recipe:
    """The stages that a field asks for."""
    return Recipe(
        find=field.find,
        clean=tuple(field.clean),
        missing=frozenset(field.missing),
        map=field.map,
        otherwise=field.otherwise,
        setting=Setting(field.type, field.locale, field.format, field.unit, this_year),
        default=field.default,
    )
