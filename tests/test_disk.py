"""The disk under a run: full, read-only, damaged. Clear words, and nothing that was committed is lost."""

from __future__ import annotations

import errno
import os
import sqlite3
from pathlib import Path

import pytest

from conftest import EXAMPLES, Program
from small_host import crawled, items
from wadi.store.faults import disk_problem


@pytest.mark.parametrize(
    ("number", "code"),
    [
        (errno.ENOSPC, "disk-full"),
        (errno.EDQUOT, "disk-full"),
        (errno.EROFS, "not-writable"),
        (errno.EACCES, "not-writable"),
        (errno.EIO, "damaged-run"),
        (errno.ECONNRESET, None),
    ],
)
def test_errors_of_the_disk_have_words(number: int, code: str | None) -> None:
    problem = disk_problem(OSError(number, os.strerror(number), "runs/x/pages/00001.warc.gz"), Path("runs/x"))
    assert (problem.code if problem else None) == code
    if problem is not None:
        assert str(problem).startswith("runs/x/pages/00001.warc.gz: ")


@pytest.mark.parametrize(
    ("number", "code"),
    [(13, "disk-full"), (8, "not-writable"), (14, "not-writable"), (11, "damaged-run"), (26, "damaged-run"), (1, None)],
)
def test_errors_of_the_database_have_words(number: int, code: str | None) -> None:
    error = sqlite3.OperationalError("it said so")
    error.sqlite_errorcode = number
    problem = disk_problem(error, Path("runs/x"))
    assert (problem.code if problem else None) == code


def test_a_disk_that_fills_up_loses_nothing_that_was_committed(program: Program, site: str) -> None:
    arguments = ("run", EXAMPLES / "springs.toml", "-i", f"site={site}", "-q", "-o", "springs.csv")
    command = program.command
    # No file may grow beyond 200 KiB: the same errors of writing as on a full disk.
    program.command = ["bash", "-c", 'trap "" XFSZ; ulimit -f 200; exec "$@"', "bash", *command]
    done = program(*arguments)
    program.command = command
    assert done.status == 3
    assert "[disk-full]" in done.err
    assert "what was committed is kept" in done.err
    done = program("resume", "-q", "-o", "springs.csv")
    assert done.status == 0, done.err
    assert len((program.folder / "springs.csv").read_bytes().splitlines()) == 355


def test_a_damaged_database_is_said(program: Program, tmp_path: Path) -> None:
    plan = '[start]\npage = "list"\naddresses = ["{+site}/l"]\n[page.list]\nrows = "li"\ntable = "t"\n[page.list.fields]\nname = "."\n'
    with crawled(tmp_path, {"/l": items("a", "b")}, plan) as done:
        folder = done.run.folder
    data = bytearray((folder / "run.sqlite").read_bytes())
    data[4096:] = b"\x55" * (len(data) - 4096)
    (folder / "run.sqlite").write_bytes(bytes(data))
    for command in (("export", folder, "-o", "t.csv"), ("resume", folder)):
        result = program(*command)
        assert result.status in (2, 3)
        assert "[damaged-run]" in result.err
    assert not (tmp_path / "t.csv").exists()


def test_a_run_killed_while_it_begins_is_no_run(program: Program, tmp_path: Path) -> None:
    half = tmp_path / "runs" / "springs" / "2026-01-01T000000"
    half.mkdir(parents=True)
    sqlite3.connect(half / "run.sqlite.new").close()
    done = program("resume")
    assert done.status == 2
    assert "there are no runs" in done.err
