"""Values beside labels, as inspect finds them in rows and on pages that show one thing."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import Program
from wadi.learn.clues.field_guess import FieldGuess
from wadi.learn.first_look.fields import field_candidates
from wadi.learn.first_look.look import Look, look_at
from wadi.page.document import read_document
from wadi.page.expressions import compile_expression
from wadi.page.labels import LabelsIn
from wadi.page.nodes import elements
from wadi.web.messages import Reply, Request


def _look(html: str) -> Look:
    document = read_document(html.encode(), "http://h/", "text/html")
    return look_at(document, Reply(Request("http://h/"), "http://h/", 200, (), html.encode(), 0.0))


def _fields(row: str, values: list[dict[str, str]]) -> list[FieldGuess]:
    html = "".join(f"<div class=row>{row.format(**one)}</div>" for one in values)
    document = read_document(f"<body>{html}".encode(), "http://h/", "text/html")
    return field_candidates(document, list(elements(document.top, "div")))


ROWS = [
    {"day": f"{n}/4/2026", "span": f"{n * 7} m", "levy": f"£{n * 9:,}.50", "name": f"Weir {n}"} for n in range(1, 13)
]


@pytest.mark.parametrize(
    "row",
    [
        "<h3>{name}</h3><ul><li>Inspected: {day}</li><li>Span: {span}</li><li>Levy: {levy}</li></ul>",
        "<h3>{name}</h3><dl><dt>Inspected<dd>{day}<dt>Span<dd>{span}<dt>Levy :<dd>{levy}</dl>",
        "<h3>{name}</h3><p><b>Inspected:</b> {day}<br><b>Span:</b> {span}<br><b>Levy:</b> {levy}</p>",
        "<h3>{name}</h3><p><span>Inspected:</span><span>{day}</span></p><p><i>Span:</i> {span}</p><p>Levy：{levy}</p>",
        "<h3>{name}</h3><table><tr><th>Inspected<td>{day}<tr><th>Span<td>{span}<tr><th>Levy<td>{levy}</table>",
    ],
    ids=["lines", "terms", "bold", "pairs", "table"],
)  # fmt: skip
def test_labels_in_rows_become_fields_in_their_order(row: str) -> None:
    found = {field.name: field for field in _fields(row, ROWS)}
    assert list(found) == ["name", "inspected", "span", "levy"]
    assert found["inspected"].as_plan() == '{ label = "Inspected", type = "date", format = "d/M/y" }'
    assert found["span"].as_plan() == '{ label = "Span", type = "integer", unit = "m" }'
    assert found["levy"].as_plan() == '{ label = "Levy", type = "money", locale = "en" }'
    assert found["span"].samples == ("7 m", "14 m", "21 m")


def test_a_label_that_few_rows_have_is_a_field_too() -> None:
    rows = [{"more": f"<dt>Keeper<dd>Pike {n}" if n % 4 == 0 else "", "n": str(n)} for n in range(12)]
    found = {field.name: field for field in _fields("<dl><dt>Depth<dd>{n} m{more}</dl>", rows)}
    assert {name: round(field.share, 2) for name, field in found.items()} == {"depth": 1.0, "keeper": 0.25}


def test_a_value_with_a_class_of_its_own_is_found_by_that() -> None:
    found = _fields("<dl><dt>Depth<dd class=depth>{span}<dt>Day<dd>{day}</dl>", ROWS)
    assert [(field.expression, field.label) for field in found] == [(".depth", ""), ("", "Day")]


@pytest.mark.parametrize(
    "row",
    ["<h3>Wells: {name}</h3><p>{span}</p>", "<h3>{name}: a weir</h3><p>{span}</p>", "<h3>{name}</h3><p>at 10:30, {span}</p>"],
    ids=["one category is a label", "every row its own", "times"],
)  # fmt: skip
def test_what_looks_like_labels(row: str) -> None:
    labels = [field.label for field in _fields(row, ROWS) if field.label]
    assert labels == (["Wells"] if row.startswith("<h3>Wells") else [])


def test_attributes_of_what_has_no_text_are_fields() -> None:
    row = (
        '<h3 class="card__name">{name}</h3><i class=stars data-score={score} title="{score} of 5"></i><hr data-same=1>'
    )
    found = _fields(row, [{"name": f"Weir {n}", "score": str(n % 5)} for n in range(12)])
    assert [(field.name, field.attribute, field.type.type) for field in found] == [
        ("name", None, "string"),
        ("stars", "title", "string"),
        ("stars_2", "data-score", "integer"),
    ]


def test_rows_with_a_head_are_not_named_after_the_first() -> None:
    """A table without headings whose rows begin with a `th`."""
    table = "".join(f"<tr><th>Weir {n}<td>{n} m<td>{n * 2} t" for n in range(1, 13))
    look = _look(f"<body><table>{table}</table>")
    assert [field.name for field in look.rows[0].fields] == ["th", "td", "td_2"]
    assert look.kind.kind == "table"


@pytest.mark.parametrize(
    "facts",
    [
        "<table><tr><th>River<td>Merrow<tr><th>Load limit<td>14 t<tr><th>Keeper<td>K. Pike</table>",
        "<dl><dt>River<dd>Merrow<dt>Load limit<dd>14 t<dt>Keeper<dd>K. Pike</dl>",
        "<p>River: Merrow<br>Load limit: 14 t<br>Keeper: K. Pike</p>",
    ],
    ids=["table", "terms", "lines"],
)
def test_a_page_that_shows_one_thing(facts: str) -> None:
    look = _look(f"<body><nav><p>Phone: 12</p></nav><main><h1>Weir 3</h1>{facts}</main><footer>Phone: 12</footer>")
    assert look.kind.kind == "single page"
    assert [field.as_plan() for field in look.fields] == [
        '"h1"',
        '{ label = "River" }',
        '{ label = "Load limit", type = "integer", unit = "t" }',
        '{ label = "Keeper" }',
    ]
    assert look.fields[2].samples == ("14 t",)


def test_what_inspect_prints_is_a_plan_that_runs(program: Program, site: str) -> None:
    """Copied into a plan as they stand, the fields of a page give its values."""
    shown = program.inside("inspect", f"{site}/register/MW-0141").out
    assert 'altitude     = { label = "Altitude", type = "integer", unit = "m" }' in shown
    assert "labels   dl" not in shown
    told = json.loads(program.inside("inspect", f"{site}/register/MW-0141", "--json").out)["fields"]
    lines = [f"{one['name']} = {_as_plan(one)}" for one in told]
    plan = [
        "wadi = 1",
        f'start = {{ page = "sheet", addresses = ["{site}/register/MW-0141"] }}',
        'manners = { pause = "1ms" }',
        "[page.sheet]",
        'table = "sheets"',
        "[page.sheet.fields]",
        *lines,
    ]
    (program.folder / "sheet.toml").write_text("\n".join(plan))
    done = program.inside("run", "sheet.toml", "-o", "sheet.jsonl", "-q")
    assert done.status == 0, done.err
    row: dict[str, Any] = json.loads((program.folder / "sheet.jsonl").read_text())
    wanted = {"name": "Ash Spring", "kind": "spring", "altitude": 339, "temperature": 11.5, "flow": 2.2}
    assert {**row, **wanted} == row
    assert row["keeper"]


def _as_plan(told: dict[str, Any]) -> str:
    guess = told["type"]
    keys = {"at": told["expression"] or None, "label": told["label"] or None, "type": guess["type"]}
    keys |= {name: guess[name] for name in ("locale", "format", "unit")}
    return "{ " + ", ".join(f"{name} = {json.dumps(value)}" for name, value in keys.items() if value) + " }"


_PIECES = st.sampled_from(
    [
        "Depth:", "Flow : 2 l/s", "Owner: K. Pike", "12 m", "£3.50", "a: b", "Note：x", "on request", ":", '"q": 1', "it's: 2",
        "<dl>", "<dt>Depth", "<dd>3 m", "</dl>", "<b>", "</b>", "<p class='x__y z'>", "<table><tr><th>Flow<td>2", "</table>",
        "<i data-score=3 title='3 of 5'></i>", "<li>", "<br>", "<span hidden>", "</span>", "<!--c-->", "\n",
    ]
)  # fmt: skip


@settings(max_examples=150, deadline=None)
@given(st.lists(st.lists(_PIECES, min_size=1, max_size=8).map("".join), min_size=1, max_size=6), _PIECES)
def test_any_page_gives_fields_that_a_plan_takes(rows: list[str], last: str) -> None:
    look = _look(f"<body>{''.join(f'<div class=row>{row}</div>' for row in rows)}{last}")
    for scopes, fields in [*((one.rows.rows, one.fields) for one in look.rows), ([look.document.top], look.fields)]:
        for field in fields:
            read = tomllib.loads(f"field = {field.as_plan()}")["field"]
            if field.label:
                assert read["label"] == field.label
                assert any(LabelsIn(scope).find([field.label]) for scope in scopes)


def test_labels_on_a_page_that_nests_deeply_take_no_time(tmp_path: Path, program: Program) -> None:
    (tmp_path / "deep.html").write_text("<body>" + "<div>a: b" * 500)
    done = program.inside("inspect", str(tmp_path / "deep.html"), "--json")
    assert [field["label"] for field in json.loads(done.out)["fields"]] == ["a"]


ENTRIES = [
    ("Ash Weir", "1,5", "02.03.26"),
    ("Elm Weir", "12,25", "12.11.25"),
    ("Dun Weir", "7,75", "30.01.24"),
    ("Ivy Weir", "9", "—"),
]
HEADS = ("Straße", "Wert (m³/h)", "Datum")


def _table(first: str, entries: list[tuple[str, ...]]) -> str:
    lines = "".join(f"<tr>{''.join(f'<td>{cell}</td>' for cell in one)}</tr>" for one in entries)
    return f"<html lang=de><body><table>{first}{lines}</table>"


@pytest.mark.parametrize(
    "first",
    [
        f"<tr bgcolor=grey>{''.join(f'<td><b>{head}</b></td>' for head in HEADS)}</tr>",
        f"<tr>{''.join(f'<td>{head}</td>' for head in HEADS)}</tr>",
        f"<tr class=head>{''.join(f'<td><p>{head}</p></td>' for head in HEADS)}</tr>",
        f"<thead><tr>{''.join(f'<td>{head}</td>' for head in HEADS)}</tr></thead>",
    ],
    ids=["bold", "plain", "class", "thead"],
)
def test_a_first_row_of_headings_is_no_row_though_it_does_not_say_so(first: str) -> None:
    look = _look(_table(first, ENTRIES))
    assert look.rows[0].rows.count == 4
    assert [(field.name, field.type.keys()) for field in look.rows[0].fields] == [
        ("strasse", ""),
        ("wert_m3_h", 'type = "number", locale = "de"'),
        ("datum", 'type = "date", format = "d.M.y"'),
    ]
    assert [(table.headings, table.rows) for table in look.tables] == [(HEADS, 4)]
    found = compile_expression(look.rows[0].rows.expression).nodes(look.document.scope, look.document)
    assert set(found) == set(look.rows[0].rows.rows)


@pytest.mark.parametrize(
    "entries",
    [
        [("Ash Weir", "high"), ("Elm Weir", "low"), ("Dun Weir", "low"), ("Ivy Weir", "high")],
        [("Ash Weir", "dry"), ("Elm Weir", "1,5"), ("Dun Weir", "dry"), ("Ivy Weir", "2,5")],
        [("Ash Weir", "2"), ("Elm Weir", "1,5"), ("Dun Weir", "3"), ("Ivy Weir", "2,5")],
        [("Weirs", "Flow"), ("Elm Weir", "1"), ("Dun Weir", "3")],
        [("Ash Weir", "dry"), *((f"Weir {chr(65 + n)}", f"{n},5") for n in range(9))],
    ],
    ids=["words", "a word now and then", "numbers", "few", "a word for a figure"],
)
def test_a_first_row_that_is_a_row(entries: list[tuple[str, ...]]) -> None:
    assert _look(_table("", entries)).rows[0].rows.count == len(entries)


def test_names_of_other_scripts_are_keys_in_quotes(program: Program) -> None:
    rows = "".join(f"<tr><td>Weir {n}<td>{n} m" for n in range(5))
    (program.folder / "table.html").write_text(f"<table><tr><th>Название<th>Débit{rows}</table>", "utf-8")
    shown = program.inside("inspect", "table.html").out
    assert '"название"  = { under = "Название" }' in shown
    assert 'debit       = { under = "Débit"' in shown
