"""Tables in files: CSV and TSV, JSON and JSON Lines, Parquet, Excel, SQLite. Rows are read as they are wanted.

CSV has no types: a column whose texts are all numbers is one of numbers, and so with whole numbers, truth values, days.
"""

from __future__ import annotations

import csv
import gzip
import re
import sqlite3
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import closing
from dataclasses import replace
from datetime import date, datetime, time
from decimal import Decimal
from functools import partial
from pathlib import Path
from typing import IO, Any

import orjson

from wadi.clean.types import TypeName
from wadi.page.columns import BROKEN_ZIP
from wadi.plan.columns import SEEN_COLUMNS, Column
from wadi.problems import Place, Problem, UsageError, listed
from wadi.quality.tables import TableSource
from wadi.store.connect import connect
from wadi.table.destinations import PARQUET
from wadi.table.extras import needs

_INTEGER = re.compile(r"[+-]?(?:0|[1-9]\d{0,17})")
_NUMBER = re.compile(r"[+-]?(?:(?:0|[1-9]\d*)(?:\.\d*)?|\.\d+)(?:[eE][+-]?\d+)?")
_DAY = re.compile(r"\d{4}-\d\d-\d\d")
_MOMENT = re.compile(r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(?::\d\d(?:\.\d+)?)?(?:Z|[+-]\d\d:?\d\d)?")


class _Lists:
    """Lists written as JSON, asked for as expressions are."""

    def fullmatch(self, text: str) -> bool | None:
        try:
            return True if text.startswith("[") and isinstance(orjson.loads(text), list) else None
        except orjson.JSONDecodeError:
            return None


_TEXT_TYPES: tuple[tuple[TypeName, re.Pattern[str] | _Lists], ...] = (
    ("integer", _INTEGER), ("number", _NUMBER), ("boolean", re.compile(r"true|false")), ("date", _DAY),
    ("datetime", _MOMENT), ("array", _Lists()),
)  # fmt: skip
_CLASSES: dict[type, TypeName] = {
    str: "string", bool: "boolean", int: "integer", float: "number", date: "date", datetime: "datetime", time: "time",
    Decimal: "number", dict: "object",
}  # fmt: skip
_PLAIN_CELLS = (str, int, float, bool, type(None))


_DAMAGED = (*BROKEN_ZIP, sqlite3.Error, csv.Error)


def tables_in(path: Path) -> list[TableSource]:
    """The tables of a file, by its ending. Raises UsageError for what cannot be read, OSError for what is not there."""
    name, ending = path.stem, path.suffix.lower()
    if ending == ".gz":
        name, ending = Path(name).stem, Path(name).suffix.lower()
    reader = READERS.get(ending)
    if reader is None:
        now = f"endings that can be read: {listed(READERS)}"
        raise UsageError(Problem("unknown-format", f'"{ending}" is no kind of table', Place(str(path)), now=now))
    if not path.is_file():
        raise UsageError(Problem("no-such-file", "no such file", Place(str(path))))
    try:
        tables = reader(path, name)
    except (*_DAMAGED, KeyError, OSError) as error:
        raise _damaged(path, error) from error
    if not tables:
        raise UsageError(Problem("no-rows", "there is no table in it", Place(str(path))))
    found = [TableSource(table.name, table.columns, partial(_told, path, table.rows), table.key) for table in tables]
    return [_with_history(table) if set(SEEN_COLUMNS) <= set(table.names) else table for table in found]


def _with_history(table: TableSource) -> TableSource:
    """A table with all the columns in which a history stands, as one that has a history."""
    place = table.names.index("gone")
    is_gone = (True, 1, "true", "True", "TRUE")
    return replace(
        table,
        history=tuple(SEEN_COLUMNS),
        rows_there=lambda: (row for row in table.rows() if row[place] not in is_gone),
    )


def _told(path: Path, rows: Callable[[], Iterator[list[Any]]]) -> Iterator[list[Any]]:
    """Rows of a file; what is wrong in its middle is told as what is wrong at its beginning."""
    try:
        yield from rows()
    except (*_DAMAGED, OSError) as error:
        raise _damaged(path, error) from error


def _damaged(path: Path, error: Exception) -> UsageError:
    what = str(error).strip().splitlines()[0] if str(error).strip() else type(error).__name__
    return UsageError(Problem("not-readable", f"the file cannot be read as a table: {what}", Place(str(path))))


def _opened(path: Path) -> IO[str]:
    if path.suffix.lower() == ".gz":
        return gzip.open(path, "rt", encoding="utf-8-sig", newline="")
    return path.open(encoding="utf-8-sig", newline="")


# -- CSV


def _separated(path: Path, name: str, delimiter: str = ",") -> list[TableSource]:
    with _opened(path) as file:
        head = file.readline()
    if not head.strip():
        raise ValueError("it is empty")
    if delimiter == "," and head.count(";") > head.count(","):
        delimiter = ";"
    names = _distinct_names(next(csv.reader([head], delimiter=delimiter)))
    types = _types_of(names, lambda: _text_rows(path, delimiter, len(names)))
    columns = [_column(heading, kind) for heading, kind in zip(names, types, strict=True)]
    readers = [_FROM_TEXT.get(kind) for kind in types]

    def rows() -> Iterator[list[Any]]:
        for cells in _text_rows(path, delimiter, len(names)):
            yield [
                None if cell == "" else cell if read is None else read(cell)
                for cell, read in zip(cells, readers, strict=True)
            ]

    return [TableSource(name, columns, rows)]


def _text_rows(path: Path, delimiter: str, width: int) -> Iterator[list[str]]:
    """The rows below the heading. Raises ValueError for one that has another number of cells."""
    csv.field_size_limit(2**31 - 1)
    with _opened(path) as file:
        reader = csv.reader(file, delimiter=delimiter, strict=True)
        next(reader, None)
        for cells in reader:
            if len(cells) != width:
                if not cells:
                    continue
                raise ValueError(f"line {reader.line_num} has {len(cells)} cells, the heading {width}")
            yield cells


def _types_of(names: list[str], rows: Callable[[], Iterator[list[str]]]) -> list[TypeName]:
    """The narrowest type of each column that all its texts have."""
    left = [list(_TEXT_TYPES) for _ in names]
    seen = [False] * len(names)
    for cells in rows():
        for place, cell in enumerate(cells):
            kinds = left[place]
            if cell and kinds:
                seen[place] = True
                # Nearly always the first type fits; whole numbers are numbers, too, and nothing else is two of them.
                if kinds[0][1].fullmatch(cell) is None:
                    left[place] = [kind for kind in kinds if kind[1].fullmatch(cell) is not None]
                elif kinds[0][0] == "integer" and len(kinds) > 2:
                    left[place] = kinds[:2]
                elif kinds[0][0] != "integer" and len(kinds) > 1:
                    left[place] = kinds[:1]
    return [kinds[0][0] if kinds and there else "string" for kinds, there in zip(left, seen, strict=True)]


_FROM_TEXT: dict[TypeName, Callable[[str], Any]] = {
    "integer": int,
    "number": float,
    "boolean": lambda text: text == "true",
    "array": orjson.loads,
}


def _distinct_names(names: Sequence[Any]) -> list[str]:
    """Names of columns; those that are empty or there twice get their place."""
    found: list[str] = []
    for place, name in enumerate(names, start=1):
        text = str(name).strip() if name is not None else ""
        found.append(text if text and text not in found else f"{text or 'column'}_{place}")
    return found


# -- what has types


def _json_lines(path: Path, name: str) -> list[TableSource]:
    def records() -> Iterator[Mapping[str, Any]]:
        with _opened(path) as file:
            for number, line in enumerate(file, start=1):
                if line.strip():
                    yield _record(line, f"line {number}")

    return [_of_records(name, records)]


def _json(path: Path, name: str) -> list[TableSource]:
    with _opened(path) as file:
        data = orjson.loads(file.read())
    if not isinstance(data, list):
        raise ValueError("it is no list of records")
    return [_of_records(name, lambda: (_checked(record, f"record {n}") for n, record in enumerate(data, start=1)))]


def _record(line: str, where: str) -> Mapping[str, Any]:
    try:
        return _checked(orjson.loads(line), where)
    except orjson.JSONDecodeError as error:
        raise ValueError(f"{where}: {error}") from error


def _checked(value: Any, where: str) -> Mapping[str, Any]:
    if not isinstance(value, dict):
        raise ValueError(f"{where} is no record of names and values")
    return value


def _of_records(name: str, records: Callable[[], Iterable[Mapping[str, Any]]]) -> TableSource:
    names: dict[str, None] = {}
    for record in records():
        names.update(dict.fromkeys(record))
    ordered = list(names)

    def rows() -> Iterator[list[Any]]:
        return ([record.get(heading) for heading in ordered] for record in records())

    return _of_values(name, ordered, rows)


def _of_values(name: str, names: Sequence[str], rows: Callable[[], Iterator[Sequence[Any]]]) -> TableSource:
    """A table whose cells have types of their own: the column has the one that all have."""
    kinds: list[set[TypeName]] = [set() for _ in names]
    many = [False] * len(names)
    for row in rows():
        for place, value in enumerate(row):
            if isinstance(value, list):
                many[place] = True
                kinds[place].update(_CLASSES.get(type(member), "string") for member in value if member is not None)
            elif value is not None:
                kinds[place].add(_CLASSES.get(type(value), "string"))
    columns = [_column(heading, _common(k), m) for heading, k, m in zip(names, kinds, many, strict=True)]

    def plain() -> Iterator[list[Any]]:
        return ([_plain(value) for value in row] for row in rows())

    return TableSource(name, columns, plain)


def _common(kinds: set[TypeName]) -> TypeName:
    if kinds == {"integer", "number"}:
        return "number"
    if kinds == {"date", "datetime"}:
        return "datetime"
    return next(iter(kinds)) if len(kinds) == 1 else "string"


def _plain(value: Any) -> Any:
    """A cell as tables of runs have it: days as ISO 8601, decimals as numbers."""
    if isinstance(value, _PLAIN_CELLS):
        return None if value == "" else value
    if isinstance(value, datetime | date | time):
        return value.isoformat()
    if isinstance(value, Decimal):
        return float(value)
    return value if isinstance(value, list | dict) else str(value)


def _column(name: str, kind: TypeName, many: bool = False) -> Column:
    if kind == "array":
        kind, many = "string", True
    return Column(name, kind, many, None, False, ())


def _parquet(path: Path, name: str) -> list[TableSource]:
    needs(*PARQUET)
    import pyarrow.parquet as pq

    names = pq.read_schema(path).names

    def rows() -> Iterator[Sequence[Any]]:
        with pq.ParquetFile(path) as file:
            for batch in file.iter_batches(5000):
                yield from zip(*(column.to_pylist() for column in batch.columns), strict=True)

    return [_of_values(name, names, rows)]


def _workbook(path: Path, name: str) -> list[TableSource]:
    import openpyxl

    def rows_of(sheet: str) -> Iterator[Sequence[Any]]:
        book = openpyxl.load_workbook(path, read_only=True, data_only=True)
        with closing(book):
            yield from book[sheet].iter_rows(values_only=True)

    with closing(openpyxl.load_workbook(path, read_only=True)) as book:
        sheets = list(book.sheetnames)
    tables = []
    for sheet in sheets:
        heading = next(rows_of(sheet), None)
        if heading:
            names = _distinct_names(heading)
            tables.append(_of_values(sheet, names, partial(_below_heading, rows_of, sheet, len(names))))
    return tables


def _below_heading(
    rows_of: Callable[[str], Iterator[Sequence[Any]]], sheet: str, width: int
) -> Iterator[Sequence[Any]]:
    rows = rows_of(sheet)
    next(rows, None)
    for row in rows:
        if any(value is not None for value in row):
            yield [*row[:width], *(None,) * (width - len(row))]


def _sqlite(path: Path, name: str) -> list[TableSource]:
    def rows_of(table: str) -> Iterator[Sequence[Any]]:
        with closing(connect(path)) as database:
            yield from database.execute(f"SELECT * FROM {_quoted(table)}")

    with closing(connect(path)) as database:
        query = (
            "SELECT name FROM sqlite_master WHERE type IN ('table', 'view') AND name NOT LIKE 'sqlite_%' ORDER BY rowid"
        )
        names = [table for (table,) in database.execute(query)]
        columns = {
            t: [part[0] for part in database.execute(f"SELECT * FROM {_quoted(t)} LIMIT 0").description] for t in names
        }
    return [_of_values(table, columns[table], partial(rows_of, table)) for table in names]


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


READERS: dict[str, Callable[[Path, str], list[TableSource]]] = {
    ".csv": _separated,
    ".tsv": partial(_separated, delimiter="\t"),
    ".jsonl": _json_lines,
    ".ndjson": _json_lines,
    ".json": _json,
    ".parquet": _parquet,
    ".xlsx": _workbook,
    ".sqlite": _sqlite,
    ".db": _sqlite,
}
