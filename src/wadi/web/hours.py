"""The hours of the day in which a run may ask: `22:00-06:00`, over midnight too."""

from __future__ import annotations

import re
from datetime import datetime, time, timedelta

_HOURS = re.compile(r"(\d{1,2}):(\d{2})\s*-\s*(\d{1,2}):(\d{2})")


def closed_for_s(hours: str | None, now: datetime) -> float:
    """Seconds until the hours begin in which a run may ask (`22:00-06:00`, over midnight too); 0 inside them or without."""
    if hours is None:
        return 0.0
    begin, end = hours_of(hours)
    clock = now.time()
    is_open = begin <= clock < end if begin < end else clock >= begin or clock < end
    if is_open:
        return 0.0
    opens = now.replace(hour=begin.hour, minute=begin.minute, second=0, microsecond=0)
    if opens <= now:
        opens += timedelta(days=1)
    return (opens - now).total_seconds()


def hours_of(text: str) -> tuple[time, time]:
    """Begin and end of hours such as `22:00-06:00`. Raises ValueError."""
    found = _HOURS.fullmatch(text.strip())
    if not found:
        raise ValueError('hours are written "22:00-06:00"')
    first, second, third, fourth = map(int, found.groups())
    begin, end = time(first, second), time(third, fourth)
    if begin == end:
        raise ValueError("the hours begin and end at the same time")
    return begin, end
