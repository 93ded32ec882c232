"""Findings about pages that a browser shows."""

from __future__ import annotations

from collections.abc import Iterator
from zoneinfo import available_timezones

from wadi.page.expressions import BadExpression, for_browser
from wadi.plan.model import InputSecret, Plan
from wadi.plan.positions import Path
from wadi.plan.text import Finding, PlanText
from wadi.web.rendering import BadStep, step_of


def browsers(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """Steps are sentences that can be read; a browser shows HTML, with a session and a way of its own."""
    for name, page in plan.page.items():
        if page.browser is None:
            continue
        path: Path = ("page", name, "browser")
        yield from _steps((*path, "do"), page.browser.do, text)
        yield from _steps((*path, "per_row"), page.browser.per_row, text, in_row=True)
        if page.browser.per_row and not page.rows:
            what = "per_row is done inside the rows of the page, and this kind has no rows"
            yield path, text.problem("missing-key", (*path, "per_row"), what, key=True, now="rows = …")
        found = (("wait", page.browser.wait), ("gone", page.browser.gone))
        for key, expressions in found:
            for place, expression in enumerate(expressions or ()):
                yield from _expression((*path, key, place), expression, text)
        for place, expression in enumerate(page.rows or () if page.browser.per_row else ()):
            yield from _expression(("page", name, "rows", place), expression, text)
        if page.browser.zone and page.browser.zone not in available_timezones():
            at = (*path, "zone")
            yield at, text.problem("wrong-value", at, f'"{page.browser.zone}" is no time zone', now="Europe/London")
        if page.parse not in (None, "html"):
            what = f"a browser shows pages of HTML, and this kind is read as {page.parse}"
            yield path, text.problem("both-keys", path, what, key=True)
        if (why := _apart(plan)) is not None:
            what = f"a browser takes no part in {why}"
            now = "the JSON behind the page, if there is one:  wadi inspect PAGE --rendered"
            yield path, text.problem("both-keys", path, what, key=True, now=now)


def _steps(path: Path, sentences: list[str], text: PlanText, *, in_row: bool = False) -> Iterator[Finding]:
    for place, sentence in enumerate(sentences):
        at = (*path, place)
        try:
            step = step_of(sentence, in_row=in_row)
        except BadStep as error:
            yield at, text.problem("bad-step", at, error.what, now=error.now)
        else:
            if step.expression is not None:
                yield from _expression(at, step.expression, text)


def _expression(path: Path, expression: str, text: PlanText) -> Iterator[Finding]:
    try:
        for_browser(expression)
    except BadExpression as error:
        yield path, text.problem("bad-expression", path, error.what)


def _apart(plan: Plan) -> str | None:
    """What of a plan a browser has no part in."""
    manners = plan.manners
    if plan.login is not None:
        return "a log-in"
    if manners.routes or manners.routes_from:
        return "routes by proxies"
    if any(isinstance(value, InputSecret) for value in plan.inputs.values()):
        return "secrets"
    return None
