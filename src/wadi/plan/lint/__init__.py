"""What is wrong with a plan whose shape is right: expressions, patterns, steps, and who opens or yields what.

Each rule is a function that yields its findings with their paths; a new one is a function and a line in RULES.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from wadi.plan.lint.browser import browsers
from wadi.plan.lint.checks import checks
from wadi.plan.lint.fields import calls, expressions, field_settings, kinds
from wadi.plan.lint.pages import asks, links, nexts
from wadi.plan.lint.secrets import secrets
from wadi.plan.lint.starts import addresses, field_inputs, login, manners, splits, steps_inputs, unused_inputs
from wadi.plan.lint.tables import double_columns, file_names, lists, tables_rule
from wadi.plan.model import Plan
from wadi.plan.text import Finding, PlanText

Rule = Callable[[Plan, PlanText], Iterator[Finding]]


def findings(plan: Plan, text: PlanText, given: set[str]) -> list[Finding]:
    """Everything that the rules find; `given` are the inputs that came from outside the plan."""
    found = [finding for rule in RULES for finding in rule(plan, text)]
    return [*found, *unused_inputs(plan, text, given)]


RULES: tuple[Rule, ...] = (
    expressions,
    kinds,
    calls,
    field_settings,
    nexts,
    links,
    asks,
    tables_rule,
    lists,
    file_names,
    double_columns,
    checks,
    addresses,
    splits,
    manners,
    login,
    secrets,
    field_inputs,
    steps_inputs,
    browsers,
)
