"""Every example plan, run by the installed program against the sample site, gives the truth."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from conftest import EXAMPLES, Program, needs_browser, records_of
from small_host import standing_in
from truth import FURTHER_TRUTHS, TRUTHS
from wadi.actions.run import Run
from wadi.actions.trace import Tracer
from wadi.demo.office import REGIONS
from wadi.demo.proxies import StandInProxy
from wadi.demo.shapes import MEMBER, PASSWORD
from wadi.store.outcome import State
from wadi.table.assemble import Assembly


def _rows(path: Path) -> list[dict[str, object]]:
    return [json.loads(line) for line in path.read_text("utf-8").splitlines()]


TAKEN_AS_THEY_ARE: dict[str, set[str]] = {"gallery": {"photo", "photo_type"}}
"""Columns that a trace does not make again, by example: where a file is kept, and the type that its host named."""


def test_every_example_has_its_truth_and_its_line_in_the_docs() -> None:
    names = {path.stem for path in EXAMPLES.glob("*.toml")}
    assert names == set(TRUTHS)
    shapes = (EXAMPLES.parent / "docs" / "shapes.md").read_text("utf-8")
    assert [name for name in sorted(names) if f"shapes/{name}.md" not in shapes] == []


@pytest.mark.parametrize(
    "name",
    [pytest.param(name, marks=needs_browser if name in ("walks", "telephones", "hardness") else ()) for name in TRUTHS],
)
def test_an_example_gives_the_truth(program: Program, site: str, name: str) -> None:
    program.environment |= {"MERROW_USER": MEMBER, "MERROW_WORD": PASSWORD}
    with standing_in(*(StandInProxy(region=region) for region in REGIONS.values())) as (north, south):
        program.environment |= {"NORTH_PROXY": north, "SOUTH_PROXY": south}
        done = program("run", EXAMPLES / f"{name}.toml", "-i", f"site={site}", "-o", "out.jsonl", "--with-code")
    assert done.status == 0, done.err
    assert _rows(program.folder / "out.jsonl") == TRUTHS[name](site)
    for plan, table in FURTHER_TRUTHS:
        if plan == name:
            assert program.inside("export", name, "--table", table, "-o", f"{table}.jsonl").status == 0
            assert _rows(program.folder / f"{table}.jsonl") == FURTHER_TRUTHS[plan, table](site)
    with Run.open(name, program.folder / "runs") as run:
        if run.loaded.code is not None:
            run.loaded.code.approve()
        untraced, not_done_again = _traced(run)
        assert untraced == []
        assert not_done_again == TAKEN_AS_THEY_ARE.get(name, set())
        assert records_of(run.folder).count("response") >= run.pages()[State.DONE]
    assert program.inside("export", name, "-o", "p.csv", "--package").status == 0  # what is in it is validated
    reread = program.inside("reparse", name, EXAMPLES / f"{name}.toml", "-q", "-o", "again.jsonl")
    assert reread.status == 0, reread.err
    assert (program.folder / "again.jsonl").read_bytes() == (program.folder / "out.jsonl").read_bytes()


def _traced(run: Run) -> tuple[list[str], set[str]]:
    """Every cell whose way from the stored page does not end at what the table has, and the columns of which a trace shows what
    the table has, and does not make it again."""
    tracer, untraced, not_done_again = Tracer(run), [], set()
    for table in run.tables:
        assembly = run.assembly(table)
        if not isinstance(assembly, Assembly):
            continue
        for number, placed in enumerate(assembly.placed(), 1):
            for place in range(len(assembly.columns)):
                trace = tracer.cell(table, assembly, placed, place)
                if trace.value != trace.final:
                    untraced.append(f"{table} {number} {trace.column}: {trace.value!r} is not {trace.final!r}")
                if trace.steps and "not done again" in trace.steps[-1].name:
                    not_done_again.add(trace.column)
    return untraced, not_done_again


def test_a_listing_that_repeats_its_last_page_ends_with_a_note(program: Program, site: str) -> None:
    done = program("run", EXAMPLES / "keepers.toml", "-i", f"site={site}")
    assert "note    1 × rows-again" in done.err
    assert "the same rows again: it ends here" in done.err


def test_the_truths_hold_something() -> None:
    assert [name for name, truth in TRUTHS.items() if not truth("http://h")] == []
    assert [row["outcome"] for row in FURTHER_TRUTHS["lookup", "outcomes"]("http://h")] == [
        "found",
        "found",
        "not found",
    ]


@pytest.mark.parametrize(
    ("option", "words"),
    [
        (("--depth", "0"), "ended by the depth limit"),
        (("--bytes", "9kB"), "ended by the bytes limit"),
        (("--pages", "2"), "ended by the pages limit"),
        (("--rows", "3"), "ended by the rows limit"),
        (("--time", "0.01s"), "ended by the time limit"),
    ],
)
def test_a_limit_is_said_loudly_and_is_no_success_when_strict(
    program: Program, site: str, option: tuple[str, str], words: str
) -> None:
    plan = ("run", EXAMPLES / "atlas.toml", "-i", f"site={site}", *option)
    done = program.inside(*plan, "--strict")
    assert (done.status, words in done.err) == (3, True), done.err
    if option[0] != "--time":
        assert program.inside(*plan).status == 0


@pytest.mark.parametrize("option", [("--depth", "-1"), ("--bytes", "many"), ("--time", "soon"), ("--rows", "0")])
def test_limits_that_are_none_are_refused(program: Program, option: tuple[str, str]) -> None:
    done = program("run", EXAMPLES / "atlas.toml", *option)
    assert done.status == 2
    assert option[0] in done.err
    assert option[1] in done.err
