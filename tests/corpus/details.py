"""The detail pages: each a template that shows one record, with the columns of its truth. Each is there for several records."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from corpus.listings import NEWS, SURROUNDINGS, _filled
from corpus.records import COLUMNS, Record, records

PAGES = 4
"""So many pages of each."""


@dataclass(frozen=True)
class Detail:
    """One kind of detail page. `columns` map the truth's columns to the forms of `records.COLUMNS`."""

    name: str
    columns: dict[str, str]
    body: str
    surroundings: str = "office"
    language: str = "en"
    head: str = ""

    @property
    def records(self) -> list[Record]:
        return records(len(self.name) * 7 + ord(self.name[0]), PAGES + 1, gaps=True)[:PAGES]

    def addresses(self) -> list[str]:
        return [f"/{self.name}/{number}" for number in range(1, PAGES + 1)]

    def truth(self, host: str) -> dict[str, list[Any]]:
        found = {}
        for column, form in self.columns.items():
            values = [COLUMNS[form].true(record) for record in self.records]
            found[column] = [host + value for value in values] if form in ("url", "photo") else values
        return found

    def shown(self) -> list[dict[str, str | None]]:
        return [{name: COLUMNS[form].shown(record) for name, form in self.columns.items()} for record in self.records]

    def page(self, number: int) -> str:
        """The page of the record with this number, from 1."""
        before, after = SURROUNDINGS[self.surroundings]
        body = _filled(self.body, {**self.shown()[number - 1], "n": str(number)})
        head = _filled(self.head, {**self.shown()[number - 1], "n": str(number)})
        return (
            f'<!doctype html><html lang="{self.language}"><head><meta charset="utf-8"><title>A spring of Merrowdale</title>{head}</head>'
            f"<body>{before}{body}{after}</body></html>"
        )


D = {"name": "name", "flow": "flow", "depth": "depth", "surveyed": "surveyed"}
_TABLE = "<table class=info><tbody><tr><th>Code</th><td>{code}</td></tr>[[flow|<tr><th>Flow</th><td>{flow}</td></tr>]]<tr><th>Depth</th><td>{depth}</td></tr></tbody></table>"

DETAILS = [
    Detail("d-table", {"name": "name", "code": "code", "flow": "flow", "depth": "depth"}, "<h1>{name}</h1>" + _TABLE),
    Detail(
        "d-terms", D,
        "<article><h1>{name}</h1><dl>[[flow|<dt>Flow</dt><dd>{flow}</dd>]]<dt>Depth</dt><dd>{depth}</dd><dt>Surveyed</dt><dd>{surveyed}</dd></dl></article>",
    ),
    Detail(
        "d-terms-in-divs", {"name": "name", "keeper": "keeper", "district": "district"},
        "<h1>{name}</h1><dl class=facts><div><dt>Keeper</dt><dd>{keeper}</dd></div><div><dt>District</dt><dd><a href=/d/{n}>{district}</a></dd></div></dl>", "side",
    ),
    Detail(
        "d-colons", D, "<h2 class=title>{name}</h2><p>[[flow|<b>Flow:</b> {flow}<br>]]<b>Depth:</b> {depth}<br><b>Surveyed:</b> {surveyed}</p>", "old",
    ),
    Detail(
        "d-lines", {"name": "name", "keeper": "keeper", "depth": "depth"},
        "<div id=spring><h1>{name}</h1><div>Keeper: {keeper}</div><div>Depth: {depth}</div></div>",
    ),
    Detail(
        "d-classes", {**D, "code": "code"},
        '<div class="sheet"><span class="code">{code}</span><h1 class="name">{name}</h1>[[flow|<div class="flow">{flow}</div>]]<div class="depth">{depth}</div><div class="surveyed">{surveyed}</div></div>',
    ),
    Detail(
        "d-microdata", {"name": "name", "depth": "depth", "photo": "photo"},
        '<div itemscope itemtype="https://schema.org/Place"><h1 itemprop="name">{name}</h1><img itemprop="image" src="{photo}"><span itemprop="elevation">{depth}</span></div>', "side",
    ),
    Detail(
        "d-linked-data", {"name": "name", "code": "code"}, "<h1>{name}</h1><p>A spring.</p>",
        head='<script type="application/ld+json">{"@context":"https://schema.org","@type":"Place","name":"{name}","identifier":"{code}"}</script>',
    ),
    Detail(
        "d-open-graph", {"name": "name", "note": "note", "photo": "photo"}, '<h1>{name}</h1><img class="big" src="{photo}"><p class="note">{note}</p>',
        head='<meta property="og:title" content="{name}"><meta property="og:image" content="{photo}">',
    ),
    Detail(
        "d-heading-table", {"code": "code", "name": "name", "depth": "depth"},
        "<h1>Sheet</h1><table><thead><tr><th>Code</th><th>Name</th><th>Depth</th></tr></thead><tbody><tr><td>{code}</td><td>{name}</td><td>{depth}</td></tr></tbody></table>",
    ),
    Detail(
        "d-list", {"name": "name", "district": "district", "status": "status"},
        "<h1>{name}</h1><ul class=props><li><span class=k>District</span><span class=v>{district}</span></li><li><span class=k>Status</span><span class=v>{status}</span></li></ul>",
        "utility",
    ),
    Detail(
        "d-utility", D,
        '<h1 class="text-2xl font-bold">{name}</h1><div class="grid grid-cols-2"><div class="text-gray-500">Flow</div><div>{flow}</div><div class="text-gray-500">Depth</div><div>{depth}</div><div class="text-gray-500">Surveyed</div><div>{surveyed}</div></div>',
        "utility",
    ),
    Detail(
        "d-german", {"name": "name", "flow": "flow_de", "surveyed": "surveyed_de"},
        "<h1>{name}</h1><table><tr><td>Schüttung</td><td>{flow}</td></tr><tr><td>Vermessen</td><td>{surveyed}</td></tr></table>", "office", "de",
    ),
    Detail(
        "d-form", {"code": "code", "name": "name", "depth": "depth_plain"},
        "<h1>Edit</h1><form><label for=c>Code</label><input id=c name=code value='{code}'><label for=n>Name</label><input id=n name=name value='{name}'><label for=d>Depth</label><input id=d name=depth value='{depth}'></form>",
    ),
    Detail(
        "d-sentence", {"name": "name", "district": "district", "depth": "depth"},
        "<h1>{name}</h1><p class=lead>A spring in {district}, water at {depth}.</p><p>Open to all.</p>", "side",
    ),
    Detail(
        "d-hashed", {"name": "name", "keeper": "keeper", "surveyed": "surveyed"},
        '<div class="css-1a2b3c"><h1 class="css-9z8y7x">{name}</h1><div class="css-4d5e6f"><p class="css-k1k2k3">Keeper</p><p class="css-v1v2v3">{keeper}</p></div><div class="css-4d5e6f"><p class="css-k1k2k3">Surveyed</p><p class="css-v1v2v3">{surveyed}</p></div></div>',
        "utility",
    ),
    Detail(
        "d-cards", {"name": "name", "flow": "flow", "depth": "depth"},
        '<header><h1>{name}</h1></header><div class="stats">[[flow|<div class="stat"><strong>{flow}</strong><small>Flow</small></div>]]<div class="stat"><strong>{depth}</strong><small>Depth</small></div></div>',
    ),
    Detail(
        "d-related", {"name": "name", "code": "code", "keeper": "keeper"},
        '<h1>{name}</h1><p class="code">{code}</p><p class="keeper">{keeper}</p><h3>Near by</h3><ul class="near"><li><a href="/x/1">Black Well</a> <span class="code">MW-0001</span></li><li><a href="/x/2">Old Head</a> <span class="code">MW-0002</span></li><li><a href="/x/3">Far Pool</a> <span class="code">MW-0003</span></li></ul>'
        + NEWS,
    ),
    Detail(
        "d-two-columns", {"name": "name", "flow": "flow", "district": "district"},
        "<h1>{name}</h1><table class=wide><tr><th>Flow</th><td>{flow}</td><th>District</th><td>{district}</td></tr></table>",
    ),
    Detail(
        "d-data", {"code": "code", "name": "name", "depth": "depth_plain"},
        '<div id="spring" data-code="{code}" data-depth="{depth}"><h1>{name}</h1><div class="chart"></div></div>', "bare",
    ),
]  # fmt: skip
