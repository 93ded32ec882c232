"""Further pages of the sample site: one for each shape that a crawl takes, from counted paths to a members' area."""

from __future__ import annotations

import gzip
import hashlib
import io
import json
import zipfile
from collections.abc import Callable
from functools import cache
from typing import Any

from aiohttp import web

from wadi.demo import gaugings, notebook, office, wording, world
from wadi.demo.pages import html, missing, page

ROWS = 20
MOST_SHOWN = 60
MEMBER, PASSWORD = "reader", "clear-water"
"""Who may see the members' area: it guards nothing, and says so in the docs."""
SESSION_PAGES = 3
_TOKEN = "t4-6c1f"


def _number(text: str | None, default: int = 1) -> int:
    return int(text) if text is not None and text.isdecimal() and len(text) < 6 else default


def _part(rows: Any, number: int, size: int = ROWS) -> Any:
    return rows[(number - 1) * size : number * size]


async def _archive(request: web.Request) -> web.Response:
    """Pages counted in the path; one past the end is not there."""
    rows = _part(gaugings.old_springs(), _number(request.match_info["number"], 0))
    return html(page("archive.html", springs=rows)) if rows else missing()


async def _ledger(request: web.Request) -> web.Response:
    """A service that is asked by POST with JSON. It shows its last page for every number past the end."""
    try:
        asked = await request.json()
        kind, number = asked["filter"]["kind"], max(1, int(asked["page"]))
    except (ValueError, KeyError, TypeError):
        return web.json_response({"error": "a filter and a page are wanted"}, status=400)
    rows = gaugings.chosen(None, kind)
    number = min(number, -(-len(rows) // ROWS))
    lines = [{"code": s.code, "depth_m": s.depth_m} for s in _part(rows, number)]
    return web.json_response({"result": {"total": len(rows), "lines": lines}})


async def _fieldnotes(request: web.Request) -> web.Response:
    return html(page("fieldnotes.html", notes=_notes(0), token=_TOKEN, after=10))


async def _more_fieldnotes(request: web.Request) -> web.Response:
    """What the button fetches: a fragment of the page, for a form with the first page's token."""
    form = await request.post()
    if form.get("token") != _TOKEN:
        return web.Response(status=403, text="token missing")
    first = _number(str(form.get("after")), 0)
    more = first + 10 if first + 10 < len(_noted()) else None
    return html(page("fieldnotes-more.html", notes=_notes(first), after=more))


@cache
def _noted() -> tuple[world.Spring, ...]:
    return tuple(spring for spring in world.springs() if spring.note)[:45]


def _notes(first: int) -> Any:
    return _noted()[first : first + 10]


async def _search(request: web.Request) -> web.Response:
    return html(page("search.html", token=_TOKEN))


async def _results(request: web.Request) -> web.Response:
    """What the search form sends to; without its token it shows the form's own page."""
    form = await request.post()
    if form.get("token") != _TOKEN:
        return html(page("search.html", token=_TOKEN))
    rows = gaugings.chosen(str(form.get("district") or ""), str(form.get("kind") or ""))
    return html(page("results.html", springs=rows, total=len(rows), older=None))


async def _catalogue(request: web.Request) -> web.Response:
    """A list that shows no more than its first three pages, however long it is."""
    rows = gaugings.chosen(request.query.get("district"), request.query.get("kind"))
    number = min(_number(request.query.get("page")), MOST_SHOWN // ROWS)
    following = None
    if number * ROWS < min(len(rows), MOST_SHOWN):
        following = str(request.url.update_query(page=str(number + 1)).relative())
    return html(page("results.html", springs=_part(rows, number), total=len(rows), older=following))


async def _depths(request: web.Request) -> web.Response:
    """A list that a script draws from the data that the page carries."""
    rows, number = office.wells(), _number(request.query.get("page"))
    wells = [
        {"code": s.code, "depth": s.depth_m, "district": {"name": s.district.name}, "spring": s.path}
        for s in _part(rows, number)
    ]
    older = f"/depths?page={number + 1}" if number * ROWS < len(rows) else None
    return html(page("depths.html", data={"total": len(rows), "wells": wells}, older=older))


async def _find(request: web.Request) -> web.Response:
    """A search by a part of the name: nothing, one, or several."""
    name = request.query.get("name", "").casefold()
    rows = [spring for spring in world.springs() if name and name in spring.name.casefold()]
    return html(page("results.html", springs=rows[:ROWS], total=len(rows), older=None))


async def _sitemap(request: web.Request) -> web.Response:
    text = page("sitemap-index.xml", site=f"http://{request.host}", parts=range(1, _sitemaps() + 1))
    return web.Response(text=text, content_type="application/xml")


async def _sitemap_part(request: web.Request) -> web.Response:
    """A part of the sitemap, packed, as large sites keep theirs."""
    number = _number(request.match_info["number"], 0)
    if not 1 <= number <= _sitemaps():
        return missing()
    part = _part(world.springs()[:100], number, 40)
    text = page("sitemap.xml", site=f"http://{request.host}", springs=part, first=number == 1)
    return web.Response(body=gzip.compress(text.encode(), mtime=0), content_type="application/gzip")


def _sitemaps() -> int:
    return -(-100 // 40)


async def _notice(request: web.Request) -> web.Response:
    number = _number(request.match_info["number"], 0)
    notice = next((entry for entry in office.notices() if entry.number == number), None)
    return missing() if notice is None else html(page("notice.html", notice=notice))


async def _yearbook(request: web.Request) -> web.Response:
    lines: dict[str, dict[str, list[Any]]] = {}
    for line in gaugings.yearbook():
        lines.setdefault(line.district.name, {}).setdefault(line.basin, []).append(line)
    return html(page("yearbook.html", lines=lines))


async def _inspections(request: web.Request) -> web.Response:
    groups: dict[str, list[Any]] = {}
    for inspection in gaugings.inspections():
        groups.setdefault(inspection.spring.district.name, []).append(inspection)
    return html(page("inspections.html", groups=groups))


async def _board(request: web.Request) -> web.Response:
    return html(page("board.html", springs=world.springs()[:15]))


async def _gallery(request: web.Request) -> web.Response:
    return html(page("gallery.html", springs=gaugings.photographed()))


async def _duties(request: web.Request) -> web.Response:
    return html(page("duties.html", springs=world.springs()[:30]))


async def _atlas(request: web.Request) -> web.Response:
    districts = [(f"/atlas/{d.slug}", d.name) for d in world.DISTRICTS]
    return html(page("atlas.html", title="Atlas", areas=districts, springs=()))


async def _area(request: web.Request) -> web.Response:
    """A district with its parishes, or a parish with its springs."""
    slug = request.match_info["slug"]
    district = next((known for known in world.DISTRICTS if known.slug == slug), None)
    if district is not None:
        areas = [(f"/atlas/{parish}", gaugings.parish_name(parish)) for parish in gaugings.parishes(district)]
        return html(page("atlas.html", title=district.name, areas=areas, springs=()))
    for district in world.DISTRICTS:
        if slug in gaugings.parishes(district):
            rows = gaugings.parishes(district)[slug]
            return html(page("atlas.html", title=gaugings.parish_name(slug), areas=(), springs=rows))
    return missing()


async def _tree(request: web.Request) -> web.Response:
    districts = []
    for place, district in enumerate(world.DISTRICTS):
        springs = [{"code": s.code, "flow": s.flow_lps} for s in world.springs_in(district)[:4]]
        districts.append({"name": district.name, "office": {"since": 1900 + place}, "springs": springs})
    return web.json_response({"data": {"districts": districts}})


async def _stream(request: web.Request) -> web.Response:
    lines = "".join(json.dumps({"code": s.code, "depth": s.depth_m}) + "\n" for s in office.wells()[:30])
    return web.Response(text=lines, content_type="application/x-ndjson")


async def _bulletin(request: web.Request) -> web.Response:
    """A service that says the number of its next page, null on the last, and whether there is more."""
    number = _number(request.query.get("page"))
    rows = [{"no": entry.number, "title": entry.title} for entry in _part(office.notices(), number, 10)]
    more = number * 10 < len(office.notices())
    return web.json_response({"items": rows, "more": more, "next_page": number + 1 if more else None})


async def _open_data(request: web.Request) -> web.Response:
    return html(page("open-data.html"))


async def _csv(request: web.Request) -> web.Response:
    """Semicolons, decimal commas and windows-1252, below a line of title: what a spreadsheet makes of a register."""
    lines = ["Register of the Merrowdale Water Office;;;", "", "Code;Name;Flow l/s;District"]
    for spring in world.springs()[:40]:
        flow = "" if spring.flow_lps is None else f"{spring.flow_lps:.1f}".replace(".", ",")
        lines.append(f"{spring.code};{spring.name};{flow};{spring.district.name}")
    body = ("\r\n".join(lines) + "\r\n").encode("windows-1252", "replace")
    return web.Response(body=body, headers={"Content-Type": "text/csv"})


async def _tsv(request: web.Request) -> web.Response:
    rows = "".join(f"{level.spring.code}\t{level.level_m}\t{level.read_at.isoformat()}\n" for level in office.levels())
    body = gzip.compress(("code\tlevel\tread at\n" + rows).encode(), mtime=0)
    return web.Response(body=body, headers={"Content-Type": "application/octet-stream"})


@cache
def _workbook() -> bytes:
    import xlsxwriter

    out = io.BytesIO()
    with xlsxwriter.Workbook(out, {"in_memory": True}) as book:
        about = book.add_worksheet("About")
        about.write(0, 0, "Wells of the Merrowdale Water Office")
        sheet = book.add_worksheet("Wells")
        day = book.add_format({"num_format": "yyyy-mm-dd"})
        sheet.write_row(0, 0, ["Code", "Depth", "Registered"])
        for place, spring in enumerate(office.wells()[:30], 1):
            sheet.write(place, 0, spring.code)
            if spring.depth_m is not None:
                sheet.write(place, 1, spring.depth_m)
            sheet.write_datetime(place, 2, spring.registered, day)
    return out.getvalue()


async def _excel(request: web.Request) -> web.Response:
    kind = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
    return web.Response(body=_workbook(), headers={"Content-Type": kind})


async def _zip(request: web.Request) -> web.Response:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as file:
        text = "name,springs\n" + "".join(f'"{name}",{count}\n' for name, count in office.keepers())
        file.writestr(zipfile.ZipInfo("keepers.csv"), text)
    return web.Response(body=out.getvalue(), content_type="application/zip")


class Members:
    """The members' area: a form, a session in a cookie that ends after a few pages, and a list behind it."""

    def __init__(self) -> None:
        self._left: dict[str, int] = {}
        self._count = 0

    async def form(self, request: web.Request) -> web.Response:
        return html(page("login.html", wrong=False, back=request.query.get("back", "/members/list")))

    async def log_in(self, request: web.Request) -> web.Response:
        """A wrong password gives the form again, with status 200, as many applications do."""
        form = await request.post()
        if (form.get("member"), form.get("secret"), form.get("token")) != (MEMBER, PASSWORD, "login-1"):
            return html(page("login.html", wrong=True, back="/members/list"))
        self._count += 1
        name = hashlib.sha256(f"session {self._count}".encode()).hexdigest()[:16]
        self._left[name] = SESSION_PAGES + 1
        response = web.Response(status=303, headers={"Location": "/members/welcome"})
        response.set_cookie("office_session", name, httponly=True)
        return response

    async def welcome(self, request: web.Request) -> web.Response:
        return html(page("welcome.html")) if self._is_in(request) else _to_login(request)

    async def list(self, request: web.Request) -> web.Response:
        if not self._is_in(request):
            return _to_login(request)
        number = _number(request.query.get("page"))
        rows = _part(world.springs()[:100], number)
        return html(page("members.html", springs=rows, older=number + 1 if number < 5 else None, wording=wording))

    def _is_in(self, request: web.Request) -> bool:
        name = request.cookies.get("office_session", "")
        self._left[name] = self._left.get(name, 0) - 1
        return self._left[name] >= 0


async def _notebook(request: web.Request) -> web.Response:
    return html(notebook.page())


def _to_login(request: web.Request) -> web.Response:
    return web.Response(status=302, headers={"Location": f"/members/login?back={request.path}"})


def add_to(router: web.UrlDispatcher) -> None:
    """Put these pages under their paths."""
    members = Members()
    for path, handler in PAGES.items():
        router.add_get(path, handler)
    router.add_post("/api/ledger", _ledger)
    router.add_post("/fieldnotes/more", _more_fieldnotes)
    router.add_post("/search/results", _results)
    router.add_get("/members/login", members.form)
    router.add_post("/members/login", members.log_in)
    router.add_get("/members/", members.welcome)
    router.add_get("/members/welcome", members.welcome)
    router.add_get("/members/list", members.list)


FURTHER = (
    ("/search", "Search"),
    ("/catalogue", "Catalogue"),
    ("/archive/page/1", "From the archive"),
    ("/atlas", "Atlas"),
    ("/yearbook", "Yearbook of flows"),
    ("/inspections", "Inspections"),
    ("/fieldnotes", "Field notes"),
    ("/duties", "Who looks after what"),
    ("/gallery", "Photographs"),
    ("/board", "On the board today"),
    ("/tariffs", "Tariffs"),
    ("/depths", "Depths of wells"),
    ("/open-data", "Open data"),
    ("/notebook", "Surveyors’ notebook"),
    ("/members/login", "For members"),
)
"""What the front page links to, path and name."""
PAGES: dict[str, Callable[[web.Request], Any]] = {
    "/archive/page/{number}": _archive,
    "/fieldnotes": _fieldnotes,
    "/search": _search,
    "/catalogue": _catalogue,
    "/find": _find,
    "/depths": _depths,
    "/sitemap.xml": _sitemap,
    "/sitemap-{number}.xml.gz": _sitemap_part,
    "/notices/{number}": _notice,
    "/yearbook": _yearbook,
    "/inspections": _inspections,
    "/board": _board,
    "/gallery": _gallery,
    "/duties": _duties,
    "/atlas": _atlas,
    "/atlas/{slug}": _area,
    "/api/tree.json": _tree,
    "/api/wells.jsonl": _stream,
    "/api/bulletin": _bulletin,
    "/notebook": _notebook,
    "/open-data": _open_data,
    "/open-data/springs.csv": _csv,
    "/open-data/levels.tsv.gz": _tsv,
    "/open-data/wells.xlsx": _excel,
    "/open-data/keepers.zip": _zip,
}
