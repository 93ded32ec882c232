"""Saved HTTP Archives: read with whatever is broken in them, ranked, drafted from, and no secret of theirs in what is written."""

from __future__ import annotations

import base64
import json
import tomllib
import urllib.request
from collections.abc import Mapping
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Program
from wadi.learn.first_look.saved_replies import CannotBeSent, saved_sources, sending_of
from wadi.page.document import read_document
from wadi.plan.reader import parse_plan
from wadi.web.har import NotAnArchive, read_archive
from wadi.web.messages import Request

HIDDEN = "hidden-7431"
SECRET_FIELDS = [
    ("Cookie", f"sid={HIDDEN}"),
    ("cookie", f"more={HIDDEN}"),
    ("x_csrf_token", HIDDEN),
    ("Authorization", f"Bearer {HIDDEN}"),
    ("X-CSRF-Token", HIDDEN),
]
KEPT_FIELDS = [
    ("X-Requested-With", "fetch"),
    ("Accept", "application/json"),
    (":authority", "h"),
    ("User-Agent", "a browser"),
]


def _entry(url: str, body: bytes, kind: str, *, sent: str = "", as_base64: bool = False) -> dict[str, Any]:
    content = {"mimeType": kind, "text": body.decode("utf-8", "replace")}
    if as_base64:
        content |= {"encoding": "base64", "text": base64.b64encode(body).decode()}
    fields = [{"name": name, "value": value} for name, value in (*SECRET_FIELDS, *KEPT_FIELDS)]
    request: dict[str, Any] = {"method": "POST" if sent else "GET", "url": url, "headers": fields}
    if sent:
        request["postData"] = {"mimeType": "application/json", "text": sent}
    return {"request": request, "response": {"status": 200, "headers": [], "content": content}}


def _archive(*entries: Any) -> bytes:
    return json.dumps({"log": {"version": "1.2", "entries": list(entries)}}).encode()


ROWS = json.dumps({"rows": [{"code": f"W{n}", "name": f"Weir {n}", "span": n} for n in range(1, 6)]}).encode()


@pytest.mark.parametrize("data", [b"", b"no", b"[]", b"{}", b'{"log": 1}', b'{"log": {"entries": 1}}', b"[" * 100_000])
def test_what_is_no_archive_is_refused(data: bytes) -> None:
    with pytest.raises(NotAnArchive):
        read_archive(data)


_ANY = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(["request", "response", "content", "headers", "url", "text", "name", "status"]), inner, max_size=4),
    max_leaves=12,
)  # fmt: skip


@given(st.lists(_ANY, max_size=4))
def test_broken_entries_are_left_out(entries: list[Any]) -> None:
    good = _entry("http://h/rows", ROWS, "application/json")
    assert read_archive(_archive(*entries, good))[-1].body == ROWS


@pytest.mark.parametrize(
    ("part", "key", "value"),
    [(part, "headers", value) for part in ("request", "response") for value in (1, [1], [{}], {"a": 1})]
    + [
        ("response", "content", []),
        ("response", "status", "x"),
        ("request", "postData", "x"),
        ("request", "url", None),
    ],
)
def test_an_entry_with_a_broken_part_is_left_out(part: str, key: str, value: Any) -> None:
    broken, good = (_entry("http://h/rows", ROWS, "application/json", sent="{}") for _ in range(2))
    broken[part][key] = value
    assert len(read_archive(_archive(broken, good))) == 1


@pytest.mark.parametrize("as_base64", [False, True])
def test_text_is_read_as_the_browser_saved_it(as_base64: bool) -> None:
    """Text in an archive is decoded already, whatever the reply said of its encoding; bytes are not."""
    body = "<p>Källa</p>".encode("latin-1" if as_base64 else "utf-8")
    [reply] = read_archive(_archive(_entry("http://h/", body, "text/html; charset=iso-8859-1", as_base64=as_base64)))
    assert "Källa" in str(read_document(reply.body, reply.url, reply.content_type).tree.xpath("string(//p)"))


def test_the_likeliest_source_is_first_and_pages_of_a_listing_are_one() -> None:
    page = "<table>" + "".join(f"<tr><td>{n}</td><td>Mill {n}</td></tr>" for n in range(5)) + "</table>"
    entries = [
        _entry("http://h/", page.encode(), "text/html"),
        *(_entry(f"http://h/rows?page={n}&token={HIDDEN}{n}", ROWS, "application/json") for n in (1, 2, 3)),
        _entry("http://h/app.js", b"var x = 1;", "text/javascript"),
        _entry("http://h/empty", b"", "application/json"),
    ]
    rows, table = saved_sources(read_archive(_archive(*entries)))
    assert (rows.address, rows.count, rows.times, rows.varied) == (
        "http://h/rows?page=1",
        5,
        3,
        {"page": ("1", "2", "3")},
    )
    assert (table.address, table.count, table.times) == ("http://h/", 5, 1)


SENT: list[tuple[Request, dict[str, Any]]] = [
    (Request("http://h/a?q={x}&b=1"), {"addresses": ["http://h/a?q=%7Bx%7D&b=1"]}),
    (Request("http://me:word@h/a"), {"addresses": ["http://h/a"]}),
    (Request("http://h/a", headers=(("X-Kind", 'a "b"'), ("Sec-Fetch-Mode", "cors"))), {"headers": {"X-Kind": 'a "b"'}}),
    (Request("http://h/a", "POST", body=b'{"page": 1, "f": {"kind": null, "in": ["a"]}, "z": null}'),
     {"post": "json", "values": {"page": 1, "f": {"in": ["a"]}}, "null": ["f.kind", "z"]}),
    (Request("http://h/a", "POST", body=b"page=1&name=Ash+Spring"), {"post": "form", "values": {"page": "1", "name": "Ash Spring"}}),
    (Request("http://h/a", "POST", body=b'{"a.b": -1.5e3, "t": true, "\\u0007 \\u2028": "\\u007f\\u009b\\"", "o": {}}'),
     {"values": {"a.b": -1500.0, "t": True, "\x07 \u2028": '\x7f\x9b"', "o": {}}}),
    (Request("http://h/a", headers=(("X-A", "a\nb\x1b"),)), {"headers": {"X-A": "a b\x1b"}}),
    (Request("http://h/a", "POST", body=b'{"query": "rows {\\n  code\\n}"}'), {"values": {"query": "rows {\n  code\n}"}}),
]  # fmt: skip


@pytest.mark.parametrize(("request_", "said"), SENT)
def test_a_plan_sends_what_the_browser_sent(request_: Request, said: Mapping[str, Any]) -> None:
    sending = sending_of(request_)
    lines = ["wadi = 1", "[start]", 'page = "a"', f'addresses = ["{sending.address}"]', *sending.start]
    plan = parse_plan(
        "\n".join([*lines, "[page.a]", 'table = "a"', 'rows = "$.rows[*]"', "[page.a.fields]", 'c = "$.c"']), "p.toml"
    )
    assert {key: plan.plan.start.model_dump()[key] for key in said} == said


@pytest.mark.parametrize(
    ("request_", "what"),
    [
        (Request("http://h/a", "PUT"), "a plan sends GET and POST, and this is PUT"),
        (Request("http://h/a", "POST", body=b'{"a": [null]}'), "a null in a list"),
        (Request("http://h/a", "POST", body=b'{"a.b": null}'), "a dot leads one level down"),
        (Request("http://h/a", "POST", body=b"a=1&a=2"), "a form with each name once"),
        (Request("http://h/a", "POST", body=b"{broken"), "no JSON"),
        (Request("http://h/a", "POST", body=b'{"a": "\\ud800"}'), "half a character"),
    ],
)
def test_what_a_plan_cannot_send_is_said(request_: Request, what: str) -> None:
    with pytest.raises(CannotBeSent, match=what):
        sending_of(request_)


def test_what_a_site_names_its_secrets_is_no_line_of_a_plan(program: Program) -> None:
    hostile = 'x"\n[clean]\npython = "evil.py"\n# é token'
    entry = _entry(
        "http://127.0.0.1:1/rows?ключ_token=1",
        ROWS,
        "application/json",
        sent=json.dumps({hostile: HIDDEN, "n": 1, "who": [{"apiKey": HIDDEN}]}),
    )
    (program.folder / "saved.har").write_bytes(_archive(entry))
    for options in ([], ["--secrets"]):
        drafted = program.inside("draft", "--har", "saved.har", "-q", *options)
        assert drafted.status == 0, drafted.err
        assert HIDDEN not in drafted.out
        read = tomllib.loads(drafted.out)
        assert "clean" not in read
        assert set(read.get("inputs", {})) == (
            {"token", "x_clean_python_evil_py_token", "apikey"} if options else set()
        ) | ({"authorization", "cookie", "x_csrf_token", "x_csrf_token_2"} if options else set())


@pytest.fixture
def saved(program: Program, site: str) -> Program:
    """An archive of the sample site: a page that scripts draw, and what its scripts asked for."""
    entries = []
    for path in ("/walks", *(f"/api/walks?from={first}" for first in (0, 20, 40))):
        with urllib.request.urlopen(f"{site}{path}") as reply:
            url = f"{site}{path}" + (f"&token={HIDDEN}" if "?" in path else "")
            entries.append(_entry(url, reply.read(), reply.headers["Content-Type"], as_base64=path.endswith("40")))
    (program.folder / "saved.har").write_bytes(_archive(*entries, {"broken": 1}))
    return program


def test_from_an_archive_to_a_table(saved: Program, site: str) -> None:
    seen = saved("inspect", "--har", "saved.har")
    assert seen.status == 0, seen.err
    assert f"GET {site}/api/walks?from=0" in seen.out
    assert "20 rows: $.walks[*]" in seen.out
    assert "asked for 3 times, with from 0, 20, 40" in seen.out
    [source] = json.loads(saved("inspect", "--har", "saved.har", "--json").out)["sources"]
    assert (source["rows"], source["times"], source["varied"]) == (20, 3, {"from": ["0", "20", "40"]})
    drafted = saved("draft", "--har", "saved.har", "-o", "walks.toml")
    assert drafted.status == 0, drafted.err
    text = (saved.folder / "walks.toml").read_text("utf-8")
    assert 'next  = { send = { from = "$.next" } }' in text
    assert "# left out: token, Cookie, x_csrf_token, Authorization, X-CSRF-Token" in text
    assert 'headers   = { X-Requested-With = "fetch", Accept = "application/json" }' in text
    assert HIDDEN not in seen.out + drafted.out + drafted.err + text
    done = saved("run", "walks.toml", "-o", "walks.csv")
    assert done.status == 0, done.err
    assert len((saved.folder / "walks.csv").read_text("utf-8").splitlines()) == 90


def test_secrets_come_from_the_environment_when_they_are_asked_for(saved: Program) -> None:
    for name in ("TOKEN", "COOKIE", "AUTHORIZATION", "X_CSRF_TOKEN", "X_CSRF_TOKEN_2"):
        saved.environment[f"SITE_{name}"] = HIDDEN
    drafted = saved("draft", "--har", "saved.har", "--pick", "1", "--secrets", "-o", "walks.toml")
    assert drafted.status == 0, drafted.err
    text = (saved.folder / "walks.toml").read_text("utf-8")
    assert 'token = { secret_from = "SITE_TOKEN" }' in text
    assert "from=0&token={token}" in text
    assert HIDDEN not in text + drafted.out + drafted.err
    assert "MW-0141" in drafted.err
    assert saved("lint", "walks.toml").status == 0


@pytest.mark.parametrize(
    ("command", "what"),
    [
        (["inspect"], "there is no PAGE"),
        (["inspect", "--har", "none.har"], "none.har: no such file"),
        (["inspect", "http://h/", "--har", "saved.har"], "--har takes the place of PAGE"),
        (["draft", "--har", "empty.har"], "no reply in it has rows"),
        (["draft", "--har", "other.har"], "it is no HTTP Archive"),
        (["draft", "--har", "saved.har", "--pick", "9"], "there is no reply 9: 1 has rows"),
        (["draft", "page.html", "--pick", "1"], "--pick and --secrets are for a saved archive"),
    ],
)
def test_what_is_wrong_with_an_archive_is_said(saved: Program, command: list[str], what: str) -> None:
    (saved.folder / "empty.har").write_bytes(_archive())
    (saved.folder / "other.har").write_text("<html>", "utf-8")
    done = saved(*command)
    assert (done.status, what in done.err) == (2, True), done.err
