"""What is done on a page in a browser, step by step: clicks and keys as a person gives them, by WebDriver BiDi."""

from __future__ import annotations

import asyncio
import json
import time
from collections import Counter
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from wadi.web.messages import FetchFailed
from wadi.web.rendering import KEYS, Step, new_rows
from wadi.web.webdriver import COMMAND_WITHIN_S, BrowserError, Session

_POLL_S = 0.05
_GIVING_WAY_S = 2.0
_BETWEEN_PAGES = "Cannot find context"
_MOST_ROWS = 100_000
_ACCEPT_WITHIN_S = 2.0
_STILL_S, _STILL_BUSY_S = 1.0, 10.0
"""A page has come to an end when nothing was added for so long, and nothing is on its way; or for so long while something is."""


@dataclass
class Window:
    """One window of a browser with the page that it shows. `is_quiet` says whether nothing that the page asked for is on its
    way, `rows` pick its rows, `fill` puts what is secret into a text that is typed at an address, and `results` are what scripts
    returned, by their addresses. With a `row`, elements are searched inside it alone."""

    session: Session
    context: str
    is_quiet: Callable[[], bool] = lambda: True
    rows: Sequence[str] = ()
    fill: Callable[[str, str], str] = lambda url, text: text
    row: Mapping[str, Any] | None = None
    results: list[tuple[str, str]] = field(default_factory=list)

    def inside(self, row: Mapping[str, Any]) -> Window:
        """The same window, with elements searched inside one of them alone."""
        return replace(self, row=row)

    async def _send(self, method: str, parameters: Mapping[str, Any], *, within_s: float = COMMAND_WITHIN_S) -> Any:
        """A command that is given again while one page of the window gives way to another. Raises BrowserError."""
        end = time.monotonic() + _GIVING_WAY_S
        while True:
            try:
                return await self.session.send(method, parameters, within_s=within_s)
            except BrowserError as error:
                if _BETWEEN_PAGES not in error.what or time.monotonic() >= end:
                    raise
            await asyncio.sleep(_POLL_S)

    async def evaluate(self, expression: str, *, within_s: float = 10.0) -> Any:
        """What an expression of JavaScript gives, a promise's value too, as JSON has it. Raises BrowserError."""
        said = await self._send(
            "script.evaluate",
            {
                "expression": f"(async () => JSON.stringify(await {expression}))()",
                "target": {"context": self.context},
                "awaitPromise": True,
            },
            within_s=within_s,
        )
        value = _value(said)
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
        said = await self._send("browsingContext.locateNodes", wanted)
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
        await self._send("input.performActions", {"context": self.context, "actions": list(sources)})

    async def call_on(self, node: Mapping[str, Any], function: str, *arguments: Any) -> Any:
        """Call a function of JavaScript with an element and arguments. Raises BrowserError."""
        said = await self._send(
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
        return _value(said)

    async def call_on_all(self, nodes: Sequence[Mapping[str, Any]], function: str, given: str = "") -> Any:
        """What a function of JavaScript gives, as JSON has it, for a text and a list of elements. Raises BrowserError."""
        said = await self._send(
            "script.callFunction",
            {
                "functionDeclaration": f"(given, ...nodes) => JSON.stringify(({function})(given, nodes))",
                "target": {"context": self.context},
                "awaitPromise": False,
                "arguments": [{"type": "string", "value": given}, *({"sharedId": n["sharedId"]} for n in nodes)],
            },
        )
        value = _value(said)
        return json.loads(value) if isinstance(value, str) else None


def _value(said: Mapping[str, Any]) -> Any:
    """What a script gave. Raises BrowserError where it raised an exception."""
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


async def do_per_row(window: Window, steps: Sequence[Step], within_s: float, places: frozenset[int]) -> None:
    """Do steps inside the rows at some places. A row without what a step wants is passed over from there on, as long as others
    have it. Raises FetchFailed, BrowserError."""
    end = time.monotonic() + within_s
    expression, found = await rows_in(window)
    count = len(found)
    lacking: Counter[Step] = Counter()
    for place in sorted(places):
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
        if times == len(places):
            raise FetchFailed("broken-off", f"{step}: in none of {times} rows of {expression}")


async def goes_on(window: Window, step: Step, look: Callable[[], Awaitable[list[str]]], end: float) -> str:
    """Have a listing go on by a step: "" once other rows are there, else why it does not. Raises FetchFailed, BrowserError."""
    before = await look()

    async def now() -> list[str]:
        rows = await look()
        return rows if rows and new_rows(before, rows, step.verb) else before  # emptied, until the next ones come

    try:
        if step.verb == "scroll":
            changed = await _scrolled_on(window, step, now, before, end)
        elif step.verb == "press":
            await _press(window, step, end - time.monotonic())
            changed = await _grows(window, now, end, before)
        else:
            button, why = await _pressable(window, step.arguments[0], end)
            if button is None:
                return why
            await _point_at(window, button, press=True)
            changed = await _grows(window, now, end, before)
    except FetchFailed as failure:
        raise FetchFailed(failure.cause, f"{step}: {failure.what}") from failure
    return "" if changed else "still"


async def rows_in(window: Window) -> tuple[str, list[Mapping[str, Any]]]:
    """The first expression that picks rows, and these. Raises BrowserError."""
    for expression in window.rows:
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
    url = str(await window.call_on_all((), "() => location.href"))
    await _keys(window, window.fill(url, text))


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


_SCROLL = """(share, lists) => {
  const top = lists[0] || document.scrollingElement || document.documentElement;
  const most = top.scrollHeight - top.clientHeight;
  top.scrollTop = share ? Math.min(most, top.scrollTop + Math.max(40, top.clientHeight * share)) : most;
  return [top.scrollTop >= most - 2, top.scrollHeight, document.getElementsByTagName('*').length];
}"""
_A_BIT = "0.7"
"""How far a list is scrolled at a time, of its window's height, where it may take rows out again."""


async def _scroll(window: Window, step: Step, left_s: float) -> None:
    """To the end, and again while something is added, until so many rows are there."""
    end = time.monotonic() + left_s
    lists = await _scrolled(window, step, left_s)

    async def to_end() -> Any:
        return (await window.call_on_all(lists, _SCROLL))[1:]

    while not await _enough(window, step) and await _grows(window, to_end, end):
        pass


async def _scrolled(window: Window, step: Step, left_s: float) -> list[Mapping[str, Any]]:
    """The list that is scrolled; none for the page."""
    return [await window.waited_for(step.expression, left_s)] if step.expression else []


async def _enough(window: Window, step: Step) -> bool:
    """Whether the rows are there that a step wants."""
    return step.count is not None and len((await rows_in(window))[1]) >= step.count


async def _scrolled_on(
    window: Window, step: Step, rows: Callable[[], Awaitable[list[str]]], before: list[str], end: float
) -> bool:
    """Bit by bit until other rows are there; False when the end is reached and nothing comes."""
    lists = await _scrolled(window, step, end - time.monotonic())
    still = _Stillness(window)
    height = 0
    while time.monotonic() < end:
        is_end, now_high, _ = await window.call_on_all(lists, _SCROLL, _A_BIT)
        await asyncio.sleep(_POLL_S * 2)
        if await rows() != before:
            return True
        if not is_end or now_high != height:
            still, height = _Stillness(window), now_high
        elif still.is_long():
            return False
    raise FetchFailed("timed-out", "the page goes on and on")


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
        return await window.call_on_all((), _SIZE)

    while not await _enough(window, step):
        button, _ = await _pressable(window, expression, end)
        if button is None:
            return
        before = await size()
        await _point_at(window, button, press=True)
        if not await _grows(window, size, end, before):
            return


async def _pressable(window: Window, expression: str, end: float) -> tuple[Mapping[str, Any] | None, str]:
    """A button once it can be pressed; None with why ("gone", "off") when it cannot and stays so while nothing is on its way.
    Raises FetchFailed where something covers it to the end."""
    still, state = _Stillness(window), "gone"
    while time.monotonic() < end:
        nodes = await window.found(expression)
        state = await window.call_on(nodes[0], _BUTTON) if nodes else "gone"
        if state == "ready":
            return nodes[0], ""
        if state == "covered":
            still = _Stillness(window)
        elif still.is_long():
            return None, state
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


async def _run(window: Window, step: Step, left_s: float) -> None:
    """Run a script of the plan's, and keep what it returns. Raises BrowserError."""
    assert step.script is not None
    found = await window.evaluate(f"(async () => {{\n{step.script.source}\n}})()", within_s=left_s)
    if found is not None:
        window.results.append((step.script.url, json.dumps(found, ensure_ascii=False)))


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
    "run": _run,
}
