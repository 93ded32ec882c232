"""Where tables are written: a file by its ending, packed by a second one, a database by its URL.

Files appear whole or not at all (`wadi.store.whole_files`).
"""

from __future__ import annotations

import gc
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO, cast

from wadi.problems import Problem, UsageError, listed
from wadi.store.crash_points import Reached, unheard
from wadi.store.whole_files import check_writable, not_written, whole_file
from wadi.table.extras import needs
from wadi.table.writers import (
    PLAIN,
    Rows,
    Style,
    Writer,
    csv_file,
    html_table,
    jsonl_file,
    markdown_table,
    tsv_file,
    write_json,
)

if TYPE_CHECKING:
    from wadi.plan.columns import Column


@dataclass(frozen=True)
class Source:
    """A table to be written: its name, columns, the columns of its key, and how its rows are had, once."""

    name: str
    columns: Sequence[Column]
    key: Sequence[str]
    rows: Callable[[], Rows]


def _parquet_file(out: BinaryIO, columns: Sequence[Column], rows: Rows, style: Style) -> int:
    from wadi.table.parquet import parquet_file

    return parquet_file(out, columns, rows, style)


FORMATS: dict[str, Writer] = {
    ".csv": csv_file,
    ".tsv": tsv_file,
    ".json": write_json,
    ".jsonl": jsonl_file,
    ".ndjson": jsonl_file,
    ".md": markdown_table,
    ".html": html_table,
    ".parquet": _parquet_file,
}
SEVERAL = frozenset({".xlsx", ".sqlite", ".db"})
"""Endings of files that hold several tables."""
_PACKED = (".gz", ".bz2", ".xz", ".zst", ".zip")
PARQUET = ("pyarrow", "Parquet", "parquet")
"""What that format needs: the library, for what, the extra that brings it."""
POSTGRESQL = ("psycopg", "a PostgreSQL server", "postgresql")
ENDINGS = (*FORMATS, *sorted(SEVERAL))


def holds_several(target: str) -> bool:
    """Whether a target takes all tables of a run."""
    return is_url(target) or Path(target).suffix.lower() in SEVERAL


def is_url(target: str) -> bool:
    """Whether a target is a database's URL."""
    return "://" in target


def check_target(target: str) -> None:
    """Raise UsageError now, before a long crawl, for a target that could not be written then."""
    if is_url(target) and target.startswith(("postgres:", "postgresql:")):
        needs(*POSTGRESQL)
    if target == "-" or is_url(target):
        return
    ending, _ = _endings(target)
    if ending not in ENDINGS:
        what = f'"{target}": the ending {ending or "(none)"} names no format'
        now = f"endings: {listed(ENDINGS, 20)}; packed with {listed(_PACKED)}; or a database URL"
        raise UsageError(Problem("unknown-format", what, now=now))
    if ending == ".parquet":
        needs(*PARQUET)
    check_writable(Path(target))


def write_tables(target: str, sources: Sequence[Source], style: Style = PLAIN, reached: Reached = unheard) -> int:
    """Write tables to a target; one that holds a single table gets the first. Returns the number of rows."""
    with _no_collector():
        return _write_tables(target, sources, style, reached)


@contextmanager
def _no_collector() -> Iterator[None]:
    """Without the collector of cycles: rows have none, and looking for them took a quarter of the time (docs/performance.md)."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()


def _write_tables(target: str, sources: Sequence[Source], style: Style, reached: Reached) -> int:
    if is_url(target):
        from wadi.table.database import database_tables

        return sum(
            database_tables(
                target, ((s.name, s.columns, s.key, s.rows()) for s in sources), style.into, style.unkeyed
            ).values()
        )
    check_target(target)
    path = Path(target)
    ending, packing = _endings(target)
    try:
        if ending in (".sqlite", ".db"):
            return _write_sqlite(path, sources, style)
        return whole_file(path, lambda out: _write(out, ending, packing, path, sources, style), reached=reached)
    except OSError as error:
        raise not_written(path, error) from error


def _write(out: BinaryIO, ending: str, packing: str, path: Path, sources: Sequence[Source], style: Style) -> int:
    with _packed(out, packing, path) as inner:
        if ending == ".xlsx":
            from wadi.table.spreadsheet import workbook_file

            tables = ((s.name, s.columns, s.rows()) for s in sources)
            return sum(workbook_file(inner, tables, cut=style.cut).values())
        first = sources[0]
        return FORMATS[ending](inner, first.columns, first.rows(), style)


def _write_sqlite(path: Path, sources: Sequence[Source], style: Style) -> int:
    """A file that is there is kept but for the tables of the same names; the change is one transaction."""
    from wadi.table.database import database_tables

    tables = ((s.name, s.columns, s.key, s.rows()) for s in sources)
    was_there = path.exists()
    try:
        return sum(database_tables(f"sqlite:///{path.resolve()}", tables, style.into, style.unkeyed).values())
    except BaseException:
        if not was_there:
            path.unlink(missing_ok=True)
        raise


def _endings(target: str) -> tuple[str, str]:
    """The ending that names the format, and that which names the packing."""
    suffixes = [suffix.lower() for suffix in Path(target).suffixes]
    if suffixes and suffixes[-1] in _PACKED:
        return (suffixes[-2] if len(suffixes) > 1 else "", suffixes[-1])
    return (suffixes[-1] if suffixes else "", "")


@contextmanager
def _packed(out: BinaryIO, packing: str, path: Path) -> Iterator[BinaryIO]:
    """A stream that packs what is written to it; the same table gives the same bytes."""
    if packing == ".gz":
        import gzip

        with gzip.GzipFile("", "wb", compresslevel=6, fileobj=out, mtime=0) as inner:
            yield cast(BinaryIO, inner)
    elif packing in (".bz2", ".xz"):
        import bz2
        import lzma

        pack: Any = bz2.BZ2File if packing == ".bz2" else lzma.LZMAFile
        with pack(out, "wb") as inner:
            yield inner
    elif packing == ".zst":
        import zstandard

        with zstandard.ZstdCompressor(level=6).stream_writer(out, closefd=False) as inner:
            yield cast(BinaryIO, inner)
    elif packing == ".zip":
        import zipfile

        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
            info = zipfile.ZipInfo(path.name.removesuffix(path.suffix))
            info.compress_type = zipfile.ZIP_DEFLATED
            with archive.open(info, "w", force_zip64=True) as inner:
                yield cast(BinaryIO, inner)
    else:
        yield out
