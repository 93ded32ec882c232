"""What the words of a plan make: its client, proxies, session, log-in, secrets. It needs the plan alone."""

from __future__ import annotations

import asyncio
import itertools
import os
import random
import time
from collections.abc import Callable, Mapping, MutableMapping
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from wadi.crawl.events import Event
from wadi.crawl.kinds import LOGIN_PASSWORD, LOGIN_USER, login_rendering
from wadi.crawl.login import Login
from wadi.page.refresh import refresh_of
from wadi.plan.beside import NotBeside, read_beside
from wadi.plan.fields import compiled
from wadi.plan.local import NoSuchFiles, is_of_files
from wadi.plan.model import LoginPlan, RouteSecret
from wadi.plan.parts import asks_of
from wadi.plan.reader import LoadedPlan
from wadi.plan.starts import fixed_inputs, folders_of, starts_of
from wadi.problems import CrawlError, Place, Problem, UsageError
from wadi.urls import host_of, resolve
from wadi.web.client import Client, Keep, KeptRobots, user_agent
from wadi.web.hosts import Pace
from wadi.web.local import LocalTransport
from wadi.web.manners import Throttle
from wadi.web.parameters import expanded, filled
from wadi.web.private import AddressGuard, is_private
from wadi.web.retry import Retrying
from wadi.web.routed import NamedTransport, RoutedTransport
from wadi.web.routes import BadRoute, Routes, checked
from wadi.web.secrets import Secrets, basic, bearer, mark_of
from wadi.web.session import BadSession, Session, read_cookies, read_saved_request
from wadi.web.transport import Bounds, HttpTransport, Transport

if TYPE_CHECKING:
    from wadi.web.browser import Browser

Ask = Callable[[str, bool], str]
"""Asks a person: the question, and whether the answer is a secret."""


@dataclass(frozen=True)
class Credentials:
    """Who logs in, and the secrets of the plan's inputs, by input. Kept in memory alone."""

    user: str = ""
    password: str = field(default="", repr=False)
    token: str = field(default="", repr=False)
    secrets: Mapping[str, str] = field(default_factory=dict, repr=False)


def client_of(
    loaded: LoadedPlan,
    report: Callable[[Event], None],
    session: Session | None,
    credentials: Credentials | None = None,
    *,
    retries: int | None = None,
    folder: Path | None = None,
    keep: Keep = lambda reply: None,
    may_ask: Callable[[str], bool] = lambda host: True,
    robots_kept: MutableMapping[str, KeptRobots] | None = None,
) -> Client:
    """The client with the manners of the plan; local files that it begins with are looked for in `folder` (default: the
    plan's). `keep` takes replies that are not those of pages; redirects to hosts that it `may_ask` not are not followed.
    `robots_kept` are robots.txt files of an earlier sitting."""
    manners = loaded.plan.manners
    pace = Pace(manners.pause, manners.parallel, manners.total, manners.jitter, manners.slowest)
    most_retries = manners.retries if retries is None else min(retries, manners.retries)
    return Client(
        _transport_of(loaded, report, session, credentials, folder or loaded.folder),
        Throttle(pace, clock=time.monotonic, sleep=asyncio.sleep, report=report),
        Retrying(most_retries, manners.first_wait, manners.longest_wait, manners.retry_post),
        report=report,
        robots_agent=None if manners.ignore_robots else "wadi",
        rng=random.random,
        sent_on=refresh_of,
        keep=keep,
        may_ask=may_ask,
        robots_kept=robots_kept,
    )


def _transport_of(
    loaded: LoadedPlan,
    report: Callable[[Event], None],
    session: Session | None,
    credentials: Credentials | None,
    folder: Path,
) -> Transport:
    """What sends requests: by the plan's routes, through a browser where it wants one, and to files where it begins with some."""
    manners, most_bytes = loaded.plan.manners, loaded.plan.limits.page_size
    identity = user_agent(manners.contact)
    said = {name: str(filled(text, fixed_inputs(loaded.plan.inputs))) for name, text in manners.headers.items()}
    headers = (*said.items(), *((("Accept-Language", manners.language),) if manners.language else ()))
    secrets = secrets_of(loaded, credentials)
    named = _named_hosts(loaded, folder)
    guard = AddressGuard(named, manners.private or any(map(is_private, named)))
    browser = _browser_of(loaded, identity)
    plainly = partial(
        HttpTransport,
        bounds=Bounds(manners.connect_within, manners.answer_within, manners.whole_within, most_bytes),
        identity=identity,
        session=session,
        secrets=secrets,
        headers=headers,
        guard=guard,
        certificates=certificates_of(loaded, folder),
    )

    def transport_by(route: str | None) -> Transport:
        plain = plainly(route=route)
        if browser is None:
            return plain
        # What shows pages in a browser, beside what sends the others.
        from wadi.web.rendered import RenderingTransport

        return RenderingTransport(
            browser, plain, route=route or "", headers=headers, most_bytes=most_bytes, guard=guard, secrets=secrets
        )

    transport = _routed(loaded, transport_by, report)
    if not any(is_of_files(address) for address in loaded.plan.start.addresses):
        return transport
    return LocalTransport(folders_of(loaded.plan, folder), transport, most_bytes)


def _browser_of(loaded: LoadedPlan, identity: str) -> Browser | None:
    """The browser of a plan that wants one."""
    plan = loaded.plan
    kinds = [page.browser for page in plan.page.values() if page.browser is not None]
    if not kinds and not (plan.login is not None and plan.login.do):
        return None
    from wadi.web.browser import Browser

    pictures = any(kind.pictures for kind in kinds)
    return Browser(agent=identity, driver=plan.manners.driver, parallel=plan.manners.parallel, pictures=pictures)


_MOST_NAMED = 1000


def _named_hosts(loaded: LoadedPlan, folder: Path) -> frozenset[str]:
    """The hosts that the plan itself names: those of its first starts, and where it logs in."""
    try:
        urls = [start.request.url for start in itertools.islice(starts_of(loaded.plan, folder), _MOST_NAMED)]
    except (NoSuchFiles, ValueError):
        urls = []
    if loaded.plan.login is not None and loaded.plan.login.address:
        urls.append(str(filled(loaded.plan.login.address, fixed_inputs(loaded.plan.inputs))))
    return frozenset((urlsplit(url).hostname or "").casefold() for url in urls)


def _routed(
    loaded: LoadedPlan, transport_by: Callable[[str | None], Transport], report: Callable[[Event], None]
) -> Transport:
    """What sends the plan's requests: straight, by proxies in turn, or by those that the requests name."""
    if named := named_routes_of(loaded):
        return NamedTransport(named, {name: transport_by(route) for name, route in named.items()}, report=report)
    addresses, by = routes_of(loaded), loaded.plan.manners.route_by
    if not addresses:
        return transport_by(None)
    each = [transport_by(route) for route in addresses]
    return RoutedTransport(addresses, each, Routes(len(addresses), by), clock=time.monotonic, report=report)


def named_routes_of(loaded: LoadedPlan) -> dict[str, str]:
    """The plan's proxies by name, where they have names. Raises UsageError."""
    routes, login = loaded.plan.manners.routes, loaded.plan.login
    if not isinstance(routes, dict):
        return {}
    if login is not None and login.address is not None and len(routes) > 1:
        what = "a session is of one route, and the plan has several"
        raise UsageError(Problem("bad-route", what, now="--route NAME  chooses one"))
    return {name: _route(name, said) for name, said in routes.items()}


def _route(name: str, said: str | RouteSecret) -> str:
    address = os.environ.get(said.secret_from, "") if isinstance(said, RouteSecret) else said
    try:
        return checked(address)
    except BadRoute as error:
        where = f"the environment variable {said.secret_from}" if isinstance(said, RouteSecret) else "the plan"
        raise UsageError(Problem("bad-route", f'route "{name}" of {where}: {error}')) from error


def routes_of(loaded: LoadedPlan) -> list[str]:
    """The proxies of the plan that are used in turn, and those of the environment variable that it names. Raises UsageError."""
    manners = loaded.plan.manners
    named = os.environ.get(manners.routes_from, "") if manners.routes_from else ""
    if manners.routes_from and not named.split():
        what = f"the environment variable {manners.routes_from} names no proxies"
        raise UsageError(Problem("bad-route", what, now=f"{manners.routes_from}='http://HOST:PORT socks5://HOST:PORT'"))
    try:
        listed_routes = manners.routes if isinstance(manners.routes, list) else []
        return [checked(route) for route in [*listed_routes, *named.split()]]
    except BadRoute as error:
        raise UsageError(Problem("bad-route", str(error))) from error


def secrets_of(loaded: LoadedPlan, credentials: Credentials | None) -> Secrets:
    """The secrets of a plan's requests, and the hosts that may have them: those of its start addresses, and for secrets of inputs
    those of addresses that it makes, too."""
    plan = loaded.plan
    login = plan.login
    if credentials is None or not (loaded.secrets or (login and (login.scheme or login.do))):
        return Secrets()
    starts = frozenset(start.request.host for start in starts_of(plan))
    fixed = fixed_inputs(plan.inputs)
    made = [expanded(asking.address, fixed) for _, _, asking in asks_of(plan) if asking.address]
    hosts = starts | {host_of(url) for url in made if url.startswith(("http://", "https://"))}
    values = {mark_of(name): value for name, value in credentials.secrets.items()}
    if login is not None and login.do:
        hosts |= {host_of(_login_url(loaded))}
        values |= {mark_of(LOGIN_USER): credentials.user, mark_of(LOGIN_PASSWORD): credentials.password}
    scheme = login.scheme if login else None
    if scheme is None:
        return Secrets(values, hosts)
    field = bearer(credentials.token) if scheme == "bearer" else basic(credentials.user, credentials.password)
    return Secrets(values, hosts, field, starts)


def login_of(loaded: LoadedPlan, credentials: Credentials | None) -> Login | None:
    """The log-in by a form, if the plan has one. Raises CrawlError without credentials."""
    plan = loaded.plan.login
    if plan is None or plan.address is None:
        return None
    known = credentials or credentials_of(loaded)
    assert known is not None
    rendering = login_rendering(loaded.plan) if plan.do else None
    return Login(
        _login_url(loaded),
        known.user,
        known.password,
        compiled(plan.form),
        plan.values,
        compiled(plan.check),
        rendering,
    )


def _login_url(loaded: LoadedPlan) -> str:
    address = loaded.plan.login.address if loaded.plan.login else None
    return resolve("", expanded(address or "", fixed_inputs(loaded.plan.inputs)))


def credentials_of(loaded: LoadedPlan, ask: Ask | None = None) -> Credentials | None:
    """What the plan's log-in and its secret inputs need, from the environment, else asked for; None where it needs nothing.

    To be called before an event loop runs or a display is shown. Raises CrawlError.
    """
    plan = loaded.plan.login
    secrets = {name: _credential(f'secret "{name}"', variable, "", ask) for name, variable in loaded.secrets.items()}
    if plan is None or not (plan.address or plan.scheme):
        return Credentials(secrets=secrets) if secrets else None
    first = next(starts_of(loaded.plan), None)
    where = _login_url(loaded) if plan.address else first.request.host if first is not None else ""
    if plan.scheme == "bearer":
        return Credentials(token=_credential("token", plan.token_from, where, ask, "token_from"), secrets=secrets)
    user = _credential("user name", plan.user_from, where, ask, "user_from")
    return Credentials(user, _credential("password", plan.password_from, where, ask, "password_from"), secrets=secrets)


def _credential(what: str, variable: str | None, where: str, ask: Ask | None, key: str = "") -> str:
    value = os.environ.get(variable) if variable else None
    if value:
        return value
    if ask is not None:
        return ask(f"{what} for {where}" if where else what, what != "user name")
    named = (
        f"the environment variable {variable} is not set" if variable else f"login.{key} names no environment variable"
    )
    raise CrawlError(
        Problem("no-credentials", f"no {what} to log in with: {named}, and there is no terminal to ask at")
    )


def session_of(loaded: LoadedPlan, folder: Path, now: Callable[[], float] = time.time) -> Session | None:
    """The session from the file that the plan names, which stands in `folder`. Raises UsageError."""
    plan: LoginPlan | None = loaded.plan.login
    if plan is None or not (plan.cookies or plan.request):
        return None
    name = str(plan.cookies or plan.request)
    text = _text_beside(folder, name, "bad-session")
    try:
        return read_cookies(text, now()) if plan.cookies else read_saved_request(text)
    except BadSession as error:
        what = f"no session can be taken from it: {error}"
        raise UsageError(Problem("bad-session", what, Place(str(folder / name)))) from error


def certificates_of(loaded: LoadedPlan, folder: Path) -> str:
    """The certificates that the plan trusts besides those of the machine, in PEM; empty for none. Raises UsageError."""
    if (name := loaded.plan.manners.certificates) is None:
        return ""
    import ssl

    text = _text_beside(folder, name, "bad-certificates")
    try:
        ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT).load_verify_locations(cadata=text)
    except (ssl.SSLError, ValueError) as error:
        what = "it holds no certificates in PEM"
        raise UsageError(Problem("bad-certificates", what, Place(str(folder / name)))) from error
    return text


def _text_beside(folder: Path, name: str, code: str) -> str:
    """What a file that the plan names holds. Raises UsageError, with `code` for a file that a plan may not name."""
    place = Place(str(folder / name))
    try:
        return read_beside(folder, name).decode("utf-8", "replace")
    except NotBeside as error:
        raise UsageError(Problem(code, str(error), place)) from error
    except FileNotFoundError as error:
        raise UsageError(Problem("no-such-file", "no such file", place)) from error
    except OSError as error:
        raise UsageError(Problem("not-readable", f"cannot be read: {error.strerror}", place)) from error
