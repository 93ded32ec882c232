"""Pages as a browser shows them: one browser with a few windows, each page with what it asked for in the background.

A page is opened in a window of its own; once it is as it should be (`Rendering`) its document is taken as HTML, and of the
background replies those that are data. A window that does not answer is closed and replaced, a browser that is gone is
started again.
"""

from __future__ import annotations

import asyncio
import base64
import contextlib
import os
import shlex
import time
from collections import Counter
from collections.abc import AsyncIterator, Mapping, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from typing import Any

from wadi.web.browser_steps import Window, do, do_per_row
from wadi.web.driver_process import DriverProcess, driver_named, start_driver
from wadi.web.messages import FetchFailed, Headers, Reply, Request
from wadi.web.rendering import Rendering
from wadi.web.webdriver import BrowserError, Session, capabilities

ARGUMENTS = "WADI_BROWSER_ARGUMENTS"
"""The environment variable with further arguments for the browser."""
_PARALLEL = 2
_POLL_S = 0.05
_GRACE_S, _MOST_QUIET_S, _CLOSE_WITHIN_S = 10.0, 5.0, 5.0
_MOST_STARTS, _PAGES_OF_WINDOW = 3, 25
_DATA = ("json", "xml", "csv", "graphql", "javascript-object", "x-ndjson")
_CONNECTION = tuple(
    f"net::ERR_{name}" for name in ("CONNECTION", "NAME", "ADDRESS", "INTERNET", "EMPTY", "SSL", "CERT")
)


@dataclass(frozen=True)
class Rendered:
    """A page as it was shown: its document as a reply with HTML, and the background replies that are data, in the order in
    which they came. `noticed` is what a person would have seen happen: dialogs, downloads, windows."""

    reply: Reply
    background: tuple[Reply, ...] = ()
    noticed: tuple[str, ...] = ()


@dataclass
class _Traffic:
    """What a window asked for: replies by their request, those that are on their way, when something last happened."""

    context: str
    status: int = 0
    headers: Headers = ()
    on_the_way: set[str] = field(default_factory=set)
    completed: list[Mapping[str, Any]] = field(default_factory=list)
    noticed: list[str] = field(default_factory=list)
    opened: list[str] = field(default_factory=list)
    navigation: str | None = None
    collector: str = ""
    last_s: float = field(default_factory=time.monotonic)

    def hear(self, method: str, said: Mapping[str, Any]) -> None:
        """Take an event of this window into account."""
        if method == "browsingContext.contextCreated" and said.get("originalOpener") == self.context:
            self.opened.append(str(said["context"]))
            self.noticed.append(f"a window: {str(said.get('url', ''))[:80]}")
        if said.get("context") != self.context:
            return
        request = said.get("request", {})
        name = str(request.get("request", ""))
        self.last_s = time.monotonic()
        if method == "network.beforeRequestSent":
            self.on_the_way.add(name)
        elif method in ("network.responseCompleted", "network.fetchError"):
            self.on_the_way.discard(name)
            if method == "network.responseCompleted":
                self._completed(said)
        elif method == "browsingContext.userPromptOpened":
            self.noticed.append(f"a dialog: {str(said.get('message', ''))[:80]}")
        elif method == "browsingContext.downloadWillBegin":
            self.noticed.append(f"a download: {str(said.get('suggestedFilename', ''))[:80]}")

    def _completed(self, said: Mapping[str, Any]) -> None:
        response = said.get("response", {})
        if said.get("navigation") and not said.get("redirectCount"):
            self.navigation = said["navigation"]
        if said.get("navigation"):
            self.status = int(response.get("status", 0))
            self.headers = _headers(response)
        elif any(kind in str(response.get("mimeType", "")) for kind in _DATA):
            self.completed.append(said)

    @property
    def is_quiet(self) -> bool:
        return not self.on_the_way


class Browser:
    """A browser for rendered pages. `start` it, `render` pages, several at a time, and `close` it."""

    def __init__(
        self,
        *,
        agent: str,
        driver: str | None = None,
        pictures: bool = False,
        parallel: int = _PARALLEL,
        arguments: tuple[str, ...] = (),
    ) -> None:
        self._agent = agent
        self._driver = driver
        self._pictures = pictures
        self._arguments = arguments
        self._process: DriverProcess | None = None
        self._session: Session | None = None
        self._windows: asyncio.Queue[str] = asyncio.Queue()
        self._free = asyncio.Semaphore(parallel)
        self._starting = asyncio.Lock()
        self._shown_in: Counter[str] = Counter()
        self._set_up: dict[str, tuple[Any, ...]] = {}
        self.starts = 0

    async def close(self) -> None:
        """End the browser and all that belongs to it."""
        if self._session is not None:
            await self._session.close()
        if self._process is not None:
            await self._process.end()
        self._session, self._process = None, None

    async def render(self, request: Request, rendering: Rendering | None = None) -> Rendered:
        """The page as the browser shows it. Raises FetchFailed, UsageError where no browser can be started."""
        rendering = rendering or Rendering()
        started, began = time.time(), time.monotonic()
        async with self._shown(request, rendering) as (window, traffic):
            html, url = await _document(window)
            background = [
                reply
                for said in traffic.completed
                if (reply := await _body(window.session, traffic.collector, said)) is not None
            ]
        headers = (
            ("Content-Type", "text/html; charset=utf-8"),
            *((n, v) for n, v in traffic.headers if n.lower() in _KEPT),
        )
        body = html.encode("utf-8", "replace")
        reply = Reply(
            request, url, traffic.status or 200, headers, body, started, 0.0, time.monotonic() - began, len(body)
        )
        return Rendered(reply, tuple(background), tuple(traffic.noticed))

    async def picture(self, request: Request, rendering: Rendering | None = None, *, whole: bool = False) -> bytes:
        """A PNG of the page as it is shown, or of its whole height. Raises FetchFailed, UsageError."""
        rendering = rendering or Rendering()
        async with self._shown(request, rendering) as (window, _):
            origin = "document" if whole else "viewport"
            taken = await window.session.send(
                "browsingContext.captureScreenshot", {"context": window.context, "origin": origin}
            )
        return base64.b64decode(taken["data"])

    # -- windows

    @asynccontextmanager
    async def _shown(self, request: Request, rendering: Rendering) -> AsyncIterator[tuple[Window, _Traffic]]:
        """A page in a window, ready as it should be. Raises FetchFailed."""
        async with self._window(rendering) as window:
            traffic = _Traffic(window.context)
            window.is_quiet = lambda: traffic.is_quiet
            stop = window.session.listen(traffic.hear)
            collector = ""
            try:
                async with asyncio.timeout(rendering.within_s + _GRACE_S):
                    collector = traffic.collector = await window.session.collect(window.context)
                    await _go_to(window, request, rendering)
                    await _until_ready(window, traffic, rendering)
                yield window, traffic
            except BrowserError as error:
                raise _failure(error, rendering) from error
            except TimeoutError as error:
                raise FetchFailed("timed-out", f"the page is not ready after {rendering.within_s:g} s") from error
            finally:
                stop()
                await window.session.forget(collector)
                await _close(window.session, traffic.opened)

    @asynccontextmanager
    async def _window(self, rendering: Rendering) -> AsyncIterator[Window]:
        """A window of the browser for one page; one in which something went wrong is not used again."""
        async with self._free:
            session = await self._running(rendering)
            window = Window(session, await self._taken(session))
            try:
                await self._set_window(window, rendering)
                yield window
            except BaseException:
                await _close(session, [window.context])
                raise
            self._shown_in[window.context] += 1
            if self._shown_in[window.context] < _PAGES_OF_WINDOW:
                self._windows.put_nowait(window.context)
            else:  # what its pages left in memory goes with it
                await _close(session, [window.context])

    async def _running(self, rendering: Rendering) -> Session:
        """The browser, started if it is not there."""
        async with self._starting:
            if self._session is not None and self._session.is_open:
                return self._session
            await self.close()
            self._windows, self._set_up = asyncio.Queue(), {}
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

    async def _taken(self, session: Session) -> str:
        """A window: one that is free, or a new one. A tab behind others would stand still."""
        try:
            if not self._windows.empty():
                return self._windows.get_nowait()
            made = await session.send("browsingContext.create", {"type": "window", "background": True})
        except BrowserError as error:
            raise FetchFailed("unreachable", f"the browser opens no window: {error.what}") from error
        return str(made["context"])

    async def _set_window(self, window: Window, rendering: Rendering) -> None:
        """Give a window its size, language and time zone, where they are not the ones that it has."""
        wanted = (rendering.size, rendering.language, rendering.zone)
        has = self._set_up.get(window.context, (None, "", ""))
        here: dict[str, Any] = {"contexts": [window.context]}
        size = dict(zip(("width", "height"), rendering.size, strict=True))
        commands: tuple[tuple[str, dict[str, Any]], ...] = (
            ("browsingContext.setViewport", {"context": window.context, "viewport": size}),
            ("emulation.setLocaleOverride", {**here, "locale": rendering.language or None}),
            ("emulation.setTimezoneOverride", {**here, "timezone": rendering.zone or None}),
        )
        for (command, parameters), new, old in zip(commands, wanted, has, strict=True):
            if new == old:
                continue
            try:
                await window.session.send(command, parameters)
            except BrowserError as error:
                if error.code in ("timeout", "gone"):
                    raise _failure(error, rendering) from error
                raise FetchFailed("broken-off", f"the browser takes no {new or 'default'}: {error.what}") from error
        self._set_up[window.context] = wanted


async def _close(session: Session, contexts: Sequence[str]) -> None:
    """Close windows, as far as they are still there."""
    for context in contexts:
        with contextlib.suppress(BrowserError):
            await session.send("browsingContext.close", {"context": context}, within_s=_CLOSE_WITHIN_S)


async def _go_to(window: Window, request: Request, rendering: Rendering) -> None:
    """Open a page. Raises BrowserError, FetchFailed."""
    if request.method != "GET":
        raise FetchFailed("bad-url", f"a browser opens pages by GET, and this is {request.method}")
    fields = [{"name": name, "value": {"type": "string", "value": value}} for name, value in request.headers]
    if rendering.language:
        fields.append({"name": "Accept-Language", "value": {"type": "string", "value": rendering.language}})
    await window.session.send("network.setExtraHeaders", {"headers": fields, "contexts": [window.context]})
    to_it = {"context": window.context, "url": request.url, "wait": "interactive"}
    await window.session.send("browsingContext.navigate", to_it, within_s=rendering.within_s)


async def _until_ready(window: Window, traffic: _Traffic, rendering: Rendering) -> None:
    """Do the steps, and wait until the page is as it should be. Raises FetchFailed with the reason where it does not become
    so."""
    end = time.monotonic() + rendering.within_s
    if rendering.steps:
        await _quiet(traffic, rendering, min(end, time.monotonic() + _MOST_QUIET_S))
    for step in rendering.steps:
        await do(window, step, max(0.0, end - time.monotonic()))
    await _until_there(window, traffic, rendering, end)
    if rendering.per_row:
        await do_per_row(window, rendering.rows, rendering.per_row, max(0.0, end - time.monotonic()))
        await _quiet(traffic, rendering, min(end, time.monotonic() + _MOST_QUIET_S))


async def _until_there(window: Window, traffic: _Traffic, rendering: Rendering, end: float) -> None:
    """Until what the page waits for stands there. Raises FetchFailed with what it lacks."""
    if not rendering.wait and not rendering.gone:
        await _quiet(traffic, rendering, end)
        return
    while lacks := await _lacking(window, rendering):
        if time.monotonic() >= end:
            raise FetchFailed("timed-out", f"{lacks} after {rendering.within_s:g} s")
        await asyncio.sleep(_POLL_S)


async def _quiet(traffic: _Traffic, rendering: Rendering, end: float) -> None:
    """Until nothing is on its way and nothing came for a while; a page that never rests is taken as it is."""
    while time.monotonic() < end:
        if traffic.is_quiet and time.monotonic() - traffic.last_s >= rendering.quiet_s:
            return
        await asyncio.sleep(_POLL_S)


async def _lacking(window: Window, rendering: Rendering) -> str:
    """What a page is not yet as it should be, in words; "" when it is."""
    for expression in rendering.wait:
        if len(await window.found(expression, rendering.least)) >= rendering.least:
            break
    else:
        if rendering.wait:
            count = f" {rendering.least} times" if rendering.least > 1 else ""
            return f"{rendering.wait[0]} does not stand on the page{count}"
    for expression in rendering.gone:
        if await window.found(expression):
            return f"{expression} still stands on the page"
    return ""


_KEPT = frozenset({"content-language", "date", "last-modified", "etag", "link"})


async def _document(window: Window) -> tuple[str, str]:
    """The document as HTML, and its address. Raises BrowserError."""
    html, url = await window.evaluate(
        "() => [(document.doctype ? '<!DOCTYPE html>' : '') + document.documentElement.outerHTML, location.href]"
    )
    return str(html), str(url)


async def _body(session: Session, collector: str, said: Mapping[str, Any]) -> Reply | None:
    """A background reply with its body; None where the browser has it no more."""
    request, response = said["request"], said["response"]
    try:
        wanted = {"dataType": "response", "request": request["request"], "collector": collector, "disown": True}
        got = await session.send("network.getData", wanted)
    except BrowserError:
        return None
    value = got["bytes"]
    body = base64.b64decode(value["value"]) if value["type"] == "base64" else str(value["value"]).encode()
    asked = Request(str(request["url"]).partition("#")[0], str(request["method"]))
    return Reply(
        asked, asked.url, int(response["status"]), _headers(response), body, time.time(), received_bytes=len(body)
    )


def _headers(response: Mapping[str, Any]) -> Headers:
    """The header fields of a reply, without those of a coding that is undone."""
    found = []
    for one in response.get("headers", ()):
        value = one.get("value", {})
        text = str(value.get("value", "")) if value.get("type") == "string" else ""
        if one["name"].lower() not in ("content-encoding", "content-length", "transfer-encoding", "set-cookie"):
            found.append((str(one["name"]), text))
    return tuple(found)


def _failure(error: BrowserError, rendering: Rendering) -> FetchFailed:
    """What a failed command means for the page."""
    if error.code == "timeout" or "timeout" in error.what.lower():
        return FetchFailed("timed-out", f"the page is not there after {rendering.within_s:g} s")
    if any(sign in error.what for sign in _CONNECTION):
        return FetchFailed("unreachable", error.what.partition("\n")[0])
    return FetchFailed("broken-off", f"the browser: {error.what.partition(chr(10))[0] or error.code}")
