"""Stored replies read again in worker processes, ahead of the order in which they are wanted. A worker that takes longer over a
page than it may is killed, and the page has failed."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass
from functools import partial
from itertools import chain
from typing import Any

from wadi.crawl.bounds import beyond, too_long
from wadi.crawl.extract import Extract
from wadi.crawl.reader import Key, Reader, Taken, Wanted
from wadi.crawl.workers import MERCY_S, kill_pool, pool_of, reader

_CHUNK = 8
_AHEAD = 24


@dataclass(frozen=True, slots=True)
class _Ahead:
    """Pages that are read together, and what will come of them."""

    pages: list[Wanted]
    future: Future[list[Taken]]


class Prefetch:
    """Reads pages ahead in `workers` processes, in the order of `coming`; what is wanted otherwise is asked of them at once.

    `make` makes a Reader in each worker, from `arguments`; `here` is one of this process. Use as a context manager.
    """

    def __init__(
        self,
        here: Reader,
        coming: Iterator[Wanted],
        *,
        workers: int,
        make: Callable[..., Reader],
        arguments: tuple[Any, ...],
    ) -> None:
        self._here = here
        self._coming = coming
        self._new_pool = partial(pool_of, make=make, arguments=arguments)
        self._workers = workers
        self._together = _CHUNK
        self._pool = self._new_pool(workers)
        self._ahead: deque[_Ahead] = deque()
        self._by_key: dict[Key, tuple[_Ahead, int]] = {}
        self._fill()

    def __enter__(self) -> Prefetch:
        return self

    def __exit__(self, *_: object) -> None:
        self._pool.shutdown(cancel_futures=True)

    def take(self, wanted: Wanted) -> Taken:
        """A page: from those read ahead, or read now."""
        ahead, place = self._by_key.pop(wanted.key, (None, 0))
        if ahead is None:
            ahead = _Ahead([wanted], self._pool.submit(_read, [wanted]))
        try:
            taken = ahead.future.result(self._most_s)[place]
        except (TimeoutError, BrokenProcessPool) as error:
            was_alone = len(ahead.pages) == 1 and ahead.future.running()
            self._begin_anew(wanted)
            taken = self._failed(wanted, error) if was_alone else self._read_apart(wanted)
        self._fill()
        return taken

    @property
    def _most_s(self) -> float:
        """So long a worker is waited for: it ends a page itself, where it can."""
        return self._here.page_time_s + MERCY_S

    def _fill(self) -> None:
        while self._ahead and self._ahead[0].future.done():
            self._ahead.popleft()
        while len(self._ahead) < _AHEAD:
            chunk = [page for _, page in zip(range(self._together), self._coming, strict=False)]
            if not chunk:
                return
            ahead = _Ahead(chunk, self._pool.submit(_read, chunk))
            self._ahead.append(ahead)
            for place, wanted in enumerate(chunk):
                self._by_key[wanted.key] = (ahead, place)

    def _begin_anew(self, but: Wanted) -> None:
        """Other workers in place of those, one of which does not come to an end; pages that are still wanted are read by them,
        each by itself from now on."""
        kill_pool(self._pool)
        self._together = 1
        self._pool = self._new_pool(self._workers)
        lost = {key: ahead for key, (ahead, _) in self._by_key.items() if not _is_read(ahead.future)}
        pages = [page for ahead in {id(one): one for one in lost.values()}.values() for page in ahead.pages]
        again = [page for page in pages if page.key in lost and page.key != but.key]
        for key in lost:
            del self._by_key[key]
        self._ahead.clear()
        self._coming = chain(again, self._coming)

    def _read_apart(self, wanted: Wanted) -> Taken:
        """A page read by a worker of its own: where that does not come to an end either, or dies, it is the page, which fails."""
        pool = self._new_pool(1)
        try:
            return pool.submit(_read, [wanted]).result(self._most_s)[0]
        except (TimeoutError, BrokenProcessPool) as error:
            kill_pool(pool)
            return self._failed(wanted, error)
        finally:
            pool.shutdown(wait=False, cancel_futures=True)

    def _failed(self, wanted: Wanted, error: TimeoutError | BrokenProcessPool) -> Taken:
        """What there is of a page over which a worker was killed, or died."""
        reply = self._here.reply_of(wanted)
        if isinstance(reply, str):
            return reply
        failure = beyond(reply, "ends the process that reads it")
        if isinstance(error, TimeoutError):
            failure = too_long(reply, self._here.page_time_s)
        return reply.without_body(), Extract(failure=failure)


def _is_read(future: Future[list[Taken]]) -> bool:
    return future.done() and not future.cancelled() and future.exception() is None


def _read(chunk: list[Wanted]) -> list[Taken]:
    here = reader()
    return [here.read(wanted) for wanted in chunk]
