"""What is done on a page in a browser, step by step: clicks and keys as a person gives them, by WebDriver BiDi."""

from __future__ import annotations

import asyncio
import json
import time
from collections import Counter
from collections.abc import Awaitable, Callable, Mapping, Sequence
from typing import Any

from wadi.web.messages import FetchFailed
from wadi.web.rendering import KEYS, Step
from wadi.web.webdriver import BrowserError, Session

_POLL_S = 0.05
_MOST_ROWS = 100_000
_ACCEPT_WITHIN_S = 2.0
_STILL_S, _STILL_BUSY_S = 1.0, 10.0
"""A page has come to an end when nothing was added for so long, and nothing is on its way; or for so long while something is."""


class Window:
    """One window of a browser with the page that it shows. `is_quiet` says whether nothing that the page asked for is on its
    way; with a `row`, elements are searched inside it alone."""

    def __init__(
        self,
        session: Session,
        context: str,
        *,
        is_quiet: Callable[[], bool] = lambda: True,
        row: Mapping[str, Any] | None = None,
    ) -> None:
        self.session = session
        self.context = context
        self.is_quiet = is_quiet
        self.row = row

    def inside(self, row: Mapping[str, Any]) -> Window:
        """The same window, with elements searched inside one of them alone."""
        return Window(self.session, self.context, is_quiet=self.is_quiet, row=row)

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
        if expression == "." and self.row is not None:
            return [self.row]
        kind = "xpath" if expression.startswith(("/", "(", "./")) else "css"
        locator = {"type": kind, "value": expression}
        wanted = {"context": self.context, "locator": locator, "maxNodeCount": most}
        if self.row is not None:
            wanted["startNodes"] = [{"sharedId": self.row["sharedId"]}]
        said = await self.session.send("browsingContext.locateNodes", wanted)
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


async def do(window: Window, step: Step, left_s: float) -> None:
    """Do a step; `left_s` is how long it may take. Raises FetchFailed where it cannot be done, BrowserError."""
    try:
        await _STEPS[step.verb](window, step, left_s)
    except FetchFailed as failure:
        raise FetchFailed(failure.cause, f"{step}: {failure.what}") from failure
    except BrowserError as error:
        if error.code in ("timeout", "gone"):
            raise
        raise FetchFailed("broken-off", f"{step}: {error.what.partition(chr(10))[0] or error.code}") from error


async def do_per_row(window: Window, rows: Sequence[str], steps: Sequence[Step], within_s: float) -> None:
    """Do steps inside each element that the first of `rows` with any picks. A row without what a step wants is passed over
    from there on, as long as others have it. Raises FetchFailed, BrowserError."""
    end = time.monotonic() + within_s
    expression, found = await _rows(window, rows)
    count = len(found)
    lacking: Counter[Step] = Counter()
    for place in range(count):
        if not await window.call_on(found[place], "(row) => row.isConnected"):  # a click had the rows drawn anew
            found = await window.found(expression, _MOST_ROWS)
            if len(found) != count:
                raise FetchFailed("broken-off", f"{count} rows became {len(found)} while something was done in them")
        row = window.inside(found[place])
        for step in steps:
            if step.verb not in ("wait", "press") and not await row.found(step.arguments[0]):
                lacking[step] += 1
                break
            await do(row, step, max(0.0, end - time.monotonic()))
    for step, times in lacking.items():
        if times == count:
            raise FetchFailed("broken-off", f"{step}: in none of {count} rows of {expression}")


async def _rows(window: Window, expressions: Sequence[str]) -> tuple[str, list[Mapping[str, Any]]]:
    """The first expression that picks rows, and these. Raises BrowserError."""
    for expression in expressions:
        if found := await window.found(expression, _MOST_ROWS):
            return expression, found
    return "", []


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
    """To the end, and again while something is added."""
    selector = step.arguments[0] if step.arguments else ""
    if selector:
        await window.waited_for(selector, left_s)

    async def to_end() -> Any:
        return await window.evaluate(_SCROLL, selector)

    end = time.monotonic() + left_s
    while await _grows(window, to_end, end):
        pass


_SIZE = "() => document.getElementsByTagName('*').length"
_BUTTON = """(button) => {
  const box = button.getBoundingClientRect();
  if (!box.width || !box.height || getComputedStyle(button).visibility === 'hidden') return 'gone';
  if (button.disabled || button.getAttribute('aria-disabled') === 'true') return 'off';
  button.scrollIntoView({block: 'center', inline: 'center', behavior: 'instant'});
  const now = button.getBoundingClientRect();
  const top = document.elementFromPoint(now.left + now.width / 2, now.top + now.height / 2);
  return top && (button.contains(top) || top.contains(button)) ? 'ready' : 'covered';
}"""


async def _more(window: Window, step: Step, left_s: float) -> None:
    """Click while the button is there, is not switched off, and something is added by it."""
    expression, end = step.arguments[0], time.monotonic() + left_s
    await window.waited_for(expression, left_s)

    async def size() -> Any:
        return await window.evaluate(_SIZE)

    while (button := await _pressable(window, expression, end)) is not None:
        before = await size()
        await _point_at(window, button, press=True)
        if not await _grows(window, size, end, before):
            return


async def _pressable(window: Window, expression: str, end: float) -> Mapping[str, Any] | None:
    """A button once it can be pressed; None when it is gone or switched off and stays so while nothing is on its way. Raises
    FetchFailed where something covers it to the end."""
    still, state = _Stillness(window), "gone"
    while time.monotonic() < end:
        nodes = await window.found(expression)
        state = await window.call_on(nodes[0], _BUTTON) if nodes else "gone"
        if state == "ready":
            return nodes[0]
        if state == "covered":
            still = _Stillness(window)
        elif still.is_long():
            return None
        await asyncio.sleep(_POLL_S)
    raise FetchFailed("timed-out", "something covers it" if state == "covered" else "the page goes on and on")


class _Stillness:
    """How long nothing happens in a window, from now on."""

    def __init__(self, window: Window) -> None:
        self._window = window
        self._since = self._busy = time.monotonic()

    def is_long(self) -> bool:
        """Whether it is long enough for an end."""
        now = time.monotonic()
        if not self._window.is_quiet():
            self._busy = now
        return now - self._busy >= _STILL_S or now - self._since >= _STILL_BUSY_S


async def _grows(window: Window, size: Callable[[], Awaitable[Any]], end: float, before: Any = None) -> bool:
    """Whether a page grows: True as soon as it does, False when it was still for long enough. Raises FetchFailed at the end
    of the time."""
    still = _Stillness(window)
    before = await size() if before is None else before
    while time.monotonic() < end:
        if await size() != before:
            return True
        if still.is_long():
            return False
        await asyncio.sleep(_POLL_S * 2)
    raise FetchFailed("timed-out", "the page goes on and on")


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
    "more": _more,
    "wait": _wait,
}
