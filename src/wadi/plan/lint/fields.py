"""Findings about expressions and fields: what cannot be read, what excludes each other, what would never match."""

from __future__ import annotations

from collections.abc import Iterator

from wadi.clean.adjust import adjustment_of
from wadi.clean.errors import BadSetting
from wadi.clean.output import WRITTEN_OUT, asks_beyond, output_of
from wadi.clean.patterns import BadPattern, pattern_of
from wadi.clean.steps import step_of
from wadi.clean.types import converter
from wadi.page.expressions import BadExpression, compile_expression
from wadi.plan.columns import setting_of
from wadi.plan.model import FieldPlan, PagePlan, PartOf, Plan
from wadi.plan.parts import expressions_of, fields_of
from wadi.plan.positions import Path
from wadi.plan.text import Finding, PlanText
from wadi.problems import listed, nearest
from wadi.web.parameters import names_in

SOURCES = ("page", "data", "heading", "url", "status", "route", "link", "key", "input", "header")
_PICKING = ("page", "data", "heading")


def expressions(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """Expressions that cannot be read, or would search the whole document from every row."""
    for path, texts, relative in expressions_of(plan):
        for index, expression in enumerate(texts):
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


def field_settings(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """What a field says about itself."""
    for page, kind in plan.page.items():
        for path, field, is_in_row in fields_of(page, kind):
            yield from _sources(path, field, text)
            yield from _one_field(path, field, text)
            if field.under is not None and not is_in_row:
                at = (*path, "under")
                what = "under is about the cells of a row, and the page has no rows"
                yield at, text.problem("missing-key", at, what, key=True, now='rows = "table.facts tr"')


def _sources(path: Path, field: FieldPlan, text: PlanText) -> Iterator[Finding]:
    if field.source is None:
        if field.at is None and field.under is None and not field.label:
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
                now="page, data, heading, url, status, route, link, key, input.NAME or header.NAME",
            ),
        )
    elif (field.at is not None) != (name in _PICKING):
        what = "needs at" if name in _PICKING else "takes no at: the value is a text, find picks a part of it"
        yield at, text.problem("both-keys", at, f'from = "{field.source}" {what}')


def _one_field(path: Path, field: FieldPlan, text: PlanText) -> Iterator[Finding]:
    if field.under is not None and field.source is not None:
        at = (*path, "under")
        yield at, text.problem("both-keys", at, "under is about the row: from and under exclude each other", key=True)
    if field.name is not None:
        yield from _file_name((*path, "name"), field, text)
    if "lists" in path and (field.source or "").partition(".")[0] in ("link", "input", "status", "route"):
        at = (*path, "from")
        now = "give it to the row as a field, and let the list carry it"
        yield at, text.problem("wrong-value", at, f'a row of a list takes nothing from "{field.source}"', now=now)
    if (field.inside is None) != (field.then is None):
        key = "then" if field.inside is None else "inside"
        yield (*path, key), text.problem("missing-key", (*path, key), "inside and then go together", key=True)
    said = [key for key in ("attr", "property", "take") if getattr(field, key)]
    if len(said) > 1:
        at = (*path, said[-1])
        yield at, text.problem("both-keys", at, f"{' and '.join(said)} exclude each other", key=True)
    if field.otherwise is not None and field.map is None:
        at = (*path, "else")
        yield at, text.problem("missing-key", at, "else says what map gives otherwise, but there is no map", key=True)
    if field.find is not None:
        try:
            pattern_of(field.find)
        except BadPattern as error:
            at = (*path, "find")
            yield at, text.problem("bad-regex", at, f"regular expression: {error.what}", inside=error.offset)
    yield from _steps(path, field, text)
    yield from _output((*path, "output"), field, text)
    yield from _parts(path, field, text)
    yield from _excluded(path, field, text)
    try:
        converter(setting_of(field))
    except BadSetting as error:
        keys = ("currency", "region", "zone", "format")
        named = next(
            (key for key in keys if getattr(field, key) and f'"{getattr(field, key)}"' in error.what), "format"
        )
        at = (*path, "locale" if error.code == "bad-locale" else named)
        yield at, text.problem(error.code, at, error.what, now=error.now, inside=error.offset)


def _steps(path: Path, field: FieldPlan, text: PlanText) -> Iterator[Finding]:
    """Steps of clean and adjust that are not in the grammar. Whether functions are there is found when the code is read."""
    for key, read in (("clean", step_of), ("adjust", adjustment_of)):
        for index, sentence in enumerate(getattr(field, key)):
            try:
                read(sentence)
            except BadSetting as error:
                at = (*path, key, index)
                yield at, text.problem(error.code, at, error.what, now=error.now, inside=error.offset)


def _output(path: Path, field: FieldPlan, text: PlanText) -> Iterator[Finding]:
    """An output that is no pattern, or asks for what the type has not."""
    if field.output is None or field.type not in WRITTEN_OUT:
        return
    try:
        output_of(field.output, field.locale)
    except BadSetting as error:
        if error.code == "bad-format":
            yield path, text.problem(error.code, path, error.what, now=error.now)
        return
    if beyond := asks_beyond(field.output, field.type):
        what = f'output = "{field.output}": a {field.type} has nothing for {listed(beyond)}'
        yield path, text.problem("bad-format", path, what)


def _parts(path: Path, field: FieldPlan, text: PlanText) -> Iterator[Finding]:
    """Parts without a group of their own."""
    if not isinstance(field, PartOf):
        if field.of is not None:
            at = (*path, "of")
            yield at, text.problem("both-keys", at, "of is for parts: it names a group of the field's find", key=True)
        return
    pattern, group = field.group
    if not pattern:
        now = "find = '(?P<depth>[\\d.]+) m deep, (?P<basins>\\d+) basins'"
        yield path, text.problem("missing-key", path, f'"{field.parent}" has parts, but no find', key=True, now=now)
        return
    try:
        groups = pattern_of(pattern).groupindex
    except BadPattern:
        return
    if group not in groups:
        near = nearest(group, groups)
        now = (
            f'did you mean of = "{near}"?'
            if near
            else f"groups of find: {listed(groups)}"
            if groups
            else "(?P<NAME>…) names a group"
        )
        yield (
            path,
            text.problem("unknown-column", path, f'find of "{field.parent}" has no group "{group}"', key=True, now=now),
        )


_BY_LOCALE = ("date", "datetime", "time", "yearmonth", "year", "duration", "boolean", "money", "percent", "geopoint")
_BY_FORMAT = ("date", "datetime", "time", "yearmonth", "duration", "geopoint")


def _excluded(path: Path, field: FieldPlan, text: PlanText) -> Iterator[Finding]:
    """Keys that mean something only beside others."""
    numbers = ("integer", "number", "money", "percent")
    is_number = field.type in numbers or (path[-1] in ("total", "end_page") and path[-2] != "fields")
    by_locale = is_number or field.type in _BY_LOCALE or isinstance(field, PartOf) or bool(field.parts)
    wants = (
        ("unit", field.unit is not None and not is_number, 'a type of numbers:  type = "number"'),
        ("locale", field.locale is not None and not by_locale, 'a type that is read by locale:  type = "number"'),
        ("format", field.format is not None and field.type not in _BY_FORMAT, 'a type of dates or times:  type = "date"'),
        ("within", field.within is not None and not field.label, 'within is for label:  label = "Depth"'),
        ("split", field.split is not None and not field.many, 'many = true  makes a list of the pieces'),
        ("distinct", field.distinct and not field.many, "distinct is for many"),
        ("in_order", field.in_order and not field.many, "in_order is for many"),
        ("join", field.join is not None and not field.many, "join is for many"),
        ("units", bool(field.units) and not field.unit and field.type != "percent", 'unit = "…"  is what they become'),
        ("other_words", field.other_words and field.type not in numbers, "other_words is for numbers"),
        ("negative", field.negative is not None and field.type not in numbers, "negative is for numbers"),
        ("range", field.range is not None and field.type not in numbers, "range is for numbers"),
        ("currency", field.currency is not None and field.type != "money", 'currency is for type = "money"'),
        ("region", field.region is not None and field.type != "phone", 'region is for type = "phone"'),
        ("zone", field.zone is not None and field.type not in ("datetime", "date"), 'zone is for type = "datetime"'),
        ("output", field.output is not None and field.type not in WRITTEN_OUT, 'output is for type = "datetime"'),
        ("whole", field.whole and not field.parts, "whole is for fields with parts"),
    )  # fmt: skip
    for key, is_wrong, now in wants:
        if is_wrong:
            at = (*path, key)
            yield at, text.problem("both-keys", at, f"{key} means nothing here", key=True, now=now)


def _file_name(path: Path, field: FieldPlan, text: PlanText) -> Iterator[Finding]:
    name = field.name or ""
    if field.type != "file":
        yield path, text.problem("both-keys", path, 'name is for fields of type = "file"', key=True)
    elif name.startswith(("/", "~")) or "\\" in name or ":" in name or ".." in name.split("/"):
        now = 'files stay below the run\'s own folder:  name = "{district}/{code}"'
        yield path, text.problem("bad-file-name", path, f'"{name}" leads out of the folder for files', now=now)
    elif not names_in(name):
        now = 'a column in braces tells the files apart:  name = "{code}"'
        yield path, text.problem("bad-file-name", path, f'"{name}" would give all files the same name', now=now)


def kinds(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """Expressions of one page that read different kinds of documents: some would never match.

    The data that a page of HTML carries, or that came beside it, stands beside its elements; what is relative to a row is of
    the row's kind.
    """
    for page, kind in plan.page.items():
        of_page: dict[str, str] = {}
        of_rows: dict[str, str] = {
            reads: rows for rows in kind.rows or () if (reads := _kind_read(rows, relative=True))
        }
        for path, expressions, relative in expressions_of(plan):
            if path[1] != page or path[-1] == "then" or _source_of(kind, path) == "data":
                continue
            for index, expression in enumerate(expressions):
                reads = _kind_read(expression, relative=relative)
                has_data = kind.call is not None or (kind.browser is not None and bool(kind.browser.data_from))
                has_both = has_data and not relative
                if reads is None or has_both:
                    continue
                read = of_rows if relative else of_page
                names = {"tree": "HTML or XML", "json": "JSON"}
                if (other := next((what for what in read if what != reads), None)) is not None:
                    at = (*path, index)
                    what = f'"{expression}" reads {names[reads]}, but "{read[other]}" of this page {names[other]}'
                    now = 'JSON inside HTML:  $.state…, $.jsonld…,  from = "data",  or inside and then'
                    yield at, text.problem("wrong-kind", at, what, now=now)
                read.setdefault(reads, expression)


def calls(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """What a page kind in Python says of its rows."""
    for page, kind in plan.page.items():
        for index, rows in enumerate(kind.rows or () if kind.call is not None else ()):
            if _kind_read(rows, relative=True) == "tree":
                at = ("page", page, "rows", index)
                what = f"rows picks among what {kind.call}() gives: it is JSONPath, or left out"
                yield at, text.problem("wrong-kind", at, what, now='rows = "$.rows[*]"')


def _kind_read(expression: str, *, relative: bool) -> str | None:
    """The kind of document that an expression reads, "tree" or "json"; None where it reads any."""
    try:
        compiled = compile_expression(expression)
    except BadExpression:
        return None
    is_any = compiled.reads == "any" or (compiled.is_of_carried and not relative)
    return None if is_any else compiled.reads


def _source_of(kind: PagePlan, path: Path) -> str | None:
    field = kind.fields.get(str(path[3])) if len(path) > 3 and path[2] == "fields" else None
    return field.source if field else None
