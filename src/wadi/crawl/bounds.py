"""Bounds of reading a page: of time, here and in a worker, and of memory there. One page costs one failed page.

Python's own code and its regular expressions are ended by an alarm signal; what does not let itself be ended so is read in a
worker, which is killed. Where alarms cannot be set (in a thread, outside Unix) reading here has no bound of time.
"""

from __future__ import annotations

import signal
import threading
import traceback
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from wadi.crawl.extract import Extract, extract
from wadi.problems import Place, Problem
from wadi.web.messages import Reply

_AGAIN_S = 0.25
"""How often the alarm comes again where something took the first one for its own trouble."""
_MOST_TRACE = 4000
_MORE_MEMORY_BYTES = 2_000_000_000


class TookTooLong(BaseException):
    """Reading took longer than it may. No Exception: code that takes every exception for its own trouble does not see it."""


@contextmanager
def within(seconds: float) -> Iterator[None]:
    """What runs inside is ended by TookTooLong after so many seconds."""
    if threading.current_thread() is not threading.main_thread() or not hasattr(signal, "setitimer"):
        yield
        return
    if signal.getitimer(signal.ITIMER_REAL)[0]:  # somebody else's alarm
        yield
        return
    before = None if _has_alarm else signal.signal(signal.SIGALRM, _ring)
    signal.setitimer(signal.ITIMER_REAL, seconds, _AGAIN_S)
    try:
        yield
    finally:
        # Take the alarm away, even where it rings in this very moment.
        for _ in range(2):
            with suppress(TookTooLong):
                signal.setitimer(signal.ITIMER_REAL, 0)
                break
        if before is not None:
            signal.signal(signal.SIGALRM, before)


_has_alarm = False
"""Whether the alarm of this process is ours alone."""


def take_alarm() -> None:
    """Keep the alarm of this process for `within`, which else takes it anew for every page. For workers."""
    global _has_alarm
    if hasattr(signal, "SIGALRM"):
        signal.signal(signal.SIGALRM, _ring)
        _has_alarm = True


def _ring(number: int, frame: Any) -> None:
    raise TookTooLong


def extract_within(seconds: float, reply: Reply, *arguments: Any, **more: Any) -> Extract:
    """`extract`, within a bound of time; whatever else goes wrong in it is the page's failure. Raises TookTooLong."""
    try:
        with within(seconds):
            return extract(reply, *arguments, **more)
    except MemoryError:
        return Extract(failure=beyond(reply, "needs more memory than a page may"))
    except Exception as error:  # the last line of defence: no page ends a crawl
        words = f"{type(error).__name__}: {error}"
        what = f"reply {reply.status} cannot be read: an internal error: {words[:200]}"
        now = "run.log has where it arose, and the reply is in the run's archive; please report it with both"
        trace = "".join(traceback.format_exception(error))[-_MOST_TRACE:]
        return Extract(failure=Problem("reader-failed", what, Place(reply.url), now=now, trace=trace))


def read_within(seconds: float, reply: Reply, *arguments: Any, **more: Any) -> Extract:
    """`extract_within`, where a page that takes longer has failed."""
    try:
        return extract_within(seconds, reply, *arguments, **more)
    except TookTooLong:
        return Extract(failure=too_long(reply, seconds))


def too_long(reply: Reply, seconds: float) -> Problem:
    """Why a page failed whose reading was ended."""
    now = "limits.page_time = … allows more; an expression that goes back and forth may take for ever: (a+)+$"
    return beyond(reply, f"takes longer than {seconds:g} s to read", now)


def beyond(reply: Reply, how: str, now: str = "") -> Problem:
    """Why a page failed that goes beyond what reading one may cost."""
    return Problem(
        "beyond-bounds", f"reply {reply.status} ({reply.size_bytes:,} bytes) {how}", Place(reply.url), now=now
    )


def bound_memory() -> None:
    """Let this process take two gigabytes more than it has now, and no more. For workers."""
    try:
        import resource

        pages = int(Path("/proc/self/statm").read_bytes().split()[0])
        most = pages * resource.getpagesize() + _MORE_MEMORY_BYTES
        resource.setrlimit(resource.RLIMIT_AS, (most, resource.getrlimit(resource.RLIMIT_AS)[1]))
    except (ImportError, OSError, ValueError):
        return
