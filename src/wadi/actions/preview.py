"""A rehearsal: a plan tried on as few pages as tell the truth, with replies kept for the day.

The pages go the way of a run: one engine, one assembly; only which pages are asked for is chosen here.
"""

from __future__ import annotations

import asyncio
import contextlib
import random
from collections import Counter
from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any

from wadi.actions.begin import no_such_files
from wadi.actions.readers import reading_by
from wadi.actions.setup import Credentials
from wadi.actions.site import Site
from wadi.crawl.agenda import Choice
from wadi.crawl.engine import Engine
from wadi.crawl.kinds import Kind
from wadi.crawl.source import Fetched, Source
from wadi.crawl.task import Room, Task
from wadi.plan.columns import Column, tables_of
from wadi.plan.local import NoSuchFiles, is_of_files
from wadi.plan.model import Plan
from wadi.plan.reader import LoadedPlan
from wadi.plan.starts import FILE, SITEMAP, count_starts, starts_of, templates_of, ways_in_vain
from wadi.problems import CrawlError, Problem
from wadi.store.archive import NoArchive
from wadi.store.outcome import CellProblem, Outcome, Purpose, Role, TableRows
from wadi.store.page_cache import PageCache, cache_folder
from wadi.store.pages import Page
from wadi.store.state import RunState
from wadi.table.assemble import Assembly
from wadi.table.cells import is_missing
from wadi.table.derived import TableContext
from wadi.urls import without_secret
from wadi.web.hosts import Hosts, Pace
from wadi.web.loops import fast_loop, in_loop
from wadi.web.messages import FetchFailed, Reply

DETAILS = 5
_KNOWN = 10_000
MOST_ROWS = 1000
"""Rows of one page that are read: enough for shares and samples, and fast on the longest pages."""
Near = Callable[[Kind, Reply], list[str]]
Report = Callable[[str, str], None]
"""Called before each page with its kind and URL."""


@dataclass(slots=True)
class FieldSeen:
    """How a field did on the pages of one kind: rows, filled ones, those with several matches, problems, samples."""

    kind: str
    table: str
    name: str
    rows: int = 0
    filled: int = 0
    several: int = 0
    problems: list[CellProblem] = field(default_factory=list)
    samples: list[str] = field(default_factory=list)


@dataclass(slots=True)
class KindSeen:
    """The pages of one kind that were read: how many, their bytes and seconds, rows, links out by target."""

    pages: int = 0
    failed: int = 0
    size_bytes: int = 0
    elapsed_s: float = 0.0
    rows: int = 0
    total: int | None = None
    links: Counter[str] = field(default_factory=Counter)
    has_next: bool = False
    rowless: int = 0
    """Pages without rows on which nothing says that they are empty."""
    hints: list[str] = field(default_factory=list)
    """Where a page gave no rows: what on it is near to what was looked for."""

    @property
    def is_rowless(self) -> bool:
        """Whether no page gave rows or led on, and one should have."""
        return bool(self.rowless) and not self.rows and not self.links


@dataclass(frozen=True, slots=True)
class Estimate:
    """What the run would cost: requests (at least that many when not `known`), seconds at the plan's pace, bytes."""

    requests: int
    seconds: float
    size_bytes: int
    known: bool
    by_kind: dict[str, int]


@dataclass(frozen=True)
class TableSeen:
    """The first rows of a table, cells in the order of the columns."""

    name: str
    columns: list[Column]
    rows: list[list[Any]]


@dataclass(frozen=True)
class Rehearsal:
    """What came of a rehearsal."""

    tables: list[TableSeen]
    fields: list[FieldSeen]
    kinds: dict[str, KindSeen]
    failures: list[Problem]
    notes: list[Problem]
    pages: list[tuple[str, str, bool]]
    estimate: Estimate
    unopened: dict[str, str]
    """Page kinds that no page led to although pages that should lead there were read, with what should have led there."""

    @property
    def from_cache(self) -> int:
        """How many pages came from today's cache."""
        return sum(kept for _, _, kept in self.pages)


def rehearse(
    loaded: LoadedPlan,
    *,
    rows: int = 10,
    kind: str | None = None,
    sample: int | None = None,
    seed: int = 1,
    fresh: bool = False,
    cache: PageCache | None = None,
    report: Report = lambda kind, url: None,
    credentials: Credentials | None = None,
    near: Near = lambda kind, reply: [],
) -> Rehearsal:
    """Try a plan on the first page of every kind and five detail pages, or on `sample` pages picked at random from all known.

    `kind` wants pages of this kind only (those that lead there are read too). `near` says what on a page without rows is near to
    what was looked for. Raises CrawlError when no start can be read.
    """
    loaded.require_code()
    with (
        contextlib.closing(
            Site(loaded, cache or PageCache(cache_folder()), fresh=fresh, credentials=credentials)
        ) as site,
        RunState.create(
            Path(":memory:")
        ) as state,  # SQLite's name for a database that is nowhere: nothing is left of it
    ):
        plan = loaded.plan
        try:
            first = next(starts_of(plan, loaded.folder))
        except NoSuchFiles as error:
            raise no_such_files(error) from error
        state.add_starts([(first.kind, first.request, dict(first.inputs))])
        reading = reading_by(loaded, datetime.now().astimezone().year, loaded.folder, MOST_ROWS)
        source = _CacheSource(site, reading.kinds, report)
        seen = _Seen(reading.kinds, source, near)
        choice = _Choice(state, seen, {kind} if kind else set(reading.kinds), sample, random.Random(seed))
        engine = Engine(
            Task(reading, Room(1)), state, NoArchive(), source, lambda event: None, choice=choice, settled=seen.take
        )
        in_loop(engine.crawl(), fast_loop)
        if not any(counted.pages for counted in seen.kinds.values()):
            raise CrawlError(seen.failures or Problem("unreachable", "no start page could be read"))
        delay_s = site.delay_s(first.request.url)
        context = TableContext(datetime.now().astimezone().year, loaded.functions, b"rehearsal")
        tables = [_table(state, plan, name, rows, context) for name in tables_of(plan)]
    return Rehearsal(
        tables,
        list(seen.fields.values()),
        seen.kinds,
        seen.failures,
        seen.notes,
        seen.pages,
        _estimate(loaded, seen.kinds, delay_s),
        _unopened(plan, seen.kinds) if kind is None and sample is None else {},
    )


class _CacheSource(Source):
    """The site with today's cache before it: one page after the other."""

    def __init__(self, site: Site, kinds: Mapping[str, Kind], report: Report) -> None:
        super().__init__(Hosts(Pace()))
        self._site = site
        self._kinds = kinds
        self._report = report
        self.cached: set[int] = set()
        """The pages that came from the cache."""

    async def fetch(self, page: Page) -> Fetched:
        self._report(page.kind, without_secret(page.request.url))
        request = self._kinds[page.kind].shown(page.request)
        try:
            reply, is_cached = await asyncio.to_thread(self._site.reply, request)
        except FetchFailed as failure:
            return Fetched(page, failure=failure)
        if is_cached:
            self.cached.add(page.id)
        return Fetched(page, reply)


class _Choice(Choice):
    """Which pages are read, one after the other: each choice is made from what is known by then. `wanted` kinds are read, and
    those that lead there; or `sample` pages are picked at random of all that are known."""

    def __init__(
        self, state: RunState, seen: _Seen, wanted: Collection[str], sample: int | None, rng: random.Random
    ) -> None:
        self._state = state
        self._seen = seen
        self._wanted = wanted
        self._sample = sample
        self._rng = rng
        self._tried: Counter[str] = Counter()

    def choose(self, now: float, may_send: Callable[[Page, int], bool]) -> list[Page]:
        tried, counted = self._tried.total(), sum(kind.pages + kind.failed for kind in self._seen.kinds.values())
        known = self._state.queue.first(_KNOWN) if tried == counted else []
        waiting = [page for page in known if page.kind != FILE and page.purpose is Purpose.READ]
        if self._sample is not None:
            chosen = self._rng.choice(waiting) if waiting and tried < self._sample else None
        else:
            chosen = next((page for page in waiting if self._tried[page.kind] < self._enough(page.kind)), None)
        if chosen is None:
            return []
        self._tried[chosen.kind] += 1
        return [chosen]

    def _enough(self, kind: str) -> int:
        """How many pages of a kind are read: one, or five of those that lead nowhere; failed ones are made up for, once each."""
        if kind == SITEMAP:
            return 2  # an index, and one of its parts
        leads_there = not self._seen.compiled[kind].is_leaf
        if kind not in self._wanted and not leads_there:
            return 0
        return (1 if leads_there else DETAILS) + min(self._seen.kinds[kind].failed, 2)


class _Seen:
    """What is gathered page by page."""

    def __init__(self, compiled: Mapping[str, Kind], source: _CacheSource, near: Near) -> None:
        self.compiled = compiled
        self.kinds: dict[str, KindSeen] = {name: KindSeen() for name in compiled}
        self.fields: dict[tuple[str, str, str], FieldSeen] = {}
        self.failures: list[Problem] = []
        self.notes: list[Problem] = []
        self.pages: list[tuple[str, str, bool]] = []
        self._source = source
        self._near = near

    def take(self, fetched: Fetched, outcome: Outcome) -> None:
        """Count in a page that was read."""
        page, found, reply = fetched.page, fetched.found, fetched.reply
        seen = self.kinds[page.kind]
        if reply is not None or (fetched.failure is not None and fetched.failure.reply is not None):
            self.pages.append((page.kind, without_secret(page.request.url), page.id in self._source.cached))
        failure = found.failure if found is not None else None
        if fetched.failure is not None:
            failure = Problem(fetched.failure.cause, fetched.failure.what)
        if failure is not None or found is None or reply is None:
            seen.failed += 1
            self.failures += [failure] if failure is not None else []
            return
        self._count(page, seen, reply, found.tables)
        seen.rows += (found.row_count or len(found.tables[0].rows)) if found.tables else 0
        if found.row_count == 0 and not seen.hints:
            seen.hints = self._near(self.compiled[page.kind], reply)
        seen.total = found.total if found.total is not None else seen.total
        seen.rowless += any(note.code == "rowless" for note in found.notes)
        seen.links.update(link.kind for link in found.links if link.role is Role.OPEN)
        seen.has_next = seen.has_next or any(link.role is Role.NEXT for link in found.links)
        self.notes += found.notes

    def _count(self, page: Page, seen: KindSeen, reply: Reply, tables: tuple[TableRows, ...]) -> None:
        seen.pages += 1
        seen.size_bytes += len(reply.body)
        seen.elapsed_s += reply.elapsed_s
        by_route = {field.name for field in self.compiled[page.kind].fields if field.by_route}
        for table in tables:
            for place, name in enumerate(table.columns):
                if name in by_route:
                    continue
                counted = self.fields.setdefault(
                    (page.kind, table.table, name), FieldSeen(page.kind, table.table, name)
                )
                cells = [row[place] for row in table.rows]
                filled = [cell for cell in cells if not is_missing(cell)]
                counted.rows += len(cells)
                counted.filled += len(filled)
                counted.several += table.several.get(name, 0)
                counted.problems += [problem for problem in table.problems if problem.column == name]
                counted.samples = list(dict.fromkeys([*counted.samples, *map(_shown, filled)]))[:3]


def _shown(cell: Any) -> str:
    return "; ".join(map(str, cell)) if isinstance(cell, list) else str(cell)


def _unopened(plan: Plan, kinds: dict[str, KindSeen]) -> dict[str, str]:
    gave = {
        name
        for name, counted in kinds.items()
        if (counted.rows if name in plan.page and plan.page[name].rows else counted.pages)
    }
    known = {target for kind in kinds.values() for target in kind.links}
    return ways_in_vain(plan, gave, known)


def _table(state: RunState, plan: Plan, name: str, rows: int, context: TableContext) -> TableSeen:
    assembly = Assembly(state, plan, name, limit=rows, context=context)
    return TableSeen(name, assembly.columns, list(assembly.rows()))


def _estimate(loaded: LoadedPlan, kinds: dict[str, KindSeen], delay_s: float = 0.0) -> Estimate:
    """Requests by kind from the stated total and the rows a page, times the starts; time by the plan's pause and parallelism,
    and by the pause that robots.txt asks for."""
    plan = loaded.plan
    counts: dict[str, int] = dict(count_starts(plan, loaded.folder))
    start = kinds[plan.start.page]
    per_page = start.rows / start.pages if start.pages else 0
    known, pages = True, 1
    if start.has_next:
        known = start.total is not None and per_page > 0
        pages = -(-start.total // round(per_page)) if start.total is not None and per_page >= 1 else 2
    starts = counts.get(plan.start.page, 0)
    counts = {name: count * pages if name == plan.start.page else count for name, count in counts.items()}
    todo = list(counts)
    while todo:
        name = todo.pop(0)
        seen = kinds[name]
        for target, links in sorted(seen.links.items(), key=lambda link: link[0] != name):
            share = links / seen.pages if seen.pages else 0
            if target == name:  # pages that open their like: as many as were seen, and who knows how many below
                counts[name] += links
                known = known and name == SITEMAP
                continue
            is_row_by_row = name == plan.start.page and start.total is not None and abs(share - per_page) < 0.5
            expected = (
                start.total * starts if is_row_by_row and start.total is not None else round(counts[name] * share)
            )
            if target not in counts:
                counts[target] = expected
                todo.append(target)
    requests = sum(counts.values())
    size = sum(count * (kinds[name].size_bytes // max(kinds[name].pages, 1)) for name, count in counts.items())
    reply_s = sum(seen.elapsed_s for seen in kinds.values()) / max(sum(seen.pages for seen in kinds.values()), 1)
    known = known and not any(counted.has_next for name, counted in kinds.items() if name != plan.start.page)
    is_local = all(is_of_files(template) for _, template in templates_of(plan))
    pause = 0.0 if is_local else plan.manners.pause
    pace = max(pause, delay_s, reply_s / plan.manners.parallel)
    return Estimate(requests, requests * pace, size, known, counts)
