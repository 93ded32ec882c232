"""Branch offices of the sample world, each with a site of its own: on this machine hosts 127.0.0.1, 127.0.0.2 and so on, as many
as the site is served at. A branch lists its springs; their sheets are at the next branch, for some by a redirect."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from aiohttp import web

from wadi.demo import world
from wadi.demo.pages import html, page

HOSTS = web.AppKey("hosts", int)
"""At how many hosts the site is served."""


def springs_of(branch: int, hosts: int) -> list[world.Spring]:
    """The springs of a branch, counted from 1, by code."""
    return sorted((s for s in world.springs() if s.number % hosts == branch - 1), key=lambda spring: spring.code)


def is_moved(spring: world.Spring) -> bool:
    """Whether the branch itself sends to the spring's sheet by a redirect."""
    return spring.number % 3 == 0


def _at(request: web.Request, branch: int) -> str:
    """The site of a branch."""
    _, colon, port = request.host.rpartition(":")
    return f"{request.scheme}://127.0.0.{branch}{colon}{port}"


def _branch_asked(request: web.Request) -> int:
    last = request.host.rpartition(":")[0].rpartition(".")[2]
    return int(last) if last.isdecimal() else 1


async def _branches(request: web.Request) -> web.Response:
    sites = [_at(request, branch) for branch in range(1, request.app[HOSTS] + 1)]
    return html(page("branches.html", sites=sites))


async def _branch(request: web.Request) -> web.Response:
    branch, hosts = _branch_asked(request), request.app[HOSTS]
    beside = _at(request, branch % hosts + 1)
    rows = [(s, f"/moved/{s.code}" if is_moved(s) else f"{beside}{s.path}") for s in springs_of(branch, hosts)]
    return html(page("branch.html", branch=branch, rows=rows))


async def _moved(request: web.Request) -> web.Response:
    spring = world.spring_of(request.match_info["code"])
    if spring is None:
        raise web.HTTPNotFound()
    beside = _branch_asked(request) % request.app[HOSTS] + 1
    raise web.HTTPFound(f"{_at(request, beside)}{spring.path}")


ROUTES: dict[str, Callable[[web.Request], Any]] = {
    "/branches": _branches,
    "/branch": _branch,
    "/moved/{code}": _moved,
}
