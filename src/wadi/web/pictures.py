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
_MOST_FRAMES = 400


@dataclass(frozen=True)
class Frame:
    """A frame around what an expression picks, inside the `place`-th of what `rows` picks where there is one, with a mark at
    the first. `is_strong` ones are drawn thicker."""

    expression: str
    mark: str
    colour: str
    rows: str = ""
    place: int = 0
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
    nodes: list[Mapping[str, Any]] = []
    told: list[dict[str, Any]] = []
    for frame in frames:
        inside = window
        if frame.rows:
            rows = await window.found(frame.rows, frame.place + 1)
            if len(rows) <= frame.place:
                continue
            inside = window.inside(rows[frame.place])
        found = await inside.found(frame.expression, 1 if frame.rows else _MOST_FRAMES)
        for place, node in enumerate(found):
            nodes.append(node)
            told.append({**asdict(frame), "mark": frame.mark if place == 0 else ""})
    await window.call_on_all(nodes, _DRAW, json.dumps(told))


_DRAW = """(told, nodes) => {
  const layer = document.createElement('div');
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
    mark.style.cssText = `position:absolute;left:${Math.max(0, left - line)}px;top:${Math.max(0, top - line - 15)}px;height:15px;`
      + `padding:0 4px;font:bold 11px/15px sans-serif;color:#fff;background:${frame.colour};white-space:nowrap`;
    layer.append(mark);
  });
  document.documentElement.append(layer);
  return 0;
}"""
