"""Which way leads to a page's data: the page as it comes, the JSON that its scripts ask for, or a browser that shows it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from wadi.learn.first_look.look import Look, look_at
from wadi.learn.first_look.outline import JsonRows
from wadi.page.document import NotADocument, read_document
from wadi.page.text import text_of
from wadi.web.messages import Reply

Way = Literal["plain", "JSON behind", "browser"]
_LEAST_LETTERS = 4


@dataclass(frozen=True)
class Behind:
    """A background reply with rows: its request, the likeliest rows, and whether the page shows them."""

    reply: Reply
    rows: JsonRows
    is_shown: bool


@dataclass(frozen=True)
class ThreeWays:
    """A page as it came beside the page as a browser shows it. `way` is the plainest that has the rows; `behind` are
    background replies with rows, those that the page shows first; `only_rendered` is how many rows stand in the rendered page
    alone."""

    raw: Look
    rendered: Look
    way: Way
    behind: tuple[Behind, ...]
    only_rendered: int

    @property
    def lines(self) -> list[str]:
        """What a plan says for this way."""
        if self.way == "JSON behind":
            found = self.behind[0]
            return [f'addresses = ["{found.reply.request.url}"]', f'rows = "{found.rows.expression}"']
        if self.way == "browser":
            rows = self.rendered.rows[0].expression if self.rendered.rows else ""
            return ["browser = true", *([f'rows = "{rows}"'] if rows else [])]
        return [f'rows = "{self.raw.rows[0].expression}"'] if self.raw.rows else []


def three_ways(raw: Look, rendered: Look, background: Sequence[Reply]) -> ThreeWays:
    """Compare a page with what a browser makes of it. Method: the main rows of the rendered page stand in the raw one when it
    has as many with the same first text; in a background reply when a text of its first row is shown in them."""
    here, there = _main_rows(raw), _main_rows(rendered)
    missing = max(0, len(there) - len(here))
    is_same = len(here) >= len(there) and (not there or there[0] in here)
    behind = sorted(_behind(background, "\n".join(there)), key=lambda one: (not one.is_shown, -one.rows.count))
    if is_same:
        way: Way = "plain"
    elif behind and behind[0].is_shown:
        way = "JSON behind"
    else:
        way = "browser"
    return ThreeWays(raw, rendered, way, tuple(behind), 0 if is_same else missing)


def _main_rows(look: Look) -> list[str]:
    return [text_of(row) for row in look.main_rows.rows.rows] if look.main_rows is not None else []


def _behind(background: Sequence[Reply], shown: str) -> list[Behind]:
    """The background replies that have rows."""
    found = []
    for reply in background:
        try:
            document = read_document(reply.body, reply.url, reply.content_type)
        except NotADocument:
            continue
        look = look_at(document, reply) if document.kind == "json" else None
        if look is None or not look.json_rows:
            continue
        rows = look.json_rows[0]
        samples = [sample for guess in rows.fields for sample in guess.samples[:1] if len(sample) >= _LEAST_LETTERS]
        found.append(Behind(reply, rows, any(sample in shown for sample in samples)))
    return found
