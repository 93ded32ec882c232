"""The frames that show on a picture of a page what `look_at` found there: its candidates for rows and fields, by their marks."""

from __future__ import annotations

from wadi.learn.look import look_at
from wadi.learn.outline import JsonRows
from wadi.page.document import NotADocument, read_document
from wadi.page.expressions import BadExpression, for_browser
from wadi.web.messages import Reply
from wadi.web.pictures import Frame

_COLOURS = ("#0060b0", "#b34700", "#007a5a", "#a03060", "#6a5000")
_MARKED_FIELDS = 30


def frames_of(reply: Reply) -> list[Frame]:
    """The frames of the candidates on a page: those of rows, and of the fields of the likeliest."""
    try:
        look = look_at(read_document(reply.body, reply.url, reply.content_type), reply)
    except NotADocument:
        return []
    frames: list[Frame] = []
    groups = [group for group in look.groups if not isinstance(group.rows, JsonRows)]
    for place, (group, colour) in enumerate(zip(groups, _COLOURS, strict=False)):
        rows = ""
        if group.rows is not None and (rows := _found_by(group.rows.expression)):
            frames.append(Frame(rows, group.mark, colour, is_strong=True))
        if place:
            continue
        for field, mark in zip(group.fields[:_MARKED_FIELDS], group.marks, strict=False):
            if (inside := _found_by(field.expression)) and not (field.label or field.under or field.source):
                frames += [Frame(inside, mark, colour, rows=rows)]
    return frames


def _found_by(expression: str) -> str:
    """An expression as a browser takes it; "" for one that it does not."""
    try:
        return for_browser(expression) if expression else ""
    except BadExpression:
        return ""
