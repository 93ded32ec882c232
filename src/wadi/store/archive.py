"""Replies kept as they came: WARC 1.1 files (ISO 28500:2017), one gzip member for each record; a request beside the
response where it differs from the one before in more than its address.

Content codings are undone before; the stored headers say so by leaving Content-Encoding out. What is the same as a reply
before it is a revisit record. A record is found again by file, offset and length. Requests are stored without what is secret.
"""

from __future__ import annotations

import base64
import hashlib
import os
import re
import uuid
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from http import HTTPStatus
from pathlib import Path

from isal import isal_zlib

from wadi.store.crash_points import Reached, unheard
from wadi.urls import without_secret
from wadi.web.coding import DAMAGED
from wadi.web.messages import Headers, Hop, Reply, Request, header_text
from wadi.web.pickled import pickled_by_value

_FILE_BYTES = 1_000_000_000
_HOP_HEADERS = frozenset({"content-encoding", "transfer-encoding", "content-length", "connection", "keep-alive"})
_SECRET_HEADERS = re.compile(
    r"cookie|authorization|proxy-authorization|.*(?:token|csrf|xsrf|api-?key|secret).*", re.IGNORECASE
)
_LEVEL = 2
"""A fourteenth larger than the smallest, in half of the time."""
_LEFT_OUT = "***"
_HEAD_END = b"\r\n\r\n"
_SAME_PROFILE = "http://netpreserve.org/warc/1.1/revisit/identical-payload-digest"
_WORTH_A_REVISIT = 1000
_GZIP = b"\x1f\x8b"


@dataclass(frozen=True, slots=True)
class Location:
    """Where a record stands: file name below `pages/`, offset and length in bytes."""

    file: str
    offset: int
    length: int


@dataclass(frozen=True, slots=True)
class Kept:
    """A reply in the archive: where, and the digest of its body, empty when it stands there as a revisit."""

    location: Location
    digest: bytes = b""


@pickled_by_value
@dataclass(frozen=True, slots=True)
class Packed:
    """A reply's record ready to be written: its name, its bytes, and the SHA-256 of the reply's body."""

    name: uuid.UUID
    data: bytes
    digest: bytes


_BESIDE = "Wadi-Beside"
"""The field with the place of a reply that came beside another: file, offset, its length, that of its request behind it."""


class DamagedRecord(ValueError):
    """The bytes at a location are no record."""


class Archive:
    """Writes records below `folder`. `sync` makes everything written so far durable.

    `known` gives the place of a reply with the same body, by its digest; `names` are the files that the run has written, whether
    they are there still or not: none of them is written anew, since the database knows what stood in them.
    """

    def __init__(
        self,
        folder: Path,
        *,
        software: str,
        new_id: Callable[[], uuid.UUID] = uuid.uuid4,
        known: Callable[[bytes], Location | None] = lambda digest: None,
        reached: Reached = unheard,
        names: Iterable[str] = (),
    ) -> None:
        self.folder = folder
        self.reached = reached
        self._new_id = new_id
        self._software = software
        self._known = known
        folder.mkdir(parents=True, exist_ok=True)
        written = [*(path.name for path in folder.glob("[0-9]*.warc.gz")), *names]
        self._number = max((int(name.split(".")[0]) for name in written if name[:1].isdecimal()), default=0)
        self._open_next()

    def _open_next(self) -> None:
        self._number += 1
        self.is_synced = True
        """Whether nothing was written since the last `sync`, but for what every file begins with."""
        self._path = self.folder / f"{self._number:05d}.warc.gz"
        self._file = self._path.open("xb")
        self._asked: tuple[str, Headers] | None = None
        fields = f"software: {self._software}\r\nformat: WARC File Format 1.1\r\n".encode()
        now = datetime.now(UTC).timestamp()
        self._file.write(_packed(_record("warcinfo", fields, "application/warc-fields", now, self._new_id())))

    def append(self, reply: Reply, page: int = 0, packed: Packed | None = None) -> Kept:
        """Write a reply, with the number of its page in the run, and its request; durable after `sync`. Raises OSError.

        `packed` is the reply's record where it has been made already. Replies beside it come before it, and it names them: where
        it is whole, they are.
        """
        if self._file.tell() > _FILE_BYTES:
            self.close()
            self._open_next()
        beside = "".join(f"{_BESIDE}: {' '.join(map(str, place))}\r\n" for place in self._beside(reply))
        digest = packed.digest if packed is not None else hashlib.sha256(reply.body).digest()
        first = self._known(digest) if len(reply.body) >= _WORTH_A_REVISIT and not beside else None
        if first is not None and (self.folder / first.file).exists():
            self._file.flush()
            more = f"Wadi-Page: {page}\r\n{_refers_to(self.folder, first)}"
            name = self._new_id()
            data = packed_reply(reply, name=name, more=more, is_revisit=True, digest=digest)
        else:
            first = None
            made = packed if packed and not beside else pack(reply, page, self._new_id(), digest, beside)
            name, data = made.name, made.data
        location = Location(self._path.name, self._file.tell(), len(data))
        self.is_synced = False
        self._file.write(data)
        request = reply.request
        # Requests are alike but for their address, which stands beside the reply: one tells for all.
        alike = (request.method, request.headers)
        if alike != self._asked or request.body:
            self._asked = alike
            self._file.write(_packed_request(reply, name, self._new_id()))
        self.reached("archive-appended")
        return Kept(location, b"" if first is not None else digest)

    def _beside(self, reply: Reply) -> list[tuple[str, int, int, int]]:
        """Write the replies that came beside one, each with its request; where they are, and how long both are."""
        places = []
        for other in reply.beside:
            name = self._new_id()
            data, asked = packed_reply(other, name=name), _packed_request(other, name, self._new_id())
            places.append((self._path.name, self._file.tell(), len(data), len(asked)))
            self._file.write(data + asked)
            self._asked = None
        return places

    def sync(self) -> None:
        self._file.flush()
        os.fsync(self._file.fileno())
        self.is_synced = True

    def close(self) -> None:
        try:
            self.sync()
        finally:
            self._file.close()


class NoArchive(Archive):
    """An archive that keeps nothing: of a rehearsal."""

    def __init__(self) -> None:
        self.reached = unheard
        self.is_synced = True

    def append(self, reply: Reply, page: int = 0, packed: Packed | None = None) -> Kept:
        return Kept(Location("", 0, 0))

    def sync(self) -> None:
        """There is nothing to be kept."""


def pack(reply: Reply, page: int, name: uuid.UUID | None = None, digest: bytes | None = None, more: str = "") -> Packed:
    """The response record of a reply, with the number of its page, and `more` fields."""
    name, digest = name or uuid.uuid4(), digest or hashlib.sha256(reply.body).digest()
    return Packed(name, packed_reply(reply, name=name, more=f"Wadi-Page: {page}\r\n{more}", digest=digest), digest)


def packed_reply(
    reply: Reply,
    *,
    name: uuid.UUID | None = None,
    more: str = "",
    is_revisit: bool = False,
    digest: bytes | None = None,
) -> bytes:
    """A reply as one compressed response or revisit record. Its redirects are kept in a header field of our own."""
    headers = [(n, _kept(n, v)) for n, v in reply.headers if n.lower() not in _HOP_HEADERS]
    headers.append(("Content-Length", str(len(reply.body))))
    lines = "".join(f"{key}: {value}\r\n" for key, value in headers)
    head = f"HTTP/1.1 {reply.status} {_phrase(reply.status)}\r\n{lines}\r\n".encode("utf-8", "replace")
    shown = base64.b32encode(digest or hashlib.sha256(reply.body).digest()).decode()
    hops = "".join(f"Wadi-Hop: {hop.status} {hop.url}\r\n" for hop in reply.hops)
    fields = f"WARC-Target-URI: {reply.url}\r\nWARC-Payload-Digest: sha256:{shown}\r\n{hops}{more}"
    if is_revisit:
        fields += f"WARC-Profile: {_SAME_PROFILE}\r\n"
    block = head if is_revisit else head + reply.body
    kind = "revisit" if is_revisit else "response"
    return _packed(
        _record(kind, block, "application/http; msgtype=response", reply.started_at, name or uuid.uuid4(), fields)
    )


def _packed_request(reply: Reply, response: uuid.UUID, name: uuid.UUID) -> bytes:
    """The request of a reply as a record; of header fields that may be secret only the names."""
    request = reply.request
    path = request.url.partition("://")[2]
    path = "/" + path.partition("/")[2] if "/" in path else "/"
    lines = "".join(
        f"{key}: {_LEFT_OUT if _SECRET_HEADERS.fullmatch(key) else value}\r\n" for key, value in request.headers
    )
    host = request.host.encode("idna", "replace").decode() if not request.host.isascii() else request.host
    head = f"{request.method} {path} HTTP/1.1\r\nHost: {host}\r\n{lines}\r\n".encode("utf-8", "replace")
    fields = f"WARC-Target-URI: {without_secret(request.url)}\r\nWARC-Concurrent-To: <{response.urn}>\r\n"
    block = head + request.body
    return _packed(_record("request", block, "application/http; msgtype=request", reply.started_at, name, fields))


def _refers_to(folder: Path, first: Location) -> str:
    """The fields of a revisit that name the record whose body it shares."""
    fields, _ = _opened(folder, first)
    named = (
        ("WARC-Refers-To", fields["WARC-Record-ID"]),
        ("WARC-Refers-To-Target-URI", fields["WARC-Target-URI"]),
        ("WARC-Refers-To-Date", fields["WARC-Date"]),
        ("Wadi-Refers-To", f"{first.file} {first.offset} {first.length}"),
    )
    return "".join(f"{name}: {value}\r\n" for name, value in named)


def _kept(name: str, value: str) -> str:
    """A header's value as it is stored: of a cookie only its name, the rest is a secret."""
    return f"{value.partition('=')[0]}={_LEFT_OUT}" if name.lower() == "set-cookie" else value


def _record(kind: str, block: bytes, content_type: str, at: float, name: uuid.UUID, more: str = "") -> bytes:
    when = datetime.fromtimestamp(at, UTC).isoformat(timespec="microseconds").replace("+00:00", "Z")
    head = (
        f"WARC/1.1\r\nWARC-Type: {kind}\r\nWARC-Record-ID: <{name.urn}>\r\nWARC-Date: {when}\r\n{more}"
        f"Content-Type: {content_type}\r\nContent-Length: {len(block)}\r\n\r\n"
    )
    return head.encode() + block + b"\r\n\r\n"


def read_reply(folder: Path, location: Location) -> Reply:
    """The reply stored at a location. Raises DamagedRecord; OSError when the file is gone."""
    fields, rest = _opened(folder, location)
    http_head, _, payload = rest.partition(_HEAD_END)
    headers = tuple(_fields(http_head))
    status = re.match(rb"HTTP/1\.1 (\d{3})", http_head)
    if status is None or "WARC-Target-URI" not in fields:
        raise DamagedRecord(f"{location.file} at {location.offset}: no stored reply")
    body = payload[: int(dict(headers)["Content-Length"])]
    if fields.get("WARC-Type") == "revisit":
        file, offset, length = fields["Wadi-Refers-To"].split()
        body = read_reply(folder, Location(file, int(offset), int(length))).body
    at = datetime.fromisoformat(fields["WARC-Date"]).timestamp()
    url = fields["WARC-Target-URI"]
    hops = tuple(
        Hop(value.partition(" ")[2], int(value[:3])) for value in fields.get("Wadi-Hop", "").split("\n") if value
    )
    request = Request(hops[0].url if hops else url)
    beside = tuple(_read_beside(folder, *value.split()) for value in fields.get(_BESIDE, "").split("\n") if value)
    return Reply(request, url, int(status[1]), headers, body, at, hops=hops, beside=beside)


def _read_beside(folder: Path, file: str, at: str, length: str, asked_length: str) -> Reply:
    """A reply that came beside another, with its request. Raises DamagedRecord, OSError."""
    place = Location(file, int(at), int(length))
    reply = read_reply(folder, place)
    fields, rest = _opened(folder, Location(file, place.offset + place.length, int(asked_length)))
    head, _, body = rest.partition(_HEAD_END)
    line = head.partition(b" ")[0].decode("ascii", "replace")
    size = int(fields["Content-Length"]) - len(head) - len(_HEAD_END)
    headers = tuple((name, value) for name, value in _fields(head) if name != "Host")
    return replace(reply, request=Request(reply.url, line, headers, body[:size]))


def _opened(folder: Path, location: Location) -> tuple[dict[str, str], bytes]:
    """The fields of the record at a location, and what follows them. Fields that stand several times are joined."""
    with (folder / location.file).open("rb") as file:
        file.seek(location.offset)
        packed = file.read(location.length)
    try:
        record = isal_zlib.decompress(packed, isal_zlib.MAX_WBITS | 16)
    except DAMAGED as error:
        raise DamagedRecord(f"{location.file} at {location.offset}: {error}") from error
    return _split(record)


def _split(record: bytes) -> tuple[dict[str, str], bytes]:
    head, _, rest = record.partition(_HEAD_END)
    fields: dict[str, str] = {}
    for name, value in _fields(head):
        fields[name] = f"{fields[name]}\n{value}" if name in fields else value
    return fields, rest


def recovered(folder: Path, committed: Mapping[str, int]) -> Iterator[tuple[int, Location]]:
    """What stands in the archive beyond the last commit: page and location of each whole reply. What is torn is cut off.

    `committed` gives for each file where its last committed record ends. Files that hold nothing else stay as they are.
    """
    for path in sorted(folder.glob("[0-9]*.warc.gz")):
        start, whole = committed.get(path.name, 0), 0
        with path.open("rb") as file:
            file.seek(start)
            data = file.read()
        while data[whole:]:
            member = _first_member(data[whole:])
            if member is None:
                break
            record, length = member
            fields, _ = _split(record)
            if fields.get("WARC-Type") in ("response", "revisit") and fields.get("Wadi-Page", "").isdecimal():
                yield int(fields["Wadi-Page"]), Location(path.name, start + whole, length)
            whole += length
        if len(data) > whole:
            with path.open("r+b") as torn:
                torn.truncate(start + whole)
                os.fsync(torn.fileno())


def _first_member(data: bytes) -> tuple[bytes, int] | None:
    """The first gzip member and its length; None when it is torn."""
    if not data.startswith(_GZIP):
        return None
    unpacker = isal_zlib.decompressobj(isal_zlib.MAX_WBITS | 16)
    try:
        record = unpacker.decompress(data)
    except DAMAGED:
        return None
    return (record, len(data) - len(unpacker.unused_data)) if unpacker.eof else None


def _fields(head: bytes) -> Headers:
    lines = map(header_text, head.split(b"\r\n")[1:])
    return tuple((name, value.strip()) for name, _, value in (line.partition(":") for line in lines))


def _packed(record: bytes) -> bytes:
    packer = isal_zlib.compressobj(_LEVEL, isal_zlib.DEFLATED, isal_zlib.MAX_WBITS | 16)
    return packer.compress(record) + packer.flush()


def _phrase(status: int) -> str:
    try:
        return HTTPStatus(status).phrase
    except ValueError:
        return "Status"
