"""What plans say about fields and tables, on small pages: parts, labels, lists, code, derived and made columns; read again, traced."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from conftest import Program, serving
from small_host import HEAD, SmallHost, crawled, items, list_plan, plan_of
from wadi.actions.begin import begin
from wadi.actions.crawl import crawl
from wadi.actions.reparse import reparse
from wadi.actions.run import expire
from wadi.actions.trace import Tracer
from wadi.problems import PlanError, UsageError
from wadi.store.outcome import End

BASE = list_plan("")
CODE = """
def turned(text):
    return text[::-1]

def picky(value):
    if value == 2:
        raise ValueError("two")
    return value * 10

def row(row):
    if row["name"] == "c":
        return None
    row["name"] = row["name"].upper()
    return row

def wrong(row):
    return 5

def raises(row):
    return row["nope"]

def adds(row):
    return row | {"nme": "x"}

def mistypes(row):
    return row | {"n": "7 m"}

def endless(row):
    return row | {"n": float("inf")}

def dated(row):
    import datetime
    row["all"].append("x")
    return row | {"day": datetime.date(2026, 3, 1)}

def sees_all(row):
    return row | {"name": row["name"] + str(row["n"])}
"""


def _rows(
    folder: Path, content: str, fields: str, more: str = "", **options: Any
) -> tuple[list[str], list[list[Any]], Any]:
    folder.mkdir(exist_ok=True)
    (folder / "code.py").write_text(CODE)
    with crawled(folder, {"/l": content}, BASE + fields + "\n" + more, top='code = "code.py"\n', **options) as done:
        table = done.run.read()
        return [column.name for column in table.columns], table.rows, table.ledger


BLOCKS = {
    "dl": "<dl><dt>Depth:</dt><dd>12 m</dd><dt>Keepers</dt><dd>Ann</dd><dd>Bo</dd></dl>",
    "dl in divs": "<dl><div><dt>Depth</dt><dd>12 m</dd></div><div><dt>Keepers</dt><dd>Ann</dd><dd>Bo</dd></div></dl>",
    "table": "<table><tr><th>Keepers</th><td>Ann</td></tr><tr><th>Depth :</th><td>12 m</td></tr></table>",
    "four columns": "<table><tr><td>Keepers<td>Ann<td>DEPTH<td>12 m</table>",
    "spans": "<p><b>Depth:</b> <span>12 m</span></p><p><b>Keepers</b>: Ann</p>",
    "tail": "<p><b>Keepers:</b> Ann</p><p><b>Depth:</b> 12 m</p>",
    "lines": "<p>Keepers: Ann<br>Depth: 12 m</p>",
    "full-width colon": "<p>Keepers：Ann</p><p>Depth：12 m</p>",
}


@pytest.mark.parametrize("shape", BLOCKS)
def test_values_stand_beside_their_labels(tmp_path: Path, shape: str) -> None:
    fields = 'depth = { label = ["Tiefe", "depth"], type = "integer", unit = "m" }\nkeeper = { label = "Keepers" }\nx = { label = "Nothing" }'
    _, rows, _ = _rows(tmp_path, f"<ul><li>{BLOCKS[shape]}</li></ul>", fields)
    assert rows == [[12, "Ann", None]]


FIELDS: list[tuple[str, str, list[str], list[Any]]] = [
    ("x 12.5 m deep, 3 basins", "size = { at = '.', find = '(?P<d>[\\d.]+) m deep, (?P<basins>\\d+)', parts = "
     "{ depth = { of = 'd', type = 'number' }, basins = { type = 'integer' } } }", ["depth", "basins"], [12.5, 3]),
    ("x 12.5 m deep, 3 basins", "size = { at = '.', whole = true, find = '(?P<d>[\\d.]+) m', parts = { d = { clean = \"put-behind ' m'\" } } }",
     ["size", "d"], ["12.5", "12.5 m"]),
    ("n/a", "size = { at = '.', find = '(?P<d>\\d+)', parts = { d = { type = 'integer', default = 0 } } }", ["d"], [0]),
    ("a; b ;;c", "tags = { at = '.', many = true, split = ';' }", ["tags"], [["a", "b", "c"]]),
    ("a; b", "tags = { at = '.', many = true, split = ';', join = ' + ' }", ["tags"], ["a + b"]),
    ("1;2;x", "n = { at = '.', many = true, split = ';', type = 'integer' }", ["n"], [[1, 2]]),
    ("gone", "a = { at = '.', missing = ['…', 'gone'] }\nb = { at = '.', missing = 'gone', default = 'z' }", ["a", "b"], [None, "z"]),
    ("<i></i>", "a = { at = 'i', missing = [] }\nb = 'i'\nc = 'u'", ["a", "b", "c"], ["", None, None]),
    ("ab", "a = { at = '.', clean = 'call turned' }", ["a"], ["ba"]),
    ("3", "a = { at = '.', type = 'integer', adjust = ['* 2', 'call picky', '+ 1'] }", ["a"], [61]),
    ("5 €", "a = { at = '.', type = 'money' }", ["a", "a_currency"], [5.0, "EUR"]),
    ("5 €, 6 €", "a = { at = '.', type = 'money', many = true, split = ',' }", ["a", "a_currency"], [[5.0, 6.0], ["EUR", "EUR"]]),
    ("54.5, -2.25", "a = { at = '.', type = 'geopoint' }", ["a", "a_longitude", "a_latitude"], ["-2.25,54.5", -2.25, 54.5]),
    ("5 ft", "a = { at = '.', type = 'number', unit = 'm', units = { ft = 0.3048 } }", ["a"], [1.524]),
    ("<p>A <b>b</b> <script>x()</script><a href='/y' onclick='z()'>l</a></p>", "a = { at = '.', take = 'markdown' }", ["a"],
     ["A **b** [l](/y)"]),
    ("<p>A <b style='x'>b</b><script>x()</script><a href='javascript:z()'>l</a></p>", "a = { at = 'p', take = 'safe html' }", ["a"],
     ["A <b>b</b><a>l</a>"]),
]  # fmt: skip


@pytest.mark.parametrize(("content", "fields", "names", "cells"), FIELDS)
def test_fields(tmp_path: Path, content: str, fields: str, names: list[str], cells: list[Any]) -> None:
    assert _rows(tmp_path, f"<ul><li>{content}</li></ul>", fields)[:2] == (names, [cells])


LI = "<ul><li>a<b>1</b></li><li>b<b>2</b></li><li>c<b>4</b></li></ul>"
TWO = 'name = { at = ".", find = "[a-z]" }\nn = { at = "b", type = "integer" }'


def test_an_exception_of_the_analysts_code_is_a_problem_of_one_cell(tmp_path: Path) -> None:
    names, rows, account = _rows(
        tmp_path, LI, TWO.replace('type = "integer"', 'type = "integer", adjust = "call picky"')
    )
    assert (names, rows) == (["name", "n"], [["a", 10], ["b", None], ["c", 40]])
    _, problem = account.unread_examples["n"]
    assert (problem.code, problem.raw, problem.row) == ("code-failed", "2", 1)
    assert "picky(2), line 7: ValueError: two" in problem.what


def test_a_table_makes_columns_of_its_own(tmp_path: Path) -> None:
    table = '[table.t]\nkey = "name"\nconstant = { year = 2026 }\nrename = { n = "count" }\norigin = ["url", "place"]\n'
    table += 'columns = ["name", "half", "…"]\n[table.t.derive]\nhalf = "n / 2"\nquarter = { formula = "half / 2", type = "number", unit = "m" }\n'
    names, rows, _ = _rows(tmp_path, LI, TWO, table)
    assert names == ["name", "half", "count", "quarter", "year", "origin_url", "origin_place"]
    assert [row[:5] for row in rows] == [["a", 0.5, 1, 0.25, 2026], ["b", 1.0, 2, 0.5, 2026], ["c", 2.0, 4, 1.0, 2026]]
    assert [row[6] for row in rows] == [1, 2, 3]


def test_a_row_function_changes_and_rejects_rows(tmp_path: Path) -> None:
    names, rows, account = _rows(tmp_path, LI, TWO, '[table.t]\ncall = "row"\n')
    assert (names, rows) == (["name", "n"], [["A", 1], ["B", 2]])
    assert account.rejected == 1
    assert [(one.count, one.why) for one in account.reject_ways.values()] == [(1, "row() gave None")]


@pytest.mark.parametrize(
    ("function", "rejected", "cells", "told"),
    [
        ("wrong", 3, [], "wrong() gave 5, and not the row as a dict"),
        ("raises", 3, [], "raises() failed, line 20: KeyError: 'nope'"),
        ("endless", 0, [["a", None], ["b", None], ["c", None]], "endless() gave inf for a column of type integer"),
        ("adds", 0, [["a", 1], ["b", 2], ["c", 4]], 'adds() gave "nme", did you mean "name"?'),
        ("mistypes", 0, [["a", None], ["b", None], ["c", None]], "mistypes() gave '7 m' for a column of type integer"),
    ],
)
def test_what_a_row_function_does_wrong_is_told(
    tmp_path: Path, function: str, rejected: int, cells: list[Any], told: str
) -> None:
    _, rows, account = _rows(tmp_path, LI, TWO, f'[table.t]\ncall = "{function}"\n')
    said = [one.why for one in account.reject_ways.values()] + [one.what for _, one in account.unread_examples.values()]
    assert (rows, account.rejected, said) == (cells, rejected, [told])


@pytest.mark.parametrize(
    ("formula", "kind", "gave"),
    [
        ("name", "number", "'a'"),
        ("n > 1", "date", "False"),
        ("n > 1", "number", "False"),
        ("n / 2", "integer", "0.5"),
        ("10 ** 30", "integer", "1000000000000000000000000000000"),
    ],
)
def test_what_a_formula_gives_is_of_its_columns_type_or_told(
    tmp_path: Path, formula: str, kind: str, gave: str
) -> None:
    table = f'[table.t.derive]\nx = {{ formula = "{formula}", type = "{kind}" }}\n'
    _, rows, account = _rows(tmp_path, LI, TWO, table)
    assert rows[0] == ["a", 1, None]
    assert account.unread_examples["x"][1].what == f"the formula gave {gave} for a column of type {kind}"


def test_dates_of_a_row_function_are_held_as_texts_and_its_lists_are_its_own(tmp_path: Path) -> None:
    fields = 'name = { at = ".", find = "[a-z]" }\nday = { at = "i", type = "date" }\nall = { at = "b", many = true }'
    _, rows, _ = _rows(tmp_path, LI, fields, '[table.t]\ncall = "dated"\n')
    assert rows[0] == ["a", "2026-03-01", ["1", "x"]]


def test_columns_that_are_left_out_help_to_make_others(tmp_path: Path) -> None:
    table = '[table.t]\ncolumns = ["name", "half"]\ncall = "sees_all"\n[table.t.derive]\nhalf = "n / 2"\n'
    table += '[table.t.check]\nwhere = ["n < 4"]\n[table.t.check.columns]\nn = { maximum = 3 }\n'
    names, rows, account = _rows(tmp_path, LI, TWO, table)
    assert (names, rows) == (["name", "half"], [["a1", 0.5], ["b2", 1.0], ["c4", 2.0]])
    assert (account.filled, account.unread) == ({"name": 3, "half": 3}, {})


def test_columns_that_are_left_out_name_files_and_are_carried_into_lists(tmp_path: Path) -> None:
    fields = 'name = "h2"\nn = { at = "b", type = "integer" }\n'
    fields += 'doc = { at = "a", attr = "href", type = "file", name = "{name}-{n}" }\n'
    lists = '[page.list.lists.points]\nrows = "li"\ncarry = ["name", "n"]\nfields = { p = "." }\n[table.t]\ncolumns = ["doc"]\n'
    page = "<section><h2>a</h2><b>3</b><a href='/f.txt'>f</a><ul><li>x<li>y</ul></section>"
    file = (200, {"Content-Type": "text/plain"}, "hello")
    plan = BASE.replace('rows = "li"', 'rows = "section"') + fields + lists
    with crawled(tmp_path, {"/l": page, "/f.txt": file}, plan) as done:
        assert done.run.read().rows == [["downloads/a-3.txt"]]
        assert done.run.read("points").rows == [["a", 3, "x"], ["a", 3, "y"]]


@pytest.mark.parametrize(
    "key", ["constant = { year = 2026 }", 'rename = { n = "count" }', 'hash = ["n"]', 'origin = ["url"]']
)
def test_a_column_that_is_asked_for_and_left_out_is_a_mistake(tmp_path: Path, key: str) -> None:
    with pytest.raises(PlanError) as raised:
        _rows(tmp_path, LI, TWO, f'[table.t]\ncolumns = ["name"]\n{key}\n')
    [problem] = raised.value.problems
    assert (problem.code, "columns leaves it out" in problem.what) == ("unknown-column", True)


def test_personal_data_is_hashed_by_a_key(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    table = '[table.t]\nhash = "name"\nhash_key_from = "HASH_KEY"\n'
    monkeypatch.setenv("HASH_KEY", "one")
    first = [row[0] for row in _rows(tmp_path / "a", LI, TWO, table)[1]]
    again = [row[0] for row in _rows(tmp_path / "b", LI, TWO, table)[1]]
    monkeypatch.setenv("HASH_KEY", "two")
    other = [row[0] for row in _rows(tmp_path / "c", LI, TWO, table)[1]]
    assert first == again
    assert not set(first) & {"a", "b", "c", *other}
    assert len(set(first)) == 3


@pytest.mark.parametrize(
    ("line", "code", "words"),
    [
        ("a = { at = 'b', parts = { x = {} } }", "missing-key", "has parts, but no find"),
        ("a = { at = 'b', find = '(?P<xy>.)', parts = { xz = {} } }", "unknown-column", 'groups of find: "xy"'),
        ("a = { at = 'b', of = 'x' }", "both-keys", "of is for parts"),
        ("a = { at = 'b', split = ',' }", "both-keys", "many = true"),
        ("a = { at = 'b', join = ',' }", "both-keys", "join is for many"),
        ("a = { at = 'b', type = 'number', units = { ft = 0.3 } }", "both-keys", "what they become"),
        ("a = { at = 'b', other_words = true }", "both-keys", "for numbers"),
        ("a = { at = 'b', range = 'low' }", "both-keys", "for numbers"),
        ("a = { at = 'b', currency = 'EUR' }", "both-keys", 'type = "money"'),
        ("a = { at = 'b', type = 'money', currency = 'EURO' }", "wrong-value", "ISO 4217"),
        ("a = { at = 'b', type = 'phone', region = 'XX' }", "wrong-value", "country code"),
        ("a = { at = 'b', type = 'datetime', zone = 'Mars' }", "bad-format", "not known"),
        ("a = { at = 'b', type = 'number', adjust = 'roun 2' }", "bad-step", 'did you mean "round"'),
        ("a = { at = 'b', clean = 'lowr' }", "bad-step", 'did you mean "lower"'),
        ("a = { at = 'b', clean = 'call turnd' }", "bad-code", 'did you mean "turned"'),
        ("a = { at = 'b', type = 'integr' }", "wrong-value", 'did you mean "integer"'),
        ("a = { at = 'b', type = 'money' }\na_currency = 'b'", "double-column", "comes with"),
        ("a = 'b'\n[table.t.derive]\nx = 'a / q'", "unknown-column", '"q"'),
        ("a = 'b'\n[table.t.derive]\nx = 'a /'", "bad-formula", "cannot be read"),
        ("a = 'b'\n[table.t.derive]\na = '1'", "double-column", "comes from a field, too"),
        ("a = 'b'\n[table.t]\nrename = { b = 'c' }", "unknown-column", '"b"'),
        ("a = 'b'\nc = 'b'\n[table.t]\nrename = { a = 'c' }", "double-column", 'called "c"'),
        ("a = 'b'\n[table.t]\nhash = 'z'", "unknown-column", '"z"'),
        ("a = 'b'\n[table.t]\ncall = 'rwo'", "bad-code", 'did you mean "row"'),
        ("a = 'b'\n[limits]\nkeep_pages = 'long'", "wrong-value", "an age is wanted"),
    ],
)
def test_mistakes_of_fields_and_tables_are_named(tmp_path: Path, line: str, code: str, words: str) -> None:
    (tmp_path / "code.py").write_text(CODE)
    with pytest.raises(PlanError) as caught:
        plan_of(tmp_path, BASE + line, top='code = "code.py"\n')
    found = [(p.code, words in str(p), (p.place.line or 0) > 1) for p in caught.value.problems]
    assert found == [(code, True, True)], str(caught.value)


OPEN = 'name = "a"\n[page.list.open]\nmore = "a"\n[page.more]\ncompletes = "t"\nfields = { text = "p" }\n'


def test_stored_pages_are_read_again_and_new_ones_are_counted_and_fetched(tmp_path: Path) -> None:
    pages = {"/l": items("<a href=/1>x</a>", "<a href=/2>y</a>"), "/1": "<p>one", "/2": "<p>two"}
    host = SmallHost(pages)
    with serving(host.application) as site:
        old = begin(plan_of(tmp_path, BASE + 'name = "a"\n', site), tmp_path / "runs")
        with old:
            crawl(old)
            before = len(host.asked)
            new, done = reparse(old, plan_of(tmp_path, BASE + OPEN, site), tmp_path / "runs")
            with new:
                assert (done.read, done.not_fetched) == (1, 2)
                assert len(host.asked) == before
                assert (new.end, new.read().rows) == (End.NOT_FETCHED, [["x", None], ["y", None]])
                crawl(new)
                assert sorted(host.asked[before:]) == ["GET /1", "GET /2"]
                assert new.read().rows == [["x", "one"], ["y", "two"]]
            assert old.read().rows == [["x"], ["y"]], "the old run is as it was"
            twice, done = reparse(
                new.open(new.folder), plan_of(tmp_path, BASE + OPEN, site), tmp_path / "runs", workers=2
            )
            with twice:
                assert done.not_fetched == 0
                assert twice.read().rows == [["x", "one"], ["y", "two"]]


def test_failed_pages_stay_failed_when_read_again(tmp_path: Path) -> None:
    pages = {"/l": items("<a href=/1>x</a>", "<a href=/2>y</a>"), "/1": "<p>one"}
    with crawled(tmp_path, pages, BASE + OPEN) as done:
        new, _ = reparse(done.run, done.run.loaded, tmp_path / "again")
        with new:
            assert new.read().rows == done.rows()
            assert next(iter(new.state.failures())).problem["code"] == "http-status"


def test_many_pages_are_read_again_by_several_processes(tmp_path: Path) -> None:
    pages = {
        f"/l?p={number}": items(number, more=f"<a href='/l?p={number + 1}'>n</a>" if number < 200 else "")
        for number in range(201)
    }
    plan = BASE.replace("/l", "/l?p=0") + 'name = "."\n[page.list.next]\nat = "a"\n'
    with crawled(tmp_path, pages, plan) as done:
        new, count = reparse(done.run, done.run.loaded, tmp_path / "again", workers=2)
        with new:
            assert count.read == 201
            assert new.read().rows == done.rows()


def test_the_program_reads_again_and_traces(program: Program, tmp_path: Path) -> None:
    host = SmallHost({"/l": items("<a href=/1>x</a> <i>12 m</i>", "<a href=/2>y</a> <i>no</i>"), "/1": "<p>one"})
    path = tmp_path / "p.toml"
    with serving(host.application) as site:
        head = HEAD.replace("http://h", site)
        path.write_text(head + BASE + 'name = "a"\nsize = "i"\n')
        assert program.inside("run", path, "-q").status == 0
        path.write_text(
            head + BASE.replace('"li"', '"li.none"') + 'name = "a"\nsize = { at = "i", type = "integer", unit = "m" }\n'
        )
        done = program.inside("reparse", "p", "-o", "none.csv")
        assert done.status == 1
        assert 'no rows on a page without "li.none"' in done.err
        path.write_text(
            head + BASE + 'name = "a"\nsize = { at = "i", type = "integer", unit = "m" }\n[table.t]\nkey = "name"\n'
        )
        done = program.inside("reparse", "p", "-o", "p.csv")
        assert "1 stored page read again" in done.err
        assert "no request sent" in done.err
        assert (tmp_path / "p.csv").read_bytes() == b"name,size\r\nx,12\r\ny,\r\n"
    told = program.inside("trace", "p", "t", "x", "size")
    assert told.status == 0
    for words in ("<i>12 m</i>", "type: integer", "= 12", "row 1 on it", "status 200"):
        assert words in told.out
    cells = json.loads(program.inside("trace", "p", "t", "2", "--json").out)["cells"]
    assert cells[1]["value"] is None
    assert "not readable" in cells[1]["steps"][-1]["value"]
    for wrong, words in (
        (("p", "t", "3"), "no row 3"),
        (("p", "t", "x", "siz"), 'did you mean "size"'),
        (("p", "u", "1"), 'no table "u"'),
    ):
        refused = program.inside("trace", *wrong)
        assert (refused.status, words in refused.err) == (2, True), refused.err


def test_merged_and_carried_cells_are_traced(tmp_path: Path) -> None:
    content = "<ul><li>a<b>1</b></li><li>a<i>x</i><u>k</u><u>l</u></li></ul>"
    plan = (
        BASE
        + 'name = { at = ".", find = "^[a-z]" }\nn = "b"\nm = "i"\n[page.list.lists.keepers]\nrows = "u"\ncarry = "name"\nfields = { who = "." }\n'
    )
    plan += '[table.t]\nkey = "name"\nduplicates = "merge"\nhistory = true\n'
    plan += 'origin = ["url", "time", "place"]\nhash = ["n"]\n'
    with crawled(tmp_path, {"/l": content}, plan) as done:
        assert [[row[0], row[2]] for row in done.rows()] == [["a", "x"]]
        tracer = Tracer(done.run)
        for table in ("t", "keepers"):
            _, assembly, placed = tracer.row(table, "1")
            for place in range(len(assembly.columns)):
                trace = tracer.cell(table, assembly, placed, place)
                assert trace.value == trace.final, trace
        with pytest.raises(UsageError):
            tracer.row("t", "nothing=1")


def test_the_pieces_of_a_text_are_rows_of_a_table(tmp_path: Path) -> None:
    content = "<ul><li>a<i>x 1; y 2</i></li><li>b<i> </i></li><li>c<i>z</i></li></ul>"
    plan = (
        BASE
        + 'name = { at = ".", find = "^[a-z]" }\n[page.list.lists.parts]\nrows = "i"\nsplit = ";"\ncarry = "name"\n'
    )
    plan += "fields = { what = { at = '.', find = '[a-z]' }, n = { at = '.', find = '[0-9]', type = 'integer', missing = ['…', 'z'] } }\n"
    with crawled(tmp_path, {"/l": content}, plan) as done:
        assert done.rows("parts") == [["a", "x", 1], ["a", "y", 2], ["c", "z", None]]
        tracer = Tracer(done.run)
        _, assembly, placed = tracer.row("parts", "2")
        assert [tracer.cell("parts", assembly, placed, place).value for place in range(3)] == ["a", "y", 2]


def test_old_pages_expire_and_rows_stay(tmp_path: Path, program: Program) -> None:
    with crawled(tmp_path, {"/l": items("a")}, BASE + 'name = "."\n[limits]\nkeep_pages = "1 d"\n') as done:
        from datetime import datetime, timedelta

        now = datetime.now().astimezone()
        assert expire(done.run, now) == 0
        assert expire(done.run, now + timedelta(days=2)) > 0
        assert done.rows() == [["a"]]
    listed = program.inside("runs", "--expire")
    assert (listed.status, "0 runs expired" in listed.err) == (0, True)
