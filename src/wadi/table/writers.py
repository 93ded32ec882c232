"""Tables written as text: one function for each format, from columns and rows to bytes.

A new format is a function below (or beside, in `spreadsheet`, `parquet`, `database`) and a line in `destinations`.
"""

from __future__ import annotations

import io
import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from html import escape
from itertools import islice
from operator import itemgetter
from typing import Any, BinaryIO

import orjson

from wadi.clean.types import NUMERIC
from wadi.plan.columns import Column
from wadi.table.cells import coded, disarmed, flat, odd_places, text_places

_BATCH_ROWS = 1000
_FIRST = itemgetter(0)
Rows = Iterable[list[Any]]


@dataclass(frozen=True)
class Style:
    """How a table is written: the mark between cells and a byte order mark of CSV; whether texts that a spreadsheet would run
    are disarmed; what becomes of a database table that is there. `noticed` hears of texts that were not disarmed, `cut` of those
    that are longer than a workbook's cell holds: the column, and how many; `unkeyed` of a database table that is written without
    its primary key: its name, and why."""

    delimiter: str = ","
    bom: bool = False
    disarm: bool = False
    into: str = "replace"
    noticed: Callable[[str, int], None] = lambda column, count: None
    cut: Callable[[str, int], None] = lambda column, count: None
    unkeyed: Callable[[str, str], None] = lambda table, why: None


PLAIN = Style()
Writer = Callable[[BinaryIO, Sequence[Column], Rows, Style], int]
"""Writes a table and returns its number of rows."""


def csv_file(
    out: BinaryIO, columns: Sequence[Column], rows: Rows, style: Style = PLAIN, *, goes_on: bool = False
) -> int:
    """RFC 4180, UTF-8: header line, CRLF, quotes where needed; missing cells are empty. `goes_on` tells that the header and the
    rows before stand there already.

    Lists and objects are JSON, truth values are `true` and `false`. With `disarm` a text that a spreadsheet would run as a
    formula has an apostrophe before it; without it such texts are counted.
    """
    encoding = "utf-8-sig" if style.bom and not goes_on else "utf-8"
    text = io.TextIOWrapper(out, encoding, newline="", write_through=False)
    odd, texts = set(odd_places(columns)), set(text_places(columns))
    armed: Counter[int] = Counter()
    numbers = {place for place, column in enumerate(columns) if column.type == "number" and not column.many}
    if not goes_on:
        text.write(_lines([_fields([column.name], style.delimiter) for column in columns], style.delimiter))
    count = 0
    for batch in batches(rows):
        by_column: list[Sequence[Any]] = list(zip(*batch, strict=True))
        for place, cells in enumerate(by_column):
            if place in odd:
                cells = list(map(coded, cells))
            if place in texts and (disarmed_ones := _disarmed(cells)) is not cells:
                armed[place] += sum(one is not other for one, other in zip(cells, disarmed_ones, strict=True))
                cells = disarmed_ones if style.disarm else cells
            elif place in numbers:
                cells = _digits(cells)
            by_column[place] = _fields(cells, style.delimiter)
        text.write(_lines(by_column, style.delimiter))
        count += len(batch)
    text.flush()
    text.detach()
    for place, found in armed.items():
        if found and not style.disarm:
            style.noticed(columns[place].name, found)
    return count


def _disarmed(cells: Sequence[Any]) -> Sequence[Any]:
    """A column's texts disarmed. Nearly always there is none to be: their first characters tell, in a sixth of the time."""
    try:
        first_ones = set(map(_FIRST, filter(None, cells)))
    except TypeError:  # not texts alone
        first_ones = {cell[0] for cell in cells if cell.__class__ is str and cell}
    is_any = any(first in "=+-@" or first.isspace() for first in first_ones)
    return list(map(disarmed, cells)) if is_any else cells


def _digits(cells: Sequence[Any]) -> Sequence[Any]:
    """A column's numbers as texts: orjson writes them as `repr` does where it needs no exponent, in a quarter of the time."""
    written = orjson.dumps(cells).decode()
    if "e" in written or "0.0000" in written or '"' in written:
        return cells
    return [digits if digits != "null" else "" for digits in written[1:-1].split(",")]


def _fields(cells: Sequence[Any], delimiter: str) -> Sequence[str]:
    """A column's cells as fields, in quotes where they have to be. What has to be in quotes is looked for in all of them at once:
    a third of the time that the standard library's writer takes, which asks each character."""
    try:
        together = "\n".join(cells)
    except TypeError:  # missing cells, and numbers that are left as they are
        cells = ["" if cell is None else cell if cell.__class__ is str else str(cell) for cell in cells]
        together = "\n".join(cells)
    has_line_ends = together.count("\n") >= len(cells)
    marks = [mark for mark in ('"', "\r", delimiter) if mark in together] + ["\n"] * has_line_ends
    if not marks:
        return cells
    if marks == [delimiter]:
        return [f'"{cell}"' if delimiter in cell else cell for cell in cells]
    has_mark = re.compile(f"[{re.escape(''.join(marks))}]").search
    return [_quoted(cell) if has_mark(cell) else cell for cell in cells]


def _quoted(field: str) -> str:
    doubled = field.replace('"', '""')
    return f'"{doubled}"'


def _lines(by_column: Sequence[Sequence[str]], delimiter: str) -> str:
    """Lines of fields that stand in columns. A line of one empty field is a pair of quotes, or it would be none."""
    if len(by_column) == 1:
        by_column = [[field or '""' for field in by_column[0]]]
    return "".join([delimiter.join(fields) + "\r\n" for fields in zip(*by_column, strict=True)])


def tsv_file(out: BinaryIO, columns: Sequence[Column], rows: Rows, style: Style = PLAIN) -> int:
    """Like CSV, with tabs between the cells."""
    return csv_file(out, columns, rows, replace(style, delimiter="\t"))


def jsonl_file(out: BinaryIO, columns: Sequence[Column], rows: Rows, style: Style = PLAIN) -> int:
    """JSON Lines, UTF-8: one object for each row, all columns in it, missing cells null."""
    names = [column.name for column in columns]
    count = 0
    for batch in batches(rows):
        lines = (orjson.dumps(dict(zip(names, row, strict=True)), option=orjson.OPT_APPEND_NEWLINE) for row in batch)
        out.write(b"".join(lines))
        count += len(batch)
    return count


def write_json(out: BinaryIO, columns: Sequence[Column], rows: Rows, style: Style = PLAIN) -> int:
    """One JSON array of objects, a row a line."""
    names = [column.name for column in columns]
    count = 0
    out.write(b"[")
    for row in rows:
        out.write(b"\n" if not count else b",\n")
        out.write(orjson.dumps(dict(zip(names, row, strict=True))))
        count += 1
    out.write(b"\n]\n")
    return count


def markdown_table(out: BinaryIO, columns: Sequence[Column], rows: Rows, style: Style = PLAIN) -> int:
    """A table of Markdown (GFM's tables): numbers to the right, marks of the language escaped."""
    out.write(f"| {' | '.join(_marked(column.name) for column in columns)} |\n".encode())
    out.write(f"| {' | '.join('--:' if column.type in NUMERIC else '---' for column in columns)} |\n".encode())
    count = 0
    for row in rows:
        out.write(f"| {' | '.join(_marked(flat(value)) for value in row)} |\n".encode())
        count += 1
    return count


def _marked(value: Any) -> str:
    """A cell of Markdown: what would be markup is shown."""
    if value is None:
        return ""
    text = str(value).replace("\\", "\\\\").replace("\n", " ")
    for mark in "|*_`[]<>":
        text = text.replace(mark, f"\\{mark}")
    return text


_PAGE_HEAD = """<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width">
<title>Table</title>
<style>
:root { color-scheme: light dark }
body { font: 15px/1.45 system-ui, sans-serif; margin: 1.5rem }
table { border-collapse: collapse }
th, td { padding: .3rem .8rem; text-align: start; vertical-align: top }
th, td { border-block-end: 1px solid color-mix(in srgb, currentColor 18%, transparent) }
th { position: sticky; inset-block-start: 0; background: Canvas; white-space: nowrap }
.n { text-align: end; font-variant-numeric: tabular-nums; white-space: nowrap }
small { font-weight: normal; opacity: .7 }
</style>
<table>
<thead><tr>"""


def html_table(out: BinaryIO, columns: Sequence[Column], rows: Rows, style: Style = PLAIN) -> int:
    """A page of its own with the table: everything escaped, links as links."""
    out.write(_PAGE_HEAD.encode())
    for column in columns:
        unit = f" <small>{escape(column.unit)}</small>" if column.unit else ""
        out.write(f"<th{' class=n' if column.type in NUMERIC else ''}>{escape(column.name)}{unit}</th>".encode())
    out.write(b"</tr></thead>\n<tbody>\n")
    count = 0
    for row in rows:
        cells = (_html_cell(column, value) for column, value in zip(columns, row, strict=True))
        out.write(f"<tr>{''.join(cells)}</tr>\n".encode())
        count += 1
    out.write(b"</tbody>\n</table>\n</html>\n")
    return count


def _html_cell(column: Column, value: Any) -> str:
    text = "" if value is None else escape(str(flat(value)))
    if column.type == "url" and not column.many and str(value).startswith(("http://", "https://")):
        text = f'<a href="{text}">{text}</a>'
    return f"<td{' class=n' if column.type in NUMERIC else ''}>{text}</td>"


def batches(rows: Rows, size: int = _BATCH_ROWS) -> Iterator[list[list[Any]]]:
    """The rows in lists of at most `size`."""
    source = iter(rows)
    while batch := list(islice(source, size)):
        yield batch
