"""Findings about pages that a browser shows."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from zoneinfo import available_timezones

from wadi.page.expressions import BadExpression, for_browser
from wadi.plan.model import BrowserPlan, InputSecret, PagePlan, Plan
from wadi.plan.parts import fields_of
from wadi.plan.positions import Path
from wadi.plan.text import Finding, PlanText
from wadi.web.parameters import names_in
from wadi.web.rendering import GOING_ON, BadStep, Step, step_of
from wadi.web.secrets import mark_of


def browsers(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """Steps are sentences that can be read; a browser shows HTML."""
    for name, page in plan.page.items():
        if page.browser is None:
            continue
        path: Path = ("page", name, "browser")
        yield from _steps((*path, "do"), page.browser.do, text)
        yield from _steps((*path, "per_row"), page.browser.per_row, text, in_row=True)
        yield from _going_on(path, page, page.browser, text)
        found = (("wait", page.browser.wait), ("gone", page.browser.gone))
        for key, expressions in found:
            for place, expression in enumerate(expressions or ()):
                yield from _expression((*path, key, place), expression, text)
        if page.browser.zone and page.browser.zone not in available_timezones():
            at = (*path, "zone")
            yield at, text.problem("wrong-value", at, f'"{page.browser.zone}" is no time zone', now="Europe/London")
        if page.parse not in (None, "html"):
            what = f"a browser shows pages of HTML, and this kind is read as {page.parse}"
            yield path, text.problem("both-keys", path, what, key=True)
        if (why := _apart(plan)) is not None:
            what = f"a browser takes no part in {why}: it would send it to every host that a page asks"
            now = "the JSON behind the page, if there is one:  wadi inspect PAGE --rendered"
            yield path, text.problem("both-keys", path, what, key=True, now=now)
    if plan.login is not None:
        yield from _steps(("login", "do"), plan.login.do, text, allows_run=False)
    for name, page in plan.page.items():
        for path, field, _ in fields_of(name, page):
            if field.property is not None and page.browser is None:
                what = "scripts see properties, and this kind of page is not shown by a browser"
                yield (*path, "property"), text.problem("missing-key", (*path, "property"), what, now="browser = true")


def _going_on(path: Path, page: PagePlan, browser: BrowserPlan, text: PlanText) -> Iterator[Finding]:
    """What is done in rows and with them needs rows that a browser finds."""
    steps = [step for sentence in browser.do if (step := _read(sentence)) is not None]
    wants = [
        *(["per_row"] if browser.per_row else []),
        *(["do"] if any(step.count is not None for step in steps) else []),
        *(["next"] if browser.next and not browser.data_from else []),
    ]
    for key in wants:
        if not page.rows:
            what = f"{key} is about the rows of the page, and this kind has no rows"
            yield path, text.problem("missing-key", (*path, key), what, key=True, now="rows = …")
    for place, expression in enumerate(page.rows or () if wants else ()):
        yield from _expression((*path[:-1], "rows", place), expression, text)
    if browser.next is not None:
        yield from _steps((*path, "next"), [browser.next], text, verbs=GOING_ON)
    if browser.next is not None and page.next is not None:
        what = "the listing goes on by links or requests (next), or in the same page (browser.next), not by both"
        yield path, text.problem("both-keys", (*path, "next"), what, key=True)
    if browser.data_sent and not browser.data_from:
        what = "data_sent says which of the replies that data_from names"
        yield path, text.problem("missing-key", (*path, "data_sent"), what, key=True, now='data_from = "*/graphql"')
    run = {step.arguments[0] for step in steps if step.verb == "run"}
    for pattern in browser.data_from:
        script = pattern.removeprefix("script:")
        if script != pattern and script not in run:
            what = f'no step of do runs "{script}"'
            yield path, text.problem("missing-key", (*path, "data_from"), what, now=f'do = ["run {script}"]')


def _read(sentence: str) -> Step | None:
    try:
        return step_of(sentence)
    except BadStep:
        return None


def _steps(
    path: Path,
    sentences: list[str],
    text: PlanText,
    *,
    in_row: bool = False,
    allows_run: bool = True,
    verbs: Sequence[str] = (),
) -> Iterator[Finding]:
    for place, sentence in enumerate(sentences):
        at = path if verbs else (*path, place)
        try:
            step = step_of(sentence, in_row=in_row)
        except BadStep as error:
            yield at, text.problem("bad-step", at, error.what, now=error.now)
            continue
        if (verbs and step.verb not in verbs) or (step.verb == "run" and not allows_run):
            now = f"steps there: {', '.join(verbs)}" if verbs else ""
            yield at, text.problem("bad-step", at, f"{step.verb} is not done here", now=now)
        if step.expression is not None:
            yield from _expression(at, step.expression, text)


def _expression(path: Path, expression: str, text: PlanText) -> Iterator[Finding]:
    try:
        for_browser(expression)
    except BadExpression as error:
        yield path, text.problem("bad-expression", path, error.what)


def _apart(plan: Plan) -> str | None:
    """What of a plan a browser has no part in."""
    if plan.login is not None and plan.login.scheme is not None:
        return f"a log-in by {plan.login.scheme}"
    secret = {name for name, value in plan.inputs.items() if value == mark_of(name) or isinstance(value, InputSecret)}
    if names_in(dict(plan.manners.headers)) & secret:
        return "header fields with secrets"
    return None
