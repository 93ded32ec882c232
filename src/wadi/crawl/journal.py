"""The run's journal: every event as one JSON line in `run.log`, with its time in UTC."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import orjson

from wadi.crawl.events import (
    Adopted,
    Closed,
    Event,
    HostGivenUp,
    HostRests,
    LoggedIn,
    PageDone,
    PageFailed,
    Progress,
    PutOff,
    Sent,
    ShardProgress,
    Stopping,
)
from wadi.urls import without_secret
from wadi.web.client import TriedAgain
from wadi.web.manners import PaceChanged
from wadi.web.routed import RouteFailed


class Journal:
    """Appends events to a file; progress counts are left out, since they follow from the rest."""

    def __init__(self, path: Path, *, now: Callable[[], datetime] = lambda: datetime.now(UTC)) -> None:
        self._file = path.open("ab", buffering=0)
        self._now = now

    def close(self) -> None:
        self._file.close()

    def __call__(self, event: Event) -> None:
        fields = _fields(event)
        if fields is not None:
            at = self._now().isoformat(timespec="milliseconds")
            self._file.write(orjson.dumps({"at": at, **fields}, option=orjson.OPT_APPEND_NEWLINE))


def _fields(event: Event) -> dict[str, Any] | None:
    match event:
        case Progress() | ShardProgress():
            return None
        case Sent(kind, url):
            return {"event": "queued", "kind": kind, "url": without_secret(url)}
        case PageDone():
            names = ("kind", "status", "rows", "problems", "size_bytes", "elapsed_s", "total")
            return {"event": "page_done", "url": without_secret(event.url), **{n: getattr(event, n) for n in names}}
        case PageFailed(kind, url, problem, status):
            said = {"event": "page_failed", "kind": kind, "url": without_secret(url), "status": status}
            return {**said, "problem": problem.as_dict()}
        case RouteFailed(route, why, is_withdrawn):
            return {"event": "route_failed", "route": route, "why": why, "withdrawn": is_withdrawn}
        case PaceChanged(host, pause_s, why):
            return {"event": "pace", "host": host, "pause_s": round(pause_s, 3), "why": why}
        case Closed(seconds):
            return {"event": "closed", "seconds": round(seconds)}
        case Adopted(pages):
            return {"event": "adopted", "pages": pages}
        case Stopping(in_flight):
            return {"event": "stopping", "in_flight": in_flight}
        case LoggedIn(url, count):
            return {"event": "logged_in", "url": without_secret(url), "count": count}
        case HostGivenUp(host, why):
            return {"event": "host_given_up", "host": host, "why": why}
        case HostRests(host, seconds, why):
            return {"event": "host_rests", "host": host, "seconds": round(seconds, 1), "why": why}
        case PutOff(kind, url, problem, seconds):
            fields = {"kind": kind, "url": without_secret(url), "problem": problem.as_dict(), "seconds": seconds}
            return {"event": "put_off", **fields}
        case TriedAgain(request, failure, decision, tries):
            return {
                "event": "tried_again",
                "url": without_secret(request.url),
                "attempt": tries,
                "cause": failure.cause,
                "wait_s": decision.wait_s,
                "reason": decision.reason,
            }
