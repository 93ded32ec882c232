"""The readers of outside data, each with what it is tried on, how it is called, and what it may say; for `fuzz.py`.

A reader that raises anything but what it may, or takes longer than `fuzz.SLOW_S`, has a fault.
"""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cache
from pathlib import Path
from typing import Any

from conftest import EXAMPLES
from small_writings import AT, setting_of, tables, writings
from wadi.clean.adjust import adjustment_of
from wadi.clean.arithmetic import Formula
from wadi.clean.errors import BadSetting, NotReadable
from wadi.clean.stages import Recipe, Stages
from wadi.clean.steps import STEPS, step_of
from wadi.clean.types import Where
from wadi.crawl.extract import extract
from wadi.crawl.files import ending_of, media_type
from wadi.crawl.kinds import Kind, compile_kinds
from wadi.crawl.paging import header_next
from wadi.demo import shapes, site
from wadi.demo.pages import page as template
from wadi.demo.world import springs
from wadi.learn.first_look.look import caching_of, cookies_set
from wadi.page.columns import BadColumns, columns_kind, read_columns, unpacked
from wadi.page.document import NotADocument, read_document
from wadi.page.expressions import BadExpression, compile_expression
from wadi.page.grid import TooLargeTable, grid_of
from wadi.page.labels import LabelsIn
from wadi.page.literals import assignments
from wadi.page.markup import clean_html, markdown_of
from wadi.page.nodes import Element, elements, inner_markup_of, line_of, path_of
from wadi.page.refresh import refresh_of
from wadi.page.structured import structured
from wadi.page.text import text_of
from wadi.plan.inputs import BadInputFile, resolved
from wadi.plan.model import InputFile
from wadi.plan.reader import load_plan, parse_plan
from wadi.problems import WadiError
from wadi.quality.files import tables_in
from wadi.store.archive import Archive, DamagedRecord, read_reply, recovered
from wadi.urls import NotAUrl, addressed, host_of, normalised, resolve, without_secret
from wadi.web.coding import BadCoding, TooLarge, decoded
from wadi.web.manners import quota_of
from wadi.web.messages import Reply, Request, header_text
from wadi.web.retry import time_at_host, wait_asked_for
from wadi.web.robots import read_robots, verdict_for
from wadi.web.session import BadSession, read_cookies, read_saved_request

ROOT = Path(__file__).parent
NOW = datetime(2026, 11, 3, 9, 0, tzinfo=UTC)
MARKUP = (
    b"<", b">", b"</", b'"', b"'", b"=", b"&", b"&#", b"<!--", b"-->", b"<![CDATA[", b"<template>", b"<table>", b"<svg>", b"<math>",
    b"<select>", b"<script>", b"</p>", b"<p>", b"<td", b"\0", b"\xef\xbf\xbe", b"<pre>\n", b"<textarea>", b"<noscript>",
    b"<base href=", b"<a href=", b"<plaintext>", b"<frameset>", b"colspan=999999", b"<dl><dt>", b"\xe2\x80\xae", b"\r", b"<?",
    b"<!DOCTYPE", b"<!ENTITY a '&a;&a;'>", b"<meta charset=", b"<iframe srcdoc=",
)  # fmt: skip
TEXT = (
    b'"', b"'", b",", b":", b";", b"=", b"(", b")", b"[", b"]", b"{", b"}", b"|", b"*", b"\\", b"-", b"/", b"\n", b"\r\n", b"\t", b" ", b"\0",
    b"9" * 60, b"1e400", b"NaN", b"-0", b"\xef\xbf\xbf", b"\xed\xa0\x80", b"\xe2\x80\xae", b"\xff", b"%00", b"\\ud800", b"(a+)+$", b"../",
)  # fmt: skip


@dataclass(frozen=True)
class Reader:
    """A reader: seeds to be torn, pieces to be put in, the call, and the errors that it may raise."""

    seeds: Callable[[], list[bytes]]
    read: Callable[[bytes, random.Random], object]
    may_raise: tuple[type[Exception], ...] = ()
    pieces: tuple[bytes, ...] = TEXT


# -- pages

EXPRESSIONS = (
    "li", "li > a[href]", "td:nth-child(2n + 1)", ":has(> b):not(.x, p)", "h3 + *", "//li[position() < 3]/@*", "//*[count(*) > 2]",
    "string(.//a)", "ancestor-or-self::*[1]", "//text()[contains(., 'M')]", "re:<(\\w+)", "$..name", "$.rows[*]", "$..[?@.a > 1]",
)  # fmt: skip


@cache
def pages() -> list[bytes]:
    """Pages of the sample site, and others with the quirks of real ones."""
    found = [path.read_bytes() for path in sorted((ROOT / "labelled").glob("**/*.html"))]
    suite = [path.read_bytes() for path in sorted((ROOT / "suites/tree-construction").glob("tests*.dat"))]
    return [*(site.registerhtml(number).encode() for number in range(1, 6)), *found, *suite]


def _read_page(body: bytes, chance: random.Random) -> None:
    """All that is done with a page, for it or for its rows."""
    document = read_document(body, "http://h/a/b", chance.choice(["text/html", "", "text/html; charset=gbk"]))
    scopes = [document.scope]
    if document.kind != "json":
        every = list(elements(document.top))
        scopes += chance.sample(every, min(4, len(every)))
        for element in chance.sample(every, min(3, len(every))):
            for work in (text_of, clean_html, markdown_of, inner_markup_of, line_of, path_of):
                work(element)  # type: ignore[operator]
            LabelsIn(element).find(["depth", "flow"])
        for table in list(elements(document.top, "table"))[:2]:
            grid_of(table)
        text_of(document.top)
    for expression in EXPRESSIONS:
        for scope in scopes:
            for node in compile_expression(expression).nodes(scope, document)[:3]:
                if isinstance(node, Element):
                    text_of(node)
    structured(document)


def _read_xml(body: bytes, chance: random.Random) -> None:
    document = read_document(body, "http://h/a.xml", "application/xml", parse="xml")
    text_of(document.top)
    for expression in ("item > title", "url", *EXPRESSIONS[5:11]):
        compile_expression(expression).nodes(document.scope, document)


def _read_json(body: bytes, chance: random.Random) -> None:
    document = read_document(body, "http://h/a.json", "application/json", parse="json")
    for expression in EXPRESSIONS[-3:]:
        compile_expression(expression).nodes(document.scope, document)


@cache
def _xml() -> list[bytes]:
    news = template("news.xml", notices=(), site="http://h")
    sitemap = template("sitemap.xml", site="http://h", springs=springs()[:5], first=True)
    index = template("sitemap-index.xml", site="http://h", parts=range(3))
    entities = '<?xml version="1.0"?><!DOCTYPE a [<!ENTITY co "Mill &amp; Co">]><a xmlns="urn:x"><b c="1">&co;</b></a>'
    return [text.encode() for text in (news, sitemap, index, entities)]


def _json() -> list[bytes]:
    import orjson

    from wadi.demo import office

    return [
        orjson.dumps(value) for value in (office.levels_json(), office.gauges_json(1), office.readings_json(None))
    ] + [b'{"a": [1, 2.50, null, true, {"b": "x\\ud83d\\ude00"}], "a": -0.0}']


@cache
def _kinds() -> dict[str, Kind]:
    """Page kinds of example plans, and those for sitemaps and feeds."""
    found: dict[str, Kind] = {}
    for name in ("springs", "fieldnotes", "gaugings", "sitemap", "nested", "yearbook", "duties", "readings", "notices"):
        loaded = load_plan(EXAMPLES / f"{name}.toml")
        kinds = compile_kinds(loaded.plan, this_year=2026, functions=loaded.functions)
        found |= {f"{name} {kind}": compiled for kind, compiled in kinds.items() if kind != "[file]"}
    return found


def _extract(body: bytes, chance: random.Random) -> None:
    """A page as a crawl reads it: rows, links, how it goes on."""
    name = chance.choice(sorted(_kinds()))
    kinds = {kind.rpartition(" ")[2]: one for kind, one in _kinds().items() if kind.split(" ")[0] == name.split(" ")[0]}
    kind = chance.choice(["text/html", "application/xml", "application/json", ""])
    reply = Reply(
        Request("http://h/a"), "http://h/a", 200, (("Content-Type", kind), ("Link", '</b>; rel="next"')), body, AT
    )
    extract(reply, _kinds()[name], kinds)


# -- transport


def _headers() -> list[bytes]:
    return [
        b"Retry-After: Tue, 03 Nov 2026 09:00:30 GMT\nDate: Tue, 03 Nov 2026 09:00:00 GMT",
        b'RateLimit: "default";r=0;t=30\nX-RateLimit-Remaining: 0\nX-RateLimit-Reset: 2000000050',
        b'Link: </a?page=2>; rel="next"; title="older, drier", <http://h/b>; rel=prev\nRefresh: 3; url="/b"',
        b"Content-Disposition: attachment; filename*=UTF-8''m%C3%BChle.csv\nContent-Type: text/csv; charset=\"gbk\"",
        b'Set-Cookie: a=b; Path=/; Max-Age=3\nCache-Control: max-age=60\nETag: W/"1"\nLocation: \xe9/..//b',
    ]


def _read_headers(body: bytes, chance: random.Random) -> None:
    lines = [header_text(line) for line in body.split(b"\n")]
    headers = tuple((name, value.strip()) for name, _, value in (line.partition(":") for line in lines))
    reply = Reply(Request("http://h/a"), "http://h/a", 503, headers, b"<p>x", AT)
    for read in (time_at_host, refresh_of, header_next, media_type, caching_of, cookies_set):
        read(reply)  # type: ignore[operator]
    wait_asked_for(reply, NOW)
    quota_of(reply, AT)
    ending_of(reply.url, media_type(reply), reply.header("content-disposition"))
    resolve("http://h/a", reply.header("location"))


def _packed() -> list[bytes]:
    import bz2
    import gzip
    import zlib

    import brotli
    import zstandard

    page = pages()[0]
    return [
        gzip.compress(page),
        zlib.compress(page),
        brotli.compress(page),
        zstandard.compress(page),
        bz2.compress(page),
        gzip.compress(b"") * 9,
    ]


def _undo(body: bytes, chance: random.Random) -> None:
    decoded(body, chance.choice(["gzip", "deflate", "br", "zstd", "gzip, br", "", "x"]), 10_000_000)


def _robots() -> list[bytes]:
    return [
        site.ROBOTS.encode(),
        b"User-agent: wadi\nUser-agent: *\nDisallow: /*a*b$\nAllow: /a%2fb\nCrawl-delay: 2.5\nSitemap: http://h/s.xml # x\n",
    ]


def _read_robots(body: bytes, chance: random.Random) -> None:
    robots = read_robots(body)
    for path in ("/", "/aaaaaaaaaaaaaaaaaaaaaaaaaaaa", "/a%2Fb?c=d#e", "/members/x"):
        verdict_for(robots, f"http://h{path}", "wadi")


def _urls() -> list[bytes]:
    texts = ["http://münchen.example/a b?q=é#x", "//h:80/../a/./b", "docs\\page2.html", "?page=2&a=%c3%a9", "http://u:p@[::1]:8080/", "javascript:x",
             "HTTP://H/%7Ea;b?token=1", "http://1.2.3/", "http://0x7f.1/", "data:text/html,x"]  # fmt: skip
    return [text.encode() for text in texts]


def _read_url(body: bytes, chance: random.Random) -> None:
    text = body.decode("utf-8", "surrogateescape") if chance.random() < 0.5 else body.decode("utf-8", "replace")
    url = resolve("http://h/a/b?c", text, chance.choice(["utf-8", "windows-1251", "shift_jis"]))
    for work in (normalised, addressed, host_of, without_secret):
        work(url)
    assert resolve("http://other/", url) == url, "an address that was resolved is resolved to another"


def _sessions() -> list[bytes]:
    return [
        b"# Netscape HTTP Cookie File\n.h\tTRUE\t/\tFALSE\t2000000000\tname\tvalue\n#HttpOnly_h\tFALSE\t/\tTRUE\t0\ta\tb\n",
        b"curl 'http://h/a' -H 'Accept: text/html' -H 'Cookie: a=b' --data-raw $'a\\'b' --compressed",
        b"GET /a HTTP/1.1\r\nHost: h\r\nCookie: a=b\r\n\r\nbody",
        b'{"log": {"entries": [{"request": {"url": "http://h/", "headers": [{"name": "Cookie", "value": "a=b"}]}}]}}',
    ]


def _read_session(body: bytes, chance: random.Random) -> None:
    text = body.decode("utf-8", "replace")
    if chance.random() < 0.5:
        read_cookies(text, AT)
    else:
        read_saved_request(text)


# -- files


def _archives() -> list[bytes]:
    """A file of a run's archive."""
    import tempfile

    with tempfile.TemporaryDirectory() as name:
        archive = Archive(Path(name), software="x")
        for number, body in enumerate((b"<p>one", b"<p>two" * 300, b"<p>two" * 300)):
            reply = Reply(
                Request(f"http://h/{number}"), f"http://h/{number}", 200, (("Content-Type", "text/html"),), body, AT
            )
            archive.append(reply, number)
        archive.close()
        return [next(Path(name).glob("*.gz")).read_bytes()]


def _read_archive(body: bytes, chance: random.Random) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as name:
        (Path(name) / "00001.warc.gz").write_bytes(body)
        for _, location in list(recovered(Path(name), {})):
            read_reply(Path(name), location)


def _tables() -> list[bytes]:
    return [
        "Register;;\n\nCode;Name;Flow\nA;Mühle;1,5\nB;\"x;\ny\";\n".encode("windows-1252"),
        b"sep=|\na|b\n1|2\n",
        b"a\tb\n1\t2\n",
        shapes._workbook(),
        _zipped("a.csv", b"a,b\n1,2\n"),
        _packed()[0],
    ]  # fmt: skip


def _zipped(name: str, data: bytes) -> bytes:
    import io
    import zipfile

    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as file:
        file.writestr(name, data)
    return out.getvalue()


def _read_columns(body: bytes, chance: random.Random) -> None:
    whole, name = unpacked(body, chance.choice([None, "a.csv"]))
    found = columns_kind(whole, "http://h/a.csv", "text/csv", name) or chance.choice(["csv", "excel"])
    read_columns(whole, found, "text/csv", sheet=chance.choice([None, "Wells"]), header=chance.choice([None, 0, 1, 3]))


def _read_table_file(body: bytes, chance: random.Random) -> None:
    import tempfile

    ending = chance.choice([".csv", ".tsv", ".json", ".jsonl", ".xlsx", ".parquet", ".sqlite", ".csv.gz"])
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / f"t{ending}"
        path.write_bytes(body)
        for table in tables_in(path):
            for _ in table.rows():
                pass


def _table_files() -> list[bytes]:
    import io
    import sqlite3
    import tempfile

    import pyarrow as pa
    import pyarrow.parquet as pq

    out = io.BytesIO()
    pq.write_table(pa.table({"a": [1, 2], "b": ["x", None]}), out)
    with tempfile.TemporaryDirectory() as name:
        database = sqlite3.connect(Path(name) / "t.sqlite")
        database.execute("CREATE TABLE t (a, b)")
        database.execute("INSERT INTO t VALUES (1, 'x')")
        database.commit()
        database.close()
        stored = (Path(name) / "t.sqlite").read_bytes()
    return [*_tables()[:4], b'[{"a": 1, "b": [1]}, {"a": null}]', b'{"a": 1}\n{"a": "x"}\n', out.getvalue(), stored]


def _read_inputs(body: bytes, chance: random.Random) -> None:
    import tempfile

    ending = chance.choice([".csv", ".tsv", ".txt"])
    with tempfile.TemporaryDirectory() as name:
        (Path(name) / f"i{ending}").write_bytes(body)
        resolved({"i": InputFile(file=f"i{ending}")}, "i", Path(name))


# -- values and plans


@cache
def _values() -> list[bytes]:
    return [writing.text.encode() for table in tables() for writing in writings(table)]


@cache
def _recipes() -> list[Stages]:
    """How the columns of all writings are read."""
    found = {f"{one.kind} {one.settings}": one for table in tables() for one in writings(table)}
    return [Stages(Recipe(setting=setting_of(one))) for _, one in sorted(found.items())]


def _read_value(body: bytes, chance: random.Random) -> None:
    for stages in chance.sample(_recipes(), 12):
        stages.value_of(body.decode("utf-8", "replace"), Where("http://h/", AT))


def _sentences() -> list[bytes]:
    steps = [f"{name} '(a)b' 2" for name in STEPS] + [
        "* 2.5",
        "round 2",
        "add-days 3",
        "in-zone Europe/Paris",
        "flow * 2 + depth / (a - 1)",
    ]
    return [step.encode() for step in steps]


def _read_sentence(body: bytes, chance: random.Random) -> None:
    text = body.decode("utf-8", "replace")
    read = chance.choice([step_of, adjustment_of, Formula])
    found: Any = read(text)
    if read is step_of:
        found("a text, 12 of 34")
    elif read is adjustment_of:
        found(chance.choice([2.5, 10**30, "x", datetime(2026, 1, 1, tzinfo=UTC)]))
    else:
        found.value({name: chance.choice([2.0, None, 10**30, "x", 0]) for name in found.names})


def _expressions() -> list[bytes]:
    return [
        text.encode()
        for text in (
            *EXPRESSIONS,
            "//a[@href and not(.//b)]/text()",
            "label:Depth of the well",
            "css:p > a",
            "$['a'][1:2].b",
        )
    ]


def _read_expression(body: bytes, chance: random.Random) -> None:
    document = read_document(b"<ul><li class=x>a <b>1</b><li><a href=/b>b</a></ul>", "http://h/", "text/html")
    compile_expression(body.decode("utf-8", "replace")).nodes(document.scope, document)


def _plans() -> list[bytes]:
    return [path.read_bytes() for path in sorted(EXAMPLES.glob("*.toml"))]


def _read_plan(body: bytes, chance: random.Random) -> None:
    parse_plan(body.decode("utf-8", "replace"), str(EXAMPLES / "p.toml"))


def _scripts() -> list[bytes]:
    return [
        b'var a = {b: [1, "x", \'y\', `z`, /re/, new Date(0)], c: -1.5e3, d: undefined}; window["e"] = JSON.parse("{\\"f\\": 1}");'
    ]


def _read_script(body: bytes, chance: random.Random) -> None:
    list(assignments(body.decode("utf-8", "replace")))


READERS: dict[str, Reader] = {
    "page": Reader(pages, _read_page, (NotADocument, TooLargeTable), MARKUP),
    "crawled page": Reader(lambda: [*pages(), *_xml(), *_json()], _extract, (), MARKUP),
    "xml": Reader(_xml, _read_xml, (NotADocument,), MARKUP),
    "json": Reader(_json, _read_json, (NotADocument,)),
    "script": Reader(_scripts, _read_script),
    "header fields": Reader(_headers, _read_headers, (NotAUrl,)),
    "content coding": Reader(_packed, _undo, (BadCoding, TooLarge)),
    "robots.txt": Reader(_robots, _read_robots),
    "url": Reader(_urls, _read_url, (NotAUrl,)),
    "session": Reader(_sessions, _read_session, (BadSession,)),
    "archive": Reader(_archives, _read_archive, (DamagedRecord, ValueError, KeyError)),
    "columns": Reader(_tables, _read_columns, (BadColumns,)),
    "table file": Reader(_table_files, _read_table_file, (WadiError,)),
    "inputs": Reader(_tables, _read_inputs, (BadInputFile,)),
    "value": Reader(_values, _read_value),
    "step": Reader(_sentences, _read_sentence, (BadSetting, NotReadable)),
    "expression": Reader(_expressions, _read_expression, (BadExpression,)),
    "plan": Reader(_plans, _read_plan, (WadiError,)),
}
