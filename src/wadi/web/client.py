"""The client: layers around a transport, each with one duty: tries, redirects, turns.

`Client.fetch(request)` gives the reply of a page, or raises FetchFailed when there is none after all tries.
"""

from __future__ import annotations

import asyncio
import os
import time
from collections.abc import Callable, Mapping, MutableMapping
from dataclasses import dataclass, replace
from datetime import UTC, datetime

from wadi.urls import LOCAL, NotAUrl, host_of, resolve, without_secret
from wadi.version import __version__
from wadi.web.hosts import Hosts
from wadi.web.manners import Clock, Sleep, Slowed, Throttle, quota_of
from wadi.web.messages import FetchFailed, Hop, Reply, Request
from wadi.web.pace import Heard
from wadi.web.retry import Decision, Retrying, Tries, decide, time_at_host, wait_asked_for
from wadi.web.robots import Robots, by_status, origin_of, read_robots, refusal, verdict_for
from wadi.web.transport import Transport

_REDIRECTS = frozenset({301, 302, 303, 307, 308})
_MOST_HOPS = 10
_MOST_ROBOTS_HOPS = 5
_ROBOTS_KEPT_S = 24 * 3600.0
_LONGEST_KEPT_S = 3600.0
_ROBOTS_KEPT_LETTERS, _MOST_ROBOTS_KEPT = 10_000, 5_000


@dataclass(frozen=True, slots=True)
class TriedAgain:
    """An event: a request failed and is sent again after a wait."""

    request: Request
    failure: FetchFailed
    decision: Decision
    tries: int


KeptRobots = tuple[float, int, str]
"""A robots.txt that is kept: when it came (seconds since 1970), its status and its text."""
Report = Callable[[TriedAgain], None]
Keep = Callable[[Reply], object]
"""What takes replies to keep them."""
SentOn = Callable[[Reply], tuple[float, str] | None]
"""From a reply to the seconds after which its page sends the reader on, and the URL that it sends to; None where it does not."""


class Client:
    """Sends requests at the throttle's pace, follows redirects, tries again by the policy.

    With `robots_agent` (a product token such as `wadi`) it asks for nothing that a site's robots.txt forbids this agent,
    redirects included, and keeps the pause that the file asks for.

    `keep` takes the replies that `fetch` does not give: robots.txt, redirects, tries before the last. Where a redirect leads to a
    host that it `may_ask` not, FetchFailed says so ("led-elsewhere"): its reply's request goes on
    from there. `robots_kept` are the files of an earlier
    sitting, by origin and route: those of today are not asked for again (RFC 9309 §2.4).

    A host that cannot be reached after all tries is asked once only for the next pages, until it answers again:
    a site that went down is not waited for page by page.
    """

    def __init__(
        self,
        transport: Transport,
        throttle: Throttle,
        policy: Retrying,
        *,
        sleep: Sleep = asyncio.sleep,
        now: Clock = time.time,
        report: Report = lambda event: None,
        robots_agent: str | None = None,
        rng: Callable[[], float] = lambda: 1.0,
        sent_on: SentOn = lambda reply: None,
        keep: Keep = lambda reply: None,
        may_ask: Callable[[str], bool] = lambda host: True,
        robots_kept: MutableMapping[str, KeptRobots] | None = None,
    ) -> None:
        self._transport = transport
        self._may_ask = may_ask
        self._robots_kept = {} if robots_kept is None else robots_kept
        self._throttle = throttle
        self._policy = policy
        self._sleep = sleep
        self._now = now
        self._report = report
        self._robots_agent = robots_agent
        self._robots: dict[tuple[str, str], asyncio.Task[Robots]] = {}
        self._robots_since: dict[tuple[str, str], float] = {}
        self._rng = rng
        self._sent_on = sent_on
        self.sent = 0
        """Requests sent so far: tries, redirects and robots.txt counted."""
        self._keep = keep

    @property
    def hosts(self) -> Hosts:
        """What is known of each host."""
        return self._throttle.hosts

    async def close(self) -> None:
        for task in self._robots.values():
            task.cancel()
        await asyncio.gather(*self._robots.values(), return_exceptions=True)
        await self._transport.close()

    def refused(self, host: str, why: str) -> None:
        """A page of the host turned out to be a refusal: that counts for its pace."""
        self._throttle.heard(host, "refused", why=why)

    def asked_before(self, host: str, seconds: float) -> None:
        """Another process may have asked a host (`host:port`) just now: keep a pause of so many seconds."""
        self._throttle.asked_before(host, seconds)

    def paces(self) -> dict[str, tuple[float, int]]:
        """At which pace the next sitting goes on, of hosts for which that is not the plan's: when they may be asked (seconds
        since 1970), and which pause is kept."""
        return {host: (self._now() + wait, step) for host, (wait, step) in self._throttle.paces().items()}

    def goes_on(self, paces: Mapping[str, tuple[float, int]]) -> None:
        """Go on with the paces of an earlier sitting."""
        for host, (at, step) in paces.items():
            self._throttle.goes_on(host, max(0.0, min(at - self._now(), _LONGEST_KEPT_S)), step)

    def slowed(self) -> list[Slowed]:
        """The hosts that were asked more slowly than at the plan's pace."""
        return self._throttle.slowed()

    def stop(self) -> None:
        """Send nothing more: requests that wait for their turn raise Stopped."""
        self._throttle.stop()

    @property
    def pausing(self) -> int:
        """How many requests wait for the pause of their host to be over."""
        return self._throttle.pausing

    def unreachable(self, host: str) -> int:
        """How many requests in a row found nobody at this host (`host:port`), all tries counted as one."""
        return self.hosts[host].unreachable

    def any_unreachable(self) -> bool:
        """Whether the last request to some host found nobody there."""
        return any(host.unreachable for host in self.hosts.values())

    async def fetch(self, request: Request) -> Reply:
        """The reply to a request, of a status below 400. Raises FetchFailed."""
        return await self._fetched(request, self._keep)

    async def fetch_unkept(self, request: Request) -> Reply:
        """The same for a request of a log-in: neither its redirects nor tries before the last are given to be kept."""
        return await self._fetched(request, lambda reply: None)

    async def _fetched(self, request: Request, keep: Keep) -> Reply:
        tries = Tries()
        while True:
            try:
                reply = await self._followed(request, keep)
            except FetchFailed as failure:
                policy = replace(self._policy, retries=0) if self.unreachable(request.host) else self._policy
                now = datetime.fromtimestamp(self._now(), UTC)
                decision = decide(failure, tries, policy, method=request.method, now=now, share=self._rng())
                if not decision.again:
                    if failure.cause == "unreachable":
                        self.hosts[request.host].unreachable += 1
                    elif failure.reply is not None:
                        self.hosts[request.host].unreachable = 0
                    sent = tries.count + (failure.cause != "robots")
                    raise FetchFailed(failure.cause, failure.what, failure.reply, tries=sent) from failure
                self._report(TriedAgain(request, failure, decision, tries.count + 1))
                tries = tries.after(failure, decision.wait_s)
                if failure.reply is not None:
                    keep(failure.reply)
                await self._sleep(decision.wait_s)
            else:
                self.hosts[request.host].unreachable = 0
                return replace(reply, tries=tries.count + 1) if tries.count else reply

    async def _check_robots(self, request: Request, *, was_led: bool = False) -> None:
        """Raise FetchFailed for what robots.txt forbids; each site's file is asked for once, by each named route. A browser may
        have been led there by a page: that is not read."""
        if self._robots_agent is None or request.url.startswith(f"{LOCAL}:"):
            return
        origin = origin_of(request.url), request.route
        known = self._robots.get(origin)
        is_old = self._now() - self._robots_since.get(origin, 0.0) > _ROBOTS_KEPT_S
        if known is None or (known.done() and (is_old or known.exception())):
            self._robots[origin] = asyncio.create_task(self._fetch_robots(*origin))
            self._robots_since[origin] = self._now()
        verdict = verdict_for(await asyncio.shield(self._robots[origin]), request.url, self._robots_agent)
        if verdict.crawl_delay_s is not None:
            self._throttle.slow_down(request.host, verdict.crawl_delay_s)
        if not verdict.allowed:
            why = refusal(request.url, verdict)
            raise FetchFailed("robots", f"the page leads there by itself: {why}" if was_led else why)

    async def _fetch_robots(self, origin: str, route: str) -> Robots:
        """The site's rules; redirects are followed (RFC 9309 §2.3.1.2). Raises FetchFailed when the host cannot be reached."""
        current = Request(f"{origin}/robots.txt", route=route)
        kept = self._robots_kept.get(f"{origin} {route}")
        if kept is not None and 0 <= self._now() - kept[0] < _ROBOTS_KEPT_S:
            self._robots_since[origin, route] = kept[0]  # it is as old as it is, however often it is read again
            return by_status(kept[1]) or read_robots(kept[2].encode())
        for _ in range(_MOST_ROBOTS_HOPS):
            reply = await self._send(current)
            self._keep(reply)
            if reply.status not in _REDIRECTS or not reply.header("location"):
                text = reply.body.decode("utf-8", "replace")
                is_small = len(text) <= _ROBOTS_KEPT_LETTERS and len(self._robots_kept) < _MOST_ROBOTS_KEPT
                if reply.status < 500 and is_small:
                    self._robots_kept[f"{origin} {route}"] = (
                        self._now(),
                        reply.status,
                        text if reply.status < 300 else "",
                    )
                return by_status(reply.status) or read_robots(reply.body)
            current = redirected(current, reply)
        return Robots()

    async def _send(self, request: Request) -> Reply:
        """One request in its turn; what comes of it goes into the host's pace."""
        host = request.host
        if request.url.startswith(f"{LOCAL}:"):  # nobody is to be spared
            self.sent += 1
            return await self._transport.send(request)
        async with self._throttle.turn(host) as sent:
            self.sent += 1
            step = self._throttle.step(host)
            try:
                reply = await self._transport.send(request, sent)
            except FetchFailed as failure:
                if failure.cause in ("timed-out", "broken-off"):
                    self._throttle.heard(host, "broken", step=step)
                raise
        refused = reply.status in (429, 503)
        what: Heard = "refused" if refused else "good"
        self._throttle.heard(
            host, what, reply.first_byte_s, step=step, why=f"status {reply.status}{_phrase(reply.status)}"
        )
        now = self._now()
        wait = wait_asked_for(reply, datetime.fromtimestamp(now, UTC)) if refused else None
        at_host = time_at_host(reply)
        quota = quota_of(reply, at_host.timestamp() if at_host is not None else now)
        if quota is not None and quota.left == 0:
            wait = max(wait or 0.0, quota.renewed_s)
        if wait and wait <= self._policy.longest_wait_s:
            self._throttle.hold(host, wait, f"it asked to wait {wait:.0f} s")
        return reply

    async def _followed(self, request: Request, keep: Keep) -> Reply:
        """The reply at the end of the redirects, those of pages that send their reader on among them."""
        hops: list[Hop] = list(request.hops)
        current = replace(request, url=request.led_to, hops=(), led_to="") if request.led_to else request
        while True:
            await self._check_robots(current)
            reply = await self._send(current)
            if reply.status in _REDIRECTS and reply.header("location"):
                following = redirected(current, reply)
            elif reply.status < 400 and (sent_on := self._sent_on(reply)) is not None:
                seconds, target = sent_on
                await self._sleep(seconds)
                following = _for(current, target, "GET")
            else:
                for url in [*(hop.url for hop in reply.hops[1:]), *([reply.url] if reply.hops else [])]:
                    await self._check_robots(replace(current, url=url), was_led=True)
                hops += reply.hops
                return _a_success(replace(reply, request=request, hops=tuple(hops)) if hops else reply)
            keep(reply)
            hops.append(Hop(current.url, reply.status))
            current = following
            if len(hops) > _MOST_HOPS:
                raise FetchFailed(
                    "redirect-loop", f"{without_secret(request.url)}: {len(hops)} redirects, lately to {current.url}"
                )
            if not self._may_ask(current.host):
                further = replace(request, hops=tuple(hops), led_to=current.url)
                raise FetchFailed("led-elsewhere", f"redirected to {current.url}", replace(reply, request=further))


def user_agent(contact: str = "") -> str:
    """The User-Agent: who asks, and whom to write to (RFC 9110 §10.1.5), if only by WADI_CONTACT."""
    said = " ".join((contact or os.environ.get("WADI_CONTACT", "")).split())
    return f"Wadi/{__version__}" + (f" ({said})" if said else "")


def redirected(request: Request, reply: Reply) -> Request:
    """The request that a redirect asks for (RFC 9110 §15.4): a GET after 303, and after 301 and 302 of a POST."""
    try:
        target = resolve(request.url, reply.header("location"))
    except NotAUrl as error:
        raise FetchFailed("bad-url", f"{without_secret(request.url)}: redirected to no URL: {error}", reply) from error
    becomes_get = reply.status == 303 or (reply.status in (301, 302) and request.method == "POST")
    return _for(request, target, "GET" if becomes_get else request.method)


def _for(request: Request, target: str, method: str) -> Request:
    """The request for where one is sent on to; header fields may hold what is meant for the first host alone."""
    if host_of(target) != host_of(request.url):
        request = replace(request, headers=())
    if method != request.method:
        headers = tuple((name, value) for name, value in request.headers if name.lower() != "content-type")
        return replace(request, url=target, method=method, body=b"", headers=headers)
    return replace(request, url=target)


def _a_success(reply: Reply) -> Reply:
    if reply.status < 400:
        return reply
    where = without_secret(reply.url)
    way = f"{without_secret(reply.hops[0].url)} → {where}" if reply.hops else where
    raise FetchFailed("http-status", f"{way}: status {reply.status}{_phrase(reply.status)}", reply)


def _phrase(status: int) -> str:
    from http import HTTPStatus

    try:
        return f" ({HTTPStatus(status).phrase})"
    except ValueError:
        return ""
