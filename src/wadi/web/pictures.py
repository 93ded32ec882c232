"""Pictures of a page in a browser: of the window, of the whole height, of one element; with frames drawn on it."""

from __future__ import annotations

import base64
import contextlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any

from wadi.web.browser_steps import Window, do
from wadi.web.messages import FetchFailed
from wadi.web.rendering import Step

_MOST_SCROLLED_S = 15.0
_WITHIN_S = 10.0


@dataclass(frozen=True)
class Frame:
    """A frame around the first element that an expression picks (CSS or XPath), with a mark ("" for none) and a colour (of
    CSS). `is_strong` ones are thicker, with the mark at the right."""

    expression: str
    mark: str
    colour: str
    is_strong: bool = False


async def picture_of_window(window: Window, *, whole: bool = False, element: str = "") -> bytes:
    """A PNG of a window; of its page's whole height, scrolled before, so that it is loaded; or of the first element that an
    expression picks. Raises FetchFailed, BrowserError."""
    wanted: dict[str, Any] = {"context": window.context, "origin": "document" if whole or element else "viewport"}
    if whole:
        with contextlib.suppress(FetchFailed):  # a page without an end is shown as far as it came
            await do(window, Step("scroll"), _MOST_SCROLLED_S)
        await window.call_on_all((), "() => { window.scrollTo({top: 0, behavior: 'instant'}); return 0; }")
    if element:
        node = await window.waited_for(element, _WITHIN_S)
        await window.call_on(node, "(e) => e.scrollIntoView({block: 'center', behavior: 'instant'})")
        wanted["clip"] = {"type": "element", "element": {"sharedId": node["sharedId"]}}
    taken = await window.session.send("browsingContext.captureScreenshot", wanted)
    return base64.b64decode(taken["data"])


async def draw(window: Window, frames: Sequence[Frame]) -> None:
    """Draw frames on the page. Raises BrowserError."""
    found = [await window.found(frame.expression) for frame in frames]
    nodes: list[Mapping[str, Any]] = [one[0] for one in found if one]
    told = [asdict(frame) for frame, one in zip(frames, found, strict=True) if one]
    await window.call_on_all(nodes, _DRAW, json.dumps(told))


_DRAW = """(told, nodes) => {
  const marks = [], layer = document.createElement('div');
  layer.style.cssText = 'position:absolute;left:0;top:0;width:0;height:0;z-index:2147483647;pointer-events:none';
  JSON.parse(told).forEach((frame, place) => {
    const box = nodes[place].getBoundingClientRect(), line = frame.is_strong ? 3 : 1.5;
    if (!box.width || !box.height) return;
    const left = box.left + scrollX, top = box.top + scrollY;
    const one = document.createElement('div');
    one.style.cssText = `position:absolute;box-sizing:border-box;left:${left - line}px;top:${top - line}px;`
      + `width:${box.width + 2 * line}px;height:${box.height + 2 * line}px;border:${line}px solid ${frame.colour}`;
    layer.append(one);
    if (!frame.mark) return;
    const mark = document.createElement('div');
    mark.textContent = frame.mark;
    const width = 8 + 7 * frame.mark.length, high = top - line;
    let from = Math.max(0, left - line), taken;
    const covers = (other) => Math.abs(other.high - high) < 14 && from < other.from + other.width && other.from < from + width;
    while (!frame.is_strong && (taken = marks.find(covers))) from = taken.from + taken.width + 1;
    if (!frame.is_strong) marks.push({from, width, high});
    const side = frame.is_strong ? `right:${-(box.right + scrollX + line)}px` : `left:${from}px`;
    mark.style.cssText = `position:absolute;${side};top:${Math.max(0, top - line - 15)}px;height:15px;`
      + `padding:0 4px;font:bold 11px/15px sans-serif;color:#fff;background:${frame.colour};white-space:nowrap`;
    layer.append(mark);
  });
  document.documentElement.append(layer);
  return 0;
}"""
