"""Tables as sheets of an Excel workbook (ECMA-376): typed cells, frozen header, widths, links; the format's limits minded."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, Any, BinaryIO

from wadi.clean.types import NUMERIC
from wadi.plan.columns import Column
from wadi.table.cells import at_utc, flat, typed

if TYPE_CHECKING:
    from xlsxwriter import Workbook
    from xlsxwriter.worksheet import Worksheet

MOST_ROWS = 1_048_575
"""Rows of a sheet below the header."""
MOST_CHARACTERS = 32_767
_MOST_LINKS = 65_530
_LONGEST_LINK = 2079
_LARGEST_WHOLE = 10**15
_WIDTHS = (7, 60)
_LOOKED_AT = 200
_CUT = " … (cut)"
_DATES = {"date": "yyyy-mm-dd", "datetime": "yyyy-mm-dd hh:mm:ss", "time": "hh:mm:ss"}


def workbook_file(
    out: BinaryIO,
    tables: Iterable[tuple[str, Sequence[Column], Iterable[list[Any]]]],
    most_rows: int = MOST_ROWS,
    cut: Callable[[str, int], None] = lambda column, count: None,
) -> dict[str, int]:
    """Every table on a sheet of its own, more than one where it has more than `most_rows`; returns rows by table. `cut` hears of
    texts that are longer than a cell holds.

    Dates with a zone are written in their local time, since the format has no zones. Texts are never formulas.
    """
    import xlsxwriter
    from xlsxwriter.exceptions import FileCreateError

    options = {
        "constant_memory": True,
        "strings_to_formulas": False,
        "strings_to_urls": False,
        "nan_inf_to_errors": True,
    }
    book = xlsxwriter.Workbook(_UntilItFails(out), options)
    counts: dict[str, int] = {}
    taken: set[str] = set()
    for name, columns, rows in tables:
        counts[name] = _write_table(book, name, columns, _heard(columns, rows, cut), taken, most_rows)
    try:
        book.close()
    except FileCreateError as error:  # around what the file system said
        raise (error.args[0] if isinstance(error.args[0], OSError) else error) from None
    return counts


class _UntilItFails:
    """A file that takes no more after it failed once, and does as if: a zip that could not be written closes itself when it is
    forgotten, and is not to complain then."""

    def __init__(self, out: BinaryIO) -> None:
        self._out = out
        self._has_failed = False
        self._place = 0

    def write(self, data: bytes) -> int:
        if not self._has_failed:
            try:
                self._out.write(data)
            except OSError:
                self._has_failed = True
                raise
        self._place += len(data)
        return len(data)

    def seek(self, offset: int, whence: int = 0) -> int:
        self._place = offset if self._has_failed else self._out.seek(offset, whence)
        return self._place

    def tell(self) -> int:
        return self._place

    def flush(self) -> None:
        if not self._has_failed:
            self._out.flush()

    def close(self) -> None:
        """It is closed by whoever opened it."""


def _heard(
    columns: Sequence[Column], rows: Iterable[list[Any]], cut: Callable[[str, int], None]
) -> Iterator[list[Any]]:
    """The rows, and after the last one the word of what was too long."""
    long: Counter[str] = Counter()
    for row in rows:
        for column, value in zip(columns, row, strict=True):
            if value.__class__ in (str, list) and len(str(flat(value))) > MOST_CHARACTERS:
                long[column.name] += 1
        yield row
    for name, count in long.items():
        cut(name, count)


def _write_table(
    book: Workbook, name: str, columns: Sequence[Column], rows: Iterable[list[Any]], taken: set[str], most_rows: int
) -> int:
    # Widths must be known before the first row is written, so the first rows are looked at.
    waiting: list[list[Any]] = []
    source = iter(rows)
    for row in source:
        waiting.append(row)
        if len(waiting) >= _LOOKED_AT:
            break
    sheet, write = _new_sheet(book, name, columns, waiting, taken)
    count = links = 0
    for row in _chained(waiting, source):
        place = count % most_rows
        if count and place == 0:
            _finish(sheet, columns, most_rows)
            sheet, write = _new_sheet(book, name, columns, waiting, taken)
        for column, (item, value) in enumerate(zip(columns, row, strict=True)):
            if value is not None:
                links += write(place + 1, column, item, value, links)
        count += 1
    _finish(sheet, columns, (count - 1) % most_rows + 1 if count else 0)
    return count


def _chained(first: list[list[Any]], rest: Iterable[list[Any]]) -> Iterable[list[Any]]:
    yield from first
    yield from rest


def _new_sheet(
    book: Workbook, name: str, columns: Sequence[Column], sample: list[list[Any]], taken: set[str]
) -> tuple[Worksheet, Any]:
    sheet = book.add_worksheet(sheet_name(name, taken))
    # Texts stand a little in, so that they do not touch the numbers at their left.
    head = book.add_format({"bold": True, "bottom": 2, "indent": 1})
    number_head = book.add_format({"bold": True, "bottom": 2, "align": "right"})
    formats = {
        kind: book.add_format({"num_format": form, "align": "left", "indent": 1}) for kind, form in _DATES.items()
    }
    link = book.add_format({"font_color": "#1F5FA8", "underline": 1, "indent": 1})
    words = book.add_format({"indent": 1})
    readers = {column.name: typed(column) for column in columns}
    in_utc: set[int] = set()
    sheet.freeze_panes(1, 0)
    sheet.set_landscape()
    sheet.fit_to_pages(1, 0)  # printed as wide as the paper, the head on each page
    sheet.repeat_rows(0)
    for place, column in enumerate(columns):
        title = column.name
        longest = max([len(title) + 4, *(len(str(flat(row[place]))) + 2 for row in sample if row[place] is not None)])
        width = 11 if column.type == "date" else 20 if column.type == "datetime" else longest
        sheet.set_column(place, place, min(max(width, _WIDTHS[0]), _WIDTHS[1]))
        is_number = column.type in NUMERIC and not column.many
        sheet.write_string(0, place, title, number_head if is_number else head)
        if column.unit:
            sheet.write_comment(0, place, f"in {column.unit}", {"x_scale": 0.6, "y_scale": 0.3})

    def write(row: int, place: int, column: Column, value: Any, links: int) -> int:
        """One cell; 1 where it is a link, of which a sheet has only so many."""
        read = readers[column.name]
        if read is not None:
            moment = read(value)
            plain = moment
            if column.type == "datetime" and moment.tzinfo is not None:  # a sheet knows one clock
                plain = at_utc(moment).replace(tzinfo=None)
                if place not in in_utc:
                    in_utc.add(place)
                    sheet.write_comment(0, place, "in UTC", {"x_scale": 0.6, "y_scale": 0.3})
            # A sheet knows no days before 1900, and no offsets of times: such cells are texts.
            if moment.tzinfo is None if column.type == "time" else plain.year >= 1900:
                sheet.write_datetime(row, place, plain, formats[column.type])
                return 0
        if isinstance(value, bool):
            sheet.write_boolean(row, place, value, words)
        elif isinstance(value, int | float) and abs(value) < _LARGEST_WHOLE:
            sheet.write_number(row, place, value)
        elif (shown := flat(value)) is not None:  # an empty list is an empty cell
            text = str(shown)
            if len(text) > MOST_CHARACTERS:
                text = text[: MOST_CHARACTERS - len(_CUT)] + _CUT
            is_link = column.type == "url" and not column.many and len(text) <= _LONGEST_LINK and links < _MOST_LINKS
            if is_link and text.startswith(("http://", "https://")):
                sheet.write_url(row, place, text, link, string=text)
                return 1
            sheet.write_string(row, place, text, words)
        return 0

    return sheet, write


def _finish(sheet: Worksheet, columns: Sequence[Column], rows: int) -> None:
    if columns:
        sheet.autofilter(0, 0, max(rows, 1), len(columns) - 1)


def sheet_name(name: str, taken: set[str]) -> str:
    """A name that the format allows: 31 characters, no `[]:*?/\\`, not taken yet (case aside)."""
    base = "".join("_" if c in "[]:*?/\\'" else c for c in name)[:31] or "table"
    found, number = base, 2
    while found.casefold() in taken:
        end = f" ({number})"
        found, number = base[: 31 - len(end)] + end, number + 1
    taken.add(found.casefold())
    return found
