"""How a crawl goes, in a notebook: one output below the cell, drawn anew now and then, and what it came to at the end."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from html import escape
from typing import Any, Protocol

from wadi.actions.run import Run
from wadi.actions.tally import Clock, Tally
from wadi.crawl.events import Event, Progress
from wadi.problems import plural

_EVERY_S = 0.5


class _Output(Protocol):
    """An output of a cell that can be drawn anew (IPython's display handle)."""

    def update(self, obj: object) -> None: ...


class ProgressView:
    """The progress as a notebook draws it, and as text elsewhere."""

    def __init__(self, tally: Tally, *, is_over: bool = False) -> None:
        self._tally = tally
        self._is_over = is_over

    def __repr__(self) -> str:
        return f"{self._tally.name}: {self._said()}"

    def _repr_html_(self) -> str:
        tally = self._tally
        lines = [self._said(), *(() if self._is_over else (tally.hosts_line, tally.pace_line, tally.current_news))]
        bar = "" if self._is_over else f"<progress max='1' value='{tally.share:.3f}'></progress> {tally.share:.0%} "
        told = "".join(f"<br><small>{escape(line)}</small>" for line in lines if line)
        return f"<div><b>{escape(tally.name)}</b> {bar}{told}</div>"

    def _said(self) -> str:
        tally = self._tally
        if not self._is_over:
            return tally.counts_line()
        failed = f", {tally.progress.failed:,} failed" if tally.progress.failed else ""
        return f"{plural(tally.progress.done, 'page')} read in {tally.elapsed_s:.0f} s{failed}"


def display_of_notebook() -> Callable[..., Any] | None:
    """What displays an object in the notebook that this process belongs to; None where it belongs to none."""
    ipython: Any = sys.modules.get("IPython")
    shell = ipython.get_ipython() if ipython is not None else None
    return ipython.display.display if shell is not None and hasattr(shell, "kernel") else None


@contextmanager
def watched(
    run: Run, display: Callable[..., Any] | None, clock: Clock = time.monotonic
) -> Iterator[Callable[[Event], None]]:
    """What hears of a crawl's events and shows them by `display`, which nobody needs to have."""
    if display is None:
        yield lambda event: None
        return
    tally = Tally(run.plan_name, clock, run.loaded.plan.limits)
    output: _Output = display(ProgressView(tally), display_id=True)
    drawn = clock()

    def hear(event: Event) -> None:
        nonlocal drawn
        tally.take(event)
        if isinstance(event, Progress) and clock() - drawn >= _EVERY_S:
            drawn = clock()
            output.update(ProgressView(tally))

    try:
        yield hear
    finally:
        output.update(ProgressView(tally, is_over=True))
