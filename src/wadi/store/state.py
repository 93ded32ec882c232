"""The run's database: pages and their states, links between them, rows and problems. One writer at a time.

Each page's outcome is one transaction (several at once when several are ready). SQLite in WAL mode, so that a table
can be exported while a crawl goes on.
"""

from __future__ import annotations

import sqlite3
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Set
from dataclasses import replace
from pathlib import Path
from typing import Any

import orjson

from wadi.problems import Place, Problem, RunError
from wadi.store.archive import Location
from wadi.store.crash_points import Reached, unheard
from wadi.store.outcome import CellProblem, Outcome, Role, State, StoredFile, TableRows, packed_rows
from wadi.store.pages import (
    KNOWN,
    PAGE_COLUMNS,
    SCHEMA,
    SCHEMA_VERSION,
    START_PAGE,
    STEP,
    Edge,
    Page,
    PageRecord,
    page_of,
    route_of,
)
from wadi.store.queue import Queue
from wadi.urls import host_of
from wadi.web.messages import Request

SoFar = tuple[int, int, bytes, int | None]
"""What is known of a listing before a page: its rows, last pages without any, the edge of the one before, how many there are."""


class RunState:
    """An open run database. Use as a context manager."""

    def __init__(self, connection: sqlite3.Connection, path: Path, reached: Reached = unheard) -> None:
        self._db = connection
        self.path = path
        self.reached = reached
        self._added = 0
        self.hosts_added: set[str] = set()
        """Hosts for which the last commit has brought pages to ask for."""
        self.queue = Queue(connection)

    @classmethod
    def create(cls, path: Path, reached: Reached = unheard) -> RunState:
        """A new, empty database."""
        connection = sqlite3.connect(path, isolation_level=None, check_same_thread=False)
        connection.executescript("PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL;" + SCHEMA)
        state = cls(connection, path, reached)
        state.set_meta("schema", SCHEMA_VERSION)
        return state

    @classmethod
    def open(cls, path: Path, reached: Reached = unheard) -> RunState:
        """An existing database. Raises RunError when it is damaged or of another version."""
        try:
            connection = sqlite3.connect(
                f"file:{path}?mode=rw", uri=True, isolation_level=None, check_same_thread=False
            )
            state = cls(connection, path, reached)
            version = state.meta("schema")
        except sqlite3.Error as error:
            raise RunError(
                Problem("damaged-run", f"the run's database cannot be read: {error}", Place(str(path)))
            ) from error
        if version != SCHEMA_VERSION:
            what = f"the run was written by another version of Wadi (format {version}, this one reads {SCHEMA_VERSION})"
            raise RunError(Problem("damaged-run", what, Place(str(path))))
        return state

    def __enter__(self) -> RunState:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        self._db.close()

    # -- what the run is

    def set_meta(self, name: str, value: Any) -> None:
        self._db.execute("INSERT OR REPLACE INTO meta VALUES (?, ?)", (name, orjson.dumps(value)))

    def meta(self, name: str) -> Any:
        found = self._db.execute("SELECT value FROM meta WHERE name = ?", (name,)).fetchone()
        return orjson.loads(found[0]) if found else None

    # -- writing

    def add_starts(self, starts: Iterable[tuple[str, Request, dict[str, Any]]]) -> None:
        """The start pages in reading order: page kind, request, input values."""
        self._db.execute("BEGIN")
        for place, (kind, request, inputs) in enumerate(starts):
            kept = orjson.dumps(inputs)
            target = self._page(kind, request, STEP.pack(place) + STEP.pack(0), inputs=kept)
            self._db.execute(
                "INSERT INTO links VALUES (?, ?, ?, ?, NULL, '', ?)", (START_PAGE, Role.START, place, target, kept)
            )
        self._db.execute("COMMIT")

    def commit(self, outcomes: Iterable[Outcome]) -> int:
        """Keep what pages came to, all of it or, if the process dies, nothing of it. Returns how many pages are new."""
        self._added = 0
        self.hosts_added = set()
        self._db.execute("BEGIN IMMEDIATE")
        try:
            ends: dict[str, int] = {}
            for outcome in outcomes:
                self._keep(outcome)
                if (at := outcome.location) is not None:
                    ends[at.file] = max(ends.get(at.file, 0), at.offset + at.length)
            self._db.executemany(
                "INSERT INTO archived VALUES (?, ?) ON CONFLICT DO UPDATE SET size = max(size, excluded.size)",
                ends.items(),
            )
            self.reached("commit-open")
        except BaseException:
            self._db.execute("ROLLBACK")
            raise
        self._db.execute("COMMIT")
        self.reached("committed")
        return self._added

    def _keep(self, outcome: Outcome) -> None:
        (route, depth, rows_before, dry, status, last) = self._db.execute(
            "SELECT route, depth, rows_before, dry, status, last FROM pages WHERE id = ?", (outcome.page,)
        ).fetchone()
        reply, location = outcome.reply, outcome.location
        self._db.execute(
            "UPDATE pages SET state=?, status=?, final_url=?, fetched_at=?, elapsed_s=?, size_bytes=?, file=?, offset=?,"
            " length=?, total=?, failure=?, notes=?, listing=?, digest=?, row_count=?, tries=?, hops=? WHERE id=?",
            (
                outcome.state,
                *(
                    (reply.status, reply.url, reply.started_at, reply.elapsed_s, reply.size_bytes)
                    if reply
                    else (None,) * 5
                ),
                *((location.file, location.offset, location.length) if location else (None,) * 3),
                outcome.total,
                orjson.dumps(outcome.failure.as_dict()) if outcome.failure else None,
                orjson.dumps([note.as_dict() for note in outcome.notes]) if outcome.notes else None,
                route[: -STEP.size] if outcome.digest else None,
                outcome.digest,
                outcome.rows,
                outcome.tries,
                orjson.dumps([(hop.url, hop.status) for hop in reply.hops]) if reply and reply.hops else None,
                outcome.page,
            ),
        )
        if outcome.file is not None:
            kept = outcome.file
            self._db.execute(
                "INSERT OR REPLACE INTO files VALUES (?, ?, ?, ?, ?)",
                (outcome.page, kept.path, kept.size_bytes, kept.type, kept.sha256),
            )
        if outcome.payload:
            self._db.execute("INSERT OR IGNORE INTO payloads VALUES (?, ?)", (outcome.payload, outcome.page))
        if outcome.row_digests:
            listing = route[: -STEP.size]
            self._db.executemany(
                "INSERT OR IGNORE INTO seen VALUES (?, ?)", [(listing, digest) for digest in outcome.row_digests]
            )
        if status is not None:  # it was read before, and is read again
            self._db.execute("DELETE FROM links WHERE source = ?", (outcome.page,))
            self._db.execute("DELETE FROM rows WHERE page = ?", (outcome.page,))
        for rows in outcome.tables:
            self._keep_rows(outcome.page, rows)
        listed = (rows_before + (outcome.rows or 0), dry + 1 if outcome.rows == 0 else 0)
        self._keep_links(outcome, route, depth, listed, outcome.of_pages if outcome.of_pages is not None else last)

    def _keep_links(
        self, outcome: Outcome, route: bytes, depth: int, listed: tuple[int, int], last: int | None
    ) -> None:
        """Where the page leads; `listed` are the rows of its listing so far, and its last pages without any; `last` is the number
        of its last page, as far as stated."""
        for link in outcome.links:
            kept_inputs = orjson.dumps(link.inputs) if link.inputs else None
            if link.role is Role.NEXT:
                so_far: SoFar = (*listed, outcome.edge, last)
                target = self._page(link.kind, link.request, route_of(route, link), depth, so_far)
            else:
                steps = depth + link.deeper
                so_far = (0, 0, link.edge, None)
                target = self._page(link.kind, link.request, route_of(route, link), steps, so_far, kept_inputs)
            self._db.execute(
                "INSERT OR REPLACE INTO links VALUES (?, ?, ?, ?, ?, ?, ?)",
                (outcome.page, link.role, link.place, target, link.row, link.text, kept_inputs),
            )

    def _keep_rows(self, page: int, rows: TableRows) -> None:
        problems = [(p.row, p.column, p.raw, p.code, p.what, p.why) for p in rows.problems]
        self._db.execute(
            "INSERT OR REPLACE INTO rows VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (
                page,
                rows.table,
                rows.completes,
                orjson.dumps(rows.columns),
                len(rows.rows),
                packed_rows(rows.rows).packed,
                orjson.dumps(problems) if problems else None,
                orjson.dumps(rows.several) if rows.several else None,
                orjson.dumps(rows.parents) if rows.parents is not None else None,
            ),
        )

    def _page(
        self,
        kind: str,
        request: Request,
        route: bytes,
        depth: int = 0,
        so_far: SoFar = (0, 0, b"", None),
        inputs: bytes | None = None,
    ) -> int:
        """The id of the page, which is new or known; a known one that waits moves up when this route is the lesser."""
        identity = request.identity
        found = self._db.execute(
            "SELECT id, state, route, depth FROM pages WHERE kind = ? AND identity = ?", (kind, identity)
        ).fetchone()
        if found is None:
            headers, host = orjson.dumps(request.headers) if request.headers else None, host_of(request.url)
            cursor = self._db.execute(
                "INSERT INTO pages (kind, identity, host, method, url, headers, body, route,"
                " depth, rows_before, dry, edge, last, inputs, way)"
                " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (
                    kind,
                    identity,
                    host,
                    request.method,
                    request.url,
                    headers,
                    request.body or None,
                    route,
                    depth,
                    *so_far,
                    inputs,
                    request.route,
                ),
            )
            assert cursor.lastrowid is not None
            self._added += 1
            self.hosts_added.add(host)
            return cursor.lastrowid
        page, state, known_route, known_depth = found
        if state == State.WAITING and route < known_route:
            self._db.execute("UPDATE pages SET route = ? WHERE id = ?", (route, page))
        if depth < known_depth:
            self._bring_nearer(page, depth)
        return int(page)

    def _bring_nearer(self, page: int, depth: int) -> None:
        """A page that is nearer to the starts than was known, with all that it leads to, where depth counts at all."""
        todo = [(page, depth)]
        if self.queue.most_depth is not None:
            self.hosts_added.update(self.queue.hosts())
        while todo:
            page, depth = todo.pop()
            self._db.execute("UPDATE pages SET depth = ? WHERE id = ?", (depth, page))
            if self.queue.most_depth is None:
                return
            query = (
                "SELECT p.id, l.role FROM links l JOIN pages p ON p.id = l.target"
                " WHERE l.source = ? AND p.depth > ? + (l.role = 1)"
            )
            todo += [(target, depth + (role == Role.OPEN)) for target, role in self._db.execute(query, (page, depth))]

    def ask_again(self, chosen: Callable[[str, State], bool]) -> int:
        """Let pages wait again: those whose URL and state are chosen. What they gave does not count until they are read again."""
        settled = self._db.execute("SELECT id, url, state FROM pages WHERE state <> 0").fetchall()
        numbers = [(number,) for number, url, state in settled if chosen(url, State(state))]
        self._db.executemany("UPDATE pages SET state = 0 WHERE id = ?", numbers)
        return len(numbers)

    def ask_failed_again(self, codes: Set[str]) -> int:
        """Let pages wait again that failed by one of these problems; returns how many there are."""
        failed = self._db.execute("SELECT id, failure FROM pages WHERE state = 2").fetchall()
        numbers = [(page,) for page, failure in failed if orjson.loads(failure)["code"] in codes]
        self._db.executemany("UPDATE pages SET state = 0 WHERE id = ?", numbers)
        return len(numbers)

    # -- reading

    def asked_count(self) -> int:
        """How many pages were asked for and settled."""
        counts = self.counts()
        return counts[State.DONE] + counts[State.FAILED]

    def is_in_listing(self, page: Page, kind: str, request: Request) -> bool:
        """Whether a request is for a page that the listing of `page` has had already."""
        query = "SELECT route FROM pages WHERE kind = ? AND identity = ?"
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
        query = "SELECT id FROM pages WHERE kind = ? AND state = 1 ORDER BY route LIMIT ?"
        return [page for (page,) in self._db.execute(query, (kind, count))]

    def hosts_asked(self) -> list[str]:
        """The hosts that some page was asked for at."""
        return [host for (host,) in self._db.execute("SELECT DISTINCT host FROM pages WHERE state <> 0")]

    def found(self, kind: str, request: Request) -> Location | None:
        """Where the reply to a request for a page of a kind is, if such a page was read."""
        query = "SELECT id FROM pages WHERE kind = ? AND identity = ? AND state = 1"
        row = self._db.execute(query, (kind, request.identity)).fetchone()
        return self.location(row[0]) if row else None

    def page_before(self, page: int) -> tuple[Request, int | None] | None:
        """The page whose listing goes on with this one: its request, and the total that it states."""
        query = f"SELECT {PAGE_COLUMNS}, total FROM pages WHERE id = (SELECT source FROM links WHERE target = ? AND role = 2)"
        found = self._db.execute(query, (page,)).fetchone()
        return (page_of(*found[:-1]).request, found[-1]) if found else None

    def all_rows(self, table: str) -> Iterator[TableRows]:
        """What every page gave to a table by itself."""
        query = "SELECT page FROM rows WHERE name = ? AND NOT completes ORDER BY page"
        for (page,) in self._db.execute(query, (table,)).fetchall():
            rows = self.rows(page, table)
            if rows is not None:
                yield rows

    def add_known(self, digests: Iterable[bytes]) -> None:
        """Rows that an earlier run has."""
        self._db.execute("BEGIN")
        self._db.executemany("INSERT OR IGNORE INTO seen VALUES (?, ?)", ((KNOWN, digest) for digest in digests))
        self._db.execute("COMMIT")

    def known(self) -> Iterator[bytes]:
        """The rows that earlier runs have."""
        return (digest for (digest,) in self._db.execute("SELECT digest FROM seen WHERE listing = ?", (KNOWN,)))

    def unknown_rows(self, digests: Iterable[bytes]) -> int:
        """How many of these rows no earlier run has."""
        query = "SELECT 1 FROM seen WHERE listing = ? AND digest = ?"
        return sum(self._db.execute(query, (KNOWN, digest)).fetchone() is None for digest in set(digests))

    def hosts_answered(self) -> list[str]:
        """The hosts that gave some page."""
        return [host for (host,) in self._db.execute("SELECT DISTINCT host FROM pages WHERE state = 1")]

    def size_bytes(self) -> int:
        """The size of all replies so far, decoded."""
        return int(self._db.execute("SELECT coalesce(sum(size_bytes), 0) FROM pages").fetchone()[0])

    def counts(self) -> dict[State, int]:
        """How many pages are in which state."""
        counted = dict(self._db.execute("SELECT state, count(*) FROM pages GROUP BY state"))
        return {state: counted.get(state.value, 0) for state in State}

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
        cursor = self._db.execute(
            "SELECT l.target, l.role, l.place, l.text, l.inputs, p.state, p.kind FROM links l JOIN pages p ON p.id = l.target"
            " WHERE l.source = ? ORDER BY l.role, l.place",
            (page,),
        )
        return [
            Edge(target, Role(role), place, text, orjson.loads(inputs) if inputs else None, State(state), kind)
            for target, role, place, text, inputs, state, kind in cursor
        ]

    def rows(self, page: int, table: str) -> TableRows | None:
        """What a page gives to a table."""
        found = self._db.execute(
            "SELECT columns, cells, completes, problems, several, parents FROM rows WHERE page = ? AND name = ?",
            (page, table),
        ).fetchone()
        if found is None:
            return None
        columns, cells, completes, problems, several, parents = found
        return TableRows(
            table,
            tuple(orjson.loads(columns)),
            orjson.loads(cells),
            bool(completes),
            tuple(CellProblem(*problem) for problem in orjson.loads(problems)) if problems else (),
            orjson.loads(several) if several else {},
            orjson.loads(parents) if parents is not None else None,
        )

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

    def failures(self) -> Iterator[tuple[str, str, dict[str, Any]]]:
        """Kind, URL and problem of every failed page, in reading order as far as it is known."""
        query = "SELECT kind, url, failure FROM pages WHERE state = ? ORDER BY route"
        for kind, url, failure in self._db.execute(query, (State.FAILED,)):
            yield kind, url, orjson.loads(failure)

    def failed_pages(self, count: int) -> list[tuple[int, str, str, dict[str, Any]]]:
        """The first pages that failed, in reading order: number, kind, URL and problem."""
        query = "SELECT id, kind, url, failure FROM pages WHERE state = 2 ORDER BY route LIMIT ?"
        return [(page, kind, url, orjson.loads(told)) for page, kind, url, told in self._db.execute(query, (count,))]

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
        query = "SELECT id, kind, url, notes FROM pages WHERE state = 1 AND notes IS NOT NULL ORDER BY route"
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
            "SELECT kind, url, final_url, state, status, tries, failure, row_count, size_bytes, fetched_at, elapsed_s, way, hops"
            " FROM pages ORDER BY route, id"
        )
        for kind, url, final_url, state, status, tries, failure, rows, size, at, seconds, way, hops in self._db.execute(
            query
        ):
            problem = orjson.loads(failure) if failure else None
            on_the_way = orjson.loads(hops) if hops else []
            yield PageRecord(
                kind, url, final_url, State(state), status, tries, problem, rows, size, at, seconds, way, on_the_way
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

    def listings(self) -> list[tuple[str, str, int, int]]:
        """Every listing that states a total: kind, URL of its first page, what that states, rows that its pages gave."""
        query = (
            "SELECT kind, url, total, coalesce(row_count, 0), route FROM pages WHERE state = 1"
            " AND kind IN (SELECT DISTINCT kind FROM pages WHERE total IS NOT NULL) ORDER BY route"
        )
        found: dict[bytes, tuple[str, str, int | None, int]] = {}
        for kind, url, total, rows, route in self._db.execute(query):
            first = found.get(route[: -STEP.size], (kind, url, None, 0))
            stated = first[2] if first[2] is not None else total
            found[route[: -STEP.size]] = (first[0], first[1], stated, first[3] + rows)
        return [(kind, url, total, rows) for kind, url, total, rows in found.values() if total is not None]

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

    def hold_archive(self, sizes: Mapping[str, int]) -> None:
        """Files of the archive that are whole and belong to another run as well: nothing of them is adopted or cut."""
        self._db.executemany("INSERT OR REPLACE INTO archived VALUES (?, ?)", list(sizes.items()))

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
