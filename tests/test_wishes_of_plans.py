"""What analysts want to say in a plan, one test for each wish: from the page to the cell, by small hosts."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import pytest
from aiohttp import web

from conftest import Program, serving
from small_host import HEAD, Page, SmallHost, crawled, items, list_plan, plan_of
from wadi.actions.trace import Tracer
from wadi.learn.first_look.paging import paging_of
from wadi.page.document import read_document
from wadi.plan.reader import PlanError
from wadi.web.messages import Reply, Request

LIST = list_plan("")


@pytest.mark.parametrize(
    ("field", "shown", "cell"),
    [
        ('type = "datetime", adjust = "in-zone +02:00"', "2026-03-05T23:30:00Z", "2026-03-06T01:30:00+02:00"),
        ('type = "datetime", adjust = "in-zone UTC"', "2026-03-05T01:30:00+0530", "2026-03-04T20:00:00+00:00"),
        (
            'type = "datetime", zone = "Europe/Paris", adjust = "in-zone America/New_York"',
            "2026-07-05 12:00",
            "2026-07-05T06:00:00-04:00",
        ),
        ('type = "datetime", adjust = "in-zone UTC"', "2026-03-05 01:30", None),
        ('type = "datetime", adjust = "in-zone UTC", output = "yyyy-MM-dd HH:mm"', "2026-03-05T23:30:00-01:00", "2026-03-06 00:30"),
        ('type = "date", output = "d. MMMM y", locale = "de"', "5.3.2026", "5. März 2026"),
        ('type = "time", output = "HHmm"', "08:05", "0805"),
        ('type = "date", many = true, split = ";", in_order = true, output = "dd/MM/y"', "2026-03-05;2025-12-31", ["31/12/2025", "05/03/2026"]),
        ('type = "date", many = true, split = ";", join = "|", output = "d/M"', "2026-03-05;2025-12-31", "5/3|31/12"),
        ('type = "date", output = "d/M/y", default = "never"', "-", "never"),
    ],
)  # fmt: skip
def test_moments_are_told_in_a_zone_and_written_out(tmp_path: Path, field: str, shown: str, cell: object) -> None:
    with crawled(tmp_path, {"/l": items(shown)}, LIST + f'at = {{ at = ".", {field} }}') as done:
        assert done.rows() == [[cell]]
        column = done.run.read("t").columns[0]
        assert column.type == ("string" if "output" in field else "datetime")


def test_parts_are_written_out_by_themselves(tmp_path: Path) -> None:
    plan = (
        LIST
        + """[page.list.fields.whole]
at = "."
find = '(?P<begin>[\\d-]+)/(?P<end>[\\d-]+)'
parts = { begin = { type = "date", output = "d/M/y" }, end = { type = "date" } }
"""
    )
    with crawled(tmp_path, {"/l": items("2026-03-05/2026-04-01")}, plan) as done:
        assert done.rows() == [["5/3/2026", "2026-04-01"]]


@pytest.mark.parametrize(
    ("field", "said"),
    [
        ('type = "datetime", output = "jjj"', 'output = "jjj" cannot be read'),
        ('type = "date", output = "d/M/y HH"', 'a date has nothing for "H"'),
        ('type = "time", output = "d HH"', 'a time has nothing for "d"'),
        ('type = "number", output = "HH"', "output means nothing here"),
        ('type = "datetime", adjust = "in-zone Mars/Base"', 'zone "Mars/Base" is not known'),
        ('type = "datetime", adjust = "in-zone +99:00"', "is no offset"),
    ],
)
def test_what_cannot_be_written_out_is_told_at_once(tmp_path: Path, field: str, said: str) -> None:
    with pytest.raises(PlanError) as told:
        plan_of(tmp_path, LIST + f'at = {{ at = ".", {field} }}')
    assert [said in problem.what for problem in told.value.problems] == [True], str(told.value)


def test_a_failed_detail_page_tells_its_status_in_a_column(tmp_path: Path) -> None:
    plan = (
        LIST.replace("[page.list.fields]", 'open = { one = "a" }\n[page.list.fields]')
        + """name = "a"
status = { from = "status", type = "integer" }
[page.one]
completes = "t"
[page.one.fields]
more = "b"
detail = { from = "status", type = "integer" }
"""
    )
    pages = {"/l": items("<a href=/1>a</a>", "<a href=/2>b</a>", "c"), "/1": "<b>1</b>", "/2": (410, {}, "gone")}
    with crawled(tmp_path, pages, plan) as done:
        assert done.rows() == [["a", 200, "1", 200], ["b", 200, None, 410], [None, 200, None, None]]
        tracer = Tracer(done.run)
        name, assembly, placed = tracer.row("t", "2")
        assert [tracer.cell(name, assembly, placed, place).value for place in range(4)] == ["b", 200, None, 410]


def test_redirects_and_downloads_are_rows_of_the_pages(tmp_path: Path) -> None:
    plan = LIST + 'file = { at = "a", attr = "href", type = "file" }\n'
    pages = {
        "/l": (302, {"Location": "/m"}, ""),
        "/m": (301, {"Location": "/n"}, ""),
        "/n": items("<a href=/f.txt>f</a>"),
        "/f.txt": (200, {"Content-Type": "text/plain"}, "hello"),
    }
    with crawled(tmp_path, pages, plan) as done:
        site = done.host.address
        assert [[row[0], *(url.removeprefix(site) for url in row[1:3]), *row[3:5]] for row in done.rows("pages")] == [
            ["list", "/l", "/m", "redirected", 302],
            ["list", "/m", "/n", "redirected", 301],
            ["list", "/l", "/n", "read", 200],
            ["file", "/f.txt", "/f.txt", "read", 200],
        ]


TWO_LISTS = (
    LIST.replace('"{+site}/l"', '"{+site}/a", "{+site}/b"')
    + """code = "b"
name = "i"
listing = { from = "url", find = "/(.)$" }
[table.t]
key = "code"
"""
)
LISTED = {"/a": items("<b>1</b><i>x</i>", "<b>2</b>"), "/b": items("<b>2</b><i>y</i>", "<b>1</b><i>z</i>", "<b>3</b>")}


@pytest.mark.parametrize(
    ("duplicates", "rows"),
    [
        ("first", [["1", "x", ["a", "b"], 2], ["2", None, ["a", "b"], 2], ["3", None, ["b"], 1]]),
        ("merge", [["1", "x", ["a", "b"], 2], ["2", "y", ["a", "b"], 2], ["3", None, ["b"], 1]]),
        ("last", [["2", "y", ["a", "b"], 2], ["1", "z", ["a", "b"], 2], ["3", None, ["b"], 1]]),
    ],
)
def test_what_rows_of_one_record_say_is_collected_and_counted(tmp_path: Path, duplicates: str, rows: object) -> None:
    plan = f'{TWO_LISTS}duplicates = "{duplicates}"\ncollect = ["listing"]\noccurrences = "reached"\n'
    with crawled(tmp_path, LISTED, plan) as done:
        assert done.rows() == rows
        columns = {column.name: column for column in done.run.read("t").columns}
        assert columns["listing"].many
        assert columns["reached"].type == "integer"
        assert done.run.read("t").ledger.duplicates == 2


def test_rows_that_were_left_out_as_duplicates_are_a_table(tmp_path: Path) -> None:
    for number, (duplicates, values) in enumerate(
        {"first": ["y", "z"], "merge": ["y", "z"], "last": [None, "x"]}.items()
    ):
        with crawled(
            tmp_path / str(number), LISTED, f'{TWO_LISTS}duplicates = "{duplicates}"\nhash = ["listing"]\n'
        ) as done:
            table = done.run.read("duplicates")
            assert [column.name for column in table.columns] == ["table", "what", "row", "url", "place", "first_url"]
            rows = [dict(zip([c.name for c in table.columns], row, strict=True)) for row in table.rows]
            assert sorted(row["row"].get("name") or "" for row in rows) == sorted(value or "" for value in values)
            assert {row["what"] for row in rows} == {"from two starts"}
            assert {row["first_url"] for row in rows} == {f"{done.host.address}/a"}
            # What is personal stays unsaid here, too.
            assert all(len(row["row"]["listing"]) == 32 for row in rows)


@pytest.mark.parametrize(
    ("table", "said"),
    [
        ('duplicates = "all"\ncollect = ["name"]', "collect is about rows with the same key"),
        ('collect = ["nam"]', 'no column "nam"'),
        ('collect = ["code"]', "it is of the key"),
        ('occurrences = "name"', "is a column already"),
    ],
)
def test_what_cannot_be_collected_is_told(tmp_path: Path, table: str, said: str) -> None:
    told = _told(tmp_path, TWO_LISTS + table)
    assert [said in what for what in told] == [True], told


def _told(folder: Path, plan: str) -> list[str]:
    with pytest.raises(PlanError) as told:
        plan_of(folder, plan)
    return [problem.what for problem in told.value.problems]


def test_null_goes_out_in_a_body_of_json(tmp_path: Path) -> None:
    bodies: list[object] = []

    def answer(request: web.Request, body: str) -> Page:
        bodies.append(json.loads(body))
        return (200, {"Content-Type": "application/json"}, '[{"n": 1}]' if len(bodies) == 1 else "[]")

    plan = """[start]
page = "list"
addresses = ["{+site}/q"]
post = "json"
values = { filter = { kind = "deep" } }
null = ["filter.region", "after"]
[page.list]
rows = "$[*]"
table = "t"
next = { count = { parameter = "page", first = 0 }, post = "json", null = "filter.kind" }
[page.list.fields]
n = "$.n"
"""
    with crawled(tmp_path, {"/q": answer}, plan) as done:
        assert done.rows() == [["1"]]
    assert bodies == [
        {"filter": {"kind": "deep", "region": None}, "after": None},
        {"filter": {"kind": None, "region": None}, "after": None, "page": 1},
    ]
    assert [
        "null means nothing here" in what
        for what in _told(tmp_path, plan.replace('post = "json"\nvalues', 'post = "form"\nvalues'))
    ] == [True]
    assert [
        "null means nothing here" in what
        for what in _told(tmp_path, plan.replace(', post = "json", null', ', post = "form", null'))
    ] == [True]


def test_a_token_of_the_opener_goes_on_through_the_listing_that_it_opens(tmp_path: Path) -> None:
    asked: list[tuple[str | None, str | None, str]] = []

    def answer(request: web.Request, body: str) -> Page:
        asked.append((request.headers.get("X-Token"), request.headers.get("X-Kind"), body))
        rows = [] if "offset=4" in body else [{"n": body}, {"n": f"{body} again"}]
        return (200, {"Content-Type": "application/json"}, json.dumps(rows))

    plan = """[start]
page = "front"
addresses = ["{+site}/"]
[page.front.open.list]
address = "/q"
post = "form"
values = { size = "2" }
send = { token = "#token/@data-token" }
headers = { X-Token = "{token}", X-Kind = "deep" }
[page.list]
rows = "$[*]"
table = "t"
next = { count = { parameter = "offset", first = 0, step = "rows" }, post = "form" }
[page.list.fields]
n = "$.n"
""".replace('"#token/@data-token"', "\"//*[@id='token']/@data-token\"")
    pages = {"/": "<p id=token data-token=abc>", "/q": answer}
    with crawled(tmp_path, pages, plan) as done:
        assert len(done.rows()) == 4
    assert asked == [
        ("abc", "deep", "size=2"),
        ("abc", "deep", "size=2&offset=2"),
        ("abc", "deep", "size=2&offset=4"),
    ]


def test_what_a_start_sends_goes_on_to_the_next_pages_of_the_same_host(tmp_path: Path) -> None:
    sent: list[tuple[str, str | None]] = []

    def answer(following: str) -> Callable[[web.Request, str], Page]:
        def page(request: web.Request, body: str) -> Page:
            sent.append((request.path, request.headers.get("X-Key")))
            return items(request.path, more=following)

        return page

    with serving(SmallHost({"/3": answer("")}).application) as elsewhere:
        plan = LIST.replace("[page.list]", 'headers = { X-Key = "k" }\n[page.list]', 1) + 'n = "."\n'
        plan = plan.replace("[page.list.fields]", 'next = "a.next"\n[page.list.fields]')
        pages = {
            "/l": answer("<a class=next href=/2>"),
            "/2": answer(f"<a class=next href={elsewhere}/3>"),
        }
        with crawled(tmp_path, pages, plan):
            pass
    assert sent == [("/l", "k"), ("/2", "k"), ("/3", None)]


@pytest.mark.parametrize(
    ("page", "follows"),
    [
        ("<meta http-equiv=refresh content='0; url=/there'>", True),
        ("<META HTTP-EQUIV=Refresh CONTENT=\"0;URL='there'\">", True),
        ("<base href=/x/><meta http-equiv=refresh content='.5,../there'>", True),
        ((200, {"Refresh": "0; url=/there"}, "<p>wait</p>"), True),
        ("<meta http-equiv=refresh content='300; url=/there'><li>here</li>", False),
        ("<meta http-equiv=refresh content='5'><li>here</li>", False),
        ("<meta http-equiv=refresh content='5; url=/l#top'><li>here</li>", False),
        ("<noscript><meta http-equiv=refresh content='0; url=/there'></noscript><li>here</li>", False),
        ("<!-- <meta http-equiv=refresh content='0; url=/there'> --><li>here</li>", False),
        ("<script>'<meta http-equiv=refresh content=\"0; url=/there\">'</script><li>here</li>", False),
        ("<meta http-equiv=refresh content='0; url=javascript:go()'><li>here</li>", False),
        ("<meta name=robots content='0; url=/there'><li>a refresh</li><li>here</li>", False),
    ],
)  # fmt: skip
def test_a_page_that_sends_its_reader_on_is_a_redirect(tmp_path: Path, page: Page, follows: bool) -> None:
    with crawled(tmp_path, {"/l": page, "/there": items("there")}, LIST + 'n = "."\n') as done:
        assert done.rows()[-1] == ["there" if follows else "here"]
        assert done.host.asked == ["GET /l", "GET /there"][: 1 + follows]
        assert next(row[3:5] for row in done.rows("pages")) == (["redirected", 200] if follows else ["read", 200])


def test_pages_that_send_their_reader_round_end_as_redirects_do(tmp_path: Path) -> None:
    refresh = "<meta http-equiv=refresh content='0; url={}'>"
    with crawled(tmp_path, {"/l": refresh.format("/m"), "/m": refresh.format("/l")}, LIST + 'n = "."\n') as done:
        assert done.failures == ["redirect-loop"]
        assert len(done.host.asked) == 11


def test_requests_say_which_page_led_to_them_where_the_plan_wants_it(tmp_path: Path) -> None:
    sent: dict[str, str | None] = {}

    def answer(page: str) -> Callable[[web.Request, str], Page]:
        def reply(request: web.Request, body: str) -> Page:
            sent[request.path] = request.headers.get("Referer")
            return page

        return reply

    elsewhere = SmallHost({"/far": answer("<b>3</b>")})
    with serving(elsewhere.application) as far:
        plan = LIST.replace(
            "[page.list.fields]",
            'next = "a.next"\nopen = { one = { at = "a.one", hosts = "*" } }\n[page.one]\ncompletes = "t"\n'
            'fields = { m = "b" }\n[page.list.fields]',
        )
        pages = {
            "/l": (302, {"Location": "/start?a=1"}, ""),
            "/start": answer(
                items("<a class=one href=/1#x>", f"<a class=one href={far}/far>", more="<a class=next href=/2>")
            ),
            "/2": answer(items("<a class=one href=/1>")),
            "/1": answer("<b>1</b>"),
        }
        with crawled(tmp_path, pages, plan + 'n = "."\n', manners="referer = true") as done:
            site = done.host.address
    first = f"{site}/start?a=1"
    assert sent == {"/start": None, "/1": first, "/far": f"{site}/", "/2": first}


SAVED = """wadi = 1
[start]
page = "list"
addresses = ["ADDRESS"]
[page.list]
rows = "li"
table = "t"
next = "a.next"
open = { one = "a.one" }
[page.list.fields]
name = "."
[page.one]
completes = "t"
fields = { more = "b" }
"""


@pytest.mark.parametrize(
    ("address", "names"),
    [
        ("saved/page-1.html", ["a", "b", "c"]),
        ("saved/*.html", ["a", "b", "c", "d"]),
        ("saved/", ["a", "b", "c", "d"]),
        ("./{folder}/page-10.html", ["d"]),
        ("*/page-[12]*.html", ["a", "b", "c", "d"]),
    ],
)
def test_pages_that_were_saved_become_a_table_without_a_site(program: Program, address: str, names: list[str]) -> None:
    _save(program.folder, address)
    done = program.inside("run", "plans/p.toml", "-o", "t.csv", "--runs", "runs")
    assert done.status == (0 if "a" in names else 1), done.err  # where no row leads on, that is told
    assert [line.split(",") for line in (program.folder / "t.csv").read_text().split()] == [
        ["name", "more"],
        *([name, "1" if name == "a" else ""] for name in names),
    ]
    assert "pages" in done.err


def _save(folder: Path, address: str, more: str = "") -> None:
    saved = folder / "plans" / "saved"
    saved.mkdir(parents=True)
    (saved / "page-1.html").write_text(
        items("<a class=one href=one/a.html>a</a>", "b", more="<a class=next href=page-2.html>")
    )
    (saved / "page-2.html").write_text(items("c", more=more))
    (saved / "page-10.html").write_text(items("d"))
    (saved / ".hidden.html").write_text(items("e"))
    (saved / "one").mkdir()
    (saved / "one" / "a.html").write_text("<b>1</b>")
    (folder / "plans" / "p.toml").write_text(
        SAVED.replace("ADDRESS", address) + ('[inputs]\nfolder = "saved"\n' if "{folder}" in address else "")
    )


def test_a_saved_page_leads_nowhere_but_to_what_was_saved_with_it(program: Program) -> None:
    _save(program.folder, "saved/page-2.html", '<a class=next href="../../secret.html">')
    (program.folder / "secret.html").write_text(items("secret"))
    (program.folder / "plans" / "saved" / "link.html").symlink_to(program.folder / "secret.html")
    done = program.inside("run", "plans/p.toml", "-o", "t.csv", "--runs", "runs")
    assert "outside the folders of the files that the plan begins with" in done.err
    assert done.status == 1
    assert "secret" not in (program.folder / "t.csv").read_text()
    (program.folder / "plans" / "saved" / "page-2.html").write_text(items("c", more="<a class=next href=link.html>"))
    assert "secret" not in program("run", "plans/p.toml", "-o", "-", "--runs", "runs").out


def test_a_site_does_not_lead_to_local_files(tmp_path: Path) -> None:
    (tmp_path / "secret.html").write_text(items("secret"))
    where = (tmp_path / "secret.html").as_uri()
    plan = LIST.replace("[page.list.fields]", 'next = "a.next"\n[page.list.fields]') + 'n = "."\n'
    for page in (items("a", more=f"<a class=next href='{where}'>"), f"<base href='{where}'>" + items("a", more="<a class=next href=''>"),
                 f"<meta http-equiv=refresh content='0; url={where}'>" + items("a")):  # fmt: skip
        with crawled(tmp_path, {"/l": page}, plan) as done:
            assert done.rows() == [["a"]]


@pytest.mark.parametrize(
    ("address", "said"),
    [
        ("saved/none.html", '"saved/none.html": there is no such file (below '),
        ("saved/*.xml", '"saved/*.xml": no file fits (below '),
        ("nowhere/", '"nowhere/": there is no such file (below '),
        ("example.test/list.html", "an address of a site begins with https://"),
        ("example.test/list", '"example.test/list" is no URL to begin with'),
    ],
)
def test_files_that_are_not_there_are_told_before_the_run(program: Program, address: str, said: str) -> None:
    _save(program.folder, address)
    for command in ("run", "preview"):
        done = program.inside(command, "plans/p.toml")
        assert done.status in (2, 65), done
        assert said in done.err
    assert not (program.folder / "runs").exists() or not list((program.folder / "runs").rglob("run.sqlite"))


def test_a_saved_page_is_drafted_rehearsed_and_resumed(program: Program) -> None:
    _save(program.folder, "saved/page-1.html")
    page = "plans/saved/page-1.html"
    (program.folder / page).write_text("<h1>Springs</h1><table>" + "".join(
        f"<tr><td>Spring {n}</td><td>{n}.5 l/s</td></tr>" for n in range(9)) + "</table>")  # fmt: skip
    assert program.inside("draft", page, "-o", "plans/drafted.toml").status == 0
    assert 'addresses = ["saved/page-1.html"]' in (program.folder / "plans/drafted.toml").read_text()
    seen = program.inside("preview", "plans/drafted.toml")
    assert "the first 5 rows" in seen.out
    assert "0 s" in seen.out
    assert program.inside("run", "plans/drafted.toml", "--pages", "1", "-o", "t.csv").status == 0
    assert len((program.folder / "t.csv").read_text().splitlines()) == 10
    assert program.inside("reparse", "drafted").status == 0


@pytest.mark.parametrize(
    ("page", "value"),
    [
        ("<label for=f>Flow</label> <input id=f value='12.5'>", "12.5"),
        ("<table><tr><th><label for=f>Flow:</label></th><td><input id=f value=7></td></tr></table>", "7"),
        ("<label>Flow <select><option>low<option selected>high</select></label>", "high"),
        ("<label>Flow <select><option>low<option>high</select></label>", "low"),
        ("<label for=f>Flow</label><textarea id=f>a\nb</textarea>", "a\nb"),
        ("<label><input type=checkbox checked> Flow</label>", "true"),
        ("<label><input type=checkbox> Flow</label>", "false"),
        ("<label for=f>Flow</label><output id=f>8 l/s</output>", "8 l/s"),
        ("<label for=f>Flow</label><input id=f value=''>", None),
        ("<label for=f>Flow</label><select id=f multiple><option>a</select> <a href=/add>Add</a>", None),
        ("<label>Flow</label><span>4</span>", "4"),
    ],
)
def test_form_controls_have_their_values_by_their_label(tmp_path: Path, page: str, value: str | None) -> None:
    with crawled(tmp_path, {"/l": f"<ul><li>{page}</li></ul>"}, LIST + 'v = { label = "Flow" }\nn = "."\n') as done:
        assert [row[0] for row in done.rows()] == [value]


def test_what_is_opened_can_depend_on_the_row(tmp_path: Path) -> None:
    plan = LIST.replace(
        "[page.list.fields]",
        "open = { one = { at = 'a', where = 'xpath:i[.=\"open\"]' } }\n[page.one]\ncompletes = 't'\nfields = { m = 'b' }\n"
        "[page.list.fields]",
    )
    pages = {
        "/l": items("<i>open</i><a href=/1>a</a>", "<i>shut</i><a href=/2>b</a>"),
        "/1": "<b>1</b>",
        "/2": "<b>2</b>",
    }
    with crawled(tmp_path, pages, plan + 'n = "a"\n') as done:
        assert done.rows() == [["a", "1"], ["b", None]]
        assert done.host.asked == ["GET /l", "GET /1"]


def test_addresses_of_other_schemes_are_values_and_are_not_asked_for(tmp_path: Path) -> None:
    rows = [
        "ftp://h/a%7eb",
        "mailto:a@merrowdale.example",
        "tel:+1-2",
        "/x",
        "javascript:go()",
        "data:,x",
        "http://h:b/",
    ]
    plan = LIST + 'u = { at = "a", attr = "href", type = "url" }\n'
    with crawled(tmp_path, {"/l": items(*(f"<a href='{one}'>x</a>" for one in rows))}, plan) as done:
        found = [row[0] for row in done.rows()]
        assert found == [
            "ftp://h/a~b",
            "mailto:a@merrowdale.example",
            "tel:+1-2",
            f"{done.host.address}/x",
            None,
            None,
            None,
        ]
        assert done.host.asked == ["GET /l"]
        assert done.run.read("t").ledger.unread == {"u": 3}


@pytest.mark.parametrize(
    ("address", "headers", "ending"),
    [
        ("/d/wells.csv", {"Content-Type": "application/octet-stream"}, ".csv"),
        ("/d/wells.csv", {"Content-Type": "text/plain"}, ".csv"),
        ("/d?id=4", {"Content-Type": "application/octet-stream", "Content-Disposition": 'attachment; filename="wells.csv"'}, ".csv"),
        ("/d?id=4", {"Content-Type": "application/pdf", "Content-Disposition": "attachment; filename*=UTF-8''sheet%20.pdf"}, ".pdf"),
        ("/d/x.php", {"Content-Type": "application/pdf"}, ".pdf"),
        ("/d/x", {"Content-Type": "application/octet-stream", "Content-Disposition": "attachment; filename=\"../../e.tar;x\""}, ".bin"),
    ],
)  # fmt: skip
def test_a_download_has_the_ending_that_its_name_says(
    tmp_path: Path, address: str, headers: dict[str, str], ending: str
) -> None:
    plan = LIST + 'f = { at = "a", attr = "href", type = "file" }\n'
    with crawled(tmp_path, {"/l": items(f"<a href='{address}'>x</a>"), address: (200, headers, "a;b")}, plan) as done:
        assert Path(str(done.rows()[0][0])).suffix == ending


def test_a_page_is_looked_at_with_what_a_plan_sends(program: Program) -> None:
    def answer(request: web.Request, body: str) -> Page:
        if request.headers.get("X-Key") != "opensesame":
            return (401, {}, "<p>who are you?</p>")
        asked = json.loads(body) if body else {}
        rows = [{"name": f"{asked.get('kind', 'any')} {number}"} for number in range(3)]
        return (200, {"Content-Type": "application/json", "X-Total-Count": "61"}, json.dumps({"rows": rows}))

    plan = (
        HEAD.replace("[manners]", '[manners]\nheaders = { X-Key = "{key}" }')
        + """key = { secret_from = "OFFICE_KEY" }
kind = "deep"
[start]
page = "list"
addresses = ["{+site}/q"]
post = "json"
values = { kind = "{kind}" }
[page.list]
rows = "$.rows[*]"
table = "t"
[page.list.fields]
name = "$.name"
"""
    )
    host = SmallHost({"/q": answer, "/other": answer})
    with serving(host.application) as site:
        (program.folder / "p.toml").write_text(plan)
        given = ("--with", "p.toml", "-i", f"site={site}")
        assert "who are you" in program.inside("try", f"{site}/q", "p").out
        assert "secret" in program.inside("try", f"{site}/q", "$.rows[*].name", *given).err  # no key is set
        program.environment["OFFICE_KEY"] = "opensesame"
        done = program.inside("try", f"{site}/q", "$.rows[*].name", *given, "-i", "kind=shallow")
        assert "shallow 0" in done.out, done.err
        assert "any 0" in program.inside("try", f"{site}/other", "$.rows[*].name", *given).out
        looked = program.inside("inspect", f"{site}/q", *given)
        assert "X-Total-Count" in looked.out, looked.err
        assert "opensesame" not in looked.out + looked.err
        assert program.inside("try", f"{site}/q", "p", "-i", "kind=x").status == 2
        assert program.inside("try", "p.toml", "p", *given).status == 2
    # What was looked at without the key is no page of the plan's.
    assert all(b"opensesame" not in path.read_bytes() for path in program.folder.rglob("*") if path.is_file())


def test_what_a_plan_sends_is_no_page_of_those_who_do_not_send_it(program: Program) -> None:
    def answer(request: web.Request, body: str) -> Page:
        return f"<p>{request.headers.get('X-Version', 'old')}</p>"

    plan = HEAD.replace("[manners]", '[manners]\nheaders = { X-Version = "new" }') + LIST + 'n = "."\n'
    with serving(SmallHost({"/l": answer}).application) as site:
        (program.folder / "p.toml").write_text(plan)
        shown = [
            program.inside("try", f"{site}/l", "p").out,
            program.inside("try", f"{site}/l", "p", "--with", "p.toml", "-i", f"site={site}").out,
            program.inside("try", f"{site}/l", "p").out,
        ]
    assert ["old" in one for one in shown] == [True, False, True]


@pytest.mark.parametrize(
    ("headers", "page", "plan"),
    [
        ({"Next-Page": "http://h/q?_token=x"}, "[1]", 'next = { address = "{+url}", send = { url = { from = "header.Next-Page" } } }'),
        ({"X-Next-Page": "2"}, "[1]", 'next = { send = { page = { from = "header.X-Next-Page" } } }'),
        ({"Total-Objects": "61"}, "[1]", 'total = { from = "header.Total-Objects" }'),
        ({"X-Total-Pages": "3"}, "[1]", None),
        ({}, "<p class=count>Springs 1–25 of 354</p>", "total = "),
        ({}, "<p class=count>0 of 50 selected</p>", None),
    ],
)  # fmt: skip
def test_how_a_listing_goes_on_is_proposed_where_it_stands_in_the_header(
    headers: dict[str, str], page: str, plan: str | None
) -> None:
    is_json = page.startswith("[")
    fields = (("Content-Type", "application/json" if is_json else "text/html"), *headers.items())
    reply = Reply(Request("http://h/q"), "http://h/q", 200, fields, page.encode(), 0.0)
    document = read_document(reply.body, reply.url, reply.content_type)
    found = [one.plan for one in paging_of(document, reply) if one.plan]
    assert [one[: len(plan or "")] for one in found] == ([plan] if plan else [])


def test_a_listing_goes_on_by_an_address_in_its_header(tmp_path: Path) -> None:
    def answer(request: web.Request, body: str) -> Page:
        number = int(request.query.get("n", "1"))
        more = {"Next-Page": f"http://{request.host}/q?n={number + 1}&t=a%2Fb"} if number < 3 else {}
        return (200, {"Content-Type": "application/json", **more}, json.dumps([{"n": number}]))

    plan = LIST.replace(
        'rows = "li"', 'rows = "$[*]"\nnext = { address = "{+url}", send = { url = { from = "header.Next-Page" } } }'
    )
    with crawled(tmp_path, {"/l": answer, "/q": answer}, plan + 'n = "$.n"\n') as done:
        assert done.rows() == [["1"], ["2"], ["3"]]
        assert done.host.asked[1:] == ["GET /q?n=2&t=a%2Fb", "GET /q?n=3&t=a%2Fb"]


def test_lists_are_json_where_programs_read_them_and_come_back_as_lists(program: Program) -> None:
    pages = {"/l": items("a; b|c", "", "d")}
    plan = (
        HEAD
        + LIST
        + """many = { at = ".", many = true, split = "|" }
one = { at = ".", many = true, split = "|", join = "; " }
place = { from = "url", find = "l" }
"""
    )
    with serving(SmallHost(pages).application) as site:
        (program.folder / "p.toml").write_text(plan.replace("http://h", site))
        done = program.inside("run", "p.toml", "-o", "t.csv")
        assert (done.status, "1 of 3 rows of t have no value" in done.err) == (1, True)
        program.inside("export", "p", "-o", "t.md")
        program.inside("export", "p", "-o", "t.jsonl")
    assert (program.folder / "t.csv").read_text().splitlines()[1] == '"[""a; b"",""c""]",a; b; c,l'
    assert "| a; b; c |" in (program.folder / "t.md").read_text()
    assert program.inside("compare", "t.csv", "t.jsonl", "--key", "one").status == 0
    (program.folder / "odd.csv").write_text("a,b\n[x],[1]\n[y],[2]\n")
    assert program.inside("profile", "odd.csv").status == 0
