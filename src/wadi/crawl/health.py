"""How hosts are doing: rested after failures in a row, asked for one page to see, given up in the end. Decisions only."""

from __future__ import annotations

from dataclasses import dataclass, field

from wadi.web.hosts import HostHealth, Hosts

_IN_A_ROW = 5
_MOST_RESTS, _MOST_SILENT_RESTS = 3, 5
"""So many rests, and a host is given up that does not come right; and so many where there is no connection, and no host at all
has answered meanwhile: the network may be gone, and come back. With a first rest of 30 s that is a quarter of an hour."""
_MOST_REFUSALS, _MOST_REFUSALS_FIRST = 20, 10
"""So many refusals in a row, and so many where no page came before them, and a host is given up."""


@dataclass
class Health:
    """The circuit breakers of all hosts: closed while a host answers, open while it rests, half open for one page after.

    `rest_s` is the first rest; each further one is twice as long.
    """

    hosts: Hosts
    rest_s: float = 30.0
    _in_trouble: set[str] = field(default_factory=set)
    _answers: int = 0

    def succeeded(self, host: str) -> None:
        """A page of the host came."""
        self.hosts[host].health = HostHealth(has_answered=True)
        self._answers += 1
        self._in_trouble.discard(host)

    def has_answered(self, host: str) -> bool:
        """Whether the host ever answered: one that never did is not worth waiting for."""
        return self.hosts[host].health.has_answered

    def failed(
        self, host: str, why: str, now: float, *, is_refusal: bool = True, is_gone: bool = False
    ) -> float | None:
        """A page did not come, or was a block: `is_refusal` where the host said so, and not where no answer came; `is_gone` where
        there was not even a connection. Gives the seconds that the host rests from now on; None when it does not.

        A host that never answered is given up without a rest.
        """
        state = self._trouble_of(host)
        state.failures += 1
        state.why, state.is_refusal, state.is_gone = why, is_refusal, is_gone
        if not state.is_probing and state.failures < _IN_A_ROW:
            return None
        if state.until > now:
            return None  # it rests already: this one was in flight
        if not self.has_answered(host):
            state.is_given_up = state.is_probing = True
            return None
        seconds = self.rest_s * 2.0**state.rests
        state.rests += 1
        is_silence = is_gone and state.answers_before == self._answers
        state.is_given_up = state.rests > (_MOST_SILENT_RESTS if is_silence else _MOST_RESTS)
        state.until, state.is_probing = now + seconds, True
        return seconds

    def refused(self, host: str, why: str) -> int:
        """The host does not want to be asked (403 and its like); gives how many such answers came in a row. After many it is
        given up: what it says will not change by asking on."""
        state = self._trouble_of(host)
        state.refusals += 1
        state.why, state.is_refusal = why, True
        if state.refusals >= (_MOST_REFUSALS if self.has_answered(host) else _MOST_REFUSALS_FIRST):
            state.is_given_up = state.is_probing = True
        return state.refusals

    def is_given_up(self, host: str) -> bool:
        """Whether a host failed after all rests."""
        return self.hosts[host].health.is_given_up

    def is_silent(self, host: str) -> bool:
        """Whether nobody was there so often in a row that the host rests, or is asked for one page: no fault of a page."""
        state = self.hosts[host].health
        return state.is_probing and state.is_gone

    def given_up(self) -> dict[str, str]:
        """The hosts that were given up, and why."""
        return {host: self.hosts[host].health.why for host in sorted(self._in_trouble) if self.is_given_up(host)}

    def refuses(self) -> bool:
        """Whether some host was given up since it said no, and not for want of answers alone."""
        return any(self.hosts[host].health.is_refusal for host in self.given_up())

    def room(self, host: str, now: float) -> int | None:
        """How many pages of a host may be in flight: 0 while it rests, 1 to see whether it answers again, None for any."""
        state = self.hosts[host].health
        if not state.is_probing:
            return None
        return 0 if self.is_given_up(host) or now < state.until else 1

    def barred(self, now: float) -> set[str]:
        """The hosts that may not be asked now."""
        return {host for host in self._in_trouble if self.room(host, now) == 0}

    def next_s(self, now: float) -> float | None:
        """Seconds until the first resting host may be asked again; None when none rests."""
        resting = (host for host in self._in_trouble if not self.is_given_up(host))
        ends = [until - now for host in resting if (until := self.hosts[host].health.until) > now]
        return min(ends) if ends else None

    def _trouble_of(self, host: str) -> HostHealth:
        state = self.hosts[host].health
        if host not in self._in_trouble:
            self._in_trouble.add(host)
            state.answers_before = self._answers
        return state
