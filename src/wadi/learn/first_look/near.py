"""What is near to an expression that picks nothing."""

from __future__ import annotations

from wadi.crawl.kinds import Kind
from wadi.learn.first_look.trying import why_nothing
from wadi.page.document import read_document
from wadi.web.messages import Reply

MOST_HINTS = 2


def near_misses(kind: Kind, reply: Reply) -> list[str]:
    """What on a page without rows is near to the expression that picks none there."""
    document = read_document(
        reply.body, reply.url, reply.content_type, parse=kind.parse, sheet=kind.sheet, header=kind.heading_line
    )
    hints = [hint for rows in kind.rows for hint in why_nothing(document, document.scope, rows.text).hints]
    return list(dict.fromkeys(hints))[:MOST_HINTS]
