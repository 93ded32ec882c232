"""Plans from somebody else: what they name stays below their folder."""

from __future__ import annotations

import os
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


def test_files_beside_a_plan_are_read(program: Program, below: Path) -> None:
    (below / "plan.toml").write_text(PLAN.format(inputs="", address='"*.html"'))
    done = program("run", "plan.toml", "-o", "-")
    assert (done.status, done.out.split()) == (0, ["name", "own"])
