"""Findings about where the crawl begins: addresses, inputs, splitting, log-ins."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator

from wadi.plan.local import is_of_files
from wadi.plan.model import BrowserPlan, Plan, RouteSecret
from wadi.plan.parts import asks_of, fields_of
from wadi.plan.positions import Path
from wadi.plan.starts import (
    combinations,
    fixed_inputs,
    how_many,
    is_set,
    noting,
    templates_of,
    used_in,
    variables_of,
)
from wadi.plan.text import Finding, PlanText
from wadi.problems import nearest
from wadi.urls import NotAUrl, resolve
from wadi.web.hours import hours_of
from wadi.web.parameters import expanded, names_in
from wadi.web.routes import BadRoute, checked

MOST_STARTS = 1_000_000
LOOKED_AT = 10_000
"""So many addresses are looked at whenever a plan is read: the rest by `wadi lint`, and when a run begins."""


def addresses(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """Where the crawl begins: templates that cannot be filled, too many starts, no URLs."""
    start: Path = ("start",)
    if not templates_of(plan):
        now = 'addresses = "https://…",  sitemap = "…"  or  feed = "…"'
        yield start, text.problem("missing-key", start, "nothing says where the crawl begins", key=True, now=now)
    if bool(plan.start.values) and plan.start.post is None:
        at: Path = ("start", "values")
        yield (
            at,
            text.problem("both-keys", at, "values go into the body of a POST", key=True, now='post = "form" or "json"'),
        )
    if plan.start.null and plan.start.post != "json":
        at = ("start", "null")
        now = 'post = "json"  has a body of JSON'
        yield at, text.problem("both-keys", at, "null means nothing here", key=True, now=now)
    for key in ("addresses", "sitemap", "feed"):
        for index, address in enumerate(getattr(plan.start, key)):
            yield from _address(plan, ("start", key, index), address, text)


def _address(plan: Plan, path: Path, address: str, text: PlanText) -> Iterator[Finding]:
    try:
        used = variables_of(address)
    except ValueError as error:
        yield path, text.problem("bad-template", path, f"URI Template: {error}")
        return
    unset = sorted(name for name in used if not is_set(plan.inputs, name))
    if unset:
        yield from (_unset(text, path, name, plan, inside=address.find(name)) for name in unset)
        return
    count = how_many(plan.inputs, used_in(plan, address) - set(plan.start.split))
    if count > MOST_STARTS:
        what = f"the inputs make {count:,} addresses, more than {MOST_STARTS:,}"
        now = "run the plan for some values at a time:  --input NAME=VALUE"
        yield path, text.problem("too-many-starts", path, what, now=now)
        return
    yield from _wrong_addresses(path, text, itertools.islice(_filled(plan, address), LOOKED_AT))


def every_address(plan: Plan, text: PlanText, noted: Callable[[int], None] = lambda count: None) -> Iterator[Finding]:
    """What is wrong with any of the addresses, however many they are; `noted` hears how many were looked at."""
    for key in ("addresses", "sitemap", "feed"):
        for index, address in enumerate(getattr(plan.start, key)):
            yield from _wrong_addresses(("start", key, index), text, noting(_filled(plan, address), noted))


def _wrong_addresses(path: Path, text: PlanText, coming: Iterator[str]) -> Iterator[Finding]:
    """The first of the addresses, filled in, that is no URL."""
    for url in coming:
        try:
            resolve("", url)
        except NotAUrl as error:
            yield path, text.problem("bad-url", path, f'"{url}" is no URL to begin with: {error}')
            return


def _filled(plan: Plan, address: str) -> Iterator[str]:
    """An address with every combination of the inputs that it uses."""
    if is_of_files(address):
        return
    for values in combinations(plan.inputs, used_in(plan, address) - set(plan.start.split)):
        yield expanded(address, values)


def splits(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """Inputs by which listings that are too long are split."""
    start = plan.start
    if not start.split:
        return
    path: Path = ("start", "split")
    kind = plan.page.get(start.page)
    if start.most is None:
        yield path, text.problem("missing-key", path, "most says how many rows the site shows of a listing", key=True)
    if kind is not None and kind.total is None:
        what = f'to split a listing its stated total is needed: page "{start.page}" has none'
        yield path, text.problem("missing-key", path, what, key=True, now='total = { at = "…" }')
    for index, name in enumerate(start.split):
        at = (*path, index)
        if not isinstance(plan.inputs.get(name), list | str | int | float):
            yield at, text.problem("unset-input", at, f'no input "{name}" has a list of values to split by')
        elif not any(name in used_in(plan, address) for address in start.addresses):
            yield at, text.problem("unused-input", at, f'no address uses "{name}"', now=f"{{?{name}}} in an address")


def manners(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """Hours that are none, proxies that are none or have a log-in in the plan, header fields that name no input."""
    for field, value in plan.manners.headers.items():
        for name in sorted(names_in(value)):
            if name not in fixed_inputs(plan.inputs):
                yield _unset(text, ("manners", "headers", field), name, plan)
    routes = plan.manners.routes
    named: list[tuple[str | int, str | RouteSecret]] = (
        list(routes.items()) if isinstance(routes, dict) else list(enumerate(routes))
    )
    for key, route in named:
        at: Path = ("manners", "routes", key)
        if isinstance(route, RouteSecret):
            continue
        try:
            checked(route)
        except BadRoute as error:
            yield at, text.problem("bad-route", at, str(error))
        if "@" in route:
            now = (
                f'{key} = {{ secret_from = "NAME" }} takes it from the environment variable NAME'
                if isinstance(routes, dict)
                else 'routes_from = "NAME" takes proxies with their log-ins from the environment variable NAME'
            )
            what = "a proxy's log-in does not belong in a plan"
            yield at, text.problem("secret-in-plan", at, what, now=now, shows_line=False)
    if plan.manners.hours is not None:
        path: Path = ("manners", "hours")
        try:
            hours_of(plan.manners.hours)
        except ValueError as error:
            yield path, text.problem("wrong-value", path, f'"{plan.manners.hours}": {error}')


def login(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """How the run logs in: one way, with nothing secret in the plan."""
    said = plan.login
    if said is None:
        return
    path: Path = ("login",)
    ways = [key for key in ("address", "scheme", "cookies", "request") if getattr(said, key)]
    if len(ways) != 1:
        what = f"one way to log in is wanted, not {' and '.join(ways)}" if ways else "login does not say how"
        now = 'address = "…" of the form, scheme = "basic" or "bearer", cookies = "file", or request = "file"'
        yield path, text.problem("both-keys" if ways else "missing-key", path, what, key=True, now=now)
    if said.address is not None:
        yield from _address(plan, ("login", "address"), said.address, text)
    if said.do:
        others = [key for key in ("form", "values") if getattr(said, key)] + ([] if said.address else ["no address"])
        if others:
            what = f"do is done in a browser on the page at address, and there is {' and '.join(others)}"
            yield (*path, "do"), text.problem("both-keys", (*path, "do"), what, key=True)
    wants = {"basic": ("user_from", "password_from"), "bearer": ("token_from",)}
    allowed = wants[said.scheme] if said.scheme else ("user_from", "password_from") if said.address else ()
    for key in ("user_from", "password_from", "token_from"):
        if getattr(said, key) and key not in allowed:
            at = (*path, key)
            yield at, text.problem("both-keys", at, f"{key} does not go with this way to log in", key=True)


def done_in(browser: BrowserPlan) -> list[str]:
    """Every sentence of what is done in a browser."""
    return [*browser.do, *browser.per_row, *([browser.next] if browser.next else [])]


def steps_inputs(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """What steps in a browser name: inputs; those with several values on the start pages alone, since they make the starts."""
    for name, page in plan.page.items():
        for key in ("do", "per_row"):
            for place, sentence in enumerate(getattr(page.browser, key) if page.browser else ()):
                path: Path = ("page", name, "browser", key, place)
                for used in sorted(names_in(sentence)):
                    if not is_set(plan.inputs, used):
                        yield _unset(text, path, used, plan)
                    elif used not in fixed_inputs(plan.inputs) and name != plan.start.page:
                        what = f'input "{used}" has several values, which the steps of start pages alone can take'
                        yield path, text.problem("wrong-value", path, what)
    for place, sentence in enumerate(plan.login.do if plan.login else ()):
        for used in sorted(names_in(sentence) - {"user", "password"}):
            if used not in fixed_inputs(plan.inputs):
                yield _unset(text, ("login", "do", place), used, plan)


def field_inputs(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """Inputs that fields name and nothing sets, and inputs that would be made of others."""
    for name, value in plan.inputs.items():
        for used in sorted(names_in(value)) if isinstance(value, str | list) else ():
            if used.partition(".")[0] in plan.inputs:
                path: Path = ("inputs", name)
                whose = "itself" if used == name else f'"{used}"'
                what = f'input "{name}" is made of {whose}: inputs stand for themselves'
                yield path, text.problem("wrong-value", path, what, now="put both into the address:  {+site}/{+path}")
    for page, kind in plan.page.items():
        for path, field, _ in fields_of(page, kind):
            source, _, name = (field.source or "").partition(".")
            if source == "input" and name and not is_set(plan.inputs, name):
                yield _unset(text, (*path, "from"), name, plan)


def _input_names(plan: Plan) -> list[str]:
    """What addresses and fields can name: inputs, and the columns of those that are rows."""
    names: list[str] = []
    for name, value in plan.inputs.items():
        rows = isinstance(value, list) and value and isinstance(value[0], dict)
        names += [f"{name}.{column}" for column in value[0]] if rows else [name]  # type: ignore[index, union-attr]
    return names


def _unset(text: PlanText, path: Path, name: str, plan: Plan, inside: int | None = None) -> Finding:
    near = nearest(name, _input_names(plan))
    hint = f'did you mean "{near}"?' if near else f"[inputs] {name} = …  or  --input {name}=…"
    return path, text.problem("unset-input", path, f'nothing sets the input "{name}"', now=hint, inside=inside)


def unused_inputs(plan: Plan, text: PlanText, given: set[str]) -> Iterator[Finding]:
    """Inputs that nothing uses; `given` are those from the command line."""
    used: set[str] = set(plan.start.split)
    try:
        for _, template in templates_of(plan):
            used |= used_in(plan, template)
        for _, _, asking in asks_of(plan):
            used |= names_in(asking.values) | names_in(asking.headers)
            used |= variables_of(asking.address) if asking.address else set()
        used |= variables_of(plan.login.address) if plan.login and plan.login.address else set()
        used |= names_in(dict(plan.manners.headers))
        used |= {name for page in plan.page.values() if page.browser for name in names_in(done_in(page.browser))}
        used |= names_in(plan.login.do) if plan.login else set()
    except ValueError:
        return
    for page, kind in plan.page.items():
        used |= {(field.source or "").partition(".")[2] for _, field, _ in fields_of(page, kind)}
    used = {name.partition(".")[0] for name in used}
    for name in plan.inputs:
        if name in used:
            continue
        path = ("inputs", name)
        near = nearest(name, used)
        if near is not None and near not in plan.inputs:
            continue  # that one is named as not set: one slip is one mistake
        hint = f'did you mean "{near}"?' if near else f"write it into an address:  {{{name}}}"
        from_outside = f'--input {name}: the plan has no input "{name}"'
        what = from_outside if name in given else f'nothing uses the input "{name}"'
        yield path, text.problem("unused-input", path, what, key=True, now=hint)
