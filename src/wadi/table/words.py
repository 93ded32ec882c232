"""Figures as people read them."""

from __future__ import annotations

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
