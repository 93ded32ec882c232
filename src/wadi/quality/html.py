"""Pages of our own: templates filled with autoescaping, so that nothing from a site can put markup or script into them."""

from __future__ import annotations

from functools import cache
from typing import Any

from wadi.table.words import figure, share


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
    made.filters["share"] = share
    made.filters["figure"] = figure
    made.filters["short"] = _short
    return made


def rendered(template: str, **values: Any) -> str:
    """A template filled; everything is escaped but what the templates themselves are made of."""
    return str(_environment().get_template(template).render(**values))


def _short(value: Any, most: int = 80) -> str:
    from wadi.problems import shortened
    from wadi.quality.compare import shown

    return shortened(shown(value), most)
