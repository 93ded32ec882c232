"""The listings: for each its rows as a template, what stands around them, the columns of its truth, and how it goes on.

In a template `{code}` is a value as the page shows it, and `[[flow|<b>{flow}</b>]]` stands only where the record has one.
"""

from __future__ import annotations

import hashlib
import html
import json
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from corpus.records import COLUMNS, Record, records

Shown = dict[str, str | None]

NAV = (
    '<nav class="top"><ul class="menu"><li><a href="/">Home</a></li><li><a href="/register">Register</a></li><li><a href="/visit">Visit'
    ' us</a></li><li><a href="/jobs">Jobs</a></li><li><a href="/about">About</a></li></ul></nav>'
)
FOOT = (
    '<footer><div class="cols"><div><h4>Office</h4><a href="/a">Who we are</a><a href="/b">Jobs</a><a href="/c">Press</a></div><div><h4>'
    'Data</h4><a href="/d">Downloads</a><a href="/e">Terms</a></div></div><p>Merrowdale Water Office, 2 Sluice Lane</p></footer>'
)
SIDE = (
    '<aside class="facets"><h3>Districts</h3><ul><li><label><input type=checkbox> Saltholm <span>(112)</span></label></li><li><label><input'
    " type=checkbox> Thornmere <span>(61)</span></label></li><li><label><input type=checkbox> Upper Merrow <span>(58)</span></label></li>"
    "<li><label><input type=checkbox> Ashwater <span>(34)</span></label></li></ul></aside>"
)
NEWS = (
    '<div class="box"><h3>News</h3><ul><li><a href="/n/1">Sampling week begins</a> <small>2 days ago</small></li><li><a href="/n/2">New'
    ' gauge at Saltholm</a> <small>5 days ago</small></li><li><a href="/n/3">Office closed</a> <small>8 days ago</small></li></ul></div>'
)
CRUMBS = '<ol class="crumbs"><li><a href="/">Home</a></li><li><a href="/water">Water</a></li><li>Register</li></ol>'
FORM = (
    '<form action="/search"><input name=q><select name=district><option>all<option>Saltholm<option>Thornmere<option>Upper Merrow</select>'
    "<label>Status <select name=s><option>any<option>flowing<option>dry</select></label><button>Find</button></form>"
)
SURROUNDINGS: dict[str, tuple[str, str]] = {
    "bare": ("", ""),
    "office": (f"<header><h1>Register of springs</h1>{NAV}</header><main>", f"</main>{FOOT}"),
    "side": (f"{NAV}{CRUMBS}<div class=wrap>{SIDE}<div class=main><h1>Springs</h1>", f"</div></div>{NEWS}{FOOT}"),
    "search": (f"<div id=top>{NAV}{FORM}</div><div id=content><h2>Results</h2>", f"</div>{FOOT}"),
    "old": (
        "<table width=780 border=0><tr><td width=160 valign=top><a href=/>Home</a><br><a href=/r>Register</a><br><a href=/j>Jobs</a></td>"
        "<td valign=top><font size=5>Springs</font><p>",
        "</td></tr></table><hr><small>Merrowdale Water Office</small>",
    ),
    "utility": (
        '<div class="min-h-screen bg-gray-50"><div class="flex items-center px-4 py-2"><a class="mr-4 text-sm" href="/">Home</a><a class="mr-4'
        ' text-sm" href="/data">Data</a><a class="mr-4 text-sm" href="/help">Help</a></div><div class="mx-auto max-w-4xl px-4">',
        '</div><div class="mt-8 flex gap-2 text-xs text-gray-400"><span>Office</span><span>Terms</span><span>Press</span></div></div>',
    ),
}


@dataclass(frozen=True)
class Listing:
    """One listing of the corpus. `columns` map the truth's columns to the forms of `records.COLUMNS`."""

    name: str
    columns: dict[str, str]
    row: str = ""
    around: str = "{rows}"
    pages: str = "next"
    surroundings: str = "office"
    count: int = 27
    per_page: int = 10
    language: str = "en"
    head: str = ""
    between: Callable[[list[str]], str] = "\n".join
    as_json: Callable[[list[dict[str, Any]], Page], Any] | None = None
    script: Callable[[list[dict[str, Any]]], str] | None = None
    gaps: bool = True
    query: str = ""

    @property
    def address(self) -> str:
        """The path with query of the first page."""
        if self.pages == "path":
            return f"/{self.name}/page/1"
        return f"/{self.name}" + (f"?{self.query}" if self.query else "")

    @property
    def records(self) -> list[Record]:
        seed = int(hashlib.sha256(self.name.encode()).hexdigest()[:6], 16)
        return records(seed, self.count if self.pages != "none" else 18, gaps=self.gaps)

    def truth(self, host: str) -> dict[str, list[Any]]:
        """Column → values of all pages in reading order; addresses are absolute."""
        found = {}
        for column, form in self.columns.items():
            values = [COLUMNS[form].true(record) for record in self.records]
            found[column] = [host + value for value in values] if form in ("url", "photo") else values
        return found

    def shown(self) -> list[Shown]:
        return [{name: COLUMNS[form].shown(record) for name, form in self.columns.items()} for record in self.records]


@dataclass(frozen=True)
class Page:
    """Which page of a listing is asked for: the number, how many there are, rows on a page, and all rows."""

    number: int
    count: int
    size: int
    total: int
    path: str
    parameters: dict[str, str] = field(default_factory=dict)


def page_of(listing: Listing, path: str, parameters: dict[str, str]) -> tuple[str, str, dict[str, str]]:
    """The body of a page, its type, and further header fields."""
    rows = listing.shown()
    size = len(rows) if listing.pages == "none" else listing.per_page
    count = -(-len(rows) // size)
    number = _number(listing, path, parameters, size)
    shown = rows[(number - 1) * size : number * size] if number > 0 else []
    page = Page(number, count, size, len(rows), f"/{listing.name}", parameters)
    further = {}
    if listing.pages == "link header" and number < count:
        further["Link"] = f'<{page.path}?page={number + 1}>; rel="next", <{page.path}?page={count}>; rel="last"'
    if listing.as_json is not None:
        typed = _typed(listing, (number - 1) * size, number * size)
        return json.dumps(listing.as_json(typed, page), ensure_ascii=False), "application/json", further
    return _html(listing, shown, page), "text/html; charset=utf-8", further


def _typed(listing: Listing, start: int, end: int) -> list[dict[str, Any]]:
    return [
        {name: COLUMNS[form].true(record) for name, form in listing.columns.items()}
        for record in listing.records[start:end]
    ]


def _number(listing: Listing, path: str, parameters: dict[str, str], size: int) -> int:
    if listing.pages == "path":
        return int(path.rpartition("/")[2])
    if listing.pages == "offset":
        return int(parameters.get("start", "0")) // size + 1
    if listing.pages == "zero":
        return int(parameters.get("p", "0")) + 1
    if "after" in parameters or "cursor" in parameters or "pageToken" in parameters:
        mark = parameters.get("after") or parameters.get("cursor") or parameters.get("pageToken") or ""
        return int(mark.removeprefix("c")) if mark else 1
    for name in ("offset", "from"):
        if name in parameters:
            return -(-int(parameters[name]) // size) + 1
    return int(parameters.get("page") or parameters.get("_page") or parameters.get("p") or 1)


def _html(listing: Listing, shown: Sequence[Shown], page: Page) -> str:
    before, after = SURROUNDINGS[listing.surroundings]
    rows = [
        _filled(listing.row, {**row, "n": str(n), "odd": "odd" if n % 2 else "even"}) for n, row in enumerate(shown, 1)
    ]
    pager = _PAGERS[listing.pages](page)
    first, last = (page.number - 1) * page.size + 1, min(page.number * page.size, page.total)
    body = listing.around
    for name, value in (
        ("{rows}", listing.between(rows)),
        ("{pager}", pager),
        ("{range}", f"{first}–{last} of {page.total}"),
        ("{total}", str(page.total)),
    ):
        body = body.replace(name, value)
    if "{pager}" not in listing.around:
        body += pager
    script = ""
    if listing.script is not None:
        start = (page.number - 1) * page.size
        script = listing.script(_typed(listing, start, start + page.size))
    relation = f'<link rel="next" href="{page.path}?page={page.number + 1}">' if _has_next(listing, "rel", page) else ""
    direction = ' dir="rtl"' if listing.language in ("ar", "he") else ""
    return (
        f'<!doctype html><html lang="{listing.language}"{direction}><head><meta charset="utf-8"><title>Springs of Merrowdale</title>'
        f"{relation}{listing.head}</head><body>{before}{body}{after}{script}</body></html>"
    )


def _has_next(listing: Listing, pages: str, page: Page) -> bool:
    return listing.pages == pages and page.number < page.count


def _filled(template: str, shown: Shown) -> str:
    escaped = {name: html.escape(value) for name, value in shown.items() if value is not None}

    def part(found: re.Match[str]) -> str:
        name, inner = found[1].removeprefix("!"), found[2]
        return inner if (name in escaped) != found[1].startswith("!") else ""

    kept = re.sub(r"\[\[(!?\w+)\|(.*?)\]\]", part, template, flags=re.DOTALL)
    return re.sub(r"\{(\w+)\}", lambda found: escaped.get(found[1], ""), kept)


# -- how listings go on


def _next_link(page: Page) -> str:
    back = f'<a href="{page.path}?page={page.number - 1}">Previous</a> ' if page.number > 1 else ""
    more = f'<a href="{page.path}?page={page.number + 1}">Next</a>' if page.number < page.count else ""
    return f'<p class="pager">{back}{more}</p>'


def _older(page: Page) -> str:
    if page.number == page.count:
        return '<div class="nav-links"><span class="off">Older entries</span></div>'
    return f'<div class="nav-links"><a class="older" href="{page.path}?p={page.number + 1}">Older entries »</a></div>'


def _numbers(page: Page, address: Callable[[int], str] | None = None, *, arrow: str = "") -> str:
    where = address or (lambda n: f"{page.path}?page={n}")
    links = [
        f'<li class="on"><span>{n}</span></li>' if n == page.number else f'<li><a href="{where(n)}">{n}</a></li>'
        for n in range(1, page.count + 1)
    ]
    links += [f'<li><a href="{where(page.number + 1)}">{arrow}</a></li>'] if arrow and page.number < page.count else []
    return f'<ul class="pages">{"".join(links)}</ul>'


def _aria(page: Page) -> str:
    if page.number == page.count:
        return '<div class="pg"><button disabled aria-label="Next page"><svg></svg></button></div>'
    return f'<div class="pg"><a href="{page.path}?page={page.number + 1}" aria-label="Next page"><svg viewBox="0 0 9 9"></svg></a></div>'


def _plain_numbers(page: Page) -> str:
    links = [
        f"<b>{n}</b>" if n == page.number else f'<a href="{page.path}?page={n}">{n}</a>'
        for n in range(1, page.count + 1)
    ]
    return f"<p>Page: {' '.join(links)}</p>"


def _bracketed(page: Page) -> str:
    more = f'<a href="{page.path}?page={page.number + 1}">[next]</a>' if page.number < page.count else "[next]"
    return f"<center>[prev] {more}</center>"


_PAGERS: dict[str, Callable[[Page], str]] = {
    "none": lambda _: "",
    "rel": lambda _: "",
    "link header": lambda _: "",
    "next": _next_link,
    "older": _older,
    "numbers": _numbers,
    "arrow": lambda page: _numbers(page, arrow="»"),
    "path": lambda page: _numbers(page, lambda n: f"{page.path}/page/{n}", arrow="›"),
    "offset": lambda page: _numbers(page, lambda n: f"{page.path}?start={(n - 1) * page.size}"),
    "zero": lambda page: _numbers(page, lambda n: f"{page.path}?p={n - 1}"),
    "aria": _aria,
    "plain numbers": _plain_numbers,
    "bracketed": _bracketed,
    "json": lambda _: "",
}


# -- ways of putting rows between


def _in_threes(rows: list[str]) -> str:
    return "".join(f'<div class="line">{"".join(rows[n : n + 3])}</div>' for n in range(0, len(rows), 3))


def _with_advert(rows: list[str]) -> str:
    advert = '<div class="promo"><a href="/visit">Visit the pump house</a><p>Open on Sundays</p></div>'
    return "".join([*rows[:3], advert, *rows[3:]])


def _with_months(rows: list[str]) -> str:
    head = '<tr class="group"><th colspan="4">Another page of the book</th></tr>'
    return "".join([head, *rows[:5], head, *rows[5:]])


def _ruled(rows: list[str]) -> str:
    return "<hr>".join(rows)


T = {"code": "code", "name": "name", "district": "district", "flow": "flow"}
C = {"name": "name", "url": "url", "flow": "flow", "surveyed": "surveyed"}

CARDS = [
    Listing(
        "cards",
        {**C, "code": "code"},
        '<article class="card"><h3 class="card-title"><a href="{url}">{name}</a></h3><span class="code">{code}</span>[[flow|<p class="flow">{flow}</p>]]<time>{surveyed}</time></article>',
        '<p class="count">{range} springs</p><div class="cards">{rows}</div>{pager}',
    ),
    Listing(
        "cards-in-lines",
        {"name": "name", "district": "district", "depth": "depth"},
        '<div class="tile"><h4>{name}</h4><div class="meta"><span class="where">{district}</span> <span class="deep">{depth}</span></div></div>',
        '<section class="grid">{rows}</section>',
        "numbers",
        "side",
        between=_in_threes,
    ),
    Listing(
        "cards-with-advert",
        {"name": "name", "url": "url", "status": "status", "flow": "flow"},
        '<div class="item"><a class="item-link" href="{url}"><h2>{name}</h2></a><em class="state {status}">{status}</em>[[flow|<b class="amount">{flow}</b>]]</div>',
        '<div class="list">{rows}</div>',
        "arrow",
        "side",
        between=_with_advert,
    ),
    Listing(
        "cards-linked-whole",
        {"url": "url", "name": "name", "keeper": "keeper"},
        '<a class="entry" href="{url}"><img src="/img/{n}.png" alt=""><strong>{name}</strong><small>kept by {keeper}</small></a>',
        '<div class="entries">{rows}</div>',
        "older",
        "office",
    ),
    Listing(
        "cards-labels",
        {"name": "name", "flow": "flow", "depth": "depth", "surveyed": "surveyed"},
        '<div class="spring"><h3>{name}</h3><p>[[flow|<span>Flow: {flow}</span><br>]]<span>Depth: {depth}</span><br><span>Surveyed: {surveyed}</span></p></div>',
        '<div id="springs">{rows}</div>',
        "rel",
        "search",
    ),
    Listing(
        "cards-bem",
        {"code": "code", "name": "name", "flow": "flow_de", "surveyed": "surveyed_de"},
        '<li class="spring-card spring-card--{odd}"><div class="spring-card__head"><span class="spring-card__code">{code}</span><span class="spring-card__name">{name}</span></div><div class="spring-card__body">[[flow|<span class="spring-card__flow">{flow}</span>]]<span class="spring-card__date">{surveyed}</span></div></li>',
        '<ul class="spring-list">{rows}</ul>',
        "numbers",
        "office",
        language="de",
    ),
    Listing(
        "cards-badges",
        {"name": "name", "photo": "photo", "status": "status", "district": "district"},
        '<div class="col"><figure><img class="pic" src="{photo}" alt="{name}"></figure><div class="text"><h5>{name}</h5><span class="badge">{status}</span><span class="badge grey">{district}</span></div></div>',
        '<div class="row">{rows}</div>',
        "aria",
        "side",
    ),
    Listing(
        "cards-data",
        {"code": "code", "name": "name", "flow": "flow_plain"},
        '<div class="result" data-code="{code}" [[flow|data-flow="{flow}"]]><a href="#">{name}</a><div class="bar"></div></div>',
        '<div class="results">{rows}</div>',
        "next",
        "search",
    ),
    Listing(
        "cards-sentence",
        {"name": "name", "depth": "depth", "district": "district"},
        '<li class="hit"><b>{name}</b><p class="line">Water is met at {depth} in {district}.</p></li>',
        '<ol class="hits">{rows}</ol>',
        "next",
        "office",
    ),
    Listing(
        "cards-split-number",
        {"name": "name", "flow": "flow"},
        '<div class="gauge"><h4>{name}</h4><div class="figure">[[flow|<span>{flow}</span>]]<i class="trend up"></i></div><a href="{n}">details</a></div>',
        '<div class="gauges">{rows}</div>',
        "numbers",
        "side",
    ),
]
TABLES = [
    Listing(
        "table",
        T,
        "<tr><td>{code}</td><td>{name}</td><td>{district}</td><td>{flow}</td></tr>",
        "<table><thead><tr><th>Code</th><th>Name</th><th>District</th><th>Flow</th></tr></thead><tbody>{rows}</tbody></table>",
    ),
    Listing(
        "table-no-head",
        {"code": "code", "name": "name", "depth": "depth"},
        "<tr><td>{code}<td>{name}<td>{depth}",
        "<table border=1>{rows}</table>",
        "bracketed",
        "old",
    ),
    Listing(
        "table-bold-head",
        {"name": "name", "keeper": "keeper", "depth": "depth_plain", "surveyed": "surveyed_us"},
        "<tr><td>{name}</td><td>{keeper}</td><td align=right>{depth}</td><td>{surveyed}</td></tr>",
        "<table cellpadding=3><tr><td><b>Name</b></td><td><b>Keeper</b></td><td><b>Depth</b></td><td><b>Surveyed</b></td></tr>{rows}</table>",
        "plain numbers",
        "old",
    ),
    Listing(
        "table-classes",
        {**C, "status": "status"},
        '<tr class="{odd}"><td class="state"><i class="dot {status}" title="{status}"></i></td><td class="name"><a href="{url}">{name}</a></td><td class="flow num">{flow}</td><td class="day">{surveyed}</td></tr>',
        '<table class="register"><thead><tr><th></th><th>Spring</th><th>Flow</th><th>Surveyed</th></tr></thead><tbody>{rows}</tbody></table>',
        "arrow",
        "office",
    ),
    Listing(
        "table-row-head",
        {"name": "name", "district": "district", "flow": "flow_fr", "surveyed": "surveyed_fr"},
        '<tr><th scope="row">{name}</th><td>{district}</td><td>{flow}</td><td>{surveyed}</td></tr>',
        '<table><caption>Sources ({total})</caption><thead><tr><th scope="col">Nom</th><th scope="col">Lieu</th><th scope="col">Débit</th><th scope="col">Date</th></tr></thead><tbody>{rows}</tbody></table>',
        "rel",
        "office",
        language="fr",
    ),
    Listing(
        "table-groups",
        {"code": "code", "name": "name", "status": "status", "depth": "depth"},
        "<tr><td>{code}</td><td>{name}</td><td>{status}</td><td>{depth}</td></tr>",
        "<table class=book><tbody>{rows}</tbody></table>",
        "next",
        "side",
        between=_with_months,
    ),
    Listing(
        "table-actions",
        {"code": "code", "name": "name", "surveyed": "surveyed_iso"},
        '<tr><td><input type="checkbox" name="id" value="{n}"></td><td class="code">{code}</td><td><a href="/s/{n}">{name}</a><div class="row-actions"><a href="/e/{n}">Edit</a> | <a href="/x/{n}">Print</a></div></td><td>{surveyed}</td><td><button>…</button></td></tr>',
        '<table class="wide"><thead><tr><th><input type="checkbox"></th><th>Code</th><th>Name</th><th>Surveyed</th><th>Actions</th></tr></thead><tbody>{rows}</tbody><tfoot><tr><td></td><td>Code</td><td>Name</td><td>Surveyed</td><td>Actions</td></tr></tfoot></table>',
        "arrow",
        "office",
    ),
    Listing(
        "table-of-layout",
        {"name": "name", "url": "url", "note": "note", "flow": "flow"},
        "<tr><td valign=top width=90><img src=/i/{n}.gif></td><td><font face=arial><a href={url}><b>{name}</b></a><br>{note}<br><font color=green>{flow}</font></font></td></tr>",
        "<table width=100% cellspacing=0>{rows}</table>",
        "bracketed",
        "old",
    ),
    Listing(
        "table-two-lines",
        {"code": "code", "name": "name", "note": "note"},
        '<tr class="main"><td>{code}</td><td>{name}</td></tr><tr class="more"><td colspan="2">{note}</td></tr>',
        '<table class="notes"><thead><tr><th>Code</th><th>Name</th></tr></thead><tbody>{rows}</tbody></table>',
        "next",
        "office",
    ),
    Listing(
        "table-of-divs",
        {"code": "code", "name": "name", "flow": "flow"},
        '<div class="tr" role="row"><div class="td" role="cell">{code}</div><div class="td" role="cell">{name}</div><div class="td" role="cell">{flow}</div></div>',
        '<div class="table" role="table"><div class="tr head" role="row"><div class="td" role="columnheader">Code</div><div class="td" role="columnheader">Name</div><div class="td" role="columnheader">Flow</div></div>{rows}</div>',
        "numbers",
        "utility",
    ),
    Listing(
        "table-merged",
        {"name": "name", "depth": "depth", "surveyed": "surveyed"},
        "<tr><td>{name}</td><td>{depth}</td><td>{surveyed}</td></tr>",
        "<table><tr><th rowspan=2>Spring</th><th colspan=2>Last measurement</th></tr><tr><th>Depth</th><th>Day</th></tr>{rows}</table>",
        "none",
        "bare",
    ),
    Listing(
        "two-tables",
        {"code": "code", "name": "name", "district": "district", "status": "status"},
        "<tr><td>{code}</td><td>{name}</td><td>{district}</td><td>{status}</td></tr>",
        "<table><tr><th>Office</th><th>Hours</th></tr><tr><td>Saltholm</td><td>9–12</td></tr><tr><td>Thornmere</td><td>9–17</td></tr><tr><td>Ashwater</td><td>10–15</td></tr></table><table id=reg><tr><th>Code</th><th>Name</th><th>District</th><th>Status</th></tr>{rows}</table>",
        "offset",
        "office",
    ),
]
LISTS = [
    Listing(
        "definition-pairs",
        {"name": "name", "note": "note"},
        "<dt>{name}</dt><dd>{note}</dd>",
        "<dl>{rows}</dl>",
        "next",
        "office",
    ),
    Listing(
        "definition-each",
        {"code": "code", "flow": "flow", "district": "district", "surveyed": "surveyed"},
        "<dl class=spring><dt>Code</dt><dd>{code}</dd>[[flow|<dt>Flow</dt><dd>{flow}</dd>]]<dt>District</dt><dd>{district}</dd><dt>Surveyed</dt><dd>{surveyed}</dd></dl>",
        "<div class=all>{rows}</div>",
        "rel",
        "side",
    ),
    Listing(
        "definition-in-rows",
        {"name": "name", "keeper": "keeper", "depth": "depth"},
        "<li><h3>{name}</h3><dl><div><dt>Keeper</dt><dd>{keeper}</dd></div><div><dt>Depth</dt><dd>{depth}</dd></div></dl></li>",
        "<ul class=register>{rows}</ul>",
        "path",
        "office",
    ),
    Listing(
        "nested-lists",
        {"name": "name", "code": "code", "depth": "depth"},
        "<li>{name}<ul><li>{code}</li><li>{depth}</li></ul></li>",
        "<ul id=tree>{rows}</ul>",
        "none",
        "office",
    ),
    Listing(
        "links-only",
        {"name": "name", "url": "url"},
        '<li><a href="{url}">{name}</a></li>',
        "<h2>All springs</h2><ul>{rows}</ul>",
        "none",
        "office",
    ),
    Listing(
        "links-with-dates",
        {"surveyed": "surveyed_iso", "name": "name", "url": "url"},
        '<li><span>{surveyed}</span> <a href="{url}">{name}</a></li>',
        "<ul>{rows}</ul>",
        "older",
        "side",
    ),
    Listing(
        "headings",
        {"name": "name", "url": "url", "note": "note"},
        '<h3><a href="{url}">{name}</a></h3><p>{note}</p>',
        '<div class="posts">{rows}</div>',
        "older",
        "office",
    ),
    Listing(
        "ruled",
        {"name": "name", "note": "note", "surveyed": "surveyed"},
        "<div><b>{name}</b><p>{note}</p><i>{surveyed}</i></div>",
        "<div id=book>{rows}</div>",
        "bracketed",
        "old",
        between=_ruled,
    ),
    Listing(
        "lines-of-text",
        {"code": "code", "name": "name", "district": "district"},
        "<li>{code} – {name} ({district})</li>",
        "<ol>{rows}</ol>",
        "plain numbers",
        "old",
    ),
]
UTILITY = [
    Listing(
        "utility",
        {"name": "name", "url": "url", "district": "district", "flow": "flow"},
        '<div class="flex items-center justify-between rounded-lg border p-4 shadow-sm"><div class="flex flex-col"><a class="text-lg font-semibold hover:underline" href="{url}">{name}</a><span class="text-sm text-gray-500">{district}</span></div><span class="text-right text-sm">{flow}</span></div>',
        '<div class="grid gap-4">{rows}</div>',
        "next",
        "utility",
    ),
    Listing(
        "utility-list",
        {"code": "code", "name": "name", "status": "status", "surveyed": "surveyed_us"},
        '<li class="py-2 flex"><span class="w-24 text-xs text-gray-400">{code}</span><span class="flex-1">{name}</span><span class="rounded bg-green-100 px-2 text-xs">{status}</span><span class="w-32 text-xs text-gray-400">{surveyed}</span></li>',
        '<ul class="divide-y">{rows}</ul>',
        "aria",
        "utility",
    ),
    Listing(
        "utility-table",
        {"name": "name", "keeper": "keeper", "flow": "flow"},
        '<tr class="border-b hover:bg-gray-50"><td class="px-4 py-2">{name}</td><td class="px-4 py-2">{keeper}</td><td class="px-4 py-2 text-right">{flow}</td></tr>',
        '<table class="w-full text-left text-sm"><thead class="bg-gray-100"><tr><th class="px-4 py-2">Spring</th><th class="px-4 py-2">Keeper</th><th class="px-4 py-2">Flow</th></tr></thead><tbody>{rows}</tbody></table>',
        "numbers",
        "utility",
    ),
    Listing(
        "hashed",
        {"name": "name", "url": "url", "flow": "flow", "district": "district"},
        '<div class="_card_1x9fz_23"><a class="_title_1x9fz_31" href="{url}">{name}</a><div class="_meta_1x9fz_40"><span class="_where_1x9fz_44">{district}</span>[[flow|<span class="_flow_1x9fz_48">{flow}</span>]]</div></div>',
        '<div class="_list_1x9fz_1">{rows}</div>',
        "arrow",
        "utility",
    ),
    Listing(
        "hashed-blind",
        {"name": "name", "depth": "depth", "surveyed": "surveyed"},
        '<div class="css-1q2w3e"><div class="css-8hh2k1">{name}</div><div class="css-0d9xk2">{depth}</div><div class="css-9ak3l0">{surveyed}</div></div>',
        '<div class="css-77ab12"><div class="css-5n5n5n">{rows}</div></div>',
        "next",
        "utility",
    ),
    Listing(
        "hashed-styled",
        {"name": "name", "photo": "photo", "keeper": "keeper", "url": "url"},
        '<section class="sc-bdVaJa kNzYqL"><img class="sc-htpNat fJxQwe" src="{photo}"><a class="sc-bxivhb gTzMnA" href="{url}">{name}</a><p class="sc-ifAKCX hWkLpo">{keeper}</p></section>',
        '<main class="sc-EHOje cQwErT">{rows}</main>',
        "rel",
        "utility",
    ),
    Listing(
        "test-ids",
        {"name": "name", "flow": "flow", "status": "status"},
        '<div class="x1n2onr6" data-testid="spring-item"><span class="x9f619" data-testid="spring-name">{name}</span>[[flow|<span class="x9f619" data-testid="spring-flow">{flow}</span>]]<span class="x78zum5" data-testid="spring-status">{status}</span></div>',
        '<div class="xdj266r">{rows}</div>',
        "next",
        "utility",
    ),
    Listing(
        "web-components",
        {"name": "name", "district": "district", "depth": "depth"},
        '<spring-tile><span slot="name">{name}</span><span slot="district">{district}</span><span slot="depth">{depth}</span></spring-tile>',
        "<spring-list>{rows}</spring-list>",
        "arrow",
        "office",
    ),
]
MARKED = [
    Listing(
        "microdata",
        {"name": "name", "url": "url", "flow": "flow", "surveyed": "surveyed_iso"},
        '<div itemscope itemtype="https://schema.org/Place"><a itemprop="url" href="{url}"><span itemprop="name">{name}</span></a>[[flow|<span itemprop="additionalProperty">{flow}</span>]]<time itemprop="dateModified" datetime="{surveyed}">lately</time></div>',
        "<div>{rows}</div>",
        "next",
        "office",
    ),
    Listing(
        "rdfa",
        {"name": "name", "district": "district", "code": "code"},
        '<li typeof="Place"><span property="name">{name}</span>, <span property="address">{district}</span><meta property="identifier" content="{code}"></li>',
        '<ul vocab="https://schema.org/">{rows}</ul>',
        "numbers",
        "office",
    ),
    Listing(
        "times",
        {"name": "name", "surveyed": "surveyed_iso", "keeper": "keeper"},
        '<article><h2>{name}</h2><p>by <a rel="author" href="/k">{keeper}</a> on <time datetime="{surveyed}">{surveyed}</time></p></article>',
        "<div class=stream>{rows}</div>",
        "older",
        "office",
    ),
    Listing(
        "no-classes",
        {"name": "name", "district": "district", "flow": "flow"},
        "<div><p>{name}</p><p>{district}</p><p>{flow}</p></div>",
        "<div>{rows}</div>",
        "next",
        "bare",
    ),
    Listing(
        "no-classes-deep",
        {"name": "name", "url": "url", "depth": "depth"},
        "<div><div><div><a href='{url}'>{name}</a></div></div><div><span>{depth}</span><span>measured</span></div></div>",
        "<div><div><div>{rows}</div></div></div>",
        "plain numbers",
        "bare",
    ),
    Listing(
        "no-classes-spans",
        {"code": "code", "name": "name", "keeper": "keeper"},
        "<p><b>{code}</b> <span>{name}</span> <span>{keeper}</span></p>",
        "<div>{rows}</div>",
        "bracketed",
        "old",
    ),
    Listing(
        "arabic",
        {"name": "name", "url": "url", "depth": "depth_plain"},
        '<li class="عين"><a href="{url}">{name}</a><span class="عمق">{depth}</span></li>',
        '<ul class="قائمة">{rows}</ul>',
        "numbers",
        "bare",
        language="ar",
    ),
    Listing(
        "hebrew-table",
        {"name": "name", "district": "district", "depth": "depth_plain"},
        "<tr><td>{name}</td><td>{district}</td><td>{depth}</td></tr>",
        "<table><tr><th>שם</th><th>אזור</th><th>עומק</th></tr>{rows}</table>",
        "next",
        "bare",
        language="he",
    ),
    Listing(
        "form-values",
        {"code": "code", "name": "name", "depth": "depth_plain"},
        '<tr><td><input type="hidden" name="code" value="{code}">{code}</td><td><input type="text" name="name" value="{name}"></td><td><input type="text" name="depth" value="{depth}"></td></tr>',
        "<form><table><tr><th>Code</th><th>Name</th><th>Depth</th></tr>{rows}</table></form>",
        "none",
        "office",
    ),
    Listing(
        "forum",
        {"name": "name", "keeper": "keeper", "depth": "depth_plain", "surveyed": "surveyed_us"},
        '<li class="thread"><div class="thread-main"><a class="subject" href="/t/{n}">{name}</a><span class="by">{keeper}</span></div><div class="replies">{depth}</div><div class="last">{surveyed}</div></li>',
        '<ul class="threads"><li class="thread sticky"><div class="thread-main"><b>Rules of this board</b></div></li>{rows}</ul>',
        "path",
        "side",
    ),
]


def _state(rows: list[dict[str, Any]]) -> str:
    return f'<script type="application/json" id="state">{json.dumps({"page": {"springs": {"items": rows}}})}</script>'


def _literal(rows: list[dict[str, Any]]) -> str:
    return f"<script>window.SPRINGS = {json.dumps(rows)};</script>"


def _linked_data(rows: list[dict[str, Any]]) -> str:
    things = [{"@type": "Place", "name": row["name"], "identifier": row["code"], "url": row["url"]} for row in rows]
    listed = {"@context": "https://schema.org", "@type": "ItemList", "itemListElement": things}
    return f'<script type="application/ld+json">{json.dumps(listed)}</script>'


EMBEDDED = [
    Listing(
        "state",
        {"code": "code", "name": "name", "flow": "flow_plain"},
        "",
        '<div id="app"></div><noscript>This page needs JavaScript</noscript>',
        "rel",
        "office",
        script=_state,
    ),
    Listing(
        "literal",
        {"code": "code", "name": "name", "depth": "depth_plain"},
        "",
        '<div id="root"></div>',
        "rel",
        "bare",
        script=_literal,
    ),
    Listing(
        "linked-data",
        {"code": "code", "name": "name", "url": "url"},
        "<li><span>{name}</span></li>",
        "<ul>{rows}</ul>",
        "next",
        "office",
        script=_linked_data,
    ),
]


def _url(page: Page, name: str = "page", step: int = 1) -> str | None:
    return f"{page.path}?{name}={page.number + step}" if page.number < page.count else None


def _cursor(page: Page) -> str | None:
    return f"c{page.number + 1}" if page.number < page.count else None


def _jsonapi(rows: list[dict[str, Any]], page: Page) -> Any:
    data = [
        {"type": "spring", "id": row["code"], "attributes": {k: v for k, v in row.items() if k != "code"}}
        for row in rows
    ]
    return {"data": data, "links": {"self": page.path, **({"next": more} if (more := _url(page)) else {})}}


def _graph(rows: list[dict[str, Any]], page: Page) -> Any:
    info = {"endCursor": f"c{page.number + 1}", "hasNextPage": page.number < page.count}
    edges = [{"cursor": f"c{page.number}", "node": {"__typename": "Spring", **row}} for row in rows]
    return {"data": {"springs": {"totalCount": page.total, "pageInfo": info, "edges": edges}}}


def _lines(rows: list[dict[str, Any]], page: Page) -> Any:
    return {"columns": list(rows[0]) if rows else [], "rows": [list(row.values()) for row in rows], "next": _url(page)}


J = {"code": "code", "name": "name", "flow": "flow_plain", "surveyed": "surveyed_iso"}
JSONS = [
    Listing("json-bare", J, pages="link header", as_json=lambda rows, _: rows),
    Listing(
        "json-meta", J, pages="json", as_json=lambda rows, page: {"meta": {"total": page.total, "page": page.number, "pages": page.count}, "data": rows}
    ),
    Listing("json-next", J, pages="json", as_json=lambda rows, page: {"items": rows, "next": _url(page)}),
    Listing(
        "json-counts", J, pages="json",
        as_json=lambda rows, page: {"count": page.total, "next": _url(page), "previous": _url(page, step=-1) if page.number > 1 else None, "results": rows},
    ),
    Listing(
        "json-cursor", J, pages="json", query="limit=10",
        as_json=lambda rows, page: {"data": rows, "paging": {"cursors": {"after": _cursor(page)}}, "has_more": page.number < page.count},
    ),
    Listing(
        "json-own-page", J, pages="json", query="_page=1&_limit=10",
        as_json=lambda rows, page: {"first": 1, "prev": page.number - 1 or None, "next": page.number + 1 if page.number < page.count else None, "last": page.count, "pages": page.count, "items": page.total, "data": rows},
    ),
    Listing(
        "json-offset", J, pages="json", query="offset=0&limit=10",
        as_json=lambda rows, page: {"offset": (page.number - 1) * page.size, "limit": page.size, "total": page.total, "records": rows},
    ),
    Listing("json-links", J, pages="json", as_json=_jsonapi),
    Listing(
        "json-token", J, pages="json",
        as_json=lambda rows, page: {"kind": "springs#list", **({"nextPageToken": token} if (token := _cursor(page)) else {}), "springs": rows},
    ),
    Listing("graphql", J, pages="json", query="query=springs", as_json=_graph),
    Listing("json-map", {"code": "code", "name": "name", "depth": "depth_plain"}, pages="none", as_json=lambda rows, _: {row["code"]: {k: v for k, v in row.items() if k != "code"} for row in rows}),
    Listing("json-columns", J, pages="json", as_json=_lines),
    Listing(
        "json-nested", {"code": "code", "name": "name", "district": "district", "flow": "flow_plain"}, pages="none",
        as_json=lambda rows, _: {"response": {"docs": [{"id": row["code"], "label": row["name"], "place": {"district": row["district"]}, "last": {"flow": row["flow"]}} for row in rows]}},
    ),
]  # fmt: skip

LISTINGS: list[Listing] = [*CARDS, *TABLES, *LISTS, *UTILITY, *MARKED, *EMBEDDED, *JSONS]
