"""The sample site's pages from their templates."""

from __future__ import annotations

from functools import cache
from importlib.resources import files
from typing import Any

from aiohttp import web
from jinja2 import Environment, FunctionLoader, StrictUndefined

from wadi.demo import gaugings, wording, world


@cache
def _templates() -> Environment:
    folder = files("wadi.demo") / "templates"
    environment = Environment(
        loader=FunctionLoader(lambda name: (folder / name).read_text("utf-8")),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    environment.globals.update(
        wording=wording, districts=world.DISTRICTS, total=world.SPRINGS, gaugings=gaugings.gaugings
    )
    return environment


def page(template: str, **values: Any) -> str:
    """The HTML of a page."""
    return _templates().get_template(template).render(**values)


def html(text: str) -> web.Response:
    """A page as a response."""
    return web.Response(text=text, content_type="text/html", charset="utf-8")


def missing() -> web.Response:
    """The page for what is not there."""
    response = html(page("missing.html"))
    response.set_status(404)
    return response
