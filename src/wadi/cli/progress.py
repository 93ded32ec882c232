"""How a crawl goes, on standard error: a live display on a terminal, a plain line now and then elsewhere."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, TextIO

from wadi.actions.tally import Clock, Tally
from wadi.cli.show import console, rows_table
from wadi.crawl.events import (
    Closed,
    Event,
    HostGivenUp,
    HostRests,
    Progress,
    PutOff,
    Stopping,
)
from wadi.web.client import TriedAgain

if TYPE_CHECKING:
    from rich.console import RenderableType

    from wadi.plan.columns import Column
    from wadi.plan.model import LimitsPlan

_PLAIN_EVERY_S = 10.0
_BAR = 40


@dataclass(frozen=True)
class Screen:
    """What shows a crawl: it hears of events, and of rows."""

    report: Callable[[Event], None]
    show_rows: Callable[[Sequence[Column], Sequence[list[Any]]], None]


@contextmanager
def display(
    name: str, err: TextIO, *, quiet: bool, limits: LimitsPlan | None = None, clock: Clock = time.monotonic
) -> Iterator[Screen]:
    """Shows events until the context ends. Quiet shows nothing. `limits` are shown as they are used."""
    tally = Tally(name, clock, limits, cuts=err.isatty())
    if quiet:
        yield Screen(tally.take, tally.show_rows)
    elif err.isatty():
        with _live(tally, err) as receive:
            yield Screen(receive, tally.show_rows)
    else:
        yield Screen(_plain(tally, err, clock), tally.show_rows)


@contextmanager
def _live(tally: Tally, err: TextIO) -> Iterator[Callable[[Event], None]]:
    from rich.live import Live

    drawn_on = console(err)
    live = Live(
        get_renderable=lambda: view(tally, drawn_on.width),
        console=drawn_on,
        refresh_per_second=8,
        transient=True,
        redirect_stdout=False,
    )

    def receive(event: Event) -> None:
        # Its thread begins with the first event, when the crawl's workers have been forked.
        if not live.is_started:
            live.start()
        tally.take(event)

    try:
        yield receive
    finally:
        live.stop()


def view(tally: Tally, width: int) -> RenderableType:
    """The live display: name and bar, counts, what is waited for, and the last rows where they are wanted."""
    from rich.console import Group
    from rich.text import Text

    filled = round(tally.share * _BAR)
    minutes, seconds = divmod(int(tally.elapsed_s), 60)
    text = Text()
    text.append(f"{tally.name}  ", "bold")
    text.append("▇" * filled, "cyan")
    text.append("·" * (_BAR - filled), "dim")
    text.append(f"  {tally.share:4.0%}   {minutes}:{seconds:02d}{_left(tally.left_s)}\n")
    text.append(f"{tally.counts_line()}\n", "dim" if not tally.progress.failed else "")
    for line in filter(None, (tally.hosts_line, tally.shards_line, tally.budget_line)):
        text.append(f"{line}\n", "dim")
    if tally.pace_line:
        text.append(f"{tally.pace_line}\n", "yellow")
    text.append(tally.current_news, "yellow")
    if not tally.last_rows:
        return text
    return Group(text, rows_table(tally.columns, list(tally.last_rows), width)[0])


def _left(seconds: float | None) -> str:
    """How long it may still take, in words."""
    if seconds is None:
        return ""
    if seconds < 90:
        return f", about {seconds:.0f} s left"
    return f", about {seconds / 60:.0f} min left" if seconds < 7200 else f", about {seconds / 3600:.1f} h left"


def _plain(tally: Tally, err: TextIO, clock: Clock) -> Callable[[Event], None]:
    """Lines for logs: every ten seconds, and at once when a page fails or is waited for."""
    last = clock()

    def receive(event: Event) -> None:
        nonlocal last
        tally.take(event)
        worth_a_line = isinstance(event, TriedAgain | HostGivenUp | HostRests | PutOff | Stopping | Closed)
        if worth_a_line and tally.current_news:
            print(f"{tally.name}: {tally.current_news}", file=err, flush=True)
        elif isinstance(event, Progress) and clock() - last >= _PLAIN_EVERY_S:
            last = clock()
            lines = (tally.counts_line(), tally.hosts_line, tally.shards_line, tally.budget_line)
            print("\n".join(f"{tally.name}: {line}" for line in lines if line), file=err, flush=True)

    return receive
