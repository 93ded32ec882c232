"""Findings about tables: who yields them, which columns they have, what comes twice."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from wadi.plan.columns import (
    SEEN_COLUMNS,
    columns_of,
    companions_of,
    fields_giving,
    lists_of,
    parent_table,
    yielded_tables,
)
from wadi.plan.lint.made import made_columns
from wadi.plan.model import FieldPlan, Plan
from wadi.plan.positions import Path
from wadi.plan.text import Finding, PlanText
from wadi.problems import listed, nearest
from wadi.web.parameters import names_in

_REST = '"…" among the columns stands for the rest'


def tables_rule(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """Tables that nothing yields, pages whose rows go nowhere, columns that are not there."""
    tables = yielded_tables(plan)
    for page, kind in plan.page.items():
        path = ("page", page)
        if kind.completes and kind.completes not in tables:
            yield _unknown_table(text, (*path, "completes"), kind.completes, tables, f'page "{page}" completes it')
        if kind.fields and not kind.table and not kind.completes:
            yield path, text.problem("missing-key", path, f'page "{page}" has fields, but no table', key=True,
                                     now='table = "…" names the table of its rows')  # fmt: skip
        if kind.table and kind.completes:
            at = (*path, "completes")
            yield at, text.problem("both-keys", at, "table and completes exclude each other", key=True)
        if (kind.table or kind.completes) and not kind.fields:
            yield path, text.problem("no-rows", path, f'page "{page}" has a table, but no fields', key=True)
        if kind.completes and kind.rows:
            at = (*path, "rows")
            yield (
                at,
                text.problem(
                    "both-keys", at, "a page that completes a row is one row: it has no rows of its own", key=True
                ),
            )
    if not tables and not any(kind.completes for kind in plan.page.values()):
        everywhere: Path = ("page",)
        yield (
            everywhere,
            text.problem(
                "no-rows", everywhere, "no page yields a table", now='a page kind wants table = "…" and fields'
            ),
        )
    for name, table in plan.table.items():
        if name not in tables:
            yield _unknown_table(text, ("table", name), name, tables, "[table] describes it")
            continue
        yield from _named_columns(plan, name, text)
        yield from _seen(plan, name, text)
        yield from _over_duplicates(plan, name, text)
        yield from made_columns(plan, name, text)
        if table.prefer and table.prefer not in plan.page:
            at = ("table", name, "prefer")
            yield at, text.problem("unknown-page", at, f'there is no page kind "{table.prefer}"')


def _unknown_table(text: PlanText, path: Path, name: str, tables: dict[str, str], why: str) -> Finding:
    near = nearest(name, tables)
    now = f'did you mean "{near}"?' if near else f"tables of this plan: {listed(tables)}" if tables else ""
    return path, text.problem("unknown-table", path, f'no page yields the table "{name}" ({why})', now=now)


def _left_out(plan: Plan, table: str, column: str) -> bool:
    """Whether the table's `columns` leave a column out that is there."""
    named = plan.table[table].columns if table in plan.table else []
    return bool(named) and "…" not in named and column not in named


def _known_late(plan: Plan, table: str) -> set[str]:
    """The columns that are filled after rows have been told apart: what downloads, earlier runs and all rows together say."""
    rules = plan.table[table]
    files = [
        column
        for column in columns_of(plan, table)
        for _, given in fields_giving(plan, table, column)
        if given.type == "file"
    ]
    beside = {name for column in files for name in companions_of(column, "file")}
    return {*beside, *(SEEN_COLUMNS if rules.history else ()), *([rules.occurrences] if rules.occurrences else [])}


def _named_columns(plan: Plan, name: str, text: PlanText) -> Iterator[Finding]:
    known = columns_of(plan, name)
    table = plan.table[name]
    for key, names in (("key", table.key), ("columns", table.columns)):
        for index, column in enumerate(names):
            if column not in known and column != "…":
                path = ("table", name, key, index)
                near = nearest(column, known)
                now = f'did you mean "{near}"?' if near else f"columns: {listed(known)}"
                yield path, text.problem("unknown-column", path, f'table "{name}" has no column "{column}"', now=now)
            elif key == "key" and _left_out(plan, name, column):
                path = ("table", name, key, index)
                what = f'key column "{column}" is left out by columns, so rows could not be told apart'
                yield path, text.problem("unknown-column", path, what, now=_REST)
            elif key == "key" and column in _known_late(plan, name):
                path = ("table", name, key, index)
                what = f'key column "{column}" is filled when rows have been told apart: by it no two would be the same'
                yield path, text.problem("unknown-column", path, what, now="a column that pages give")
    asked: list[tuple[Path, str]] = [(("constant", column), column) for column in table.constant]
    asked += [(("rename", column), column) for column in table.rename]
    asked += [(("hash", index), column) for index, column in enumerate(table.hash)]
    asked += [(("origin", index), f"origin_{part}") for index, part in enumerate(table.origin)]
    for inside, column in asked:
        if column in known and _left_out(plan, name, column):
            what = f'{inside[0]} asks for column "{column}", and columns leaves it out'
            yield ("table", name, *inside), text.problem("unknown-column", ("table", name, *inside), what, now=_REST)


def _seen(plan: Plan, name: str, text: PlanText) -> Iterator[Finding]:
    """What a table with first_seen, last_seen and gone needs: a key, and these names free."""
    table = plan.table[name]
    if not table.history:
        return
    at: Path = ("table", name, "history")
    if not table.key:
        now = 'key = ["…"]  names the columns that tell one record from another'
        yield at, text.problem("missing-key", at, "history needs a key to know records again", key=True, now=now)
    if any(child == name for _, child, _ in lists_of(plan)):
        what = f'the rows of "{name}" stand inside others, so only those can be known again'
        yield at, text.problem("both-keys", at, what, key=True, now="history of the table that they are tied to")
    for column in SEEN_COLUMNS:
        if fields_giving(plan, name, column):
            yield at, text.problem("double-column", at, f'"{column}" is a column of history, and of a field', key=True)


def _over_duplicates(plan: Plan, name: str, text: PlanText) -> Iterator[Finding]:
    """What is collected and counted over rows of the same key: there is a key, and the columns are of one value for each row."""
    table = plan.table[name]
    for key in ("collect", "occurrences"):
        at: Path = ("table", name, key)
        if getattr(table, key) and (not table.key or table.duplicates == "all"):
            now = (
                'key = ["…"]  says which rows are of one record, and duplicates = "first" or "merge" puts them together'
            )
            yield at, text.problem("missing-key", at, f"{key} is about rows with the same key", key=True, now=now)
    if table.occurrences and (table.occurrences in table.constant or fields_giving(plan, name, table.occurrences)):
        at = ("table", name, "occurrences")
        yield at, text.problem("double-column", at, f'"{table.occurrences}" is a column already')
    known = columns_of(plan, name)
    for index, column in enumerate(table.collect):
        at = ("table", name, "collect", index)
        if column not in known:
            near = nearest(column, known)
            now = f'did you mean "{near}"?' if near else f"columns: {listed(known)}"
            yield at, text.problem("unknown-column", at, f'table "{name}" has no column "{column}"', now=now)
        elif column in table.key or any(
            companions_of(column, field.type) for _, field in fields_giving(plan, name, column)
        ):
            what = f'"{column}" is not collected: it is of the key, or other columns stand beside it'
            yield at, text.problem("wrong-value", at, what)


def double_columns(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """Columns that come from the listing and from the detail page."""
    for page, kind in plan.page.items():
        if not kind.completes or (plan.table.get(kind.completes, None) and plan.table[kind.completes].prefer):
            continue
        for other, source in plan.page.items():
            both = [name for name in kind.fields if name in source.fields] if source.table == kind.completes else []
            for name in both:
                path = ("page", page, "fields", name)
                yield path, text.problem(
                    "double-column", path, f'column "{name}" comes from page "{other}" and from page "{page}"', key=True,
                    now=f'rename one, or write under [table.{kind.completes}]:  prefer = "{page}"',
                )  # fmt: skip


def lists(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """Lists inside rows: what they carry, and where they go."""
    page_tables = {kind.table for kind in plan.page.values() if kind.table}
    for page, kind in plan.page.items():
        if kind.side_by_side and (kind.rows or not kind.table or kind.lists):
            at: Path = ("page", page, "side_by_side")
            what = "side by side columns make the rows themselves: there are no rows and no lists, and there is a table"
            yield at, text.problem("both-keys", at, what, key=True)
        for name, child in kind.lists.items():
            path: Path = ("page", page, "lists", name)
            table = child.table or name
            if table in page_tables:
                yield path, text.problem("both-keys", path, f'page rows go to the table "{table}" as well', key=True)
            parent = parent_table(plan, table)
            known = columns_of(plan, parent) if parent else []
            for index, column in enumerate(child.carry):
                if column not in known:
                    at = (*path, "carry", index)
                    near = nearest(column, known)
                    now = f'did you mean "{near}"?' if near else f"columns: {listed(known)}" if known else ""
                    whose = f'table "{parent}"' if parent else f'page "{page}", which has no table,'
                    yield at, text.problem("unknown-column", at, f'{whose} has no column "{column}"', now=now)
                if column in child.fields:
                    at = (*path, "fields", column)
                    yield at, text.problem("double-column", at, f'column "{column}" is carried as well', key=True)


def file_names(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """Columns that stand in the names of files, and those that stand beside a file."""
    tables: list[tuple[str | None, Path, Mapping[str, FieldPlan]]] = [
        (kind.table or kind.completes, ("page", page, "fields"), kind.fields) for page, kind in plan.page.items()
    ]
    tables += [
        (table, ("page", page, "lists", name, "fields"), child.fields)
        for page, kind in plan.page.items()
        for name, child in kind.lists.items()
        for table in [child.table or name]
    ]
    for table, above, fields in tables:
        if table is None:
            continue
        known = columns_of(plan, table)
        for name, field in fields.items():
            for column in names_in(field.name or ""):
                if column not in known:
                    path: Path = (*above, name, "name")
                    near = nearest(column, [other for other in known if other != column])
                    now = f'did you mean "{near}"?' if near else f"columns: {listed(known)}"
                    what = f'table "{table}" has no column "{column}"'
                    yield path, text.problem("unknown-column", path, what, now=now)
            for part in companions_of(name, field.type):
                if part in fields:
                    path = (*above, part)
                    what = f'column "{part}" comes with "{name}", which is of type {field.type}'
                    yield path, text.problem("double-column", path, what, key=True, now="another name for this field")
