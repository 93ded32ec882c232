"""How a crawl goes, on standard error: a live display on a terminal, a plain line now and then elsewhere."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, TextIO

from wadi.cli.show import console, plural
from wadi.crawl.events import Closed, Event, HostGivenUp, HostRests, PageDone, PageFailed, Progress, PutOff, Stopping
from wadi.problems import shortened
from wadi.web.client import TriedAgain
from wadi.web.manners import PaceChanged
from wadi.web.routed import RouteFailed

if TYPE_CHECKING:
    from rich.console import RenderableType

_PLAIN_EVERY_S = 10.0
_RATE_OVER_S = 5.0
_BAR = 40
Clock = Callable[[], float]


class Tally:
    """What the events come to so far: counts, pace, and the last thing worth a line."""

    def __init__(self, name: str, clock: Clock) -> None:
        self.name = name
        self._clock = clock
        self._began = clock()
        self._recent: deque[float] = deque()
        self.progress = Progress(0, 0, 0, 0)
        self.rows = 0
        self.total: int | None = None
        self.news = ""
        self._news_until = 0.0
        self.failures = 0
        self.paces: dict[str, PaceChanged] = {}

    def take(self, event: Event) -> None:
        """Count an event in."""
        now = self._clock()
        match event:
            case Progress():
                self.progress = event
            case PageDone():
                self.rows += event.rows
                self.total = event.total if event.total is not None else self.total
                self._recent.append(now)
            case PageFailed():
                self.failures += 1
                self._recent.append(now)
                self._tell(f"failed: {shortened(event.problem.what, 100)}", now + 30)
            case TriedAgain():
                what = shortened(event.decision.reason, 90)
                self._tell(
                    f"again in {event.decision.wait_s:.0f} s (try {event.tries + 1}): {what}",
                    now + event.decision.wait_s,
                )
            case PaceChanged():
                self.paces[event.host] = event
                if not event.why:
                    self.paces.pop(event.host)
            case Closed():
                self._tell(f"outside the plan's hours: waiting {event.seconds / 3600:.1f} h", now + event.seconds)
            case Stopping():
                what = plural(event.in_flight, "page") if event.in_flight else "nothing"
                self._tell(f"stopping: {what} in flight is taken; Ctrl-C again stops at once", now + 60)
            case HostGivenUp():
                self._tell(f"{event.host} is left for later: {shortened(event.why, 90)}", now + 3600)
            case HostRests():
                self._tell(
                    f"{event.host} rests for {event.seconds:.0f} s: {shortened(event.why, 80)}", now + event.seconds
                )
            case RouteFailed():
                what = "withdrawn" if event.is_withdrawn else "rests"
                self._tell(f"route {event.route} {what}: {shortened(event.why, 80)}", now + 10)
            case PutOff():
                what = shortened(event.problem.what, 80)
                self._tell(
                    f"put off for {event.seconds:.0f} s: {shortened(event.url, 60)}: {what}", now + event.seconds
                )
            case _:
                pass

    def _tell(self, text: str, until: float) -> None:
        self.news, self._news_until = text, until

    @property
    def current_news(self) -> str:
        return self.news if self._clock() < self._news_until else ""

    @property
    def pace_line(self) -> str:
        """Which hosts are asked more slowly than the plan allows, and why."""
        slowed = [f"{one.host} every {one.pause_s:.1f} s: {one.why}" for one in self.paces.values()]
        return "slower    " + "; ".join(slowed[:3]) if slowed else ""

    @property
    def elapsed_s(self) -> float:
        return self._clock() - self._began

    @property
    def pages_a_second(self) -> float:
        """The pace over the last seconds."""
        now = self._clock()
        while self._recent and self._recent[0] < now - _RATE_OVER_S:
            self._recent.popleft()
        span = min(_RATE_OVER_S, max(self.elapsed_s, 0.001))
        return len(self._recent) / span

    @property
    def left_s(self) -> float | None:
        """How long it may still take, at the pace so far; None while that says nothing."""
        return self.elapsed_s * (1 - self.share) / self.share if self.share > 0.02 and self.elapsed_s > 2 else None

    @property
    def share(self) -> float:
        """How much is done, 0 to 1: settled pages of those known, and, where the site states a total, its rows that came."""
        settled = self.progress.done + self.progress.failed
        known = settled + self.progress.in_flight + self.progress.waiting
        pages = settled / known if known else 0.0
        return pages * min(1.0, self.rows / self.total) if self.total else pages

    def counts_line(self) -> str:
        """`218 of 366 known pages, 90 of 354 rows, 71.2 pages/s, …`."""
        p = self.progress
        known = p.done + p.failed + p.in_flight + p.waiting
        rows = f"{self.rows:,} of {self.total:,} rows" if self.total is not None else plural(self.rows, "row")
        parts = [
            f"{p.done + p.failed:,} of {known:,} known pages",
            rows,
            f"{self.pages_a_second:.1f} pages/s",
            f"{p.in_flight} in flight",
            f"{p.waiting:,} waiting",
        ]
        if p.failed:
            parts.append(f"{p.failed:,} failed")
        return "   ".join(parts)


@contextmanager
def display(name: str, err: TextIO, *, quiet: bool, clock: Clock = time.monotonic) -> Iterator[Callable[[Event], None]]:
    """A receiver of events that shows them until the context ends. Quiet shows nothing."""
    tally = Tally(name, clock)
    if quiet:
        yield tally.take
    elif err.isatty():
        with _live(tally, err) as receive:
            yield receive
    else:
        yield _plain(tally, err, clock)


@contextmanager
def _live(tally: Tally, err: TextIO) -> Iterator[Callable[[Event], None]]:
    from rich.live import Live

    with Live(
        get_renderable=lambda: view(tally),
        console=console(err),
        refresh_per_second=8,
        transient=True,
        redirect_stdout=False,
    ):
        yield tally.take


def view(tally: Tally) -> RenderableType:
    """The live display: name and bar, counts, and what is waited for."""
    from rich.text import Text

    filled = round(tally.share * _BAR)
    minutes, seconds = divmod(int(tally.elapsed_s), 60)
    text = Text()
    text.append(f"{tally.name}  ", "bold")
    text.append("▇" * filled, "cyan")
    text.append("·" * (_BAR - filled), "dim")
    text.append(f"  {tally.share:4.0%}   {minutes}:{seconds:02d}{_left(tally.left_s)}\n")
    text.append(f"{tally.counts_line()}\n", "dim" if not tally.progress.failed else "")
    if tally.pace_line:
        text.append(f"{tally.pace_line}\n", "yellow")
    text.append(tally.current_news, "yellow")
    return text


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
            print(f"{tally.name}: {tally.counts_line()}", file=err, flush=True)

    return receive
