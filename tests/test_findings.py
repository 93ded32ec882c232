"""What is told of a run's facts: each rule by literal cases, the verdict's sentence, and figures as people read them."""

from __future__ import annotations

from typing import Any

import pytest

from wadi.plan.columns import Column
from wadi.quality.checks import Broken
from wadi.quality.drift import Drift
from wadi.quality.html import rendered
from wadi.quality.verdict import Facts, Rowless, TableFacts, verdict_of
from wadi.store.outcome import CellProblem, End, FailedPage, State, StatedTotal
from wadi.table.ledger import DuplicateWay, Ledger, RejectWay
from wadi.table.words import figure, share

COLUMNS = [
    Column("code", "string", False, None, False, ("list",)),
    Column("altitude", "integer", False, "m", False, ("spring",)),
]
FILLED = {"code": 10, "altitude": 9}


def table(rows: int = 10, **account: Any) -> TableFacts:
    return TableFacts(
        "springs", COLUMNS, rows, Ledger(**{"filled": FILLED, "given": rows, "accepted": rows, **account})
    )


def problem(code: str = "http-status", what: str = "http://h/1: status 404") -> dict[str, Any]:
    return {"code": code, "what": what}


CASES: list[tuple[dict[str, Any], list[tuple[str, bool]], str]] = [
    ({}, [], "10 rows in springs; every check holds."),
    ({"earlier": 1}, [], "10 rows in springs; every check holds, and nothing drifted against the run before."),
    ({"earlier": 3}, [], "10 rows in springs; every check holds, and nothing drifted against 3 earlier runs."),
    ({"end": None, "pages": {State.WAITING: 4}}, [("not-finished", True)], "4 pages known but not asked for"),
    ({"end": End.REFUSED}, [("not-finished", True)], "the crawl ended early (host refused)"),
    ({"end": End.ENOUGH_ROWS, "pages": {State.WAITING: 2}}, [("limit", False)], "every check holds"),
    ({"pages": {State.WAITING: 2}}, [("not-followed", False)], "every check holds"),
    ({"listings": [StatedTotal("list", "http://h/", 12, 10)]}, [("rows-missing", True)], "10 of 12 rows in springs; the listing gave fewer rows"),
    ({"listings": [StatedTotal("list", "http://h/", 8, 10)]}, [("rows-beyond", True)], "the listing gave more rows than it states: 10 of 8"),
    ({"listings": [StatedTotal("list", "http://h/", 10, 10)]}, [], "10 of 10 rows in springs; every"),
    ({"listings": [StatedTotal("list", "http://h/", 10, 13)], "tables": [table(duplicates=3, given=13)]}, [("duplicates", False)], "10 of 10 rows in springs; every"),
    (
        {"listings": [StatedTotal("list", "http://h/a", 5, 5), StatedTotal("list", "http://h/b", 7, 5)]},
        [("rows-missing", True)],
        "1 of 2 listings gave fewer rows than they state: 5 of 7",
    ),
    ({"listings": [StatedTotal("list", "http://h/", 12, 3)], "end": End.ENOUGH_PAGES}, [("limit", False)], "10 of 12 rows in springs; every"),
    ({"failures": [FailedPage("spring", "http://h/1", 404, problem())]}, [("pages-failed", True)], "1 spring page missing (404)"),
    (
        {"failures": [FailedPage("spring", "http://h/1", 404, problem())] * 2, "tables": [table(incomplete=2, incomplete_rows=[3, 7])]},
        [("pages-failed", True)],
        '10 rows in springs; 2 spring pages missing (404): rows 3, 7 lack "altitude".',
    ),
    (
        {"failures": [FailedPage("spring", "http://h/1", 404, problem())], "tables": [table(incomplete=1, incomplete_rows=[3])]},
        [("pages-failed", True)],
        'row 3 lacks "altitude"',
    ),
    ({"failures": [FailedPage("list", "http://h/1", 404, problem("blocked", "a block"))]}, [("blocked", True)], "1 list page missing (blocked)"),
    ({"tables": [table(filled={"code": 10})]}, [("blank", True)], "altitude is blank in every row"),
    ({"tables": [table(filled={"code": 10})], "earlier": 1}, [("blank", True)], "altitude is blank in every row"),
    ({"tables": [table(filled={"code": 10})], "filled_before": {"springs": {"altitude"}}}, [], "every check holds"),
    ({"tables": [table(filled={"code": 10})], "judged_shares": {"springs": {"altitude"}}}, [], "every check holds"),
    ({"notes": [("http://h/", problem("no-total", "total picks nothing"))]}, [("no-total", True)], "10 rows in springs; total picks nothing"),
    (
        {"notes": [("http://h/", problem("no-total", "none"))] * 2, "listings": [StatedTotal("list", "http://h/b", 10, 10)]},
        [("no-total", False)],
        "10 of 10 rows in springs; every",
    ),
    (
        {"notes": [("http://h/", problem("unread-total", "total: about 9"))], "listings": [StatedTotal("list", "http://h/b", 10, 10)]},
        [("unread-total", True)],
        "total: about 9",
    ),
    (
        {"rowless": [Rowless("list", '"li.x"', ("http://h/", "http://h/2"), True, ('no "x", but "y"',))]},
        [("rowless", True)],
        'page "list": no rows on 2 pages without "li.x": no "x", but "y"',
    ),
    ({"rowless": [Rowless("list", '"li"', ("http://h/",), False)]}, [("rowless", False)], "every check holds"),
    ({"tables": [table(filled={"code": 10})], "end": End.ENOUGH_PAGES}, [("limit", False)], "every check holds"),
    ({"tables": [table(rejected=2, reject_ways={"no code": RejectWay(2, "no code", "http://h/")})]}, [("rejects", True)], "rejects: no code"),
    ({"unread_runs": ["runs/x/1"]}, [("earlier-unreadable", False)], "every check holds"),
    ({"notes": [("http://h/", problem("listing-shifted", "it shifted"))]}, [("listing-shifted", True)], "rows may be missing"),
    ({"notes": [("http://h/", problem("other-host", "2 links left"))]}, [("other-host", False)], "every check holds"),
    ({"broken": [Broken("springs", "", "rows", "number of rows is 10, at least 300 is wanted")]}, [("check: rows", True)], "300"),
    (
        {"broken": [Broken("springs", "altitude", "maximum", "altitude is above 900", 1, ((4, "MW-4", "937"),))]},
        [("check: maximum", True)],
        "altitude is above 900 in 1 row.",
    ),
    ({"drifted": [Drift("springs", "altitude", "filled", "altitude is blank")], "earlier": 2}, [("drift: filled", True)], "altitude is blank"),
]  # fmt: skip


@pytest.mark.parametrize(("told", "codes", "sentence"), CASES)
def test_facts_are_told_as_findings(told: dict[str, Any], codes: list[tuple[str, bool]], sentence: str) -> None:
    facts = Facts(**{"end": End.COMPLETE, "tables": [table()], "completing": {"spring": "springs"},
                     "main_kinds": frozenset({"list"}), **told})  # fmt: skip
    verdict = verdict_of(facts)
    assert [(one.code, one.fails) for one in verdict.findings] == codes
    assert sentence in verdict.sentence
    assert verdict.holds == (not any(fails for _, fails in codes))
    assert verdict.as_dict()["holds"] == verdict.holds


@pytest.mark.parametrize(("unread", "fails"), [(1, False), (11, True)])
def test_few_cells_that_cannot_be_read_are_no_failure(unread: int, fails: bool) -> None:
    example = CellProblem(0, "altitude", "x", "not-a-number", "'x' is no number")
    account = Ledger(
        filled=FILLED,
        given=1000,
        accepted=1000,
        unread={"altitude": unread},
        unread_examples={"altitude": ("http://h/", example)},
    )
    verdict = verdict_of(Facts(End.COMPLETE, [TableFacts("springs", COLUMNS, 1000, account)]))
    assert [(one.code, one.column, one.fails) for one in verdict.findings] == [("unread", "altitude", fails)]


def test_what_fails_comes_first_and_the_sentence_stays_short() -> None:
    broken = [Broken("springs", "code", f"rule {number}", f"thing {number}") for number in range(5)]
    ways = {"twice on one page": DuplicateWay(2, [])}
    verdict = verdict_of(Facts(End.COMPLETE, [table(duplicates=2, duplicate_ways=ways)], broken=broken))
    assert [one.fails for one in verdict.findings] == [True] * 5 + [False]
    assert verdict.sentence == "10 rows in springs; thing 0; thing 1; thing 2; and 2 more."
    assert verdict.findings[-1].examples == ("2 twice on one page",)


@pytest.mark.parametrize(
    ("value", "shown"),
    [
        (3, "3"),
        (3.0, "3"),
        (0.125, "0.125"),
        (12.3456, "12.35"),
        (1234.56, "1,234.6"),
        (2_500_000.4, "2,500,000"),
        (None, ""),
        ("x", "x"),
    ],
)
def test_figures_have_as_many_digits_as_say_something(value: Any, shown: str) -> None:
    assert figure(value) == shown


@pytest.mark.parametrize(
    ("value", "shown"), [(0.0, "0 %"), (0.004, "<1 %"), (0.126, "13 %"), (0.996, ">99 %"), (1.0, "100 %")]
)
def test_shares_are_never_rounded_to_all_or_nothing(value: float, shown: str) -> None:
    assert share(value) == shown


def test_pages_of_our_own_escape_whatever_they_are_given() -> None:
    page = rendered("compare.html", title="<i>", old="<script>", new='"onload="', tables=[], most=5)
    assert "<script>" not in page
    assert "&lt;script&gt;" in page
    assert "<title>&lt;i&gt;</title>" in page
