"""The library as a notebook uses it, objects that show themselves, and the habits of a shell."""

from __future__ import annotations

import asyncio
import gc
import importlib.util
import io
import json
import os
import pty
import re
import shutil
import subprocess
import sys
import termios
import warnings
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest

import wadi
from conftest import EXAMPLES, Program
from small_host import HEAD, list_plan
from wadi.actions.run import Run
from wadi.cli.completion import words
from wadi.cli.main import COMMANDS, command_first, main
from wadi.crawl.events import Event, Progress
from wadi.learn.mends.changes import Change, Mending
from wadi.plan.reader import parse_plan
from wadi.quality.figures import numbers_of
from wadi.web.client import user_agent

PLAN = EXAMPLES / "gauges.toml"


@pytest.fixture(scope="module")
def tariffs(site: str, tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Run, list[Event]]]:
    heard: list[Event] = []
    folder = tmp_path_factory.mktemp("face")
    with wadi.run(PLAN, {"site": site}, runs=folder, report=heard.append) as run:
        yield run, heard


def test_a_run_takes_what_a_person_has_at_hand(tariffs: tuple[Run, list[Event]], tmp_path: Path) -> None:
    run, heard = tariffs
    assert any(isinstance(event, Progress) for event in heard)
    for what in (run, run.folder, str(run.folder)):
        assert wadi.verify(what).holds
        assert wadi.profile(what)[0].rows == len(run.table())
        assert not wadi.compare(what, run)[0].differs
        assert wadi.export(what, tmp_path / "t.csv") == len(run.table())
    with wadi.reparse(run, runs=tmp_path / "again") as again:
        assert again.table().equals(run.table())
    with wadi.reparse(run.folder, PLAN, runs=tmp_path / "again") as again:
        assert again.table().equals(run.table())


def test_limits_and_going_on(site: str, tmp_path: Path) -> None:
    with wadi.run(str(EXAMPLES / "springs.toml"), {"site": site}, rows=5, runs=tmp_path) as run:
        assert len(run.table()) == 5
    with wadi.resume("springs", rows=9, runs=tmp_path) as run:
        assert len(run.table()) == 9
    with pytest.raises(wadi.WadiError, match="no-such-file"):
        wadi.run(tmp_path / "none.toml")


def test_a_crawl_runs_beside_other_work_in_a_loop(site: str, tmp_path: Path) -> None:
    async def both() -> tuple[int, int]:
        ticks = 0

        async def tick() -> None:
            nonlocal ticks
            while True:
                ticks += 1
                await asyncio.sleep(0.01)

        ticking = asyncio.create_task(tick())
        run = await wadi.run_async(PLAN, {"site": site}, runs=tmp_path)
        ticking.cancel()
        with run:
            return len(run.table()), ticks

    rows, ticks = asyncio.run(both())
    assert rows > 5
    assert ticks > 3


def test_objects_show_themselves_in_a_line_and_as_a_table(
    tariffs: tuple[Run, list[Event]], site: str, tmp_path: Path
) -> None:
    run, _ = tariffs
    page = wadi.open_page(f"{site}/register")
    older = tmp_path / "old.csv"
    table = run.table()
    table.head(3).to_csv(older, index=False)
    newer = tmp_path / "new.csv"
    table.to_csv(newer, index=False)
    key = [str(name) for name in table.columns[:2]]
    shown = {
        "run": (run, "complete", "temperature"),
        "page": (page, "/register", "<td style='text-align:left'>30</td>"),
        "verdict": (wadi.verify(run), "every check holds", "every check holds"),
        "profile": (wadi.profile(run)[0], "columns", "100 %"),
        "comparison": (wadi.compare(older, newer, key=key)[0], "added", "<th"),
    }
    for name, (thing, line, part) in shown.items():
        assert line in repr(thing), name
        assert len(repr(thing)) < 300, name
        assert "\n" not in repr(thing), name
        assert part in thing._repr_html_(), name  # type: ignore[attr-defined]


def test_html_of_a_notebook_is_escaped(tmp_path: Path) -> None:
    page = tmp_path / "p.html"
    page.write_text("<title><script>alert(1)</script></title>" + "<li class='&lt;b&gt;'>x</li>" * 5, "utf-8")
    assert "<script>" not in wadi.open_page(str(page))._repr_html_()


def test_a_draft_and_a_mending_show_themselves_in_a_line_and_as_a_table(tmp_path: Path) -> None:
    (tmp_path / "p.html").write_text(
        "<ul>" + "".join(f"<li><b>Well {n}</b><i>{n} m</i></li>" for n in range(7)) + "</ul>", "utf-8"
    )
    found = wadi.draft(str(tmp_path / "p.html"), rows=[{"name": "Well 1", "kept": "<script>"}])
    assert repr(found).endswith(
        'p.html: "name"; this is all: nothing on the page says that it goes on; left out: kept>'
    )
    shown = found._repr_html_()
    assert "is not on this page" in shown
    assert "<script>" not in shown
    assert found.preview()["name"].tolist()[:2] == ["Well 0", "Well 1"]
    mending = Mending(
        [Change(("page", "list", "rows"), "ul", "ol", "sure", "all rows")], [("flow", "nothing has it")], 3, ["p"]
    )
    assert repr(mending) == "<wadi mending: 1 change: page.list.rows (sure); not mended: flow>"
    assert "nothing has it" in mending._repr_html_()


def test_a_cell_is_traced(tariffs: tuple[Run, list[Event]]) -> None:
    run, _ = tariffs
    cells = wadi.trace(run, 1)
    assert [cell.column for cell in cells] == [column.name for column in run.assembly().columns]
    (flow,) = wadi.trace(run, str(run.table()["code"][2]), "flow")
    assert (flow.column, flow.value, flow.expression) == ("flow", run.table()["flow"][2], "$.flow_lps")
    assert re.fullmatch(
        r"<flow = [\d.]+: \$\.flow_lps on page 1 \(http.*\); picked: .* → type: number: [\d.]+>", repr(flow)
    )
    for row, column in ((1, "flwo"), (10_000, None), ("nobody", None)):
        with pytest.raises(wadi.WadiError):
            wadi.trace(run, row, column)


def test_a_plan_is_built_of_its_keys(site: str, tmp_path: Path) -> None:
    keys = {
        "start": {"page": "dry", "addresses": f"{site}/dry"},
        "manners": {"pause": 0.0},
        "page": {"dry": {"rows": "ul.plain > li", "table": "dry", "fields": {"name": "a"}}},
    }
    plan = wadi.build_plan(keys, name="dry")
    with wadi.run(plan, runs=tmp_path, rows=2) as run:
        assert len(run.table()) == 2
    with wadi.open_run("dry", runs=tmp_path) as again:
        assert again.loaded.plan.page == plan.plan.page
    with pytest.raises(wadi.WadiError, match="unknown"):
        wadi.build_plan({**keys, "pgae": {}})
    with pytest.raises(wadi.WadiError, match="no plan can hold this"):
        wadi.build_plan({**keys, "title": object()})


def test_dir_shows_what_is_public() -> None:
    assert dir(wadi) == sorted(wadi.__all__)
    for name in wadi.__all__:
        assert getattr(wadi, name) is not None


def test_nothing_is_left_open(site: str, tmp_path: Path) -> None:
    with warnings.catch_warnings():
        warnings.simplefilter("error", ResourceWarning)
        with wadi.run(PLAN, {"site": site}, rows=3, runs=tmp_path) as run:
            wadi.verify(run)
            wadi.profile(run)
        forgotten = wadi.run(PLAN, {"site": site}, rows=3, runs=tmp_path)
        assert len(forgotten.table()) == 3
        del forgotten
        gc.collect()
    open_files = [
        str(path.readlink()) for path in Path("/proc/self/fd").iterdir() if path.is_symlink() and path.exists()
    ]
    assert [name for name in open_files if str(tmp_path) in name] == []


@pytest.mark.parametrize(
    ("values", "is_logarithmic"),
    [
        ([1.0, 2.0, 3.0, 5.0, 8.0, 13.0, 20.0, 4.0], False),
        ([0.1 * 1.4**n for n in range(40)], True),
        ([0.0] * 12 + [0.1 * 1.4**n for n in range(40)], True),
        ([-1.0, *(0.1 * 1.4**n for n in range(40))], False),
        ([5.0] * 10, False),
    ],
)
def test_skewed_numbers_are_binned_on_a_logarithmic_axis(values: list[float], is_logarithmic: bool) -> None:
    numbers = numbers_of(sorted(values))
    assert numbers is not None
    assert numbers.is_logarithmic is is_logarithmic
    assert sum(count for _, _, count in numbers.bins) + numbers.zeros == len(values)
    assert numbers.zeros == (values.count(0.0) if is_logarithmic else 0)
    if is_logarithmic:
        assert max(count for _, _, count in numbers.bins) * 3 < len(values)


def test_a_new_plan_is_right_and_runs_stay_out_of_a_repository(program: Program) -> None:
    (program.folder / ".gitignore").write_text("*.csv", "utf-8")
    assert program("new", "springs", "--address", "http://127.0.0.1:8700/register?x=1").status == 0
    plan = (program.folder / "springs.toml").read_text("utf-8")
    assert parse_plan(plan, "springs.toml").plan.start.addresses == ["{+site}/register?x=1"]
    assert program("lint", "springs.toml").status == 0
    assert (program.folder / ".gitignore").read_text("utf-8") == "*.csv\nruns/\n"
    again = program("new", "springs")
    assert (again.status, "there is a plan of this name" in again.err) == (2, True)
    assert (program.folder / "springs.toml").read_text("utf-8") == plan
    assert program("new", "2nd plan", "-q").status == 0
    assert program("lint", "2nd plan.toml").status == 0
    for wrong in (["new", "a", "--address", "ftp://x/"], ["new", "no/such/folder/a"]):
        assert program(*wrong).status == 2
    assert not (program.folder / "a.toml").exists()


@pytest.mark.parametrize(
    ("argv", "same"),
    [
        (["-q", "run", "p.toml"], ["run", "-q", "p.toml"]),
        (["--debug", "-v", "lint"], ["lint", "--debug", "-v"]),
        (["run", "-q", "p.toml"], ["run", "-q", "p.toml"]),
        (["-q"], ["-q"]),
    ],
)
def test_options_may_stand_before_the_command(argv: list[str], same: list[str]) -> None:
    assert command_first(argv) == same


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_completions_are_scripts_that_the_shell_reads(program: Program, shell: str) -> None:
    script = program("completion", shell).out
    assert all(name in script for name in COMMANDS)
    if shutil.which(shell):
        (program.folder / "script").write_text(script, "utf-8")
        done = subprocess.run([shell, "-n", program.folder / "script"], capture_output=True, text=True, check=False)
        assert (done.returncode, done.stderr) == (0, "")


@pytest.mark.parametrize(
    ("line", "wanted"),
    [
        (["wadi", "comp"], {"compare", "completion"}),
        (["wadi", "run", "--clu"], {"--cluster"}),
        (["wadi", "show", "x", "--as", "mark"], {"markdown"}),
        (["wadi", "verify", "spr"], {"springs"}),
        (["wadi", "run", "sp"], {"springs.toml"}),
        (["wadi", "completion", "z"], {"zsh"}),
    ],
)
def test_bash_completes(program: Program, line: list[str], wanted: set[str]) -> None:
    (program.folder / "script").write_text(program("completion", "bash").out, "utf-8")
    (program.folder / "springs.toml").write_text("", "utf-8")
    (program.folder / "notes.txt").write_text("", "utf-8")
    (program.folder / "runs" / "springs").mkdir(parents=True)
    asked = " ".join(f"'{word}'" for word in line)
    code = (
        f'source ./script; COMP_WORDS=({asked}); COMP_CWORD={len(line) - 1}; _wadi; printf "%s\\n" "${{COMPREPLY[@]}}"'
    )
    done = subprocess.run(["bash", "-c", code], cwd=program.folder, capture_output=True, text=True, check=True)
    assert set(done.stdout.split()) == wanted


def test_every_option_of_every_command_is_completed() -> None:
    found = {command.name: command for command in words()}
    assert list(found) == list(COMMANDS)
    assert {"--help", "--quiet", "--debug"} <= {name for option in found["run"].options for name in option.names}


def test_the_notebook_of_the_examples_is_as_the_code_makes_it(
    site: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    spec = importlib.util.spec_from_file_location("notebook", EXAMPLES.parent / "docs" / "notebook.py")
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    monkeypatch.chdir(tmp_path)
    (tmp_path / "gauges.toml").write_bytes((EXAMPLES / "gauges.toml").read_bytes())
    made = module.notebook(
        lambda source: source.replace(module.SITE, site), lambda text: text.replace(site, module.SITE)
    )
    kept = json.loads(module.NOTEBOOK.read_text("utf-8"))
    assert _without_times(made) == _without_times(kept), "run: python docs/notebook.py"


def _without_times(notebook: object) -> str:
    return re.sub(r"\d{4}-\d\d-\d\dT\d{6}(\.\d+)?|[\d,]+ bytes", "…", json.dumps(notebook, ensure_ascii=False))


def test_settings_hold_by_their_order(program: Program, site: str) -> None:
    """The command line goes before the environment, and that before the file."""
    file = program.folder / "xdg" / "wadi" / "config.toml"
    file.parent.mkdir(parents=True)
    file.write_text('runs = "kept"\ncontact = "file@example.org"\n', "utf-8")
    program.environment["XDG_CONFIG_HOME"] = str(program.folder / "xdg")
    asked = ["run", EXAMPLES / "gauges.toml", "-i", f"site={site}", "--rows", "3", "-q"]
    assert program(*asked).status == 0
    assert (program.folder / "kept" / "gauges").is_dir()
    made = json.loads(program("doctor", "--json").out)["settings"]
    assert [(one["name"], one["value"], Path(one["source"]).name) for one in made] == [
        ("runs", "kept", "config.toml"), ("contact", "file@example.org", "config.toml"),
    ]  # fmt: skip
    program.environment["WADI_RUNS"] = "named"
    assert program(*asked).status == 0
    assert (program.folder / "named" / "gauges").is_dir()
    assert "WADI_RUNS" in program("doctor").out
    assert program(*asked, "--runs", "said").status == 0
    assert (program.folder / "said" / "gauges").is_dir()
    assert json.loads(program("doctor", "--json").out)["settings"][0]["source"] == "WADI_RUNS"


@pytest.mark.parametrize(
    ("text", "what"),
    [
        ("runs = 3", '"runs" wants a text'), ("rums = 'x'", 'did you mean "runs"?'), ("runs =", "this is no TOML"),
        ("colour = 'x'", "settings: runs, contact, driver"),
    ],
)  # fmt: skip
def test_settings_that_cannot_be_read_are_said(program: Program, text: str, what: str) -> None:
    file = program.folder / "xdg" / "wadi" / "config.toml"
    file.parent.mkdir(parents=True)
    file.write_text(text, "utf-8")
    program.environment["XDG_CONFIG_HOME"] = str(program.folder / "xdg")
    done = program("runs")
    assert (done.status, what in done.err, "config.toml" in done.err) == (2, True, True), done.err


def test_whom_to_write_to_may_be_a_setting(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("WADI_CONTACT", "me@example.org\r\nX-Other: 1")
    assert user_agent().endswith("(me@example.org X-Other: 1)")
    assert user_agent("plan@example.org").endswith("(plan@example.org)")


@pytest.mark.parametrize(
    ("library", "command", "extra"),
    [
        ("pyarrow", ["run", "p.toml", "-o", "t.parquet"], "parquet"),
        ("pyarrow", ["profile", "t.parquet"], "parquet"),
        ("matplotlib", ["profile", "t.csv", "--charts", "drawn"], "charts"),
        ("distributed", ["run", "p.toml", "--workers", "2"], "cluster"),
        ("psycopg", ["run", "p.toml", "-o", "postgresql://127.0.0.1/water"], "postgresql"),
    ],
)
def test_what_an_extra_brings_is_named_where_it_is_missing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, library: str, command: list[str], extra: str
) -> None:
    """Before anything is asked for, or written."""
    monkeypatch.setitem(sys.modules, library, None)
    monkeypatch.chdir(tmp_path)
    (tmp_path / "p.toml").write_text(HEAD + list_plan(), "utf-8")
    (tmp_path / "t.csv").write_text("a,b\n1,2\n1,3\n4,\n", "utf-8")
    (tmp_path / "t.parquet").write_bytes(b"PAR1")
    there, err = sorted(tmp_path.iterdir()), io.StringIO()
    assert main(command, io.StringIO(), err) == 2
    assert err.getvalue() == (
        f"{said(library)} needs {library}, which is not installed [not-installed]\n  pip install 'wadi[{extra}]'\n"
    )
    assert sorted(tmp_path.iterdir()) == there


def said(library: str) -> str:
    return {"pyarrow": "Parquet", "matplotlib": "a chart", "distributed": "a cluster"}.get(
        library, "a PostgreSQL server"
    )


class _Notebook:
    """Stands in for IPython in a notebook: what was displayed, as HTML and as text."""

    def __init__(self) -> None:
        self.drawn: list[tuple[str, str]] = []

    def display(self, what: Any, *, display_id: bool) -> _Notebook:
        assert display_id
        self.update(what)
        return self

    def update(self, what: Any) -> None:
        self.drawn.append((what._repr_html_(), repr(what)))


def test_a_notebook_shows_how_far_a_crawl_is(site: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    notebook = _Notebook()
    ipython = SimpleNamespace(
        get_ipython=lambda: SimpleNamespace(kernel=1), display=SimpleNamespace(display=notebook.display)
    )
    monkeypatch.setitem(sys.modules, "IPython", ipython)
    monkeypatch.setattr("wadi.actions.notebook._EVERY_S", 0.0)
    with wadi.run(PLAN, {"site": site}, runs=tmp_path) as run:
        rows = len(run.table())
    first, *between, last = notebook.drawn
    assert "<progress" in first[0]
    assert any(f"{rows} rows" in html and "100%" in html for html, _ in between)
    assert re.fullmatch(r"gauges: \d+ pages read in \d s", last[1])
    assert "<progress" not in last[0]
    notebook.drawn.clear()
    with wadi.run(PLAN, {"site": site}, runs=tmp_path, report=lambda event: None):
        pass
    assert notebook.drawn == []
    monkeypatch.setitem(sys.modules, "IPython", SimpleNamespace(get_ipython=lambda: SimpleNamespace()))
    with wadi.run(PLAN, {"site": site}, runs=tmp_path, rows=1):
        pass  # a shell of IPython's, where the crawl says nothing


def _on_a_terminal(program: Program, *arguments: str, **environment: str) -> str:
    """What a command writes on a terminal of 24 lines."""
    read_end, write_end = pty.openpty()
    termios.tcsetwinsize(write_end, (24, 80))
    running = subprocess.Popen(
        [*program.command, *arguments],
        cwd=program.folder,
        env={**program.environment, "TERM": "xterm", **environment},
        stdout=write_end,
        stdin=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    os.close(write_end)
    pieces = []
    with suppress(OSError):  # the end of a terminal's output
        while piece := os.read(read_end, 65536):
            pieces.append(piece)
    os.close(read_end)
    assert running.wait(20) == 0
    return b"".join(pieces).decode().replace("\r\n", "\n")


def test_what_is_longer_than_the_screen_goes_through_the_pager(program: Program) -> None:
    whole = program("schema").out
    assert _on_a_terminal(program, "schema", PAGER="tail -n 2") == "".join(whole.splitlines(keepends=True)[-2:])
    assert _on_a_terminal(program, "schema", PAGER="cat") == whole
    assert _on_a_terminal(program, "schema", PAGER="no-such-pager") == whole
    (program.folder / "p.html").write_text("<p>It fits on the screen.", "utf-8")
    assert "It fits" in _on_a_terminal(program, "show", "p.html", PAGER="tail -n 0")
