"""One page in a window of a browser: opened, made ready, taken as a document, and gone on with turn by turn."""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from wadi.web.browser_steps import Window, do, do_per_row, goes_on, rows_in
from wadi.web.messages import END_OF_TURNS, NOTICED, FetchFailed, Headers, Reply, Request
from wadi.web.rendering import Rendering, new_rows, property_attribute
from wadi.web.traffic import Traffic
from wadi.web.webdriver import BrowserError

_POLL_S = 0.05
_LED_ON = "concurrent navigation"
"""What the browser says of a page whose script opens another one at once."""
_MOST_QUIET_S = 5.0
_LEFT_OUT = frozenset({"content-type", "location", "refresh", END_OF_TURNS.lower(), NOTICED.lower()})
"""What a document as it is shown has no use for, and what a site does not say."""


@dataclass
class ShownPage:
    """A page in a window. `turn` counts how often it went on; `before` are the rows that were taken, each by its text and
    links; `end` says why it does not go on, "" while it may."""

    window: Window
    traffic: Traffic
    rendering: Rendering
    turn: int = 0
    before: list[str] = field(default_factory=list)
    end: str = ""

    async def open(self, request: Request) -> None:
        """Open a page and make it ready. Raises FetchFailed with the reason where it does not become so, BrowserError."""
        await _go_to(self.window, request, self.rendering)
        end = time.monotonic() + self.rendering.within_s
        if self.rendering.steps:
            await self._quiet(min(end, time.monotonic() + _MOST_QUIET_S))
        for step in self.rendering.steps:
            await do(self.window, step, max(0.0, end - time.monotonic()))
        await self._ready(end)

    async def go_on(self) -> None:
        """Have the page show what comes next. Raises FetchFailed, BrowserError."""
        assert self.rendering.next is not None
        end = time.monotonic() + self.rendering.within_s
        self.before = await self._look()
        self.turn += 1
        self.end = await goes_on(self.window, self.rendering.next, self._look, end)
        if not self.end:
            await self._quiet(min(end, time.monotonic() + _MOST_QUIET_S))
            await self._ready(end)

    async def taken(self) -> tuple[Reply, tuple[Reply, ...]]:
        """The document, without the rows that were taken before, and the background replies since then. Raises BrowserError."""
        html, url = await self._document()
        background = await self.traffic.bodies(self.window.session)
        background += tuple(_result(url, text) for url, text in self.window.results)
        self.window.results.clear()
        headers: Headers = (("Content-Type", "text/html; charset=utf-8"),)
        headers += tuple((n, v) for n, v in self.traffic.headers if n.lower() not in _LEFT_OUT)
        headers += tuple((NOTICED, _one_line(said)) for said in self.traffic.noticed)
        headers += ((END_OF_TURNS, self.end),) if self.end else ()
        body = html.encode("utf-8", "replace")
        asked = Request(url)
        hops, self.traffic.hops = tuple(self.traffic.hops), []
        reply = Reply(
            asked, url, self.traffic.status or 200, headers, body, time.time(), received_bytes=len(body), hops=hops
        )
        return reply, background

    async def _ready(self, end: float) -> None:
        """Wait until the page is as it should be, and do what is done in its rows."""
        await self._until_there(end)
        if not self.rendering.per_row:
            return
        now = await self._look()
        new = new_rows(self.before, now, self._verb) if self.turn else range(len(now))
        await do_per_row(self.window, self.rendering.per_row, max(0.0, end - time.monotonic()), frozenset(new))
        await self._quiet(min(end, time.monotonic() + _MOST_QUIET_S))

    @property
    def _verb(self) -> str:
        return self.rendering.next.verb if self.rendering.next is not None else ""

    async def _look(self) -> list[str]:
        """The rows that stand there, each by its text and links; of rows that are not the page's own, the replies so far."""
        if not self.rendering.rows:
            return [str(self.traffic.replies)]
        _, rows = await rows_in(self.window)
        return [str(row) for row in await self.window.call_on_all(rows, _SIGNS)]

    async def _until_there(self, end: float) -> None:
        """Until what the page waits for stands there. Raises FetchFailed with what it lacks."""
        rendering = self.rendering
        if not rendering.wait and not rendering.gone:
            await self._quiet(end)
            return
        while lacks := await _lacking(self.window, rendering):
            if time.monotonic() >= end:
                raise FetchFailed("timed-out", f"{lacks} after {rendering.within_s:g} s")
            await asyncio.sleep(_POLL_S)

    async def _quiet(self, end: float) -> None:
        """Until nothing is on its way and nothing came for a while; a page that never rests is taken as it is."""
        while time.monotonic() < end:
            if self.traffic.is_quiet and time.monotonic() - self.traffic.last_s >= self.rendering.quiet_s:
                return
            await asyncio.sleep(_POLL_S)

    async def _document(self) -> tuple[str, str]:
        """The document as HTML, and its address. Raises BrowserError."""
        gone: list[Mapping[str, Any]] = []
        if self.turn and self.rendering.rows:
            _, rows = await rows_in(self.window)
            now = [str(row) for row in await self.window.call_on_all(rows, _SIGNS)]
            new = set() if self.end else set(new_rows(self.before, now, self._verb))
            gone = [row for place, row in enumerate(rows) if place not in new]
        names = {name: property_attribute(name) for name in self.rendering.properties}
        said = await self.window.call_on_all(gone, _DOCUMENT, json.dumps(names))
        return str(said[0]), str(said[1])


_SIGNS = """(_, rows) => rows.map((row) => [row.textContent.replace(/\\s+/g, ' ').trim(), row.id, row.getAttribute('href') || '',
  ...[...row.querySelectorAll('[href]')].map((link) => link.getAttribute('href'))].join(' '))"""
_DOCUMENT = """(given, gone) => {
  const names = Object.entries(JSON.parse(given)), root = document.documentElement;
  const start = document.doctype ? '<!DOCTYPE html>' : '';
  if (!names.length && !gone.length) return [start + root.outerHTML, location.href];
  const copy = document.implementation.createHTMLDocument('').importNode(root, true);  // nothing is loaded there
  const every = [root, ...root.getElementsByTagName('*')], copies = [copy, ...copy.getElementsByTagName('*')];
  const taken = new Set(gone);
  every.forEach((element, place) => {
    for (const [name, attribute] of names) {
      const value = name.split('.').reduce((from, key) => (from == null ? undefined : from[key]), element);
      if (['string', 'number', 'boolean', 'bigint'].includes(typeof value)) copies[place].setAttribute(attribute, String(value));
    }
  });
  every.forEach((element, place) => { if (taken.has(element)) copies[place].remove(); });
  return [start + copy.outerHTML, location.href];
}"""


def _one_line(text: str) -> str:
    return " ".join("".join(letter if letter.isprintable() else " " for letter in text).split())


def _result(url: str, text: str) -> Reply:
    """What a script of the plan's returned, as a reply."""
    body = text.encode("utf-8", "replace")
    return Reply(Request(url), url, 200, (("Content-Type", "application/json"),), body, time.time())


async def _go_to(window: Window, request: Request, rendering: Rendering) -> None:
    """Open a page. Raises BrowserError, FetchFailed."""
    if request.method != "GET":
        raise FetchFailed("bad-url", f"a browser opens pages by GET, and this is {request.method}")
    fields = [{"name": name, "value": {"type": "string", "value": value}} for name, value in request.headers]
    if rendering.language:
        fields.append({"name": "Accept-Language", "value": {"type": "string", "value": rendering.language}})
    await window.session.send("network.setExtraHeaders", {"headers": fields, "contexts": [window.context]})
    to_it = {"context": window.context, "url": request.url, "wait": "interactive"}
    try:
        await window.session.send("browsingContext.navigate", to_it, within_s=rendering.within_s)
    except BrowserError as error:
        if _LED_ON not in error.what:
            raise


async def _lacking(window: Window, rendering: Rendering) -> str:
    """What a page is not yet as it should be, in words; "" when it is."""
    for expression in rendering.wait:
        if len(await window.found(expression, rendering.least)) >= rendering.least:
            break
    else:
        if rendering.wait:
            count = f" {rendering.least} times" if rendering.least > 1 else ""
            return f"{rendering.wait[0]} is not on the page{count}"
    for expression in rendering.gone:
        if await window.found(expression):
            return f"{expression} is still on the page"
    return ""
