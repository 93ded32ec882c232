"""The columns of the plan's tables: which field gives each, its type and unit, and the recipe of its stages."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, replace

from wadi.clean.stages import Recipe
from wadi.clean.types import Setting, TypeName
from wadi.plan.code import Function
from wadi.plan.model import MISSING_TEXTS, FieldPlan, ListPlan, PartOf, Plan, TablePlan

OUTCOMES = "outcomes"
"""The table with one row for each start of a plan whose inputs are lists: what became of it."""
SEEN_COLUMNS: dict[str, TypeName] = {"first_seen": "datetime", "last_seen": "datetime", "gone": "boolean"}
"""The columns of a table with `seen`."""
FILE_PARTS: dict[str, TypeName] = {"url": "url", "size": "integer", "type": "string", "sha256": "string"}
"""The columns that stand beside a column of type file, by what is put after its name."""
COMPANIONS: dict[TypeName, dict[str, TypeName]] = {
    "file": FILE_PARTS,
    "money": {"currency": "string"},
    "geopoint": {"longitude": "number", "latitude": "number"},
}
"""The columns that stand beside a column of a type, by what is put after its name."""
ORIGIN_COLUMNS: dict[str, TypeName] = {"url": "url", "time": "datetime", "place": "integer"}
"""The columns of `origin`, by what is put after `origin_`."""
_UNITS = {"size": "B", "longitude": "°", "latitude": "°"}


@dataclass(frozen=True, slots=True)
class Column:
    """A column of a finished table. `many` columns hold lists of the type; `pages` are the page kinds that give it.

    `part_of` names the column that this one stands beside.
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
        names += [column, *companions_of(column, fields[0][1].type)]
    rules = table_plan(plan, table)
    counted = [rules.occurrences] if rules.occurrences else []
    seen, origin = (SEEN_COLUMNS if rules.history else ()), (f"origin_{what}" for what in rules.origin)
    names += [*rules.derive, *rules.constant, *counted, *seen, *origin]
    return list(dict.fromkeys(names))


def companions_of(column: str, kind: TypeName) -> list[str]:
    """The columns that stand beside one of this type."""
    return [f"{column}_{part}" for part in COMPANIONS.get(kind, ())]


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


def helper_columns(plan: Plan, table: str) -> list[Column]:
    """The columns that the table's `columns` leave out: not written, but others may be made of them and checks may ask them."""
    written = {column.name for column in columns(plan, table)}
    return [_column(plan, table, name) for name in columns_of(plan, table) if name not in written]


def _column(plan: Plan, table: str, name: str) -> Column:
    rules = table_plan(plan, table)
    column = _picked_column(plan, table, name) or _made_column(rules, name)
    if column is None:
        parent = parent_table(plan, table)
        assert parent is not None, "only lists carry columns"
        column = _column(plan, parent, name)
    if name in rules.collect:
        column = replace(column, many=True)
    is_hashed = name in rules.hash
    return replace(column, type="string", unit=None) if is_hashed else column


def _picked_column(plan: Plan, table: str, name: str) -> Column | None:
    """A column that fields give, or that stands beside one of these."""
    giving = list(fields_giving(plan, table, name))
    if giving:
        first = giving[0][1]
        pages = tuple(page for page, _ in giving)
        many, is_text = first.many and first.join is None, first.join is not None or first.output is not None
        kind: TypeName = "string" if is_text else first.type
        unit = first.unit or ("%" if kind == "percent" else None)
        return Column(name, kind, many, unit, any(field.required for _, field in giving), pages)
    for column, fields in _giving(plan, table).items():
        page, field = fields[0]
        if name in companions_of(column, field.type):
            part = name.removeprefix(f"{column}_")
            kind = COMPANIONS[field.type][part]
            return Column(name, kind, field.many, _UNITS.get(part), False, (page,), column)
    return None


def _made_column(rules: TablePlan, name: str) -> Column | None:
    """A column that the table itself makes: derived, constant, seen, origin."""
    if name in rules.derive:
        made = rules.derive[name]
        return Column(name, made.type, False, made.unit, False, ())
    if name in rules.constant:
        value = rules.constant[name]
        kind: TypeName = (
            "boolean" if isinstance(value, bool) else "integer" if isinstance(value, int)
            else "number" if isinstance(value, float) else "string"
        )  # fmt: skip
        return Column(name, kind, False, None, False, ())
    if name == rules.occurrences:
        return Column(name, "integer", False, None, False, ())
    if rules.history and name in SEEN_COLUMNS:
        return Column(name, SEEN_COLUMNS[name], False, None, False, ())
    part = name.removeprefix("origin_")
    if part in rules.origin:
        return Column(name, ORIGIN_COLUMNS[part], False, None, False, ())
    return None


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


def recipe_of(
    field: FieldPlan,
    *,
    this_year: int | None = None,
    functions: Mapping[str, Function] | None = None,
    usual_missing: Collection[str] = MISSING_TEXTS,
) -> Recipe:
    """The stages that a field asks for. `usual_missing` are the texts that count as none where the plan does not say."""
    return Recipe(
        part=field.group if isinstance(field, PartOf) else None,
        find=field.find,
        clean=tuple(field.clean),
        missing=_missing(field.missing, usual_missing),
        map=field.map,
        otherwise=field.otherwise,
        setting=setting_of(field, this_year),
        adjust=tuple(field.adjust),
        default=field.default,
        functions=functions,
    )


def _missing(said: list[str] | None, usual: Collection[str]) -> frozenset[str]:
    """The texts that count as none; "…" stands for all that usually do."""
    if said is None:
        return frozenset(usual)
    return frozenset(text for words in said for text in (MISSING_TEXTS if words == "…" else [words]))


def setting_of(field: FieldPlan, this_year: int | None = None) -> Setting:
    """What a field says about the type of its value."""
    return Setting(
        type=field.type,
        locale=field.locale,
        format=field.format,
        unit=field.unit,
        this_year=this_year,
        units=field.units,
        around=field.other_words,
        range=field.range,
        negative=field.negative,
        currency=field.currency,
        region=field.region,
        zone=field.zone,
    )
