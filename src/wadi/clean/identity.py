"""When two values are the same: as a table writes them, with their types; and the digests that tell values apart."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from hashlib import blake2b
from itertools import chain
from typing import Any

import orjson

DIGEST_BYTES = 16
_INSIDE = slice(1, -1)
"""What stands in the brackets. It is a copy: the library's own bytes take 4 kB whatever they hold."""


def canonical(values: Iterable[Any]) -> bytes:
    """Values as JSON without its brackets, the same bytes for the same values: 1 and 1.0 are one number, 1 and "1" and true are
    three values."""
    plain = [_plain(value) for value in values]
    try:
        return orjson.dumps(plain, default=repr)[_INSIDE]
    except TypeError:  # a whole number of more than 64 bits
        return repr(plain).encode()


def _plain(value: Any) -> Any:
    if isinstance(value, float):
        return int(value) if value.is_integer() and -(2**63) <= value < 2**64 else value
    if isinstance(value, list | tuple):
        return [_plain(member) for member in value]
    return {name: _plain(member) for name, member in value.items()} if isinstance(value, dict) else value


def canonical_rows(rows: Sequence[Sequence[Any]]) -> list[bytes]:
    """The same for many rows of values."""
    is_text = set(map(type, chain.from_iterable(rows))) == {str}
    if is_text:  # of texts alone JSON is the same
        return [form[_INSIDE] for form in map(orjson.dumps, rows)]
    return list(map(canonical, rows))


def digest(form: bytes) -> bytes:
    """16 bytes of a digest (BLAKE2b, RFC 7693) of values in canonical form: the same for the same values, and else never in
    practice. It needs no secret that changes from process to process, and nobody can make two values that share it."""
    return blake2b(form, digest_size=DIGEST_BYTES).digest()


def digest_of(values: Iterable[Any]) -> bytes:
    """The digest of values."""
    return digest(canonical(values))


def digests_of(rows: Sequence[Sequence[Any]]) -> list[bytes]:
    """The digests of many rows of values."""
    return list(map(digest, canonical_rows(rows)))


def each_once(values: Iterable[Any]) -> list[Any]:
    """Each value once, where it stood first."""
    found: dict[bytes, Any] = {}
    for value in values:
        found.setdefault(canonical((value,)), value)
    return list(found.values())
