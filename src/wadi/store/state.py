"""The run's database as it is written: pages and their states, links between them, rows and problems. One writer at a time.

Each page's outcome is one transaction (several at once when several are ready). SQLite in WAL mode, so that a table
can be exported while a crawl goes on.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterable, Mapping, Set
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import orjson

from wadi.problems import CrawlError, Place, Problem, RunError, WadiError
from wadi.store.connect import connect, is_writable
from wadi.store.crash_points import Reached, unheard
from wadi.store.faults import disk_problem
from wadi.store.outcome import Outcome, Purpose, Role, State, TableRows
from wadi.store.pages import (
    KNOWN,
    SCHEMA,
    SCHEMA_VERSION,
    START_PAGE,
    STEP,
    owner_of,
    route_of,
    rows_digest,
    shown_of,
)
from wadi.store.queue import Queue
from wadi.store.view import RunView
from wadi.version import __version__
from wadi.web.messages import Request

SoFar = tuple[int, int, bytes, int | None]
"""What is known of a listing before a page: its rows, last pages without any, the edge of the one before, how many there are."""


@dataclass(frozen=True, slots=True)
class New:
    """What a commit brought: how many pages are new, and the hosts for which there are pages to ask for."""

    pages: int
    hosts: frozenset[str]


class CommitGivenUp(Exception):
    """What was about to be committed is not: somebody does not want to wait for it."""


class RunState(RunView):
    """An open run database: what `RunView` reads, and how it is written. Use as a context manager."""

    def __init__(
        self, connection: sqlite3.Connection, path: Path, reached: Reached = unheard, *, can_write: bool = True
    ) -> None:
        super().__init__(connection)
        self.path = path
        self.can_write = can_write
        """Whether the database can be written, where it lies."""
        self.reached = reached
        self.queue = Queue(connection)
        self._shard: tuple[int, int] | None = None

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
        """An existing database; one whose folder cannot be written is only read. Raises RunError when it is damaged or of another
        version, CrawlError where there is no room to read it."""
        try:
            connection = connect(path, write=True)
            state = cls(connection, path, reached, can_write=connection.can_write)
            version = state.meta("schema")
            shard = state.meta("shard")
            state._shard = (shard[0], shard[1]) if shard else None
        except sqlite3.Error as error:
            raise _unreadable(path, error) from error
        if version != SCHEMA_VERSION:
            is_newer = isinstance(version, int) and version > SCHEMA_VERSION
            what = f"the run was written by {'a newer' if is_newer else 'an older'} version of Wadi"
            why = f"its format is {version}, and this version ({__version__}) reads {SCHEMA_VERSION}"
            now = "read it with the version that wrote it, or run the plan again; its pages are WARC files under pages/"
            raise RunError(Problem("other-version", what, Place(str(path)), why=why, now=now))
        return state

    def is_own_host(self, host: str) -> bool:
        """Whether this run, or shard of a run, is the one that asks a host."""
        return self._shard is None or owner_of(host, self._shard[1]) == self._shard[0]

    def __enter__(self) -> RunState:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        self._db.close()

    def close_whole(self) -> None:
        """Close it with nothing left in the log beside it, so that the file alone is the database. Raises sqlite3.Error."""
        (is_busy, *_) = self._db.execute("PRAGMA wal_checkpoint(TRUNCATE)").fetchone()
        if is_busy:
            raise sqlite3.OperationalError("another process reads the database that is being made")
        self._db.close()

    def set_meta(self, name: str, value: Any) -> None:
        self._db.execute("INSERT OR REPLACE INTO meta VALUES (?, ?)", (name, orjson.dumps(value)))

    def add_starts(self, starts: Iterable[tuple[str, Request, dict[str, Any]]]) -> None:
        """The start pages in reading order: page kind, request, input values."""
        writing = _Transaction(self._db)
        self._db.execute("BEGIN")
        for place, (kind, request, inputs) in enumerate(starts):
            kept = orjson.dumps(inputs)
            target = writing.page(kind, request, STEP.pack(place) + STEP.pack(0), inputs=kept)
            self._db.execute(
                "INSERT INTO links VALUES (?, ?, ?, ?, NULL, '', ?)", (START_PAGE, Role.START, place, target, kept)
            )
        self._db.execute("COMMIT")

    def commit(
        self,
        outcomes: Iterable[Outcome],
        most_depth: int | None = None,
        is_given_up: Callable[[], bool] = lambda: False,
    ) -> New:
        """Keep what pages came to, all of it or, if the process dies, nothing of it; returns what is new. Pages further from the
        starts than `most_depth` are known, but not asked for. Raises CommitGivenUp, and keeps nothing, as soon as `is_given_up`
        says so: another thread may not want to wait."""
        writing = _Transaction(self._db, most_depth, is_given_up, self._shard)
        self._db.execute("BEGIN IMMEDIATE")
        try:
            ends: dict[str, int] = {}
            for outcome in outcomes:
                writing.keep(outcome)
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
        return New(writing.pages, frozenset(writing.hosts))

    def ask_again(self, chosen: Callable[[str, State], bool]) -> int:
        """Let pages wait again: those whose URL and state are chosen. What they gave does not count until they are read again."""
        settled = self._db.execute(f"SELECT id, url, state FROM pages WHERE state <> {State.WAITING}").fetchall()
        numbers = [(number,) for number, url, state in settled if chosen(url, State(state))]
        self._db.executemany(f"UPDATE pages SET state = {State.WAITING} WHERE id = ?", numbers)
        return len(numbers)

    def ask_failed_again(self, codes: Set[str]) -> int:
        """Let pages wait again that failed by one of these problems; returns how many there are."""
        failed = self._db.execute(f"SELECT id, failure FROM pages WHERE state = {State.FAILED}").fetchall()
        numbers = [(page,) for page, failure in failed if orjson.loads(failure)["code"] in codes]
        self._db.executemany(f"UPDATE pages SET state = {State.WAITING} WHERE id = ?", numbers)
        return len(numbers)

    def ask_for_absent(self) -> None:
        """Let pages wait that an archive did not have when its pages were read again."""
        if self._shard is None:
            self._db.execute(f"UPDATE pages SET state = {State.WAITING} WHERE state = {State.ELSEWHERE}")

    def add_known(self, digests: Iterable[bytes]) -> None:
        """Rows that an earlier run has."""
        self._db.execute("BEGIN")
        self._db.executemany("INSERT OR IGNORE INTO seen VALUES (?, ?)", ((KNOWN, digest) for digest in digests))
        self._db.execute("COMMIT")

    def hold_archive(self, sizes: Mapping[str, int]) -> None:
        """Files of the archive that are whole and belong to another run as well: nothing of them is adopted or cut."""
        self._db.executemany("INSERT OR REPLACE INTO archived VALUES (?, ?)", list(sizes.items()))


class _Transaction:
    """What goes into the database at once: outcomes, and the pages that they lead to. Pages further from the starts than
    `most_depth` are not asked for; `pages` counts those that are new, `hosts` are those that have pages to ask for. As soon as
    `is_given_up` says so, CommitGivenUp is raised. Pages of hosts of another shard than `shard` (its number, and how many there
    are) are only known."""

    def __init__(
        self,
        connection: sqlite3.Connection,
        most_depth: int | None = None,
        is_given_up: Callable[[], bool] = lambda: False,
        shard: tuple[int, int] | None = None,
    ) -> None:
        self._db = connection
        self._shard = shard
        self._most_depth = most_depth
        self._is_given_up = is_given_up
        self.pages = 0
        self.hosts: set[str] = set()

    def keep(self, outcome: Outcome) -> None:
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
        if outcome.elsewhere is not None:
            led = outcome.elsewhere
            self._db.execute("UPDATE pages SET host=?, shown=? WHERE id=?", (led.host, shown_of(led), outcome.page))
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
            if self._is_given_up():
                raise CommitGivenUp
            kept_inputs = orjson.dumps(link.inputs) if link.inputs else None
            if link.role is Role.NEXT:
                so_far: SoFar = (*listed, outcome.edge, last)
                target = self.page(link.kind, link.request, route_of(route, link), depth, so_far)
            else:
                steps = depth + link.deeper
                so_far = (0, 0, link.edge, None)
                target = self.page(
                    link.kind, link.request, route_of(route, link), steps, so_far, kept_inputs, link.purpose
                )
            self._db.execute(
                "INSERT OR REPLACE INTO links VALUES (?, ?, ?, ?, ?, ?, ?)",
                (outcome.page, link.role, link.place, target, link.row, link.text, kept_inputs),
            )

    def _keep_rows(self, page: int, rows: TableRows) -> None:
        problems = [(p.row, p.column, p.raw, p.code, p.what, p.why) for p in rows.problems]
        parts = (
            orjson.dumps(rows.columns),
            orjson.dumps(rows.rows),
            orjson.dumps(problems) if problems else None,
            orjson.dumps(rows.several) if rows.several else None,
            orjson.dumps(rows.parents) if rows.parents is not None else None,
        )
        columns, cells, *rest = parts
        self._db.execute(
            "INSERT OR REPLACE INTO rows VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (page, rows.table, rows.completes, columns, len(rows.rows), cells, *rest, rows_digest(*parts)),
        )

    def page(
        self,
        kind: str,
        request: Request,
        route: bytes,
        depth: int = 0,
        so_far: SoFar = (0, 0, b"", None),
        inputs: bytes | None = None,
        purpose: Purpose = Purpose.READ,
    ) -> int:
        """The id of the page, which is new or known; a known one that waits moves up when this route is the lesser."""
        identity = request.identity
        found = self._db.execute(
            "SELECT id, state, route, depth FROM pages WHERE kind = ? AND purpose = ? AND identity = ?",
            (kind, purpose, identity),
        ).fetchone()
        if found is None:
            headers, host = orjson.dumps(request.headers) if request.headers else None, request.host
            is_elsewhere = self._shard is not None and owner_of(host, self._shard[1]) != self._shard[0]
            cursor = self._db.execute(
                "INSERT INTO pages (kind, identity, host, method, url, headers, body, route,"
                " depth, rows_before, dry, edge, last, inputs, way, shown, purpose, state)"
                " VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
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
                    shown_of(request),
                    purpose,
                    State.ELSEWHERE if is_elsewhere else State.WAITING,
                ),
            )
            assert cursor.lastrowid is not None
            if not is_elsewhere:
                self.pages += 1
                self.hosts.add(host)
            return cursor.lastrowid
        page, state, known_route, known_depth = found
        if state in (State.WAITING, State.ELSEWHERE) and route < known_route:
            self._db.execute("UPDATE pages SET route = ? WHERE id = ?", (route, page))
        if depth < known_depth:
            self._bring_nearer(page, depth)
        return int(page)

    def _bring_nearer(self, page: int, depth: int) -> None:
        """A page that is nearer to the starts than was known, with all that it leads to, where depth counts at all."""
        todo = [(page, depth)]
        if self._most_depth is not None:
            self.hosts.update(Queue(self._db).hosts())
        while todo:
            page, depth = todo.pop()
            self._db.execute("UPDATE pages SET depth = ? WHERE id = ?", (depth, page))
            if self._most_depth is None:
                return
            query = (
                "SELECT p.id, l.role FROM links l JOIN pages p ON p.id = l.target"
                f" WHERE l.source = ? AND p.depth > ? + (l.role = {Role.OPEN})"
            )
            todo += [(target, depth + (role == Role.OPEN)) for target, role in self._db.execute(query, (page, depth))]


def _unreadable(path: Path, error: sqlite3.Error) -> WadiError:
    """What is raised for a database that cannot be opened: CrawlError for want of room, RunError else."""
    place = Place(str(path))
    problem = disk_problem(error, path)
    if problem is not None and problem.code == "disk-full":
        return CrawlError(
            replace(problem, now="make room: a run with a log beside its database cannot be read without some")
        )
    if path.is_file() and not is_writable(path) and error.sqlite_errorcode & 0xFF == sqlite3.SQLITE_CANTOPEN:
        what = "the run's last changes are in a log beside its database, and the folder cannot be written"
        now = "copy the run's folder to where it can be written"
        return RunError(Problem("not-writable", what, place, now=now))
    return RunError(Problem("damaged-run", f"the run's database cannot be read: {error}", place))
