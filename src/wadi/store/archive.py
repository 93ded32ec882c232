"""Replies kept as they came: WARC 1.1 files (ISO 28500:2017), one gzip member for each record.

Content codings are undone before; the stored headers say so by leaving Content-Encoding out. A record is found again
by file, offset and length.
"""

from __future__ import annotations

import hashlib
import os
import re
import uuid
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from http import HTTPStatus
from pathlib import Path

from wadi.web.messages import Headers, Hop, Reply, Request

_FILE_BYTES = 1_000_000_000
_HOP_HEADERS = frozenset({"content-encoding", "transfer-encoding", "content-length", "connection", "keep-alive"})
_LEVEL = 6
_HEAD_END = b"\r\n\r\n"


@dataclass(frozen=True, slots=True)
class Location:
    """Where a record stands: file name below `pages/`, offset and length in bytes."""

    file: str
    offset: int
    length: int


class DamagedRecord(ValueError):
    """The bytes at a location are no record."""


class Archive:
    """Writes records below `folder`. `sync` makes everything written so far durable."""

    def __init__(self, folder: Path, *, software: str, new_id: Callable[[], uuid.UUID] = uuid.uuid4) -> None:
        self.folder = folder
        self._new_id = new_id
        self._software = software
        folder.mkdir(parents=True, exist_ok=True)
        self._number = max((int(path.name.split(".")[0]) for path in folder.glob("[0-9]*.warc.gz")), default=0)
        self._open_next()

    def _open_next(self) -> None:
        self._number += 1
        self._path = self.folder / f"{self._number:05d}.warc.gz"
        self._file = self._path.open("xb")
        fields = f"software: {self._software}\r\nformat: WARC File Format 1.1\r\n".encode()
        now = datetime.now(UTC).timestamp()
        self._file.write(_packed(_record("warcinfo", fields, "application/warc-fields", now, self._new_id())))

    def append(self, reply: Reply) -> Location:
        """Write a reply; it is durable after `sync`."""
        if self._file.tell() > _FILE_BYTES:
            self.close()
            self._open_next()
        data = packed_reply(reply, self._new_id)
        location = Location(self._path.name, self._file.tell(), len(data))
        self._file.write(data)
        return location

    def sync(self) -> None:
        self._file.flush()
        os.fsync(self._file.fileno())

    def close(self) -> None:
        self.sync()
        self._file.close()


def packed_reply(reply: Reply, new_id: Callable[[], uuid.UUID] = uuid.uuid4) -> bytes:
    """A reply as one compressed response record. Its redirects are kept in a header field of our own."""
    headers = [(n, _kept(n, v)) for n, v in reply.headers if n.lower() not in _HOP_HEADERS]
    headers.append(("Content-Length", str(len(reply.body))))
    lines = "".join(f"{name}: {value}\r\n" for name, value in headers)
    head = f"HTTP/1.1 {reply.status} {_phrase(reply.status)}\r\n{lines}\r\n".encode("latin-1", "replace")
    digest = hashlib.sha256(reply.body).hexdigest()
    hops = "".join(f"Wadi-Hop: {hop.status} {hop.url}\r\n" for hop in reply.hops)
    more = f"WARC-Target-URI: {reply.url}\r\nWARC-Payload-Digest: sha256:{digest}\r\n{hops}"
    return _packed(
        _record("response", head + reply.body, "application/http; msgtype=response", reply.started_at, new_id(), more)
    )


def _kept(name: str, value: str) -> str:
    """A header's value as it is stored: of a cookie only its name, the rest is a secret."""
    return f"{value.partition('=')[0]}=…" if name.lower() == "set-cookie" else value


def _record(kind: str, block: bytes, content_type: str, at: float, name: uuid.UUID, more: str = "") -> bytes:
    when = datetime.fromtimestamp(at, UTC).isoformat(timespec="microseconds").replace("+00:00", "Z")
    head = (
        f"WARC/1.1\r\nWARC-Type: {kind}\r\nWARC-Record-ID: <{name.urn}>\r\nWARC-Date: {when}\r\n{more}"
        f"Content-Type: {content_type}\r\nContent-Length: {len(block)}\r\n\r\n"
    )
    return head.encode() + block + b"\r\n\r\n"


def read_reply(folder: Path, location: Location) -> Reply:
    """The reply stored at a location. Raises DamagedRecord; OSError when the file is gone."""
    with (folder / location.file).open("rb") as file:
        file.seek(location.offset)
        packed = file.read(location.length)
    try:
        record = zlib.decompress(packed, zlib.MAX_WBITS | 16)
    except zlib.error as error:
        raise DamagedRecord(f"{location.file} at {location.offset}: {error}") from error
    warc_head, _, rest = record.partition(_HEAD_END)
    http_head, _, payload = rest.partition(_HEAD_END)
    fields = dict(_fields(warc_head))
    headers = tuple(_fields(http_head))
    status = re.match(rb"HTTP/1\.1 (\d{3})", http_head)
    if status is None or "WARC-Target-URI" not in fields:
        raise DamagedRecord(f"{location.file} at {location.offset}: no stored reply")
    length = int(dict(headers)["Content-Length"])
    at = datetime.fromisoformat(fields["WARC-Date"]).timestamp()
    url = fields["WARC-Target-URI"]
    hops = tuple(
        Hop(value.partition(" ")[2], int(value[:3])) for name, value in _fields(warc_head) if name == "Wadi-Hop"
    )
    request = Request(hops[0].url if hops else url)
    return Reply(request, url, int(status[1]), headers, payload[:length], at, hops=hops)


def _fields(head: bytes) -> Headers:
    lines = head.decode("latin-1").split("\r\n")[1:]
    return tuple((name, value.strip()) for name, _, value in (line.partition(":") for line in lines))


def _packed(record: bytes) -> bytes:
    packer = zlib.compressobj(_LEVEL, zlib.DEFLATED, zlib.MAX_WBITS | 16)
    return packer.compress(record) + packer.flush()


def _phrase(status: int) -> str:
    try:
        return HTTPStatus(status).phrase
    except ValueError:
        return "Status"
