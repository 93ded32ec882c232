"""The frames that show on a picture of a page what `look_at` found there: its candidates for rows and fields, by their marks."""

from __future__ import annotations

from wadi.crawl.requests import source_of
from wadi.learn.clues.field_guess import FieldGuess
from wadi.learn.first_look.details import field_of_guess
from wadi.learn.first_look.look import Look, RowsFound, look_at
from wadi.learn.first_look.outline import JsonRows
from wadi.page.cells import Notes, read_column
from wadi.page.document import NotADocument, read_document
from wadi.page.field import Picked, Steps
from wadi.page.nodes import Element, Scope, children, parent
from wadi.web.messages import Reply
from wadi.web.pictures import Frame

_COLOURS = ("#0060b0", "#b34700", "#007a5a", "#a03060", "#6a5000")
"""Of the candidates in turn: apart from each other for readers who see few colours, too, and dark enough for white letters."""
_MOST_FIELDS, _MOST_ROWS = 30, 300


def frames_of(reply: Reply) -> list[Frame]:
    """The frames of the candidates on a page: those of rows, and of the fields of the likeliest, in its first row."""
    try:
        look = look_at(read_document(reply.body, reply.url, reply.content_type), reply)
    except NotADocument:
        return []
    frames: list[Frame] = []
    groups = [group for group in look.groups if not isinstance(group.rows, JsonRows)]
    for place, (group, colour) in enumerate(zip(groups, _COLOURS, strict=False)):
        rows = group.rows.rows.rows if isinstance(group.rows, RowsFound) else ()
        frames += [
            Frame(_way_to(row), "" if number else group.mark, colour, is_strong=True)
            for number, row in enumerate(rows[:_MOST_ROWS])
        ]
        if place == 0:
            fields = zip(group.fields[:_MOST_FIELDS], group.marks, strict=False)
            frames += _of_fields(look, rows[0] if rows else look.document.scope, list(fields), colour)
    return frames


def _of_fields(look: Look, scope: Scope, fields: list[tuple[FieldGuess, str]], colour: str) -> list[Frame]:
    """One frame for each element that fields are taken from, with the marks of all of them."""
    marks: dict[Element, list[str]] = {}
    for guess, mark in fields:
        steps: Steps = []
        read_column(field_of_guess(guess), [scope], source_of(look.document, look.reply), Notes(), steps)
        nodes = next((step.nodes for step in steps if isinstance(step, Picked)), [])
        if nodes and isinstance(nodes[0], Element):
            marks.setdefault(nodes[0], []).append(mark)
    return [Frame(_way_to(element), " ".join(named), colour) for element, named in marks.items()]


def _way_to(element: Element) -> str:
    """An element's place as an XPath from the root."""
    steps: list[str] = []
    here: Element | None = element
    while here is not None:
        above = parent(here)
        alike = children(above, here.tag) if above is not None else [here]
        steps.append(f"*[name()='{here.tag}' or local-name()='{here.tag}'][{alike.index(here) + 1}]")
        here = above
    return "/" + "/".join(reversed(steps))
