"""A run's crawl put together: client, session, log-in, archive, journal and engine, made of what the plan says."""

from __future__ import annotations

import asyncio
import gc
import os
import random
import signal
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from wadi.about import VERSION
from wadi.crawl.earlier import Earlier
from wadi.crawl.engine import PATIENCE_S, End, Engine, Limits, Patience, Room, Task
from wadi.crawl.events import Adopted, Event, LoggedIn, Stopping
from wadi.crawl.helpers import Helpers
from wadi.crawl.journal import Journal
from wadi.crawl.kinds import compile_kinds
from wadi.crawl.login import Login, LoginFailed, log_in
from wadi.crawl.reader import Reader
from wadi.crawl.settle import Reading
from wadi.page.refresh import refresh_of
from wadi.plan.columns import table_plan, tables_of
from wadi.plan.fields import compiled
from wadi.plan.local import is_of_files
from wadi.plan.model import LoginPlan, RouteSecret
from wadi.plan.parts import asks_of
from wadi.plan.reader import LoadedPlan, parse_plan
from wadi.plan.starts import fixed_inputs, folders_of, parts_of, starts_of
from wadi.problems import CrawlError, Place, Problem, UsageError
from wadi.store.archive import Archive, Location, read_reply, recovered
from wadi.store.folder import LOG, PAGES, PLAN, RunLock
from wadi.store.looked import LookedAt
from wadi.store.outcome import State
from wadi.urls import host_of, resolve
from wadi.web.client import Client, user_agent
from wadi.web.local import LocalTransport
from wadi.web.manners import Pace, Throttle
from wadi.web.messages import Reply, Request
from wadi.web.parameters import expanded, filled
from wadi.web.retry import Retrying
from wadi.web.robots import by_status, origin_of, read_robots, word_for
from wadi.web.routed import NamedTransport, RoutedTransport
from wadi.web.routes import BadRoute, Routes, checked
from wadi.web.secrets import Secrets, basic, bearer, mark_of
from wadi.web.session import BadSession, Session, read_cookies, read_saved_request
from wadi.web.transport import Bounds, HttpTransport, Transport

if TYPE_CHECKING:
    from wadi.runs import Run

_COLLECTED_AFTER = 50_000
_PAUSING = 16
"""How many requests may wait for the pauses of their hosts for each one in flight."""
_HELPED_BELOW_S = 0.005
"""Longest pause with which pages of one host may come faster than one processor reads them."""
_HELPED_FROM = 200
"""The same of many hosts: requests a second that their pauses allow."""
Ask = Callable[[str, bool], str]
"""Asks a person: the question, and whether the answer is a secret."""


@dataclass(frozen=True)
class Credentials:
    """Who logs in, and the secrets of the plan's inputs, by input. Kept in memory alone."""

    user: str = ""
    password: str = field(default="", repr=False)
    token: str = field(default="", repr=False)
    secrets: Mapping[str, str] = field(default_factory=dict, repr=False)


async def crawl(
    run: Run,
    report: Callable[[Event], None],
    credentials: Credentials | None = None,
    helpers: Helpers | None = None,
    stop_within_s: float = PATIENCE_S,
) -> End:
    """Crawl a run from where it stands to its end. Raises CrawlError, UsageError; RunError when it is in use.

    Ctrl-C (or SIGTERM) once takes what is in flight and comes within `stop_within_s`, and ends; twice ends at once.
    """
    session = session_of(run.loaded, run.plan_folder)
    credentials = credentials or credentials_of(run.loaded)
    lock = RunLock(run.folder)
    lock.take()
    journal = Journal(run.folder / LOG)
    began = time.monotonic()

    log_ins = 0

    def tell(event: Event) -> None:
        nonlocal log_ins
        log_ins += isinstance(event, LoggedIn)
        journal(event)
        report(event)

    plan_folder = Path(str(run.state.meta("folder") or run.folder))
    client = client_of(run.loaded, tell, session, credentials, folder=plan_folder)
    earlier = Earlier(run.since) if run.since is not None else None
    for host in run.state.hosts_asked():  # who knows how long ago the last process asked it
        client.asked_before(host, run.loaded.plan.manners.pause)
    try:
        left = list(recovered(run.folder / PAGES, run.state.archive_ends()))
        archive = Archive(run.folder / PAGES, software=f"Wadi/{VERSION}", known=run.state.payload)
        client.keep = archive.append
        try:
            task = replace(task_of(run, credentials), earlier=earlier, helpers=helpers)
            engine = Engine(task, run.state, archive, client, tell)
            if taken := adopt(engine, run, left):
                tell(Adopted(taken))
            with stopped_by_signals(engine, tell, stop_within_s), fewer_collections():
                return await engine.crawl()
        finally:
            archive.close()
    finally:
        slowed = [asdict(one) for one in client.slowed()]
        unchanged = earlier.unchanged if earlier is not None else None
        spent = {
            "unchanged": unchanged,
            "log_ins": log_ins,
            "requests": client.sent,
            "seconds": round(time.monotonic() - began, 1),
            "slowed": slowed,
        }
        run.state.set_meta("spent", spent)
        await client.close()
        if helpers is not None:
            helpers.close()
        if earlier is not None:
            earlier.close()
        journal.close()
        lock.release()


def adopt(engine: Engine, run: Run, left: Iterable[tuple[int, Location]]) -> int:
    """Take replies that were archived and not committed; returns how many were taken."""
    taken = 0
    for number, location in left:
        page = run.state.page(number)
        if page is not None and page.state is State.WAITING:
            engine.adopt(page, replace(read_reply(run.folder / PAGES, location), request=page.request), location)
            taken += 1
    return taken


@contextmanager
def stopped_by_signals(engine: Engine, tell: Callable[[Event], None], within_s: float) -> Iterator[None]:
    """While it lasts, the first SIGINT or SIGTERM stops the engine softly, the second cancels the crawl."""
    loop, crawling = asyncio.get_running_loop(), asyncio.current_task()
    count = 0

    def stop() -> None:
        nonlocal count
        count += 1
        if count > 1 and crawling is not None:
            crawling.cancel()
        elif count == 1:
            tell(Stopping(engine.in_flight))
            engine.stop(within_s)

    signals = [signal.SIGINT, signal.SIGTERM]
    try:
        for one in signals:
            loop.add_signal_handler(one, stop)
    except (ValueError, RuntimeError, NotImplementedError):  # not the main thread: a notebook stops it its own way
        signals = []
    try:
        yield
    except asyncio.CancelledError:
        if count < 2:
            raise
        raise KeyboardInterrupt from None
    finally:
        for one in signals:
            loop.remove_signal_handler(one)


@contextmanager
def fewer_collections() -> Iterator[None]:
    """While it lasts, the collector of cycles looks seldom: pages make hundreds of thousands of small values and hardly a cycle.

    What is loaded by now is not looked at again at all. Together that is a tenth of a crawl's time (docs/performance.md).
    """
    before = gc.get_threshold()
    gc.freeze()
    gc.set_threshold(_COLLECTED_AFTER, *before[1:])
    try:
        yield
    finally:
        gc.set_threshold(*before)
        gc.unfreeze()


class Site:
    """A plan's site for rehearsals: one page after the other, replies of today from the cache, one session for all.

    Pages behind a log-in are not kept. Use `close` at the end.
    """

    def __init__(
        self, loaded: LoadedPlan, cache: LookedAt, *, fresh: bool = False, credentials: Credentials | None = None
    ) -> None:
        self._loaded = loaded
        manners = loaded.plan.manners
        own = (
            cache.asked_so(repr((manners.headers, manners.language))) if manners.headers or manners.language else cache
        )
        self._cache = own if loaded.plan.login is None and not loaded.secrets else None
        self._credentials = credentials
        self._fresh = fresh
        self._login = login_of(loaded, credentials)
        self._pool = ThreadPoolExecutor(1)
        self._runner = asyncio.Runner()
        self._client: Client | None = None

    def close(self) -> None:
        self._pool.submit(self._end).result()
        self._pool.shutdown()

    def delay_s(self, url: str) -> float:
        """The pause that robots.txt asks for at the host of a URL: of today, without a further request."""
        if self._loaded.plan.manners.ignore_robots or self._cache is None:
            return 0.0
        kept = self._cache.find(Request(f"{origin_of(url)}/robots.txt"))
        found = word_for(by_status(kept[0].status) or read_robots(kept[0].body), url, "wadi") if kept else None
        return found.crawl_delay_s or 0.0 if found else 0.0

    def _keep_robots(self, reply: Reply) -> None:
        if self._cache is not None and reply.request.url.endswith("/robots.txt"):
            self._cache.keep(reply.request, reply)

    def _end(self) -> None:
        if self._client is not None:
            self._runner.run(self._client.close())
        self._runner.close()

    def reply(self, request: Request) -> tuple[Reply, bool]:
        """The reply to a request, and whether it comes from the cache. Raises FetchFailed, CrawlError."""
        kept = self._cache.find(request) if self._cache is not None and not self._fresh else None
        if kept is not None and kept[0].status < 400:
            return replace(kept[0], request=request), True
        # In a thread of its own, so that it works inside a running event loop (a notebook's) as well.
        reply = self._pool.submit(lambda: self._runner.run(self._fetched(request))).result()
        if self._cache is not None:
            self._cache.keep(request, reply)
        return reply, False

    async def _fetched(self, request: Request) -> Reply:
        if self._client is None:
            session = session_of(self._loaded, self._loaded.folder)
            known = self._credentials or credentials_of(self._loaded)
            self._client = client_of(self._loaded, lambda event: None, session, known, retries=1)
            self._client.keep = self._keep_robots
            if self._login is not None:
                try:
                    await log_in(self._client, self._login)
                except LoginFailed as error:
                    raise CrawlError(error.problem) from error
        return await self._client.fetch(request)


def reading_of(run: Run) -> Reading:
    """How the run's replies are read."""
    loaded, plan = run.loaded, run.loaded.plan
    return Reading(
        kinds=compile_kinds(plan, this_year=run.year, functions=loaded.functions),
        folder=run.folder,
        expect_places=expect_places_of(loaded),
        keys={table: table_plan(plan, table).key for table in tables_of(plan)},
        most_shown=plan.start.most if plan.start.split else None,
        parts=lambda url, values: parts_of(plan, url, values),
    )


def reader_arguments(run: Run) -> tuple[str, dict[str, Any], int]:
    """What `reader_of` makes a reader from, in another process."""
    return str(run.folder), dict(run.loaded.inputs), run.year


def reader_of(folder: str, inputs: dict[str, Any], year: int) -> Reader:
    """What reads a run's pages, made from its folder."""
    path = Path(folder) / PLAN
    loaded = parse_plan(path.read_text("utf-8"), str(path), inputs)
    return Reader(
        Path(folder) / PAGES,
        compile_kinds(loaded.plan, this_year=year, functions=loaded.functions),
        expect_places_of(loaded),
    )


def expect_places_of(loaded: LoadedPlan) -> dict[str, str]:
    """Where the plan says what each kind of page must have."""
    return {name: loaded.place("page", name, "expect") for name, kind in loaded.plan.page.items() if kind.expect}


def helpers_of(run: Run) -> Helpers | None:
    """Processes that read pages, where the plan's pace and this machine are such that they are of use."""
    processors = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    pause = run.loaded.plan.manners.pause
    is_fast = pause <= _HELPED_BELOW_S or len(run.state.queue.hosts()) / pause >= _HELPED_FROM
    return Helpers(reader_of, reader_arguments(run), processors) if is_fast and processors > 1 else None


@contextmanager
def helping(run: Run) -> Iterator[Helpers | None]:
    """Helpers while a run is crawled, where they are of use. To be used outside the crawl's event loop."""
    helpers = helpers_of(run)
    try:
        if helpers is not None:
            gc.freeze()  # what is shared with them is not written to by the collector
            helpers.fork()
        yield helpers
    finally:
        if helpers is not None:
            helpers.end()
            gc.unfreeze()


def task_of(run: Run, credentials: Credentials | None = None) -> Task:
    """What the engine works on."""
    loaded, plan = run.loaded, run.loaded.plan
    reading = reading_of(run)
    said, manners = plan.limits, plan.manners
    before = run.state.meta("before_limits") or {}  # what earlier sittings, which a limit had ended, asked for
    pages = said.pages and said.pages + before.get("pages", 0)
    size = said.bytes and said.bytes + before.get("bytes", 0)
    limits = Limits(pages, said.depth, said.time, size, said.requests)
    # Where hosts have pauses, many wait for each that is asked: their requests are under way and take nobody's place. A run
    # that is to end early asks for no more than it has to.
    is_limited = any(most is not None for most in (said.rows, said.pages, said.bytes, said.requests))
    waiting_for_each = _PAUSING if manners.pause > 0 and not is_limited else 1
    room = Room(manners.parallel, manners.total * waiting_for_each, manners.hours)
    patience = Patience(4 * manners.first_wait, manners.rest, min(2, manners.retries))
    return Task(reading, room, limits, patience, run.enough_rows(), login_of(loaded, credentials))


def client_of(
    loaded: LoadedPlan,
    report: Callable[[Event], None],
    session: Session | None,
    credentials: Credentials | None = None,
    *,
    retries: int | None = None,
    folder: Path | None = None,
) -> Client:
    """The client with the manners of the plan; local files that it begins with are looked for in `folder` (default: the
    plan's)."""
    manners, limits = loaded.plan.manners, loaded.plan.limits
    bounds = Bounds(manners.connect_within, manners.answer_within, manners.whole_within, limits.page_size)
    identity = user_agent(manners.contact)
    own = {name: str(filled(text, fixed_inputs(loaded.plan.inputs))) for name, text in manners.headers.items()}
    secrets = secrets_of(loaded, credentials)
    headers = (*own.items(), *((("Accept-Language", manners.language),) if manners.language else ()))

    def transport_by(route: str | None) -> HttpTransport:
        return HttpTransport(
            bounds=bounds, identity=identity, session=session, secrets=secrets, headers=headers, route=route
        )

    transport = _routed(loaded, transport_by, report)
    if any(is_of_files(address) for address in loaded.plan.start.addresses):
        roots = folders_of(loaded.plan, folder or loaded.folder)
        transport = LocalTransport(roots, transport, limits.page_size)
    pace = Pace(manners.pause, manners.parallel, manners.total, manners.jitter, manners.slowest)
    throttle = Throttle(pace, clock=time.monotonic, sleep=asyncio.sleep, report=report)
    policy = Retrying(
        manners.retries if retries is None else min(retries, manners.retries),
        manners.first_wait,
        manners.longest_wait,
        manners.retry_post,
    )
    agent = None if manners.ignore_robots else "wadi"
    return Client(transport, throttle, policy, report=report, robots_agent=agent, rng=random.random, sent_on=refresh_of)


def _routed(
    loaded: LoadedPlan, transport_by: Callable[[str | None], HttpTransport], report: Callable[[Event], None]
) -> Transport:
    """What sends the plan's requests: straight, by proxies in turn, or by those that the requests name."""
    if named := named_routes_of(loaded):
        return NamedTransport(named, {name: transport_by(route) for name, route in named.items()}, report=report)
    addresses, by = routes_of(loaded), loaded.plan.manners.route_by
    if not addresses:
        return transport_by(None)
    each = [transport_by(route) for route in addresses]
    return RoutedTransport(addresses, each, Routes(len(addresses), by), clock=time.monotonic, report=report)


def secrets_of(loaded: LoadedPlan, credentials: Credentials | None) -> Secrets:
    """The secrets of a plan's requests, and the hosts that may have them: those of its start addresses, and for secrets of inputs
    those of addresses that it makes, too."""
    if credentials is None or not (loaded.secrets or (loaded.plan.login and loaded.plan.login.scheme)):
        return Secrets()
    plan = loaded.plan
    starts = frozenset(start.request.host for start in starts_of(plan))
    fixed = fixed_inputs(plan.inputs)
    made = [expanded(asking.address, fixed) for _, _, asking in asks_of(plan) if asking.address]
    hosts = starts | {host_of(one) for one in made if one.startswith(("http://", "https://"))}
    values = {mark_of(name): value for name, value in credentials.secrets.items()}
    scheme = plan.login.scheme if plan.login else None
    if scheme is None:
        return Secrets(values, hosts)
    field = bearer(credentials.token) if scheme == "bearer" else basic(credentials.user, credentials.password)
    return Secrets(values, hosts, field, starts)


def named_routes_of(loaded: LoadedPlan) -> dict[str, str]:
    """The plan's proxies by name, where they have names. Raises UsageError."""
    routes, login = loaded.plan.manners.routes, loaded.plan.login
    if not isinstance(routes, dict):
        return {}
    if login is not None and login.address is not None and len(routes) > 1:
        what = "a session is of one route, and the plan has several"
        raise UsageError(Problem("bad-route", what, now="--route NAME  chooses one"))
    return {name: _route(name, one) for name, one in routes.items()}


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
        own = manners.routes if isinstance(manners.routes, list) else []
        return [checked(route) for route in [*own, *named.split()]]
    except BadRoute as error:
        raise UsageError(Problem("bad-route", str(error))) from error


def login_of(loaded: LoadedPlan, credentials: Credentials | None) -> Login | None:
    """The log-in by a form, if the plan has one. Raises CrawlError without credentials."""
    plan = loaded.plan.login
    if plan is None or plan.address is None:
        return None
    known = credentials or credentials_of(loaded)
    assert known is not None
    return Login(_login_url(loaded), known.user, known.password, compiled(plan.form), plan.values, compiled(plan.check))


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
    path = folder / (plan.cookies or plan.request or "")
    try:
        text = path.read_text("utf-8", "replace")
        return read_cookies(text, now()) if plan.cookies else read_saved_request(text)
    except FileNotFoundError as error:
        raise UsageError(Problem("no-such-file", "no such file", Place(str(path)))) from error
    except OSError as error:
        raise UsageError(Problem("not-readable", f"cannot be read: {error.strerror}", Place(str(path)))) from error
    except BadSession as error:
        raise UsageError(
            Problem("bad-session", f"no session can be taken from it: {error}", Place(str(path)))
        ) from error
