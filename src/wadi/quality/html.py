"""Pages of our own: templates filled with autoescaping, so that nothing from a site can put markup or script into them."""

from __future__ import annotations

from functools import cache
from typing import Any


@cache
def _environment() -> Any:
    from jinja2 import Environment, PackageLoader, StrictUndefined

    made = Environment(
        loader=PackageLoader("wadi.quality", "templates"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    made.filters["n"] = lambda value: f"{value:,}"
    made.filters["share"] = _share
    made.filters["figure"] = figure
    made.filters["short"] = _short
    return made


def rendered(template: str, **values: Any) -> str:
    """A template filled; everything is escaped but what the templates themselves are made of."""
    return str(_environment().get_template(template).render(**values))


def _share(value: float) -> str:
    """`96 %`, never rounded up to 100 or down to 0."""
    if 0 < value < 0.01:
        return "<1 %"
    return ">99 %" if 0.99 < value < 1 else f"{value:.0%}".replace("%", " %")


def figure(value: Any) -> str:
    """A number in as many digits as say something."""
    if not isinstance(value, int | float) or isinstance(value, bool):
        return "" if value is None else str(value)
    if abs(value) >= 1e6 or value == int(value):
        return f"{value:,.0f}"
    return f"{value:,.4g}" if abs(value) < 1000 else f"{value:,.1f}"


def _short(value: Any, most: int = 80) -> str:
    from wadi.problems import shortened
    from wadi.quality.compare import shown

    return shortened(shown(value), most)
