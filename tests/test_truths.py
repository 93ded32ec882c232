"""What is said is true: one test for each thing that was once said otherwise, by the installed program where it is one's."""

from __future__ import annotations

import base64
import gzip
import hashlib
import json
import re
import subprocess
import sys
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import pytest
from aiohttp import web

from conftest import EXAMPLES, Program, plan_text, records_of, serving
from small_host import HEAD, SmallHost, crawled, items, list_plan, plan_of
from wadi.actions.begin import begin
from wadi.actions.crawl import crawl
from wadi.crawl.health import Health
from wadi.plan.reader import PlanError, load_plan
from wadi.quality.measures import ColumnMeasures, Measures, TableMeasures
from wadi.quality.plan_changes import change_between, comparable
from wadi.web.hosts import Hosts, Pace
from wadi.web.parameters import LinkRules, with_parameters


def _run(program: Program, pages: Mapping[str, Any], plan: str, *arguments: str) -> Any:
    with serving(SmallHost(pages).application) as site:
        (program.folder / "p.toml").write_text(HEAD.replace("http://h", site) + plan)
        return program.inside("run", "p.toml", *arguments)


@pytest.mark.parametrize("rows", ["1", "7", "31"])
def test_a_row_beyond_the_limit_does_not_count(program: Program, site: str, rows: str) -> None:
    (program.folder / "springs.toml").write_text(plan_text())
    done = program.inside("run", "springs.toml", "-i", f"site={site}", "--rows", rows)
    assert "without the detail page's columns" not in done.err


def test_the_limit_that_ended_a_crawl_is_named(program: Program) -> None:
    pages = {"/l": items("<a href=/1>a</a>"), "/1": "<i>1</i>"}
    plan = list_plan(page='open = { one = "a" }')
    plan += '[page.one]\ncompletes = "t"\nfields = { size = "i" }\n'
    assert "ended by the depth limit" in _run(program, pages, plan, "--depth", "0", "--pages", "9").err
    assert "ended by the pages limit" in _run(program, pages, plan, "--depth", "1", "--pages", "1").err


def test_a_time_to_answer_is_kept_and_tries_are_counted(program: Program) -> None:
    async def never(request: web.Request) -> web.Response:
        import asyncio

        await asyncio.sleep(6)
        return web.Response()

    def application() -> web.Application:
        app = web.Application()
        app.router.add_get("/l", never)
        return app

    with serving(application) as site:
        head = HEAD.replace("http://h", site).replace("parallel = 3", 'parallel = 3\nanswer_within = "300ms"')
        path = program.folder / "p.toml"
        path.write_text(head + list_plan())
        began = time.monotonic()
        done = program.inside("run", path)
        assert time.monotonic() - began < 4
        assert "no whole answer within 0 s [timed-out]" in done.err
        assert "asked" not in done.err
        assert "refused" not in done.err
        path.write_text(head.replace("retries = 0", "retries = 2") + list_plan())
        done = program.inside("run", path)
    assert re.search(r"asked 3 times in \d+ s \[timed-out\]", done.err), done.err


def test_a_host_that_stops_answering_has_not_refused(tmp_path: Path) -> None:
    def broken_off(request: web.Request, body: str) -> str:
        assert request.transport is not None
        request.transport.abort()
        return ""

    pages = {"/l": items(*(f"<a href=/{n}>{n}</a>" for n in range(20))), **{f"/{n}": broken_off for n in range(20)}}
    plan = list_plan(page='open = { one = "a" }')
    plan += '[page.one]\ncompletes = "t"\nfields = { size = "i" }\n'
    with crawled(tmp_path, pages, plan, rest="20ms", retries=1) as done:
        assert done.run.end == "host unreachable"


def test_a_failure_says_where_redirects_led_and_why_is_not_cut(program: Program) -> None:
    pages: dict[str, Any] = {
        "/l": (302, {"Location": "/login"}, ""),
        "/login": "<title>Log in</title><form><input type=password name=p></form>",
    }
    done = _run(program, pages, list_plan(page='expect = "ul"'))
    assert "(redirected to http://127.0.0.1:" in done.err
    assert "is a log-in page" in done.err
    pages["/login"] = (404, {}, "nothing here for you")
    done = _run(program, pages, list_plan(page='expect = "ul"'))
    assert re.search(r'/l → http://127\.0\.0\.1:\d+/login: status 404 \(Not Found\): "nothing here for you"', done.err)
    long = "x" * 600
    done = _run(
        program, {f"/l?{long}": (500, {}, '{"error": "the pump is broken"}')}, list_plan().replace("/l", f"/l?{long}")
    )
    assert '{"error": "the pump is broken"}' in done.err
    assert "…" not in done.err
    assert done.err.count(long) == 1  # an address is said once


def test_what_was_unchanged_is_counted(program: Program, site: str) -> None:
    (program.folder / "springs.toml").write_text(plan_text())
    assert program.inside("run", "springs.toml", "-i", f"site={site}", "-q").status == 0
    done = program.inside("run", "springs.toml", "-i", f"site={site}", "--since", "springs")
    assert re.search(r"unchanged \d+ of 366 pages, as the site says: taken from the earlier run", done.err), done.err


def test_csv_is_called_csv(program: Program) -> None:
    pages = {"/d.csv": (200, {"Content-Type": "text/csv"}, "name,flow\na,1\nb,2\n")}
    with serving(SmallHost(pages).application) as site:
        assert "the reply is CSV of 2 lines" in program.inside("inspect", f"{site}/d.csv").out


def test_export_says_which_tables_it_did_not_write(program: Program) -> None:
    plan = list_plan() + '[page.list.lists.parts]\nrows = "i"\nfields = { part = "." }\n'
    assert _run(program, {"/l": items("a <i>1</i>", "b <i>2</i>")}, plan).status == 0
    assert "further tables (--table NAME): parts" in program.inside("export", "p", "-o", "t.csv").err
    assert "further tables" not in program.inside("export", "p", "-o", "t.xlsx").err


def test_texts_of_csv_are_as_they_are_and_what_a_spreadsheet_would_run_is_counted(program: Program) -> None:
    pages = {"/l": items("-rw-r--r--", "=1+1", "plain", "-5")}
    done = _run(program, pages, list_plan(), "-o", "t.csv")
    assert (program.folder / "t.csv").read_text().split() == ["name", "-rw-r--r--", "=1+1", "plain", "-5"]
    assert "t.csv: cells that a spreadsheet would run as formulas: 2 of name; --disarm puts ' before them" in done.err
    assert program.inside("export", "p", "-o", "t.csv", "--disarm").err.count("formulas") == 0
    assert (program.folder / "t.csv").read_text().split() == ["name", "'-rw-r--r--", "'=1+1", "plain", "-5"]
    assert "formulas" not in _run(program, pages, list_plan() + "[table.t]\ndisarm = true\n", "-o", "u.csv").err
    assert (program.folder / "u.csv").read_text().split()[1] == "'-rw-r--r--"


def test_what_the_plan_changed_is_no_drift(program: Program) -> None:
    pages = {"/l": items(*(f"<b>row {n}</b> <i>{n}</i> <u>x</u>" for n in range(30)))}
    own = list_plan('name = "b"\nsize = { at = "i", type = "integer" }\nmark = "u"\n')
    assert _run(program, pages, own).status == 0
    changed = own.replace('mark = "u"\n', "").replace(
        'size = { at = "i", type = "integer" }', 'size = { at = "i", type = "integer", adjust = "* 1000" }'
    )
    assert _run(program, pages, changed).status == 0
    told = json.loads(program.inside("verify", "p", "--json").out)
    assert [(one["code"], one["fails"]) for one in told["findings"]] == [("plan-changed", False)]
    assert 'the columns "mark", "size" are not compared' in told["findings"][0]["what"]
    pages["/l"] = items(*(f"<b>row {n}</b> <u>x</u>" for n in range(30)))
    assert _run(program, pages, changed).status == 1  # and what goes blank is, still
    assert "size is blank in every row" in program.inside("verify", "p").out


TABLED = """[start]
page = "l"
addresses = ["{+site}/l"]
[page.l]
rows = "li"
table = "t"
open = { d = "a" }
fields = { name = "b", size = "i" }
[page.d]
expect = "p"
completes = "t"
fields = { note = "p" }
[table.t]
key = "name"
"""


@pytest.mark.parametrize(
    ("old", "new", "tables", "columns"),
    [
        ('rows = "li"', 'rows = "li.x"', {"t"}, set()),  # of the first of two kinds that give the table
        ('expect = "p"', 'expect = "h1"', {"t"}, set()),
        ('expect = "p"', 'expect = "p"\nparse = "csv"\nheading_line = 2', {"t"}, set()),
        ('expect = "p"', 'expect = "p"\ntotal = "b"', set(), set()),
        ('key = "name"', 'key = "size"', {"t"}, set()),
        ('size = "i"', 'size = "u"', set(), {"size"}),
        ('key = "name"', 'key = "name"\ncolumns = ["size", "…"]', set(), set()),  # another order is no other column
        ('key = "name"', 'key = "name"\ncolumns = ["name", "size"]', set(), {"note"}),
        ('key = "name"', 'key = "name"\nrename = { size = "height" }', set(), {"size", "height"}),
        ("{+site}/l", "{+site}/m", set(), set()),  # a site moves
        ("[start]", "title = 'x'\n[start]", set(), set()),
    ],
)
def test_what_of_a_plan_has_changed(old: str, new: str, tables: set[str], columns: set[str]) -> None:
    change = change_between(TABLED, TABLED.replace(old, new, 1))
    assert (
        set(change.tables),
        {column for _, column in change.columns} - ({"size"} if "height" in columns else set()),
    ) == (
        tables,
        columns - ({"size"} if "height" in columns else set()),
    )
    both = TableMeasures(9, columns={"name": ColumnMeasures(9), "size": ColumnMeasures(9), "note": ColumnMeasures(9)})
    kept = comparable(Measures({"t": both}), change).tables
    assert ("t" in kept) == (not tables)
    if kept:
        assert set(kept["t"].columns) == {"name", "size", "note"} - {column for _, column in change.columns}


def test_an_unread_last_page_hides_no_missing_total(tmp_path: Path) -> None:
    plan = list_plan(page='total = ".total"\nnext = { count = { parameter = "p" }, end_page = ".last" }')
    with crawled(tmp_path, {"/l": items("a", more="<p class=last>the end"), "/l?p=2": items()}, plan) as done:
        assert done.notes == ["unread-total", "no-total"]


def test_a_list_goes_among_semicolons_as_they_stand() -> None:
    assert with_parameters("http://h/l?a=1;b=2", {"b": ["x", "y"]}) == "http://h/l?a=1;b=x;b=y"
    assert with_parameters("http://h/l?a=1&b=2", {"b": []}) == "http://h/l?a=1"


def test_listings_of_which_some_state_no_total_are_told_at_the_run(program: Program) -> None:
    pages = {"/l": items("a", more="<p class=total>1</p>"), "/m": items("b")}
    plan = list_plan(page='total = ".total"').replace('["{+site}/l"]', '["{+site}/l", "{+site}/m"]')
    done = _run(program, pages, plan)
    assert done.status == 0
    assert "1 × no-total" in done.err


def test_a_host_that_refuses_after_it_did_not_answer_has_refused() -> None:
    health = Health(Hosts(Pace()), 1.0)
    health.succeeded("h")
    health.failed("h", "nobody", 0.0, is_refusal=False)
    for _ in range(20):
        health.refused("h", "status 403")
    assert health.is_given_up("h")
    assert health.refuses()


def test_the_number_of_the_last_page_is_remembered(tmp_path: Path) -> None:
    pages = {"/l": items("a", more="<p class=last>2</p>"), "/l?p=2": items("b"), "/l?p=3": items("c")}
    with crawled(tmp_path, pages, list_plan(page='next = { count = { parameter = "p" }, end_page = ".last" }')) as done:
        assert [row[0] for row in done.rows()] == ["a", "b"]
        assert done.host.asked == ["GET /l", "GET /l?p=2"]


@pytest.mark.parametrize(
    ("old", "new", "code", "what"),
    [
        ('rows = "li"', 'total = { at = "i", under = "Height" }\nrows = "li"', "missing-key", "under is about the cells of a row"),
        ('name = "."', 'name = { at = ".", unit = "m" }', "both-keys", "unit means nothing here"),
        ('name = "."', 'name = { at = ".", locale = "de" }', "both-keys", "locale means nothing here"),
        ('name = "."', 'name = { at = ".", format = "d.M.y" }', "both-keys", "format means nothing here"),
        ("[page.list]", '[page.list.next]\nsend = { p = { from = "input.site" } }\n[page.list]', "wrong-value", "next takes nothing from"),
        ('page = "list"', 'page = "list"\npost = "json"', "missing-key", "begins with a POST"),
        ('rows = "li"', 'rows = "li"\nnext = { at = "a", skip = "x", count = { parameter = "p" } }', "both-keys", "mixes 2 methods"),
    ],
)  # fmt: skip
def test_lint_names_what_would_not_happen(tmp_path: Path, old: str, new: str, code: str, what: str) -> None:
    plan = list_plan(page='next = { count = { parameter = "p" } }' if "POST" in what else "").replace(old, new, 1)
    with pytest.raises(PlanError) as caught:
        plan_of(tmp_path, plan)
    assert [(one.code, what in one.what) for one in caught.value.problems] == [(code, True)], str(caught.value)


@pytest.mark.parametrize(
    ("old", "new"),
    [
        ('[page.list.fields]', 'open = { sprign = "a" }\n[page.spring]\ncompletes = "t"\nfields = { x = "i" }\n[page.list.fields]'),
        ('"{+site}/l"', '"{+sit}/l"'),
    ],
)  # fmt: skip
def test_one_slip_is_one_mistake(tmp_path: Path, old: str, new: str) -> None:
    path = tmp_path / "p.toml"
    path.write_text(HEAD + list_plan().replace(old, new, 1))
    with pytest.raises(PlanError) as caught:
        load_plan(path)
    assert len(caught.value.problems) == 1, str(caught.value)


def test_a_request_that_some_rows_do_without_is_no_news(tmp_path: Path) -> None:
    plan = list_plan().replace(
        "[page.list.fields]", 'open = { one = { address = "/d", send = { n = "i" } } }\n[page.list.fields]'
    )
    plan += '[page.one]\ncompletes = "t"\nfields = { size = "u" }\n'
    with crawled(tmp_path, {"/l": items("a <i>1</i>", "b"), "/d?n=1": "<u>9</u>"}, plan) as done:
        assert done.notes == []
    with crawled(tmp_path / "x", {"/l": items("a", "b")}, plan) as done:
        assert done.notes == ["nothing-to-send"]


def test_a_list_goes_out_as_one_parameter_for_each_and_objects_as_json(tmp_path: Path) -> None:
    bodies: list[str] = []

    def answer(request: web.Request, body: str) -> str:
        bodies.append(body)
        return items("a")

    plan = list_plan().replace(
        "[page.list]",
        'post = "form"\nvalues = { area = ["north", "east side"], deep = true, filter = { least = 2 } }\n[page.list]',
        1,
    )
    with crawled(tmp_path, {"/l": answer}, plan):
        assert bodies == ["area=north&area=east+side&deep=true&filter=%7B%22least%22%3A2%7D"]


def test_nothing_is_looked_at_that_robots_txt_forbids(program: Program) -> None:
    host = SmallHost(
        {
            "/robots.txt": (200, {"Content-Type": "text/plain"}, "User-agent: *\nDisallow: /l"),
            "/l": items("a", "b", "c"),
        }
    )
    with serving(host.application) as site:
        for command in (("inspect", f"{site}/l"), ("try", f"{site}/l", "li")):
            done = program.inside(*command)
            assert done.status == 2
            assert "not fetched: robots.txt line 2" in done.err
            assert host.asked == []
        assert program.inside("inspect", f"{site}/l", "--ignore-robots").status == 0
    assert host.asked == ["GET /l"]


def test_rows_without_their_key_are_told(program: Program) -> None:
    pages = {"/l": items("<b>a</b>", "<b>b</b>", "<i>c</i>")}
    plan = list_plan('name = "b"\nother = "i"') + '[table.t]\nkey = "name"\n'
    _run(program, pages, plan)
    assert (
        "1 of 3 rows of t have no name, by which records are told apart [key-missing]"
        in program.inside("verify", "p").out
    )


def test_a_package_of_several_files_of_one_table_has_a_name_for_each(program: Program) -> None:
    _run(program, {"/l": items("a", "b")}, list_plan())
    done = program.inside("export", "p", "-o", "t.csv", "-o", "t.tsv", "-o", "t.jsonl", "--package", "--delimiter", ";")
    assert done.status == 0
    package = json.loads((program.folder / "datapackage.json").read_text())
    names = [one["name"] for one in package["resources"]]
    assert names == ["t.csv", "t.tsv", "t.jsonl"]
    assert [one.get("dialect", {}).get("delimiter") for one in package["resources"]] == [";", "\t", None]
    for one in package["resources"]:  # the rules of the Data Package standard for names, paths and digests
        assert re.fullmatch(r"[a-z0-9._-]+", one["name"])
        data = (program.folder / one["path"]).read_bytes()
        assert one["hash"] == f"sha256:{hashlib.sha256(data).hexdigest()}"
        assert one["bytes"] == len(data)


def test_digests_of_the_archive_are_base32_as_rfc_4648_has_it(tmp_path: Path) -> None:
    packed = gzip.compress(items("a", "b").encode())
    pages = {"/l": (302, {"Location": "/m"}, ""), "/m": (200, {"Content-Encoding": "gzip"}, packed)}
    with crawled(tmp_path, pages, list_plan()) as done:
        records = gzip.decompress(next((done.run.folder / "pages").glob("*.warc.gz")).read_bytes()).split(
            b"WARC/1.1\r\n"
        )[1:]
        kinds = records_of(done.run.folder)
    assert kinds.count("response") == 3
    checked = 0
    for record in records:
        head, _, block = record.partition(b"\r\n\r\n")
        fields = dict(line.split(b": ", 1) for line in head.split(b"\r\n"))
        if fields[b"WARC-Type"] != b"response":
            continue
        block = block[: int(fields[b"Content-Length"])]
        payload = block.partition(b"\r\n\r\n")[2]
        said = fields[b"WARC-Payload-Digest"].removeprefix(b"sha256:")
        assert base64.b32decode(said) == hashlib.sha256(payload).digest()
        checked += 1
    assert checked == 3  # robots.txt, the redirect, the page


def test_doubled_rows_are_those_that_are_the_same_in_all_columns(program: Program) -> None:
    (program.folder / "t.csv").write_text("name,flow\na,1\na,2\na,2\n")
    assert "1 row the same as one before" in program.inside("profile", "t.csv").out
    assert "1 row the same as one before" in program.inside("profile", "t.csv", "--columns", "name").out


def test_a_terminal_without_all_letters_shows_escapes(program: Program) -> None:
    _run(program, {"/l": items("Źródło", "Źródło", "Źródło", "b")}, list_plan())
    program.environment |= {"PYTHONIOENCODING": "ascii", "LC_ALL": "C", "PYTHONUTF8": "0"}
    done = program("profile", "p")
    assert done.status == 0
    assert "\\u0179r\\xf3d\\u0142o" in done.out


def test_names_that_are_copied_are_whole_and_quoted(program: Program) -> None:
    _run(program, {"/l": items("a", "b")}, list_plan())
    (program.folder / "p.toml").rename(program.folder / "a plan with a rather long name for its purpose.toml")
    with serving(SmallHost({"/l": items("a")}).application) as site:
        path = program.folder / "a plan with a rather long name for its purpose.toml"
        path.write_text(HEAD.replace("http://h", site) + list_plan())
        done = program.inside("run", path)
    command = re.search(r"write it: +(wadi export .*)", done.err)
    assert command is not None
    again = subprocess.run(
        ["bash", "-c", command[1].replace("wadi", str(Path(sys.executable).with_name("wadi")), 1)],
        cwd=program.folder,
        capture_output=True,
        check=False,
    )
    assert again.returncode == 0, again.stderr
    program.environment["COLUMNS"] = "80"
    listed = program.inside("runs").out
    assert all(str(one.relative_to(program.folder)) in listed for one in program.folder.glob("runs/*/*"))


def test_the_log_says_queued_for_what_waits(tmp_path: Path) -> None:
    with crawled(tmp_path, {"/l": items("a")}, list_plan()) as done:
        log = [json.loads(line)["event"] for line in (done.run.folder / "run.log").read_text().splitlines()]
    assert log == ["queued", "page_done"]


def test_examples_are_copied_and_what_is_there_stays(program: Program) -> None:
    (program.folder / "examples").mkdir()
    (program.folder / "examples" / "walk.toml").write_text("mine")
    done = program.inside("demo", "--examples", "examples")
    assert done.status == 0
    assert "1 were there already and stay" in done.err
    names = {one.name for one in EXAMPLES.iterdir() if one.is_file()}
    assert {one.name for one in (program.folder / "examples").iterdir()} == names
    assert (program.folder / "examples" / "walk.toml").read_text() == "mine"


def test_a_rehearsal_reckons_with_the_pause_that_robots_txt_asks_for(program: Program) -> None:
    links = items(*(f"<a href=/{n}>{n}</a>" for n in range(10)))
    robots = (200, {"Content-Type": "text/plain"}, "User-agent: *\nCrawl-delay: 1")
    pages = {"/robots.txt": robots, "/l": links, **{f"/{n}": "<i>x</i>" for n in range(10)}}
    plan = list_plan(page='open = { one = "a" }')
    plan += '[page.one]\ncompletes = "t"\nfields = { size = "i" }\n'
    with serving(SmallHost(pages).application) as site:
        (program.folder / "p.toml").write_text(HEAD.replace("http://h", site) + plan)
        assert "about 11 requests (1 list, 10 one), 11 s at the plan's pace" in program.inside("preview", "p.toml").out
        assert "11 s at the plan's pace" in program.inside("preview", "p.toml").out  # from today's cache, too


def test_the_pages_of_a_crawl_are_a_table(program: Program) -> None:
    count = 0

    def shy(request: web.Request, body: str) -> Any:
        nonlocal count
        count += 1
        return (503, {}, "soon") if count == 1 else "<i>7</i>"

    pages = {
        "/l": items(*(f"<a href=/{n}>{n}</a>" for n in range(4))),
        "/0": (302, {"Location": "/moved"}, ""),
        "/moved": "<i>5</i>",
        "/1": (404, {}, "no such spring"),
        "/2": shy,
        "/robots.txt": (200, {"Content-Type": "text/plain"}, "User-agent: *\nDisallow: /3"),
    }
    plan = list_plan(page='open = { one = "a" }')
    plan += '[page.one]\ncompletes = "t"\nfields = { size = "i" }\n'
    with serving(SmallHost(pages).application) as site:
        head = HEAD.replace("http://h", site).replace("retries = 0", "retries = 2")
        (program.folder / "p.toml").write_text(head + plan)
        assert program.inside("run", "p.toml").status == 1
        assert program.inside("export", "p", "--table", "pages", "-o", "pages.jsonl").status == 0
    found = [json.loads(line) for line in (program.folder / "pages.jsonl").read_text().splitlines()]
    short = [
        (
            one["kind"],
            one["url"].removeprefix(site),
            (one["final_url"] or "").removeprefix(site),
            one["state"],
            one["status"],
            one["tries"],
            one["code"],
        )
        for one in found
    ]
    assert short == [
        ("list", "/l", "/l", "read", 200, 1, None),
        ("one", "/0", "/moved", "redirected", 302, None, None),
        ("one", "/0", "/moved", "read", 200, 1, None),
        ("one", "/1", "/1", "failed", 404, 1, "http-status"),
        ("one", "/2", "/2", "read", 200, 2, None),
        ("one", "/3", "", "failed", None, 0, "robots"),
    ]
    assert '"no such spring"' in found[3]["reason"]
    read = [one for one in found if one["status"] != 302 and one["code"] != "robots"]
    assert all(one["size"] and one["at"].endswith("+00:00") and one["seconds"] >= 0 for one in read)


@pytest.mark.parametrize(
    ("field", "wanted"),
    [
        ('{ at = "i", many = true, distinct = true }', ["b", "a", "c"]),
        ('{ at = "i", many = true, in_order = true }', ["a", "b", "b", "c"]),
        ('{ at = "i", many = true, distinct = true, in_order = true, join = "+" }', "a+b+c"),
        ('{ at = "u", many = true, in_order = true, type = "integer" }', [2, 10]),
        ('{ at = "a", attr = "href", clean = "percent-decode" }', "/é b%ZZ"),
        ('{ at = "s", clean = "percent-decode" }', "%E9"),
    ],
)
def test_lists_each_once_and_in_order_and_escapes_undone(tmp_path: Path, field: str, wanted: Any) -> None:
    row = "<i>b</i><i>a</i><i>b</i><i>c</i><u>10</u><u>2</u><a href=/%C3%A9%20b%ZZ>x</a><s>%E9</s>"
    with crawled(tmp_path, {"/l": items(row)}, list_plan(f"name = {field}")) as done:
        assert done.rows() == [[wanted]]


@pytest.mark.parametrize(
    ("said", "asked"),
    [
        ("{ first = 0, last = 250, step = 100 }", [0, 100, 200]),
        ("{ first = 3, last = 1, step = -1 }", [3, 2, 1]),
        ("{ first = 5, last = 5 }", [5]),
        ("{ first = 5, last = 1 }", "no number leads from 5 to 1 in steps of 1"),
        ("{ first = 0, last = 9000000000 }", "9,000,000,001 numbers are more than 1,000,000"),
    ],
)
def test_an_input_may_be_a_sequence(tmp_path: Path, said: str, asked: Any) -> None:
    plan = list_plan().replace("{+site}/l", "{+site}/l{?from}")
    pages = {"/l": lambda request, body: items(request.query["from"])}
    with serving(SmallHost(pages).application) as site:
        path = tmp_path / "p.toml"
        path.write_text(HEAD.replace("http://h", site).replace("[inputs]\n", f"[inputs]\nfrom = {said}\n") + plan)
        if isinstance(asked, str):
            with pytest.raises(PlanError, match=asked):
                load_plan(path)
            return
        with begin(load_plan(path), tmp_path / "runs") as run:
            crawl(run)
            assert [row[0] for row in run.read().rows] == [str(one) for one in asked]


def test_inspect_shows_what_header_fields_say_of_paging_and_the_plan_follows(program: Program) -> None:
    def answer(request: web.Request, body: str) -> Any:
        page = int(request.query.get("page", 1))
        rows = [{"n": n} for n in range(3 * page - 2, min(3 * page, 7) + 1)]
        told = {"X-Total-Count": "7", **({"X-Next-Page": str(page + 1)} if page < 3 else {})}
        return (200, {"Content-Type": "application/json", **told}, json.dumps(rows))

    plan = """[start]
page = "list"
addresses = ["{+site}/l"]
[page.list]
rows = "$[*]"
table = "t"
total = { from = "header.X-Total-Count" }
next = { send = { page = { from = "header.X-Next-Page" } } }
fields = { n = { at = "$.n", type = "integer" } }
"""
    with serving(SmallHost({"/l": answer}).application) as site:
        shown = " ".join(program.inside("inspect", f"{site}/l").out.split())
        assert 'X-Total-Count: 7 total = { from = "header.X-Total-Count" }' in shown
        assert 'X-Next-Page: 2 next = { send = { page = { from = "header.X-Next-Page" } } }' in shown
        (program.folder / "p.toml").write_text(HEAD.replace("http://h", site) + plan)
        done = program.inside("run", "p.toml", "-o", "t.csv")
    assert done.status == 0, done.err
    assert "7 rows of 7 that the site states" in done.err
    assert (program.folder / "t.csv").read_text().split() == ["n", *map(str, range(1, 8))]


@pytest.mark.parametrize(
    ("drop", "sort", "url", "wanted"),
    [
        (("s",), False, "http://h/l?a=1;s=9;b=2", "http://h/l?a=1;b=2"),
        (("s",), True, "http://h/l?b=2;s=9;a=1", "http://h/l?a=1;b=2"),
        (("session*",), False, "http://h/l;session=9?a=1", "http://h/l?a=1"),
        (("session*",), False, "http://h/l;v=2;sessionid=9", "http://h/l;v=2"),
        (("s",), False, "http://h/a;s=1/b;v=1/c;s=2", "http://h/a/b;v=1/c"),
        ((), True, "http://h/l;v=2?b=1&a=1", "http://h/l;v=2?a=1&b=1"),
        (("x",), False, "http://h/l?q=a;b", "http://h/l?q=a;b"),
    ],
)
def test_parameters_may_be_parted_by_semicolons(drop: tuple[str, ...], sort: bool, url: str, wanted: str) -> None:
    assert LinkRules(drop, sort).applied(url) == wanted


def test_a_counted_parameter_may_stand_among_semicolons(tmp_path: Path) -> None:
    plan = list_plan(page='next = { count = { parameter = "ofs", first = 0, step = "rows" } }').replace(
        "/l", "/l?id=x;ofs=0;n=2"
    )
    pages = {"/l?id=x;ofs=0;n=2": items("a", "b"), "/l?id=x;ofs=2;n=2": items("c"), "/l?id=x;ofs=3;n=2": items()}
    with crawled(tmp_path, pages, plan) as done:
        assert [row[0] for row in done.rows()] == ["a", "b", "c"]
