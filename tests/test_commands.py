"""The installed program: statuses, what goes to which stream, the demo, and what goes wrong."""

from __future__ import annotations

import csv
import io
import json
import re
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest
from aiohttp import web

from conftest import EXAMPLES, Program, plan_text, serving
from truth import register_rows
from wadi.cli.main import COMMANDS
from wadi.demo.site import application


def _as_csv(row: dict[str, Any]) -> dict[str, str]:
    """A row of the truth as it stands in a CSV file."""
    return {
        name: ""
        if value in (None, [])
        else json.dumps(value, ensure_ascii=False, separators=(",", ":"))
        if isinstance(value, list)
        else str(value)
        for name, value in row.items()
    }


@pytest.mark.parametrize("parallel", [1, 8])
def test_the_table_equals_the_truth_cell_by_cell_and_in_order(program: Program, site: str, parallel: int) -> None:
    (program.folder / "springs.toml").write_text(plan_text(parallel=str(parallel)))
    done = program("run", "springs.toml", "-i", f"site={site}", "-o", "out.csv", "-o", "out.jsonl")
    assert done.status == 0, done.err
    assert done.out == ""
    assert "354 rows of 354 that the site states" in done.err
    truth = register_rows(site)
    with (program.folder / "out.csv").open(newline="", encoding="utf-8") as file:
        assert list(csv.DictReader(file)) == [_as_csv(row) for row in truth]
    lines = (program.folder / "out.jsonl").read_text("utf-8").splitlines()
    assert [json.loads(line) for line in lines] == truth


def test_the_demo_shows_rows_and_names_its_files_and_runs_again(program: Program) -> None:
    done = program("demo")
    assert done.status == 0, done.err
    assert done.out.split()[:3] == ["code", "name", "kind"]
    assert "wadi-demo/springs.csv: 354 rows" in done.err
    assert len((program.folder / "wadi-demo" / "springs.csv").read_text("utf-8").splitlines()) == 355
    again = program("export", "wadi-demo/runs/springs", "-o", "-")
    assert again.status == 0
    assert again.out.splitlines()[0].startswith("code,name,kind,district,status,flow,depth,registered")
    assert [path.name for path in program.folder.iterdir()] == ["wadi-demo"]


def test_a_rows_limit_and_standard_output(program: Program, site: str) -> None:
    (program.folder / "springs.toml").write_text(plan_text())
    done = program("run", "springs.toml", "-i", f"site={site}", "--rows", "40", "-o", "-", "-q")
    rows = list(csv.DictReader(io.StringIO(done.out)))
    assert (done.status, done.err) == (0, "")
    assert rows == [_as_csv(row) for row in register_rows(site)[:40]]
    assert program("run", "springs.toml", "-i", f"site={site}", "--rows", "2", "--strict", "-q").status == 3


def test_the_summary_as_json_and_the_journal(program: Program, site: str) -> None:
    (program.folder / "springs.toml").write_text(plan_text())
    done = program("run", "springs.toml", "-i", f"site={site}", "--pages", "3", "--json", "-q")
    told = json.loads(done.out)
    assert done.status == 0
    assert (told["format"], told["end"], told["stated_total"]) == (1, "pages limit", 354)
    assert told["pages"]["done"] == 3
    assert told["tables"][0]["columns"][0] == {
        "name": "code", "type": "string", "many": False, "unit": None, "filled": 30, "unread": 0, "several": 0,
    }  # fmt: skip
    journal = [json.loads(line) for line in (program.folder / told["run"] / "run.log").read_text().splitlines()]
    assert [line["event"] for line in journal].count("page_done") == 3


def test_what_robots_txt_forbids_is_not_asked_for_unless_the_plan_says_why(program: Program, site: str) -> None:
    plan = PLAN.replace("ADDRESS", f"{site}/members/")
    (program.folder / "p.toml").write_text(plan)
    for command in ("run", "preview"):
        done = program(command, "p.toml")
        assert done.status == 3
        assert f'{site}/members/ not fetched: robots.txt line 3, "Disallow: /members/" [robots]' in done.err
    (program.folder / "q.toml").write_text(
        plan.replace("retries = 0", 'retries = 0\nignore_robots = "the office asked us to"')
    )
    assert program("run", "q.toml").status == 0


def _with_faults(**faults: int) -> web.Application:
    """The sample site with a status instead of some paths."""

    @web.middleware
    async def broken(request: web.Request, handler: Any) -> web.StreamResponse:
        status = faults.get(request.match_info.get("code", "").replace("-", "_"))
        return web.Response(status=status) if status else await handler(request)

    return application((broken,))


def test_two_missing_details_are_status_1_and_keep_their_rows(program: Program) -> None:
    (program.folder / "springs.toml").write_text(plan_text())
    with serving(lambda: _with_faults(MW_0001=404, MW_0350=410)) as site:
        done = program("run", "springs.toml", "-i", f"site={site}", "-o", "out.csv")
    assert done.status == 1
    assert "354 rows of 354" in done.err
    assert "2 rows without the detail page's columns" in done.err
    assert "register/MW-0001: status 404 (Not Found) [http-status]" in done.err
    assert len((program.folder / "out.csv").read_text().splitlines()) == 355


def test_a_site_that_stops_in_the_middle_leaves_rows_to_be_exported_and_reasons(program: Program) -> None:
    served = subprocess.Popen(
        [*program.command, "demo", "--serve", "--announce"], stdout=subprocess.PIPE, text=True, env=program.environment
    )
    assert served.stdout is not None
    site = served.stdout.readline().split()[1]
    (program.folder / "springs.toml").write_text(
        plan_text(pause='"10ms"', parallel='2\nretries = 1\nfirst_wait = "50ms"\nrest = "50ms"\nslowest = "50ms"')
    )
    running = program.start("run", "springs.toml", "-i", f"site={site}", "-o", "out.csv")
    _wait_for_pages(program.folder, 40)  # in the middle of the second page's details
    served.kill()
    served.communicate()
    _, err = running.communicate(timeout=60)
    assert running.returncode == 3, err
    assert "Traceback" not in err
    assert "nothing answers at" in err
    assert "giving up on" in err
    assert "known but not asked for" in err
    assert not (program.folder / "out.csv").exists()
    assert program("export", "springs", "-o", "out.csv").status == 1  # a part
    rows = (program.folder / "out.csv").read_text("utf-8").splitlines()
    assert 1 < len(rows) < 355


def _wait_for_pages(folder: Path, pages: int) -> None:
    """Return as soon as the run's journal tells of so many pages read."""
    for _ in range(3000):
        if sum(log.read_text("utf-8").count('"page_done"') for log in folder.glob("runs/*/*/run.log")) >= pages:
            return
        time.sleep(0.01)
    raise AssertionError("the run did not get so far")


def test_ctrl_c_keeps_what_is_committed(program: Program, site: str) -> None:
    (program.folder / "springs.toml").write_text(plan_text(pause='"50ms"', parallel="1"))
    running = program.start("run", "springs.toml", "-i", f"site={site}", "-o", "out.csv")
    _wait_for_pages(program.folder, 25)
    running.send_signal(signal.SIGINT)
    _, err = running.communicate(timeout=30)
    assert running.returncode == 130, err
    assert "(interrupted)" in err
    assert "Traceback" not in err
    assert "its part:  wadi export runs/springs/" in err
    assert program("export", "springs", "-o", "out.csv").status == 1  # a part
    assert len((program.folder / "out.csv").read_text("utf-8").splitlines()) > 20


PLAN = 'wadi = 1\n[start]\npage = "p"\naddresses = "ADDRESS"\n[manners]\nretries = 0\nfirst_wait = "0s"\nrest = "0s"\n[page.p]\ntable = "t"\n[page.p.fields]\na = "b"\n'


@pytest.mark.parametrize(
    ("arguments", "status", "telling"),
    [
        (["run", "missing.toml"], 2, "missing.toml: no such file [no-such-file]"),
        (["run", "pln.toml"], 2, "did you mean plan.toml?"),
        (["run", "empty.toml"], 2, 'empty.toml:1: "wadi" is missing in the plan [missing-key]'),
        (["run", "folder"], 2, "folder: this is a folder, a plan is a file [not-a-file]"),
        (["run", "latin.toml"], 2, "latin.toml:1:2: byte 0xe9 is not UTF-8 [not-utf8]"),
        (["run", "ftp.toml"], 2, "scheme 'ftp' is not http or https [bad-url]"),
        (["run", "host.toml"], 3, 'the host name "no-such-host.invalid" is not known [unreachable]'),
        (["run", "plan.toml"], 3, "nothing answers at 127.0.0.1:1 (connection refused) [unreachable]"),
        (["run", "plan.toml", "-o", "t.docx"], 2, 'the ending .docx names no format [unknown-format]'),
        (["run", "plan.toml", "-o", "no/where.csv"], 2, "no/where.csv: cannot be written: the folder no does not exist"),
        (["run", "plan.toml", "-o", "folder"], 2, "[unknown-format]"),
        (["run", "plan.toml", "-i", "site"], 2, '--input "site" is no NAME=VALUE'),
        (["run", "plan.toml", "-i", "site=1"], 2, '--input site: the plan has no input "site"'),
        (["run", "plan.toml", "--table", "x"], 2, 'there is no table "x" [no-such-table]'),
        (["run", "plan.toml", "--rows", "0"], 2, "'0' is no whole number from 1"),
        (["run", "plan.toml", "--json", "-o", "-"], 2, "both want standard output"),
        (["run"], 2, "the following arguments are required: PLAN"),
        (["export", "springs", "-o", "x.csv"], 2, 'no run "springs" [no-such-run]'),
        (["export", "damaged", "-o", "x.csv"], 2, "the run's database cannot be read"),
        (["lint", "missing.toml"], 2, "no such file"),
        (["rnu", "plan.toml"], 2, 'did you mean "wadi run"?'),
        (["demo", "--port", "99999"], 2, "no port"),
    ],
)  # fmt: skip
def test_wrong_input_gets_one_clear_word(program: Program, arguments: list[str], status: int, telling: str) -> None:
    folder = program.folder
    (folder / "plan.toml").write_text(PLAN.replace("ADDRESS", "http://127.0.0.1:1/"))
    (folder / "host.toml").write_text(PLAN.replace("ADDRESS", "http://no-such-host.invalid/"))
    (folder / "ftp.toml").write_text(PLAN.replace("ADDRESS", "ftp://127.0.0.1/"))
    (folder / "empty.toml").write_text("")
    (folder / "latin.toml").write_bytes(b"#\xe9")
    (folder / "folder").mkdir()
    (folder / "damaged").mkdir()
    (folder / "damaged" / "run.sqlite").write_bytes(b"no database" * 100)
    done = program.inside(*arguments)
    assert done.status == status, done.err
    assert telling in done.err
    assert done.out == ""


def test_a_port_in_use_and_a_folder_in_the_way_are_said(program: Program, site: str) -> None:
    done = program("demo", "--serve", "--port", site.rpartition(":")[2])
    assert (done.status, "cannot be used" in done.err) == (2, True)
    (program.folder / "wadi-demo").write_text("in the way")
    done = program("demo")
    assert (done.status, "wadi-demo/ cannot be made here" in done.err) == (2, True)


@pytest.mark.parametrize("name", COMMANDS)
def test_every_command_has_help_with_two_examples(program: Program, name: str) -> None:
    done = program.inside(name, "--help")
    assert done.status == 0
    assert done.out.startswith(f"usage: wadi {name}")
    assert done.out.count(f"\n  wadi {name}") >= 2


def test_help_version_and_module_agree(program: Program) -> None:
    assert all(name in program("--help").out for name in COMMANDS)
    module = subprocess.run([sys.executable, "-m", "wadi", "--version"], capture_output=True, text=True, check=True)
    assert module.stdout == program("--version").out
    assert program().status == 2


@pytest.mark.parametrize(
    ("arguments", "absent"),
    [
        (["--help"], "pydantic lxml rich asyncio aiohttp pandas"),
        (["lint", str(EXAMPLES / "springs.toml")], "aiohttp asyncio pandas matplotlib rich jinja2"),
        (["run", "--help"], "aiohttp pandas rich lxml pydantic"),
    ],
)
def test_a_command_imports_only_what_it_needs(program: Program, arguments: list[str], absent: str) -> None:
    code = f"import sys, io\nfrom wadi.cli.main import main\ntry: main({arguments!r}, io.StringIO(), io.StringIO())\nexcept SystemExit: pass\nsys.stderr.write(' '.join(sys.modules))"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True, cwd=program.folder)
    assert set(absent.split()) & set(done.stderr.split()) == set()


def test_a_closed_pipe_ends_quietly(program: Program, site: str) -> None:
    (program.folder / "springs.toml").write_text(plan_text())
    assert program("run", "springs.toml", "-i", f"site={site}", "-q").status == 0
    line = f"{program.command[0]} export springs -o - | head -1"
    done = subprocess.run(["bash", "-c", line], capture_output=True, text=True, cwd=program.folder, check=True)
    assert done.stdout.startswith("code,")
    assert done.stderr == ""


def test_a_fault_of_our_own_is_status_70_without_a_traceback(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    from wadi.cli import lint
    from wadi.cli.main import main

    def broken(*_: object) -> None:
        raise RuntimeError("broken inside")

    monkeypatch.setattr(lint, "run", broken)
    err = io.StringIO()
    assert main(["lint", "x.toml"], io.StringIO(), err) == 70
    assert "an internal error: RuntimeError: broken inside" in err.getvalue()


# -- inspect, try, preview


def test_try_offers_no_keys_that_say_nothing_of_a_single_value(program: Program) -> None:
    options = set(re.findall(r"^  --(\w+)", program("try", "--help").out, re.M))
    assert {"type", "unit", "adjust", "find", "split"} <= options
    assert not options & {"at", "parts", "whole", "of", "required", "about", "name"}


@pytest.mark.parametrize(
    ("path", "expression", "count", "kind"),
    [
        ("/register", "li[data-code]", 30, "listing"),
        ("/register?page=7", "li[data-code]", 30, "listing"),
        ("/register?page=9", "li[data-code]", 30, "listing"),
        ("/districts", "ul.cards > li", 6, "listing"),
        ("/district/saltholm", "tr[data-code]", 59, "table"),
        ("/levels", "tbody > tr", 25, "table"),
        ("/notices", "#all ul.notes > li", 24, "listing"),
        ("/partners", "tr:has(> td)", 5, "table"),
        ("/news.xml", "item", 24, "feed"),
    ],
)
def test_inspect_names_the_right_rows_first(
    program: Program, site: str, path: str, expression: str, count: int, kind: str
) -> None:
    told = json.loads(program.inside("inspect", f"{site}{path}", "--json").out)
    assert (told["rows"][0]["expression"], told["rows"][0]["count"], told["kind"]["kind"]) == (expression, count, kind)
    assert told["robots"]["allowed"]


def test_inspect_shows_the_total_the_next_link_and_the_json_behind_a_page(program: Program, site: str) -> None:
    register = program("inspect", f"{site}/register").out
    assert "stated total 354" in register
    assert 'next = { at = "nav.pages > a", text = "Older" }' in register
    assert "kept for the day" in register
    assert "from today's cache" in program("inspect", f"{site}/register").out
    gauges = program("inspect", f"{site}/gauges").out
    assert "kind     script shell" in gauges
    assert f"{site}/api/gauges?page=  (a script asks for it" in gauges
    levels = json.loads(program("inspect", f"{site}/levels", "--json").out)
    assert levels["sources"][0]["url"] == f"{site}/api/levels.json"
    assert levels["tables"][0]["headings"] == ["Code", "Name", "Level", "Read at"]
    detail = json.loads(program("inspect", f"{site}/register/MW-0141", "--json").out)
    assert detail["structured"]["jsonld"][0]["identifier"] == "MW-0141"
    api = program("inspect", f"{site}/api/gauges?page=1").out
    assert "$.items[*]    20 rows" in api
    assert 'next = "$.next"' in api


@pytest.mark.parametrize(
    ("arguments", "status", "telling"),
    [
        (["h3 a", "--limit", "2"], 0, "31 matches"),
        (["h3 a"], 0, "line 29   html > body > main#content > ol.register > li.entry:nth-of-type(1) > h3 > a"),
        ([".flow", "h3 a", "--rows", "li.entry", "--limit", "3"], 0, ".flow: nothing in 1 row: 1"),
        ([".flow", "--rows", "li[data-code]", "--type", "number", "--locale", "fr", "--unit", "l/s"], 0, "30 rows"),
        ([".flow", "--type", "number"], 0, "has 'l/s' after the number"),
        (["h3 a", "--attr", "href", "--type", "url", "--limit", "2"], 0, "→"),
        (["h3 a", "--find", "^(A.*)", "--clean", "upper"], 0, "→  ASH SPRING"),
        (["re:Page (\\d+) of"], 0, "1 match"),
        (["count(//li)"], 0, "1 match"),
        (["li.entri"], 1, 'but 31 have "entry"'),
        (["h3 a", "--rows", "li.entri"], 1, "no match"),
        (["li["], 2, "li[\n     ^"),
        (["li", "--type", "nubmer"], 2, "invalid choice: 'nubmer'"),
        (["li", "--find", "("], 2, "--find '('"),
        (["li", "--clean", "aftr x"], 2, 'did you mean "after"?'),
        (["li", "--type", "number", "--locale", "xx_y"], 2, "not known"),
        ([], 2, "no terminal for a prompt"),
    ],
)
def test_try(program: Program, site: str, arguments: list[str], status: int, telling: str) -> None:
    done = program.inside("try", f"{site}/register", *arguments)
    assert done.status == status, done.err
    assert telling in done.out + done.err


def test_try_reads_files_standard_input_json_and_stored_pages(program: Program, site: str) -> None:
    (program.folder / "a.json").write_text('{"rows": [{"n": 1}, {"n": 2}]}')
    done = program("try", "a.json", "$.n", "--rows", "$.rows[*]", "--json")
    assert [row["$.n"][0]["values"] for row in json.loads(done.out)["found"]] == [["1"], ["2"]]
    piped = subprocess.run(
        [*program.command, "try", "-", "b"], input=b"<b>x</b>", capture_output=True, env=program.environment
    )
    assert b"1 match" in piped.stdout
    (program.folder / "springs.toml").write_text(plan_text())
    assert program("run", "springs.toml", "-i", f"site={site}", "--pages", "2", "-q").status == 0
    assert "354" in program("try", "springs#1", ".count").out
    assert "page 2 of runs" in program("inspect", "springs#2").out
    assert "no stored page 9" in program("try", "springs#9", "a").err


def test_preview_reads_little_and_a_second_time_nothing(program: Program, site: str) -> None:
    (program.folder / "springs.toml").write_text(plan_text())
    first = program("preview", "springs.toml", "-i", f"site={site}")
    assert first.status == 0, first.err
    assert "read      6 pages (1 register, 5 spring)" in first.out
    assert "about 366 requests (12 register, 354 spring)" in first.out
    told = json.loads(program("preview", "springs.toml", "-i", f"site={site}", "--json").out)
    assert all(page["from_cache"] for page in told["pages"])
    truth = register_rows(site)
    names = told["tables"][0]["columns"]
    assert [dict(zip(names, row, strict=True))["code"] for row in told["tables"][0]["rows"]] == [
        row["code"] for row in truth[:5]
    ]
    status = next(one for one in told["fields"] if one["name"] == "status")
    assert (status["rows"], status["filled"]) == (30, sum(row["status"] is not None for row in truth[:30]))


def test_preview_tells_what_is_wrong_with_fields(program: Program, site: str) -> None:
    plan = (
        plan_text()
        .replace('locale = "fr", unit = "l/s"', 'locale = "en", unit = "l/s"')
        .replace('name       = "h3 a"', 'name = "p, dd"\nnone = ".no-such"')
    )
    (program.folder / "p.toml").write_text(plan)
    done = program("preview", "p.toml", "-i", f"site={site}", "--page-kind", "register", "-o", "first.csv")
    assert done.status == 0
    assert "'2,2 l/s' is no number in locale 'en' [not-a-number]" in done.out
    assert [line.split()[2:6] for line in done.out.splitlines() if line.startswith("  none ")] == [
        ["0", "of", "30", "0"]
    ]
    assert [line.split()[7] for line in done.out.splitlines() if line.startswith("  name ")] == ["30"]
    assert "first.csv: 30 rows" in done.err
    assert "5 spring" not in done.out


def test_preview_samples_by_seed_and_names_failures(program: Program, site: str) -> None:
    (program.folder / "p.toml").write_text(plan_text())
    pages = [
        json.loads(program("preview", "p.toml", "-i", f"site={site}", "--sample", "8", "--seed", seed, "--json").out)[
            "pages"
        ]
        for seed in ("3", "3", "4")
    ]
    urls = [[page["url"] for page in one] for one in pages]
    assert urls[0] == urls[1] != urls[2]
    assert len(urls[0]) == 8
    with serving(lambda: _with_faults(MW_0141=404)) as broken:
        done = program("preview", "p.toml", "-i", f"site={broken}")
    assert (done.status, "status 404" in done.out) == (1, True)
    assert "5 spring" in done.out
    (program.folder / "x.toml").write_text(plan_text().replace('expect = "ol.register"', 'expect = "ol.gone"'))
    done = program("preview", "x.toml", "-i", f"site={site}")
    assert done.status == 3
    assert 'reply 200 without "ol.gone" (expect, x.toml:19)' in done.err


@pytest.mark.parametrize(
    ("name", "content", "status", "telling"),
    [
        ("empty.html", b"", 2, "the reply is empty"),
        ("image.png", b"\x89PNG\r\n\x1a\n", 2, "it is binary"),
        ("bytes.dat", bytes(range(256)) * 50, 2, "it is binary"),
        ("tags.html", b"<b>" * 5_000_001, 2, "more than 5,000,000 tags"),
        ("broken.json", b'{"a": ', 2, "it is no JSON"),
        ("large.json", b"[" + b" " * 20_000_001, 2, "larger than 20 MB (20 MB): it is not read"),
    ],
)
def test_pages_that_are_none_get_a_clear_word(
    program: Program, name: str, content: bytes, status: int, telling: str
) -> None:
    (program.folder / name).write_bytes(content)
    done = program("inspect", name)
    assert done.status == status
    assert telling in done.out + done.err


@pytest.mark.parametrize(
    ("page", "status", "telling"),
    [
        ("nothing.html", 2, "no such file"),
        ("ftp://127.0.0.1/x", 2, "only http and https are fetched"),
        ("http://", 2, "no URL"),
        ("http://127.0.0.1:1/", 3, "connection refused"),
        (".", 2, "this is a folder"),
    ],
)
def test_pages_that_cannot_be_had(program: Program, page: str, status: int, telling: str) -> None:
    done = program("inspect", page)
    assert (done.status, telling in done.err) == (status, True), done.err


def test_the_library_opens_pages(program: Program, site: str, monkeypatch: pytest.MonkeyPatch) -> None:
    import wadi

    monkeypatch.setenv("WADI_CACHE", str(program.folder / "cache"))
    frame = wadi.open_page(f"{site}/register").rows("li[data-code]", name="h3 a", flow=".flow", none=".none")
    assert list(frame.columns) == ["name", "flow", "none"]
    assert frame["name"].tolist()[:2] == [row["name"] for row in register_rows(site)[:2]]
    assert frame["none"].isna().all()


def test_try_without_an_expression_is_a_prompt_with_history(program: Program) -> None:
    import os
    import pty

    (program.folder / "page.html").write_text("<ul><li class=a>one<li>two</ul>")
    main, follower = pty.openpty()
    environment = {**program.environment, "TERM": "dumb", "XDG_STATE_HOME": str(program.folder / "state")}
    started = subprocess.Popen(
        [*program.command, "try", "page.html"],
        stdin=follower,
        stdout=follower,
        stderr=follower,
        cwd=program.folder,
        env=environment,
    )
    os.close(follower)
    shown = b""

    def until(mark: bytes) -> None:
        nonlocal shown
        while mark not in shown:
            shown += os.read(main, 4096)

    until(b"try> ")
    os.write(main, b"li.a\r")
    until(b"1 match")
    os.write(main, b"li[\r")
    until(b"bad-expression")
    for _ in range(40):
        os.write(main, b"\x04")  # lost if it comes before the prompt listens again
        try:
            assert started.wait(0.5) == 0
            break
        except subprocess.TimeoutExpired:
            continue
    assert started.returncode == 0
    os.close(main)
    assert "+li.a" in next(program.folder.glob("state/wadi/*")).read_text()
