"""Replies that are tables themselves: CSV and its kin, workbooks, and these in gzip or zip, as a list of records.

A record is a dict from column name to text (of a workbook: text, number, truth value), so that fields read it with
JSONPath: `$.Flow`, `$['Flow l/s']`. Separators (comma, semicolon, tab, bar) and encodings are recognised.
"""

from __future__ import annotations

import csv
import gzip
import io
import lzma
import re
import struct
import zipfile
import zlib
from collections import Counter
from collections.abc import Iterable, Sequence
from datetime import date, datetime, time
from typing import Any, Literal
from urllib.parse import urlsplit

from wadi.page.decode import Encoding, decoded

ColumnsKind = Literal["csv", "excel"]
_SEPARATORS = (",", ";", "\t", "|")
_TYPES = re.compile(r"text/csv|tab-separated-values|text/x-csv|application/csv", re.IGNORECASE)
_ENDING = re.compile(r"\.(csv|tsv|tab|xlsx)(?:\.gz)?$", re.IGNORECASE)
_SAMPLE_LINES, _SAMPLE_CHARACTERS = 50, 100_000
_QUOTED = re.compile(r'"(?:[^"]|"")*"')
_MOST_BYTES = 100_000_000
_MOST_CELL = 10_000_000
_MOST_CELLS = 5_000_000
_MOST_COLUMNS = 16_384
"""As many as a workbook has."""
_MOST_MEMBERS = 50_000
_GZIP, _ZIP = b"\x1f\x8b", b"PK\x03\x04"


BROKEN_ZIP = (
    zipfile.BadZipFile, zlib.error, lzma.LZMAError, struct.error, EOFError, IndexError, NotImplementedError, OSError,
    RuntimeError, ValueError,
)  # fmt: skip
"""What `zipfile` raises over a zip that is broken, encrypted, or packed in a way that it does not know."""


class BadColumns(ValueError):
    """The bytes are no file of columns; `str()` says why."""


def unpacked(body: bytes, member: str | None = None) -> tuple[bytes, str]:
    """The file in a gzip or a zip, and its name there; other bytes (workbooks too) as they are, with no name.

    `member` names the file of a zip; without it there must be one. Raises BadColumns.
    """
    if body.startswith(_GZIP):
        return _gunzipped(body), ""
    if body.startswith(_ZIP) and not _is_workbook(body):
        return _unzipped(body, member)
    return body, ""


def _gunzipped(body: bytes) -> bytes:
    if body.count(_GZIP + b"\x08") > _MOST_MEMBERS:
        raise BadColumns(f"it has more than {_MOST_MEMBERS:,} gzip members")
    try:
        with gzip.GzipFile(fileobj=io.BytesIO(body)) as file:
            data = file.read(_MOST_BYTES + 1)
    except EOFError as error:
        raise BadColumns("the gzip file breaks off") from error
    except (OSError, zlib.error) as error:
        raise BadColumns(f"the gzip file is damaged: {error}") from error
    if len(data) > _MOST_BYTES:
        raise BadColumns(f"unpacked it is larger than {_MOST_BYTES / 1e6:.0f} MB")
    return data


def _unzipped(body: bytes, member: str | None) -> tuple[bytes, str]:
    try:
        with zipfile.ZipFile(io.BytesIO(body)) as file:
            inside = [info for info in file.infolist() if not info.is_dir()]
            if member is None and len(inside) == 1:
                chosen = inside[0]
            else:
                fitting = [info for info in inside if info.filename == member]
                if not fitting:
                    names = ", ".join(info.filename for info in inside[:12])
                    raise BadColumns(f'the zip holds {len(inside)} files; sheet = "…" says which: {names}')
                chosen = fitting[0]
            if chosen.file_size > _MOST_BYTES:
                raise BadColumns(f"unpacked it is larger than {_MOST_BYTES / 1e6:.0f} MB")
            data, _ = unpacked(file.read(chosen))
            return data, chosen.filename
    except BadColumns:
        raise
    except BROKEN_ZIP as error:
        raise BadColumns(f"the zip cannot be read: {error}") from error


def _is_workbook(body: bytes) -> bool:
    try:
        with zipfile.ZipFile(io.BytesIO(body)) as file:
            return "xl/workbook.xml" in file.namelist()
    except BROKEN_ZIP:
        return False


def columns_kind(body: bytes, url: str, content_type: str, name: str = "") -> ColumnsKind | None:
    """Whether an unpacked reply is a file of columns, by its first bytes, its type, its name in a zip, its URL's ending."""
    if body.startswith(_ZIP):
        return "excel" if _is_workbook(body) else None
    if body[:512].lstrip(b"\xef\xbb\xbf \t\r\n")[:1] in (b"<", b"{", b"["):
        return None  # a page under a table's address is an error page
    if _TYPES.search(content_type):
        return "csv"
    ending = _ENDING.search(name) or _ENDING.search(urlsplit(url).path)
    web_text = content_type.lower().startswith(("text/html", "application/xhtml"))
    return "csv" if ending and not web_text else None


def read_columns(
    body: bytes, kind: ColumnsKind, content_type: str = "", *, sheet: str | None = None, header: int | None = None
) -> tuple[list[dict[str, Any]], str, Encoding]:
    """The records, the source, and its encoding. `header` is the line that names the columns, 0 for none.

    Without `header` the first line counts that has as many cells as most lines have. Raises BadColumns.
    """
    if kind == "excel":
        return _records(_workbook_lines(body, sheet), header), "", Encoding("utf-8", "valid UTF-8")
    text, encoding = decoded(body, content_type)
    text = text.replace("\0", "\ufffd")
    return _records(_csv_lines(text), header), text, encoding


def _csv_lines(text: str) -> list[list[Any]]:
    if not text.strip():
        raise BadColumns("it is empty")
    first, _, rest = text.partition("\n")
    said = re.fullmatch(r"sep=(.)\r?", first)
    separator = said[1] if said else separator_of(text)
    csv.field_size_limit(_MOST_CELL)
    try:
        return _bounded(csv.reader(io.StringIO(rest if said else text, newline=""), delimiter=separator))
    except csv.Error as error:
        raise BadColumns(f"it is no CSV: {error}") from error


def _bounded(lines: Iterable[Sequence[Any]]) -> list[list[Any]]:
    """The lines, as far as a table may be large. Raises BadColumns."""
    found: list[list[Any]] = []
    cells = 0
    for line in lines:
        cells += len(line) + 1
        if len(line) > _MOST_COLUMNS:
            raise BadColumns(f"it has {len(line):,} columns, more than {_MOST_COLUMNS:,}")
        if cells > _MOST_CELLS:
            raise BadColumns(f"it has more than {_MOST_CELLS:,} cells")
        found.append(list(line))
    return found


def separator_of(text: str) -> str:
    """The separator with which most of the first lines have the same number of cells, and more than one.

    What stands in quotes is left out of the count: it may hold any separator, and line ends.
    """
    lines = [line for line in _QUOTED.sub("q", text[:_SAMPLE_CHARACTERS]).splitlines()[:_SAMPLE_LINES] if line]

    def fit(separator: str) -> tuple[int, int]:
        counts = Counter(line.count(separator) for line in lines if separator in line)
        ((width, times),) = counts.most_common(1) or [(0, 0)]
        return (times, width)

    return max(_SEPARATORS, key=fit)


def _workbook_lines(body: bytes, sheet: str | None) -> list[list[Any]]:
    import openpyxl

    try:
        with zipfile.ZipFile(io.BytesIO(body)) as file:
            if sum(info.file_size for info in file.infolist()) > _MOST_BYTES * 5:
                raise BadColumns(f"unpacked it is larger than {_MOST_BYTES * 5 / 1e6:.0f} MB")
        book = openpyxl.load_workbook(io.BytesIO(body), read_only=True, data_only=True)
    except BadColumns:
        raise
    except Exception as error:  # whatever a damaged file makes the reader stumble over
        raise BadColumns(f"it is no workbook that can be read: {error}") from error
    try:
        if sheet is not None and sheet not in book.sheetnames:
            names = ", ".join(book.sheetnames[:12])
            raise BadColumns(f'the workbook has no sheet "{sheet}", but: {names}')
        chosen = book[sheet] if sheet is not None else book.worksheets[0]
        if hasattr(chosen, "reset_dimensions"):
            chosen.reset_dimensions()  # what a file says of its size is not what stands in it
        return _bounded([_cell(value) for value in line] for line in chosen.iter_rows(values_only=True))
    except BadColumns:
        raise
    except Exception as error:
        raise BadColumns(f"it is no workbook that can be read: {error}") from error
    finally:
        book.close()


def _cell(value: Any) -> Any:
    """A workbook's cell: dates and times as ISO 8601, a date at midnight as a date."""
    if isinstance(value, datetime):
        return value.date().isoformat() if value.time() == time() else value.isoformat()
    if isinstance(value, date | time):
        return value.isoformat()
    if value is None or isinstance(value, str | int | float | bool):
        return value
    return str(value)


def _records(lines: list[list[Any]], header: int | None) -> list[dict[str, Any]]:
    place = _header_place(lines) if header is None else header - 1
    if not lines:
        return []
    if place >= len(lines):
        raise BadColumns(f"it has {len(lines)} lines, and heading_line = {header} names a later one")
    width = max((len(line) for line in lines), default=0)
    if width * len(lines) > _MOST_CELLS * 4:
        raise BadColumns(f"{len(lines):,} lines, of which one has {width:,} columns")
    names = _names(lines[place] if place >= 0 else [], width)
    records = []
    for line in lines[place + 1 :]:
        if any(cell not in (None, "") for cell in line):
            records.append(dict(zip(names, [*line, *[None] * (width - len(line))], strict=True)))
    return records


def _header_place(lines: list[list[Any]]) -> int:
    """The first line that fills more than half of the columns that most fill: titles and blank lines may stand above it."""
    widths = Counter(_width(line) for line in lines if _width(line))
    if not widths:
        return 0
    usual = max(widths, key=lambda width: (widths[width], width))
    return next(place for place, line in enumerate(lines) if _width(line) * 2 > usual)


def _width(line: list[Any]) -> int:
    return len([cell for cell in line if cell not in (None, "")])


def _names(line: list[Any], width: int) -> list[str]:
    """A name for each column: `c3` where the third has none, `name_2` for the second of the same name."""
    names: dict[str, int] = {}
    for place in range(width):
        text = " ".join(str(line[place]).split()) if place < len(line) and line[place] is not None else ""
        name = first = text or f"c{place + 1}"
        again = names.get(first, 1)
        while name in names:
            again += 1
            name = f"{first}_{again}"
        names[first] = again
        names.setdefault(name, 1)
    return list(names)
