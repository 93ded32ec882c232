"""The columns of the plan's tables: which field gives each, its type and unit, and the recipe of its stages."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from wadi.clean.stages import Recipe
from wadi.clean.types import Setting, TypeName
from wadi.plan.model import FieldPlan, ListPlan, Plan, TablePlan

OUTCOMES = "outcomes"
"""The table with one row for each start of a plan whose inputs are lists: what became of it."""
SEEN_COLUMNS: dict[str, TypeName] = {"first_seen": "string", "last_seen": "string", "gone": "boolean"}
"""The columns of a table with `seen`."""
FILE_PARTS: dict[str, TypeName] = {"url": "url", "size": "integer", "type": "string", "sha256": "string"}
"""The columns that stand beside a column of type file, by what is put after its name."""


@dataclass(frozen=True, slots=True)
class Column:
    """A column of a finished table. `many` columns hold lists of the type; `pages` are the page kinds that give it.

    `part_of` names the column of type file that this one tells about.
    """

    name: str
    type: TypeName
    many: bool
    unit: str | None
    required: bool
    pages: tuple[str, ...]
    part_of: str | None = None


def lists_of(plan: Plan) -> Iterator[tuple[str, str, ListPlan]]:
    """Every list inside rows: page kind, the table that it goes to, its plan."""
    for page, kind in plan.page.items():
        for name, child in kind.lists.items():
            yield page, child.table or name, child


def parent_table(plan: Plan, table: str) -> str | None:
    """The table whose rows a table of lists is tied to; None for a table that has none, or is tied to no rows."""
    for page, name, _ in lists_of(plan):
        if name == table:
            return plan.page[page].table or plan.page[page].completes
    return None


def yielded_tables(plan: Plan) -> dict[str, str]:
    """The tables that pages yield by themselves → the first page kind that does; those of lists stand at the end."""
    tables: dict[str, str] = {}
    for name, kind in plan.page.items():
        if kind.table:
            tables.setdefault(kind.table, name)
    for page, table, _ in lists_of(plan):
        tables.setdefault(table, page)
    return tables


def columns_of(plan: Plan, table: str) -> list[str]:
    """The columns of a table as the fields come: first of the pages that yield it, then of those that complete it.

    Of a table of lists: what is carried, then its own. A column of type file is followed by those that tell about it.
    """
    names: list[str] = []
    for _, name, child in lists_of(plan):
        names += child.carry if name == table else []
    for column, fields in _giving(plan, table).items():
        names += [column, *(part for part in _file_columns(column, fields[0][1]))]
    names += SEEN_COLUMNS if table_plan(plan, table).seen else []
    return list(dict.fromkeys(names))


def _file_columns(column: str, field: FieldPlan) -> list[str]:
    return [f"{column}_{part}" for part in FILE_PARTS] if field.type == "file" else []


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
    if giving:
        first = giving[0][1]
        pages = tuple(page for page, _ in giving)
        return Column(name, first.type, first.many, first.unit, any(field.required for _, field in giving), pages)
    for column, fields in _giving(plan, table).items():
        if name in _file_columns(column, fields[0][1]):
            part = name.removeprefix(f"{column}_")
            unit = "B" if part == "size" else None
            return Column(name, FILE_PARTS[part], fields[0][1].many, unit, False, (fields[0][0],), column)
    if table_plan(plan, table).seen and name in SEEN_COLUMNS:
        return Column(name, SEEN_COLUMNS[name], False, None, False, ())
    parent = parent_table(plan, table)
    assert parent is not None, "only lists carry columns"
    return _column(plan, parent, name)


def fields_giving(plan: Plan, table: str, column: str) -> list[tuple[str, FieldPlan]]:
    """The page kinds that give a column, with their field: those that yield the table first, then those that complete it."""
    return _giving(plan, table).get(column, [])


def _giving(plan: Plan, table: str) -> dict[str, list[tuple[str, FieldPlan]]]:
    found: dict[str, list[tuple[str, FieldPlan]]] = {}
    for relation in ("table", "completes"):
        for page, kind in plan.page.items():
            if getattr(kind, relation) == table:
                for column, field in kind.fields.items():
                    found.setdefault(column, []).append((page, field))
    for page, name, child in lists_of(plan):
        if name == table:
            for column, field in child.fields.items():
                found.setdefault(column, []).append((page, field))
    return found


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
