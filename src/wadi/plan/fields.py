"""Fields of a plan compiled: expressions and stages made ready, so that `page.cells` reads them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from wadi.clean.output import output_of
from wadi.clean.stages import Stages
from wadi.page.expressions import Expression, compile_expression
from wadi.page.field import Field
from wadi.plan.code import Function
from wadi.plan.columns import recipe_of
from wadi.plan.model import MISSING_TEXTS, FieldPlan
from wadi.web.rendering import property_attribute


def compile_field(name: str, plan: FieldPlan, this_year: int, functions: Mapping[str, Function] | None = None) -> Field:
    """A field with its expressions and stages. Raises BadExpression, BadSetting."""
    source, _, detail = (plan.source or "").partition(".")
    at, then = compiled(plan.at), compiled(plan.then)
    usual = ("",) if _is_verbatim(plan, then or at) else MISSING_TEXTS
    return Field(
        name=name,
        stages=Stages(recipe_of(plan, this_year=this_year, functions=functions, usual_missing=usual)),
        expressions=at,
        source=source,
        detail=detail,
        under=plan.under,
        label=tuple(plan.label),
        within=compiled(plan.within),
        inside=plan.inside,
        then=then,
        attr=property_attribute(plan.property) if plan.property is not None else plan.attr,
        takes=plan.take or "",
        many=plan.many,
        split=plan.split,
        join=plan.join,
        default=plan.default,
        distinct=plan.distinct,
        in_order=plan.in_order,
        output=output_of(plan.output, plan.locale) if plan.output is not None else None,
    )


def _is_verbatim(plan: FieldPlan, last: tuple[Expression, ...]) -> bool:
    """Whether the texts of a field are values as they stand, so that a dash or "n/a" is one, too."""
    if plan.type != "string" or plan.take not in (None, "verbatim"):
        return False
    return plan.take == "verbatim" or (bool(last) and all(expression.language == "json" for expression in last))


def compiled(expressions: list[str] | None) -> tuple[Expression, ...]:
    """Expressions ready for use."""
    return tuple(compile_expression(text) for text in expressions or ())


def field_of(expression: str | None, keys: dict[str, Any], this_year: int) -> tuple[str, Field]:
    """A field as a plan has it, made from an expression and its other keys, and what it is called.

    Raises BadExpression, BadSetting, or pydantic's ValidationError.
    """
    plan = FieldPlan.model_validate({**({"at": [expression]} if expression is not None else {}), **keys})
    elsewhere = [f"{key} {said}" for key in ("from", "label", "under") for said in _listed(keys.get(key))]
    return expression or ", ".join(elsewhere), compile_field("value", plan, this_year)


def _listed(said: Any) -> list[Any]:
    return said if isinstance(said, list) else [] if said is None else [said]
