"""Plans from somebody else: what they name stays below their folder."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import pytest

from conftest import Program

PLAN = """
wadi = 1
[inputs]
{inputs}
[start]
page = "list"
addresses = {address}
[page.list]
rows = "li"
table = "rows"
[page.list.fields]
name = "b"
"""


@pytest.fixture
def below(tmp_path: Path, program: Program) -> Path:
    """A folder for plans, with something of others' beside it."""
    folder = tmp_path / "plans"
    folder.mkdir()
    (tmp_path / "secret.txt").write_text("secret\n")
    (tmp_path / "secret.html").write_text("<li><b>secret</b>")
    (folder / "own.html").write_text("<li><b>own</b>")
    (folder / "out").symlink_to(tmp_path)
    os.mkfifo(folder / "pipe.txt")
    program.folder = folder
    return folder


@pytest.mark.parametrize(
    ("inputs", "address", "code"),
    [
        ('q = { file = "../secret.txt" }', '"http://127.0.0.1/{q}"', "bad-input-file"),
        ('q = { file = "out/secret.txt" }', '"http://127.0.0.1/{q}"', "bad-input-file"),
        ('q = { file = "/dev/zero" }', '"http://127.0.0.1/{q}"', "bad-input-file"),
        ('q = { file = "pipe.txt" }', '"http://127.0.0.1/{q}"', "bad-input-file"),
        ("", '"../secret.html"', "outside the plan's folder"),
        ("", '"../*.html"', "leads out of the plan's folder"),
        ("", '"out/secret.html"', "outside the plan's folder"),
        ("", '"/etc/host*"', "leads out of the plan's folder"),
    ],
)
def test_files_that_a_plan_names_stand_below_it(
    program: Program, below: Path, inputs: str, address: str, code: str
) -> None:
    (below / "plan.toml").write_text(PLAN.format(inputs=inputs, address=address))
    # Lint looks at no pages, and so at none that are files.
    for command in ("lint", "run", "preview") if inputs else ("run", "preview"):
        done = program(command, "plan.toml", timeout=20)
        assert done.status == 2, command
        assert code in done.err + done.out
        assert "secret\n" not in done.out


@pytest.mark.parametrize("key", ["cookies", "request"])
@pytest.mark.parametrize("name", ["../secret.txt", "out/secret.txt", "/dev/zero", "pipe.txt"])
def test_a_session_comes_from_a_file_below_the_plan(program: Program, below: Path, key: str, name: str) -> None:
    plan = PLAN.format(inputs="", address='"http://127.0.0.1:9/"') + f'[login]\n{key} = "{name}"\n'
    (below / "plan.toml").write_text(plan)
    for command in ("run", "preview"):
        done = program(command, "plan.toml", timeout=20)
        assert done.status == 2, command
        assert "[bad-session]" in done.err
    assert not (below / "runs").exists()


def test_files_beside_a_plan_are_read(program: Program, below: Path) -> None:
    (below / "plan.toml").write_text(PLAN.format(inputs="", address='"*.html"'))
    done = program("run", "plan.toml", "-o", "-")
    assert (done.status, done.out.split()) == (0, ["name", "own"])


CODE = 'open("ran", "w").close()\n\n\ndef twice(text):\n    return text * 2\n'
WITH_CODE = 'code = "own.py"\n' + PLAN.format(inputs="", address='"own.html"').replace(
    '"b"', '{ at = "b", clean = "call twice" }'
)


@pytest.fixture
def with_code(below: Path) -> Path:
    (below / "plan.toml").write_text(WITH_CODE)
    (below / "own.py").write_text(CODE)
    return below


def test_code_of_a_plan_is_not_run_before_somebody_says_so(program: Program, with_code: Path) -> None:
    assert program("lint", "plan.toml").status == 0
    for command in (["run", "plan.toml", "-o", "-"], ["preview", "plan.toml"]):
        done = program(*command)
        assert (done.status, "[code-not-approved]" in done.err) == (2, True)
    assert not (with_code / "ran").exists()
    assert not (with_code / "runs").exists()
    done = program("run", "plan.toml", "-o", "-", "--with-code")
    assert (done.status, done.out.split()) == (0, ["name", "ownown"])
    # It is remembered, by what the file holds.
    assert program("run", "plan.toml", "-o", "-").status == 0
    assert program("export", "plan", "-o", "-").out.split() == ["name", "ownown"]
    (with_code / "own.py").write_text(CODE + "# changed\n")
    assert program("run", "plan.toml", "-o", "-").status == 2


def test_a_run_from_somewhere_else_runs_no_code(program: Program, with_code: Path) -> None:
    assert program("run", "plan.toml", "--with-code").status == 0
    (with_code / "ran").unlink()
    program.environment["XDG_STATE_HOME"] = str(with_code / "elsewhere")
    for command in (["verify", "plan"], ["export", "plan", "-o", "-"], ["report", "plan"], ["trace", "plan", "rows", "1"],
                    ["resume", "plan"], ["reparse", "plan"], ["profile", "plan"]):  # fmt: skip
        done = program(*command)
        assert (done.status, "[code-not-approved]" in done.err) == (2, True), command
    assert not (with_code / "ran").exists()


def test_what_is_run_is_the_text_that_was_approved(program: Program, with_code: Path) -> None:
    """What Python has compiled of another text before is not taken."""
    import py_compile

    evil = with_code / "evil.py"
    evil.write_text('open("evil", "w").close()\ndef twice(text):\n    return text\n')
    folder = with_code / "__pycache__"
    folder.mkdir()
    name = f"own.{sys.implementation.cache_tag}.pyc"
    py_compile.compile(str(evil), str(folder / name), invalidation_mode=py_compile.PycInvalidationMode.UNCHECKED_HASH)
    evil.unlink()
    assert program("run", "plan.toml", "-o", "-", "--with-code").out.split() == ["name", "ownown"]
    assert not (with_code / "evil").exists()


@pytest.mark.parametrize(
    ("text", "status", "telling"),
    [("def twice(", 2, "own.py:1: SyntaxError"), ("import nothing_here\ndef twice(t): return t\n", 2, "ModuleNotFoundError"), ("1 / 0\ndef twice(t): return t\n", 2, "own.py:1: ZeroDivisionError"),
     ("def other(t): return t\n", 2, 'no function "twice"'), ("if True:\n    def twice(t): return t\n", 0, "")],
)  # fmt: skip
def test_what_is_wrong_with_code_is_told(
    program: Program, with_code: Path, text: str, status: int, telling: str
) -> None:
    (with_code / "own.py").write_text(text)
    done = program("run", "plan.toml", "-o", "-", "--with-code")
    assert (done.status, telling in done.err) == (status, True)


ABSURD = """
wadi = 1
{top}
[start]
page = "list"
addresses = "own.html"
[page.list]
rows = "li"
table = "rows"
[page.list.fields]
a = {field}
"""


@pytest.mark.parametrize(
    ("top", "field", "code"),
    [
        ("x = " + "[" * 5000 + "]" * 5000, '"b"', "not-toml"),
        ("x = " + "{a=" * 3000 + "1" + "}" * 3000, '"b"', "not-toml"),
        ("x = " + "9" * 5000, '"b"', "not-toml"),
        ("", '{ at = "b", find = "' + "(" * 500 + "a" + ")" * 500 + '" }', "bad-regex"),
        ("", '{ at = "b", find = "' + "(a)" * 9000 + '" }', "bad-regex"),
        ("", '"$' + "[?@.a" * 500 + "]" * 500 + '"', "bad-expression"),
        ("", '"' + ":not(" * 3000 + "b" + ")" * 3000 + '"', "bad-expression"),
        ("", '{ at = "b", type = "number", adjust = "round 999999999" }', "bad-step"),
        ("", '{ at = "b", type = "date", adjust = "add-days 999999999999" }', "bad-step"),
        ("[manners]\npause = inf", '"b"', "wrong-value"),
        ("[manners]\npause = 1e12", '"b"', "wrong-value"),
        ("[limits]\ntime = '999999999h'", '"b"', "wrong-value"),
    ],
    ids=range(12),
)
def test_plans_of_absurd_size_are_refused(program: Program, below: Path, top: str, field: str, code: str) -> None:
    (below / "plan.toml").write_text(ABSURD.format(top=top, field=field))
    done = program("lint", "plan.toml", timeout=30)
    assert (done.status, f"[{code}]" in done.err) == (2, True), done.err[:300]


def test_values_that_steps_bring_beyond_all_bounds_are_unread_cells(program: Program, below: Path) -> None:
    (below / "own.html").write_text("<li><b>2</b><li><b>3</b>")
    field = '{ at = "b", type = "number", adjust = ["* 1e300", "* 1e300"] }'
    (below / "plan.toml").write_text(ABSURD.format(top="", field=field + '\nd = "b"'))
    done = program("run", "plan.toml", "-o", "-")
    assert (done.status, done.out.split()) == (1, ["a,d", ",2", ",3"])
    assert "[fault]" not in done.err
