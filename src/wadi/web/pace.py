"""How long the pause to a host is: the law by which refusals that speak of load make it longer, and time brings it back.

The pauses that may be kept are the plan's and each √2 times the one before, up to the plan's slowest. Of every pause it is
known, with old answers counting less and less, which share of the requests was answered. Kept is the pause with the least

    pause / share²

the time for a good answer, with what is asked in vain counted twice. From this follows:

- Failures that do not depend on the pause (a share p of all) leave every pause the same share, and so the plan's own is the
  best: they cost 1 / (1 - p) of the time, for what is asked again, and short excursions to slower pauses.
- A quota of requests in a time is found, since slower pauses lose nothing, and kept: faster ones, one step at a time, are
  tried only when what was learned of them has faded.
- Where one request after the other is refused, the host is overloaded: from the second on each doubles the pause, and what was
  known of faster pauses counts less.

docs/performance.md ("The pace") shows a simulation of each. Decisions only: nothing is waited for here.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

Heard = Literal["good", "refused", "broken"]
"""What came of a request, for the pace: an answer; one that speaks of load (429, 503); none, or one that broke off."""

STEP = 2.0**0.5
_FIRST_S = 0.1
"""Where the plan has no pause, or a shorter one, steps are counted from this."""
_PRIOR = 8.0
"""So many good answers are taken for granted where nothing is known."""
_MEMORY, _FADING = 20.0, 200.0
"""Answers after which what is known has faded to a third: of the pause that is kept, and of the others."""
_SLOW_FACTOR, _SLOW_S, _KNOWN_ANSWERS = 4.0, 1.0, 10
"""An answer is slow that takes so many times the usual, and so many seconds at least, where so many are known."""


@dataclass(frozen=True, slots=True)
class HostPace:
    """What is known of a host: which pause is kept, good and bad answers at each, how many were bad lately in a row, why the
    pause is longer than the plan's, and how long answers usually take (seconds, of how many)."""

    step: int = 0
    good: tuple[float, ...] = (0.0,)
    bad: tuple[float, ...] = (0.0,)
    in_a_row: int = 0
    why: str = ""
    usual_s: float = 0.0
    answers: int = 0


def pauses_of(plan_s: float, slowest_s: float) -> tuple[float, ...]:
    """The pauses that may be kept, in seconds, the plan's first."""
    found = [plan_s]
    longer = max(plan_s, _FIRST_S) * STEP
    while longer <= slowest_s * 1.0001:
        found.append(longer)
        longer *= STEP
    if slowest_s > found[-1] * 1.0001:
        found.append(slowest_s)
    return tuple(found)


def new_pace(pauses: Sequence[float]) -> HostPace:
    """Nothing is known of a host."""
    nothing = (0.0,) * len(pauses)
    return HostPace(good=nothing, bad=nothing)


def pace_after(
    pace: HostPace,
    pauses: Sequence[float],
    heard: Heard,
    seconds: float = 0.0,
    *,
    step: int | None = None,
    why: str = "",
) -> HostPace:
    """What is known after an answer that took `seconds`, to a request that was sent when `step` was kept; `why` says in words
    what was refused."""
    slow = slow_answer(pace, seconds) if heard == "good" else ""
    if heard == "good" and not slow:
        weight = 0.1 if pace.answers >= _KNOWN_ANSWERS else 1 / (pace.answers + 1)
        pace = replace(pace, usual_s=pace.usual_s + weight * (seconds - pace.usual_s), answers=pace.answers + 1)
    is_good = heard == "good" and not slow
    at = pace.step if step is None else step
    if is_good and not any(pace.bad):
        return replace(pace, good=(min(_MEMORY, pace.good[0] + 1.0), *pace.good[1:]))
    good, bad = list(pace.good), list(pace.bad)
    for place in range(len(pauses)):
        left = 1.0 - 1.0 / (_MEMORY if place == at else _FADING)
        good[place], bad[place] = good[place] * left, bad[place] * left
    (good if is_good else bad)[at] += 1.0
    in_a_row = 0 if is_good else pace.in_a_row + (at >= pace.step)
    is_overloaded = not is_good and in_a_row >= 2 and at >= pace.step
    if is_overloaded:
        good[: at + 1] = [pause / 4.0 for pause in good[: at + 1]]
    best = _best(pauses, good, bad, at_least=max(0, pace.step - 1) if is_good else pace.step)
    if is_overloaded:
        best = max(best, min(len(pauses) - 1, pace.step + 2))
    if not best and is_good and max(bad) < 0.01:
        bad = [0.0] * len(bad)  # it has faded
    reason = (
        pace.why if is_good else slow or why or ("a connection broke" if heard == "broken" else "it refused a request")
    )
    why = reason if best else ""
    return replace(pace, step=best, good=tuple(good), bad=tuple(bad), in_a_row=in_a_row, why=why)


def _best(pauses: Sequence[float], good: Sequence[float], bad: Sequence[float], at_least: int) -> int:
    """The step, from `at_least` on, with the least pause / share²; of equal ones the fastest."""

    def cost(place: int) -> float:
        share = (_PRIOR + good[place]) / (_PRIOR + good[place] + bad[place])
        return max(pauses[place], _FIRST_S) / share**2

    return min(range(at_least, len(pauses)), key=cost)


def slow_answer(pace: HostPace, seconds: float) -> str:
    """What is to be said of an answer that took much longer than is usual; empty for any other."""
    if pace.answers >= _KNOWN_ANSWERS and seconds > max(_SLOW_S, _SLOW_FACTOR * pace.usual_s):
        return f"answers take {seconds:.1f} s, usually {pace.usual_s:.1f} s"
    return ""
