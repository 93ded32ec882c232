"""Small tables of HTML, by which objects show themselves in a notebook."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from html import escape

_MOST_ROWS = 30


def html_table(caption: str, headings: Sequence[str], rows: Iterable[Sequence[object]]) -> str:
    """A table with a caption; of many rows the first, and how many more there are. Everything is escaped."""
    every = [[escape(str(cell)) for cell in row] for row in rows]
    head = "".join(f"<th style='text-align:left'>{escape(name)}</th>" for name in headings)
    body = "".join(
        "<tr>" + "".join(f"<td style='text-align:left'>{cell}</td>" for cell in row) + "</tr>"
        for row in every[:_MOST_ROWS]
    )
    more = f"<p>… and {len(every) - _MOST_ROWS:,} more</p>" if len(every) > _MOST_ROWS else ""
    title = f"<caption style='text-align:left;font-weight:bold'>{escape(caption)}</caption>"
    return f"<table>{title}<thead><tr>{head}</tr></thead><tbody>{body}</tbody></table>{more}"
