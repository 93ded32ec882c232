"""A run as one HTML page that can be sent on: verdict, crawl, tables, failures, plan. It needs no script and loads nothing."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

import orjson

from wadi.quality.html import rendered
from wadi.quality.profile import TableProfile
from wadi.quality.verdict import Verdict, cause_of
from wadi.store.outcome import StatedTotal

_BINS = 60
_STORED = 8000
_STATUSES = 6
_WAITS = {
    "pace": "pause_s",
    "tried_again": "wait_s",
    "host_rests": "seconds",
    "closed": "seconds",
    "put_off": "seconds",
}


@dataclass(frozen=True)
class Timeline:
    """A crawl in time: bars of pages read, asked again, failed; the answers by status; waits by reason with times and
    seconds."""

    first: str
    last: str
    span: str
    pace: str
    statuses: str
    bins: tuple[tuple[int, int, int], ...]
    most: int
    waits: tuple[tuple[str, int, float], ...]


@dataclass(frozen=True)
class Failure:
    """A page that failed, with the beginning of what came where something did."""

    number: int
    kind: str
    url: str
    code: str
    what: str
    stored: str | None = None
    size: int = 0


@dataclass(frozen=True)
class TableShown:
    """A table in the report: its profile, its first rows, its key, what was left out."""

    profile: TableProfile
    rows: Sequence[Sequence[Any]]
    key: Sequence[str]
    duplicates: int
    rejected: int


@dataclass(frozen=True)
class Report:
    """Everything that the report shows."""

    title: str
    plan_name: str
    began: str
    end: str
    plan: str
    versions: str
    verdict: Verdict
    pages: Mapping[str, int]
    requests: int
    listings: Sequence[StatedTotal]
    tables: Sequence[TableShown]
    failures: Sequence[Failure]
    left_out: int
    timeline: Timeline | None


def report_html(report: Report) -> str:
    """The report as one page."""
    values = {name: getattr(report, name) for name in report.__dataclass_fields__ if name != "title"}
    return rendered(
        "report.html", title=f"{report.title}: report", heading=report.title, compared=report.verdict.compared, **values
    )


def events_in(path: Path) -> Iterable[Mapping[str, Any]]:
    """The events of a run's journal; lines that are torn are left out."""
    if not path.is_file():
        return
    with path.open("rb") as file:
        for line in file:
            try:
                event = orjson.loads(line)
            except orjson.JSONDecodeError:
                continue
            if isinstance(event, dict) and "at" in event:
                yield event


def timeline_of(events: Iterable[Mapping[str, Any]]) -> Timeline | None:
    """A crawl in time; None where nothing was asked."""
    marks: list[tuple[float, int]] = []
    statuses: Counter[str] = Counter()
    waits: dict[str, tuple[int, float]] = {}
    for event in events:
        name, at = event["event"], datetime.fromisoformat(event["at"]).timestamp()
        if name == "page_done":
            marks.append((at, 0))
            statuses[str(event["status"])] += 1
        elif name in ("tried_again", "put_off"):
            marks.append((at, 1))
        elif name == "page_failed":
            marks.append((at, 2))
            statuses[cause_of(event.get("status"), event["problem"])] += 1
        if name in _WAITS:
            reason = _reason(event)
            count, seconds = waits.get(reason, (0, 0.0))
            waits[reason] = (count + 1, seconds + float(event.get(_WAITS[name]) or 0.0))
    if not marks:
        return None
    first, last = marks[0][0], max(at for at, _ in marks)
    length = max(last - first, 0.001)
    bins = [[0, 0, 0] for _ in range(min(_BINS, max(1, len(marks))))]
    for at, kind in marks:
        bins[min(int((at - first) / length * len(bins)), len(bins) - 1)][kind] += 1
    read = sum(bar[0] for bar in bins)
    shown = ", ".join(f"{count:,} × {status}" for status, count in statuses.most_common(_STATUSES))
    longest = tuple(
        (reason, count, seconds) for reason, (count, seconds) in sorted(waits.items(), key=lambda w: -w[1][1])
    )
    return Timeline(
        _hour(first),
        _hour(last),
        _length(length),
        f"{read / length:.1f} pages a second" if read >= length else f"{60 * read / length:.1f} pages a minute",
        shown,
        tuple((a, b, c) for a, b, c in bins),
        max(1, *(sum(bar) for bar in bins)),
        longest[:12],
    )


def _reason(event: Mapping[str, Any]) -> str:
    name = event["event"]
    if name == "pace":
        return (
            f"pause to {event['host']}: {event['why']}" if event["why"] else f"pause to {event['host']} narrower again"
        )
    if name == "tried_again":
        return f"asked again: {event['cause']}"
    if name == "host_rests":
        return f"{event['host']} rests: {event['why']}"
    if name == "put_off":
        return f"put off: {event['problem']['code']}"
    return "outside the hours of the plan"


def _hour(at: float) -> str:
    return datetime.fromtimestamp(at).astimezone().strftime("%Y-%m-%d %H:%M:%S")


def _length(seconds: float) -> str:
    if seconds < 120:
        return f"{seconds:.1f} s"
    return f"{seconds / 60:.1f} min" if seconds < 7200 else f"{seconds / 3600:.1f} h"


def beginning(body: bytes, content_type: str) -> str:
    """The beginning of a stored page as text; of what is no text only that."""
    if b"\x00" in body[:_STORED]:
        return f"{len(body):,} bytes of {content_type or 'no stated type'}"
    return body[:_STORED].decode("utf-8", "replace")
