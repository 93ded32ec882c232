"""What goes wrong with the machine under a run, in words: its disk is full, read-only, over a quota, damaged; no more files can
be opened; no memory is left. Decisions only."""

from __future__ import annotations

import errno
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from wadi.problems import CrawlError, Place, Problem


class DamagedRows(sqlite3.DatabaseError):
    """Rows that are not those that were written: the disk, or somebody, changed them."""


_FULL = frozenset({errno.ENOSPC, errno.EDQUOT, errno.EFBIG})
_CLOSED = frozenset({errno.EROFS, errno.EACCES, errno.EPERM})
_MAKE_ROOM = "make room, then  wadi resume  goes on; what was committed is kept"


def is_full(error: OSError) -> bool:
    """Whether an error says that there is no room: a full disk, a quota, a limit on the size of files."""
    return error.errno in _FULL


def is_want_of_memory(error: BaseException) -> bool:
    """Whether an error says that the process can have no more memory, in one of the forms in which Python and its libraries say
    so."""
    said = str(error)
    return (
        isinstance(error, MemoryError)
        or (isinstance(error, OSError) and error.errno == errno.ENOMEM)
        or (isinstance(error, RuntimeError) and "can't start new thread" in said)
        or (isinstance(error, ImportError) and "failed to map segment" in said)
    )


def disk_problem(error: BaseException, folder: Path) -> Problem | None:
    """What an error of the file system or the database says about a run's folder; None for errors that are not of these."""
    if isinstance(error, sqlite3.Error):
        return _database_problem(error, folder)
    if not isinstance(error, OSError) or error.errno is None:
        return None
    place = Place(str(error.filename or folder))
    if is_full(error):
        return Problem("disk-full", f"no room is left to write to: {error.strerror}", place, now=_MAKE_ROOM)
    if error.errno in _CLOSED:
        return Problem(
            "not-writable", f"it cannot be written: {error.strerror}", place, now="what was committed is kept"
        )
    if error.errno in (errno.EMFILE, errno.ENFILE):
        now = "ulimit -n  says how many files a program may have open; 256 are enough"
        return Problem("too-few-files", f"no more files can be opened: {error.strerror}", place, now=now)
    if error.errno in (errno.EIO, errno.ENOENT):
        return Problem("damaged-run", f"the run's files cannot be used: {error.strerror}", place)
    return None


def _database_problem(error: sqlite3.Error, folder: Path) -> Problem | None:
    place, said = Place(str(folder)), str(error)
    if isinstance(error, DamagedRows):
        now = "wadi verify --deep  says what is damaged;  wadi reparse  takes the rows again from the stored pages"
        return Problem("damaged-run", said, place, now=now)
    code = getattr(error, "sqlite_errorcode", 0) & 0xFF  # the low byte: https://www.sqlite.org/rescode.html
    if code == sqlite3.SQLITE_FULL:
        return Problem("disk-full", f"no room is left for the run's database: {said}", place, now=_MAKE_ROOM)
    if code in (sqlite3.SQLITE_READONLY, sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_PERM):
        what = f"the run's database cannot be written: {said}"
        return Problem("not-writable", what, place, now="what was committed is kept")
    if code == sqlite3.SQLITE_IOERR:
        what = f"the disk fails under the run's database: {said}"
        return Problem(
            "disk-full", what, place, now="see whether there is room and the disk is sound; what was committed is kept"
        )
    if code in (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB):
        what = f"the run's database is damaged: {said}"
        now = "the pages are kept under pages/ in standard WARC files; run the plan again"
        return Problem("damaged-run", what, place, now=now)
    return None


@contextmanager
def as_problems(folder: Path) -> Iterator[None]:
    """Within it, errors of the disk end as CrawlError with a problem."""
    try:
        yield
    except (OSError, sqlite3.Error) as error:
        problem = disk_problem(error, folder)
        if problem is None:
            raise
        raise CrawlError(problem) from error
