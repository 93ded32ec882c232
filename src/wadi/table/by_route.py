"""Fields whose values come from the way by which a page was reached: filled in when tables are put together."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from wadi.clean.stages import Stages, Unread
from wadi.clean.types import Where
from wadi.plan.columns import columns, fields_giving, recipe_of
from wadi.plan.model import FieldPlan, Plan
from wadi.store.order import Visit
from wadi.table.finish import Means


@dataclass(frozen=True)
class RouteField:
    """A field whose value comes from the way by which a page was reached."""

    plan: FieldPlan
    source: str
    detail: str
    stages: Stages

    def value(self, visit: Visit) -> Any:
        text = visit.text if self.source == "link" else visit.inputs.get(self.detail)
        if text is None:
            return self.plan.default
        value = self.stages.value_of(str(text), Where())
        return self.plan.default if value is None else None if isinstance(value, Unread) else value


def by_route(plan: Plan, table: str, means: Means) -> dict[str, dict[str, RouteField]]:
    """Page kind → column → the fields that are filled in by route."""
    found: dict[str, dict[str, RouteField]] = {}
    for column in columns(plan, table):
        for page, plan_field in fields_giving(plan, table, column.name):
            source, _, detail = (plan_field.source or "").partition(".")
            if source in ("link", "input"):
                stages = Stages(recipe_of(plan_field, this_year=means.this_year, functions=means.functions))
                found.setdefault(page, {})[column.name] = RouteField(plan_field, source, detail, stages)
    return found
