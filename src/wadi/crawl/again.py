"""Stored replies read again in worker processes, ahead of the order in which they are wanted."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import Future, ProcessPoolExecutor
from dataclasses import dataclass, replace
from multiprocessing import get_context
from pathlib import Path
from typing import Any

from wadi.crawl.extract import Extract, extract
from wadi.crawl.kinds import Kind
from wadi.store.archive import DamagedRecord, Location, read_reply
from wadi.web.messages import Reply, Request

Key = tuple[str, str, int]
"""Kind, identity of the request, place in the listing."""
_CHUNK = 8
_AHEAD = 24


@dataclass(frozen=True, slots=True)
class Wanted:
    """A stored page that is to be read as a kind."""

    kind: str
    request: Request
    number: int
    location: Location

    @property
    def key(self) -> Key:
        return (self.kind, self.request.identity, self.number)


Taken = tuple[Reply, Extract] | str
"""A reply with its extract, or why it cannot be had."""


@dataclass(frozen=True)
class Reader:
    """What reads stored replies: the folder, the compiled kinds, and where `expect` of each stands."""

    pages: Path
    kinds: Mapping[str, Kind]
    expect_places: Mapping[str, str]

    def read(self, wanted: Wanted) -> Taken:
        """One page; in the same process."""
        try:
            reply = replace(read_reply(self.pages, wanted.location), request=wanted.request)
        except (DamagedRecord, OSError, KeyError, ValueError) as error:
            return f"the stored reply cannot be read: {error}"
        kind = self.kinds[wanted.kind]
        place = self.expect_places.get(wanted.kind, "")
        return reply, extract(reply, kind, self.kinds, place, number=wanted.number)


class Ahead:
    """Reads pages ahead in `workers` processes, in the order of `coming`; what is wanted otherwise is read at once.

    `make` makes a Reader in each worker, from `arguments`. Use as a context manager.
    """

    def __init__(
        self,
        reader: Reader,
        coming: Iterator[Wanted],
        *,
        workers: int,
        make: Callable[..., Reader],
        arguments: tuple[Any, ...],
    ) -> None:
        self._reader = reader
        self._coming = coming
        self._pool = ProcessPoolExecutor(
            workers, mp_context=get_context("spawn"), initializer=_begin, initargs=(make, arguments)
        )
        self._futures: deque[Future[list[Taken]]] = deque()
        self._by_key: dict[Key, tuple[Future[list[Taken]], int]] = {}
        self._fill()

    def __enter__(self) -> Ahead:
        return self

    def __exit__(self, *_: object) -> None:
        self._pool.shutdown(cancel_futures=True)

    def take(self, wanted: Wanted) -> Taken:
        """A page: from those read ahead, or read now."""
        known = self._by_key.pop(wanted.key, None)
        if known is None:
            return self._reader.read(wanted)
        future, place = known
        taken = future.result()[place]
        self._fill()
        return taken

    def _fill(self) -> None:
        while self._futures and self._futures[0].done():
            self._futures.popleft()
        while len(self._futures) < _AHEAD:
            chunk = [one for _, one in zip(range(_CHUNK), self._coming, strict=False)]
            if not chunk:
                return
            future = self._pool.submit(_read, chunk)
            self._futures.append(future)
            for place, one in enumerate(chunk):
                self._by_key[one.key] = (future, place)


_worker: Reader | None = None


def _begin(make: Callable[..., Reader], arguments: tuple[Any, ...]) -> None:
    global _worker
    _worker = make(*arguments)


def _read(chunk: list[Wanted]) -> list[Taken]:
    assert _worker is not None
    return [_worker.read(one) for one in chunk]
