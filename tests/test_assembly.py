"""Tables put together: exact keys at every edge, each stage alone, children grouped, and one ledger of what was left out."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from small_host import crawled, items, list_plan, plan_of
from wadi.clean.identity import canonical, digest_of, each_once
from wadi.cli.summary import Summary
from wadi.plan.model import TablePlan
from wadi.problems import PlanError
from wadi.quality.profile import profile_of
from wadi.quality.sources import run_table
from wadi.quality.verify_run import verify
from wadi.store.order import Visit
from wadi.store.outcome import State
from wadi.table.assemble import limited, merged, one_by_one, with_required, without_duplicates
from wadi.table.keys import SeenKeys, keys_of
from wadi.table.ledger import Ledger
from wadi.table.located import Batch, LocatedRow

SAME = [(1, 1.0), (-2, -2.0), (0, -0.0), ([1, "a"], [1.0, "a"]), ({"a": 2}, {"a": 2.0}), (1e18, 10**18)]
APART = [(1, "1"), (1, True), (0, False), (-1, -2), (2**61 - 1, 0), ("a", "A"), ("é", "e\u0301"), (["a", "b"], ["a; b"]),
         ([["a"], "b"], ["a", ["b"]]), (9007199254740993, 9007199254740992), ("", None), (2**70, 2**70 + 1)]  # fmt: skip


@pytest.mark.parametrize(("pair", "is_same"), [*((pair, True) for pair in SAME), *((pair, False) for pair in APART)])
def test_values_are_the_same_as_a_table_writes_them_with_their_types(pair: tuple[Any, Any], is_same: bool) -> None:
    first, second = pair
    assert (canonical([first]) == canonical([second])) is is_same
    assert (digest_of([first]) == digest_of([second])) is is_same
    assert (len(each_once([first, second])) == 1) is is_same


CELLS = st.one_of(
    st.none(), st.text(max_size=3), st.integers(-(2**63), 2**63), st.booleans(),
    st.floats(allow_nan=False), st.lists(st.text(max_size=2), max_size=2),
)  # fmt: skip


@given(
    st.lists(st.lists(st.tuples(CELLS, st.sampled_from("ab")), max_size=6), max_size=12),
    st.integers(0, 6),
    st.integers(0, 9),
)
@settings(max_examples=300)
def test_keys_are_told_apart_exactly_wherever_they_are_kept(
    pages: list[list[tuple[Any, str]]], most_recent: int, most_joined: int
) -> None:
    """What is remembered is what a plain dict of canonical keys remembers, at every edge of what is held how."""
    seen, first = SeenKeys(most_recent, most_joined), dict[bytes, int]()
    for number, rows in enumerate(pages):
        stood = seen.stood(keys_of(rows, [0, 1]), number)
        for place, row in enumerate(rows):
            lacks = row[0] in (None, "", [])
            known = None if lacks else first.get(canonical(row))
            assert stood.get(place) == known
            if not lacks:
                first.setdefault(canonical(row), number)
    assert len(seen) == len(first)


def test_a_long_table_has_exactly_its_distinct_keys() -> None:
    seen = SeenKeys(1_000, 10_000)
    again = sum(
        len(seen.stood(keys_of([[n] for n in range(at, at + 500)], [0]), at + 30_000))
        for at in range(-30_000, 30_000, 500)
    )
    assert (again, len(seen)) == (0, 60_000)
    assert len(seen.stood(keys_of([[float(n)] for n in range(-300, 300)], [0]), 0)) == 600


SEEDED = """import hashlib, sys
from pathlib import Path
sys.path.insert(0, {benchmarks!r})
import export_rows
from wadi.actions.export import export
from wadi.actions.run import Run
folder = Path({folder!r})
run = next((folder / "runs" / "bench").iterdir(), None) if (folder / "runs").is_dir() else export_rows.make(folder, 4000)
with Run.open(run) as opened:
    export(opened, folder / "out.csv")
    print(hashlib.sha256((folder / "out.csv").read_bytes()).hexdigest(), opened.read().ledger.accepted)
"""


def test_the_bytes_of_a_table_depend_on_no_seed(tmp_path: Path) -> None:
    benchmarks = str(Path(__file__).parent.parent / "benchmarks")
    code = SEEDED.format(benchmarks=benchmarks, folder=str(tmp_path))
    found = {
        subprocess.run(
            [sys.executable, "-c", code],
            env={**os.environ, "PYTHONHASHSEED": seed},
            capture_output=True,
            text=True,
            check=True,
        ).stdout
        for seed in ("1", "2", "3")
    }
    assert len(found) == 1
    assert found.pop().split()[1] == "4000"


# -- stages, each alone


def visit(page: int, listing: int = 0, start: int = 0, way: tuple[str, ...] = ("list",)) -> Visit:
    return Visit(page, "list", State.DONE, "", {}, start, listing, way)


def rows_of(*pages: list[list[Any]]) -> Iterator[Batch]:
    for page, rows in enumerate(pages):
        yield [LocatedRow(list(cells), visit(page), number) for number, cells in enumerate(rows)]


def cells_of(batches: Iterator[Batch]) -> list[Any]:
    return [row.cells for batch in batches for row in batch]


def by_name(row: LocatedRow) -> dict[str, Any]:
    return dict(zip("abc", row.cells, strict=False))


def test_the_first_of_each_key_stays_and_the_ledger_says_how_others_came() -> None:
    ledger, told = Ledger(), []
    ledger.hear = told.append
    pages = rows_of([["a", 1], ["b", 2], ["a", 3]], [], [[None, 4], ["b", 5], [None, 6]])
    assert cells_of(without_duplicates(pages, [0], ["a", "b"], ledger, by_name)) == [
        ["a", 1],
        ["b", 2],
        [None, 4],
        [None, 6],
    ]
    assert ledger.duplicates == 2
    assert {way: found.examples for way, found in ledger.duplicate_ways.items()} == {
        "twice on one page": [("a", "0", "0")], "on two pages of one listing": [("b", "0", "2")],
    }  # fmt: skip
    assert [(issue.page, issue.row, issue.first) for issue in told] == [(0, 2, 0), (2, 1, 0)]


@pytest.mark.parametrize(
    ("rules", "wanted"),
    [
        ({"duplicates": "last"}, [["b", 2, None], [None, 4, None], ["a", None, ["y"]]]),
        ({"duplicates": "merge"}, [["a", 1, ["x"]], ["b", 2, None], [None, 4, None]]),
        ({"collect": ["c"], "occurrences": "b"}, [["a", 2, ["x", "y"]], ["b", 1, []], [None, 1, []]]),
    ],
)
def test_rows_of_one_key_are_put_together(rules: dict[str, Any], wanted: list[list[Any]]) -> None:
    pages = rows_of([["a", 1, ["x"]], ["b", 2, None]], [[None, 4, None], ["a", None, ["y"]]])
    made = merged(pages, [0], TablePlan(key=["a"], **rules), ["a", "b", "c"], Ledger(), by_name)
    assert cells_of(made) == wanted


def test_a_limit_looks_at_no_row_behind_it() -> None:
    taken: list[int] = []

    def watched() -> Iterator[Batch]:
        for batch in one_by_one(rows_of([["a"], ["b"]], [["c"]])):
            taken.append(len(batch))
            yield batch

    assert cells_of(limited(watched(), 2)) == [["a"], ["b"]]
    assert taken == [1, 1]


def test_an_empty_batch_goes_through_every_stage_and_none_is_made() -> None:
    """It says that by_name more is certain before the next commit: of one that a stage empties nobody has to wait."""
    batches = [*rows_of([["a"], [None]]), [], *rows_of([["a"]], [["b"]])]
    staged = without_duplicates(
        with_required(one_by_one(batches), [0], ["c"], Ledger(), by_name), [0], ["a"], Ledger(), by_name
    )
    assert [[row.cells for row in batch] for batch in staged] == [[["a"]], [], [["b"]]]


# -- whole runs


CHILDREN = list_plan('name = "b"', more="""[page.list.lists.marks]
rows = "u"
carry = ["name"]
[page.list.lists.marks.fields]
mark = "."
[table.t]
key = ["name"]
""")  # fmt: skip


def test_children_stand_with_the_row_that_they_stand_in(tmp_path: Path) -> None:
    rows = [f"<b>r{n % 150}</b><u>{n}.1</u><u>{n}.2</u><u>{n}.3</u>" for n in range(200)]
    with crawled(tmp_path, {"/l": items(*rows)}, CHILDREN) as done:
        assert done.rows("marks") == [[f"r{n}", f"{n}.{k}"] for n in range(150) for k in (1, 2, 3)]


@pytest.mark.parametrize(
    ("fields", "names", "blank", "fails"),
    [
        ('a = "b"\nc = "i"', ["<b>1</b>", "<hr>", "<i>2</i>", "<p>x</p>", "<b>3</b><i>4</i>"], 2, True),
        ('a = "b"', ["<b>1</b>", "<hr>", "<b>2</b>"], 1, False),
        ('a = "b"\np = { from = "url" }', ["<b>1</b>", "<hr>", "<b>2</b>"], 1, False),
        ('a = { at = "b", type = "integer" }\nc = "i"', ["<b>0</b>", "<b>0</b>"], 0, False),
        ('a = "b"\nd = { at = "u", default = "none" }\np = { from = "url" }\nc = "i"', ["<b>1</b>", "<hr>"], 1, True),
    ],
)
def test_rows_without_a_picked_value_are_said(
    tmp_path: Path, fields: str, names: list[str], blank: int, fails: bool
) -> None:
    with crawled(tmp_path, {"/l": items(*names)}, list_plan(fields)) as done:
        verdict = verify(done.run).verdict
    found = [finding for finding in verdict.findings if finding.code == "blank-rows"]
    assert [(finding.what.split(" ", 1)[0], finding.fails) for finding in found] == (
        [(str(blank), fails)] if blank else []
    )


UNIQUE = """[table.t.check.columns]
n = { unique = true, distinct = 1.0 }
"""


@pytest.mark.parametrize(
    ("numbers", "again"),
    [((-1, -2, 5), 0), ((2**61 - 1, 0, 1), 0), ((5, 5, -1), 1), ((1, 1, 1), 2), ((-1, -2, -1), 1)],
)
def test_checks_of_values_are_exact(tmp_path: Path, numbers: tuple[int, ...], again: int) -> None:
    plan = list_plan('n = { at = ".", type = "integer" }', more=UNIQUE)
    with crawled(tmp_path, {"/l": items(*numbers)}, plan) as done:
        verdict = verify(done.run).verdict
        profile = profile_of(run_table(done.run, "t"))
    assert sum(finding.code.startswith("check: ") for finding in verdict.findings) == (2 if again else 0)
    assert (profile.doubled, profile.columns[0].distinct) == (again, 3 - again)


def test_collected_values_stand_once_each(tmp_path: Path) -> None:
    names = [f"<b>a</b><i>{n % 700}</i>" for n in range(2_000)]
    plan = list_plan('name = "b"\nn = "i"', more='[table.t]\nkey = ["name"]\ncollect = ["n"]\noccurrences = "times"\n')
    with crawled(tmp_path, {"/l": items(*names)}, plan) as done:
        assert done.rows() == [["a", [str(n) for n in range(700)], 2_000]]


def test_summary_verdict_and_table_read_one_ledger(tmp_path: Path) -> None:
    plan = list_plan(
        'name = { at = "b", required = true }\nn = { at = "i", type = "integer" }', more='[table.t]\nkey = ["name"]\n'
    )
    pages = {"/l": items("<b>a</b><i>1</i>", "<b>a</b><i>2</i>", "<i>3</i>", "<b>c</b><i>many</i>")}
    with crawled(tmp_path, pages, plan) as done:
        verified = verify(done.run)
        ledger = done.run.read().ledger
        told = Summary(done.run, verified, []).as_dict()["tables"][0]
        assert verified.tables[0].ledger == ledger
        assert (ledger.given, ledger.accepted, ledger.duplicates, ledger.rejected, ledger.unread) == (
            4,
            2,
            1,
            1,
            {"n": 1},
        )
        assert (told["rows"], told["duplicates"], told["rejected"]) == (2, 1, 1)
        assert json.dumps(told["duplicate_ways"]).count("twice on one page") == 1


STAMPED = {
    'constant = { site = "A" }\nkey = ["site", "name"]': (2, 2),
    'origin = ["place"]\nkey = ["origin_place", "name"]': (2, 2),
    'origin = ["url"]\nkey = ["origin_url", "name"]': (4, 0),
    'key = ["name"]\norigin = ["url"]': (2, 2),
}


@pytest.mark.parametrize("rules", STAMPED)
@pytest.mark.parametrize("duplicates", ["first", "last", "merge"])
def test_a_key_may_name_constants_and_where_a_row_is_from(tmp_path: Path, rules: str, duplicates: str) -> None:
    pages = {"/l?p=1": items("a", "b"), "/l?p=2": items("a", "b")}
    plan = list_plan(
        start='"{+site}/l?p=1", "{+site}/l?p=2"', more=f'[table.t]\nduplicates = "{duplicates}"\n{rules}\n'
    )
    with crawled(tmp_path, pages, plan) as done:
        ledger = done.run.read().ledger
    assert (ledger.accepted, ledger.duplicates) == STAMPED[rules]


@pytest.mark.parametrize(
    "rules",
    ['key = ["photo_sha256"]', 'key = ["name", "gone"]\nhistory = true', 'key = ["times"]\noccurrences = "times"'],
)
def test_a_key_names_no_column_that_is_filled_later(tmp_path: Path, rules: str) -> None:
    fields = 'name = "b"\nphoto = { at = "img", attr = "src", type = "file" }'
    with pytest.raises(PlanError, match="is filled when rows have been told apart"):
        plan_of(tmp_path, list_plan(fields, more=f"[table.t]\n{rules}\n"))


@pytest.mark.parametrize("duplicates", ["first", "last", "merge"])
def test_a_key_of_personal_data_is_told_nowhere(tmp_path: Path, duplicates: str) -> None:
    plan = list_plan(more=f'[table.t]\nkey = ["name"]\nhash = ["name"]\nduplicates = "{duplicates}"\n')
    with crawled(tmp_path, {"/l": items("Ilsa Tarn", "Ilsa Tarn")}, plan) as done:
        told = json.dumps(Summary(done.run, verify(done.run), []).as_dict())
        shown = done.run.read("duplicates").rows
    assert "twice on one page" in told
    assert "Ilsa" not in told + str(shown)
