"""Figures as people read them, and small tables of HTML, by which objects show themselves in a notebook."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from html import escape
from typing import Any


def figure(value: Any) -> str:
    """A number in as many digits as say something; nothing for none."""
    if not isinstance(value, int | float) or isinstance(value, bool):
        return "" if value is None else str(value)
    if abs(value) >= 1e6 or value == int(value):
        return f"{value:,.0f}"
    return f"{value:,.4g}" if abs(value) < 1000 else f"{value:,.1f}"


def share(value: float) -> str:
    """A share from 0 to 1 as `96 %`, never rounded up to 100 or down to 0."""
    if 0 < value < 0.01:
        return "<1 %"
    return ">99 %" if 0.99 < value < 1 else f"{100 * value:.0f} %"


def percent(part: int, whole: int) -> str:
    """A part of a whole as a share; nothing of nothing."""
    return share(part / whole) if whole else ""


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
