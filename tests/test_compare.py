"""Compare and report through the real command: by key, in every form; a hostile page cannot put markup into a report."""

from __future__ import annotations

import csv
import json
import shutil
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Program, plan_text, serving
from wadi.demo.faults import middleware
from wadi.demo.site import application
from wadi.plan.columns import Column
from wadi.quality.compare import Tolerance, compare
from wadi.quality.report import timeline_of
from wadi.quality.tables import TableSource

OLD = "code,name,flow,kind\nMW-1,Ash Spring,2.5,spring\nMW-2,Iron Well,,well\nMW-3,Elder Rise,7.0,spring\nMW-4,Low Pool,1,spring\n"
NEW = "code,name,flow,keeper\nMW-1,Ash Spring,2.51,Ilsa\nMW-3,Elder Head,9.5,Bram\nMW-4,Low Pool,1.0,Tove\nMW-5,Dusk Keld,3,Osk\n"


HOSTILE = (
    "</td><script>alert('x')</script><img src=x onerror=alert(2)>&lt;/pre&gt;&lt;script&gt;alert(3)&lt;/script&gt;"
)


@pytest.fixture
def two(program: Program) -> Program:
    """A program in a folder with two states of a table."""
    (program.folder / "old.csv").write_text(OLD)
    (program.folder / "new.csv").write_text(NEW)
    return program


def told(program: Program, *arguments: str) -> dict[str, Any]:
    done = program.inside("compare", *arguments, "--json")
    assert done.status == 0, done.err
    return dict(json.loads(done.out)["tables"][0])


def test_rows_and_cells_that_differ_are_told_by_key(two: Program) -> None:
    found = told(two, "old.csv", "new.csv", "--key", "code")
    assert {name: found[name] for name in ("old_rows", "new_rows", "added", "removed", "changed", "same")} == {
        "old_rows": 4, "new_rows": 4, "added": 1, "removed": 1, "changed": 2, "same": 1,
    }  # fmt: skip
    assert (found["first_added"], found["first_removed"]) == ([["MW-5"]], [["MW-2"]])
    assert (found["new_columns"], found["gone_columns"]) == (["keeper"], ["kind"])
    flow = next(one for one in found["columns"] if one["name"] == "flow")
    assert [(one["key"], one["old"], one["new"]) for one in flow["largest"]] == [
        (["MW-3"], 7.0, 9.5),
        (["MW-1"], 2.5, 2.51),
    ]
    shown = two("compare", "old.csv", "new.csv", "--key", "code")
    assert "4 rows before, 4 now: 1 added, 1 removed, 2 changed, 1 the same" in shown.out
    assert "columns that are gone: kind" in shown.out


@pytest.mark.parametrize(
    ("more", "changed"),
    [
        ([], {"name": 1, "flow": 2}),
        (["--tolerance", "0.1"], {"name": 1, "flow": 1}),
        (["--tolerance", "50%"], {"name": 1}),
        (["--without", "flow,name"], {}),
    ],
)
def test_numbers_close_together_and_columns_left_out_are_no_change(
    two: Program, more: list[str], changed: dict[str, int]
) -> None:
    found = told(two, "old.csv", "new.csv", "--key", "code", *more)
    assert {one["name"]: one["count"] for one in found["columns"]} == changed


def test_without_a_key_whole_rows_are_compared(two: Program) -> None:
    found = told(two, "old.csv", "new.csv", "--without", "keeper,kind")
    assert (found["key"], found["added"], found["removed"], found["same"]) == ([], 3, 3, 1)
    assert "no key is known" in two("compare", "old.csv", "new.csv").out


@pytest.mark.parametrize(("new", "status"), [("new.csv", 1), ("old.csv", 0)])
def test_the_exit_code_tells_whether_anything_differs(two: Program, new: str, status: int) -> None:
    assert two("compare", "old.csv", new, "--key", "code", "--exit-code", "-q").status == status
    assert two("compare", "old.csv", new, "--key", "code", "-q").status == 0


def test_differences_are_written_as_csv_lines_and_page(two: Program) -> None:
    for name in ("d.csv", "d.jsonl", "d.html"):
        assert two("compare", "old.csv", "new.csv", "--key", "code", "-q", "-o", name).status == 0
    rows = list(csv.DictReader((two.folder / "d.csv").read_text().splitlines()))
    lines = [json.loads(line) for line in (two.folder / "d.jsonl").read_text().splitlines()]
    assert len(rows) == len(lines) == 3 + 2 + 3  # a row that is new or gone is one record for each filled cell
    assert {"table": "new", "what": "changed", "key": "MW-3", "column": "flow", "old": 7.0, "new": 9.5} in lines
    page = (two.folder / "d.html").read_text()
    assert "1 added, 1 removed, 2 changed" in page
    assert "<script" not in page


@pytest.mark.parametrize(
    ("arguments", "code"),
    [
        (["old.csv", "new.csv", "--key", "cod"], "unknown-column"),
        (["old.csv", "new.csv", "--without", "flwo"], "unknown-column"),
        (["old.csv", "nothing.csv"], "no-such-file"),
        (["old.csv", "new.csv", "-o", "d.docx"], "unknown-format"),
        (["old.csv", "new.csv", "-o", "none/d.csv"], "not-writable"),
        (["old.csv", "new.csv", "--column", "flow"], "bad-option"),
        (["--history", "springs", "springs"], "no-such-run"),
        (["--history", "springs", "springs", "--key", "MW-1"], "bad-option"),
    ],
)
def test_what_cannot_be_compared_is_said(two: Program, arguments: list[str], code: str) -> None:
    done = two("compare", *arguments)
    assert (done.status, f"[{code}]" in done.err) == (2, True), done.err


def test_the_library_tells_the_same(two: Program) -> None:
    import wadi

    (found,) = wadi.compare(two.folder / "old.csv", two.folder / "new.csv", key=["code"])
    assert (len(found.added), len(found.removed), found.same) == (1, 1, 1)
    (profile,) = wadi.profile(two.folder / "old.csv")
    assert (profile.rows, [one.filled for one in profile.columns]) == (4, [4, 4, 3, 4])


Rows = st.dictionaries(st.integers(0, 20), st.one_of(st.none(), st.integers(-5, 5), st.text(max_size=3)), max_size=15)


@pytest.mark.parametrize(
    ("old", "new", "tolerance", "is_same"),
    [
        (None, "", Tolerance(), True),
        (None, [], Tolerance(), True),
        (None, 0, Tolerance(), False),
        (1, 1.0, Tolerance(), True),
        (1, "1", Tolerance(), True),
        (2.0, "2", Tolerance(), True),
        ("2", "2.0", Tolerance(), False),
        (True, "true", Tolerance(), True),
        (["a", "b"], "a; b", Tolerance(), True),
        (["a"], ["b"], Tolerance(), False),
        (1.0, 1.01, Tolerance(), False),
        (1.0, 1.01, Tolerance(absolute=0.011), True),
        (100.0, 101.0, Tolerance(relative=0.01), True),
        (-100.0, -102.0, Tolerance(relative=0.01), False),
        (0.0, 0.001, Tolerance(relative=0.5), False),
        ("x", "X", Tolerance(absolute=9), False),
    ],
)
def test_cells_are_the_same_or_not(old: Any, new: Any, tolerance: Tolerance, is_same: bool) -> None:
    columns = [Column(name, "string", False, None, False, ()) for name in ("k", "v")]
    before, after = (TableSource("t", columns, lambda value=value: iter([["1", value]]), ["k"]) for value in (old, new))
    assert compare(before, after, tolerance=tolerance).differs is not is_same


@given(Rows, Rows)
def test_added_removed_changed_and_same_are_all_rows(old: dict[int, Any], new: dict[int, Any]) -> None:
    columns = [Column("k", "integer", False, None, False, ()), Column("v", "string", False, None, False, ())]

    def source(rows: dict[int, Any]) -> TableSource:
        return TableSource("t", columns, lambda: iter([[key, value] for key, value in rows.items()]), ["k"])

    found = compare(source(old), source(new), tolerance=Tolerance())
    assert len(found.added) + len(found.changed_keys) + found.same == len(new)
    assert len(found.removed) + len(found.changed_keys) + found.same == len(old)
    assert {key for key, _ in found.added} == {(str(key),) for key in set(new) - set(old)}
    assert not compare(source(old), source(old)).differs


@pytest.fixture(scope="module")
def runs(tmp_path_factory: pytest.TempPathFactory, site: str) -> Path:
    """A folder with an undisturbed run, one of a site with faults, and one with a page that is gone and hostile words."""
    from aiohttp import web

    program = Program(tmp_path_factory.mktemp("runs"))
    text = plan_text() + "[table.springs.check]\nrows = { minimum = 300 }\n"
    (program.folder / "springs.toml").write_text(text)
    assert program.inside("run", "springs.toml", "--input", f"site={site}").status == 0
    with serving(lambda: application((middleware(["unit"]),))) as address:
        program.inside("run", "springs.toml", "--input", f"site={address}")

    @web.middleware
    async def hostile(request: web.Request, handler: Any) -> Any:
        if request.path.endswith("0011"):
            return web.Response(status=410, text="<script>alert(1)</script><b>gone</b>", content_type="text/html")
        response = await handler(request)
        if request.path == "/register" and request.query.get("page", "1") == "1":
            link = 'href="register/MW-0141">'
            response.text = response.text.replace(link, link + HOSTILE, 1)
        return response

    with serving(lambda: application((hostile,))) as address:
        program.inside("run", "springs.toml", "--input", f"site={address}")
    return program.folder


@pytest.fixture
def kept(runs: Path, tmp_path: Path) -> Program:
    shutil.copytree(runs, tmp_path / "w")
    return Program(tmp_path / "w")


def test_runs_are_compared_by_the_key_of_the_plan(kept: Program) -> None:
    first, second, _ = sorted(str(path) for path in (kept.folder / "runs" / "springs").iterdir())
    found = told(kept, first, second, "--without", "url,photo")
    assert (found["key"], found["added"], found["removed"], found["changed"]) == (["code"], 0, 0, 10)
    assert [(one["name"], one["count"]) for one in found["columns"]] == [("flow", 10)]
    assert all(one["new"] == pytest.approx(one["old"] * 60) for one in found["columns"][0]["largest"])


def test_the_library_verifies(kept: Program) -> None:
    import wadi

    with wadi.open_run("springs", runs=kept.folder / "runs") as run:
        verdict = wadi.verify(run)
    assert not verdict.holds
    assert "1 spring page missing (410)" in verdict.sentence


def test_a_table_is_followed_through_all_runs(kept: Program) -> None:
    done = kept("compare", "--history", "springs", "springs", "--column", "flow", "--chart", "h.png", "--json")
    points = json.loads(done.out)["points"]
    assert [(point["rows"], point["filled"]) for point in points] == [(354, 332)] * 3
    assert points[0]["value"] == points[2]["value"] == 15.55
    assert (kept.folder / "h.png").read_bytes().startswith(b"\x89PNG")
    shown = kept("compare", "--history", "springs", "springs", "--column", "flow", "--key", "MW-0149")
    assert [line.split()[-2] for line in shown.out.splitlines()[2:]] == ["598.8", "35928", "598.8"]
    assert kept("compare", "--history", "springs", "springs").out.count("354") == 3


@pytest.mark.parametrize(
    ("arguments", "code", "told"),
    [
        (["--column", "flow", "--key", "MW-9999"], "no-such-row", "MW-9999"),
        (["--column", "flow", "--key", "MW-0149,2"], "no-such-row", 'the key of table "springs" is "code"'),
        (["--column", "flwo"], "unknown-column", "flwo"),
        (["--column", "flow", "--chart", "none/h.png"], "not-writable", "none"),
        (["--column", "flow", "--chart", "h.docx"], "unknown-format", "docx"),
        (["-o", "h.csv"], "bad-option", "--chart FILE"),
        (["--exit-code"], "bad-option", "not for --history"),
    ],
)
def test_a_history_says_what_it_cannot_follow(kept: Program, arguments: list[str], code: str, told: str) -> None:
    done = kept("compare", "--history", "springs", "springs", *arguments)
    assert (done.status, f"[{code}]" in done.err) == (2, True), done.err
    assert told in done.err


class _Tags(HTMLParser):
    """The elements, attributes and texts of a page."""

    def __init__(self) -> None:
        super().__init__()
        self.tags: list[str] = []
        self.attributes: list[tuple[str, str | None]] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.append(tag)
        self.attributes += attrs


def test_a_report_holds_everything_and_nothing_that_a_site_could_run(kept: Program) -> None:
    done = kept("report", "springs", "-o", "report.html")
    assert done.status == 1  # a page is gone
    page = (kept.folder / "report.html").read_text()
    for wanted in ("1 spring page missing (410)", "First rows", "median", "The plan as it was run", "MW-0141", "page as it came",
                   "&lt;script&gt;alert(1)&lt;/script&gt;", "alert(3)"):  # fmt: skip
        assert wanted in page
    parsed = _Tags()
    parsed.feed(page)
    assert not {"script", "img", "iframe", "link", "object", "form"} & set(parsed.tags)
    assert not [name for name, _ in parsed.attributes if name.startswith("on")]
    links = [value for name, value in parsed.attributes if name in ("href", "src")]
    assert links
    assert all(value and value.startswith("#") for value in links)


def test_reports_say_why_they_cannot_be_written(kept: Program) -> None:
    done = kept("report", "springs", "-o", "none/report.html")
    assert (done.status, "[not-writable]" in done.err) == (2, True)
    kept.environment["PATH"] = str(kept.folder)
    done = kept("report", "springs", "-o", "report.html", "--pdf", "report.pdf")
    assert (done.status, "[no-browser]" in done.err) == (2, True)
    assert (kept.folder / "report.html").is_file()


@pytest.mark.skipif(shutil.which("chromium") is None, reason="wants a browser, which .ci/run installs")
def test_a_report_is_printed(kept: Program) -> None:
    assert kept("report", "springs", "-o", "report.html", "--pdf", "report.pdf").status == 1
    assert (kept.folder / "report.pdf").read_bytes().startswith(b"%PDF")


def test_a_crawl_is_told_in_time() -> None:
    def at(second: float, event: str, **more: Any) -> dict[str, Any]:
        return {"at": f"2026-11-02T10:00:{second:06.3f}+00:00", "event": event, **more}

    events = [
        at(0, "page_done", status=200), at(1, "tried_again", cause="timed-out", wait_s=2.0),
        at(4, "page_done", status=200), at(5, "pace", host="h:80", pause_s=1.0, why="the host refused a request"),
        at(8, "host_rests", host="h:80", seconds=30.0, why="five failures"),
        at(10, "page_failed", status=410, problem={"code": "http-status", "what": "http://h/: status 410 (Gone)"}),
    ]  # fmt: skip
    found = timeline_of(events)
    assert found is not None
    assert found.statuses == "2 × 200, 1 × 410"
    assert [sum(column) for column in zip(*found.bins, strict=True)] == [2, 1, 1]
    assert found.waits[0] == ("h:80 rests: five failures", 1, 30.0)
    assert timeline_of([]) is None
