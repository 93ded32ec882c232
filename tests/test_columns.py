"""Files of columns: separators, encodings, titles above, packing, workbooks; nothing that comes makes the reader fall over."""

from __future__ import annotations

import csv
import gzip
import io
import zipfile
from datetime import date, datetime
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wadi.page.document import NotADocument, read_document


def _zip(**members: bytes) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as file:
        for name, data in members.items():
            file.writestr(name, data)
    return out.getvalue()


def _book(rows: list[list[Any]], sheet: str = "One") -> bytes:
    import openpyxl

    book = openpyxl.Workbook()
    book.active.title = "First"  # type: ignore[union-attr]
    page = book.create_sheet(sheet)
    for row in rows:
        page.append(row)
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def _id(value: object) -> str | None:
    """Packed bytes hold the time of day: as a test's name they would differ between workers."""
    return "bytes" if isinstance(value, bytes) else None


AB = [{"a": "1", "b": "2"}, {"a": "3", "b": None}]


@pytest.mark.parametrize(
    ("body", "url", "content_type", "wanted"),
    [
        (b"a,b\n1,2\n3,\n", "http://h/x", "text/csv", [{"a": "1", "b": "2"}, {"a": "3", "b": ""}]),
        (b"a;b\r\n1;2\r\n3\r\n", "http://h/x.csv?y=1", "application/octet-stream", AB),
        (b"a\tb\n1\t2\n3\n", "http://h/x.tsv", "", AB),
        (b"a|b\n1|2\n3\n", "http://h/x", "text/csv; charset=utf-8", AB),
        (b"sep=;\na;b\n1;2\n3\n", "http://h/x.csv", "", AB),
        (b"\xef\xbb\xbfa,b\n1,2\n3\n", "http://h/x.csv", "", AB),
        ("a,b\n1,2\n3\n".encode("utf-16"), "http://h/x.csv", "", AB),
        (b"Title of it all\n\na,b\n1,2\n3\n", "http://h/x.csv", "", AB),
        (b'a,b\n1,"2"\n3\n', "http://h/x.csv", "", AB),
        (b'"a","b;c"\n"x\n,y","2"\n', "http://h/x.csv", "", [{"a": "x\n,y", "b;c": "2"}]),
        (b"a,a,\n1,2,3\n", "http://h/x.csv", "", [{"a": "1", "a_2": "2", "c3": "3"}]),
        (b"a,b\n1,2,3\n4,5\n", "http://h/x.csv", "", [{"a": "1", "b": "2", "c3": "3"}, {"a": "4", "b": "5", "c3": None}]),
        (b"a\n1\n2\n", "http://h/x.csv", "", [{"a": "1"}, {"a": "2"}]),
        (gzip.compress(b"a,b\n1,2\n3\n"), "http://h/x.csv.gz", "application/gzip", AB),
        (gzip.compress(b"a,b\n1,2\n") + gzip.compress(b"3\n"), "http://h/x.csv.gz", "", AB),
        (_zip(**{"d/x.csv": b"a,b\n1,2\n3\n"}), "http://h/x.zip", "application/zip", AB),
        (gzip.compress(b'{"a": 1}\n{"a": 2}\n'), "http://h/x.jsonl.gz", "", [{"a": 1}, {"a": 2}]),
        ("Größe;Maß\n1;2\n".encode("windows-1252"), "http://h/x.csv", "text/csv", [{"Größe": "1", "Maß": "2"}]),
    ],
    ids=_id,
)  # fmt: skip
def test_files_of_columns_are_recognised(body: bytes, url: str, content_type: str, wanted: Any) -> None:
    assert read_document(body, url, content_type).data == wanted


@pytest.mark.parametrize(
    ("header", "wanted"),
    [(1, [{"x": "a", "c2": "b"}, {"x": "1", "c2": "2"}]), (2, [{"a": "1", "b": "2"}]), (0, [{"c1": "x", "c2": None}, {"c1": "a", "c2": "b"}, {"c1": "1", "c2": "2"}])],
)  # fmt: skip
def test_a_plan_may_say_which_line_names_the_columns(header: int, wanted: Any) -> None:
    assert read_document(b"x\na,b\n1,2\n", "http://h/x.csv", header=header).data == wanted


def test_workbooks_keep_their_types() -> None:
    body = _book(
        [
            ["n", "x", "day", "at", "yes"],
            [1, 2.5, date(2026, 3, 1), datetime.fromisoformat("2026-03-01T09:30"), True],
            [None, None, None, None, None],
            ["t"],
        ]
    )
    found = read_document(body, "http://h/x", parse="excel", sheet="One").data
    assert found == [
        {"n": 1, "x": 2.5, "day": "2026-03-01", "at": "2026-03-01T09:30:00", "yes": True},
        {"n": "t", "x": None, "day": None, "at": None, "yes": None},
    ]
    assert read_document(body, "http://h/x.xlsx").data == []


@pytest.mark.parametrize(
    ("body", "url", "options", "words"),
    [
        (b"", "http://h/x.csv", {"parse": "csv"}, "empty"),
        (b"a,b\n1,2\n", "http://h/x.csv", {"header": 9}, "2 lines"),
        (b"<html>Not here", "http://h/x.csv", {"parse": "csv"}, "a page and no file of columns"),
        (gzip.compress(b"a,b\n" * 99)[:-12], "http://h/x.csv.gz", {}, "breaks off"),
        (b"\x1f\x8b\x08nonsense", "http://h/x.csv.gz", {}, "damaged|breaks off"),
        (_zip(a=b"1", b=b"2"), "http://h/x.zip", {}, "holds 2 files.*a, b"),
        (_zip(a=b"1")[:20], "http://h/x.zip", {}, "cannot be read"),
        (_book([[1]]), "http://h/x.xlsx", {"sheet": "Two"}, 'no sheet "Two", but: First, One'),
        (b"PK\x03\x04 nonsense", "http://h/x.xlsx", {"parse": "excel"}, "cannot be read|no workbook"),
        (b"no workbook at all", "http://h/x.xlsx", {"parse": "excel"}, "no workbook"),
    ],
    ids=_id,
)
def test_what_is_no_file_of_columns_says_why(body: bytes, url: str, options: dict[str, Any], words: str) -> None:
    with pytest.raises(NotADocument, match=words):
        read_document(body, url, **options)


def test_a_page_at_the_address_of_a_file_is_a_page() -> None:
    assert read_document(b"<!doctype html><p>Gone", "http://h/x.csv", "text/html").kind == "html"
    assert read_document(b"a,b\n", "http://h/x.csv", "text/html").kind == "html"


@given(
    st.lists(st.lists(st.text("ab1 ,;\t|\"\n'ä", max_size=5), min_size=3, max_size=3), min_size=1, max_size=6),
    st.sampled_from(",;\t|"),
)
def test_what_was_written_is_read_again(rows: list[list[str]], separator: str) -> None:
    out = io.StringIO(newline="")
    writer = csv.writer(out, delimiter=separator, lineterminator="\n", quoting=csv.QUOTE_ALL)
    writer.writerows([["n1", "n2", "n3"], *rows])
    found = read_document(out.getvalue().encode(), "http://h/x.csv", header=1).data
    assert [list(record.values()) for record in found] == [row for row in rows if any(row)]


@given(
    st.binary(max_size=300),
    st.sampled_from(["csv", "excel", None]),
    st.sampled_from([b"", b"PK\x03\x04", b"\x1f\x8b\x08", b"a;b\n"]),
)
def test_no_bytes_make_the_reader_fall_over(body: bytes, parse: Any, start: bytes) -> None:
    try:
        read_document(start + body, "http://h/x.csv", parse=parse)
    except NotADocument as error:
        assert str(error)
