"""How a database is opened: to be written, or only read where its folder cannot be written."""

from __future__ import annotations

import os
import sqlite3
from pathlib import Path


class Connection(sqlite3.Connection):
    """A connection that says whether it can write."""

    can_write = False


def connect(path: Path, *, write: bool = False) -> Connection:
    """An existing database, to be read; with `write` to be written, too, where its folder can be. Each statement is a
    transaction of its own unless one is begun. Raises sqlite3.Error.

    A database in WAL mode needs its `-shm` file beside it even for reading. Where that cannot be made (a medium that is only
    read, a full disk), and no WAL is left, nobody else writes, and the file is read as it is:
    https://www.sqlite.org/wal.html#readonly
    """
    log = path.with_name(f"{path.name}-wal")
    can_write, has_log = is_writable(path), (log.is_file() and log.stat().st_size > 0)
    if not can_write:
        return _connected(path, "mode=ro" if has_log else _AS_IT_IS)
    connection = _connected(path, "mode=rw" if write else "mode=ro")
    try:
        connection.execute("PRAGMA schema_version")
    except sqlite3.OperationalError as error:
        connection.close()
        if has_log or error.sqlite_errorcode & 0xFF not in _NO_ROOM:
            raise
        return _connected(path, _AS_IT_IS)
    connection.can_write = write
    return connection


_AS_IT_IS = "mode=ro&immutable=1"
_NO_ROOM = frozenset({sqlite3.SQLITE_IOERR, sqlite3.SQLITE_FULL, sqlite3.SQLITE_CANTOPEN})


def _connected(path: Path, how: str) -> Connection:
    uri = f"{path.absolute().as_uri()}?{how}"
    return sqlite3.connect(uri, uri=True, isolation_level=None, check_same_thread=False, factory=Connection)


def is_writable(path: Path) -> bool:
    """Whether a database and the folder it lies in can be written by this process."""
    return os.access(path, os.W_OK) and os.access(path.parent, os.W_OK)
