"""Runs again: unchanged pages from the earlier run, listings that end at what is known."""

from __future__ import annotations

import hashlib
import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from aiohttp import web

from conftest import Program, serving
from small_host import SmallHost, items, list_plan, plan_of
from wadi.actions.begin import begin
from wadi.actions.crawl import crawl
from wadi.actions.run import Run
from wadi.problems import PlanError, RunError
from wadi.quality.verify_run import earlier_runs

KEY = '[table.t]\nkey = "name"\n'


def _with_etags(pages: dict[str, str], kind: str, sent: list[tuple[str, int]]) -> dict[str, Any]:
    """Pages that answer 304 to those who have them."""

    def answer(request: web.Request, body: str) -> Any:
        text = pages[request.path]
        tag = f'"{hashlib.sha256(text.encode()).hexdigest()[:8]}"'
        known = request.headers.get("If-None-Match" if kind == "ETag" else "If-Modified-Since")
        status = 304 if known == tag else 200
        sent.append((request.path, status))
        return (status, {kind: tag}, "" if status == 304 else text)

    return dict.fromkeys(pages, answer)


@pytest.mark.parametrize("kind", ["ETag", "Last-Modified"])
def test_unchanged_pages_come_from_the_earlier_run(tmp_path: Path, kind: str) -> None:
    sent: list[tuple[str, int]] = []
    pages = {"/l": items("a", "b", more="<a href=/l2>n</a>"), "/l2": items("c")}
    host = SmallHost(_with_etags(pages, kind, sent))
    with serving(host.application) as site:
        loaded = plan_of(tmp_path, list_plan(page='next = "a"', more=KEY), site)
        with begin(loaded, tmp_path / "runs") as first:
            crawl(first)
        pages["/l2"] = items("c", "d")
        with begin(loaded, tmp_path / "runs", since=str(first.folder)) as second:
            crawl(second)
            assert [row[0] for row in second.read().rows] == ["a", "b", "c", "d"]
        assert sent == [("/l", 200), ("/l2", 200), ("/l", 304), ("/l2", 200)]
        with begin(loaded, tmp_path / "runs", since=str(second.folder)) as third:
            crawl(third)  # the second run is whole, though the site sent half of it
            assert [row[0] for row in third.read().rows] == ["a", "b", "c", "d"]
        with pytest.raises(RunError):
            begin(loaded, tmp_path / "runs", since="nothing")


def test_a_newest_first_listing_ends_at_what_is_known(tmp_path: Path) -> None:
    def page(names: list[str], number: int) -> str:
        part = names[(number - 1) * 2 : number * 2]
        return items(*part, more=f"<a href=/l{number + 1}>n</a>" if number * 2 < len(names) else "")

    names = ["f", "e", "d", "c", "b", "a"]
    replies: dict[str, Any] = {
        f"/l{n if n > 1 else ''}": lambda request, body, n=n: page(names, n) for n in range(1, 6)
    }
    host = SmallHost(replies)
    with serving(host.application) as site:
        loaded = plan_of(tmp_path, list_plan(page='next = { at = "a", end_when = "known rows" }', more=KEY), site)
        found = []
        for news in ([], ["g"], [], ["j", "i", "h"]):
            names[:0] = news
            host.asked.clear()
            with begin(loaded, tmp_path / "runs") as run:
                crawl(run)
                found.append(([row[0] for row in run.read().rows], len(host.asked)))
    assert found == [
        (["f", "e", "d", "c", "b", "a"], 3),
        (["g", "f", "e", "d"], 2),
        (["g", "f"], 1),
        (["j", "i", "h", "g", "f", "e"], 3),
    ]


def _crawl(folder: Path, plan: str, site: str, hour: int) -> tuple[list[list[Any]], Run]:
    now = datetime(2026, 5, 1, hour, tzinfo=UTC)
    with begin(plan_of(folder, plan, site), folder / "runs", now=now) as run:
        crawl(run)
        return run.read().rows, run


def test_a_table_tells_since_when_records_are_known_and_which_are_gone(tmp_path: Path) -> None:
    pages: dict[str, Any] = {"/l": items("a", "b", "c")}
    host = SmallHost(pages)
    plan = list_plan(page='next = "a"', more=KEY) + "history = true\n"
    at = {hour: f"2026-05-01T{hour:02}:00:00+00:00" for hour in range(1, 8)}
    with serving(host.application) as site:
        rows, _ = _crawl(tmp_path, plan, site, 1)
        assert rows == [[name, at[1], at[1], False] for name in "abc"]
        pages["/l"] = items("d", "a", "c")
        rows, _ = _crawl(tmp_path, plan, site, 2)
        assert rows == [
            ["d", at[2], at[2], False],
            ["a", at[1], at[2], False],
            ["c", at[1], at[2], False],
            ["b", at[1], at[1], True],
        ]
        pages["/l"] = items("a", "c", more="<a href=/l2>n</a>")  # the second page fails: who knows what stood there
        rows, _ = _crawl(tmp_path, plan, site, 3)
        assert [row[3] for row in rows] == [False, False, None, None]
        pages["/l"] = items("b", "a")
        rows, run = _crawl(tmp_path, plan, site, 4)
        assert rows[:2] == [["b", at[1], at[4], False], ["a", at[1], at[4], False]]
        assert [(row[0], row[3]) for row in rows[2:]] == [("c", True), ("d", True)]
        with Run.open(run.folder) as again:
            assert again.read().rows == rows
            assert again.read().ledger.earlier == 2


def test_a_comparison_tells_what_came_went_and_changed_and_not_what_a_history_writes(program: Program) -> None:
    """Of runs, and of the files that were written of them; `--history` counts what is there."""
    pages: dict[str, Any] = {"/l": items(*(f"<b>{name}</b><i>{n}</i>" for n, name in enumerate("abcdef")))}
    plan = list_plan('name = "b"\nprice = { at = "i", type = "integer" }', more=KEY + "history = true\nORDER\n")
    for order in ("", 'columns = ["name", "price"]'):
        host = SmallHost(pages)
        with serving(host.application) as site:
            plan_of(program.folder, plan.replace("ORDER", order), site)
            text = (program.folder / "p.toml").read_text().replace("http://h", site)
            (program.folder / "p.toml").write_text(text)
            pages["/l"] = items(*(f"<b>{name}</b><i>{n}</i>" for n, name in enumerate("abcdef")))
            assert program.inside("run", "p.toml", "-o", "one.csv", "-q").status == 0
            pages["/l"] = items(
                "<b>a</b><i>0</i>", "<b>b</b><i>10</i>", "<b>e</b><i>4</i>", "<b>f</b><i>5</i>", "<b>g</b><i>6</i>"
            )
            assert program.inside("run", "p.toml", "-o", "two.csv", "-q").status == 0
        for names in (("p~1", "p"), ("one.csv", "two.csv", "--key", "name"))[: 1 if order else 2]:
            said = json.loads(program.inside("compare", *names, "--json").out)["tables"][0]
            found = {what: said[what] for what in ("added", "removed", "changed", "same")}
            assert found == {"added": 1, "removed": 2, "changed": 1, "same": 3}, (names, said)
            assert [column["name"] for column in said["columns"]] == ["price"]


@pytest.mark.parametrize(
    ("old", "new", "code"),
    [
        ('key = "name"\n', "", "missing-key"),
        ('name = "."\n', 'name = "."\ngone = "i"\n', "double-column"),
    ],
)
def test_seen_needs_a_key_and_its_names(tmp_path: Path, old: str, new: str, code: str) -> None:
    with pytest.raises(PlanError) as caught:
        plan_of(tmp_path, (list_plan(page='next = "a"', more=KEY) + "history = true\n").replace(old, new))
    assert [problem.code for problem in caught.value.problems] == [code]


def test_runs_are_earlier_by_their_moments_and_not_by_their_texts(tmp_path: Path) -> None:
    """A run of 10:00 in summer time was before one of 09:00 UTC."""
    host = SmallHost({"/l": items("a", "b")})
    moments = [datetime.fromisoformat("2026-05-01T10:00:00+02:00"), datetime.fromisoformat("2026-05-01T09:00:00+00:00")]
    folders = []
    with serving(host.application) as site:
        for moment in moments:
            with begin(plan_of(tmp_path, list_plan(), site), tmp_path / "runs", now=moment) as run:
                crawl(run)
                folders.append(run.folder)
                found = earlier_runs(run)
    assert found == folders[:1]
