"""What a run's database says, for those who only read: pages, links, rows, and how the crawl went."""

from __future__ import annotations

import sqlite3
import weakref
from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import replace
from typing import Any

import orjson

from wadi.store.archive import Location
from wadi.store.faults import DamagedRows
from wadi.store.outcome import CellProblem, FailedPage, Purpose, Role, State, StatedTotal, StoredFile, TableRows
from wadi.store.pages import (
    KNOWN,
    PAGE_COLUMNS,
    START_PAGE,
    STEP,
    Edge,
    Page,
    PageRecord,
    page_of,
    rows_digest,
)
from wadi.web.messages import Request

_EDGES = (
    "SELECT l.target, l.role, l.place, l.text, l.inputs, p.state, p.kind FROM links l JOIN pages p ON p.id = l.target"
    " WHERE l.source = ?"
)
_STARTS_AT_A_TIME = 1000


def _edge(target: int, role: int, place: int, text: str, inputs: bytes | None, state: int, kind: str) -> Edge:
    return Edge(target, Role(role), place, text, orjson.loads(inputs) if inputs else None, State(state), kind)


class RunView:
    """The database of a run, to be read."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._db = connection
        weakref.finalize(self, connection.close)  # of whoever forgets to: nothing is left open, and no warning comes

    def meta(self, name: str) -> Any:
        found = self._db.execute("SELECT value FROM meta WHERE name = ?", (name,)).fetchone()
        return orjson.loads(found[0]) if found else None

    def asked_count(self) -> int:
        """How many pages were asked for and settled."""
        counts = self.counts()
        return counts[State.DONE] + counts[State.FAILED]

    def is_in_listing(self, page: Page, kind: str, request: Request) -> bool:
        """Whether a request is for a page that the listing of `page` has had already."""
        query = f"SELECT route FROM pages WHERE kind = ? AND purpose = {Purpose.READ} AND identity = ?"
        found = self._db.execute(query, (kind, request.identity)).fetchone()
        if found is None:
            return False
        route = bytes(found[0])
        return route[: -STEP.size] == page.route[: -STEP.size] and route <= page.route

    def is_repeated(self, page: Page, digest: bytes) -> bool:
        """Whether another page of the same listing gave the very same rows."""
        query = "SELECT 1 FROM pages WHERE digest = ? AND listing = ? AND id <> ? LIMIT 1"
        return self._db.execute(query, (digest, page.route[: -STEP.size], page.id)).fetchone() is not None

    def new_rows(self, page: Page, digests: Iterable[bytes]) -> int:
        """How many of these rows the listing of `page` has not had yet."""
        query, listing = "SELECT 1 FROM seen WHERE listing = ? AND digest = ?", page.route[: -STEP.size]
        return sum(self._db.execute(query, (listing, digest)).fetchone() is None for digest in set(digests))

    def first_pages(self, kind: str, count: int) -> list[int]:
        """The numbers of the first pages of a kind that were read, in reading order."""
        which = f"kind = ? AND state = {State.DONE} AND purpose = {Purpose.READ}"
        query = f"SELECT id FROM pages WHERE {which} ORDER BY route LIMIT ?"
        return [page for (page,) in self._db.execute(query, (kind, count))]

    def hosts_asked(self) -> list[str]:
        """The hosts that some page was asked for at."""
        query = f"SELECT DISTINCT host FROM pages WHERE state <> {State.WAITING}"
        return [host for (host,) in self._db.execute(query)]

    def found(self, kind: str, request: Request) -> Location | None:
        """Where the reply to a request for a page of a kind is, if such a page was read."""
        query = f"SELECT id FROM pages WHERE kind = ? AND purpose = {Purpose.READ} AND identity = ? AND state = {State.DONE}"
        row = self._db.execute(query, (kind, request.identity)).fetchone()
        return self.location(row[0]) if row else None

    def page_before(self, page: int) -> tuple[Request, int | None] | None:
        """The page whose listing goes on with this one: its request, and the total that it states."""
        source = f"SELECT source FROM links WHERE target = ? AND role = {Role.NEXT}"
        query = f"SELECT {PAGE_COLUMNS}, total FROM pages WHERE id = ({source})"
        found = self._db.execute(query, (page,)).fetchone()
        return (page_of(*found[:-1]).request, found[-1]) if found else None

    def all_rows(self, table: str) -> Iterator[TableRows]:
        """What every page gave to a table by itself."""
        query = "SELECT page FROM rows WHERE name = ? AND NOT completes ORDER BY page"
        for (page,) in self._db.execute(query, (table,)).fetchall():
            rows = self.rows(page, table)
            if rows is not None:
                yield rows

    def known(self) -> Iterator[bytes]:
        """The rows that earlier runs have."""
        return (digest for (digest,) in self._db.execute("SELECT digest FROM seen WHERE listing = ?", (KNOWN,)))

    def unknown_rows(self, digests: Iterable[bytes]) -> int:
        """How many of these rows no earlier run has."""
        query = "SELECT 1 FROM seen WHERE listing = ? AND digest = ?"
        return sum(self._db.execute(query, (KNOWN, digest)).fetchone() is None for digest in set(digests))

    def hosts_answered(self) -> list[str]:
        """The hosts that gave some page."""
        return [host for (host,) in self._db.execute(f"SELECT DISTINCT host FROM pages WHERE state = {State.DONE}")]

    def size_bytes(self) -> int:
        """The size of all replies so far, decoded."""
        return int(self._db.execute("SELECT coalesce(sum(size_bytes), 0) FROM pages").fetchone()[0])

    def counts(self) -> dict[State, int]:
        """How many pages are in which state; those that another shard asks for are not this one's."""
        counted = dict(self._db.execute("SELECT state, count(*) FROM pages GROUP BY state"))
        return {state: counted.get(state.value, 0) for state in State if state is not State.ELSEWHERE}

    def came_at(self, page: int) -> float | None:
        """When a page's reply came, in seconds since 1970."""
        found = self._db.execute("SELECT fetched_at FROM pages WHERE id = ?", (page,)).fetchone()
        return found[0] if found else None

    def state_of(self, page: int) -> State:
        (state,) = self._db.execute("SELECT state FROM pages WHERE id = ?", (page,)).fetchone()
        return State(state)

    def status_of(self, page: int) -> int | None:
        """The status of what came for a page, good or not; None where nothing came."""
        found = self._db.execute("SELECT status FROM pages WHERE id = ?", (page,)).fetchone()
        return found[0] if found else None

    def way_of(self, page: int) -> str:
        """The named route by which a page was asked for; empty without one."""
        return str(self._db.execute("SELECT way FROM pages WHERE id = ?", (page,)).fetchone()[0])

    def kind_of(self, page: int) -> str:
        return str(self._db.execute("SELECT kind FROM pages WHERE id = ?", (page,)).fetchone()[0])

    def url_of(self, page: int) -> str:
        """The URL that the page's reply came from, or that it would be asked for at."""
        return str(self._db.execute("SELECT coalesce(final_url, url) FROM pages WHERE id = ?", (page,)).fetchone()[0])

    def edges(self, page: int) -> list[Edge]:
        """The links out of a page in reading order: opened pages by their place, then the next page of the listing."""
        return [_edge(*row) for row in self._db.execute(f"{_EDGES} ORDER BY l.role, l.place", (page,))]

    def starts(self) -> Iterator[Edge]:
        """The starts in reading order, a part of them at a time: there may be a million."""
        place = -1
        query = f"{_EDGES} AND l.role = {Role.START} AND l.place > ? ORDER BY l.place LIMIT {_STARTS_AT_A_TIME}"
        while rows := self._db.execute(query, (START_PAGE, place)).fetchall():
            for row in rows:
                yield _edge(*row)
            place = rows[-1][2]

    def rows(self, page: int, table: str) -> TableRows | None:
        """What a page gives to a table. Raises DamagedRows."""
        found = self._db.execute(
            "SELECT columns, cells, completes, problems, several, parents, digest FROM rows WHERE page = ? AND name = ?",
            (page, table),
        ).fetchone()
        if found is None:
            return None
        columns, cells, completes, problems, several, parents, digest = found
        if rows_digest(columns, cells, problems, several, parents) != digest:
            raise DamagedRows(f"the rows of page {page} in table {table} are not those that were written")
        return TableRows(
            table,
            tuple(orjson.loads(columns)),
            orjson.loads(cells),
            bool(completes),
            tuple(CellProblem(*problem) for problem in orjson.loads(problems)) if problems else (),
            orjson.loads(several) if several else {},
            orjson.loads(parents) if parents is not None else None,
        )

    def count_of_rows(self, page: int, table: str) -> int:
        """How many rows a page gives to a table by itself."""
        query = "SELECT count FROM rows WHERE page = ? AND name = ? AND NOT completes"
        found = self._db.execute(query, (page, table)).fetchone()
        return found[0] if found else 0

    def places_of_rows(self) -> list[tuple[int, str]]:
        """Pages and tables of all rows."""
        return [(page, name) for page, name in self._db.execute("SELECT page, name FROM rows ORDER BY page, name")]

    def replies(self) -> Iterator[tuple[int, str, Location]]:
        """Number, URL and place of every stored reply."""
        query = "SELECT id, url, file, offset, length FROM pages WHERE file IS NOT NULL ORDER BY id"
        for page, url, *location in self._db.execute(query):
            yield page, url, Location(*location)

    def what_is_damaged(self) -> list[str]:
        """What SQLite finds wrong with the database's own pages and indexes."""
        found = [str(row[0]) for row in self._db.execute("PRAGMA integrity_check(20)")]
        return [] if found == ["ok"] else found

    def file_of(self, kind: str, request: Request) -> tuple[State, StoredFile | None] | None:
        """What became of the download of a file; None when nothing asked for it."""
        found = self._db.execute(
            "SELECT p.state, f.path, f.size_bytes, f.type, f.sha256 FROM pages p LEFT JOIN files f ON f.page = p.id"
            " WHERE p.kind = ? AND p.identity = ?",
            (kind, request.identity),
        ).fetchone()
        if found is None:
            return None
        return State(found[0]), StoredFile(*found[1:]) if found[1] else None

    def failures(self) -> Iterator[FailedPage]:
        """Every failed page, in reading order as far as it is known."""
        query = f"SELECT kind, url, status, failure FROM pages WHERE state = {State.FAILED} ORDER BY route"
        for kind, url, status, failure in self._db.execute(query):
            yield FailedPage(kind, url, status, orjson.loads(failure))

    def failed_pages(self, count: int) -> list[tuple[int, str, str, dict[str, Any]]]:
        """The first pages that failed, in reading order: number, kind, URL and problem."""
        query = f"SELECT id, kind, url, failure FROM pages WHERE state = {State.FAILED} ORDER BY route LIMIT ?"
        return [(page, kind, url, orjson.loads(said)) for page, kind, url, said in self._db.execute(query, (count,))]

    def failure_of(self, page: int) -> tuple[int | None, str]:
        """The status of a failed page, None where nothing came, and what was wrong."""
        status, failure = self._db.execute("SELECT status, failure FROM pages WHERE id = ?", (page,)).fetchone()
        return status, str(orjson.loads(failure)["what"])

    def notes(self) -> Iterator[tuple[str, dict[str, Any]]]:
        """URL and problem of everything remarkable about pages that did not fail."""
        for url, notes in self._db.execute("SELECT url, notes FROM pages WHERE notes IS NOT NULL ORDER BY route"):
            for note in orjson.loads(notes):
                yield url, note

    def noted(self, code: str) -> dict[str, list[tuple[int, str]]]:
        """The pages with a note of this code, by kind, in reading order: number and URL."""
        found: dict[str, list[tuple[int, str]]] = {}
        query = (
            f"SELECT id, kind, url, notes FROM pages WHERE state = {State.DONE} AND notes IS NOT NULL ORDER BY route"
        )
        for page, kind, url, notes in self._db.execute(query):
            if any(note["code"] == code for note in orjson.loads(notes)):
                found.setdefault(kind, []).append((page, url))
        return found

    def opens_others(self, page: int) -> bool:
        """Whether a page led to others that are opened."""
        query = "SELECT 1 FROM links WHERE source = ? AND role = ? LIMIT 1"
        return self._db.execute(query, (page, Role.OPEN)).fetchone() is not None

    def all_pages(self) -> Iterator[PageRecord]:
        """Every page that is known, in reading order."""
        query = (
            "SELECT kind, purpose, url, final_url, state, status, tries, failure, row_count, size_bytes, fetched_at, elapsed_s,"
            " way, hops FROM pages ORDER BY route, id"
        )
        for kind, purpose, url, final_url, state, status, tries, failure, *rest, way, hops in self._db.execute(query):
            rows, size, at, seconds = rest
            yield PageRecord(
                kind=kind,
                purpose=Purpose(purpose),
                url=url,
                final_url=final_url,
                state=State(state),
                status=status,
                tries=tries,
                failure=orjson.loads(failure) if failure else None,
                rows=rows,
                size_bytes=size,
                at=at,
                seconds=seconds,
                way=way,
                hops=orjson.loads(hops) if hops else [],
            )

    def kind_counts(self) -> Counter[str]:
        """How many pages are known of each kind."""
        return Counter(dict(self._db.execute("SELECT kind, count(*) FROM pages GROUP BY kind").fetchall()))

    def gave_rows(self, kind: str) -> bool:
        """Whether some page of a kind had rows."""
        return (
            self._db.execute("SELECT 1 FROM pages WHERE kind = ? AND row_count > 0 LIMIT 1", (kind,)).fetchone()
            is not None
        )

    def totals(self) -> list[tuple[str, str, int]]:
        """Kind, URL and number of what listings state, in reading order."""
        query = "SELECT kind, url, total FROM pages WHERE total IS NOT NULL ORDER BY route"
        return [(kind, url, total) for kind, url, total in self._db.execute(query)]

    def listings(self) -> list[StatedTotal]:
        """Every listing that states a total, in reading order."""
        query = (
            f"SELECT kind, url, total, coalesce(row_count, 0), route FROM pages WHERE state = {State.DONE}"
            " AND kind IN (SELECT DISTINCT kind FROM pages WHERE total IS NOT NULL) ORDER BY route"
        )
        found: dict[bytes, tuple[str, str, int | None, int]] = {}
        for kind, url, total, rows, route in self._db.execute(query):
            first = found.get(route[: -STEP.size], (kind, url, None, 0))
            stated = first[2] if first[2] is not None else total
            found[route[: -STEP.size]] = (first[0], first[1], stated, first[3] + rows)
        return [StatedTotal(kind, url, total, rows) for kind, url, total, rows in found.values() if total is not None]

    def row_count(self) -> int:
        """Rows that pages gave to all tables, duplicates and rejects included."""
        query = "SELECT coalesce(sum(count), 0) FROM rows WHERE NOT completes"
        return int(self._db.execute(query).fetchone()[0])

    def completers(self, page: int, row: int) -> list[tuple[int, str, State]]:
        """The pages opened from a row: id, kind and state, in reading order."""
        query = (
            "SELECT p.id, p.kind, p.state FROM links l JOIN pages p ON p.id = l.target"
            " WHERE l.source = ? AND l.role = ? AND l.row = ? ORDER BY l.place"
        )
        return [(p, kind, State(state)) for p, kind, state in self._db.execute(query, (page, Role.OPEN, row))]

    def link(self, source: int, row: int, target: int) -> tuple[str, dict[str, Any]]:
        """The text and the inputs of the link by which a page was opened from a row of another."""
        query = "SELECT text, inputs FROM links WHERE source = ? AND role = ? AND row = ? AND target = ? ORDER BY place"
        text, inputs = self._db.execute(query, (source, Role.OPEN, row, target)).fetchone()
        return text, orjson.loads(inputs) if inputs else {}

    def payload(self, digest: bytes) -> Location | None:
        """Where a reply with this body is in the archive."""
        found = self._db.execute("SELECT page FROM payloads WHERE digest = ?", (digest,)).fetchone()
        return self.location(found[0]) if found else None

    def archive_ends(self) -> dict[str, int]:
        """For each file of the archive where its last committed reply ends."""
        return dict(self._db.execute("SELECT file, size FROM archived"))

    def page(self, number: int) -> Page | None:
        """A page by its number."""
        cursor = self._db.execute(f"SELECT {PAGE_COLUMNS}, state FROM pages WHERE id = ?", (number,))
        found = cursor.fetchone()
        return replace(page_of(*found[:-1]), state=State(found[-1])) if found else None

    def location(self, page: int) -> Location | None:
        """Where a page's reply is in the archive."""
        found = self._db.execute("SELECT file, offset, length FROM pages WHERE id = ?", (page,)).fetchone()
        return Location(*found) if found and found[0] else None
