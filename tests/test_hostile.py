"""Pages that are made to hold a reader up, or to bring it down: one page costs one failed page, and signals are heard."""

from __future__ import annotations

import gzip
import io
import signal
import subprocess
import time
import zipfile
from pathlib import Path

import pytest

from conftest import Program
from wadi.crawl import bounds
from wadi.crawl.bounds import TookTooLong, extract_within, read_within, within
from wadi.crawl.kinds import Kind
from wadi.page.columns import BadColumns, read_columns, unpacked
from wadi.page.document import read_document
from wadi.page.grid import TooLargeTable, grid_of
from wadi.page.nodes import elements
from wadi.web.coding import MOST_MEMBERS, BadCoding, decoded
from wadi.web.messages import Reply, Request
from wadi.web.robots import read_robots, verdict_for

EVIL = "a" * 40 + "!"
PLAN = """
wadi = 1
[start]
page = "list"
addresses = "page-*.html"
[limits]
page_time = "2s"
[page.list]
rows = {rows}
table = "rows"
[page.list.fields]
name = {{ at = "b", find = {find} }}
"""


def _folder(tmp_path: Path, pages: list[str], rows: str = '"li"', find: str = "'.*'") -> None:
    for number, page in enumerate(pages):
        (tmp_path / f"page-{number}.html").write_text(page, encoding="utf-8")
    (tmp_path / "plan.toml").write_text(PLAN.format(rows=rows, find=find), encoding="utf-8")


@pytest.mark.parametrize(
    ("evil", "rows", "find"),
    [
        (f"<ul><li><b>{EVIL}</b></ul>", '"li"', "'(a+)+$|ok.*'"),
        ("<ul>" + "<li><b>ok</b>" * 30_000 + "</ul>", '"//li[count(preceding::li) > 29990]"', "'.*'"),
    ],
    ids=["an expression that goes back and forth", "a path that counts all that stands before"],
)
def test_a_page_that_takes_for_ever_fails_and_the_others_are_read(
    program: Program, tmp_path: Path, evil: str, rows: str, find: str
) -> None:
    _folder(tmp_path, ["<ul><li><b>ok 0</b></ul>", evil, "<ul><li><b>ok 2</b></ul>"], rows, find)
    began = time.monotonic()
    done = program("run", "plan.toml", "-o", "rows.csv")
    assert time.monotonic() - began < 30
    assert "takes longer than 2 s to read [beyond-bounds]" in done.out + done.err
    assert "2 read, 1 failed" in done.out + done.err
    assert (tmp_path / "rows.csv").exists()
    assert done.status == 1


def test_an_interrupt_is_heard_while_a_page_is_read(program: Program, tmp_path: Path) -> None:
    _folder(tmp_path, [f"<ul><li><b>{EVIL}</b></ul>"], find="'(a+)+$'")
    (tmp_path / "plan.toml").write_text((tmp_path / "plan.toml").read_text().replace('"2s"', '"60s"'))
    process = program.start("run", "plan.toml", "-o", "rows.csv")
    while not any(b'"queued"' in log.read_bytes() for log in tmp_path.glob("runs/plan/*/run.log")):
        assert process.poll() is None
    began = time.monotonic()
    process.send_signal(signal.SIGINT)
    assert process.stderr is not None
    while "stopping" not in process.stderr.readline():
        assert process.poll() is None
    process.send_signal(signal.SIGINT)  # at once
    process.communicate(timeout=30)
    assert time.monotonic() - began < 4
    assert process.returncode == 130


def test_whatever_goes_wrong_while_a_page_is_read_is_the_failure_of_the_page(monkeypatch: pytest.MonkeyPatch) -> None:
    def fails(*arguments: object, **more: object) -> None:
        raise KeyError("unforeseen")

    monkeypatch.setattr(bounds, "extract", fails)
    reply = Reply(Request("http://h/"), "http://h/", 200, (), b"x", 0.0)
    failure = extract_within(5, reply, Kind("list"), {}).failure
    assert failure is not None
    assert failure.code == "reader-failed"
    assert "KeyError: 'unforeseen'" in failure.what
    assert "fails" in failure.as_dict()["trace"]
    assert "Traceback" not in str(failure)


def test_reading_is_ended_in_time_and_the_alarm_is_gone(monkeypatch: pytest.MonkeyPatch) -> None:
    def turns(*arguments: object, **more: object) -> None:
        while True:
            pass

    reply = Reply(Request("http://h/"), "http://h/", 200, (), b"x", 0.0)
    before = signal.getsignal(signal.SIGALRM)
    monkeypatch.setattr(bounds, "extract", turns)
    with pytest.raises(TookTooLong):
        extract_within(0.1, reply, Kind("list"), {})
    failure = read_within(0.1, reply, Kind("list"), {}).failure
    assert failure is not None
    assert failure.code == "beyond-bounds"
    assert signal.getitimer(signal.ITIMER_REAL)[0] == 0
    assert signal.getsignal(signal.SIGALRM) is before
    with within(10):
        pass
    assert signal.getitimer(signal.ITIMER_REAL)[0] == 0


EMPTY = gzip.compress(b"")


def test_members_of_gzip_are_bounded_and_many_small_ones_are_read() -> None:
    many = b"".join(gzip.compress(b"%d\n" % number) for number in range(3000))
    wanted = b"".join(b"%d\n" % number for number in range(3000))
    assert decoded(many, "gzip", 10**6) == wanted
    assert unpacked(many) == (wanted, "")
    with pytest.raises(BadCoding, match="50,000 gzip members"):
        decoded(EMPTY * (MOST_MEMBERS + 1), "gzip", 10**6)
    with pytest.raises(BadColumns, match="50,000 gzip members"):
        unpacked(EMPTY * (MOST_MEMBERS + 1))


def _zip(**files: bytes) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as file:
        for name, data in files.items():
            file.writestr(name, data)
    return out.getvalue()


def _workbook(rows: str, dimension: str = "A1:B2") -> bytes:
    import openpyxl

    book, out = openpyxl.Workbook(), io.BytesIO()
    book.active["A1"] = 1
    book.save(out)
    sheet = f"""<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><dimension ref="{dimension}"/>
        <sheetData>{rows}</sheetData></worksheet>"""
    with zipfile.ZipFile(out) as file:
        parts = {info.filename: file.read(info) for info in file.infolist()}
    parts["xl/worksheets/sheet1.xml"] = sheet.encode()
    return _zip(**parts)


def test_a_workbook_is_as_large_as_what_stands_in_it() -> None:
    small = '<row r="1"><c r="A1"><v>1</v></c><c r="B1"><v>2</v></c></row>' * 1
    records, _, _ = read_columns(_workbook(small, "A1:XFD1048576"), "excel", header=0)
    assert records == [{"c1": 1, "c2": 2}]
    wide = "".join(f'<row r="{n}"><c r="XFD{n}"><v>1</v></c></row>' for n in range(1, 400))
    with pytest.raises(BadColumns, match="5,000,000 cells"):
        read_columns(_workbook(wide), "excel")


@pytest.mark.parametrize(
    ("text", "why"),
    [
        (",".join("a" * 200_000), "200,000 columns"),
        ("a\n" * 3_000_000, "5,000,000 cells"),
        (",".join("ab" * 8000), None),
    ],
    ids=["wide", "long", "as wide as may be"],
)
def test_files_of_columns_are_bounded(text: str, why: str | None) -> None:
    began = time.monotonic()
    if why is None:
        names = list(read_columns(f"{text}\n{text}".encode(), "csv")[0][0])
        assert (len(names), names[2], names[-1]) == (16_000, "a_2", "b_8000")
    else:
        with pytest.raises(BadColumns, match=why):
            read_columns(text.encode(), "csv")
    assert time.monotonic() - began < 20


def test_a_zip_that_holds_far_more_than_it_takes_is_refused() -> None:
    with pytest.raises(BadColumns, match="larger than 100 MB"):
        unpacked(_zip(**{"a.csv": b"a,b\n" * 30_000_000}))


def test_merged_cells_are_bounded() -> None:
    rows = "<tr>" + "<td colspan=1000 rowspan=60000>x" * 20
    page = f"<table>{rows}{'<tr><td>y' * 2000}</table>".encode()
    table = next(iter(elements(read_document(page, "http://h/").top, "table")))
    with pytest.raises(TooLargeTable, match="2,000,000 places"):
        grid_of(table)


@pytest.mark.parametrize(
    ("rule", "path", "is_allowed"),
    [
        ("/*" + "a*" * 60 + "b", "/" + "a" * 4000, True), ("/*a*a*b", "/xaxaxb/c", False), ("/a*b$", "/axxb", False),
        ("/a*b$", "/axxbc", True), ("/a$", "/a", False), ("/a$", "/ab", True), ("/a*$", "/abc", False), ("*.pdf$", "/x.pdf", False),
        ("*.pdf$", "/x.pdf?y", True), ("/a*ab$", "/ab", True), ("/a*ab$", "/aab", False), ("*", "/x", False), ("/%7Ex", "/~xy", False),
    ],
)  # fmt: skip
def test_patterns_of_robots_txt_are_matched_in_one_pass(rule: str, path: str, is_allowed: bool) -> None:
    robots = read_robots(f"User-agent: *\nDisallow: {rule}\n".encode())
    began = time.monotonic()
    assert verdict_for(robots, f"http://h{path}", "wadi").allowed is is_allowed
    assert time.monotonic() - began < 1


OBEYED = "v\u009b2J\u202ez\u2066"


@pytest.mark.parametrize(
    "command",
    [["draft", "page-0.html", "-o", "-"], ["inspect", "page-0.html", "--json"], ["try", "page-0.html", "b", "--json"],
     ["trace", "plan", "rows", "1", "--json"], ["trace", "plan", "rows", "1"], ["preview", "plan.toml", "--json"]],
    ids=" ".join,
)  # fmt: skip
def test_what_a_terminal_would_obey_is_escaped(program: Program, tmp_path: Path, command: list[str]) -> None:
    rows = "".join(f'<li class="r"><b title="{OBEYED}">{OBEYED}{number}</b>' for number in range(4))
    _folder(tmp_path, [f"<title>{OBEYED}</title><ul>{rows}</ul>"])
    if command[0] == "trace":
        assert program("run", "plan.toml").status == 0
    done = program(*command)
    assert done.status == 0
    assert not set(OBEYED) & set("\u009b\u202e\u2066") & set(done.out + done.err)


def test_cells_that_a_workbook_cannot_hold_are_counted(program: Program, tmp_path: Path) -> None:
    _folder(tmp_path, [f"<ul><li><b>{'x' * 40_000}</b><li><b>short</b></ul>"])
    done = program("run", "plan.toml", "-o", "rows.xlsx", "-o", "rows.csv")
    assert done.status == 0
    assert "rows.xlsx: cells cut, since a workbook's cell holds 32,767 characters: 1 of name" in done.err + done.out
    assert "x" * 40_000 in (tmp_path / "rows.csv").read_text()


def test_a_pause_that_a_site_asks_for_is_bounded() -> None:
    for said, wanted in (("1e99", 3600.0), ("inf", None), ("nan", None), ("-4", 0.0), ("2.5", 2.5)):
        robots = read_robots(f"User-agent: *\nCrawl-delay: {said}\nDisallow: /x\n".encode())
        assert verdict_for(robots, "http://h/", "wadi").crawl_delay_s == wanted


SLOW_PAGE, SLOW_ROWS = "<ul>" + "<li><b>x</b>" * 30_000 + "</ul>", "//li[count(preceding::li) > 29990]"
"""What nothing but the end of the process ends."""


@pytest.mark.parametrize("command", [("try", "page-0.html", SLOW_ROWS), ("preview", "plan.toml")])
def test_looking_at_a_page_is_ended_at_once(program: Program, tmp_path: Path, command: tuple[str, ...]) -> None:
    _folder(tmp_path, [SLOW_PAGE], f'"{SLOW_ROWS}"')
    process = program.start(*command)
    with pytest.raises(subprocess.TimeoutExpired):
        process.communicate(timeout=4)
    process.send_signal(signal.SIGINT)
    process.communicate(timeout=4)
    assert process.returncode == -signal.SIGINT


def test_reading_stored_pages_again_is_bounded_as_reading_them_was(program: Program, tmp_path: Path) -> None:
    pages = [f"<ul><li><b>{number}</b></ul>" for number in range(20)]
    pages[3] = pages[11] = SLOW_PAGE
    _folder(tmp_path, pages)
    assert program("run", "plan.toml", "-q").status == 0
    _folder(tmp_path, pages, f'"{SLOW_ROWS} | //li[last() = 1]"')
    done = program("reparse", "plan", "plan.toml", "-o", "rows.csv")
    assert done.status == 1
    assert done.err.count("takes longer than 2 s to read [beyond-bounds]") == 2, done.err
    assert "18 read, 2 failed" in done.err
    rows = (tmp_path / "rows.csv").read_text().split()
    assert rows == ["name", *(str(number) for number in range(20) if number not in (3, 11))]
