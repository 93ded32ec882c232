"""What is wrong with a plan whose shape is right: expressions, patterns, steps, and who opens or yields what.

Each rule is a function that yields its findings with their paths; a new one is a function and a line in RULES.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator

from wadi.clean.errors import BadSetting
from wadi.clean.steps import step_of
from wadi.clean.types import Setting, converter
from wadi.page.expressions import BadExpression, compile_expression
from wadi.plan.model import FieldPlan, PagePlan, Plan
from wadi.plan.positions import Path
from wadi.plan.starts import how_many, is_set, starts_of, variables_of
from wadi.plan.text import PlanText
from wadi.problems import Problem, listed, nearest
from wadi.urls import NotAUrl, resolve

Finding = tuple[Path, Problem]
Rule = Callable[[Plan, PlanText], Iterator[Finding]]
SOURCES = ("page", "data", "url", "link", "key", "input", "header")
MOST_STARTS = 1_000_000
_PICKING = ("page", "data")


def findings(plan: Plan, text: PlanText, given: set[str]) -> list[Finding]:
    """Everything that the rules find; `given` are the inputs that came from outside the plan."""
    found = [finding for rule in RULES for finding in rule(plan, text)]
    return [*found, *_unused_inputs(plan, text, given)]


def fields_of(page: str, kind: PagePlan) -> Iterator[tuple[Path, FieldPlan, bool]]:
    """Every field of a page kind with its path, and whether it is relative to a row."""
    for name, field in kind.fields.items():
        yield ("page", page, "fields", name), field, kind.rows is not None
    if kind.total is not None:
        yield ("page", page, "total"), kind.total, False


def yielded_tables(plan: Plan) -> dict[str, str]:
    """The tables that pages yield by themselves → the first page kind that does."""
    tables: dict[str, str] = {}
    for name, kind in plan.page.items():
        if kind.table:
            tables.setdefault(kind.table, name)
    return tables


def columns_of(plan: Plan, table: str) -> list[str]:
    """The columns of a table as the fields come: first of the pages that yield it, then of those that complete it."""
    yielding = [kind for kind in plan.page.values() if kind.table == table]
    completing = [kind for kind in plan.page.values() if kind.completes == table]
    return list(dict.fromkeys(name for kind in [*yielding, *completing] for name in kind.fields))


def _expressions(plan: Plan, text: PlanText) -> Iterator[Finding]:
    for path, expressions, relative in _all_expressions(plan):
        for index, expression in enumerate(expressions):
            at = (*path, index)
            try:
                compiled = compile_expression(expression)
            except BadExpression as error:
                yield at, text.problem("bad-expression", at, error.what, now=error.now, inside=error.offset)
                continue
            if relative and compiled.whole_document and compiled.language == "xpath":
                yield at, text.problem(
                    "whole-document", at, f'"{expression}" would search the whole document from every row', inside=0,
                    now=f'relative to the row:  ".{expression.lstrip("(")}";  for a value of the page:  from = "page"',
                )  # fmt: skip


def _all_expressions(plan: Plan) -> Iterator[tuple[Path, list[str], bool]]:
    for page, kind in plan.page.items():
        for key in ("expect", "empty", "rows"):
            expressions = getattr(kind, key)
            if expressions:
                yield ("page", page, key), expressions, False
        for path, field, relative in fields_of(page, kind):
            if field.at:
                yield (*path, "at"), field.at, relative and field.source is None
            if field.then:
                yield (*path, "then"), field.then, False
        if kind.next is not None:
            for key in ("at", "more", "stop"):
                if getattr(kind.next, key):
                    yield ("page", page, "next", key), getattr(kind.next, key), False
            for name, sent in kind.next.send.items():
                yield ("page", page, "next", "send", name), sent, False
        for target, link in kind.open.items():
            yield ("page", page, "open", target, "at"), link.at, opens_from_row(plan, kind, target)


def opens_from_row(plan: Plan, kind: PagePlan, target: str) -> bool:
    """Whether the links to `target` are searched in each row: said by `scope`, else when the target completes the row."""
    link = kind.open[target]
    if kind.rows is None:
        return False
    completes = target in plan.page and plan.page[target].completes is not None
    return link.scope == "row" or (link.scope is None and completes and plan.page[target].completes == kind.table)


def _field_settings(plan: Plan, text: PlanText) -> Iterator[Finding]:
    for page, kind in plan.page.items():
        for path, field, _ in fields_of(page, kind):
            yield from _sources(path, field, text)
            yield from _one_field(path, field, text)


def _sources(path: Path, field: FieldPlan, text: PlanText) -> Iterator[Finding]:
    if field.source is None:
        if field.at is None:
            yield (
                path,
                text.problem("missing-key", path, f'"{path[-1]}" says neither at nor from', now='at = "…" picks it'),
            )
        return
    name, dot, rest = field.source.partition(".")
    at = (*path, "from")
    if name not in SOURCES or (name in ("input", "header")) != bool(dot and rest):
        yield (
            at,
            text.problem(
                "wrong-value",
                at,
                f'from = "{field.source}" is no source',
                now="page, data, url, link, key, input.NAME or header.NAME",
            ),
        )
    elif (field.at is not None) != (name in _PICKING):
        what = "needs at" if name in _PICKING else "takes no at: the value is a text, find picks a part of it"
        yield at, text.problem("both-keys", at, f'from = "{field.source}" {what}')


def _one_field(path: Path, field: FieldPlan, text: PlanText) -> Iterator[Finding]:
    if (field.inside is None) != (field.then is None):
        key = "then" if field.inside is None else "inside"
        yield (*path, key), text.problem("missing-key", (*path, key), "inside and then go together", key=True)
    if field.attr and field.take:
        at = (*path, "take")
        yield at, text.problem("both-keys", at, "attr and take exclude each other", key=True)
    if field.otherwise is not None and field.map is None:
        at = (*path, "else")
        yield at, text.problem("missing-key", at, "else says what map gives otherwise, but there is no map", key=True)
    if field.find is not None:
        try:
            re.compile(field.find)
        except re.error as error:
            at = (*path, "find")
            yield at, text.problem("bad-regex", at, f"regular expression: {error.msg}", inside=error.pos)
    for index, sentence in enumerate(field.clean):
        try:
            step_of(sentence)
        except BadSetting as error:
            at = (*path, "clean", index)
            yield at, text.problem(error.code, at, error.what, now=error.now, inside=error.offset)
    try:
        converter(Setting(field.type, field.locale, field.format, field.unit))
    except BadSetting as error:
        at = (*path, "locale" if error.code == "bad-locale" else "format")
        yield at, text.problem(error.code, at, error.what, now=error.now, inside=error.offset)


def _kinds(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """Expressions of one page that read different kinds of documents: some would never match."""
    for page, kind in plan.page.items():
        read: dict[str, str] = {}
        for path, expressions, _ in _all_expressions(plan):
            if path[1] != page or path[-1] == "then" or _source_of(kind, path) == "data":
                continue
            for index, expression in enumerate(expressions):
                try:
                    compiled = compile_expression(expression)
                except BadExpression:
                    continue
                other = next((what for what in read if what != compiled.reads), None)
                if compiled.reads == "any":
                    continue
                if other is not None:
                    at = (*path, index)
                    names = {"tree": "HTML or XML", "json": "JSON"}
                    what = (
                        f'"{expression}" reads {names[compiled.reads]}, but "{read[other]}" of this page {names[other]}'
                    )
                    yield (
                        at,
                        text.problem(
                            "wrong-kind", at, what, now='JSON inside HTML:  from = "data",  or inside and then'
                        ),
                    )
                read.setdefault(compiled.reads, expression)


def _source_of(kind: PagePlan, path: Path) -> str | None:
    field = kind.fields.get(str(path[3])) if len(path) > 3 and path[2] == "fields" else None
    return field.source if field else None


def _nexts(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """A listing goes on in one way."""
    for page, kind in plan.page.items():
        if kind.next is None:
            continue
        path: Path = ("page", page, "next")
        ways = [
            name
            for name, said in (
                ("at or text", kind.next.at or kind.next.text),
                ("rel", kind.next.rel),
                ("count", kind.next.count),
                ("send", kind.next.send),
            )
            if said
        ]
        if len(ways) > 1:
            yield (
                path,
                text.problem("both-keys", path, f"next goes on in one way, not by {' and by '.join(ways)}", key=True),
            )
        if not ways:
            now = 'by a link:  next = "a.next";  by a parameter:  next = { count = { parameter = "page" } }'
            yield (
                path,
                text.problem("missing-key", path, "next does not say how the listing goes on", key=True, now=now),
            )
        if kind.next.count and kind.next.count.step == 0:
            at = (*path, "count", "step")
            yield at, text.problem("wrong-value", at, "a step of 0 asks for the same page again and again")
        if kind.next.count and kind.rows is None:
            at = (*path, "count")
            yield (
                at,
                text.problem(
                    "missing-key",
                    at,
                    "a counted listing ends with a page without rows, and there are no rows",
                    key=True,
                ),
            )


def _links(plan: Plan, text: PlanText) -> Iterator[Finding]:
    named: list[tuple[Path, str]] = [(("start", "page"), plan.start.page)]
    named += [(("page", page, "open", target), target) for page, kind in plan.page.items() for target in kind.open]
    for path, target in named:
        if target not in plan.page:
            near = nearest(target, plan.page)
            now = f'did you mean "{near}"?' if near else f"page kinds of this plan: {listed(plan.page)}"
            yield (
                path,
                text.problem("unknown-page", path, f'there is no page kind "{target}"', now=now, key=path[0] == "page"),
            )
    opened = {target for _, target in named}
    for page in plan.page:
        if page not in opened:
            path = ("page", page)
            yield path, text.problem(
                "unopened-page", path, f'nothing opens page "{page}"', key=True,
                now=f'open it from another page:  [page.….open] {page} = "…";  or begin with it:  [start] page = "{page}"',
            )  # fmt: skip


def _tables(plan: Plan, text: PlanText) -> Iterator[Finding]:
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
        if table.prefer and table.prefer not in plan.page:
            at = ("table", name, "prefer")
            yield at, text.problem("unknown-page", at, f'there is no page kind "{table.prefer}"')


def _unknown_table(text: PlanText, path: Path, name: str, tables: dict[str, str], why: str) -> Finding:
    near = nearest(name, tables)
    now = f'did you mean "{near}"?' if near else f"tables of this plan: {listed(tables)}" if tables else ""
    return path, text.problem("unknown-table", path, f'no page yields the table "{name}" ({why})', now=now)


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


def _double_columns(plan: Plan, text: PlanText) -> Iterator[Finding]:
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


def _addresses(plan: Plan, text: PlanText) -> Iterator[Finding]:
    for index, address in enumerate(plan.start.addresses):
        path = ("start", "addresses", index)
        try:
            used = variables_of(address)
        except ValueError as error:
            yield path, text.problem("bad-template", path, f"URI Template: {error}")
            continue
        unset = sorted(name for name in used if not is_set(plan.inputs, name))
        if unset:
            yield from (_unset(text, path, name, plan, inside=address.find(name)) for name in unset)
            continue
        count = how_many(plan.inputs, used)
        if count > MOST_STARTS:
            what = f"the inputs make {count:,} addresses, more than {MOST_STARTS:,}"
            yield (
                path,
                text.problem(
                    "too-many-starts", path, what, now="run the plan for some values at a time:  --input NAME=VALUE"
                ),
            )
            continue
        for start in starts_of([address], plan.inputs):
            try:
                resolve("", start.url)
            except NotAUrl as error:
                yield path, text.problem("bad-url", path, f'"{start.url}" is no URL to begin with: {error}')
                break


def _field_inputs(plan: Plan, text: PlanText) -> Iterator[Finding]:
    for page, kind in plan.page.items():
        for path, field, _ in fields_of(page, kind):
            source, _, name = (field.source or "").partition(".")
            if source == "input" and name and not is_set(plan.inputs, name):
                yield _unset(text, (*path, "from"), name, plan)


def _input_names(plan: Plan) -> list[str]:
    """What addresses and fields can name: inputs, and the columns of those that are rows."""
    names: list[str] = []
    for name, value in plan.inputs.items():
        rows = isinstance(value, list) and value and isinstance(value[0], dict)
        names += [f"{name}.{column}" for column in value[0]] if rows else [name]  # type: ignore[index, union-attr]
    return names


def _unset(text: PlanText, path: Path, name: str, plan: Plan, inside: int | None = None) -> Finding:
    near = nearest(name, _input_names(plan))
    hint = f'did you mean "{near}"?' if near else f"[inputs] {name} = …  or  --input {name}=…"
    return path, text.problem("unset-input", path, f'nothing sets the input "{name}"', now=hint, inside=inside)


def _unused_inputs(plan: Plan, text: PlanText, given: set[str]) -> Iterator[Finding]:
    used: set[str] = set()
    for address in plan.start.addresses:
        try:
            used |= variables_of(address)
        except ValueError:
            return
    for page, kind in plan.page.items():
        used |= {(field.source or "").partition(".")[2] for _, field, _ in fields_of(page, kind)}
    used = {name.partition(".")[0] for name in used}
    for name in plan.inputs:
        if name not in used:
            path = ("inputs", name)
            near = nearest(name, used)
            hint = f'did you mean "{near}"?' if near else f"write it into an address:  {{{name}}}"
            what = (
                f'--input {name}: the plan has no input "{name}"'
                if name in given
                else f'nothing uses the input "{name}"'
            )
            yield path, text.problem("unused-input", path, what, key=True, now=hint)


RULES: tuple[Rule, ...] = (
    _expressions,
    _kinds,
    _field_settings,
    _nexts,
    _links,
    _tables,
    _double_columns,
    _addresses,
    _field_inputs,
)
