"""Mending: after a redesign the plan is learned anew from its last good run, and what is not sure is said."""

from __future__ import annotations

import json
import tomllib
from collections.abc import Iterator
from functools import partial
from typing import Any

import pytest

from conftest import Program, plan_text, serving
from small_host import HEAD, SmallHost
from truth import register_rows
from wadi.demo.site import application
from wadi.learn.mends.plan_edit import with_changes

PLAN = "springs.toml"


@pytest.fixture(scope="module")
def redesigned() -> Iterator[str]:
    with serving(partial(application, edition=2)) as address:
        yield address


def _mend(program: Program, site: str, *words: str) -> Any:
    return program.inside("mend", PLAN, "-i", f"site={site}", *words)


def test_a_redesigned_site_is_read_as_before(program: Program, site: str, redesigned: str) -> None:
    """All fourteen columns: other tags and classes, another number format, statuses in words, one column on another page."""
    (program.folder / PLAN).write_text(plan_text(), "utf-8")
    assert program.inside("run", PLAN, "-i", f"site={site}", "-q").status == 0
    before = (program.folder / PLAN).read_bytes()
    broken = program.inside("run", PLAN, "-i", f"site={redesigned}", "-o", "none.csv")
    assert broken.status == 3
    assert f"mend      a redesign?  wadi mend {program.folder / PLAN}" in broken.err
    shown = _mend(program, redesigned)
    assert shown.status == 0, shown.err
    assert (program.folder / PLAN).read_bytes() == before
    assert {'-rows   = "ol.register > li:not(.notice)"', '+rows   = "article.spring-card"'} <= set(
        shown.out.splitlines()
    )
    assert "nothing is changed yet; --write puts this into springs.toml" in shown.err
    told = json.loads(_mend(program, redesigned, "--json", "--write").out)
    fields = {
        change["path"][3]: change
        for change in told["changes"]
        if len(change["path"]) == 4 and change["path"][2] == "fields" and change["new"]
    }
    assert len(fields) >= 13
    assert all(change["rating"] == "sure" for change in fields.values())
    assert told["unmended"] == []
    text = (program.folder / PLAN).read_text("utf-8")
    assert '# a page without the list was blocked or is broken, and not "no rows"' in text
    assert tomllib.loads(text)["page"]["spring"]["fields"]["depth"]["label"] == "Depth"
    assert program.inside("run", PLAN, "-i", f"site={redesigned}", "-o", "new.jsonl", "-q").status in (0, 1)
    rows = [json.loads(line) for line in (program.folder / "new.jsonl").read_text("utf-8").splitlines()]
    wanted = register_rows(redesigned)
    assert [{name: row[name] for name in wanted[0]} for row in rows] == wanted
    again = _mend(program, redesigned)
    assert (again.status, again.out) == (0, "")
    assert "springs.toml: nothing to mend: all columns that" in again.err


LISTING = (
    HEAD
    + """
[start]
page = "list"
addresses = "{+site}/list"
[page.list]
rows = "li"
table = "weirs"
[page.list.fields]
code = { at = ".", attr = "data-code" }
name = ".name"  # what people call it
span = { at = ".span", type = "number", unit = "m" }
state = { at = ".state", map = { "●" = "open", "○" = "shut" } }
[table.weirs]
key = "code"
"""
)


def _list(row: str, count: int = 8) -> str:
    return f"<ul>{''.join(row.format(n=n, m=n * 7 % 5, mark='●○'[n % 2], word=('open', 'shut')[n % 2]) for n in range(1, count + 1))}</ul>"


OLD = '<li data-code="W{n}"><b class=name>Weir number {n}</b><i class=span>{n}.5 m</i><u class=state>{mark}</u></li>'


@pytest.mark.parametrize(
    ("new", "status", "rated", "unmended"),
    [
        # One class is another; nothing else is touched.
        (OLD.replace("class=span", "class=wide"), 0, {"span": "sure"}, []),
        # The values changed since: the place is found by those that did not, and it is told.
        ('<li data-code="W{n}"><b class=name>Weir number {n}</b><i class=wide>{n}.5 m</i><s class=state>{mark}</s></li>', 0, {"span": "sure"}, []),
        # A word in place of the mark: the map goes.
        (OLD.replace("<u class=state>{mark}</u>", "<em class=now>{word}</em>"), 0, {"state": "sure"}, []),
        # The mark elsewhere: the map stays.
        (OLD.replace("<u class=state>{mark}</u>", "<em class=now>{mark}</em>"), 0, {"state": "sure"}, []),
        # It is gone, or other numbers stand there.
        (OLD.replace("<i class=span>{n}.5 m</i>", ""), 1, {}, ["span"]),
        (OLD.replace("<i class=span>{n}.5 m</i>", "<i class=wide>{m}.1 m</i>"), 1, {}, ["span"]),
    ],
    ids=["class", "one value", "word", "mark", "gone", "other values"],
)  # fmt: skip
def test_what_is_broken_is_learned_anew(
    program: Program, new: str, status: int, rated: dict[str, str], unmended: list[str]
) -> None:
    (program.folder / PLAN).write_text(LISTING, "utf-8")
    pages = {"/list": _list(OLD)}
    with serving(SmallHost(pages).application) as site:
        assert program.inside("run", PLAN, "-i", f"site={site}", "-q").status == 0
        pages["/list"] = _list(new)
        done = _mend(program, site, "--json", "--write", "--fresh")
        assert done.status == status, done.err
        told = json.loads(done.out)
        assert {change["path"][-1]: change["rating"] for change in told["changes"]} == rated
        assert [missed["what"] for missed in told["unmended"]] == unmended
        text = (program.folder / PLAN).read_text("utf-8")
        assert 'name = ".name"  # what people call it' in text
        if not unmended:
            rows = json.loads(program.inside("preview", PLAN, "-i", f"site={site}", "--json").out)["tables"][0]["rows"]
            assert rows[:2] == [["W1", "Weir number 1", 1.5, "shut"], ["W2", "Weir number 2", 2.5, "open"]]


def test_json_is_mended_too(program: Program) -> None:
    plan = LISTING.replace('rows = "li"', 'rows = "$.all[*]"').replace('{ at = ".", attr = "data-code" }', '"$.code"').replace(
        '".name"', '"$.name"').replace('{ at = ".span", type = "number", unit = "m" }', '{ at = "$.span", type = "number" }').replace(
        'state = { at = ".state", map = { "●" = "open", "○" = "shut" } }', "")  # fmt: skip
    (program.folder / PLAN).write_text(plan, "utf-8")
    rows = [{"code": f"W{n}", "name": f"Weir {n}", "span": n + 0.5} for n in range(1, 8)]
    anew = [{"id": row["code"], "of": {"label": row["name"], "metres": row["span"]}} for row in rows]
    headers = {"Content-Type": "application/json"}
    pages: dict[str, Any] = {"/list": (200, headers, json.dumps({"all": rows}))}
    with serving(SmallHost(pages).application) as site:
        assert program.inside("run", PLAN, "-i", f"site={site}", "-q").status == 0
        pages["/list"] = (200, headers, json.dumps({"page": {"weirs": anew}}))
        done = _mend(program, site, "--write", "--fresh")
        assert done.status == 0, done.err
        assert 'rows = "$.page.weirs[*]"' in done.out
        shown = json.loads(program.inside("preview", PLAN, "-i", f"site={site}", "--json").out)["tables"][0]["rows"]
        assert shown[0] == ["W1", "Weir 1", 1.5]


def test_it_says_when_it_cannot(program: Program) -> None:
    (program.folder / PLAN).write_text(LISTING, "utf-8")
    pages = {"/list": _list(OLD)}
    with serving(SmallHost(pages).application) as site:
        nothing = _mend(program, site)
        assert (nothing.status, "has no run from which it could be mended [no-such-run]" in nothing.err) == (2, True)
        assert program.inside("run", PLAN, "-i", f"site={site}", "-q").status == 0
        pages["/list"] = "<main><p>We have moved to another office. Please call.</p></main>"
        done = _mend(program, site, "--fresh")
        assert done.status == 3
        assert "none of the last run's records is on the first page of today" in done.err
        assert "[nothing-to-mend-by]" in done.err


@pytest.mark.parametrize(
    ("before", "path", "value", "after"),
    [
        ('[a]\nx = 1    # why\ny = 2\n', ("a", "x"), "longer", '[a]\nx = "longer"    # why\ny = 2\n'),
        ('[a]\nx = "as long as it was"    # why\n', ("a", "x"), "s", '[a]\nx = "s"                    # why\n'),
        ("[a]\nx = 1\n\n[b]\n", ("a", "long"), {"at": 'p[x="1"]', "many": True}, "[a]\nx = 1\nlong = { at = 'p[x=\"1\"]', many = true }\n\n[b]\n"),
        ("[a]\nx = 1\ny = 2\n", ("a", "x"), None, "[a]\ny = 2\n"),
        ("[a.next]\nat = 'a'\ntext = 'Older'  # the link\n", ("a", "next"), {"text": "Next"}, "[a.next]\ntext = \"Next\"  # the link\n"),
        ("[a]\nnext = { text = 'Older' }\n", ("a", "next"), {"rel": "next"}, '[a]\nnext = { rel = "next" }\n'),
    ],
)  # fmt: skip
def test_a_plan_keeps_its_comments_and_its_layout(before: str, path: tuple[str, ...], value: Any, after: str) -> None:
    assert with_changes(before, [(path, value)]) == after


def test_the_last_good_run_is_taken(program: Program) -> None:
    (program.folder / PLAN).write_text(LISTING, "utf-8")
    pages = {"/list": _list(OLD, 20)}
    with serving(SmallHost(pages).application) as site:
        assert program.inside("run", PLAN, "-i", f"site={site}", "-q").status == 0
        pages["/list"] = _list(OLD.replace("class=span", "class=wide"), 20)
        blank = program.inside("run", PLAN, "-i", f"site={site}")
        assert "mend      a redesign?  wadi mend" in blank.err
        assert "wadi mend" in program.inside("verify", "springs").out
        told = json.loads(_mend(program, site, "--json", "--fresh").out)
        assert [change["path"][-1] for change in told["changes"]] == ["span"]
        assert told["changes"][0]["before"] == 1.0
