"""The plan's checks by literal cases: each rule on cells and figures, what breaks it and what does not, and what is told."""

from __future__ import annotations

from typing import Any

import pytest

from wadi.clean.types import TypeName
from wadi.plan.checks import CheckPlan
from wadi.plan.columns import Column
from wadi.quality.checks import CELL_RULES, FIGURES, Broken, Checking, Context
from wadi.quality.tables import TableSource, batches

CONTEXT = Context("2026-11-23", lambda reference: {"Saltholm", "Thornmere"} if reference == "districts.name" else set())


def check_table(source: TableSource, check: CheckPlan, duplicates: int, context: Context) -> list[Broken]:
    checking = Checking(source, check, context)
    for batch in batches(source.rows(), 4):
        checking.take(batch)
    return checking.broken(duplicates)


def broken(values: list[Any], check: dict[str, Any], kind: TypeName = "string") -> list[Broken]:
    columns = [Column("code", "string", False, None, False, ()), Column("v", kind, False, None, False, ())]
    source = TableSource("t", columns, lambda: ([f"MW-{n}", value] for n, value in enumerate(values)), ["code"])
    return check_table(source, CheckPlan.model_validate({"columns": {"v": check}}), 0, CONTEXT)


CELLS: list[tuple[str, dict[str, Any], list[Any], list[Any]]] = [
    ("required", {"required": True}, [0, False, "x", [1]], [None, "", []]),
    ("minimum", {"minimum": 0}, [0, 0.0, 5, None, "text"], [-1, -0.1]),
    ("minimum", {"minimum": "1900-01-01"}, ["1900-01-01", "2026-01-01T10:00:00", None], ["1899-12-31"]),
    ("maximum", {"maximum": 10.5}, [10.5, -3, None], [10.6, 11]),
    ("maximum", {"maximum": "2022-12-31"}, ["2022-12-31", "1921-01-01"], ["2023-01-01"]),
    ("minimum", {"minimum": "2026-05-01T12:00:00Z"}, ["2026-05-01T14:00:00+02:00", "2026-05-01T07:00:00-05:00"],
     ["2026-05-01T13:59:00+02:00", "2026-05-01T12:30:00+01:00"]),
    ("maximum", {"maximum": "2026-05-01"}, ["2026-05-01T01:00:00+02:00", "2026-05-01T00:00:00"], ["2026-04-30T23:00:00-02:00"]),
    ("minLength", {"minLength": 2}, ["ab", ["x", "y"], None, 12], ["a", ["x"], 1]),
    ("maxLength", {"maxLength": 2}, ["ab", "", ["x", "y"], 12], ["abc", ["x", "y", "z"], 123]),
    ("pattern", {"pattern": r"MW-\d+"}, ["MW-1", ["MW-1", "MW-22"], None], ["MW-", "xMW-1", "MW-1 ", ["MW-1", "no"]]),
    ("enum", {"enum": ["dry", "flowing"]}, ["dry", ["dry", "flowing"], None], ["Dry", "dry ", ["dry", "no"]]),
    ("enum", {"enum": [1, 2.5]}, [1, 1.0, 2.5], [2, True, "1"]),
    ("enum", {"enum": [True]}, [True], [False, 1, "true"]),
    ("past", {"past": True}, ["2026-11-23", "2026-11-23T23:59:59", "1921-01-01", None], ["2026-11-24", "2027-01-01T00:00:00"]),
    ("refers_to", {"refers_to": "districts.name"}, ["Saltholm", ["Saltholm", "Thornmere"], None], ["Ashwater", ["Saltholm", "x"]]),
]  # fmt: skip


@pytest.mark.parametrize(
    ("rule", "check", "good", "bad"), CELLS, ids=lambda value: value if isinstance(value, str) else ""
)
def test_a_rule_of_cells_is_broken_by_these_and_not_by_those(
    rule: str, check: dict[str, Any], good: list[Any], bad: list[Any]
) -> None:
    assert broken(good, check) == []
    found = broken([*good, *bad], check)
    assert [(one.table, one.column, one.rule, one.count) for one in found] == [("t", "v", rule, len(bad))]
    number, key, _ = found[0].examples[0]
    assert (number, key) == (len(good) + 1, f"MW-{len(good)}")
    assert found[0].what.startswith("v is ") or found[0].what.startswith(("v does not", "v lies"))


def test_every_rule_of_cells_has_its_cases() -> None:
    assert {rule for rule, _, _, _ in CELLS} | {"unique"} == {*CELL_RULES, "required"}


@pytest.mark.parametrize(
    ("values", "count", "first"),
    [
        (["a", "b", None, None, ""], 0, 0),
        (["a", "b", "a", "a"], 2, 3),
        ([["a", "b"], ["a"], ["a", "b"]], 1, 3),
        ([1, 1.0, 2], 1, 2),
    ],
)
def test_values_that_stand_twice_are_told_from_the_second_on(values: list[Any], count: int, first: int) -> None:
    found = broken(values, {"unique": True})
    assert [one.count for one in found] == ([count] if count else [])
    assert [one.examples[0][0] for one in found] == ([first] if count else [])


@pytest.mark.parametrize(
    ("check", "values", "told"),
    [
        ({"filled": 0.5}, [1, None], ""),
        ({"filled": 0.6}, [1, None], "share filled of v is 50 %, at least 60 % is wanted"),
        ({"filled": {"maximum": 0.4}}, [1, None], "share filled of v is 50 %, at most 40 % is wanted"),
        ({"filled": 1.0}, [], ""),  # of no rows there is no share
        ({"distinct": 1.0}, [1, 2, None], ""),
        ({"distinct": 1.0}, [1, 1, None], "share of different values of v is 50 %, at least 100 % is wanted"),
        ({"distinct": 0.5}, [None], ""),
        ({"total": {"minimum": 6}}, [1, 2, 3, None], ""),
        ({"total": {"maximum": 5.5}}, [1, 2, 3], "sum of v is 6, at most 5.5 is wanted"),
        ({"mean": {"minimum": 2, "maximum": 2}}, [1, 2, 3, None], ""),
        ({"mean": {"maximum": 1}}, [1000, 2000], "mean of v is 1,500, at most 1 is wanted"),
        ({"mean": {"minimum": 1}}, [None], ""),
    ],
)
def test_figures_lie_between_their_bounds_or_are_told(check: dict[str, Any], values: list[Any], told: str) -> None:
    assert set(check) <= set(FIGURES)
    assert [one.what for one in broken(values, check, "number")] == ([told] if told else [])


@pytest.mark.parametrize(
    ("where", "count"),
    [
        ("flow <= capacity", 1),
        ("flow > 0", 1),
        ("flow + 1 > capacity and depth < 50", 4),
        ("depth == 3 or flow == 0", 2),
        ("len(name) > 3", 0),
        ("name != 'Pool'", 1),
        ("flow <= name", 5),  # what cannot be compared is not met
    ],
)
def test_conditions_are_met_by_rows_and_by_what_is_missing(where: str, count: int) -> None:
    names: dict[str, TypeName] = {"flow": "number", "capacity": "number", "depth": "number", "name": "string"}
    rows = [[0.0, 5.0, 3.0, "Pool"], [2.0, 4.0, 3.0, "Ash Spring"], [9.0, 4.0, 99.0, "Iron Well"], [3.0, 8.0, 1.0, "Elder"],
            [1.0, None, None, "Keld"], [None, 2.0, 3.0, "Rise"]]  # fmt: skip
    source = TableSource(
        "t", [Column(n, kind, False, None, False, ()) for n, kind in names.items()], lambda: iter(rows)
    )
    found = check_table(source, CheckPlan.model_validate({"where": where}), 0, CONTEXT)
    assert [one.count for one in found] == ([count] if count else [])
    assert all(one.what == f"not {where}" and len(one.examples) <= 3 for one in found)


@pytest.mark.parametrize(
    ("check", "duplicates", "told"),
    [
        ({"rows": {"minimum": 2}}, 0, []),
        ({"rows": {"minimum": 3}}, 0, ["number of rows is 2, at least 3 is wanted"]),
        ({"rows": {"maximum": 1}, "duplicates": {"maximum": 4}}, 5, ["number of rows is 2, at most 1 is wanted",
                                                                   "number of duplicates is 5, at most 4 is wanted"]),
        ({"duplicates": {"maximum": 5}}, 5, []),
    ],
)  # fmt: skip
def test_sizes_lie_between_their_bounds_or_are_told(check: dict[str, Any], duplicates: int, told: list[str]) -> None:
    source = TableSource("t", [Column("v", "string", False, None, False, ())], lambda: iter([["a"], ["b"]]))
    assert [one.what for one in check_table(source, CheckPlan.model_validate(check), duplicates, CONTEXT)] == told
