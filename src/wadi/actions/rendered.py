"""A page as a browser shows it, opened for looking: its document, what it asked for in the background, pictures of it."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Coroutine, Sequence
from dataclasses import dataclass
from typing import TypeVar

from wadi.actions.open_page import OpenedPage, robots_verdict
from wadi.page.document import NotADocument, read_document
from wadi.problems import CrawlError, Place, Problem, UsageError
from wadi.urls import without_secret
from wadi.web.browser import Browser
from wadi.web.client import user_agent
from wadi.web.loops import in_loop
from wadi.web.messages import FetchFailed, Reply, Request
from wadi.web.pictures import Frame, draw, picture_of_window
from wadi.web.rendering import Rendering
from wadi.web.robots import refusal
from wadi.web.shown_page import ShownPage

T = TypeVar("T")
Start = Callable[[str, bool], Browser]
"""Makes a browser that says who it is, with or without pictures."""
Frames = Callable[[Reply], Sequence[Frame]]
"""From a page to the frames that are drawn on it."""


@dataclass(frozen=True)
class RenderedPage:
    """A rendered page with what it asked for in the background, and what a person would have seen happen."""

    opened: OpenedPage
    background: tuple[Reply, ...]
    noticed: tuple[str, ...]


def _browser(agent: str, pictures: bool) -> Browser:
    return Browser(agent=agent, pictures=pictures)


def open_rendered(
    page: str, rendering: Rendering | None = None, *, ignore_robots: bool = False, start: Start = _browser
) -> RenderedPage:
    """A page as a browser shows it. Raises UsageError for what is no URL, not to be asked for, or without a browser;
    CrawlError for what does not come."""
    _check(page, ignore_robots=ignore_robots)
    request = Request(page.partition("#")[0])
    shown = _with_browser(page, lambda browser: browser.render(request, rendering), start(user_agent(), False))
    if shown.reply.status >= 400 and not shown.reply.body:
        raise CrawlError(Problem("http-status", f"status {shown.reply.status}", Place(without_secret(page))))
    try:
        document = read_document(shown.reply.body, shown.reply.url, shown.reply.content_type)
    except NotADocument as error:
        raise UsageError(Problem("wrong-kind", f"this is no page: {error}", Place(without_secret(page)))) from error
    return RenderedPage(OpenedPage(document, shown.reply, "the site, rendered", None), shown.background, shown.noticed)


def picture_of(
    page: str,
    rendering: Rendering | None = None,
    *,
    whole: bool = False,
    element: str = "",
    frames: Frames | None = None,
    ignore_robots: bool = False,
    start: Start = _browser,
) -> bytes:
    """A PNG of a page as a browser shows it, of its whole height, or of one element (CSS or XPath); `frames` says from the
    page what is drawn on it. Raises as `open_rendered`."""
    _check(page, ignore_robots=ignore_robots)
    request = Request(page.partition("#")[0])

    async def take(shown: ShownPage) -> bytes:
        if frames is not None:
            reply, _ = await shown.taken()
            await draw(shown.window, frames(reply))
        return await picture_of_window(shown.window, whole=whole, element=element)

    return _with_browser(page, lambda browser: browser.picture(request, take, rendering), start(user_agent(), True))


def _check(page: str, *, ignore_robots: bool) -> None:
    """Raise UsageError for what no browser is sent to."""
    if not page.startswith(("http://", "https://")):
        raise UsageError(Problem("bad-url", "a browser shows pages of sites: http:// or https://", Place(page)))
    verdict = robots_verdict(page) if not ignore_robots else None
    if verdict is not None and not verdict.allowed:
        now = "ignore_robots=True, or --ignore-robots, is for who may"
        raise UsageError(Problem("robots", refusal(page, verdict), now=now))


def _with_browser(page: str, work: Callable[[Browser], Coroutine[None, None, T]], browser: Browser) -> T:
    async def done() -> T:
        try:
            return await work(browser)
        finally:
            await asyncio.shield(browser.close())

    try:
        shown: T = in_loop(done())
    except FetchFailed as failure:
        raise CrawlError(Problem(failure.cause, failure.what, Place(without_secret(page)))) from failure
    return shown
