"""Runs whose files were changed behind Wadi's back: noticed whenever they are read, and named by `verify --deep`."""

from __future__ import annotations

import gzip
from pathlib import Path

import pytest

from conftest import Program

PLAN = """
wadi = 1
[start]
page = "list"
addresses = "page-*.html"
[page.list]
rows = "li"
table = "rows"
[page.list.fields]
name = "b"
"""


@pytest.fixture
def ran(program: Program, tmp_path: Path) -> Path:
    """The folder of a run of three pages."""
    for number in range(3):
        (tmp_path / f"page-{number}.html").write_text(f"<li><b>first {number}</b><li><b>second {number}</b>")
    (tmp_path / "plan.toml").write_text(PLAN)
    assert program.inside("run", "plan.toml").status == 0
    assert program.inside("verify", "plan", "--deep").status == 0
    return next((tmp_path / "runs" / "plan").iterdir())


def _changed(path: Path, old: bytes, new: bytes) -> None:
    data = path.read_bytes()
    assert old in data
    path.write_bytes(data.replace(old, new))


def test_a_changed_cell_is_noticed_by_whatever_reads_it(program: Program, ran: Path) -> None:
    _changed(ran / "run.sqlite", b"second 1", b"secood 1")
    for command in (
        ["export", "plan", "-o", "-"],
        ["verify", "plan"],
        ["trace", "plan", "rows", "4"],
        ["profile", "plan"],
    ):
        done = program(*command)
        assert (done.status, "[damaged-run]" in done.err) == (3, True), command
        assert "secood" not in done.out
    done = program("verify", "plan", "--deep")
    assert done.status == 1
    assert "the rows of page 2 in table rows are not those that were written" in done.out
    # The stored pages are sound: the rows are taken from them again.
    assert "second 1" in program("reparse", "plan", "-o", "-").out


@pytest.mark.parametrize("how", ["gone", "torn", "flipped"])
def test_stored_pages_that_are_not_there_or_not_whole_are_named(program: Program, ran: Path, how: str) -> None:
    [archive] = (ran / "pages").glob("*.warc.gz")
    data = archive.read_bytes()
    if how == "gone":
        archive.unlink()
    elif how == "torn":
        archive.write_bytes(data[: len(data) - 40])
    else:
        at = data.rindex(gzip.compress(b"")[:3]) + 60
        archive.write_bytes(data[:at] + bytes([data[at] ^ 0x10]) + data[at + 1 :])
    done = program.inside("verify", "plan", "--deep", "--json")
    assert done.status == 1
    assert "the stored reply cannot be read" in done.out
    assert program.inside("verify", "plan").status == 0  # the rows do not depend on them


def test_what_is_gone_on_with_is_never_taken_for_what_stood_there(program: Program, tmp_path: Path) -> None:
    """The stored pages of a run are removed, and the run is gone on with: new ones stand under names of their own."""
    for number in range(4):
        page = f"<li><b>first {number}</b>{'<p>the same below</p>' * 200}"
        (tmp_path / f"page-{number}.html").write_text(page)
    (tmp_path / "plan.toml").write_text(PLAN)
    assert program("run", "plan.toml", "--pages", "2").status == 0
    folder = next((tmp_path / "runs" / "plan").iterdir())
    [first] = (folder / "pages").glob("*.warc.gz")
    name = first.name
    first.unlink()
    assert program("resume", "plan~newest", "--pages", "4").status == 0
    assert name not in {path.name for path in (folder / "pages").glob("*.warc.gz")}
    done = program("verify", "plan", "--deep")
    assert done.status == 1
    assert "2 parts of the run are not as they were written" in done.out
    assert program("export", "plan", "-o", "-").out.split("\r\n")[1:5] == [f"first {number}" for number in range(4)]
