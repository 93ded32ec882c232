"""What was asked for and did not happen is told, by the installed program: at the run, the rehearsal and the verdict."""

from __future__ import annotations

import json
import re
import time
from collections.abc import Mapping
from typing import Any

import pytest
from aiohttp import web

from conftest import Program, serving
from small_host import HEAD, SmallHost, items

LISTING = """[start]
page = "list"
addresses = ["{+site}/l"]
[page.list]
rows = "li"
table = "t"
MORE
[page.list.fields]
name = "."
"""
DETAILS = """[start]
page = "list"
addresses = ["{+site}/l"]
[page.list]
rows = "li"
table = "t"
fields = { name = "b" }
open = { one = OPEN }
[page.one]
completes = "t"
fields = { size = "i" }
"""
TWO = "<ul><li><b>A</b> <a href=/1>x</a> <a href=/2>y</a><li><b>B</b> <a href=/2>x</a></ul>"
TOKENS = "<i class=t>p1</i><i class=t>p2</i>"


def _listing(more: str) -> str:
    return LISTING.replace("MORE", more)


CASES: dict[str, tuple[Mapping[str, Any], str, int, list[str], str]] = {
    "two details for one row": (
        {"/l": TWO, "/1": "<i>1</i>", "/2": "<i>2</i>"},
        DETAILS.replace("OPEN", '"a"'),
        0,
        ['1 × several-links', '1 row has several links to page "one", which completes a row: the first was opened'],
        "name,size\r\nA,1\r\nB,2\r\n",
    ),
    "two values to be sent with a link": (
        {"/l": "<ul><li><b>A</b> <u>1</u><u>2</u></ul>", "/d?n=1": "<i>1</i>", "/d?n=2": "<i>2</i>"},
        DETAILS.replace("OPEN", '{ address = "/d", send = { n = "u" } }'),
        0,
        ['"n" picks several values, and the first was sent'],
        "name,size\r\nA,1\r\n",
    ),
    "two values to be sent for the next page": (
        {"/l": items("a", more=TOKENS), "/l?t=p1": items("b"), "/l?t=p2": items("c")},
        _listing('next = { send = { t = ".t" } }'),
        0,
        ['"t" picks several values, and the first was sent'],
        "name\r\na\r\nb\r\n",
    ),
    "a kind of page that nothing leads to": (
        {"/l": TWO},
        DETAILS.replace("OPEN", '"a.more"'),
        1,
        ['page "one" was never opened: "a.more" led nowhere on any page'],
        "name,size\r\nA,\r\nB,\r\n",
    ),
    "a list that has no rows anywhere": (
        {"/l": items("a", "b", "c")},
        _listing("") + '[page.list.lists.parts]\nrows = "i"\nfields = { part = "." }\n',
        1,
        ["table parts has no rows"],
        "name\r\na\r\nb\r\nc\r\n",
    ),
    "a list that may have none": (
        {"/l": items("a", "b", "c")},
        _listing("") + '[page.list.lists.parts]\nrows = "i"\nfields = { part = "." }\n[table.t]\n[table.parts.check]\nrows = { minimum = 0 }\n',
        0,
        [],
        "name\r\na\r\nb\r\nc\r\n",
    ),
    "next, narrowed by what it may not be": (
        {"/l": items("a", more="<a href=/help/n>Next</a><a href=/l2>Next</a>"), "/l2": items("b"), "/help/n": items("no")},
        _listing('next = { text = "next", skip = "*/help/*" }'),
        0,
        [],
        "name\r\na\r\nb\r\n",
    ),
    "next, narrowed by what it must be": (
        {"/l": items("a", more="<a class=n href=/help/n>x</a><a class=n href=/l2>y</a>"), "/l2": items("b"), "/help/n": items("no")},
        _listing('next = { at = "a.n", only = "*/l?" }'),
        0,
        [],
        "name\r\na\r\nb\r\n",
    ),
    "a total that is not there": (
        {"/l": items("a", "b")},
        _listing('total = ".total"'),
        1,
        ['page "list": total picks nothing, so that nobody can tell whether all rows came'],
        "name\r\na\r\nb\r\n",
    ),
    "a total that cannot be read": (
        {"/l": items("a", "b", more="<p class=total>many records</p>")},
        _listing('total = ".total"'),
        1,
        ['page "list": total cannot be read', "many records"],
        "name\r\na\r\nb\r\n",
    ),
    "the number of the last page that cannot be read": (
        {"/l": items("a", "b", more="<p class=last>the end</p>")},
        _listing('next = { count = { parameter = "p" }, end_page = ".last" }'),
        1,
        ['page "list": next.end_page cannot be read'],
        "name\r\na\r\nb\r\n",
    ),
    "rows that are not there, with what is near": (
        {"/l": "<ol><li class=record>a<li class=record>b</ol>"},
        _listing("").replace('"li"', '"li.recrod"'),
        1,
        ['page "list": no rows on a page without "li.recrod"', 'no element has the class "recrod", but 2 have "record"'],
        "name\r\n",
    ),
    "rows that the page says are none": (
        {"/l": "<p class=none>Nothing found"},
        _listing('empty = ".none"\ntotal = ".total"'),
        0,
        [],
        "name\r\n",
    ),
    "an array that is empty says so itself": (
        {"/l": (200, {"Content-Type": "application/json"}, '{"found": []}')},
        _listing("").replace('"li"', '"$.found[*]"').replace('"."', '"$.name"'),
        0,
        [],
        "name\r\n",
    ),
    "an array under another name": (
        {"/l": (200, {"Content-Type": "application/json"}, '{"items": [{"name": "a"}]}')},
        _listing("").replace('"li"', '"$.item[*]"').replace('"."', '"$.name"'),
        1,
        ['no rows on a page without "$.item[*]"', 'but some have "items"'],
        "name\r\n",
    ),
}  # fmt: skip


@pytest.mark.parametrize("case", CASES)
def test_it_is_told_at_the_run_and_the_verdict(program: Program, case: str) -> None:
    pages, plan, status, told, table = CASES[case]
    with serving(SmallHost(pages).application) as site:
        (program.folder / "p.toml").write_text(HEAD.replace("http://h", site) + plan)
        done = program.inside("run", "p.toml", "-o", "t.csv", "-v")
    assert done.status == status, done.err
    assert (program.folder / "t.csv").read_bytes().decode() == table
    said = " ".join(done.err.split())
    for words in told:
        assert words in said
    verified = program.inside("verify", "p", "-v")
    assert verified.status == status
    assert all(words in " ".join(verified.out.split()) for words in told if "×" not in words)
    if not told:
        assert "note" not in said
        assert "worth knowing" not in verified.out


@pytest.mark.parametrize(
    "case", [case for case, (_, _, status, told, _) in CASES.items() if status and "page" in told[0]]
)
def test_it_is_told_at_the_rehearsal(program: Program, case: str) -> None:
    pages, plan, _, told, _ = CASES[case]
    with serving(SmallHost(pages).application) as site:
        (program.folder / "p.toml").write_text(HEAD.replace("http://h", site) + plan)
        done = program.inside("preview", "p.toml", "--fresh")
    assert done.status == 1
    said = " ".join(done.out.split())
    assert told[-1].removesuffix(" on any page") in said


@pytest.mark.parametrize(
    ("page", "label", "wanted"),
    [
        ("<dl><dt>1. Overview</dt><dt>2. Start</dt></dl>", "1. Overview", ""),
        ("<dl><dt>Height</dt><dd>12 m</dd><dt>Depth</dt></dl>", "Height", "12 m"),
        ("<dl><dt>Height</dt><dd>12 m</dd><dt>Depth</dt></dl>", "Depth", ""),
        ("<dl><dt>Span</dt><dt>Width</dt><dd>3 m</dd></dl>", "Span", "3 m"),
        ("<table><tr><th>Name</th><th>Height</th></tr><tr><td>A</td><td>12 m</td></tr></table>", "Name", ""),
        ("<table><tr><th>Name</th><td>A</td></tr><tr><th>Height</th><td>12 m</td></tr></table>", "Height", "12 m"),
        ("<table><tr><th>A</th><td>1</td><td>2</td><td>3</td></tr></table>", "2", ""),
        ("<ul><li>Name</li><li>Height</li></ul>", "Name", ""),
        ("<h3>Name</h3><h3>Height</h3><p>12 m</p>", "Name", ""),
        ("<h3>Name</h3><h3>Height</h3><p>12 m</p>", "Height", "12 m"),
        ("<nav><a>Name</a> <a>Height</a></nav>", "Name", ""),
        ("<p><span>Name</span> <span>Height</span> <span>Depth</span></p>", "Name", ""),
        ("<p><span>Name</span> <span>A</span></p>", "Name", "A"),
        ("<p><span>Name:</span> <span>A</span> <span>Height:</span> <span>12 m</span></p>", "Height", "12 m"),
        ("<p><span class=k>Name</span><span class=v>A</span><span class=k>Height</span><span class=v>12 m</span></p>", "Height", "12 m"),
    ],
)  # fmt: skip
def test_a_label_has_a_value_only_where_the_page_says_so(program: Program, page: str, label: str, wanted: str) -> None:
    (program.folder / "p.html").write_text(f"<!doctype html><title>P</title><body>{page}")
    done = program.inside("try", "p.html", "--label", label)
    assert (wanted in done.out) if wanted else (done.status == 1), done.out


PACED = """[start]
page = "list"
addresses = ["{+site}/l"]
[page.list]
rows = "li"
table = "t"
open = { one = "a" }
fields = { name = "." }
[page.one]
EXPECT
completes = "t"
fields = { size = "i" }
"""


def _plan(site: str, plan: str, **manners: str) -> str:
    head = HEAD.replace("http://h", site)
    for name, value in manners.items():
        head = re.sub(rf'^{name} = "0s"', f'{name} = "{value}"', head, flags=re.MULTILINE)
    return head + plan


def test_many_refusals_end_the_crawl_early_and_quote_what_the_page_says(program: Program) -> None:
    links = items(*(f"<a href=/{n}>{n}</a>" for n in range(63)))
    refusal = (403, {}, "<title>No</title><h1>Access denied</h1><p>Write to the desk for a key.")
    host = SmallHost({"/l": links, **{f"/{n}": refusal for n in range(63)}})
    with serving(host.application) as site:
        (program.folder / "p.toml").write_text(_plan(site, PACED.replace("EXPECT\n", "")))
        done = program.inside("run", "p.toml", "-o", "t.csv")
    assert done.status == 3
    assert 21 <= len(host.asked) <= 30  # and those in flight
    assert '"Access denied Write to the desk for a key."' in " ".join(done.err.split())
    assert "for now: 20 refusals in a row, the last:" in done.err
    assert not (program.folder / "t.csv").exists()
    assert "1 row" not in done.err.split("pages")[0] or "63 rows" in done.err
    log = (program.folder / next(program.folder.glob("runs/p/*/run.log"))).read_text()
    assert '"event":"host_given_up"' in log
    assert "Access denied" in log


def test_a_wrong_expect_slows_nothing_and_is_asked_again_a_few_times_only(program: Program) -> None:
    links = items(*(f"<a href=/{n}>{n}</a>" for n in range(30)))
    host = SmallHost({"/l": links, **{f"/{n}": f"<title>Spring</title><i>{n}</i>" for n in range(30)}})
    with serving(host.application) as site:
        plan = PACED.replace("EXPECT", 'expect = "b.typo"')
        (program.folder / "p.toml").write_text(_plan(site, plan, first_wait="50ms", slowest="60s"))
        began = time.monotonic()
        done = program.inside("run", "p.toml")
        seconds = time.monotonic() - began
    assert done.status == 1
    assert 31 <= len(host.asked) <= 50
    assert seconds < 20
    assert "pace" not in done.err
    log = next(program.folder.glob("runs/p/*/run.log")).read_text()
    assert '"event":"pace"' not in log
    assert '"event":"host_rests"' not in log


def test_how_slowly_a_site_was_asked_and_why_is_told(program: Program) -> None:
    links = items(*(f"<a href=/{n}>{n}</a>" for n in range(12)))
    count = 0

    def answer(request: web.Request, body: str) -> Any:
        nonlocal count
        count += 1
        return (429, {}, "slower, please") if 3 <= count <= 6 else f"<i>{request.path}</i>"

    pages = {"/l": links, **{f"/{n}": answer for n in range(12)}}
    with serving(SmallHost(pages).application) as site:
        plan = _plan(site, PACED.replace("EXPECT\n", ""), slowest="2s", first_wait="50ms")
        (program.folder / "p.toml").write_text(plan.replace("retries = 0", "retries = 5"))
        done = program.inside("run", "p.toml", "-o", "t.csv")
    assert done.status == 0, done.err
    said = " ".join(done.err.split())
    found = re.search(
        r"pace 127\.0\.0\.1:\d+: up to (\d\.\d) s between requests \(status 429 \(Too Many Requests\)\), in all (\d+) s longer",
        said,
    )
    assert found is not None, said
    assert float(found[1]) >= 0.2
    log = [json.loads(line) for line in next(program.folder.glob("runs/p/*/run.log")).read_text().splitlines()]
    assert any(one["event"] == "pace" and "429" in one["why"] for one in log)
    assert len((program.folder / "t.csv").read_text().split()) == 13


def test_what_a_refusal_says_is_no_command_to_a_terminal(program: Program) -> None:
    said = b"\x1b[2J\x1b]0;owned\x07 Access \xe2\x80\xae denied" + b" x" * 300_000
    with serving(SmallHost({"/l": (403, {"Content-Type": "text/plain"}, said)}).application) as site:
        (program.folder / "p.toml").write_text(_plan(site, PACED.replace("EXPECT\n", "")))
        done = program.inside("run", "p.toml")
    assert done.status == 3
    assert "Access" in done.err
    assert not {"\x1b", "\x07", "\u202e"} & set(done.err)


def test_an_array_at_the_top_that_is_empty_says_so_itself(program: Program) -> None:
    plan = _listing("").replace('"li"', '"$[*]"').replace('"."', '"$.name"')
    with serving(SmallHost({"/l": (200, {"Content-Type": "application/json"}, "[]")}).application) as site:
        (program.folder / "p.toml").write_text(_plan(site, plan))
        assert program.inside("run", "p.toml").status == 0
