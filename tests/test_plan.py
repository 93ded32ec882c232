"""The plan: positions, mistakes at their places, lint's rules, starts, the schema."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import EXAMPLES, Program
from wadi.plan.columns import columns, tables_of
from wadi.plan.model import Plan, json_schema
from wadi.plan.positions import Positions
from wadi.plan.reader import LoadedPlan, load_plan, parse_plan
from wadi.plan.starts import starts_of
from wadi.problems import MEANINGS, PlanError, Problem, UsageError

GOOD = """\
wadi = 1
[inputs]
site = "http://h"
[start]
page = "list"
addresses = "{+site}/list"
[page.list]
rows = "li"
table = "springs"
[page.list.fields]
code = "b"
[page.list.open]
spring = "a"
[page.spring]
completes = "springs"
[page.spring.fields]
depth = { at = "//dd", type = "number", locale = "en" }
[table.springs]
key = "code"
"""


@pytest.mark.parametrize(
    ("text", "path", "line", "column"),
    [
        ("a = 1", ("a",), 1, 5),
        ("# x\n\n[t]\n a  =  'x'", ("t", "a"), 4, 8),
        ("a.b.c = 1", ("a", "b", "c"), 1, 9),
        ('"a.b" = 1', ("a.b",), 1, 9),
        ('"\\u0061" = 1', ("a",), 1, 12),
        ("t = { x = 1, y = { z = [1, 'a,b', 3] } }", ("t", "y", "z", 2), 1, 35),
        ("a = [\n  1, # one\n  2\n]\nb = 3", ("b",), 5, 5),
        ('a = """\nx = 1\n"quoted" """\nb = 2', ("b",), 4, 5),
        ("a = '''\n[no]\n'''\nb = 2", ("b",), 4, 5),
        ("a = 'x#y' # [z]\nb = 2", ("b",), 2, 5),
        ("[[l]]\nx = 1\n[[l]]\nx = 2\n[l.sub]\ny = 3", ("l", 1, "x"), 4, 5),
        ("[[l]]\nx = 1\n[[l]]\nx = 2\n[l.sub]\ny = 3", ("l", 1, "sub", "y"), 6, 5),
        ("[ a . 'b' ]\nc = 1979-05-27 07:32:00\nd=1", ("a", "b", "d"), 3, 3),
        ("é = 'ü'\nb = 1", ("b",), 2, 5),
    ],
)
def test_everything_in_toml_has_its_place(text: str, path: tuple[str | int, ...], line: int, column: int) -> None:
    tomllib.loads(text if not text.startswith("é") else text.replace("é", '"é"'))
    positions = Positions(text if not text.startswith("é") else text.replace("é", '"é"'))
    spot = positions.spot(path)
    assert spot is not None
    assert positions.line_and_column(spot.value) == (line, column)


_KEYS = st.text("abc_-", min_size=1, max_size=4)
_VALUES = st.recursive(
    st.one_of(st.integers(), st.booleans(), st.text("ab\"'#[]{},= \n\\é", max_size=8)),
    lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(_KEYS, inner, max_size=3)),
    max_leaves=8,
)


def _toml(value: object) -> str:
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, str):
        return json.dumps(value, ensure_ascii=False) if "'" in value or "\n" in value or "\\" in value else f"'{value}'"
    if isinstance(value, list):
        return f"[ {', '.join(map(_toml, value))} ]"
    if isinstance(value, dict):
        return f"{{ {', '.join(f'{k} = {_toml(v)}' for k, v in value.items())} }}"
    return str(value)


@given(st.dictionaries(_KEYS, _VALUES, max_size=4))
def test_every_value_of_any_toml_is_found_where_it_stands(data: dict[str, object]) -> None:
    text = "".join(f"{key} = {_toml(value)}  # note\n" for key, value in data.items())
    assert tomllib.loads(text) == data
    positions = Positions(text)
    for key, value in data.items():
        spot = positions.spots[(key,)]
        assert text.startswith(_toml(value), spot.value)
        assert text.startswith(key, spot.key)


def _problems(text: str) -> list[Problem]:
    with pytest.raises(PlanError) as bad:
        parse_plan(text, "p.toml")
    return list(bad.value.problems)


def test_a_good_plan_is_read() -> None:
    loaded = parse_plan(GOOD, "p.toml")
    assert loaded.plan.manners.pause == 1.0
    assert tables_of(loaded.plan) == ["springs"]
    assert [(c.name, c.type, c.pages) for c in columns(loaded.plan, "springs")] == [
        ("code", "string", ("list",)),
        ("depth", "number", ("spring",)),
    ]
    assert loaded.place("page", "list", "rows") == "p.toml:8"


@pytest.mark.parametrize(
    ("old", "new", "code", "place", "telling"),
    [
        ("rows = ", "rosw = ", "unknown-key", "8:1", 'did you mean "rows"'),
        ("wadi = 1", "wadi = 2", "wrong-value", "1:8", "wadi"),
        ("wadi = 1\n", "", "missing-key", "1", '"wadi" is missing'),
        ('page = "list"\n', "", "missing-key", "4:2", '"page" is missing'),
        ('table = "springs"', "table = 3", "wrong-type", "9:9", "table: expected a text, got 3"),
        ('rows = "li"', 'rows = "li["', "bad-expression", "8:12", "expected"),
        ('rows = "li"', 'rows = ["ul > li", "//li["]', "bad-expression", "8:26", "XPath"),
        ('code = "b"', 'code = "//b"', "whole-document", "11:9", "whole document"),
        ('code = "b"', 'code = { at = "b", find = "(" }', "bad-regex", "11:28", "unterminated"),
        ('code = "b"', 'code = { at = "b", clean = "aftr x" }', "bad-step", "11:29", 'did you mean "after"'),
        ('code = "b"', 'code = { at = "b", type = "nubmer" }', "wrong-value", "11:27", 'did you mean "number"'),
        ('code = "b"', 'code = { at = "b", locale = "xx_q", type = "number" }', "bad-locale", "11:29", "xx_q"),
        ('code = "b"', 'code = { at = "b", type = "date", format = "QQ" }', "bad-format", "11:45", "QQ"),
        ('code = "b"', 'code = { type = "date" }', "missing-key", "11:8", "neither at nor from"),
        ('code = "b"', 'code = { from = "pge" }', "wrong-value", "11:17", "no source"),
        ('code = "b"', 'code = { from = "url", at = "b" }', "both-keys", "11:17", "takes no at"),
        ('code = "b"', 'code = { from = "page" }', "both-keys", "11:17", "needs at"),
        ('code = "b"', 'code = { from = "input.x" }', "unset-input", "11:17", 'input "x"'),
        ('code = "b"', 'code = { at = "b", attr = "x", take = "html" }', "both-keys", "11:32", "exclude"),
        ('code = "b"', 'code = { at = "b", else = "x" }', "missing-key", "11:20", "no map"),
        ('code = "b"', 'code = "b"\nnext = "a"', "wrong-heading", "12:1", "key of the page"),
        ('code = "b"', 'code = "b"\n"1x" = "a"', "wrong-value", "12:8", "begins with a letter"),
        ('code = "b"', 'code = "b"\ndepth = "i"', "double-column", "18:1", 'prefer = "spring"'),
        ('spring = "a"', 'sprng = "a"', "unknown-page", "13:1", 'did you mean "spring"'),
        ("[page.list.open]\nspring = \"a\"", "", "unopened-page", "13:7", "nothing opens"),
        ('page = "list"', 'page = "lsit"', "unknown-page", "5:8", 'did you mean "list"'),
        ('completes = "springs"', 'completes = "spring"', "unknown-table", "15:13", 'did you mean "springs"'),
        ("[table.springs]", "[table.wells]", "unknown-table", "18:1", "wells"),
        ('key = "code"', 'key = "cod"', "unknown-column", "19:7", 'did you mean "code"'),
        ('key = "code"', 'columns = ["…", "x"]', "unknown-column", "19:17", "no column"),
        ("{+site}", "{+host}", "unset-input", "6:16", 'input "host"'),
        ("{+site}/list", "{+site/list", "bad-template", "6:13", "brace"),
        ('"http://h"', '"ftp://h"', "bad-url", "6:13", "ftp"),
        ('"http://h"', '"nowhere"', "bad-url", "6:13", "not absolute"),
        ('site = "http://h"', 'site = "http://h"\nsiet = 1', "unused-input", "4:1", 'did you mean "site"'),
        ("[start]", "[manners]\npause = 'soon'\n[start]", "wrong-value", "5:9", "length of time"),
        ("[start]", "[manners]\nparallel = 900\n[start]", "wrong-value", "5:12", "less than or equal to 64"),
        ("[start]", "[limits]\npage_size = 'big'\n[start]", "wrong-value", "5:13", "size is wanted"),
        ('table = "springs"\n[page', 'table = "springs"\ncompletes = "springs"\n[page', "both-keys", "10:1", "exclude"),
        ("completes", "table = 'x'\nexpect = 'a'\nempty = 'b'\nrows = 'c'\ncompletes", "both-keys", "19:1", "exclude"),
        ('table = "springs"', "", "missing-key", "7:7", "has fields, but no table"),
        ('rows = "li"', 'rows = "li"\nnext = { at = "a", rel = "next" }', "both-keys", "9:1", "mixes 2 methods (at or text and rel)"),
        ('rows = "li"', 'rows = "li"\nnext = { end_at = "i" }', "missing-key", "9:1", "does not say how"),
        ('rows = "li"', 'rows = "li"\nnext = { count = { parameter = "p", step = 0 } }', "wrong-value", "9:44", "again and again"),
        ('rows = "li"', 'next = { count = { parameter = "p" } }', "missing-key", "8:10", "there are no rows"),
        ('rows = "li"', 'rows = "li"\nnext = { count = { paramter = "p" } }', "unknown-key", "9:20", 'did you mean "parameter"'),
        ('rows = "li"', 'rows = "li"\nnext = { send = { c = "li[" } }', "bad-expression", "9:27", "expected"),
    ],
)  # fmt: skip
def test_each_mistake_is_named_at_its_place(old: str, new: str, code: str, place: str, telling: str) -> None:
    assert old in GOOD
    found = _problems(GOOD.replace(old, new, 1))
    assert [str(p) for p in found if p.code == code and str(p.place) == f"p.toml:{place}" and telling in str(p)], found


def test_problem_codes_all_have_a_meaning_and_none_else() -> None:
    with pytest.raises(ValueError, match="no meaning"):
        Problem("unheard-of", "x")
    reference = (Path(__file__).parent.parent / "docs" / "problems.md").read_text("utf-8")
    assert [code for code in MEANINGS if f"`{code}`" not in reference] == []


@pytest.mark.parametrize(
    ("text", "place", "telling"),
    [
        ("a = = 1", "p.toml:1:5", "invalid value"),
        ("[a\n", "p.toml:1:3", "expected"),
        ("a = 1\na = 2", "p.toml:2:6", "overwrite"),
    ],
)
def test_what_is_not_toml_says_where(text: str, place: str, telling: str) -> None:
    (problem,) = _problems(text)
    assert (problem.code, str(problem.place)) == ("not-toml", place)
    assert telling in problem.what.lower()


@given(st.text(alphabet="wadi=1[]{}\"'.#\n page.rows,table", max_size=60))
def test_any_text_is_a_plan_or_a_list_of_mistakes(text: str) -> None:
    try:
        assert isinstance(parse_plan(text, "p.toml"), LoadedPlan)
    except PlanError as error:
        assert error.problems


@given(st.recursive(st.one_of(st.none(), st.booleans(), st.integers(), st.text(max_size=5)),
                    lambda inner: st.one_of(st.lists(inner, max_size=3),
                                            st.dictionaries(st.sampled_from(["page", "fields", "at", "open", "next", "x"]), inner, max_size=3)),
                    max_leaves=12))  # fmt: skip
def test_any_value_in_any_place_is_a_mistake_and_no_fault(value: object) -> None:
    text = _toml_without_none(value)
    for line in (f"page.list = {text}", f"page.list.fields = {text}", f"start = {text}", f"table.t = {text}"):
        try:
            parse_plan(f"wadi = 1\n{line}\n", "p.toml")
        except PlanError as error:
            assert all(problem.place.line for problem in error.problems)


def _toml_without_none(value: object) -> str:
    if value is None:
        return "'none'"
    if isinstance(value, list):
        return f"[{', '.join(map(_toml_without_none, value))}]"
    if isinstance(value, dict):
        return f"{{{', '.join(f'{k} = {_toml_without_none(v)}' for k, v in value.items())}}}"
    return json.dumps(value) if isinstance(value, str) else _toml(value)


def _plan_of(addresses: list[str], inputs: dict[str, Any]) -> Plan:
    start = {"page": "p", "addresses": addresses}
    return Plan.model_validate({"wadi": 1, "inputs": inputs, "start": start, "page": {"p": {"rows": "li"}}})


def test_starts_are_every_combination_in_reading_order() -> None:
    inputs = {"a": ["1", "2"], "b": ["x", "y"], "c": True, "z": "q"}
    assert [start.request.url for start in starts_of(_plan_of(["http://h/{a}{?b,c}", "http://h/x"], inputs))] == [
        "http://h/1?b=x&c=true",
        "http://h/1?b=y&c=true",
        "http://h/2?b=x&c=true",
        "http://h/2?b=y&c=true",
        "http://h/x",
    ]


def test_rows_of_a_file_keep_their_columns_together() -> None:
    rows = [{"slug": "a", "name": "A"}, {"slug": "b", "name": "B"}]
    plan = _plan_of(["http://h/{place.slug}/{year}"], {"place": rows, "year": [1, 2], "left": ["x"]})
    starts = list(starts_of(plan))
    assert [start.request.url for start in starts] == ["http://h/a/1", "http://h/a/2", "http://h/b/1", "http://h/b/2"]
    assert starts[2].inputs == {"place.slug": "b", "place.name": "B", "year": 1}


FILES = """wadi = 1
[inputs]
site = "http://h"
place = { file = "FILE" }
[start]
page = "p"
addresses = "{+site}/{WHAT}"
[page.p]
table = "t"
[page.p.fields]
x = "b"
"""


@pytest.mark.parametrize(
    ("name", "content", "what", "wanted"),
    [
        ("a.csv", b"slug,name\na,A\n\nb,B\n", "place.slug", ["http://h/a", "http://h/b"]),
        ("a.csv", "\ufeffslug;name\na;Ä\n".encode(), "place.name", ["http://h/%C3%84"]),
        ("a.csv", "slug;name\na;Ärger und große Flüsse\n".encode("windows-1252"), "place.slug", ["http://h/a"]),
        ("a.tsv", b"slug\tname\na\tx,y\n", "place.name", ["http://h/x%2Cy"]),
        ("a.txt", b"a\n\n b \n", "place", ["http://h/a", "http://h/b"]),
    ],
)
def test_inputs_from_files(tmp_path: Path, name: str, content: bytes, what: str, wanted: list[str]) -> None:
    (tmp_path / name).write_bytes(content)
    (tmp_path / "p.toml").write_text(FILES.replace("FILE", name).replace("WHAT", what))
    loaded = load_plan(tmp_path / "p.toml")
    assert [start.request.url for start in starts_of(loaded.plan)] == wanted


@pytest.mark.parametrize(
    ("name", "content", "what", "code", "telling"),
    [
        ("none.csv", None, "place.slug", "bad-input-file", "no such file"),
        ("a.csv", b"", "place.slug", "bad-input-file", "first line"),
        ("a.csv", b"slug,slug\na,b\n", "place.slug", "bad-input-file", "each once"),
        ("a.csv", b"slug,name\n", "place.slug", "bad-input-file", "no rows"),
        ("a.csv", b"slug,name\na\n", "place.slug", "bad-input-file", "a.csv:2: 1 cells"),
        ("a.txt", b"\n", "place", "bad-input-file", "is empty"),
        ("a.csv", b"slug,name\na,b\n", "place.slgu", "unset-input", 'did you mean "place.slug"'),
        ("a.csv", b"slug,name\na,b\n", "place", "unset-input", "place"),
        ("a.txt", b"a\n" * 1_000_001, "place", "too-many-starts", "1,000,001 addresses"),
    ],
)
def test_files_of_inputs_that_are_wrong(
    tmp_path: Path, name: str, content: bytes | None, what: str, code: str, telling: str
) -> None:
    if content is not None:
        (tmp_path / name).write_bytes(content)
    (tmp_path / "p.toml").write_text(FILES.replace("FILE", name).replace("WHAT", what))
    with pytest.raises(PlanError) as bad:
        load_plan(tmp_path / "p.toml")
    assert [(p.code, telling in str(p)) for p in bad.value.problems] == [(code, True)], str(bad.value)


def test_inputs_from_outside_go_over_the_plans(tmp_path: Path) -> None:
    (tmp_path / "p.toml").write_text(GOOD)
    assert load_plan(tmp_path / "p.toml", {"site": "http://other"}).inputs["site"] == "http://other"
    with pytest.raises(PlanError, match='--input district: the plan has no input "district"'):
        load_plan(tmp_path / "p.toml", {"district": "east"})


def test_files_that_are_no_plan_say_why(tmp_path: Path) -> None:
    (tmp_path / "springs.toml").write_text(GOOD)
    (tmp_path / "latin.toml").write_bytes(b'wadi = 1\ntitle = "caf\xe9"\n')
    with pytest.raises(UsageError, match=r"did you mean .*springs\.toml"):
        load_plan(tmp_path / "sprngs.toml")
    with pytest.raises(UsageError, match="folder"):
        load_plan(tmp_path)
    with pytest.raises(PlanError, match=r"latin\.toml:2:13: byte 0xe9 is not UTF-8"):
        load_plan(tmp_path / "latin.toml")


def test_every_example_is_a_good_plan_and_fits_the_schema() -> None:
    for path in EXAMPLES.glob("*.toml"):
        load_plan(path)
    properties = json_schema()["properties"]
    assert {"wadi", "start", "page", "table"} <= set(properties)


EIGHT = """\
wadi = 1
[start]
page = "lisst"
addresses = ["{+site}/list"]
[manners]
pause = "soon"
[page.list]
rows = "li["
tabel = "springs"
[page.list.fields]
code = { at = "b", clena = "lower" }
flow = { at = "//b", type = "number" }
day = { at = "time", type = "date", format = "d QQ y" }
"""


def test_lint_names_all_mistakes_with_their_lines(program: Program) -> None:
    (program.folder / "p.toml").write_text(EIGHT)
    done = program("lint", "p.toml")
    assert done.status == 2
    assert done.out == ""
    for place in ("3:8", "4:17", "6:9", "8:12", "9:1", "11:20", "12:16", "13:49"):
        assert f"p.toml:{place}: " in done.err
    shown = json.loads(program("lint", "p.toml", "--json").out)
    assert shown["format"] == 1
    assert len(shown["problems"]) >= 8


def test_lint_is_content_with_the_bundled_plan(program: Program) -> None:
    done = program("lint", EXAMPLES / "springs.toml")
    assert (done.status, done.out) == (0, "")
    assert 'no mistakes. 2 page kinds, 1 table: "springs" with 14 columns' in done.err


def test_the_schema_is_printed(program: Program) -> None:
    assert json.loads(program("schema").out)["title"] == "Wadi plan"
