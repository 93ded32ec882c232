"""Tables written to files: one function for each format, from columns and rows to bytes. Files appear whole or not at all.

A new format is a function below and a line in FORMATS.
"""

from __future__ import annotations

import csv
import io
import os
import tempfile
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any, BinaryIO

import orjson

from wadi.plan.columns import Column
from wadi.points import reached
from wadi.problems import Place, Problem, UsageError, listed

Writer = Callable[[BinaryIO, list[Column], Iterable[list[Any]]], int]
"""Writes a table and returns its number of rows."""
LIST_SEPARATOR = "; "
_BATCH_ROWS = 1000


def write_csv(out: BinaryIO, columns: list[Column], rows: Iterable[list[Any]]) -> int:
    """RFC 4180, UTF-8 without byte order mark: header line, CRLF, quotes where needed; missing cells are empty.

    Lists are joined with "; ", truth values are `true` and `false`.
    """
    text = io.TextIOWrapper(out, "utf-8", newline="", write_through=False)
    writer = csv.writer(text)
    writer.writerow([column.name for column in columns])
    odd = [place for place, column in enumerate(columns) if column.many or column.type == "boolean"]
    count = 0
    for row in rows:
        writer.writerow(_flat(row, odd) if odd else row)
        count += 1
    text.flush()
    text.detach()
    return count


def write_jsonl(out: BinaryIO, columns: list[Column], rows: Iterable[list[Any]]) -> int:
    """JSON Lines, UTF-8: one object for each row, all columns in it, missing cells null."""
    names = [column.name for column in columns]
    count = 0
    for batch in _batches(rows):
        out.write(
            b"".join(
                orjson.dumps(dict(zip(names, row, strict=True)), option=orjson.OPT_APPEND_NEWLINE) for row in batch
            )
        )
        count += len(batch)
    return count


FORMATS: dict[str, Writer] = {".csv": write_csv, ".jsonl": write_jsonl, ".ndjson": write_jsonl}


def writer_for(path: str) -> Writer:
    """The writer for a path's ending. Raises UsageError for one that names no format."""
    ending = Path(path).suffix.lower()
    if ending not in FORMATS:
        what = f'"{path}": the ending {ending or "(none)"} names no format'
        raise UsageError(Problem("unknown-format", what, now=f"endings: {listed(FORMATS)}"))
    return FORMATS[ending]


def write_file(path: str | Path, columns: list[Column], rows: Iterable[list[Any]]) -> int:
    """Write a table beside `path` and put it in its place when it is whole; an old file stays until then."""
    target = Path(path)
    write = writer_for(str(target))
    check_writable(target)
    try:
        return _replaced(target, write, columns, rows)
    except OSError as error:
        raise _not_writable(target, error.strerror or str(error)) from error


def check_writable(target: Path) -> None:
    """Raise UsageError now, before a long crawl, if the file could not be written then."""
    if target.is_dir():
        raise _not_writable(target, "this is a folder")
    if not target.parent.is_dir():
        raise _not_writable(target, f"the folder {target.parent} does not exist")
    if not os.access(target.parent, os.W_OK):
        raise _not_writable(target, f"the folder {target.parent} does not let us write")


def _replaced(target: Path, write: Writer, columns: list[Column], rows: Iterable[list[Any]]) -> int:
    handle, name = tempfile.mkstemp(prefix=f".{target.name}.", dir=target.parent)
    try:
        with os.fdopen(handle, "wb") as out:
            count = write(out, columns, rows)
            out.flush()
            os.fsync(out.fileno())
        Path(name).chmod(0o666 & ~_umask())
        reached("export-written")
        Path(name).replace(target)
        reached("export-renamed")
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise
    return count


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask


def _not_writable(target: Path, why: str) -> UsageError:
    return UsageError(Problem("not-writable", f"cannot be written: {why}", Place(str(target))))


def _flat(row: list[Any], odd: list[int]) -> list[Any]:
    flat = list(row)
    for place in odd:
        value = flat[place]
        if isinstance(value, list):
            flat[place] = LIST_SEPARATOR.join(_written(one) for one in value) or None
        elif isinstance(value, bool):
            flat[place] = _written(value)
    return flat


def _written(value: Any) -> str:
    return str(value).lower() if isinstance(value, bool) else str(value)


def _batches(rows: Iterable[list[Any]]) -> Iterator[list[list[Any]]]:
    batch: list[list[Any]] = []
    for row in rows:
        batch.append(row)
        if len(batch) >= _BATCH_ROWS:
            yield batch
            batch = []
    if batch:
        yield batch
