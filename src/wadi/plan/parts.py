"""Walks over a plan's parts: its fields and expressions with their paths, and which links are a row's."""

from __future__ import annotations

from collections.abc import Iterator

from wadi.plan.model import AskPlan, FieldPlan, OpenPlan, PagePlan, Plan
from wadi.plan.positions import Path


def fields_of(page: str, kind: PagePlan) -> Iterator[tuple[Path, FieldPlan, bool]]:
    """Every field of a page kind with its path, and whether it is relative to a row."""
    for name, field in kind.fields.items():
        yield ("page", page, "fields", name), field, kind.rows is not None
    for one, child in kind.lists.items():
        for name, field in child.fields.items():
            yield ("page", page, "lists", one, "fields", name), field, True
    if kind.total is not None:
        yield ("page", page, "total"), kind.total, False
    if kind.next is not None:
        yield from _sent(("page", page, "next"), kind.next)
        for name, field in kind.next.keep.items():
            yield ("page", page, "next", "keep", name), field, False
        if kind.next.last is not None:
            yield ("page", page, "next", "last"), kind.next.last, False
    for target, link in kind.open.items():
        yield from _sent(("page", page, "open", target), link)


def _sent(path: Path, asking: AskPlan) -> Iterator[tuple[Path, FieldPlan, bool]]:
    for name, field in asking.send.items():
        yield (*path, "send", name), field, False


def asks_of(plan: Plan) -> Iterator[tuple[Path, str, AskPlan]]:
    """Everything that makes requests from a page: path, page kind, plan."""
    for page, kind in plan.page.items():
        if kind.next is not None:
            yield ("page", page, "next"), page, kind.next
        for target, link in kind.open.items():
            yield ("page", page, "open", target), page, link


def expressions_of(plan: Plan) -> Iterator[tuple[Path, list[str], bool]]:
    """Every expression of a plan with its path, and whether it is relative to a row."""
    for page, kind in plan.page.items():
        for key in ("expect", "empty", "rows"):
            expressions = getattr(kind, key)
            if expressions:
                yield ("page", page, key), expressions, False
        for name, child in kind.lists.items():
            yield ("page", page, "lists", name, "rows"), child.rows, kind.rows is not None
        for path, field, relative in fields_of(page, kind):
            if field.at:
                yield (*path, "at"), field.at, relative and field.source is None
            if field.then:
                yield (*path, "then"), field.then, False
        if kind.next is not None:
            for key in ("at", "more", "stop"):
                if getattr(kind.next, key):
                    yield ("page", page, "next", key), getattr(kind.next, key), False
        for target, link in kind.open.items():
            yield from _of_link(plan, page, kind, target, link)
    for key in ("form", "check", "lost"):
        if plan.login is not None and getattr(plan.login, key):
            yield ("login", key), getattr(plan.login, key), False


def _of_link(
    plan: Plan, page: str, kind: PagePlan, target: str, link: OpenPlan
) -> Iterator[tuple[Path, list[str], bool]]:
    path: Path = ("page", page, "open", target)
    in_row = opens_from_row(plan, kind, target)
    for key in ("within", "form"):
        if getattr(link, key):
            yield (*path, key), getattr(link, key), in_row
    if link.at:
        yield (*path, "at"), link.at, in_row and link.within is None


def opens_from_row(plan: Plan, kind: PagePlan, target: str) -> bool:
    """Whether the links to `target` are searched in each row: said by `scope`, else when the target completes the row."""
    link = kind.open[target]
    if kind.rows is None:
        return False
    completes = target in plan.page and plan.page[target].completes is not None
    return link.scope == "row" or (link.scope is None and completes and plan.page[target].completes == kind.table)
