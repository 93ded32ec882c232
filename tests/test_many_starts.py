"""Very many addresses to begin with: looked at in part when a plan is read, streamed, told of, and given up when one wants to."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import Program
from small_host import HEAD, list_plan, plan_of
from wadi.actions.begin import begin
from wadi.plan.lint.starts import LOOKED_AT
from wadi.plan.starts import count_starts, starts_of
from wadi.problems import PlanError
from wadi.store.outcome import Link, Outcome, Role, State
from wadi.store.state import CommitGivenUp, RunState
from wadi.web.messages import Request

PLAN = list_plan(start='"{+site}.{name}.test/{+part}"')


def _files(folder: Path, names: list[str]) -> str:
    (folder / "names.txt").write_text("\n".join(names) + "\n")
    return HEAD + 'name = { file = "names.txt" }\npart = ["a", "b"]\n' + PLAN


def test_an_address_that_is_none_is_found_however_late_it_comes(program: Program) -> None:
    names = [*(f"n{count}" for count in range(LOOKED_AT)), "no host"]
    (program.folder / "p.toml").write_text(_files(program.folder, names))
    for command in ("lint", "run"):
        done = program(command, "p.toml")
        assert done.status == 2
        assert '"http://h.no%20host.test/a" is no URL to begin with' in done.err, done.err
    assert not list(program.folder.glob("runs/*/*"))


def test_starts_are_counted_without_being_made(tmp_path: Path) -> None:
    (tmp_path / "pages").mkdir()
    for name in ("a", "b", "c"):
        (tmp_path / f"pages/{name}.html").write_text("<ul><li>x</ul>")
    top = 'name = ["x", "y"]\npart = ["a", "b"]\n'
    plan = list_plan(start='"{+site}.{name}.test/{+part}", "http://h/{part}", "pages/*.html"')
    loaded = plan_of(
        tmp_path, top + plan, manners='routes = { north = "http://127.0.0.1:1", south = "http://127.0.0.1:2" }'
    )
    made = [start.kind for start in starts_of(loaded.plan, tmp_path)]
    assert count_starts(loaded.plan, tmp_path) == {"list": len(made)}
    assert len(made) == 4 * 2 + 2 * 2 + 3


def test_starts_are_read_part_by_part_in_their_order(tmp_path: Path) -> None:
    names = [f"n{count}" for count in range(1201)]
    (tmp_path / "names.txt").write_text("\n".join(names))
    heard: list[int] = []
    loaded = plan_of(tmp_path, 'name = { file = "names.txt" }\npart = ["a", "b"]\n' + PLAN)
    with begin(loaded, tmp_path / "runs", noted=heard.append) as run:
        found = [(edge.place, edge.inputs) for edge in run.state.starts()]
    assert found == [
        (place, {"site": "http://h", "name": name, "part": part})
        for place, (name, part) in enumerate((name, part) for name in names for part in "ab")
    ]
    assert heard == [1000, 2000]


def test_a_commit_is_given_up_whole(tmp_path: Path) -> None:
    with RunState.create(tmp_path / "run.sqlite") as state:
        state.add_starts([("list", Request("http://h/"), {})])

        links = tuple(Link(Role.OPEN, place, "page", Request(f"http://h/{place}")) for place in range(20))
        looked = iter(range(20))
        with pytest.raises(CommitGivenUp):
            state.commit([Outcome(1, links=links)], is_given_up=lambda: next(looked) == 10)
        assert state.counts() == {State.WAITING: 1, State.DONE: 0, State.FAILED: 0}
        assert state.commit([Outcome(1, links=links)]).pages == 20


def test_a_plan_error_of_a_late_address_is_one_for_the_library_too(tmp_path: Path) -> None:
    names = [*(f"n{count}" for count in range(LOOKED_AT)), "no host"]
    (tmp_path / "names.txt").write_text("\n".join(names))
    loaded = plan_of(tmp_path, 'name = { file = "names.txt" }\npart = ["a", "b"]\n' + PLAN)
    with pytest.raises(PlanError, match="no URL to begin with"):
        begin(loaded, tmp_path / "runs")
