"""Findings about secrets that would be written down: in the plan's text, or with the run."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from wadi.plan.model import InputValue, NextPlan, Plan
from wadi.plan.parts import asks_of, fields_of
from wadi.plan.positions import Path
from wadi.plan.text import Finding, PlanText
from wadi.web.parameters import names_in
from wadi.web.secrets import mark_of

SECRET_FIELD = re.compile(
    r"(?:proxy-)?authorization|cookie|x-auth|x-auth-.*|.*(?:token|api-?key|secret|password)(?![a-z]).*", re.IGNORECASE
)
"""Header fields that carry credentials."""
_OF_THE_PAGE = re.compile(r".*(?:csrf|xsrf).*", re.IGNORECASE)
SECRET_NAME = re.compile(
    r".*(?:password|passwd|secret|api[-_]?key|access[-_]?token|auth[-_]?token)(?![a-z]).*", re.IGNORECASE
)
"""Parameters and inputs that are named like a secret."""
_IN_QUERY = re.compile(
    r"[?&;](?P<name>[\w.-]*(?:password|passwd|secret|api[-_]?key|access[-_]?token|auth[-_]?token)(?![a-z])[\w.-]*)"
    r"=(?!\{)[^&;#]+",
    re.IGNORECASE,
)
_USER_INFO = re.compile(r"^\s*https?://[^/?#\s]*@", re.IGNORECASE)


def secrets(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """What is secret comes from the environment or the terminal, never from the plan's text or an open input."""
    yield from _addresses(plan, text)
    yield from _inputs(plan, text)
    yield from _header_fields(plan, text)
    yield from _values(plan, text)
    for page, kind in plan.page.items():
        for path, field, _ in fields_of(page, kind):
            name = (field.source or "").removeprefix("input.")
            if name in plan.inputs and plan.inputs[name] == mark_of(name):
                at = (*path, "from")
                yield _finding(text, at, f'input "{name}" is a secret, and no column')


def _finding(text: PlanText, path: Path, what: str, now: str = "") -> Finding:
    """A finding that does not show the line that it is about: the secret stands there."""
    return path, text.problem("secret-in-plan", path, what, now=now, shows_line=False)


def _from_environment(name: str) -> str:
    return f'{name} = {{ secret_from = "VARIABLE" }} takes it from the environment, and {{{name}}} stands here'


def _addresses(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """Addresses with user and password, or with a key among their parameters."""
    start = plan.start
    said: list[tuple[Path, str]] = [
        (("start", key, place), url)
        for key in ("addresses", "sitemap", "feed")
        for place, url in enumerate(getattr(start, key))
    ]
    said += [((*path, "address"), asking.address) for path, _, asking in asks_of(plan) if asking.address]
    if plan.login is not None and plan.login.address:
        said.append((("login", "address"), plan.login.address))
    for path, address in said:
        if _USER_INFO.match(address):
            yield _finding(text, path, "an address does not hold user and password", _LOGIN)
        for found in _IN_QUERY.finditer(address):
            name = found["name"]
            what = f'"{name}" in the address looks like a secret, which a plan does not hold'
            yield _finding(text, path, what, _from_environment(re.sub(r"\W", "_", name)))


_LOGIN = (
    '[login] scheme = "basic", user_from = "VARIABLE", password_from = "VARIABLE" sends them to every page of the host'
)


def _inputs(plan: Plan, text: PlanText) -> Iterator[Finding]:
    for name, value in plan.inputs.items():
        path: Path = ("inputs", name)
        if any(_USER_INFO.match(written) for written in _texts(value)):
            what = f'input "{name}" is an address with user and password, which would be written down with the run'
            yield _finding(text, path, what, _LOGIN)
        elif SECRET_NAME.fullmatch(name) and value != mark_of(name) and any(_texts(value)):
            what = f'input "{name}" looks like a secret, and would be written down with the run'
            now = f'{name} = {{ secret_from = "VARIABLE" }} takes it from the environment'
            yield _finding(text, path, what, now)


def _texts(value: InputValue) -> list[str]:
    if isinstance(value, list):
        return [str(cell) for row in value for cell in (row.values() if isinstance(row, dict) else [row])]
    return [value] if isinstance(value, str) else []


def _header_fields(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """Header fields that carry credentials: filled by a secret, or by what a page says."""
    said: list[tuple[Path, str, str, set[str]]] = []
    for part in ("start", "manners"):
        fields: dict[str, str] = getattr(plan, part).headers
        said += [((part, "headers", name), name, value, set()) for name, value in fields.items()]
    for path, _, asking in asks_of(plan):
        picked = set(asking.send) | (set(asking.remember) if isinstance(asking, NextPlan) else set())
        said += [((*path, "headers", name), name, value, picked) for name, value in asking.headers.items()]
    for path, field, value, picked in said:
        if not SECRET_FIELD.fullmatch(field) or _OF_THE_PAGE.fullmatch(field) or not value.strip():
            continue
        names = names_in(value)
        if not names:
            what = f'the header field "{field}" carries a secret, which a plan does not hold'
            yield _finding(text, path, what, _from_environment("token"))
        for name in sorted(names - picked):
            if name in plan.inputs and plan.inputs[name] != mark_of(name):
                what = f'the header field "{field}" carries a secret, and input "{name}" would be written down with the run'
                yield _finding(
                    text, path, what, f'{name} = {{ secret_from = "VARIABLE" }} takes it from the environment'
                )


def _values(plan: Plan, text: PlanText) -> Iterator[Finding]:
    said: list[tuple[Path, dict[str, Any]]] = [(("start", "values"), plan.start.values)]
    said += [((*path, "values"), asking.values) for path, _, asking in asks_of(plan)]
    said += [(("login", "values"), dict(plan.login.values))] if plan.login is not None else []
    for path, values in said:
        for name, value in values.items():
            if SECRET_NAME.fullmatch(name) and isinstance(value, str) and value and not names_in(value):
                what = f'"{name}" looks like a secret, which a plan does not hold'
                now = _from_environment(re.sub(r"\W", "_", name))
                if path[0] == "login":
                    now = 'password_from = "NAME" takes it from the environment variable NAME'
                yield _finding(text, (*path, name), what, now)
