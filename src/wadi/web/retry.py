"""What to do when a request failed: a pure decision from the failure, what was tried before, and the policy."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from functools import lru_cache

from wadi.web.messages import FetchFailed, Reply

AGAIN_STATUSES = frozenset({408, 425, 429, 500, 502, 503, 504})
_AGAIN_CAUSES = frozenset({"unreachable", "timed-out", "broken-off", "no-route"})
_SAFE_METHODS = frozenset({"GET", "HEAD"})


@dataclass(frozen=True, slots=True)
class Retrying:
    """The policy: how often to try again, the first wait and the longest, in seconds. Each wait doubles the one before.

    `post` says that a POST may be sent twice.
    """

    retries: int = 4
    first_wait_s: float = 1.0
    longest_wait_s: float = 120.0
    post: bool = False


@dataclass(frozen=True, slots=True)
class Tries:
    """What was tried so far for one request; `after` gives the next state."""

    failures: tuple[str, ...] = ()
    waited_s: float = 0.0

    def after(self, failure: FetchFailed, wait_s: float = 0.0) -> Tries:
        return replace(self, failures=(*self.failures, str(failure)), waited_s=self.waited_s + wait_s)

    @property
    def count(self) -> int:
        return len(self.failures)


@dataclass(frozen=True, slots=True)
class Decision:
    """Try again after `wait_s`, or give up. `reason` is for the log."""

    again: bool
    wait_s: float = 0.0
    reason: str = ""


def decide(
    failure: FetchFailed, tries: Tries, policy: Retrying, *, method: str, now: datetime, share: float = 1.0
) -> Decision:
    """Whether and when to send a request again after `failure`; `tries` counts the failures before this one.

    Tried again: no connection, time-outs, replies broken off, and 408, 425, 429, 500, 502, 503, 504; GET and HEAD only,
    since sending another method twice may do a thing twice, unless the policy allows it. The wait is `share` (0 to 1, at
    random: full jitter) of one that duplicates. A wait that the host asks for (`Retry-After`) is kept when it is the longer
    one; one beyond the longest wait ends the tries.
    """
    status = failure.reply.status if failure.reply else None
    if failure.cause not in _AGAIN_CAUSES and status not in AGAIN_STATUSES:
        return Decision(False, reason="trying again would not help")
    if method not in _SAFE_METHODS and not (policy.post and method == "POST"):
        return Decision(False, reason=f"a {method} is not sent twice")
    if tries.count >= policy.retries:
        return Decision(False, reason=f"tried {tries.count + 1} times")
    wait = share * min(policy.first_wait_s * 2.0**tries.count, policy.longest_wait_s)
    asked = wait_asked_for(failure.reply, now) if failure.reply else None
    if asked is None:
        return Decision(True, wait, str(failure))
    if asked > policy.longest_wait_s:
        return Decision(False, reason=f"the host asks to wait {asked:.0f} s, longer than {policy.longest_wait_s:.0f} s")
    return Decision(True, max(wait, asked), f"{failure}, and the host asks to wait {asked:.0f} s")


def wait_asked_for(reply: Reply, now: datetime) -> float | None:
    """Seconds the host asks us to wait (`Retry-After`), or None if it asks for nothing.

    Both forms of RFC 9110 §10.2.3: a count of seconds, or an HTTP-date, of which a past one gives 0.0. A date is one of the
    host's clock (`Date`), where it tells that; `now` is ours, aware. A value that cannot be read counts as none: a careless
    server stops nobody.
    """
    value = reply.header("retry-after").strip()
    if not value:
        return None
    if value.isdecimal():
        return float(value)
    when = _http_date(value)
    return None if when is None else max(0.0, (when - (time_at_host(reply) or now)).total_seconds())


def time_at_host(reply: Reply) -> datetime | None:
    """The time of the host's clock when it replied (RFC 9110 §6.6.1); None where it does not tell it."""
    return _http_date(reply.header("date"))


@lru_cache(maxsize=64)
def _http_date(value: str) -> datetime | None:
    try:
        when = parsedate_to_datetime(value)
    except (ValueError, TypeError, OverflowError):  # an odd zone, a year beyond all calendars
        return None
    return when if when.tzinfo else when.replace(tzinfo=UTC)
