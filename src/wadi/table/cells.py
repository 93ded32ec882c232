"""Cells as other programs and people take them: dates as dates, lists as JSON or as one text, texts that a spreadsheet would run
disarmed."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from datetime import UTC, date, datetime, time
from functools import lru_cache
from typing import Any

import orjson

from wadi.clean.types import TypeName
from wadi.plan.columns import Column

LIST_SEPARATOR = "; "
_RUNS = re.compile(r"\s*[=+\-@\t\r]")
_NUMBER = re.compile(r"[+\-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+\-]?\d+)?%?")


def is_missing(value: Any) -> bool:
    """Whether a cell holds nothing."""
    return value is None or value == [] or value == ""


def flat(value: Any) -> Any:
    """A cell as people read it: lists joined with "; ", objects as JSON, truth values as `true` and `false`."""
    if isinstance(value, list):
        return LIST_SEPARATOR.join(str(flat(member)) for member in value if member is not None) or None
    if isinstance(value, dict):
        return orjson.dumps(value).decode()
    if isinstance(value, bool):
        return "true" if value else "false"
    return value


def coded(value: Any) -> Any:
    """A cell as programs read it: lists and objects as JSON, truth values as `true` and `false`; a list of nothing is missing."""
    if isinstance(value, list | dict):
        return orjson.dumps(value).decode() if value else None
    return flat(value)


def odd_places(columns: Sequence[Column]) -> list[int]:
    """Where cells have structure, so that `flat` and `coded` have something to do."""
    kinds = ("boolean", "array", "object")
    return [place for place, column in enumerate(columns) if column.many or column.type in kinds]


def text_places(columns: Sequence[Column]) -> list[int]:
    """Where cells are texts that come from a site."""
    return [
        place
        for place, column in enumerate(columns)
        if column.many or column.type in ("string", "email", "phone", "file")
    ]


def disarmed(value: Any) -> Any:
    """A text that a spreadsheet would run as a formula, with an apostrophe before it; numbers and signs alone stay."""
    if isinstance(value, str) and _RUNS.match(value) and len(value) > 1 and not _NUMBER.fullmatch(value):
        return "'" + value
    return value


def typed(column: Column) -> Callable[[Any], Any] | None:
    """What turns the column's ISO 8601 texts into dates; None for columns that are what they are."""
    return None if column.many else typed_as(column.type)


def typed_as(kind: TypeName) -> Callable[[Any], Any] | None:
    """What turns ISO 8601 texts of a type into dates and times; None for types whose values are what they are."""
    return {"date": _date, "datetime": _moment, "time": _time}.get(kind)


@lru_cache(10_000)
def moment_of(text: str) -> float | None:
    """An ISO 8601 date or moment on one clock, in seconds: moments of different offsets compare by it and not as texts. One
    without an offset counts as UTC; None for any other text."""
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        return None
    return (moment if moment.tzinfo is not None else moment.replace(tzinfo=UTC)).timestamp()


def at_utc(value: Any) -> Any:
    """A moment or a time of the day with an offset as formats have it that know no offsets: at UTC, a time without saying so."""
    if isinstance(value, datetime) and value.tzinfo is not None:
        return value.astimezone(UTC)
    if isinstance(value, time) and value.tzinfo is not None:
        return datetime.combine(date(2000, 1, 1), value).astimezone(UTC).time()
    return value


def _date(value: Any) -> Any:
    return date.fromisoformat(value) if isinstance(value, str) else value


def _moment(value: Any) -> Any:
    return datetime.fromisoformat(value) if isinstance(value, str) else value


def _time(value: Any) -> Any:
    return time.fromisoformat(value) if isinstance(value, str) else value
