"""Files appear whole or not at all: written beside their target, and put in its place when they are whole.

What stood there stays until then. The one way by which tables, reports, downloads and copies are written.
"""

from __future__ import annotations

import os
import shutil
import uuid
from collections.abc import Callable
from pathlib import Path
from typing import BinaryIO, TypeVar

from wadi.problems import CrawlError, Place, Problem, UsageError, WadiError
from wadi.store.crash_points import Reached, unheard
from wadi.store.faults import is_full

EXPORT_POINTS = ("export-written", "export-renamed")
T = TypeVar("T")


def whole_file(
    target: Path,
    write: Callable[[BinaryIO], T],
    *,
    part: Path | None = None,
    reached: Reached = unheard,
    points: tuple[str, str] = EXPORT_POINTS,
) -> T:
    """Have a file written by `write`, durable before it has its name; gives what `write` gives. Raises OSError.

    `part` is the file that is written first: one of a new name, unless nobody else can be writing the same. With a name that is
    known a process that is killed leaves nothing that the next one does not write over.
    """
    part = part or target.with_name(f".{target.name[:100]}.{uuid.uuid4().hex}")
    try:
        with part.open("wb") as out:  # a new file has the rights that the user's mask leaves
            given = write(out)
            out.flush()
            os.fsync(out.fileno())
        reached(points[0])
        part.replace(target)
        reached(points[1])
    except BaseException:
        part.unlink(missing_ok=True)
        raise
    return given


def copied(source: Path, target: Path) -> None:
    """A copy of a file. Raises OSError."""
    with source.open("rb") as file:
        whole_file(target, lambda out: shutil.copyfileobj(file, out))


def replaced(target: Path, data: bytes) -> None:
    """Write a file whose content is there. Raises UsageError, CrawlError."""
    check_writable(target)
    try:
        whole_file(target, lambda out: out.write(data))
    except OSError as error:
        raise not_written(target, error) from error


def check_writable(target: Path) -> None:
    """Raise UsageError if a file could not be written."""
    if target.is_dir():
        raise _not_writable(target, "this is a folder")
    if not target.absolute().parent.is_dir():
        raise _not_writable(target, f"the folder {target.parent} does not exist")
    if not os.access(target.absolute().parent, os.W_OK):
        raise _not_writable(target, f"the folder {target.parent} does not let us write")


def not_written(target: Path, error: OSError) -> WadiError:
    """The error to raise where a file could not be written: CrawlError for a full disk, else UsageError."""
    why = error.strerror or str(error)
    if is_full(error):
        now = "make room, or write it elsewhere; what stood there before stays"
        return CrawlError(Problem("disk-full", f"no room is left for it: {why}", Place(str(target)), now=now))
    return _not_writable(target, why)


def _not_writable(target: Path, why: str) -> UsageError:
    return UsageError(Problem("not-writable", f"cannot be written: {why}", Place(str(target))))
