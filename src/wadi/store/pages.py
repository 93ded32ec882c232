"""The run's database as it is laid out, and what its pages and links are in memory."""

from __future__ import annotations

import hashlib
import struct
import zlib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

import orjson

from wadi.store.outcome import Link, Purpose, Role, State
from wadi.web.messages import Headers, Hop, Request

SCHEMA_VERSION = 9
SCHEMA = f"""
CREATE TABLE meta (name TEXT PRIMARY KEY, value BLOB NOT NULL) WITHOUT ROWID;
CREATE TABLE pages (
    id INTEGER PRIMARY KEY, kind TEXT NOT NULL, identity TEXT NOT NULL, host TEXT NOT NULL,
    method TEXT NOT NULL, url TEXT NOT NULL, headers BLOB, body BLOB,
    route BLOB NOT NULL, state INTEGER NOT NULL DEFAULT 0,
    status INTEGER, final_url TEXT, fetched_at REAL, elapsed_s REAL, size_bytes INTEGER,
    file TEXT, offset INTEGER, length INTEGER, total INTEGER, failure BLOB, notes BLOB,
    listing BLOB, digest BLOB,
    depth INTEGER NOT NULL DEFAULT 0, rows_before INTEGER NOT NULL DEFAULT 0, dry INTEGER NOT NULL DEFAULT 0,
    row_count INTEGER, inputs BLOB, edge BLOB, last INTEGER, tries INTEGER, hops BLOB, way TEXT NOT NULL DEFAULT '',
    shown BLOB,
    purpose INTEGER NOT NULL DEFAULT {Purpose.READ},
    UNIQUE (kind, purpose, identity));
CREATE INDEX waiting ON pages (route) WHERE state = {State.WAITING};
CREATE INDEX waiting_at ON pages (host, route) WHERE state = {State.WAITING};
CREATE INDEX listed ON pages (digest, listing) WHERE digest IS NOT NULL;
CREATE TABLE links (
    source INTEGER NOT NULL, role INTEGER NOT NULL, place INTEGER NOT NULL, target INTEGER NOT NULL,
    row INTEGER, text TEXT NOT NULL, inputs BLOB, PRIMARY KEY (source, role, place)) WITHOUT ROWID;
CREATE INDEX continued ON links (target) WHERE role = {Role.NEXT};
CREATE TABLE rows (
    page INTEGER NOT NULL, name TEXT NOT NULL, completes INTEGER NOT NULL, columns BLOB NOT NULL,
    count INTEGER NOT NULL, cells BLOB NOT NULL, problems BLOB, several BLOB, parents BLOB, digest BLOB NOT NULL,
    PRIMARY KEY (page, name));
CREATE TABLE files (
    page INTEGER PRIMARY KEY, path TEXT NOT NULL, size_bytes INTEGER NOT NULL, type TEXT NOT NULL, sha256 TEXT NOT NULL);
CREATE TABLE archived (file TEXT PRIMARY KEY, size INTEGER NOT NULL) WITHOUT ROWID;
CREATE TABLE payloads (digest BLOB PRIMARY KEY, page INTEGER NOT NULL) WITHOUT ROWID;
CREATE TABLE seen (listing BLOB NOT NULL, digest BLOB NOT NULL, PRIMARY KEY (listing, digest)) WITHOUT ROWID;
"""


def owner_of(host: str, count: int) -> int:
    """Which of `count` shards a host (`host:port`) belongs to: always the same one."""
    return zlib.crc32(host.encode()) % count


def rows_digest(*parts: bytes | None) -> bytes:
    """What tells whether a page's rows are those that were written: of columns, cells, problems, several, parents."""
    digest = hashlib.blake2b(digest_size=12)
    for part in parts:
        digest.update(b"\0" if part is None else b"%d:" % len(part) + part)
    return digest.digest()


START_PAGE = 0
"""The source of the links that the start addresses are."""
STEP = struct.Struct(">I")
KNOWN = b"known"
PAGE_COLUMNS = "id, kind, method, url, headers, body, route, rows_before, dry, edge, inputs, last, way, shown, purpose"


@dataclass(frozen=True, slots=True)
class Page:
    """A page of the run. `route` orders waiting pages as a reader would come to them.

    `rows_before` counts the rows of the listing's pages before it, `dry` those of them that had none, lately and in a row.
    `edge` tells the first and the last row of the page before it (of a page asked for once more: its own), empty where that
    is not known.
    `inputs` are the values that it was first asked for with, of a start or of a link that has its own. `last` is the number of
    the listing's last page, where a page before it states one.
    """

    id: int
    kind: str
    request: Request
    route: bytes
    state: State = State.WAITING
    rows_before: int = 0
    dry: int = 0
    edge: bytes = b""
    inputs: Mapping[str, Any] = field(default_factory=dict)
    last: int | None = None
    purpose: Purpose = Purpose.READ


@dataclass(frozen=True, slots=True)
class PageRecord:
    """What became of a page: `failure` is a problem as a dict, `at` when it was asked for (seconds since 1970), `seconds` how
    long it took, `way` the named route, `hops` the redirects on the way (URL and status)."""

    kind: str
    purpose: Purpose
    url: str
    final_url: str | None
    state: State
    status: int | None
    tries: int | None
    failure: dict[str, Any] | None
    rows: int | None
    size_bytes: int | None
    at: float | None
    seconds: float | None
    way: str
    hops: list[tuple[str, int]]


@dataclass(frozen=True, slots=True)
class Edge:
    """A committed link: to which page, of what kind and state when it was read. `inputs` are values that hold from here on."""

    target: int
    role: Role
    place: int
    text: str
    inputs: dict[str, Any] | None
    state: State
    kind: str


def route_of(route: bytes, link: Link) -> bytes:
    """The route of the page that a link on a page with `route` leads to.

    A route is a chain of pairs: the place of the link that was opened, and the number of the page in its listing.
    Bytes compare as the pages are read: a page, what it opens in order, the next page of the listing.
    """
    if link.role is Role.NEXT:
        (number,) = STEP.unpack(route[-STEP.size :])
        return route[: -STEP.size] + STEP.pack(number + 1)
    return route + STEP.pack(link.place) + STEP.pack(0)


def number_in_listing(route: bytes) -> int:
    """A page's place in its listing, from 0."""
    (number,) = STEP.unpack(route[-STEP.size :])
    return int(number)


def request_of(
    method: str, url: str, headers: bytes | None, body: bytes | None, way: str, shown: bytes | None
) -> Request:
    """A request as it is kept."""
    turn, typed, hops, led_to = orjson.loads(shown) if shown else (0, (), (), "")
    fields = _pairs(orjson.loads(headers or b"[]"))
    led = tuple(Hop(*hop) for hop in hops)
    return Request(url, method, fields, body or b"", way, None, turn, _pairs(typed), led, led_to)


def shown_of(request: Request) -> bytes | None:
    """What is kept of how a page is asked for, beside its address: its turn in a browser and what is typed there, and from where
    to go on."""
    if not (request.turn or request.typed or request.led_to):
        return None
    return orjson.dumps((request.turn, request.typed, [(hop.url, hop.status) for hop in request.hops], request.led_to))


def _pairs(kept: Iterable[Iterable[str]]) -> Headers:
    return tuple((name, value) for name, value in kept)


def page_of(
    page: int,
    kind: str,
    method: str,
    url: str,
    headers: bytes | None,
    body: bytes | None,
    route: bytes,
    rows_before: int,
    dry: int,
    edge: bytes | None,
    inputs: bytes | None,
    last: int | None,
    way: str,
    shown: bytes | None,
    purpose: int,
) -> Page:
    request = request_of(method, url, headers, body, way, shown)
    values = orjson.loads(inputs) if inputs else {}
    return Page(
        page, kind, request, route, State.WAITING, rows_before, dry, edge or b"", values, last, Purpose(purpose)
    )
