"""What `fuzz.py` found, in small: every reader takes it, or says what is wrong in its own words; and every reader is fuzzed."""

from __future__ import annotations

import random
import zlib

import pytest

from fuzz import work
from fuzz_readers import READERS, _tables, _zipped

ZIP = _zipped("a.csv", b"a,b\n1,2\n")
CENTRAL = ZIP.index(b"PK\x01\x02")
FOUND = [
    ("header fields", b"Set-Cookie: a=b; /Path=/"),
    ("header fields", b"Content-Disposition: attachment; filename*=UTF\0-8''m%C3%BChle.csv"),
    ("header fields", b"Content-Disposition: attachment; filename*=no-such-code''m%C3%BChle.csv"),
    ("session", b"GET /a HTTP/1.1\r\nHost: [[ h\r\nCookie: a=b\r\n\r\n"),
    ("session", b'{"log": ' + b"[" * 100_000),
    ("columns", ZIP[:CENTRAL] + b"PK\x01\x02\x14\x03\xe0" + ZIP[CENTRAL + 7 :]),
    ("columns", b"PK\x03\x04" + b"\0" * 40 + ZIP[-22:-6] + b"\xff\xff\xff\x7f\0\0"),
    ("table file", _tables()[3][:200] + zlib.compress(b"x") + _tables()[3][220:]),
    ("script", b"a={b:" * 20_000),
    ("script", b'a={b: "' + b'\\"' * 200_000),
    ("expression", b"re:[[a]"),
]  # fmt: skip


@pytest.mark.parametrize(("reader", "data"), FOUND)
def test_what_was_found_is_read_or_refused(reader: str, data: bytes) -> None:
    for seed in range(12):
        try:
            READERS[reader].read(data, random.Random(seed))
        except READERS[reader].may_raise as error:
            assert str(error)


@pytest.mark.parametrize("reader", sorted(READERS))
def test_every_reader_reads_what_it_is_to_be_torn_from(reader: str) -> None:
    """Else the fuzz would only see what is refused at once."""
    read = 0
    for seed in READERS[reader].seeds()[:40]:
        for turn in range(6):
            try:
                READERS[reader].read(seed, random.Random(turn))
            except READERS[reader].may_raise:
                continue
            read += 1
    assert read > 0


def test_a_fault_is_found_and_kept(
    monkeypatch: pytest.MonkeyPatch, tmp_path: object, capsys: pytest.CaptureFixture[str]
) -> None:
    from dataclasses import replace
    from pathlib import Path

    def faulty(data: bytes, chance: random.Random) -> None:
        if b"\xff" in data:
            raise ZeroDivisionError("a fault")

    monkeypatch.setitem(READERS, "robots.txt", replace(READERS["robots.txt"], read=faulty))
    at = Path(str(tmp_path)) / "input"
    assert work("robots.txt", 5, 1, at) == 1
    assert "ZeroDivisionError in faulty" in capsys.readouterr().err
    assert b"\xff" in at.with_name("input-1").read_bytes()
