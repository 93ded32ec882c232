"""Walks over a plan's parts: its fields and expressions with their paths, and which links are a row's."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from wadi.plan.model import AskPlan, FieldPlan, NextPlan, OpenPlan, PagePlan, PartOf, Plan
from wadi.plan.positions import Path

_PICKING = ("at", "source", "under", "label", "within", "inside", "then", "attr", "property", "take", "many", "split")
"""The keys by which a field picks, which its parts have from it."""


def fields_of(page: str, kind: PagePlan) -> Iterator[tuple[Path, FieldPlan, bool]]:
    """Every field of a page kind with its path, and whether it is relative to a row."""
    for name, field in kind.fields.items():
        yield ("page", page, "fields", *_steps(name, field)), field, kind.rows is not None
    for inner, child in kind.lists.items():
        for name, field in child.fields.items():
            yield ("page", page, "lists", inner, "fields", *_steps(name, field)), field, True
    if kind.total is not None:
        yield ("page", page, "total"), kind.total, False
    if kind.next is not None:
        yield from _sent(("page", page, "next"), kind.next)
        for name, field in kind.next.remember.items():
            yield ("page", page, "next", "remember", name), field, False
        if kind.next.end_page is not None:
            yield ("page", page, "next", "end_page"), kind.next.end_page, False
    for target, link in kind.open.items():
        yield from _sent(("page", page, "open", target), link)


def _steps(name: str, field: FieldPlan) -> tuple[str, ...]:
    """Where a field of this name is written: a part stands in the field that it is a part of."""
    return (field.parent, "parts", name) if isinstance(field, PartOf) else (name,)


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
            if isinstance(field, PartOf):
                path = path[:-2]
            if field.at:
                yield (*path, "at"), field.at, relative and field.source is None
            if field.within:
                yield (*path, "within"), field.within, relative
            if field.then:
                yield (*path, "then"), field.then, False
        if kind.next is not None:
            for key in ("at", "end_unless", "end_at"):
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
    for key in ("where", "within", "form"):
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


def with_parts(plan: Plan) -> Plan:
    """The plan with every part of a field as a field of its own."""
    pages = {}
    for name, page in plan.page.items():
        lists = {
            inner: child.model_copy(update={"fields": _expanded(child.fields)}) for inner, child in page.lists.items()
        }
        pages[name] = page.model_copy(update={"fields": _expanded(page.fields), "lists": lists})
    return plan.model_copy(update={"page": pages})


def with_calls(plan: Plan) -> Plan:
    """The plan with what a page kind in Python leaves out: where its fields, links and next page stand in what its function
    gives."""
    pages = {name: page if page.call is None else _of_call(plan, page) for name, page in plan.page.items()}
    return plan.model_copy(update={"page": pages})


def row_key(name: str) -> list[str]:
    """The expression for a key of a row that a function gives."""
    return [f"$['{name}']"]


def _of_call(plan: Plan, page: PagePlan) -> PagePlan:
    rows = page.rows or (None if page.completes else ["$.rows[*]"])
    read = page.model_copy(update={"rows": rows})
    links = {}
    for target, link in page.open.items():
        at = row_key(target) if opens_from_row(plan, read, target) else [f"$.links['{target}'][*]"]
        links[target] = (
            link if link.at or link.form or link.address or link.send else link.model_copy(update={"at": at})
        )
    update: dict[str, object] = {
        "fields": {
            name: _by_key(name, field, "$.rows[0]" if page.completes else "$") for name, field in page.fields.items()
        },
        "lists": {
            name: child.model_copy(update={"fields": {key: _by_key(key, field) for key, field in child.fields.items()}})
            for name, child in page.lists.items()
        },
        "open": links,
    }
    if not page.completes:  # such a page is one row, and no listing
        update["next"] = page.next or NextPlan(at=["$.next"])
        update["total"] = page.total or FieldPlan(at=["$.total"])
    return read.model_copy(update=update)


def _by_key(name: str, field: FieldPlan, of: str = "$") -> FieldPlan:
    """A field that says nothing of where its value is has that of the row's key with its name."""
    if field.at or field.source or field.under or field.label:
        return field
    return field.model_copy(update={"at": [f"{of}['{name}']"]})


def _expanded(fields: Mapping[str, FieldPlan]) -> dict[str, FieldPlan]:
    found: dict[str, FieldPlan] = {}
    for name, field in fields.items():
        if not field.parts or field.whole:
            found[name] = field
        for part, own in field.parts.items():
            picking = {key: getattr(field, key) for key in _PICKING}
            set_here = {key: getattr(own, key) for key in own.model_fields_set}
            values = {**picking, "locale": field.locale, "missing": field.missing, **set_here, "of": own.of or part}
            found[part] = PartOf.model_construct(parent=name, origin=field, **values)
    return found
