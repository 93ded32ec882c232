"""Page kinds compiled: expressions, fields and links made ready once, before the first page comes."""

from __future__ import annotations

import fnmatch
import re
from dataclasses import dataclass

from wadi.clean.stages import Stages
from wadi.page.document import Parse
from wadi.page.expressions import Expression, compile_expression
from wadi.plan.columns import recipe_of
from wadi.plan.lint import opens_from_row
from wadi.plan.model import FieldPlan, NextPlan, OpenPlan, PagePlan, Plan

ROUTE_SOURCES = frozenset({"link", "input"})
"""Sources whose values depend on how a page was reached: filled in when tables are assembled."""


@dataclass(frozen=True)
class Field:
    """A compiled field. `source` is "" for the row, or where else the value comes from, with `detail` (a NAME)."""

    name: str
    plan: FieldPlan
    expressions: tuple[Expression, ...]
    source: str
    detail: str
    stages: Stages
    then: tuple[Expression, ...] = ()

    @property
    def by_route(self) -> bool:
        return self.source in ROUTE_SOURCES


@dataclass(frozen=True)
class Next:
    """How a listing goes on: the plan's words, with its expressions compiled."""

    plan: NextPlan
    at: tuple[Expression, ...]
    send: tuple[tuple[str, tuple[Expression, ...]], ...]
    more: tuple[Expression, ...]
    stop: tuple[Expression, ...]


@dataclass(frozen=True)
class OpenLink:
    """Which links lead to pages of the kind `target`."""

    target: str
    expressions: tuple[Expression, ...]
    in_rows: bool
    only: re.Pattern[str] | None
    skip: re.Pattern[str] | None
    hosts: frozenset[str]


@dataclass(frozen=True)
class Kind:
    """A compiled page kind. `table` is the table that its rows go to, `completes` tells that they complete others."""

    name: str
    parse: Parse | None
    expect: tuple[Expression, ...]
    empty: tuple[Expression, ...]
    rows: tuple[Expression, ...]
    table: str | None
    completes: bool
    fields: tuple[Field, ...]
    total: Field | None
    next: Next | None
    open: tuple[OpenLink, ...]

    @property
    def is_leaf(self) -> bool:
        """Whether such a page leads nowhere."""
        return self.next is None and not self.open

    @property
    def reads(self) -> set[str]:
        """The kinds of documents that the page's own expressions read: "tree", "json", "any"."""
        own = [*self.expect, *self.empty, *self.rows]
        own += [e for f in self.fields if f.source in ("", "page") for e in f.expressions]
        return {expression.reads for expression in own}

    @property
    def columns(self) -> tuple[str, ...]:
        return tuple(field.name for field in self.fields)


def compile_kinds(plan: Plan, *, this_year: int) -> dict[str, Kind]:
    """Every page kind of a plan that lint found right, by name."""
    return {name: _kind(plan, name, page, this_year) for name, page in plan.page.items()}


def compile_field(name: str, field: FieldPlan, this_year: int) -> Field:
    """A field with its expressions and stages."""
    source, _, detail = (field.source or "").partition(".")
    return Field(
        name,
        field,
        _compiled(field.at),
        source,
        detail,
        Stages(recipe_of(field, this_year=this_year)),
        _compiled(field.then),
    )


def _kind(plan: Plan, name: str, page: PagePlan, this_year: int) -> Kind:
    return Kind(
        name=name,
        parse=page.parse,
        expect=_compiled(page.expect),
        empty=_compiled(page.empty),
        rows=_compiled(page.rows),
        table=page.table or page.completes,
        completes=page.completes is not None,
        fields=tuple(compile_field(column, field, this_year) for column, field in page.fields.items()),
        total=_total(page.total, this_year),
        next=_next(page),
        open=tuple(_open(plan, page, target, link) for target, link in page.open.items()),
    )


def _compiled(expressions: list[str] | None) -> tuple[Expression, ...]:
    return tuple(compile_expression(text) for text in expressions or ())


def _total(field: FieldPlan | None, this_year: int) -> Field | None:
    """The stated total: an integer whatever the plan says or leaves out."""
    return compile_field("total", field.model_copy(update={"type": "integer"}), this_year) if field else None


def _next(page: PagePlan) -> Next | None:
    if page.next is None:
        return None
    at = page.next.at or (["a"] if page.next.text else None)
    send = tuple((name, _compiled(expressions)) for name, expressions in page.next.send.items())
    return Next(page.next, _compiled(at), send, _compiled(page.next.more), _compiled(page.next.stop))


def _open(plan: Plan, page: PagePlan, target: str, link: OpenPlan) -> OpenLink:
    in_rows = opens_from_row(plan, page, target)
    return OpenLink(
        target, _compiled(link.at), in_rows, _patterns(link.only), _patterns(link.skip), frozenset(link.hosts)
    )


def _patterns(patterns: list[str]) -> re.Pattern[str] | None:
    """One expression for all patterns of `*` and `?`; None when there is none."""
    return re.compile("|".join(fnmatch.translate(pattern) for pattern in patterns)) if patterns else None
