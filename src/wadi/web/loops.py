"""Event loops: work done inside one that runs already, and a fast one."""

from __future__ import annotations

import asyncio
import signal
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

_WITHIN_S = 2.0


def in_loop(work: Any, new_loop: Callable[[], asyncio.AbstractEventLoop] | None = None) -> Any:
    """The result of a coroutine, inside a running event loop too (a notebook's), then in a thread of its own. `new_loop`
    makes the loop that it runs in. An interrupt ends the work, within two seconds, and is raised."""
    try:
        asyncio.get_running_loop()
    except RuntimeError:
        try:
            with asyncio.Runner(loop_factory=new_loop) as runner:
                return runner.run(work)
        finally:
            work.close()  # where no loop could be made
    return _in_a_thread(work, new_loop)


def _in_a_thread(work: Any, new_loop: Callable[[], asyncio.AbstractEventLoop] | None) -> Any:
    from concurrent.futures import Future, ThreadPoolExecutor, wait

    begun: Future[tuple[asyncio.AbstractEventLoop, asyncio.Task[Any] | None]] = Future()

    async def noted_work() -> Any:
        begun.set_result((asyncio.get_running_loop(), asyncio.current_task()))
        return await work

    def run() -> Any:
        with asyncio.Runner(loop_factory=new_loop) as runner:
            return runner.run(noted_work())

    pool = ThreadPoolExecutor(1)
    future = pool.submit(run)
    try:
        with _raising_interrupts():
            return future.result()
    except KeyboardInterrupt:
        # Nothing goes on in the background of a notebook whose cell has ended.
        loop, task = begun.result(_WITHIN_S)
        if task is not None and not loop.is_closed():
            loop.call_soon_threadsafe(task.cancel)
        wait([future], _WITHIN_S)
        raise
    finally:
        pool.shutdown(wait=not future.running())


@contextmanager
def _raising_interrupts() -> Iterator[None]:
    """While it lasts an interrupt is raised here: the loop that runs around us may have it wait for its next turn."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    before = signal.signal(signal.SIGINT, signal.default_int_handler)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before or signal.SIG_DFL)


def fast_loop() -> asyncio.AbstractEventLoop:
    """An event loop in C where there is one for this system: 8 % of a crawl's time."""
    try:
        import uvloop
    except ImportError:
        return asyncio.new_event_loop()
    return uvloop.new_event_loop()
