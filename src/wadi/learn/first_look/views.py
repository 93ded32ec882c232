"""What was found on a page, as a notebook shows it."""

from __future__ import annotations

from wadi.actions.open_page import OpenedPage
from wadi.learn.first_look.look import RowsFound, look_at
from wadi.table.words import html_table

_MOST_FIELDS = 8


def page_html(page: OpenedPage) -> str:
    """The page's kind and its candidates for rows and fields, with their marks."""
    look = look_at(page.document, page.reply)
    rows = []
    for group in look.groups:
        count = (
            ""
            if group.rows is None
            else group.rows.rows.count
            if isinstance(group.rows, RowsFound)
            else group.rows.count
        )
        names = ", ".join(field.name for field in group.fields[:_MOST_FIELDS])
        more = f" and {len(group.fields) - _MOST_FIELDS} more" if len(group.fields) > _MOST_FIELDS else ""
        rows.append((group.mark, "the page" if group.rows is None else group.rows.expression, count, names + more))
    return html_table(f"{look.kind.kind}: {'; '.join(look.kind.reasons)}", ("mark", "rows", "count", "fields"), rows)
