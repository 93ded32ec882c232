"""A plan's site for looking at it: one page after the other, with the plan's session, replies of today from the cache."""

from __future__ import annotations

import asyncio
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

from wadi.actions.setup import Credentials, client_of, credentials_of, login_of, session_of
from wadi.crawl.login import LoginFailed, log_in
from wadi.plan.reader import LoadedPlan
from wadi.problems import CrawlError
from wadi.store.page_cache import PageCache
from wadi.web.client import Client
from wadi.web.messages import Reply, Request
from wadi.web.robots import by_status, origin_of, read_robots, verdict_for


class Site:
    """A plan's site for rehearsals: one page after the other, replies of today from the cache, one session for all.

    Pages behind a log-in are not kept. Use `close` at the end.
    """

    def __init__(
        self, loaded: LoadedPlan, cache: PageCache, *, fresh: bool = False, credentials: Credentials | None = None
    ) -> None:
        self._loaded = loaded
        manners = loaded.plan.manners
        if manners.headers or manners.language:
            cache = cache.asked_so(repr((manners.headers, manners.language)))
        self._cache = cache if loaded.plan.login is None and not loaded.secrets else None
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
        found = verdict_for(by_status(kept[0].status) or read_robots(kept[0].body), url, "wadi") if kept else None
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
            self._client = client_of(
                self._loaded, lambda event: None, session, known, retries=1, keep=self._keep_robots
            )
            if self._login is not None:
                try:
                    await log_in(self._client, self._login)
                except LoginFailed as error:
                    raise CrawlError(error.problem) from error
        return await self._client.fetch(request)
