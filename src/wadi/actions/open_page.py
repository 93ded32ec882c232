"""Single pages, opened from wherever they stand: a URL, a file, standard input, a stored page of a run.

`PAGE` is one string for all of these. A URL's reply is kept for the day, so that looking again asks no site again.
"""

from __future__ import annotations

import asyncio
import mimetypes
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from html import escape
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar
from urllib.parse import urlsplit

from wadi.crawl.page_view import Page, field_of
from wadi.page.document import NotADocument, Parse, read_document
from wadi.plan.starts import route_names, starts_of
from wadi.problems import CrawlError, Place, Problem, UsageError, shortened
from wadi.store.page_cache import PageCache, cache_folder
from wadi.urls import NotAUrl, normalised, resolve, without_secret
from wadi.web.client import user_agent
from wadi.web.loops import in_loop
from wadi.web.messages import FetchFailed, Reply, Request
from wadi.web.robots import refusal
from wadi.web.secrets import Secrets, for_url

if TYPE_CHECKING:
    import pandas as pd

    from wadi.actions.setup import Credentials
    from wadi.plan.reader import LoadedPlan
    from wadi.web.client import Client
    from wadi.web.robots import RobotsVerdict

SIZE_LIMIT_BYTES = 20_000_000
"""What is looked at in one piece: a tree takes about thirty times the memory of its page."""


_FROM_SITE, _FROM_CACHE = "the site", "today's cache"


@dataclass(frozen=True, repr=False)
class OpenedPage(Page):
    """A page with its reply. `age_s` is None for what was fetched, read or taken just now. `source` says where it was."""

    source: str = ""
    age_s: float | None = None
    view: ClassVar[Callable[[OpenedPage], str] | None] = None

    def _repr_html_(self) -> str:
        """The page in a notebook: what it is, and what repeats on it where somebody looked (`wadi.open_page`)."""
        view = type(self).view
        return f"<p>{escape(repr(self))}</p>" + (view(self) if view is not None else "")

    @property
    def from_web(self) -> bool:
        """Whether the page was asked for at its site, today: not a file and not a stored page of a run."""
        return self.source in (_FROM_SITE, _FROM_CACHE)

    def rows(self, rows: str, **fields: str | dict[str, Any]) -> pd.DataFrame:
        """The rows that an expression picks as a DataFrame. Each keyword is a column: an expression, or a field as a plan has
        it (a dict of its keys). Cells are what a run would make of them; what cannot be read is missing.

        Raises UsageError for an expression or a field that means nothing.
        """
        from wadi.plan.columns import Column
        from wadi.table.frame import frame

        cells = [list(record.values()) for record in self.records(rows, **fields)]
        typed = ((name, field_of(name, said)) for name, said in fields.items())
        columns = [
            Column(name, field.stages.recipe.setting.type, field.many and field.join is None, None, False, ())
            for name, field in typed
        ]
        return frame(columns, cells)


def open_page(
    page: str,
    *,
    fresh: bool = False,
    parse: Parse | None = None,
    runs: str | Path = "runs",
    cache: PageCache | None = None,
    stdin: Callable[[], bytes] = lambda: sys.stdin.buffer.read(SIZE_LIMIT_BYTES + 1),
    ignore_robots: bool = False,
) -> OpenedPage:
    """Open a page. Raises UsageError for what is not there, no document, or not to be asked for as robots.txt says (unless
    `ignore_robots`), CrawlError for what cannot be fetched."""
    if not ignore_robots and (verdict := robots_verdict(page, cache=cache)) is not None and not verdict.allowed:
        now = "ignore_robots=True, or --ignore-robots, is for who may"
        raise UsageError(Problem("robots", refusal(page, verdict), now=now))
    reply, source, age = reply_of(page, fresh=fresh, runs=runs, cache=cache, stdin=stdin)
    return _opened(page, reply, source, age, parse)


def _opened(page: str, reply: Reply, source: str, age: float | None, parse: Parse | None) -> OpenedPage:
    try:
        document = read_document(reply.body, reply.url, reply.content_type, parse=parse)
    except NotADocument as error:
        raise UsageError(Problem("wrong-kind", f"this is no page: {error}", Place(without_secret(page)))) from error
    return OpenedPage(document, reply, source, age)


def open_page_as(
    page: str,
    loaded: LoadedPlan,
    credentials: Credentials | None = None,
    *,
    fresh: bool = False,
    parse: Parse | None = None,
    cache: PageCache | None = None,
    ignore_robots: bool = False,
) -> OpenedPage:
    """Open a URL as a plan's run would ask for it: with its session, header fields and manners, and, where a start of the plan
    has this address, by its request (a POST with its body). Raises UsageError, CrawlError."""
    from wadi.actions.site import Site

    try:
        # The request of the first start with this address; else a plain one.
        url = resolve("", page)
        plan = loaded.plan
        starts = (start.request for start in starts_of(plan))
        names = route_names(plan)
        plain = Request(url.partition("#")[0], route=names[0] if names else "")
        request = next((known for known in starts if normalised(known.url) == normalised(url)), plain)
    except NotAUrl as error:
        raise UsageError(
            Problem("bad-url", f"a plan's session is for a URL: {error}", Place(shortened(page)))
        ) from error
    if ignore_robots:
        manners = loaded.plan.manners.model_copy(update={"ignore_robots": "said by who looks"})
        loaded = replace(loaded, plan=loaded.plan.model_copy(update={"manners": manners}))
    site = Site(loaded, cache or PageCache(cache_folder()), fresh=fresh, credentials=credentials)
    try:
        reply, is_kept = site.reply(request)
    except FetchFailed as failure:
        if failure.reply is None or not failure.reply.body:
            raise CrawlError(Problem(failure.cause, failure.what)) from failure
        reply, is_kept = failure.reply, False
    finally:
        site.close()
    return _opened(page, reply, _FROM_CACHE if is_kept else _FROM_SITE, None, parse)


def reply_of(
    page: str,
    *,
    fresh: bool = False,
    runs: str | Path = "runs",
    cache: PageCache | None = None,
    stdin: Callable[[], bytes] = lambda: sys.stdin.buffer.read(SIZE_LIMIT_BYTES + 1),
) -> tuple[Reply, str, float | None]:
    """The reply of a page, where it was taken from, and its age in seconds (None for a new one)."""
    if page == "-":
        return _local(stdin(), "standard input", "file:///dev/stdin"), "standard input", None
    if page.startswith(("http://", "https://")):
        return fetched(page, fresh=fresh, cache=cache)
    path = Path(page)
    if path.is_file() and path.name != "run.sqlite":
        return _file(path), f"file {page}", None
    if "://" in page:
        raise UsageError(Problem("bad-url", "only http and https are fetched", Place(without_secret(page))))
    stored = _stored(page, Path(runs))
    if stored is not None:
        return stored
    if path.is_dir():
        raise UsageError(Problem("not-a-file", "this is a folder, a page is a URL or a file", Place(page)))
    now = "a page is a URL (http://…), a file, - for standard input, or RUN#NUMBER for a stored page of a run"
    raise UsageError(Problem("no-such-file", "no such file", Place(page), now=now))


def _file(path: Path) -> Reply:
    try:
        if path.stat().st_size > SIZE_LIMIT_BYTES:
            raise _too_large(str(path), path.stat().st_size)
        body = path.read_bytes()
    except OSError as error:
        raise UsageError(Problem("not-readable", f"cannot be read: {error.strerror}", Place(str(path)))) from error
    return _local(body, str(path), path.resolve().as_uri(), mimetypes.guess_type(path.name)[0] or "")


def _local(body: bytes, name: str, url: str, content_type: str = "") -> Reply:
    if len(body) > SIZE_LIMIT_BYTES:
        raise _too_large(name, len(body))
    headers = (("Content-Type", content_type),) if content_type else ()
    return Reply(Request(url), url, 200, headers, body, time.time())


def _too_large(name: str, size: int) -> UsageError:
    what = f"larger than {SIZE_LIMIT_BYTES / 1e6:.0f} MB ({size / 1e6:.0f} MB): it is not read"
    return UsageError(
        Problem("too-large", what, Place(name), now="cut a part out of it, or crawl it with limits.page_size")
    )


def _stored(page: str, runs: Path) -> tuple[Reply, str, float | None] | None:
    """A stored page: `RUN#NUMBER`, where the number is the page's in the run; None when the name is no run's."""
    from wadi.problems import RunError
    from wadi.store.archive import DamagedRecord, read_reply
    from wadi.store.folder import DATABASE, PAGES, find_run
    from wadi.store.state import RunState

    name, hash_mark, number = page.rpartition("#")
    if not hash_mark or not number.isdecimal():
        return None
    try:
        folder = find_run(name, runs)
    except RunError:
        return None
    with RunState.open(folder / DATABASE) as state:
        location = state.location(int(number))
    if location is None:
        raise UsageError(Problem("no-such-file", f"the run has no stored page {number}", Place(page)))
    try:
        reply = read_reply(folder / PAGES, location)
    except (DamagedRecord, OSError) as error:
        raise UsageError(Problem("damaged-run", f"the stored page cannot be read: {error}", Place(page))) from error
    return reply, f"page {number} of {folder}", time.time() - reply.started_at


def fetched(
    url: str, *, fresh: bool = False, cache: PageCache | None = None, agent: str | None = None
) -> tuple[Reply, str, float | None]:
    """The reply to a GET, from today's cache or from the site. A reply with an error status is a reply, too."""
    kept = cache or PageCache(cache_folder())
    try:
        plain, secrets = for_url(resolve("", url).partition("#")[0])
        request = Request(plain)
    except NotAUrl as error:
        raise UsageError(Problem("bad-url", f"no URL: {error}", Place(shortened(url)))) from error
    if not fresh and not secrets and (found := kept.find(request)):
        return found[0], _FROM_CACHE, found[1]
    reply = in_loop(_fetch(request, agent or user_agent(), secrets))
    if not secrets:
        kept.keep(request, reply)
    return reply, _FROM_SITE, None


async def _fetch(request: Request, agent: str, secrets: Secrets) -> Reply:
    client = _client(urlsplit(request.url).hostname or "", agent, secrets)
    try:
        return await client.fetch(request)
    except FetchFailed as failure:
        if failure.reply is not None and failure.reply.body:
            return failure.reply
        often = f"; asked {failure.tries} times" if failure.tries > 1 else ""
        raise CrawlError(Problem(failure.cause, failure.what + often)) from failure
    finally:
        await client.close()


def _client(host: str, agent: str, secrets: Secrets) -> Client:
    """A client for a page of a host, which may stand wherever it does."""
    from wadi.page.refresh import refresh_of
    from wadi.web.client import Client
    from wadi.web.hosts import Pace
    from wadi.web.manners import Throttle
    from wadi.web.private import AddressGuard
    from wadi.web.retry import Retrying
    from wadi.web.transport import Bounds, HttpTransport

    guard = AddressGuard(frozenset({host.casefold()}))
    transport = HttpTransport(bounds=Bounds(size_bytes=SIZE_LIMIT_BYTES), identity=agent, secrets=secrets, guard=guard)
    throttle = Throttle(Pace(0.2, 1), clock=time.monotonic, sleep=asyncio.sleep)
    return Client(transport, throttle, Retrying(retries=1), sent_on=refresh_of)


def robots_verdict(url: str, *, cache: PageCache | None = None) -> RobotsVerdict | None:
    """What the site's robots.txt says about a URL to us; None for what is on no site or when it cannot be had."""
    from wadi.web.robots import by_status, read_robots, verdict_for

    if not url.startswith(("http://", "https://")):
        return None
    try:
        reply, _, _ = fetched(resolve(url, "/robots.txt"), cache=cache)
    except (CrawlError, UsageError, NotAUrl):
        return None
    return verdict_for(by_status(reply.status) or read_robots(reply.body), url, "wadi")
