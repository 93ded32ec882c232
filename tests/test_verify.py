"""Verify through the real command: an undisturbed run is silent, each planted fault is named and nothing else."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import Any

import pytest

from conftest import Program, plan_text, serving
from small_host import HEAD, SmallHost, items
from wadi.demo.faults import FAULTS, middleware
from wadi.demo.site import application

CHECKS = """
[table.springs.check]
rows  = {{ minimum = {least} }}
where = ["flow <= {most}"]
[table.springs.check.columns]
flow     = {{ minimum = 0, maximum = {most}, filled = 0.5 }}
status   = {{ enum = ["flowing", "seasonal", "dry"] }}
code     = {{ required = true, unique = true, pattern = 'MW-\\d{{4}}' }}
registered = {{ past = true, maximum = "{day}" }}
"""


def verified(program: Program, *more: str) -> tuple[int, dict[str, Any]]:
    done = program.inside("verify", "springs", "--json", *more)
    assert not done.err
    return done.status, json.loads(done.out)


def fails(told: dict[str, Any]) -> list[tuple[str, str]]:
    return [(one["code"], one["column"]) for one in told["findings"] if one["fails"]]


@pytest.fixture(scope="module")
def before(tmp_path_factory: pytest.TempPathFactory, site: str) -> Path:
    """A folder with a plan and one undisturbed run."""
    program = Program(tmp_path_factory.mktemp("before"))
    (program.folder / "springs.toml").write_text(plan_text())
    done = program.inside("run", "springs.toml", "--input", f"site={site}")
    assert done.status == 0, done.err
    assert "verify" not in done.err
    return program.folder


@pytest.fixture
def again(before: Path, tmp_path: Path) -> Program:
    """A program in a copy of that folder."""
    shutil.copytree(before, tmp_path / "w")
    return Program(tmp_path / "w")


def test_an_undisturbed_run_is_silent(again: Program, site: str) -> None:
    status, told = verified(again)
    assert (status, told["findings"], told["compared_with"]) == (0, [], 0)
    assert told["verdict"] == "354 of 354 rows in springs; every check holds."
    assert (
        "Compared with no earlier run: there is no complete one with the same inputs." in again("verify", "springs").out
    )
    assert again("run", "springs.toml", "--input", f"site={site}").status == 0
    status, told = verified(again)
    assert (status, told["findings"], told["compared_with"]) == (0, [], 1)
    assert "nothing drifted against the run before" in told["verdict"]


FOUND = {
    "column": [("drift: filled", "depth")],
    "page": [("rows-missing", "")],
    "duplicates": [("drift: duplicates", "")],
    "unit": [("drift: range", "flow")],
    "total": [("rows-missing", "")],
}


@pytest.mark.parametrize("names", [*([name] for name in FAULTS), list(FAULTS)], ids=lambda names: "+".join(names))
def test_each_planted_fault_is_named_and_nothing_else(again: Program, names: list[str]) -> None:
    with serving(lambda: application((middleware(names),))) as address:
        done = again("run", "springs.toml", "--input", f"site={address}")
    assert done.status == 1
    status, told = verified(again)
    assert status == 1
    assert sorted(fails(told)) == sorted({one for name in names for one in FOUND[name]})
    remarks = {one["code"] for one in told["findings"] if not one["fails"]}
    assert remarks <= {"duplicates"}
    if names == ["page"]:
        assert "324 of 354" in told["verdict"]
    if names == ["total"]:
        assert told["verdict"].startswith(
            "354 of 360 rows in springs; the listing gave fewer rows than it states: 354 of 360"
        )
    if "column" in names:
        assert "depth is blank in every row, 88 % filled before" in [one["what"] for one in told["findings"]]
        assert "depth is blank in every row" in done.err


def test_missing_detail_pages_are_told_with_their_rows(again: Program, site: str) -> None:
    from aiohttp import web

    @web.middleware
    async def gone(request: web.Request, handler: Any) -> Any:
        return web.Response(status=404) if request.path.endswith(("0011", "0200")) else await handler(request)

    with serving(lambda: application((gone,))) as address:
        assert again("run", "springs.toml", "--input", f"site={address}").status == 1
    done = again("verify", "springs")
    assert done.status == 1
    first = done.out.splitlines()[0]
    assert first.startswith("354 of 354 rows in springs; 2 spring pages missing (404): rows ")
    assert 'lack "altitude", "temperature", "keepers", "note"' in first
    assert "[pages-failed]" in done.out


@pytest.mark.parametrize(
    ("values", "broken"),
    [
        ({"least": 300, "most": 5000, "day": "2022-12-31"}, []),
        (
            {"least": 400, "most": 2000, "day": "2000-01-01"},
            [("check: rows", ""), ("check: where", ""), ("check: maximum", "flow"), ("check: maximum", "registered")],
        ),
    ],
)
def test_checks_of_the_plan_are_told_with_the_first_rows(
    program: Program, site: str, values: dict[str, Any], broken: list[tuple[str, str]]
) -> None:
    (program.folder / "springs.toml").write_text(plan_text() + CHECKS.format(**values))
    assert program.inside("run", "springs.toml", "--input", f"site={site}").status == bool(broken)
    status, told = verified(program)
    assert (status, fails(told)) == (bool(broken), broken)
    for one in told["findings"]:
        if one["code"] == "check: maximum":
            assert one["examples"][0].startswith("row ")
            assert "(MW-" in one["examples"][0]


@pytest.mark.parametrize(
    ("check", "code", "told"),
    [
        ('where = ["flow <= capacity"]', "unknown-column", "columns: "),
        ('where = ["flow <="]', "bad-formula", "cannot be read"),
        ("columns = { flwo = { minimum = 0 } }", "unknown-column", 'did you mean "flow"?'),
        ("columns = { name = { pattern = '(' } }", "bad-regex", "regular expression"),
        ("columns = { name = { mean = { minimum = 1 } } }", "wrong-value", "mean is of numbers"),
        ('columns = { flow = { minimum = "0" } }', "wrong-value", "a number"),
        ("columns = { name = { maximum = 3 } }", "wrong-value", "a text"),
        ('columns = { district = { refers_to = "districts.name" } }', "unknown-table", "districts"),
        ('columns = { district = { refers_to = "springs.nam" } }', "unknown-column", 'did you mean "name"?'),
        ("rows = { least = 3 }", "unknown-key", "minimum"),
        ("columns = { flow = { minimun = 3 } }", "unknown-key", "minimum"),
    ],
)
def test_checks_that_cannot_be_are_mistakes_of_the_plan(program: Program, check: str, code: str, told: str) -> None:
    (program.folder / "springs.toml").write_text(plan_text() + f"[table.springs.check]\n{check}\n")
    done = program.inside("lint", "springs.toml")
    assert done.status == 2
    assert f"[{code}]" in done.err + done.out
    assert told in done.err + done.out


def test_a_run_cut_short_is_not_held_against_whole_ones(again: Program, site: str) -> None:
    assert again("run", "springs.toml", "--input", f"site={site}", "--rows", "40").status == 0
    whole = again("verify", "springs", "--json")
    assert "is the newest complete run; springs~newest is" in whole.err
    assert json.loads(whole.out)["rows"] > 40
    done = again("verify", "springs~newest", "--json")
    assert done.status == 0
    assert [(one["code"], one["fails"]) for one in json.loads(done.out)["findings"]] == [("limit", False)]
    assert "Compared with no earlier run: this one did not come to its end." in again("verify", "springs~newest").out


def test_a_name_means_the_newest_complete_run(program: Program) -> None:
    pages = {"/l": items("a", "b", "c", more="<a href=/m>more</a>"), "/m": items("d")}
    plan = '[start]\npage = "l"\naddresses = ["{+site}/l"]\n[page.l]\nrows = "li"\ntable = "t"\nnext = "a"\nfields = { name = "." }\n'
    with serving(SmallHost(pages).application) as site:
        path = program.folder / "p.toml"
        path.write_text(HEAD.replace("http://h", site) + plan)
        assert program.inside("run", path, "-q", "--rows", "1").status == 0
        assert (
            program.inside("export", "p", "-o", "t.csv")
            .err.splitlines()[0]
            .endswith("is the newest run, and none of p is complete (rows limit)")
        )
        assert program.inside("run", path, "-q").status == 0
        pages["/m"] = items("d", "e")
        assert program.inside("run", path, "-q").status == 0
        assert program.inside("run", path, "-q", "--pages", "1").status == 0
        for site_is_down in ("/l",):
            del pages[site_is_down]
        assert program.inside("run", path, "-q").status == 3
    rows = {}
    for name in ("p", "p~1", "p~newest"):
        done = program.inside("export", name, "-o", "t.csv")
        rows[name] = (program.folder / "t.csv").read_text().split()[1:]
        assert ("(no page came)" in done.err and "p~newest is" in done.err) == (name == "p")
    assert rows == {"p": list("abcde"), "p~1": list("abcd"), "p~newest": []}
    told = program.inside("compare", "p~1", "p", "--key", "name", "--json")
    assert json.loads(told.out)["tables"][0]["added"]
    assert "the newest complete run" in told.err
    wrong = program.inside("trace", "p~2", "t", "1")
    assert wrong.status == 2
    assert '"p" has 2 complete runs, and the one 2 before the newest was asked for' in wrong.err
    states = [one["state"] for one in json.loads(program.inside("runs", "p", "--json").out)["runs"]]
    assert states == ["no page came", "pages limit", "complete", "complete", "rows limit"]


def test_a_new_column_that_is_blank_is_told_though_there_are_earlier_runs(program: Program) -> None:
    pages = {"/l": items("<b>a</b>", "<b>b</b>", "<b>c</b>")}
    plan = (
        '[start]\npage = "l"\naddresses = ["{+site}/l"]\n[page.l]\nrows = "li"\ntable = "t"\nfields = { name = "b" }\n'
    )
    more = plan.replace('name = "b"', 'name = "b", note = "i"')
    with serving(SmallHost(pages).application) as site:
        path = program.folder / "p.toml"
        for text, status in ((plan, 0), (more, 1), (more, 1), (more + "[table.t.check.columns.note]\nfilled = 0\n", 0)):
            path.write_text(HEAD.replace("http://h", site) + text)
            done = program.inside("run", path)
            assert done.status == status
            assert ("note is blank in every row" in done.err) == bool(status)


def test_a_crawl_counts_once_however_often_its_pages_are_read_again(program: Program) -> None:
    pages = {"/l": items("a", "b", "c")}
    plan = (
        '[start]\npage = "l"\naddresses = ["{+site}/l"]\n[page.l]\nrows = "li"\ntable = "t"\nfields = { name = "." }\n'
    )
    with serving(SmallHost(pages).application) as site:
        path = program.folder / "p.toml"
        path.write_text(HEAD.replace("http://h", site) + plan)
        assert program.inside("run", path, "-q").status == 0
        for _ in range(5):
            assert program.inside("reparse", "p", "-q").status == 0
        assert program.inside("run", path, "-q").status == 0
    told = json.loads(program.inside("verify", "p", "--json").out)
    assert told["compared_with"] == 1
    assert len(told["earlier"]) == 1


def test_runs_with_other_inputs_are_not_compared(program: Program, site: str) -> None:
    text = 'wadi = 1\n[inputs]\nsite = "x"\ndistrict = "saltholm"\n[start]\npage = "d"\naddresses = ["{+site}/district/{district}"]\n'
    text += '[manners]\npause = 0\n[page.d]\nrows = "tr[data-code]"\ntable = "t"\n[page.d.fields]\ncode = "td:nth-child(1)"\n'
    (program.folder / "springs.toml").write_text(text)
    for district, compared in (("saltholm", 0), ("ashwater", 0), ("saltholm", 1)):
        assert (
            program.inside("run", "springs.toml", "--input", f"site={site}", "--input", f"district={district}").status
            == 0
        )
        assert verified(program)[1]["compared_with"] == compared


def test_columns_that_are_left_out_help_others_and_a_bad_row_function_says_how_often(
    program: Program, site: str
) -> None:
    table = "[table.springs]\n"
    assert table in plan_text()
    more = 'columns = ["code", "dekalitres"]\ncall = "odd"\nderive = { dekalitres = "flow / 10" }\n'
    more += 'check = { where = ["flow >= 0"], columns = { flow = { minimum = 0 } } }\n'
    (program.folder / "springs.toml").write_text('code = "c.py"\n' + plan_text().replace(table, table + more))
    (program.folder / "c.py").write_text("def odd(row):\n    return row if row['name'] else row\n")
    done = program.inside("run", "springs.toml", "--input", f"site={site}", "-o", "s.csv", "--with-code")
    assert (done.status, (program.folder / "s.csv").read_text().splitlines()[0]) == (0, "code,dekalitres"), done.err
    (program.folder / "c.py").write_text("def odd(row):\n    return row['nope']\n")
    done = program.inside("run", "springs.toml", "--input", f"site={site}", "--with-code")
    assert done.status == 1
    assert "rejects   354 of 354 rows: odd() failed, line 2: KeyError: 'nope' (first on " in done.err
    assert "of springs are among the rejects: odd() failed" in program.inside("verify", "springs").out
    assert program.inside("export", "springs", "--table", "rejects", "-o", "r.csv").status == 0
    assert (program.folder / "r.csv").read_text("utf-8").count("odd() failed") == 354


def test_an_earlier_run_that_cannot_be_read_is_named_and_left_out(again: Program, site: str) -> None:
    [folder] = (again.folder / "runs/springs").iterdir()
    (folder / "run.sqlite").write_bytes(b"no database" * 100)
    done = again("run", "springs.toml", "--input", f"site={site}")
    assert done.status == 0, done.err
    status, told = verified(again)
    [found] = told["findings"]
    assert (status, found["code"], found["examples"]) == (
        0,
        "earlier-unreadable",
        [str(folder.relative_to(again.folder))],
    )


def test_what_is_not_there_is_said(again: Program) -> None:
    done = again("verify", "nowhere")
    assert (done.status, "[no-such-run]" in done.err) == (2, True)
    done = again("verify", "springs", "--against", "nowhere")
    assert (done.status, "[no-such-run]" in done.err) == (2, True)
