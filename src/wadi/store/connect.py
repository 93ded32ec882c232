"""How a database is opened: to be written, or only read where its folder cannot be written."""

from __future__ import annotations

import os
import sqlite3
from pathlib import Path


def connect(path: Path, *, write: bool = False) -> sqlite3.Connection:
    """An existing database, to be read; with `write` to be written, too, where its folder can be. Each statement is a
    transaction of its own unless one is begun. Raises sqlite3.Error.

    A database in WAL mode needs its `-shm` file beside it even for reading. Where a folder cannot be written (a medium that is
    only read), and no WAL is left, nobody else writes, and the file is read as it is: https://www.sqlite.org/wal.html#readonly
    """
    can_write = is_writable(path)
    mode = "rw" if write and can_write else "ro"
    as_it_is = "" if can_write or _has_log(path) else "&immutable=1"
    uri = f"{path.absolute().as_uri()}?mode={mode}{as_it_is}"
    return sqlite3.connect(uri, uri=True, isolation_level=None, check_same_thread=False)


def is_writable(path: Path) -> bool:
    """Whether a database and the folder it lies in can be written by this process."""
    return os.access(path, os.W_OK) and os.access(path.parent, os.W_OK)


def _has_log(path: Path) -> bool:
    log = path.with_name(f"{path.name}-wal")
    return log.is_file() and log.stat().st_size > 0
