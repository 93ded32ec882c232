"""Content codings undone (RFC 9110 §8.4): gzip, deflate, br, zstd, also stacked, never beyond the size limit."""

from __future__ import annotations

from collections.abc import Callable

from isal import isal_zlib

_CHUNK = 262_144
_LEAST_PIECE = 8192
"""A packed page is one piece, mostly."""
MOST_MEMBERS = 50_000
"""So many members a gzip file may have: each costs, even an empty one."""
DAMAGED: type[Exception] = isal_zlib.error  # type: ignore[assignment]
"""What is raised for data that is not deflated, or damaged: a class, whatever the library's stub says."""


class BadCoding(ValueError):
    """The body is not in the coding that its header names."""


class TooLarge(ValueError):
    """The body, decoded, is larger than allowed."""


def decoded(body: bytes, codings: str, limit_bytes: int) -> bytes:
    """The body with the codings of a Content-Encoding header undone, last one first.

    Names count in any case and with the old `x-` before them; `identity` and unknown names leave the body alone.
    Raises BadCoding, or TooLarge as soon as more than `limit_bytes` come out.
    """
    names = [name.strip().lower().removeprefix("x-") for name in codings.split(",")]
    for name in reversed(names):
        undo = _UNDO.get(name)
        if undo and body:
            body = undo(body, limit_bytes)
    if len(body) > limit_bytes:
        raise TooLarge(f"more than {limit_bytes} bytes")
    return body


def _gunzip(body: bytes, limit: int) -> bytes:
    """All members of a gzip body; zeros and stray bytes after the last one do not count. A body that is not gzip is plain."""
    if not body.startswith(b"\x1f\x8b"):
        return body
    out = bytearray()
    at = members = 0
    while body.startswith(b"\x1f\x8b", at):
        members += 1
        if members > MOST_MEMBERS:
            raise BadCoding(f"more than {MOST_MEMBERS:,} gzip members")
        at = _member(body, at, out, limit)
    return bytes(out)


def _member(body: bytes, at: int, out: bytearray, limit: int) -> int:
    """One gzip member of a body; where it ends. It is fed in pieces that grow, so that many small members copy little."""
    member = isal_zlib.decompressobj(isal_zlib.MAX_WBITS | 16)
    size = _LEAST_PIECE
    while not member.eof:
        piece = body[at : at + size]
        if not piece:
            raise BadCoding("the gzip data ends too early")
        _inflate(member, piece, out, limit)
        at, size = at + len(piece), min(size * 4, _CHUNK)
    return at - len(member.unused_data)


def _undeflate(body: bytes, limit: int) -> bytes:
    """Deflate with the zlib wrapper, as the standard says, or without it, as some servers send it."""
    try:
        return _inflated(body, isal_zlib.MAX_WBITS, limit)
    except BadCoding:
        return _inflated(body, -isal_zlib.MAX_WBITS, limit)


def _inflated(body: bytes, window: int, limit: int) -> bytes:
    out = bytearray()
    stream = isal_zlib.decompressobj(window)
    _inflate(stream, body, out, limit)
    if not stream.eof:
        raise BadCoding("the deflate data ends too early")
    return bytes(out)


def _inflate(stream: isal_zlib.Decompress, data: bytes, out: bytearray, limit: int) -> None:
    try:
        while data and not stream.eof:
            out += stream.decompress(data, _CHUNK)
            if len(out) > limit:
                raise TooLarge(f"more than {limit} bytes")
            data = stream.unconsumed_tail
    except DAMAGED as error:
        raise BadCoding(str(error)) from error


def _unbrotli(body: bytes, limit: int) -> bytes:
    import brotli

    stream = brotli.Decompressor()
    out = bytearray()
    try:
        out += stream.process(body, output_buffer_limit=limit + 1)
        if len(out) > limit or not stream.can_accept_more_data():
            raise TooLarge(f"more than {limit} bytes")
    except brotli.error as error:
        raise BadCoding(str(error)) from error
    if not stream.is_finished():
        raise BadCoding("the brotli data ends too early")
    return bytes(out)


def _unzstd(body: bytes, limit: int) -> bytes:
    import zstandard

    out = bytearray()
    try:
        with zstandard.ZstdDecompressor().stream_reader(body, read_across_frames=True) as reader:
            while chunk := reader.read(_CHUNK):
                out += chunk
                if len(out) > limit:
                    raise TooLarge(f"more than {limit} bytes")
    except zstandard.ZstdError as error:
        raise BadCoding(str(error)) from error
    return bytes(out)


_UNDO: dict[str, Callable[[bytes, int], bytes]] = {
    "gzip": _gunzip,
    "deflate": _undeflate,
    "br": _unbrotli,
    "zstd": _unzstd,
}
ACCEPTED = ", ".join(_UNDO)
