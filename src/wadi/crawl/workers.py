"""Processes that read replies beside the crawl, where pages may come faster than one processor reads them.

The crawl speaks with each over a pair of sockets, in its own event loop and without threads: what is asked and what is
answered are pickles, each after its length. A worker ends with the process that it helps, however that ends, and takes no
Ctrl-C of its own. Should a page bring one down, the run loses that page and goes on.

Where this process has one thread and nothing open but the run, workers are forked before the event loop begins: ready at
once. Elsewhere (a notebook, a system where forking is not safe) they are started afresh when some pages have been read.
"""

from __future__ import annotations

import asyncio
import gc
import os
import pickle
import signal
import socket
import struct
import sys
import threading
import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field
from enum import Enum
from multiprocessing import get_context
from multiprocessing.context import SpawnProcess
from multiprocessing.process import BaseProcess
from pathlib import Path
from typing import Any, cast

from wadi.crawl.bounds import bound_memory, take_alarm, too_long
from wadi.crawl.extract import Extract
from wadi.crawl.reader import DAMAGED_REPLY, Read, Reader, ToRead, read_as
from wadi.problems import Place, Problem

_WATCHED_EVERY_S = 1.0
MERCY_S = 3.0
"""How much longer than a page may take the crawl waits for the worker to end it."""
_LENGTH = struct.Struct("!I")
_READY = b"ready"


class _Lost(Enum):
    """How an answer did not come: the worker ended while it was reading the page, or with the page still before it, or was
    killed since it took too long over it."""

    AT_WORK = 1
    WAITING = 2
    TOO_LONG = 3


_Answer = Read | _Lost | None
"""What a worker made of a page; None where it could not."""


class _Line(asyncio.Protocol):
    """The crawl's end of the line to one worker: answers come in the order of what was asked."""

    def __init__(self, kill: Callable[[], None]) -> None:
        self._kill = kill
        self._timer: asyncio.TimerHandle | None = None
        self._most_s = 0.0
        self._is_killed = False
        self.ready: asyncio.Future[bool] = asyncio.get_running_loop().create_future()
        self.waiting: deque[asyncio.Future[_Answer]] = deque()
        self._transport: asyncio.Transport | None = None
        self._came = bytearray()
        self._is_lost = False

    @property
    def is_open(self) -> bool:
        """Whether the worker is there, and ready."""
        return self.ready.done() and not self._is_lost

    def ask(self, asked: bytes, most_s: float) -> asyncio.Future[_Answer]:
        """The answer to what is asked; the worker is killed when it takes longer than `most_s` over it alone."""
        assert self._transport is not None
        future: asyncio.Future[_Answer] = asyncio.get_running_loop().create_future()
        self.waiting.append(future)
        self._most_s = most_s
        if len(self.waiting) == 1:
            self._watch()
        self._transport.write(_LENGTH.pack(len(asked)) + asked)
        return future

    def _watch(self) -> None:
        """Give the worker its time for the page that it has before it now."""
        if self._timer is not None:
            self._timer.cancel()
        self._timer = asyncio.get_running_loop().call_later(self._most_s, self._end) if self.waiting else None

    def _end(self) -> None:
        self._is_killed = True
        self._kill()

    def close(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
        if self._transport is not None:
            self._transport.close()

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = cast(asyncio.Transport, transport)

    def data_received(self, data: bytes) -> None:
        self._came += data
        while len(self._came) >= _LENGTH.size:
            end = _LENGTH.size + _LENGTH.unpack_from(self._came)[0]
            if len(self._came) < end:
                return
            answer = bytes(self._came[_LENGTH.size : end])
            del self._came[:end]
            if answer == _READY:
                self.ready.set_result(True)
            else:
                future = self.waiting.popleft()
                self._watch()
                if not future.done():  # the crawl may have given up waiting
                    future.set_result(pickle.loads(answer))

    def connection_lost(self, error: Exception | None) -> None:
        """The worker has ended: for want of memory, or over the page that it was reading."""
        self._is_lost = True
        was_ready = self.ready.done()
        if not was_ready:
            self.ready.set_result(False)
        if self._timer is not None:
            self._timer.cancel()
        lost = _Lost.TOO_LONG if self._is_killed else _Lost.AT_WORK if was_ready else _Lost.WAITING
        while self.waiting:
            future = self.waiting.popleft()
            if not future.done():
                future.set_result(lost)
            lost = _Lost.WAITING


@dataclass
class WorkerPool:
    """`count` processes, each with a Reader that `make` makes from `arguments`: forked by `fork`, else started when
    `worth_after` pages were read.

    Until they are ready the crawl reads on by itself; with `is_patient` it waits for them. Without `is_for_all` they are there
    for pages that are large or take long alone, and begin with the first of those. A worker that takes longer than
    `page_time_s`, and some seconds more, over a page is killed.
    """

    make: Callable[..., Reader]
    arguments: tuple[Any, ...]
    count: int
    worth_after: int = 150
    is_patient: bool = False
    is_for_all: bool = True
    page_time_s: float = 30.0
    processes: list[BaseProcess] = field(default_factory=list)
    helped: int = 0
    """How many pages workers read."""
    _ends: list[socket.socket] = field(default_factory=list)
    _lines: list[_Line] = field(default_factory=list)
    _asked: int = 0

    def fork(self) -> None:
        """Begin at once, if forking is safe. To be called while no event loop runs and no connection is open."""
        if self.is_for_all and may_fork():
            self._begin_all(get_context("fork").Process, self._serve_forked, self.count)

    async def read(self, todo: ToRead, *, is_suspect: bool = False) -> Read | None:
        """What a worker makes of a page; None while there are no workers: then the crawl reads it itself. One that this process
        should not read, since it is large or takes long (`is_suspect`), always has an answer."""
        self._asked += 1
        if not is_suspect and not self.processes and self._asked <= self.worth_after:
            return None
        if not self._lines:
            await self._connect()
        if self.is_patient or is_suspect:
            await asyncio.gather(*(line.ready for line in self._lines))
        asked = pickle.dumps(todo, pickle.HIGHEST_PROTOCOL)
        answer: _Answer = _Lost.WAITING
        while answer is _Lost.WAITING:  # behind a page over which the worker ended: another one is asked
            if is_suspect and not any(line.is_open for line in self._lines):
                await self._another()
            open_lines = [line for line in self._lines if line.is_open]
            line = min(open_lines, key=lambda worker: len(worker.waiting), default=None)
            answer = await line.ask(asked, self._most_s) if line is not None else None
        if answer is _Lost.TOO_LONG:
            return _without_answer(todo, self.page_time_s)
        if answer is _Lost.AT_WORK:
            answer = await self._read_apart(asked, todo)
        if isinstance(answer, Read):
            self.helped += 1
            return answer
        return _without_answer(todo) if is_suspect else None

    async def _read_apart(self, asked: bytes, todo: ToRead) -> _Answer:
        """A page over which a worker ended, read in a process of its own. Where that ends, too, it is the page, which fails."""
        line = await self._new_line()
        answer: _Answer = await line.ask(asked, self._most_s) if await line.ready else None
        line.close()
        return _without_answer(todo) if isinstance(answer, _Lost) else answer

    @property
    def _most_s(self) -> float:
        """So long the crawl waits for a worker that has a page before it: the worker ends it itself, where it can."""
        return self.page_time_s + MERCY_S

    async def _new_line(self) -> _Line:
        """The line to a further worker, begun now."""
        self._begin_all(_WorkerProcess, _serve, 1)
        line = _Line(self.processes[-1].kill)
        await asyncio.get_running_loop().create_connection(lambda: line, sock=self._ends[-1])
        return line

    async def _another(self) -> None:
        """A worker in place of those that ended."""
        line = await self._new_line()
        if await line.ready:
            self._lines.append(line)

    def _begin_all(self, new_process: Callable[..., BaseProcess], target: Callable[..., None], count: int) -> None:
        for _ in range(count):
            ours, theirs = socket.socketpair()
            self._ends.append(ours)
            process = new_process(target=target, args=(theirs, os.getpid(), self.make, self.arguments), daemon=True)
            process.start()
            theirs.close()
            self.processes.append(process)

    async def _connect(self) -> None:
        if not self.processes:
            self._begin_all(_WorkerProcess, _serve, self.count)
        self._lines = [_Line(process.kill) for process in self.processes]
        for line, end in zip(self._lines, self._ends, strict=True):
            await asyncio.get_running_loop().create_connection(lambda line=line: line, sock=end)  # type: ignore[misc]

    def _serve_forked(self, line: socket.socket, *arguments: Any) -> None:
        """A forked worker's work. Our ends of the lines are not for it: it would not see that they are closed."""
        for end in self._ends:
            end.close()
        _serve(line, *arguments)

    def close(self) -> None:
        """Ask for nothing more; in the event loop."""
        for line in self._lines:
            line.close()

    def end(self) -> None:
        """End the processes: they have nothing that could be lost. After the event loop."""
        for end in self._ends:
            end.close()
        for process in self.processes:
            process.kill()
            process.join()


def may_fork() -> bool:
    """Whether a copy of this process would be sound: on Linux, while it has a single thread."""
    return sys.platform == "linux" and sum(1 for _ in Path("/proc/self/task").iterdir()) == 1


class _WorkerProcess(SpawnProcess):
    """A process that does not import the program that started us: an analyst's script without a guard would run again."""

    @staticmethod
    def _Popen(process_obj: Any) -> Any:  # noqa: N802, the name is the library's
        main = sys.modules["__main__"]
        names: dict[str, Any] = main.__dict__
        hidden: dict[str, Any] = {name: names.pop(name) for name in ("__file__", "__spec__") if name in names}
        names["__spec__"] = None
        try:
            return SpawnProcess._Popen(process_obj)
        finally:
            names.pop("__spec__")
            names.update(hidden)


def _without_answer(todo: ToRead, most_s: float | None = None) -> Read:
    """What there is of a page over which a worker was ended after `most_s` seconds, or ended by itself, twice."""
    try:
        reply = todo.loaded()
    except DAMAGED_REPLY as error:
        return Read(Extract(), damage=f"the stored reply cannot be read: {error}")
    what = f"reply {reply.status} cannot be read: the process that reads it ended, twice"
    now = "it is in the run's archive; please report it with that page"
    ended = Problem("reader-ended", what, Place(reply.url), now=now)
    return read_as(todo, reply, Extract(failure=ended if most_s is None else too_long(reply, most_s)))


def _end_with(parent: int) -> None:
    """End when the process that is helped has ended without saying so."""
    while os.getppid() == parent:
        time.sleep(_WATCHED_EVERY_S)
    os._exit(1)


def _serve(line: socket.socket, parent: int, make: Callable[..., Reader], arguments: tuple[Any, ...]) -> None:
    """A worker's work: answer what is asked until the line is closed."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    take_alarm()
    threading.Thread(target=_end_with, args=(parent,), daemon=True).start()
    reader = make(*arguments)
    # As in the crawl: what is loaded stays, and pages make few cycles.
    gc.freeze()
    gc.set_threshold(50_000, 20, 100)
    bound_memory()
    try:
        with line, line.makefile("rwb") as stream:
            _write(stream, _READY)
            while head := stream.read(_LENGTH.size):
                todo = pickle.loads(stream.read(_LENGTH.unpack(head)[0]))
                try:
                    answer = reader.read(todo)
                except Exception:  # the crawl reads the page itself, and meets it where it can be told
                    answer = None
                _write(stream, pickle.dumps(answer, pickle.HIGHEST_PROTOCOL))
    except OSError:
        return  # the crawl has ended


def _write(stream: Any, data: bytes) -> None:
    stream.write(_LENGTH.pack(len(data)) + data)
    stream.flush()
