"""One meaning, one piece of code: what was said twice, and differently, in two places."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path

import pytest

from conftest import Program, serving
from small_host import HEAD, SmallHost, crawled, items, list_plan, plan_of
from wadi.actions.export import export
from wadi.plan.reader import PlanError
from wadi.quality.verify_run import verify
from wadi.quality.walk import Walks
from wadi.table.assemble import Assembly

ROWS = [("A", "x"), ("B", ""), ("A", "y"), ("C", "z")]
"""Code and note; a code twice, and a note that lacks."""


@pytest.mark.parametrize(
    "day",
    [
        'at = ".", type = "date"',
        'at = ".", type = "datetime"',
        'at = ".", type = "date", adjust = "add-days 1"',
    ],
)
@pytest.mark.parametrize("key", ['[table.t]\nkey = "day"\n', ""])
def test_a_quiet_listing_that_is_read_again_did_not_shift(tmp_path: Path, day: str, key: str) -> None:
    days = [f"2026-05-{number:02}" + ("T10:00" if "datetime" in day else "") for number in range(1, 7)]
    pages = {
        "/l": items(*days[:3], more="<a class=n href=/m>"),
        "/m": items(*days[3:], more="<a class=n href=/o>"),
        "/o": items("2026-06-01" + ("T10:00" if "datetime" in day else "")),
    }
    plan = list_plan(f"day = {{ {day} }}", page='next = { at = "a.n", reread = true }', more=key)
    with crawled(tmp_path, pages, plan) as done:
        assert done.notes == []
        assert len(done.host.asked) == 5


def test_the_summary_and_verify_say_the_same_of_two_listings_of_one_table(program: Program) -> None:
    plan = (
        HEAD
        + """[start]
page = "front"
addresses = ["{+site}/"]
[page.front]
open = { old = "a.old", new = "a.new" }
[page.old]
rows = "li"
table = "t"
total = "b"
fields = { name = "." }
[page.new]
rows = "li"
table = "t"
total = "b"
fields = { name = "." }
"""
    )
    pages = {
        "/": "<a class=old href=/o>o</a><a class=new href=/n>n</a>",
        "/o": items("a", "b", more="<b>2</b>"),
        "/n": items("c", "d", "e", more="<b>3</b>"),
    }
    with serving(SmallHost(pages).application) as site:
        (program.folder / "p.toml").write_text(plan.replace("http://h", site))
        done = program.inside("run", "p.toml")
    assert "t: 5 rows of 5 that the site states" in done.err
    assert "5 of 5 rows in t" in program.inside("verify", "p").out


@pytest.mark.parametrize(
    ("plan", "said"),
    [
        ("next = { at = 'a', end_status = ['abc', 'x'] }", ["end_status", "end_status"]),
        ("expect = [1, 'li', 2]", ["expect", "expect"]),
        ("rows_ = 'li'", ["rows_"]),
    ],
)
def test_lint_names_each_mistake_once_and_invents_none(tmp_path: Path, plan: str, said: list[str]) -> None:
    with pytest.raises(PlanError) as told:
        plan_of(tmp_path, list_plan(page=plan))
    problems = told.value.problems
    assert len(problems) == len(said), [str(one) for one in problems]
    assert all(word in problem.what + problem.excerpt for word, problem in zip(said, problems, strict=True))
    assert not any("'.'" in problem.what for problem in problems)


def test_standard_output_has_one_thing(program: Program) -> None:
    with serving(SmallHost({"/l": items("a", "b")}).application) as site:
        (program.folder / "p.toml").write_text((HEAD + list_plan()).replace("http://h", site))
        seen = program("preview", "p.toml", "-o", "-")
        assert (seen.status, list(csv.reader(io.StringIO(seen.out)))) == (0, [["name"], ["a"], ["b"]])
        assert "the first 2 rows" in seen.err
        assert program.inside("run", "p.toml").status == 0
        for command in (("preview", "p.toml"), ("run", "p.toml"), ("resume", "p"), ("reparse", "p")):
            both = program(*command, "--json", "-o", "-")
            assert (both.status, "both want standard output" in both.err) == (2, True), command
            assert both.out == ""
        assert json.loads(program.inside("reparse", "p", "--json").out)["end"] == "complete"
        assert "is given twice" in program("export", "p", "-o", "-", "-o", "-").err


def test_a_package_says_the_delimiter_that_its_file_has(program: Program) -> None:
    with serving(SmallHost({"/l": items("a", "b")}).application) as site:
        (program.folder / "p.toml").write_text((HEAD + list_plan()).replace("http://h", site))
        for given, said in ((";", ";"), ("tab", "\t"), (",", ",")):
            assert program.inside("run", "p.toml", "-o", "t.csv", "-q", "--delimiter", given).status == 0
            assert program.inside("export", "p", "-o", "t.csv", "--package", "--delimiter", given).status == 0
            package = json.loads((program.folder / "datapackage.json").read_text())
            assert package["resources"][0]["dialect"]["delimiter"] == said


@pytest.mark.parametrize("columns", ["", 'columns = ["code"]\n'])
@pytest.mark.parametrize("targets", [["t.csv"], ["t.csv", "t.jsonl", "all.xlsx"], []])
def test_one_walk_over_a_table_feeds_files_profile_and_checks(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, targets: list[str], columns: str
) -> None:
    more = f'[table.t]\nkey = "code"\n{columns}check = {{ rows = {{ minimum = 9 }}, columns = {{ note = {{ filled = 1.0 }} }} }}\n'
    pages = {"/l": "<ul>" + "".join(f"<li><b>{code}</b><i>{note}</i>" for code, note in ROWS) + "</ul>"}
    with crawled(tmp_path, pages, list_plan('code = "b"\nnote = "i"', more=more)) as done:
        apart = verify(done.run)
        plain = {target: export(done.run, tmp_path / f"plain-{target}") for target in targets}
        walked: list[str] = []
        rows = Assembly.rows
        monkeypatch.setattr(Assembly, "rows", lambda self: walked.append("t") or rows(self))
        walks = Walks(done.run)
        for target in targets:
            assert export(done.run, tmp_path / target, source=walks.source) == plain[target] == 3
        together = verify(done.run, walks=walks)
    assert len(walked) == max(1, len(targets))
    assert together.verdict.findings == apart.verdict.findings
    assert {one.code for one in together.verdict.findings if one.fails} == {"check: filled", "check: rows"}
    assert (together.profiles, together.tables) == (apart.profiles, apart.tables)
    for target in targets:
        if not target.endswith("xlsx"):  # that says when it was made
            assert (tmp_path / target).read_bytes() == (tmp_path / f"plain-{target}").read_bytes()
