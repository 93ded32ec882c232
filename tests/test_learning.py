"""Learning rows and fields from values that a person sees, and what is drafted of them."""

from __future__ import annotations

import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Program
from corpus.details import DETAILS, Detail
from corpus.host import wrong_columns
from corpus.listings import LISTINGS, Listing
from corpus.reading import HOST, opened, table_by
from draft_figures import examples_of
from wadi.learn.clues.class_names import Worth, stem, worth
from wadi.learn.clues.patterns import found_in, patterns_for
from wadi.learn.clues.sameness import says
from wadi.learn.drafts.drafting import Asked, draft_page
from wadi.learn.examples.learned import Learned, learn
from wadi.learn.examples.learned_json import learn_json
from wadi.page.document import read_document

MISSED = {
    "cards-linked-whole", "cards-sentence", "table-of-layout", "lines-of-text", "d-cards", "d-sentence", "d-linked-data",
}  # fmt: skip
"""Pages of which a draft without examples lacks a column: parts of a text, a text between elements, a label below its value."""


@pytest.mark.parametrize("page", [*LISTINGS, *DETAILS], ids=lambda page: page.name)
def test_two_records_give_the_whole_table(page: Listing | Detail) -> None:
    examples = examples_of(page.shown())[: 2 if isinstance(page, Listing) else 1]
    text = draft_page(opened(page), Asked(examples)).text
    assert wrong_columns(page.truth(HOST), table_by(text, page), by_name=True) == {}, text


@pytest.mark.parametrize("page", [*LISTINGS, *DETAILS], ids=lambda page: page.name)
def test_the_best_guess_gives_the_whole_table(page: Listing | Detail) -> None:
    text = draft_page(opened(page)).text
    wrong = wrong_columns(page.truth(HOST), table_by(text, page), by_name=False)
    assert bool(wrong) == (page.name in MISSED), f"{wrong}\n{text}"


ROWS = "".join(
    f'<li class="spring"><h3 class="title">{name}</h3><span class="code">MW-{n}</span>{flow}<p>Depth {n + 30} m, {where}.</p></li>'
    for n, (name, flow, where) in enumerate(
        [
            ("Ash Well", '<b class="flow">2.2 l/s</b>', "Saltholm"),
            ("Iron Rise", "", "Thornmere"),
            ("Ash Well", '<b class="flow">7.1 l/s</b>', "Ashwater"),
            ("Deer Pool", '<b class="flow">0.4 l/s</b>', "Saltholm"),
            ("Old Head", '<b class="flow">12.0 l/s</b>', "Saltholm"),
        ],
        11,
    )
)
PAGE = f"""<html lang=en><body><ul class="menu"><li>Home</li><li>Ash Well</li></ul>
<ul class="register"><li class="spring notice"><h3 class="title">Closed on Sunday</h3></li>{ROWS}</ul></body></html>"""


def _learned(page: str, *examples: dict[str, str], **said: Any) -> Learned | None:
    return learn(read_document(page.encode(), "http://h/", "text/html"), examples, **said)


def _plans(found: Learned | None) -> dict[str, str]:
    assert found is not None
    return {one.guess.name: one.guess.as_plan() for one in found.fields}


@pytest.mark.parametrize(
    ("examples", "plans"),
    [
        ([{"name": "Ash Well", "flow": "2.2 l/s"}, {"name": "Deer Pool", "flow": "0.4 l/s"}], {"name": '".title"', "flow": '{ at = ".flow", type = "number", locale = "en", unit = "l/s" }'}),
        # A field that the first example lacks.
        ([{"name": "Iron Rise"}, {"name": "Old Head", "flow": "12.0 l/s"}], {"name": '".title"', "flow": '{ at = ".flow", type = "number", locale = "en", unit = "l/s" }'}),
        # The third record has the name of the first.
        ([{"name": "Ash Well", "code": "MW-13"}, {"name": "Ash Well", "code": "MW-11"}], {"name": '".title"', "code": '".code"'}),
        # A value in another form than the page has it, and parts of a text.
        ([{"flow": "2.2", "depth": "41"}, {"flow": "7.1", "depth": "43"}], {"flow": '{ at = ".flow", type = "number", locale = "en", unit = "l/s" }', "depth": """{ at = "p", find = 'Depth\\s+(.+?)\\s+m', type = "integer" }"""}),
        ([{"where": "Saltholm", "code": "MW-11"}, {"where": "Ashwater", "code": "MW-13"}], {"where": """{ at = "p", find = ',\\s+(.+?)\\.' }""", "code": '".code"'}),
    ],
    ids=["two", "missing in the first", "equal names", "other forms", "part of a text"],
)  # fmt: skip
def test_fields_are_learned(examples: list[dict[str, str]], plans: dict[str, str]) -> None:
    found = _learned(PAGE, *examples)
    assert _plans(found) == plans
    assert found is not None
    assert found.rows is not None
    assert found.rows.count in (5, 6)


def test_how_sure_the_rows_are_is_told() -> None:
    groups = "".join(
        f"<div class=g><h2>D{d}</h2>{''.join(f'<p><b>S{d}{n}</b> <i>{d * n} m</i></p>' for n in range(4))}</div>"
        for d in range(1, 4)
    )
    one, two = _learned(groups, {"name": "S10"}), _learned(groups, {"name": "S10"}, {"name": "S21"})
    assert one is not None
    assert two is not None
    assert (one.rating, two.rating, two.held) == ("likely", "sure", 2)
    assert one.other_rows is not None
    text = draft_page(opened(LISTINGS[0]), Asked(examples_of(LISTINGS[0].shown()))).text
    assert "# 10 on this page; sure: 2 of the records named are in one each" in text


def test_patterns_are_not_searched_in_texts_without_end() -> None:
    assert found_in("a(.+?)b", "a" * 5_000_000) == ""


def test_what_is_no_row_is_kept_out() -> None:
    examples = {"name": "Ash Well", "code": "MW-11"}, {"name": "Deer Pool", "code": "MW-14"}
    found = _learned(PAGE, *examples, without=["Closed on Sunday"])
    assert found is not None
    assert found.rows is not None
    assert found.rows.count == 5
    assert "Closed on Sunday" not in {row.text for row in found.rows.rows}


def test_the_count_decides_between_rows_and_what_holds_them() -> None:
    groups = "".join(
        f"<div class=g><h2>D{d}</h2>{''.join(f'<p class=s><b>S{d}{n}</b> <i>{d * n} m</i></p>' for n in range(4))}</div>"
        for d in range(1, 4)
    )
    first, second = {"name": "S10", "depth": "0 m"}, {"name": "S21", "depth": "2 m"}
    rows = [
        found.rows.count for count in (12, 3) if (found := _learned(groups, first, second, count=count)) and found.rows
    ]
    assert rows == [12, 3]


def test_how_sure_it_is_is_told() -> None:
    twice = "".join(f"<li><b>S{n}</b><i class=a>{n % 2} m</i><i class=b>{n % 3 and 1} m</i></li>" for n in range(8))
    found = _learned(f"<ul>{twice}</ul>", {"name": "S1", "depth": "1 m"})
    assert found is not None
    ratings = {one.guess.name: (one.rating, one.reason) for one in found.fields}
    assert ratings["name"][0] == "likely"
    assert ratings["depth"][0] == "a guess"
    assert ".b gives the examples, too, and differs elsewhere" in ratings["depth"][1]
    sure = _learned(
        f"<ul>{twice}</ul>",
        {"name": "S1", "depth": "1 m"},
        {"name": "S3", "depth": "1 m"},
        {"name": "S2", "depth": "0 m"},
    )
    assert sure is not None
    assert [one.rating for one in sure.fields] == ["sure", "sure"]


def test_values_that_are_nowhere_are_named() -> None:
    found = _learned(PAGE, {"name": "Ash Well", "keeper": "K. Pike"}, {"name": "Deer Pool"})
    assert found is not None
    assert found.unseen == {"keeper": "K. Pike"}
    assert _learned(PAGE, {"keeper": "K. Pike"}) is None


def test_one_record_of_a_page_about_one_thing() -> None:
    page = '<nav><a href="/">Home</a></nav><h1>Ash Well</h1><dl><dt>Flow<dd>2.2 l/s<dt>Depth<dd>11 m</dl><p class=code>MW-11</p>'
    found = _learned(page, {"name": "Ash Well", "flow": "2.2 l/s", "code": "MW-11"})
    assert found is not None
    assert found.rows is None
    assert _plans(found) == {
        "name": '"h1"', "flow": '{ label = "Flow", type = "number", locale = "en", unit = "l/s" }', "code": '".code"',
    }  # fmt: skip


@pytest.mark.parametrize(
    ("data", "examples", "rows", "plans"),
    [
        ({"all": [{"id": n, "at": {"day": f"2026-03-0{n}"}} for n in range(1, 6)]}, [{"day": "2 March 2026"}, {"day": "4 March 2026"}], "$.all[*]", {"day": '{ at = "$.at.day", type = "date" }'}),
        ({f"MW-{n}": {"flow": n / 2} for n in range(1, 6)}, [{"code": "MW-1", "flow": "0.5"}, {"code": "MW-3", "flow": "1.5"}], "$.*", {"code": '{ from = "key" }', "flow": '{ at = "$.flow", type = "number" }'}),
        ({"of": [{"a": 1}, {"a": 2}], "rows": [["A", 1], ["B", 2], ["C", 3]]}, [{"name": "A", "n": "1"}, {"name": "C", "n": "3"}], "$.rows[*]", {"name": '"$[0]"', "n": '{ at = "$[1]", type = "integer" }'}),
    ],
    ids=["nested", "a map", "lists"],
)  # fmt: skip
def test_json_is_learned(data: Any, examples: list[dict[str, str]], rows: str, plans: dict[str, str]) -> None:
    found = learn_json(data, examples)
    assert found is not None
    assert found[0].expression == rows
    assert {one.guess.name: one.guess.as_plan() for one in found[1]} == plans


@pytest.mark.parametrize(
    ("text", "value", "expected"),
    [
        ("12,4 l/s", "12.4", True), ("1,204.5 m", "1204.5", True), ("1.204", "1204", True), ("1.204", "1.204", True),
        ("4 March 2026", "2026-03-04", True), ("04.03.2026", "2026-03-04", True), ("4 mars 2026", "2026-03-05", False),
        ("12 of 40", "12", False), ("Ash Well", "12", False), ("", "1", False), ("3 m", "4", False),
    ],
)  # fmt: skip
def test_a_value_in_another_form_is_the_same(text: str, value: str, expected: bool) -> None:
    assert says(text, value) is expected


@pytest.mark.parametrize(
    ("token", "expected"),
    [
        ("price", Worth.NAMED), ("spring-card__code", Worth.NAMED), ("col_name", Worth.NAMED), ("cardTitle", Worth.NAMED),
        ("h2o", Worth.NAMED), ("عمق", Worth.NAMED), ("px-4", Worth.LAYOUT), ("text-sm", Worth.LAYOUT), ("odd", Worth.LAYOUT),
        ("hover:underline", Worth.LAYOUT), ("css-1q2w3e", Worth.MADE), ("_card_1x9fz_23", Worth.MADE), ("sc-bdVaJa", Worth.MADE),
        ("kNzYqL", Worth.MADE), ("x1n2onr6", Worth.MADE), ("a81bc81bdead", Worth.MADE),
    ],
)  # fmt: skip
def test_class_names_are_told_apart(token: str, expected: Worth) -> None:
    assert worth(token) is expected


def test_the_named_part_of_a_made_name_is_kept() -> None:
    assert [stem(token) for token in ("_card_1x9fz_23", "spring_title__x81fq2", "css-1q2w3e", "price")] == [
        "_card_",
        "spring_title_",
        "",
        "",
    ]


@given(
    st.tuples(st.text("ab .,:(\\[", max_size=8), st.text("ab .,:)*$", max_size=8)),
    st.lists(st.text("xyz09", min_size=1, max_size=6), min_size=1, max_size=3, unique=True),
)
def test_a_learned_pattern_gives_the_values(around: tuple[str, str], values: list[str]) -> None:
    examples = [(f"{around[0]}{value}{around[1]}", value) for value in values]
    for pattern in list(patterns_for(examples))[:5]:
        assert [found_in(pattern, text).casefold() for text, _ in examples] == [value.casefold() for value in values]


REGISTER = "register.html"


@pytest.fixture
def page(program: Program) -> Program:
    (program.folder / REGISTER).write_text(PAGE, "utf-8")
    return program


def test_the_command_learns_from_rows(page: Program) -> None:
    done = page(
        "draft",
        REGISTER,
        "--row",
        "name=Ash Well",
        "flow=2.2",
        "--row",
        "name=Deer Pool",
        "--not",
        "Closed on Sunday",
        "-o",
        "p.toml",
    )
    assert done.status == 0, done.err
    assert ["name", "sure", "5", "of", "5", "by", "its", "class"] in [line.split() for line in done.err.splitlines()]
    assert "p.toml: drafted; next:  wadi preview p.toml" in done.err
    assert "Iron Rise" in done.err  # the preview
    rows = json.loads(page("preview", "p.toml", "--json").out)["tables"][0]["rows"]
    assert rows == [["Ash Well", 2.2], ["Iron Rise", None], ["Ash Well", 7.1], ["Deer Pool", 0.4], ["Old Head", 12.0]]


def test_the_command_takes_marks_of_inspect(page: Program) -> None:
    shown = page("inspect", REGISTER).out
    mark = next(line.split()[0] for line in shown.splitlines() if '= ".code"' in line)
    text = page("draft", REGISTER, "--fields", f"{mark}=number", "-q").out
    assert 'number = ".code"' in text
    assert "title" not in text.partition("[page.list.fields]")[2]
    assert ".code" in page("draft", REGISTER, "--group", "a", "-q").out


@pytest.mark.parametrize(
    ("words", "status", "said"),
    [
        (["--row", "name"], 2, '--row "name" is no NAME=VALUE [bad-option]'),
        (["--row", "name=Nobody"], 2, 'none of the values is on this page: "Nobody" [not-on-page]'),
        (
            ["--row", "name=Ash Well", "keeper=Nobody"],
            1,
            'keeper: "Nobody" is not on this page: the column is left out',
        ),
        (["--group", "Q"], 2, "there is no group Q on this page [unknown-mark]"),
        (["--fields", "A77=x"], 2, "there is no field A77 in group A [unknown-mark]"),
        (["--fields", "nonsense"], 2, '--fields: "nonsense" is no mark of a field [bad-option]'),
        (["--fields", "B1=x", "--group", "A"], 2, "--fields names fields of another group than A [bad-option]"),
        (["--row", "name=Ash Well", "--group", "A"], 2, "one of both [bad-option]"),
        (["--not", "x"], 2, "that needs a --row [bad-option]"),
    ],
)
def test_what_cannot_be_learned_is_said(page: Program, words: list[str], status: int, said: str) -> None:
    done = page("draft", REGISTER, *words)
    assert (done.status, said in done.err) == (status, True), done.err


HEADED = "<h2>Monday</h2><ul><li><b>Ash</b><i>3:1</i></li><li><b>Bea</b><i>2:2</i></li></ul><h2>Tuesday</h2><ul><li><b>Cem</b><i>1:0</i></li><li><b>Dee</b><i>0:4</i></li></ul>"
MERGED = (
    "<table><tr><th>Gebiet</th><th>Ort</th><th>Sommer</th></tr>"
    "<tr><td rowspan=3>Nord</td><td>Husum</td><td>13,5</td></tr><tr><td>Kiel</td><td>14,0</td></tr><tr><td>Flensburg</td><td>14,2</td></tr>"
    "<tr><td rowspan=3>Süd</td><td>Ulm</td><td>17,5</td></tr><tr><td>Passau</td><td>18,1</td></tr><tr><td>Lindau</td><td>17,9</td></tr></table>"
)
PRICES = (
    "<ul>"
    + "".join(
        f"<li><b>{name}</b><i class=p>{said}</i></li>"
        for name, said in (("Ada", "ab 12,50 €"), ("Bea", "13,50 €"), ("Cem", "14,50 €"))
    )
    + "</ul>"
)
KEPT = "<h1>Wells of Saltholm</h1>" + "<ul>" + "".join(f"<li><b>W{n}</b><i>{n} m</i></li>" for n in range(4)) + "</ul>"


@pytest.mark.parametrize(
    ("page", "examples", "plans"),
    [
        (HEADED, [{"day": "Monday", "home": "Ash", "away": "3:1"}, {"day": "Tuesday", "home": "Cem", "away": "1:0"}], ['{ from = "heading", at = "h2" }', '"b"', '"i"']),
        (HEADED, [{"home": "Cem", "day": "Tuesday"}], ['"b"', '{ from = "heading", at = "h2" }']),
        (KEPT, [{"place": "Wells of Saltholm", "name": "W1", "depth": "1 m"}], ['{ from = "heading", at = "h1" }', '"b"', '{ at = "i", type = "integer", unit = "m" }']),
        (MERGED, [{"gebiet": "Nord", "ort": "Husum"}, {"gebiet": "Süd", "ort": "Ulm"}], ['{ under = "Gebiet" }', '{ under = "Ort" }']),
        (MERGED, [{"ort": "Kiel", "gebiet": "Nord"}], ['{ under = "Ort" }', '{ under = "Gebiet" }']),
    ],
)  # fmt: skip
def test_values_in_headings_and_merged_cells_are_columns(
    page: str, examples: list[dict[str, str]], plans: list[str]
) -> None:
    found = _learned(page, *examples)
    assert found is not None
    assert [one.guess.as_plan() for one in found.fields] == plans
    assert not found.lost


def test_a_number_is_found_whatever_stands_before_it_in_some_rows() -> None:
    found = _learned(PRICES, {"name": "Ada", "price": "12,50"}, {"name": "Bea", "price": "13,50"})
    assert found is not None
    assert [(one.guess.name, one.guess.samples) for one in found.fields][1] == ("price", ("12,50", "13,50", "14,50"))


def test_what_was_asked_for_and_is_not_found_is_named_with_why() -> None:
    listing = "<pre><a href=a>a.zip</a>   one 2024-01-02 x\n<a href=b>b.zip</a> two 2024-01-03 y\n<a href=c>c.zip</a> 2024-01-04 z</pre>"
    found = _learned(listing, {"name": "a.zip", "day": "2024-01-02"}, {"name": "b.zip", "day": "2024-01-03"})
    assert found is not None
    assert [one.guess.name for one in found.fields] == ["name"]
    assert "outside of its row (in <pre>)" in found.lost["day"]
    assert found.rating == "likely"
