"""Stored pages read again: all that is stored, as a crawl of the same pages would read it, and what is not there by reason."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import pytest

from conftest import Program
from small_host import crawled, items, list_plan, plan_of
from wadi.actions.reparse import Reparsed, reparse
from wadi.actions.run import Run
from wadi.crawl.source import ArchiveSource
from wadi.store.outcome import State

LINKED = {
    f"/l?p={p}": items(
        *(f"<b>r{p * 4 + n}</b> <a href='/d{p * 4 + n}'>d</a>" for n in range(4)),
        more=f"<a class=more href='/l?p={p + 1}'>n</a>" if p < 3 else "",
    )
    for p in range(4)
}
DETAILS = {f"/d{n}": f"<h1>Sheet</h1><i>{n * 10}</i>" for n in range(16)}
PAGED = list_plan('name = "b"', page='next = "a.more"', start='"{+site}/l?p=0"')
OPENED = PAGED.replace(
    'next = "a.more"', 'next = "a.more"\nopen = { sheet = { at = "a:not(.more)", scope = "row" } }'
) + ('[page.sheet]\nexpect = "h1"\ncompletes = "t"\n[page.sheet.fields]\nheight = { at = "i", type = "integer" }\n')
NAMES = [[f"r{n}"] for n in range(16)]
HEIGHTS = [[f"r{n}", n * 10] for n in range(16)]
NEVER, UNASKED = "the run did not know of", "the run knew of and did not ask for"


def read_again(
    folder: Path, old: Run, plan: str, *, top: str = "", workers: int = 1, **edges: int
) -> tuple[dict[str, list[list[Any]]], Reparsed]:
    """The tables of a run whose pages were read again with a plan, and what came of it."""
    address = str(old.loaded.inputs["site"])
    new, done = reparse(old, plan_of(folder, plan, address, top=top), folder / "again", workers=workers, **edges)
    with new:
        return {name: new.read(name).rows for name in new.tables}, done


STARTS = '"{+site}/l?p=0"'
DEAD = ", ".join(f'"{{+site}}/gone{n}"' for n in range(150))
CASES: dict[str, tuple[str, str, list[list[Any]], int, Mapping[str, int]]] = {
    "the same plan": (OPENED, OPENED, HEIGHTS, 20, {}),
    "a field less": (OPENED, OPENED.replace('name = "b"', 'n = "b"'), HEIGHTS, 20, {}),
    "details left out": (OPENED, PAGED, NAMES, 4, {}),
    "details never asked for": (PAGED, OPENED, [[*row, None] for row in NAMES], 4, {NEVER: 16}),
    "a next page less": (PAGED, PAGED.replace('next = "a.more"', ""), NAMES[:4], 1, {}),
    "a next page that was not followed": (PAGED.replace('next = "a.more"', ""), PAGED, NAMES[:4], 1, {NEVER: 1}),
    "another way on, to the same pages": (
        PAGED, PAGED.replace('"a.more"', '{ count = { parameter = "p", first = 0 }, end_when = "no rows" }'), NAMES, 4, {NEVER: 1},
    ),
    "dead starts before": (PAGED, PAGED.replace(STARTS, f"{DEAD}, {STARTS}"), NAMES, 4, {NEVER: 150}),
    "dead starts between": (
        PAGED, PAGED.replace(STARTS, f'"{{+site}}/l?p=3", {DEAD}, {STARTS}'), [*NAMES[12:], *NAMES[:12]], 4, {NEVER: 150},
    ),
    "kinds called otherwise": (OPENED, OPENED.replace("sheet", "detail").replace("page.list", "page.all").replace('"list"', '"all"'), HEIGHTS, 20, {}),
}  # fmt: skip


@pytest.mark.parametrize("workers", [1, 2])
@pytest.mark.parametrize(("at_once", "ahead"), [(64, 192), (1, 1), (3, 2)])
@pytest.mark.parametrize("case", CASES)
def test_all_that_is_stored_is_read_at_every_edge(
    tmp_path: Path, case: str, workers: int, at_once: int, ahead: int
) -> None:
    before, after, rows, read, reasons = CASES[case]
    with crawled(tmp_path, {**LINKED, **DETAILS}, before) as old:
        tables, done = read_again(
            tmp_path, old.run, after, workers=workers, at_once=at_once, most_ahead=ahead, worth_workers=1
        )
    assert tables["t"] == rows
    assert (done.read, done.not_fetched, dict(done.reasons)) == (read, sum(reasons.values()), reasons)


def test_pages_behind_gaps_of_any_length_are_read(tmp_path: Path) -> None:
    """Starts of which ever fewer are stored: 1 of 2, of 4, of 8 … of 256."""
    stored = [2**n for n in range(9)]
    pages = {f"/s{n}": items(f"r{n}") for n in stored}
    with crawled(tmp_path, pages, list_plan(start=", ".join(f'"{{+site}}/s{n}"' for n in stored))) as old:
        every = list_plan(start=", ".join(f'"{{+site}}/s{n}"' for n in range(300)))
        tables, done = read_again(tmp_path, old.run, every, at_once=4)
    assert tables["t"] == [[f"r{n}"] for n in stored]
    assert (done.read, done.not_fetched) == (9, 291)


def test_a_run_that_was_cut_short_tells_what_it_knew_of(tmp_path: Path) -> None:
    with crawled(tmp_path, {**LINKED, **DETAILS}, OPENED, pages=3) as old:
        assert old.run.pages()[State.WAITING] > 0
        tables, done = read_again(tmp_path, old.run, OPENED)
        assert tables["t"] == [["r0", 0], ["r1", 10], ["r2", None], ["r3", None]]
    assert (done.read, dict(done.reasons)) == (3, {UNASKED: 3})


def test_what_is_absent_is_asked_for_when_the_run_goes_on(program: Program, tmp_path: Path, site: str) -> None:
    plain = (
        'wadi = 1\nstart = { page = "register", addresses = "SITE/register" }\nmanners = { pause = 0 }\n'
        '[page.register]\nrows = "ol.register > li:not(.notice)"\ntable = "springs"\nMORE\n'
        '[page.register.fields]\ncode = { at = ".", attr = "data-code" }\n'
    ).replace("SITE", site)
    (tmp_path / "p.toml").write_text(plain.replace("MORE", ""))
    assert program("run", "p.toml", "-q").status == 0
    (tmp_path / "p.toml").write_text(plain.replace("MORE", 'next = { text = "Older" }'))
    done = program("reparse", "p")
    assert "the plan leads to 1 page never fetched (1 that the run did not know of)" in done.err
    assert "30 rows (pages not fetched)" in done.err
    gone_on = program("resume", "p", "-o", "all.csv")
    assert (gone_on.status, (tmp_path / "all.csv").read_text().count("\n")) == (0, 355)


FAILING = {
    "/l?p=0": items("<b>r0</b>", more="<a class=more href='/l?p=1'>n</a>"),
    "/l?p=1": (404, {}, "nothing here"),
}


@pytest.mark.parametrize(
    ("before", "after", "failures"),
    [
        ("", "", ["http-status"]),
        ("", ', end_status = 404', []),
        (', end_status = 404', "", ["http-status"]),
        (', end_status = 404', ', end_status = 404', []),
    ],
)  # fmt: skip
def test_a_status_is_the_end_of_a_listing_as_the_plan_says_now(
    tmp_path: Path, before: str, after: str, failures: list[str]
) -> None:
    plan = list_plan('name = "b"', page='next = { at = "a.more"END }', start='"{+site}/l?p=0"')
    with crawled(tmp_path, FAILING, plan.replace("END", before)) as old:
        new, _ = reparse(old.run, plan_of(tmp_path, plan.replace("END", after), old.host.address), tmp_path / "again")
    with new:
        assert [failed.problem["code"] for failed in new.state.failures()] == failures
        assert new.read().rows == [["r0"]]


def test_what_failed_has_failed_for_the_same_reason(tmp_path: Path) -> None:
    pages = {"/l": items("<b>r0</b> <a href='/gone'>d</a>", "<b>r1</b> <a href='/d1'>d</a>"), "/d1": DETAILS["/d1"]}
    plan = OPENED.replace("/l?p=0", "/l")
    with crawled(tmp_path, {**pages, "/gone": (410, {}, "sold")}, plan) as old:
        before = list(old.run.state.failures())
        new, _ = reparse(old.run, plan_of(tmp_path, plan, old.host.address), tmp_path / "again")
    with new:
        assert list(new.state.failures()) == before
        assert new.read().rows == [["r0", None], ["r1", 10]]


TWO_TABLES = """[page.list.lists.marks]
rows = "u"
carry = ["name"]
[page.list.lists.marks.fields]
mark = "."
"""


@pytest.mark.parametrize(
    ("code", "plan", "tables"),
    [
        (
            "",
            PAGED.replace("?p=0", "") + TWO_TABLES,
            {"t": [["a"], ["b"]], "marks": [["a", "1"], ["a", "2"], ["b", "3"]]},
        ),
        (
            "def rows(page):\n    import wadi\n    return wadi.PageData([{'name': n.upper()} for n in page.values('b')])\n",
            '[start]\npage = "list"\naddresses = "{+site}/l"\n[page.list]\ncall = "rows"\ntable = "t"\n'
            '[page.list.fields]\nname = "$.name"\n',
            {"t": [["A"], ["B"]]},
        ),
    ],
)
def test_other_tables_and_kinds_in_python_are_had_from_stored_pages(
    tmp_path: Path, code: str, plan: str, tables: dict[str, list[list[Any]]]
) -> None:
    pages = {"/l": items("<b>a</b><u>1</u><u>2</u>", "<b>b</b><u>3</u>")}
    (tmp_path / "code.py").write_text(code)
    with crawled(tmp_path, pages, list_plan('name = "b"')) as old:
        assert read_again(tmp_path, old.run, plan, top='code = "code.py"' if code else "")[0] == tables


def test_pages_that_nobody_asks_for_do_not_hold_up_those_read_ahead(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A plan that leads to the last of many stored pages alone, with room for two pages ahead."""
    most: list[int] = []
    read_ahead = ArchiveSource._read_ahead

    def counted(source: ArchiveSource, found: Any, workers: Any) -> None:
        read_ahead(source, found, workers)
        most.append(len(source._ahead))

    monkeypatch.setattr(ArchiveSource, "_read_ahead", counted)
    pages = {f"/s{n}": items(f"r{n}") for n in range(40)}
    starts = [f'"{{+site}}/s{n}"' for n in range(40)]
    with crawled(tmp_path, pages, list_plan(start=", ".join(starts))) as old:
        tables, _ = read_again(
            tmp_path, old.run, list_plan(start=", ".join(starts[20:])), workers=2, most_ahead=2, worth_workers=1
        )
    assert tables["t"] == [[f"r{n}"] for n in range(20, 40)]
    assert max(most) == 2
