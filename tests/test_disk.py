"""The disk under a run: full, read-only, damaged. Clear words, and nothing that was committed is lost."""

from __future__ import annotations

import errno
import os
import shutil
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from conftest import EXAMPLES, Program
from small_host import crawled, items
from wadi.store.faults import disk_problem

_NO_MIGHT = "-dac_override,-dac_read_search,-fowner"
_AS_ANYBODY = ["setpriv", f"--inh-caps={_NO_MIGHT}", f"--bounding-set={_NO_MIGHT}"] if os.geteuid() == 0 else []
"""What makes permissions of files hold for the superuser, too."""


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


def test_a_folder_that_is_only_read_serves_every_look(program: Program, tmp_path: Path) -> None:
    plan = '[start]\npage = "list"\naddresses = ["{+site}/l"]\n[page.list]\nrows = "li"\ntable = "t"\n[page.list.fields]\nname = "."\n'
    with crawled(tmp_path, {"/l": items("a", "b")}, plan) as done:
        run = done.run.folder
    shelf = tmp_path / "shelf 100%41 #2?"  # signs that mean something in a URI of SQLite
    folder, left = shelf / run.parent.name / run.name, shelf / run.parent.name / "left"
    shutil.copytree(run, folder)
    with closing(
        sqlite3.connect(run / "run.sqlite")
    ) as database:  # a copy made while it is written: its log without its index
        database.execute("INSERT INTO meta VALUES ('more', '1')")
        database.commit()
        shutil.copytree(run, left)
    (left / "run.sqlite-shm").unlink()
    held = {path: path.read_bytes() for path in folder.rglob("*") if path.is_file()}
    command, program.command = program.command, [*_AS_ANYBODY, *program.command]
    for path in (*shelf.rglob("*"), shelf):
        path.chmod(path.stat().st_mode & ~0o222)
    try:
        for arguments, said in (
            (("export", folder, "-o", "t.csv"), "2 rows"),
            (("export", folder, "-o", "t.xlsx"), "2 rows"),
            (("verify", folder), "2 rows in t"),
            (("verify", "--deep", folder), "2 rows in t"),
            (("trace", folder, "t", "1"), "name"),
            (("profile", folder), "2 rows"),
            (("report", folder, "-o", "r.html"), "r.html"),
            (("runs", "--runs", shelf), "complete"),
            (("runs", "--runs", shelf), "to be copied"),
        ):
            result = program(*arguments)
            assert (result.status, said in result.out + result.err) == (0, True), (arguments, result)
        for arguments in (("resume", folder), ("export", left, "-o", "u.csv")):
            result = program(*arguments)
            assert result.status in (2, 3)
            assert "[not-writable]" in result.err
            assert "copy" in result.err
        assert {path: path.read_bytes() for path in folder.rglob("*") if path.is_file()} == held
    finally:
        program.command = command
        for path in (shelf, *shelf.rglob("*")):
            path.chmod(path.stat().st_mode | 0o700)


def test_a_run_killed_while_it_begins_is_no_run(program: Program, tmp_path: Path) -> None:
    half = tmp_path / "runs" / "springs" / "2026-01-01T000000"
    half.mkdir(parents=True)
    sqlite3.connect(half / "run.sqlite.new").close()
    done = program("resume")
    assert done.status == 2
    assert "there are no runs" in done.err
