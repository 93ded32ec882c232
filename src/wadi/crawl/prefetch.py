"""Stored replies read again in worker processes, ahead of the order in which they are wanted."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future
from typing import Any

from wadi.crawl.reader import Key, Reader, Taken, Wanted
from wadi.crawl.workers import pool_of, reader

_CHUNK = 8
_AHEAD = 24


class Prefetch:
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
        self._pool = pool_of(workers, make, arguments)
        self._futures: deque[Future[list[Taken]]] = deque()
        self._by_key: dict[Key, tuple[Future[list[Taken]], int]] = {}
        self._fill()

    def __enter__(self) -> Prefetch:
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
            chunk = [page for _, page in zip(range(_CHUNK), self._coming, strict=False)]
            if not chunk:
                return
            future = self._pool.submit(_read, chunk)
            self._futures.append(future)
            for place, wanted in enumerate(chunk):
                self._by_key[wanted.key] = (future, place)


def _read(chunk: list[Wanted]) -> list[Taken]:
    here = reader()
    return [here.read(wanted) for wanted in chunk]
