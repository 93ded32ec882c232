"""Pages as a browser shows them: one browser with a few windows, each page with what it asked for in the background.

A page is opened in a window of its own; once it is as it should be (`Rendering`) its document is taken as HTML, and of the
background replies those that are data. A listing that goes on in the same page keeps its window until the next turn. A
window that does not answer is closed and replaced, a browser that is gone, or has grown too large, is started again.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import shlex
import time
from collections import Counter
from collections.abc import AsyncIterator, Awaitable, Callable, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass, replace
from typing import Any

from wadi.web.browser_steps import Window
from wadi.web.driver_process import DriverProcess, driver_named, start_driver
from wadi.web.messages import FetchFailed, Reply, Request
from wadi.web.rendering import Rendering
from wadi.web.session import Cookie
from wadi.web.shown_page import ShownPage
from wadi.web.traffic import Traffic
from wadi.web.webdriver import BrowserError, Session, capabilities

ARGUMENTS = "WADI_BROWSER_ARGUMENTS"
"""The environment variable with further arguments for the browser."""
_PARALLEL = 2
_GRACE_S, _CLOSE_WITHIN_S = 10.0, 5.0
_MOST_STARTS, _PAGES_OF_WINDOW = 3, 25
_MOST_MEMORY_BYTES = 3_000_000_000
_CONNECTION = tuple(
    f"net::ERR_{name}" for name in ("CONNECTION", "NAME", "ADDRESS", "INTERNET", "EMPTY", "SSL", "CERT")
)
_PROXY = tuple(f"net::ERR_{name}" for name in ("PROXY", "TUNNEL", "SOCKS"))


@dataclass(frozen=True)
class Rendered:
    """A page as it was shown: its document as a reply with HTML, and the background replies that are data, in the order in
    which they came. `noticed` is what a person would have seen happen: dialogs, downloads, windows. `cookies` are those that the
    browser has now."""

    reply: Reply
    background: tuple[Reply, ...] = ()
    noticed: tuple[str, ...] = ()
    cookies: tuple[Cookie, ...] = ()


@dataclass(frozen=True)
class Visitor:
    """As whom a page is asked for: by which proxy ("" for none), with which cookies, and what puts in secrets that are typed.
    Those of one proxy share what the browser keeps."""

    route: str = ""
    cookies: tuple[Cookie, ...] = ()
    fill: Callable[[str, str], str] = lambda url, text: text


class Browser:
    """A browser for rendered pages. `render` pages, several at a time, and `close` it at the end: it starts when the first page
    comes."""

    def __init__(
        self,
        *,
        agent: str,
        driver: str | None = None,
        pictures: bool = False,
        parallel: int = _PARALLEL,
        arguments: tuple[str, ...] = (),
        most_memory: int = _MOST_MEMORY_BYTES,
    ) -> None:
        self._agent = agent
        self._driver = driver
        self._pictures = pictures
        self._arguments = arguments
        self._most_memory = most_memory
        self._parallel = parallel
        self._process: DriverProcess | None = None
        self._session: Session | None = None
        self._free = asyncio.Semaphore(parallel)
        self._starting = asyncio.Lock()
        self._in_use = 0
        self._idle = asyncio.Event()
        self._idle.set()
        self._forget_all()
        self.starts = 0
        self.restarts = 0
        """How often it was started anew because it had grown too large."""

    def _forget_all(self) -> None:
        """What is known of a browser that is no more."""
        self._windows: dict[str, list[str]] = {}
        self._profiles: dict[str, str] = {}
        self._given: dict[str, set[Cookie]] = {}
        self._shown_in: Counter[str] = Counter()
        self._set_up: dict[str, tuple[Any, ...]] = {}
        self._held: dict[tuple[Any, ...], _Open] = {}
        self._is_too_large = False

    async def close(self) -> None:
        """End the browser and all that belongs to it."""
        if self._session is not None:
            await self._session.close()
        if self._process is not None:
            await self._process.end()
        self._session, self._process = None, None
        self._forget_all()

    async def render(
        self, request: Request, rendering: Rendering | None = None, visitor: Visitor | None = None
    ) -> Rendered:
        """The page as the browser shows it, at the turn that the request is for. Raises FetchFailed, UsageError where no browser
        can be started."""
        rendering, visitor = rendering or Rendering(), visitor or Visitor()
        started, began = time.time(), time.monotonic()
        async with self._shown(request, rendering, visitor) as page:
            reply, background = await page.taken()
            # The cookies that the browser has of a visitor.
            profile = self._profiles[visitor.route]
            said = await page.window.session.send("storage.getCookies", {"partition": _of(profile)})
            found = tuple(_cookie(one) for one in said["cookies"] if one.get("value", {}).get("type") == "string")
            self._given[profile] = set(found)
            cookies = found
        elapsed_s = time.monotonic() - began
        reply = replace(reply, request=request, started_at=started, elapsed_s=elapsed_s)
        return Rendered(reply, background, tuple(page.traffic.noticed), cookies)

    async def picture(
        self, request: Request, take: Callable[[ShownPage], Awaitable[bytes]], rendering: Rendering | None = None
    ) -> bytes:
        """What `take` makes of the page as it is shown. Raises FetchFailed, UsageError."""
        async with self._shown(request, rendering or Rendering(), Visitor()) as page:
            return await take(page)

    # -- pages

    @asynccontextmanager
    async def _shown(self, request: Request, rendering: Rendering, visitor: Visitor) -> AsyncIterator[ShownPage]:
        """A page in a window, ready as it should be, at its turn. Raises FetchFailed."""
        async with self._free:
            session = await self._running(rendering)
            self._in_use += 1
            self._idle.clear()
            opened: _Open | None = None
            try:
                key = (visitor.route, request.url, request.typed, rendering)
                opened = self._held.pop(key, None) if rendering.next is not None else None
                if opened is not None and opened.page.turn != request.turn - 1:
                    await self._release(opened)
                    opened = None
                async with asyncio.timeout((rendering.within_s + _GRACE_S) * (1 if opened else request.turn + 1)):
                    if opened is None:
                        opened = await self._opened(session, rendering, visitor)
                        await opened.page.open(request)
                    while opened.page.turn < request.turn and not opened.page.end:
                        await opened.page.go_on()
                yield opened.page
            except BrowserError as error:
                await self._release(opened, is_broken=True)
                raise _failure(error, rendering) from error
            except TimeoutError as error:
                await self._release(opened, is_broken=True)
                raise FetchFailed("timed-out", f"the page is not ready after {rendering.within_s:g} s") from error
            except BaseException:
                await self._release(opened, is_broken=True)
                raise
            else:
                if rendering.next is not None and not opened.page.end:
                    # Keep a page for its next turn; of too many the oldest is let go.
                    self._held[key] = opened
                    while len(self._held) > self._parallel:
                        await self._release(self._held.pop(next(iter(self._held))))
                else:
                    await self._release(opened)
            finally:
                self._in_use -= 1
                if not self._in_use:
                    self._idle.set()

    async def _opened(self, session: Session, rendering: Rendering, visitor: Visitor) -> _Open:
        """A window for one page. Raises FetchFailed, BrowserError."""
        profile = await self._profile(session, visitor)
        context = await self._taken(session, profile)
        traffic = Traffic(context)
        window = Window(session, context, lambda: traffic.is_quiet, rendering.rows, visitor.fill)
        opened = _Open(ShownPage(window, traffic, rendering), profile, session.listen(traffic.hear))
        try:
            await self._set_window(window, rendering)
            traffic.collector = await session.collect(context)
        except BaseException:
            await self._release(opened, is_broken=True)
            raise
        return opened

    async def _release(self, opened: _Open | None, *, is_broken: bool = False) -> None:
        """Let a page go. Its window is used again, unless something went wrong in it, or it showed many pages."""
        if opened is None:
            return
        opened.stop()
        window, traffic = opened.page.window, opened.page.traffic
        if not is_broken:
            await window.session.forget(traffic.collector)
        await _close(window.session, traffic.opened)
        self._shown_in[window.context] += 1
        if not is_broken and self._shown_in[window.context] < _PAGES_OF_WINDOW:
            self._windows.setdefault(opened.profile, []).append(window.context)
        else:  # what its pages left in memory goes with it
            await _close(window.session, [window.context])
            self._is_too_large = self._process is not None and self._process.memory_bytes() > self._most_memory

    # -- the browser

    async def _running(self, rendering: Rendering) -> Session:
        """The browser, started if it is not there, and anew if it has grown too large, once nothing is shown in it."""
        async with self._starting:
            if self._is_too_large:
                await self._idle.wait()
                await self.close()
                self.starts -= 1
                self.restarts += 1
            if self._session is not None and self._session.is_open:
                return self._session
            await self.close()
            if self.starts >= _MOST_STARTS:
                raise FetchFailed("unreachable", f"the browser ended {self.starts} times")
            self.starts += 1
            self._process = await start_driver(driver_named(self._driver, os.environ))
            further = tuple(shlex.split(os.environ.get(ARGUMENTS, "")))
            wanted = capabilities(
                self._process.profile,
                size=rendering.size,
                agent=self._agent,
                pictures=self._pictures,
                arguments=(*self._arguments, *further),
            )
            try:
                self._session = await Session.start(self._process.address, wanted)
            except BrowserError as error:
                await self.close()
                raise FetchFailed("unreachable", f"the browser does not start: {error.what}") from error
            return self._session

    async def _profile(self, session: Session, visitor: Visitor) -> str:
        """What the browser keeps apart for visitors by one proxy (a user context), with the visitor's cookies in it."""
        if visitor.route not in self._profiles:
            made = {"userContext": "default"}
            if visitor.route:
                made = await session.send("browser.createUserContext", {"proxy": _proxy(visitor.route)})
            self._profiles[visitor.route] = str(made["userContext"])
        profile = self._profiles[visitor.route]
        given = self._given.setdefault(profile, set())
        for cookie in visitor.cookies:
            if cookie not in given:
                await session.send("storage.setCookie", {"cookie": _told(cookie), "partition": _of(profile)})
                given.add(cookie)
        return profile

    async def _taken(self, session: Session, profile: str) -> str:
        """A window: one that is free, or a new one. A tab behind others would stand still."""
        if free := self._windows.get(profile):
            return free.pop()
        try:
            wanted = {"type": "window", "background": True, "userContext": profile}
            made = await session.send("browsingContext.create", wanted)
        except BrowserError as error:
            raise FetchFailed("unreachable", f"the browser opens no window: {error.what}") from error
        return str(made["context"])

    async def _set_window(self, window: Window, rendering: Rendering) -> None:
        """Give a window its size, language, time zone and colours, where they are not the ones that it has."""
        wanted = (rendering.size, rendering.language, rendering.zone, rendering.dark)
        has = self._set_up.get(window.context, (None, "", "", False))
        here: dict[str, Any] = {"contexts": [window.context]}
        size = dict(zip(("width", "height"), rendering.size, strict=True))
        commands: tuple[tuple[str, dict[str, Any]], ...] = (
            ("browsingContext.setViewport", {"context": window.context, "viewport": size}),
            ("emulation.setLocaleOverride", {**here, "locale": rendering.language or None}),
            ("emulation.setTimezoneOverride", {**here, "timezone": rendering.zone or None}),
        )
        for (command, parameters), new, old in zip(commands, wanted[:3], has[:3], strict=True):
            if new == old:
                continue
            try:
                await window.session.send(command, parameters)
            except BrowserError as error:
                if error.code in ("timeout", "gone"):
                    raise
                raise FetchFailed("broken-off", f"the browser takes no {new or 'default'}: {error.what}") from error
        if rendering.dark != has[3]:
            await _set_dark(window, dark=rendering.dark)
        self._set_up[window.context] = wanted


@dataclass
class _Open:
    """A page that is open: in which profile, and what ends listening to it."""

    page: ShownPage
    profile: str
    stop: Callable[[], None]


async def _set_dark(window: Window, *, dark: bool) -> None:
    """Tell a window's pages that their reader wants dark colours, or not. The standard has no command for it: this is
    Chromium's. Raises FetchFailed for a browser without it."""
    try:
        session = (await window.session.send("goog:cdp.getSession", {"context": window.context}))["session"]
        features = [{"name": "prefers-color-scheme", "value": "dark" if dark else ""}]
        wanted = {"method": "Emulation.setEmulatedMedia", "params": {"features": features}, "session": session}
        await window.session.send("goog:cdp.sendCommand", wanted)
    except BrowserError as error:
        if error.code in ("timeout", "gone"):
            raise
        raise FetchFailed("broken-off", "dark is for Chromium alone: this browser does not take it") from error


def _proxy(route: str) -> dict[str, Any]:
    """A proxy as WebDriver writes it (W3C WebDriver §5.1.1). Raises FetchFailed for one with a log-in."""
    scheme, _, place = route.partition("://")
    if "@" in place:
        raise FetchFailed("no-route", "a browser takes no proxy with a user name and password")
    every: dict[str, Any] = {"proxyType": "manual", "noProxy": ["<-loopback>"]}  # this machine's own sites, too
    if scheme.startswith("socks5"):
        return {**every, "socksProxy": place, "socksVersion": 5}
    return {**every, "httpProxy": place, "sslProxy": place}


def _of(profile: str) -> dict[str, str]:
    return {"type": "storageKey", "userContext": profile}


def _told(cookie: Cookie) -> dict[str, Any]:
    """A cookie as BiDi writes it."""
    told: dict[str, Any] = {
        "name": cookie.name,
        "value": {"type": "string", "value": cookie.value},
        "domain": cookie.domain if cookie.host_only else f".{cookie.domain}",
        "path": cookie.path,
        "secure": cookie.secure,
    }
    return {**told, "expiry": int(cookie.expires)} if cookie.expires else told


def _cookie(told: dict[str, Any]) -> Cookie:
    domain = str(told["domain"])
    return Cookie(
        domain.lstrip("."),
        str(told.get("path") or "/"),
        str(told["name"]),
        str(told["value"]["value"]),
        bool(told.get("secure")),
        not domain.startswith("."),
        float(told.get("expiry") or 0),
    )


async def _close(session: Session, contexts: Sequence[str]) -> None:
    """Close windows, as far as they are still there."""
    for context in contexts:
        with contextlib.suppress(BrowserError):
            await session.send("browsingContext.close", {"context": context}, within_s=_CLOSE_WITHIN_S)


def _failure(error: BrowserError, rendering: Rendering) -> FetchFailed:
    """What a failed command means for the page."""
    first_line = error.what.partition("\n")[0]
    if error.code == "timeout" or "timeout" in error.what.lower():
        return FetchFailed("timed-out", f"the page is not there after {rendering.within_s:g} s")
    if any(sign in error.what for sign in _PROXY):
        return FetchFailed("no-route", first_line)
    if any(sign in error.what for sign in _CONNECTION):
        return FetchFailed("unreachable", first_line)
    return FetchFailed("broken-off", f"the browser: {first_line or error.code}")
