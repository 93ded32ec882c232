"""Processes that read replies beside the crawl: started when pages come faster than one processor reads them.

A helper ends with the process that it helps, however that ends, and takes no Ctrl-C of its own.
"""

from __future__ import annotations

import asyncio
import os
import signal
import sys
import threading
import time
from collections.abc import Callable
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass, field
from multiprocessing.context import SpawnContext, SpawnProcess
from typing import Any

from wadi.crawl.extract import Extract, extract, with_packed_rows
from wadi.crawl.reader import Reader
from wadi.store.archive import Packed, pack
from wadi.web.messages import Reply

_WATCHED_EVERY_S = 1.0


@dataclass(frozen=True, slots=True)
class Helped:
    """What a helper made of a reply: its extract, and its record for the archive."""

    found: Extract
    packed: Packed


@dataclass
class Helpers:
    """`count` processes, each with a Reader that `make` makes from `arguments`; none before `worth_after` pages were read."""

    make: Callable[..., Reader]
    arguments: tuple[Any, ...]
    count: int
    worth_after: int = 150
    _pool: ProcessPoolExecutor | None = None
    _asked: int = 0
    _is_broken: bool = False
    _starting: list[Future[bool]] = field(default_factory=list)

    async def read(self, kind: str, reply: Reply, page: int, number: int, usual_bytes: float | None) -> Helped | None:
        """What a helper makes of a reply; None while there are no helpers: then the crawl reads it itself.

        `page` is its number in the run, `number` its place in its listing.
        """
        self._asked += 1
        if self._asked <= self.worth_after or self._is_broken:
            return None
        if self._pool is None:
            self._pool = pool_of(self.count, self.make, self.arguments)
            self._starting = [self._pool.submit(_is_ready) for _ in range(self.count)]
        if not all(one.done() for one in self._starting):
            return None
        try:
            return await asyncio.get_running_loop().run_in_executor(
                self._pool, _helped, kind, reply, page, number, usual_bytes
            )
        except (BrokenProcessPool, OSError):
            # A helper was killed, perhaps for want of memory: the crawl goes on alone.
            self._is_broken = True
            return None

    def close(self) -> None:
        if self._pool is not None:
            self._pool.shutdown(wait=False, cancel_futures=True)


class _HelperProcess(SpawnProcess):
    """A process that does not import the program that started us: an analyst's script without a guard would run again."""

    @staticmethod
    def _Popen(process_obj: Any) -> Any:  # noqa: N802, the name is the library's
        main = sys.modules["__main__"]
        own: dict[str, Any] = main.__dict__
        hidden: dict[str, Any] = {name: own.pop(name) for name in ("__file__", "__spec__") if name in own}
        own["__spec__"] = None
        try:
            return SpawnProcess._Popen(process_obj)
        finally:
            own.pop("__spec__")
            own.update(hidden)


class _HelperContext(SpawnContext):
    Process = _HelperProcess


def pool_of(count: int, make: Callable[..., Reader], arguments: tuple[Any, ...]) -> ProcessPoolExecutor:
    """Processes with a Reader in each."""
    return ProcessPoolExecutor(
        count, mp_context=_HelperContext(), initializer=_begin, initargs=(os.getpid(), make, arguments)
    )


_reader: Reader | None = None


def reader() -> Reader:
    """The Reader of this process."""
    assert _reader is not None
    return _reader


def _begin(parent: int, make: Callable[..., Reader], arguments: tuple[Any, ...]) -> None:
    global _reader
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=_end_with, args=(parent,), daemon=True).start()
    _reader = make(*arguments)


def _end_with(parent: int) -> None:
    """End when the process that is helped has ended without saying so."""
    while os.getppid() == parent:
        time.sleep(_WATCHED_EVERY_S)
    os._exit(1)


def _helped(kind: str, reply: Reply, page: int, number: int, usual_bytes: float | None) -> Helped:
    own = reader()
    place = own.expect_places.get(kind, "")
    found = extract(reply, own.kinds[kind], own.kinds, place, number=number, usual_bytes=usual_bytes)
    return Helped(with_packed_rows(found), pack(reply, page))


def _is_ready() -> bool:
    return _reader is not None
