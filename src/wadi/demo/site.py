"""The sample site over HTTP on loopback: pages from templates and the register's data."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable, Collection
from contextlib import asynccontextmanager
from importlib.resources import files
from typing import Any

from aiohttp import web

from wadi.demo import branches, faults, office, photos, printout, redesign, scripted, shapes, world
from wadi.demo.pages import html, missing, page
from wadi.demo.weather import Weather, middleware

OLD_PAGE, WINDOWS_PAGE = 9, 7
"""Pages of the register with their own quirks: an old template with upper-case, unclosed tags; windows-1252."""
LIST_ROWS = 25
ROBOTS = """\
# The Merrowdale Water Office welcomes polite readers.
User-agent: *
Disallow: /members/
Disallow: /*?print=1
Allow: /
"""


def registerhtml(number: int) -> str:
    """A page of the register, numbered from 1."""
    rows = world.register_page(number)
    first = (number - 1) * world.PAGE_ROWS + 1
    template = "register-old.html" if number == OLD_PAGE else "register.html"
    return page(
        template,
        springs=rows,
        number=number,
        pages=world.page_count(),
        count=f"{first}–{first + len(rows) - 1} of {world.SPRINGS}",
        charset="iso-8859-1" if number == WINDOWS_PAGE else "utf-8",
    )


async def _home(request: web.Request) -> web.Response:
    return html(page("home.html", newest=world.springs()[:4], further=shapes.FURTHER))


async def _register(request: web.Request) -> web.Response:
    asked = request.query.get("page", "1")
    if not asked.isdecimal() or not 1 <= int(asked) <= world.page_count():
        return missing()
    number = int(asked)
    if number == WINDOWS_PAGE:
        # The label says latin-1; like every browser, the office means windows-1252 by it.
        body = registerhtml(number).encode("windows-1252", "xmlcharrefreplace")
        return web.Response(body=body, headers={"Content-Type": "text/html"})
    return html(registerhtml(number))


async def _spring(request: web.Request) -> web.Response:
    spring = world.spring_of(request.match_info["code"])
    return missing() if spring is None else html(page("spring.html", spring=spring))


async def _districts(request: web.Request) -> web.Response:
    counts = {district.slug: len(world.springs_in(district)) for district in world.DISTRICTS}
    return html(page("districts.html", counts=counts))


async def _district(request: web.Request) -> web.Response:
    slug = request.match_info["slug"]
    district = next((known for known in world.DISTRICTS if known.slug == slug), None)
    if district is None:
        return missing()
    return html(page("district.html", district=district, springs=world.springs_in(district)))


async def _photo(request: web.Request) -> web.Response:
    spring = world.spring_of(request.match_info["code"])
    if spring is None or not spring.has_photo:
        return missing()
    return web.Response(text=photos.photo(spring), content_type="image/svg+xml")


async def _levels(request: web.Request) -> web.Response:
    return html(page("levels.html", levels=office.levels()))


async def _levels_json(request: web.Request) -> web.Response:
    return web.json_response(office.levels_json())


async def _gauges(request: web.Request) -> web.Response:
    return html(page("gauges.html"))


async def _gauges_json(request: web.Request) -> web.Response:
    asked = request.query.get("page", "1")
    if not asked.isdecimal() or not 1 <= int(asked) <= 1000:
        return web.json_response({"error": "no such page"}, status=400)
    return web.json_response(office.gauges_json(int(asked)))


async def _wells(request: web.Request) -> web.Response:
    asked = request.query.get("from", "0")
    first = int(asked) if asked.isdecimal() and len(asked) < 6 else 0
    return html(page("wells.html", wells=office.wells()[first : first + LIST_ROWS], first=first))


async def _dry(request: web.Request) -> web.Response:
    """A listing that goes on in the Link header alone, as JSON services do it, with a total in a header field."""
    number = _page_number(request)
    rows = office.dry()[(number - 1) * LIST_ROWS : number * LIST_ROWS]
    response = html(page("plain-list.html", title="Dry springs", springs=rows))
    if number * LIST_ROWS < len(office.dry()):
        response.headers["Link"] = (
            f'</dry?page=1>; rel="first", </dry?page={number + 1}>; rel="next"; title="older, drier"'
        )
    return response


async def _keepers(request: web.Request) -> web.Response:
    """A listing whose pages past the end show the last page again."""
    last = -(-len(office.keepers()) // LIST_ROWS)
    number = min(_page_number(request), last)
    return html(page("keepers.html", keepers=office.keepers()[(number - 1) * LIST_ROWS : number * LIST_ROWS]))


def _page_number(request: web.Request) -> int:
    asked = request.query.get("page", "1")
    return max(1, int(asked)) if asked.isdecimal() and len(asked) < 6 else 1


async def _readings_json(request: web.Request) -> web.Response:
    try:
        return web.json_response(office.readings_json(request.query.get("after")))
    except KeyError:
        return web.json_response({"error": "no such cursor"}, status=400)


async def _notices(request: web.Request) -> web.Response:
    return html(page("notices.html", notices=office.notices()))


async def _news(request: web.Request) -> web.Response:
    text = page("news.xml", notices=office.notices(), site=f"http://{request.host}")
    return web.Response(text=text, content_type="application/rss+xml")


async def _partners(request: web.Request) -> web.Response:
    body = page("partners.html", partners=office.partners()).encode("shift_jis")
    return web.Response(body=body, headers={"Content-Type": "text/html"})


async def _tariffs(request: web.Request) -> web.Response:
    """What water costs, as the region sees it from which is asked."""
    region = office.region_of(request.remote or "")
    return html(page("tariffs.html", region=region, tariffs=office.tariffs(region)))


async def _robots(request: web.Request) -> web.Response:
    return web.Response(text=f"{ROBOTS}Sitemap: http://{request.host}/sitemap.xml\n")


async def _style(request: web.Request) -> web.Response:
    return web.Response(
        text=(files("wadi.demo") / "templates" / "office.css").read_text("utf-8"), content_type="text/css"
    )


ROUTES: dict[str, Callable[[web.Request], Any]] = {
    "/": _home,
    "/register": _register,
    "/register/{code}": _spring,
    "/districts": _districts,
    "/district/{slug}": _district,
    "/photos/{code}.svg": _photo,
    "/levels": _levels,
    "/api/levels.json": _levels_json,
    "/gauges": _gauges,
    "/api/gauges": _gauges_json,
    "/wells": _wells,
    "/dry": _dry,
    "/keepers": _keepers,
    "/api/readings": _readings_json,
    "/notices": _notices,
    "/news.xml": _news,
    "/partners": _partners,
    "/tariffs": _tariffs,
    "/printout": printout.show,
    "/robots.txt": _robots,
    "/office.css": _style,
}


def application(middlewares: tuple[Any, ...] = (), edition: int = 1, hosts: int = 1) -> web.Application:
    """The site as an aiohttp application; `middlewares` let tests break it in chosen places. The second `edition` is the register
    after a redesign; `hosts` is at how many hosts it is served."""
    app = web.Application(middlewares=middlewares)
    app[branches.HOSTS] = hosts
    routes = ROUTES | scripted.ROUTES | branches.ROUTES | (redesign.ROUTES if edition == 2 else {})
    for path, handler in routes.items():
        app.router.add_get(path, handler)
    shapes.add_to(app.router)
    return app


@asynccontextmanager
async def served(
    port: int = 0, middlewares: tuple[Any, ...] = (), edition: int = 1, hosts: int = 1
) -> AsyncIterator[str]:
    """The site on 127.0.0.1 while the context lasts, and on as many `hosts` after it; gives its address. Port 0 takes a free
    one. Raises OSError."""
    runner = web.AppRunner(
        application(middlewares, edition, hosts), access_log=None, handle_signals=False, shutdown_timeout=1.0
    )
    await runner.setup()
    try:
        site = web.TCPSite(runner, "127.0.0.1", port)
        await site.start()
        bound = runner.addresses[0][1]
        for host in range(2, hosts + 1):
            await web.TCPSite(runner, f"127.0.0.{host}", bound).start()
        yield f"http://127.0.0.1:{bound}"
    finally:
        await runner.cleanup()


async def serve_until_cancelled(
    port: int,
    ready: Callable[[str], None],
    weather: Weather = "calm",
    seed: int = 1,
    planted: Collection[str] = (),
    edition: int = 1,
    hosts: int = 1,
) -> None:
    """Serve the site until the task is cancelled; `ready` is called with its address."""
    planting = (faults.middleware(planted),) if planted else ()
    async with served(port, (middleware(seed, weather), *planting), edition, hosts) as address:
        ready(address)
        await asyncio.Event().wait()
