"""What is done on a page in a browser, step by step: clicks and keys as a person gives them, by WebDriver BiDi."""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import Mapping
from typing import Any

from wadi.web.messages import FetchFailed
from wadi.web.rendering import KEYS, Rendering, Step
from wadi.web.webdriver import BrowserError, Session

_POLL_S = 0.05
_ACCEPT_WITHIN_S = 2.0
_STILL_S = 1.0
"""Scrolling has come to an end when nothing was added for so long."""


class Window:
    """One window of a browser with the page that it shows."""

    def __init__(self, session: Session, context: str) -> None:
        self.session = session
        self.context = context

    async def evaluate(self, function: str, *arguments: Any, within_s: float = 10.0) -> Any:
        """What a function of JavaScript gives for arguments of JSON. Raises BrowserError."""
        given = ", ".join(json.dumps(argument) for argument in arguments)
        said = await self.session.send(
            "script.evaluate",
            {
                "expression": f"JSON.stringify(({function})({given}))",
                "target": {"context": self.context},
                "awaitPromise": False,
            },
            within_s=within_s,
        )
        if said.get("type") == "exception":
            raise BrowserError("javascript error", str(said.get("exceptionDetails", {}).get("text", "")))
        value = said.get("result", {}).get("value")
        return json.loads(value) if isinstance(value, str) else None

    async def found(self, expression: str, most: int = 1) -> list[Mapping[str, Any]]:
        """The first elements that an expression picks, CSS or XPath. Raises BrowserError."""
        kind = "xpath" if expression.startswith(("/", "(", "./")) else "css"
        locator = {"type": kind, "value": expression}
        said = await self.session.send(
            "browsingContext.locateNodes", {"context": self.context, "locator": locator, "maxNodeCount": most}
        )
        return list(said["nodes"])

    async def waited_for(self, expression: str, within_s: float) -> Mapping[str, Any]:
        """The first element that an expression picks, once it is there. Raises FetchFailed."""
        end = time.monotonic() + within_s
        while True:
            nodes = await self.found(expression)
            if nodes:
                return nodes[0]
            if time.monotonic() >= end:
                raise FetchFailed("timed-out", f"{expression} is not on the page after {within_s:g} s")
            await asyncio.sleep(_POLL_S)

    async def perform(self, *sources: Mapping[str, Any]) -> None:
        """Give actions of a pointer or of keys. Raises BrowserError."""
        await self.session.send("input.performActions", {"context": self.context, "actions": list(sources)})

    async def call_on(self, node: Mapping[str, Any], function: str, *arguments: Any) -> Any:
        """Call a function of JavaScript with an element and arguments. Raises BrowserError."""
        said = await self.session.send(
            "script.callFunction",
            {
                "functionDeclaration": function,
                "target": {"context": self.context},
                "awaitPromise": False,
                "arguments": [
                    {"sharedId": node["sharedId"]},
                    *({"type": "string", "value": str(a)} for a in arguments),
                ],
            },
        )
        if said.get("type") == "exception":
            raise BrowserError("javascript error", str(said.get("exceptionDetails", {}).get("text", "")))
        return said.get("result", {}).get("value")


async def do(window: Window, step: Step, rendering: Rendering, left_s: float) -> None:
    """Do a step; `left_s` is how long it may take. Raises FetchFailed where it cannot be done, BrowserError."""
    try:
        await _STEPS[step.verb](window, step, left_s)
    except FetchFailed as failure:
        raise FetchFailed(failure.cause, f"{step}: {failure.what}") from failure
    except BrowserError as error:
        if error.code in ("timeout", "gone"):
            raise
        raise FetchFailed("broken-off", f"{step}: {error.what.partition(chr(10))[0] or error.code}") from error


async def _click(window: Window, step: Step, left_s: float) -> None:
    await _point_at(window, await window.waited_for(step.arguments[0], left_s), press=True)


async def _accept(window: Window, step: Step, left_s: float) -> None:
    try:
        node = await window.waited_for(step.arguments[0], min(_ACCEPT_WITHIN_S, left_s))
    except FetchFailed:
        return
    await _point_at(window, node, press=True)


async def _hover(window: Window, step: Step, left_s: float) -> None:
    await _point_at(window, await window.waited_for(step.arguments[0], left_s), press=False)


async def _point_at(window: Window, node: Mapping[str, Any], *, press: bool) -> None:
    """Move the pointer to the middle of an element, brought into the middle of the window, where nothing sticky covers it."""
    await window.call_on(node, "(e) => e.scrollIntoView({block: 'center', inline: 'center', behavior: 'instant'})")
    origin = {"type": "element", "element": {"sharedId": node["sharedId"]}}
    actions: list[Mapping[str, Any]] = [{"type": "pointerMove", "x": 0, "y": 0, "origin": origin}]
    if press:
        actions += [{"type": "pointerDown", "button": 0}, {"type": "pointerUp", "button": 0}]
    await window.perform({"type": "pointer", "id": "mouse", "parameters": {"pointerType": "mouse"}, "actions": actions})


async def _type(window: Window, step: Step, left_s: float) -> None:
    expression, text = step.arguments
    node = await window.waited_for(expression, left_s)
    await _point_at(window, node, press=True)
    await window.call_on(node, "(e) => { if (e.select) e.select(); }")
    await _keys(window, text)


async def _press(window: Window, step: Step, left_s: float) -> None:
    await _keys(window, KEYS[step.arguments[0].lower()])


async def _keys(window: Window, text: str) -> None:
    actions = [{"type": kind, "value": letter} for letter in text for kind in ("keyDown", "keyUp")]
    await window.perform({"type": "key", "id": "keyboard", "actions": actions})


_CHOOSE = """(list, wanted) => {
  const fold = (text) => text.trim().replace(/\\s+/g, ' ').toLowerCase();
  const option = [...(list.options || [])].find((o) => fold(o.textContent) === fold(wanted) || o.value === wanted);
  if (!option) return 'no';
  option.selected = true;
  for (const name of ['input', 'change']) list.dispatchEvent(new Event(name, {bubbles: true}));
  return 'yes';
}"""


async def _choose(window: Window, step: Step, left_s: float) -> None:
    expression, text = step.arguments
    if await window.call_on(await window.waited_for(expression, left_s), _CHOOSE, text) != "yes":
        raise FetchFailed("broken-off", f'no option says "{text}"')


_SCROLL = """(selector) => {
  const list = selector ? document.querySelector(selector) : null;
  const top = list || document.scrollingElement || document.documentElement;
  top.scrollTop = top.scrollHeight;
  return [top.scrollHeight, document.getElementsByTagName('*').length];
}"""


async def _scroll(window: Window, step: Step, left_s: float) -> None:
    """To the end, and again while something is added, until nothing was for a second."""
    selector = step.arguments[0] if step.arguments else ""
    if selector:
        await window.waited_for(selector, left_s)
    end, last, since = time.monotonic() + left_s, None, time.monotonic()
    while time.monotonic() < end:
        size = await window.evaluate(_SCROLL, selector)
        now = time.monotonic()
        if size != last:
            last, since = size, now
        elif now - since >= _STILL_S:
            return
        await asyncio.sleep(_POLL_S * 2)
    raise FetchFailed("timed-out", f"the page goes on after {left_s:g} s of scrolling")


async def _wait(window: Window, step: Step, left_s: float) -> None:
    if (seconds := step.seconds) is not None:
        await asyncio.sleep(min(seconds, left_s))
    else:
        await window.waited_for(step.arguments[0], left_s)


_STEPS = {
    "click": _click,
    "accept": _accept,
    "hover": _hover,
    "type": _type,
    "choose": _choose,
    "press": _press,
    "scroll": _scroll,
    "wait": _wait,
}
