"""What a page came to: from its reply to the outcome that is committed. Listings end here, are split here, go in circles here."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import orjson

from wadi.crawl.block_signals import first_words
from wadi.crawl.extract import Extract
from wadi.crawl.files import keep_file, not_the_file
from wadi.crawl.kinds import Kind
from wadi.crawl.listing import ListingPage, end_of
from wadi.crawl.previous_run import row_digests
from wadi.crawl.source import Fetched
from wadi.plan.starts import FILE, Start
from wadi.problems import Place, Problem
from wadi.store.archive import Archive, Kept
from wadi.store.outcome import Link, Outcome, Purpose, Role, TableRows
from wadi.store.pages import Page, number_in_listing
from wadi.store.state import RunState
from wadi.web.messages import FetchFailed, Reply

_EDGE_ROWS = 5


@dataclass(frozen=True)
class Reading:
    """How replies are read: the compiled kinds, and what the plan says about listings.

    `expect_places` say where `expect` stands, by kind. `keys` are the columns that tell rows apart, by table. `parts` gives
    the parts of a listing that states more than `most_shown` rows. Reading a page takes `page_time_s` at most, and of its rows
    `most_rows` are read (None: all).
    """

    kinds: Mapping[str, Kind]
    folder: Path
    expect_places: Mapping[str, str] = field(default_factory=dict)
    keys: Mapping[str, Sequence[str]] = field(default_factory=dict)
    most_shown: int | None = None
    parts: Callable[[str, Mapping[str, Any]], list[Start]] = lambda url, values: []
    page_time_s: float = 30.0
    most_rows: int | None = None


class OutcomeMaker:
    """Makes outcomes; archives replies on the way, before anything of them is committed."""

    def __init__(self, reading: Reading, state: RunState, archive: Archive) -> None:
        self._reading = reading
        self._state = state
        self._archive = archive

    def outcome(self, fetched: Fetched) -> Outcome:
        """The outcome of a page that is settled."""
        page, reply, found = fetched.page, fetched.reply, fetched.found
        if fetched.failure is not None:
            return self._failed(page, fetched.failure, fetched.kept, fetched.was)
        assert reply is not None
        kept = fetched.kept or self._archive.append(reply, page.id, fetched.packed)
        if page.kind == FILE:
            wrong = not_the_file(reply)
            file = None if wrong else keep_file(self._reading.folder, reply, self._archive.reached)
            return Outcome(page.id, reply, kept.location, failure=wrong, file=file, payload=kept.digest)
        assert found is not None
        if page.purpose is Purpose.RECHECK:
            return self._rechecked(page, reply, found, kept)
        return self._outcome(page, reply, self._reading.kinds[page.kind], found, kept)

    def _failed(self, page: Page, failure: FetchFailed, kept: Kept | None, was: Problem | None) -> Outcome:
        """A page that could not be had; a status may say that the listing is at its end, which is no failure."""
        if failure.cause == "led-elsewhere" and failure.reply is not None:
            return Outcome(page.id, elsewhere=failure.reply.request)
        if kept is None and failure.reply is not None:
            kept = self._archive.append(failure.reply, page.id)
        problem = None
        # Whether a status says that the listing is at its end.
        kind = self._reading.kinds[page.kind]
        status = failure.reply.status if failure.reply else None
        if not (kind.next is not None and number_in_listing(page.route) > 0 and status in kind.next.plan.end_status):
            problem = was or Problem(failure.cause, _with_its_words(failure))
        if kept is None:
            return Outcome(page.id, failure=problem)
        return Outcome(page.id, failure.reply, kept.location, failure=problem, payload=kept.digest)

    def _outcome(self, page: Page, reply: Reply, kind: Kind, found: Extract, kept: Kept) -> Outcome:
        number, at, payload = number_in_listing(page.route), kept.location, kept.digest
        if number == 0 and (split := self._split(page, found)) is not None:
            links, note = split
            if links:
                return Outcome(page.id, reply, at, links=links, notes=(note,), payload=payload)
            found = replace(found, notes=(*found.notes, note))
        digest = _digest(found) if kind.next is not None else None
        if digest is not None and number and self._state.is_repeated(page, digest):
            note = Problem("rows-again", "the listing shows the same rows again: it ends here", Place(reply.url))
            return Outcome(page.id, reply, at, total=found.total, notes=(*found.notes, note), payload=payload)
        row_digests = self._row_digests(kind, found)
        links, notes = self._going_on(page, kind, found, row_digests, reply)
        edge, shift = self._edges(page, kind, found)
        again, restated = self._page_before(page, kind, found, len(links))
        for what in (shift, restated):
            notes = (*notes, _shifted(what, reply)) if what else notes
        links = (*links, again) if again is not None else links
        return Outcome(
            page.id,
            reply,
            at,
            tables=found.tables,
            links=links,
            total=found.total,
            failure=found.failure,
            notes=notes,
            digest=digest,
            row_digests=row_digests,
            rows=found.row_count,
            payload=payload,
            edge=edge,
            of_pages=found.of_pages,
        )

    def _edges(self, page: Page, kind: Kind, found: Extract) -> tuple[bytes, str]:
        """What tells the page's first and last record, and what it means when the last of the page before is among its first
        ones. Of tables with a key only: other rows may well be alike."""
        key = self._reading.keys.get(kind.table or "", ())
        main = next((table for table in found.tables if table.table == kind.table), None)
        if kind.next is None or main is None or not main.rows:
            return b"", ""
        has_key = bool(set(key) & set(main.columns))
        if not has_key and not kind.next.plan.reread:
            return b"", ""
        first = row_digests(replace(main, rows=main.rows[:_EDGE_ROWS]), key) if page.edge and has_key else []
        came_again = page.edge[len(page.edge) // 2 :] in first
        return _edge_of(main, key), "the last record of the page before is on this page again" if came_again else ""

    def _page_before(self, page: Page, kind: Kind, found: Extract, place: int) -> tuple[Link | None, str]:
        """The page before in the listing: the link by which it is asked for once more, and what it means when it stated
        another total."""
        is_of_use = kind.next is not None and (found.total is not None or kind.next.plan.reread)
        before = self._state.page_before(page.id) if is_of_use and number_in_listing(page.route) else None
        if before is None or kind.next is None:
            return None, ""
        request, total = before
        is_other = total is not None and found.total is not None and total != found.total
        restated = f"the page before stated {total:,} rows, this one states {found.total:,}" if is_other else ""
        if not kind.next.plan.reread or not page.edge:
            return None, restated
        return Link(
            Role.OPEN, place, kind.name, request, deeper=False, edge=page.edge, purpose=Purpose.RECHECK
        ), restated

    def _rechecked(self, page: Page, reply: Reply, found: Extract, kept: Kept) -> Outcome:
        """A page asked for once more: its rows are not taken, only its edges are looked at."""
        name = self._reading.kinds[page.kind].table or ""
        main = next((table for table in found.tables if table.table == name), None)
        edge = _edge_of(main, self._reading.keys.get(name, ())) if main is not None and main.rows else b""
        notes = (
            () if edge == page.edge else (_shifted("asked for once more, the page begins or ends with others", reply),)
        )
        return Outcome(page.id, reply, kept.location, failure=found.failure, notes=notes, payload=kept.digest)

    def _split(self, page: Page, found: Extract) -> tuple[tuple[Link, ...], Problem] | None:
        """The parts of a listing that is longer than the site shows, none where it cannot be split further."""
        most = self._reading.most_shown
        if most is None or found.total is None or found.total <= most:
            return None
        parts = self._reading.parts(page.request.url, page.inputs)
        shown = f"the site states {found.total:,} rows and shows {most:,}"
        if not parts:
            now = "a further input under split divides it"
            what = f"{shown} of this listing, which cannot be split further: rows are missing"
            return (), Problem("part-too-long", what, Place(page.request.url), now=now)
        links = tuple(
            Link(
                Role.OPEN,
                place,
                page.kind,
                replace(part.request, route=page.request.route),
                inputs=dict(part.inputs),
                deeper=False,
            )
            for place, part in enumerate(parts)
        )
        return links, Problem("split", f"{shown}, so {len(parts)} parts are asked for", Place(page.request.url))

    def _row_digests(self, kind: Kind, found: Extract) -> tuple[bytes, ...]:
        if kind.next is None or kind.next.plan.end_when not in ("no new rows", "known rows"):
            return ()
        keys = self._reading.keys
        tables = [table for table in found.tables if table.table == kind.table]
        return tuple(digest for table in tables for digest in row_digests(table, keys.get(table.table, ())))

    def _going_on(
        self, page: Page, kind: Kind, found: Extract, digests: tuple[bytes, ...], reply: Reply
    ) -> tuple[tuple[Link, ...], tuple[Problem, ...]]:
        """The links without that to a next page where the listing is at its end, and the notes with why it is unless that
        was to be."""
        following = next((link for link in found.links if link.role is Role.NEXT), None)
        if following is None or kind.next is None:
            return found.links, found.notes
        listing = ListingPage(page, kind.next, found, following, digests, self._state, reply.url)
        ended = end_of(listing)
        if ended is None:
            return found.links, found.notes
        others = tuple(link for link in found.links if link is not following)
        return others, (*found.notes, ended.note) if ended.note is not None else found.notes


def _with_its_words(failure: FetchFailed) -> str:
    """What failed, and the first words of what the host says to it."""
    said = first_words(failure.reply) if failure.reply is not None else ""
    return f'{failure.what}: "{said}"' if said else failure.what


def _edge_of(rows: TableRows, key: Sequence[str]) -> bytes:
    """What tells the first and the last of rows."""
    return b"".join(row_digests(replace(rows, rows=[rows.rows[0], rows.rows[-1]]), key))


def _shifted(what: str, reply: Reply) -> Problem:
    now = "records came or went meanwhile, some may be missing:  wadi run … --since RUN  reads it again"
    return Problem("listing-shifted", f"{what}: the listing shifted while it was read", Place(reply.url), now=now)


def _digest(found: Extract) -> bytes | None:
    """What tells the rows of a page from those of another; None when it has none."""
    rows = [orjson.dumps(table.rows) for table in found.tables if table.rows and not table.completes]
    return hashlib.blake2b(b"\n".join(rows), digest_size=16).digest() if rows else None
