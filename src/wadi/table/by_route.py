"""Fields whose values come from the way by which a page was reached, or from what came of it: read when tables are
put together."""

from __future__ import annotations

from typing import Any

from wadi.clean.types import Where
from wadi.page.cells import ROUTE_SOURCES, Field, Notes, Source, cell
from wadi.plan.columns import columns_of, fields_giving
from wadi.plan.fields import compile_field
from wadi.plan.model import Plan
from wadi.store.order import Visit
from wadi.store.outcome import as_stored
from wadi.store.view import RunView
from wadi.table.derived import TableContext


def fields_by_route(plan: Plan, table: str, context: TableContext) -> dict[str, dict[str, Field]]:
    """Page kind → column → the fields that are filled in by route."""
    found: dict[str, dict[str, Field]] = {}
    for column in columns_of(plan, table):
        for page, plan_field in fields_giving(plan, table, column):
            if (plan_field.source or "").partition(".")[0] in ROUTE_SOURCES:
                spec = compile_field(column, plan_field, context.this_year, context.functions)
                found.setdefault(page, {})[column] = spec
    return found


def value_by_route(spec: Field, visit: Visit, notes: Notes, state: RunView) -> Any:
    """The value that a field has on all rows of a page that was reached so, as the run keeps values."""
    return as_stored(cell(spec, None, source_of_visit(visit, spec, state), notes))


def source_of_visit(visit: Visit, spec: Field, state: RunView) -> Source:
    """What a field by route is read from."""
    status = state.status_of(visit.page) if spec.source == "status" else None
    way = state.way_of(visit.page) if spec.source == "route" else ""
    return Source(None, Where(), link=visit.text, inputs=visit.inputs, status=status, route=way)
