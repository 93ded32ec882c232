"""A run split into shards, each a run of its own with the pages of some hosts, and put together again.

A shard knows the pages of other shards to which its own lead, but does not ask for them (`State.ELSEWHERE`): they are handed
over as files in the other shard's inbox, where taking one in twice changes nothing. Put together, the run's database is what one
process would have made.
"""

from __future__ import annotations

import base64
import contextlib
import heapq
import os
import shutil
import sqlite3
import uuid
from collections import defaultdict
from collections.abc import Iterable, Iterator
from functools import partial
from pathlib import Path
from typing import Any, BinaryIO

import orjson

from wadi.store.folder import DATABASE, DOWNLOADS, LOCK, LOG, PAGES, RunLock
from wadi.store.outcome import Role, State
from wadi.store.pages import START_PAGE, owner_of, page_of
from wadi.store.state import RunState
from wadi.store.whole_files import copied, whole_file

SHARDS, INBOX = "shards", "inbox"
_FILES_OF_SHARD = 100_000
"""How many files of the archive a shard may have: their names are apart from those of others."""
_HANDED_AT_ONCE = 20_000
_TIME_OF_LINE = 36
"""How many bytes of a log's line hold its time: {"at":"2026-11-27T20:03:15.123+00:00" """
_PAGE = (
    "kind, identity, host, method, url, headers, body, route, state, status, final_url, fetched_at, elapsed_s, size_bytes, file,"
    " offset, length, total, failure, notes, listing, digest, depth, rows_before, dry, row_count, inputs, edge, last, tries,"
    " hops, way, shown, purpose"
)
_HANDED = "id, kind, host, method, url, headers, body, route, depth, rows_before, dry, edge, last, inputs, way, shown, purpose"
_OF_HOSTS = ("robots", "paces")
"""What a sitting knows of hosts and leaves to the next one: so nobody asks for robots.txt again today, or sooner than he may."""


def shard_folder(run: Path, number: int) -> Path:
    """Where a shard of a run is."""
    return run / SHARDS / f"{number:04d}"


def turn_lock(run: Path, number: int) -> RunLock:
    """What a worker holds over a whole turn of a shard, in which its database is made, worked on and read."""
    inbox = shard_folder(run, number) / INBOX
    inbox.mkdir(parents=True, exist_ok=True)
    return RunLock(inbox)


def shards_of(run: Path) -> list[int]:
    """The shards of a run that are there or have something to take in."""
    return sorted(int(path.name) for path in (run / SHARDS).glob("[0-9]*") if path.is_dir())


def create_shard(run: Path, number: int, count: int) -> None:
    """The database of a shard with what the run says of itself and the pages of the shard's hosts; nothing where it is there
    already."""
    folder = shard_folder(run, number)
    if (folder / DATABASE).is_file():
        return
    (folder / INBOX).mkdir(parents=True, exist_ok=True)
    for path in run.iterdir():  # the plan and what stands beside it
        if path.is_file() and not path.name.startswith((DATABASE, LOG, LOCK)):
            whole_file(folder / path.name, partial(_write, path.read_bytes()))
    unfinished = folder / f"{DATABASE}.{os.getpid()}.new"
    unfinished.unlink(missing_ok=True)
    RunState.create(unfinished).close()
    db = sqlite3.connect(unfinished, isolation_level=None)
    db.create_function("owner", 1, lambda host: owner_of(host, count), deterministic=True)
    db.execute("ATTACH ? AS run", (str(run / DATABASE),))
    db.execute("CREATE TABLE main.handed (page INTEGER PRIMARY KEY)")
    db.execute("BEGIN")
    db.execute("INSERT OR REPLACE INTO main.meta SELECT * FROM run.meta WHERE name NOT IN ('schema', 'end')")
    db.execute("INSERT OR REPLACE INTO main.meta VALUES ('shard', ?)", (orjson.dumps([number, count]),))
    pages = f"INSERT INTO main.pages (id, {_PAGE}) SELECT id, {_PAGE} FROM run.pages WHERE owner(host) = ?"
    db.execute(pages, (number,))
    starts = (
        "INSERT INTO main.links SELECT l.* FROM run.links l JOIN main.pages p ON p.id = l.target WHERE l.source = ?"
    )
    db.execute(starts, (START_PAGE,))
    db.execute("INSERT INTO main.seen SELECT * FROM run.seen")
    sitting = int(
        orjson.loads(db.execute("SELECT coalesce(max(value), '0') FROM run.meta WHERE name = 'sitting'").fetchone()[0])
    )
    first = f"{(sitting * 1000 + number) * _FILES_OF_SHARD:012d}.warc.gz"
    db.execute("INSERT INTO main.archived VALUES (?, 0)", (first,))
    db.execute("COMMIT")
    db.execute("DETACH run")
    db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    db.close()
    unfinished.rename(folder / DATABASE)


_NOBODY = [-1, 1]
"""Of a slice: it asks no host."""
_LISTED = (
    f"SELECT source FROM old.links WHERE role = {Role.NEXT} UNION SELECT target FROM old.links WHERE role = {Role.NEXT}"
)


def create_slice(run: Path, number: int, count: int, old: Path, kinds: Iterable[str]) -> Path:
    """The database of a slice of an earlier run's pages, which wait to be read again for a new run: the first slice has those of
    listings, which follow one from the other, the others share the rest."""
    folder = shard_folder(run, number)
    shutil.rmtree(folder, ignore_errors=True)  # of a task that was lost
    folder.mkdir(parents=True)
    RunState.create(folder / DATABASE).close()
    known = [*kinds]
    marks = ", ".join("?" * len(known))
    which = f"id IN ({_LISTED})" if number == 0 else f"id NOT IN ({_LISTED}) AND id % {count - 1} = {number - 1}"
    fresh = f"{_HANDED.replace('id, kind, host', 'kind, identity, host')}"
    db = sqlite3.connect(folder / DATABASE, isolation_level=None)
    try:
        db.execute("ATTACH ? AS run", (str(run / DATABASE),))
        db.execute("ATTACH ? AS old", (str(old / DATABASE),))
        db.execute("BEGIN")
        db.execute("INSERT OR REPLACE INTO main.meta SELECT * FROM run.meta WHERE name <> 'schema'")
        db.execute("INSERT OR REPLACE INTO main.meta VALUES ('shard', ?)", (orjson.dumps(_NOBODY),))
        db.execute("INSERT INTO main.archived VALUES (?, 0)", (f"{(number + 1) * _FILES_OF_SHARD:012d}.warc.gz",))
        db.execute(
            f"INSERT INTO main.pages ({fresh}) SELECT {fresh} FROM old.pages WHERE state = {State.DONE} AND kind IN ({marks})"
            f" AND {which}",
            known,
        )
        db.execute("COMMIT")
    finally:
        db.close()
    return folder


def drop_unreached(run: Path) -> None:
    """Remove the pages to which nothing leads from the starts."""
    db = sqlite3.connect(run / DATABASE, isolation_level=None)
    try:
        db.execute("BEGIN IMMEDIATE")
        db.execute(
            "CREATE TEMP TABLE reached AS WITH RECURSIVE led (page) AS (SELECT target FROM links WHERE source = ? UNION"
            " SELECT l.target FROM links l JOIN led ON l.source = led.page) SELECT page FROM led",
            (START_PAGE,),
        )
        db.execute("CREATE UNIQUE INDEX temp.by_page ON reached (page)")
        for table, column in (
            ("pages", "id"),
            ("links", "source"),
            ("rows", "page"),
            ("files", "page"),
            ("payloads", "page"),
        ):
            starts = f" AND source <> {START_PAGE}" if table == "links" else ""
            db.execute(f"DELETE FROM {table} WHERE {column} NOT IN (SELECT page FROM reached){starts}")
        db.execute("COMMIT")
    finally:
        db.close()


def hand_over(run: Path, number: int, count: int) -> dict[int, int]:
    """Put the pages of other shards to which a shard leads into their inboxes; how many, by shard. Those that were handed over
    before are left out, unless the process died in between."""
    folder = shard_folder(run, number)
    db = sqlite3.connect(folder / DATABASE, isolation_level=None)
    try:
        handed: dict[int, int] = defaultdict(int)
        query = (
            f"SELECT {_HANDED} FROM pages WHERE state = {State.ELSEWHERE} AND id > ? AND id NOT IN (SELECT page FROM handed)"
            " ORDER BY id LIMIT ?"
        )
        last = 0
        while rows := db.execute(query, (last, _HANDED_AT_ONCE)).fetchall():
            last = int(rows[-1][0])
            by_owner: dict[int, list[bytes]] = defaultdict(list)
            for row in rows:
                by_owner[owner_of(row[2], count)].append(_line(row))
            for owner, lines in by_owner.items():
                inbox = shard_folder(run, owner) / INBOX
                inbox.mkdir(parents=True, exist_ok=True)
                whole_file(inbox / f"{number:04d}-{uuid.uuid4().hex}.jsonl", partial(_write, b"".join(lines)))
                handed[owner] += len(lines)
            db.execute("BEGIN")
            db.executemany("INSERT INTO handed VALUES (?)", [row[:1] for row in rows])
            db.execute("COMMIT")
        return dict(handed)
    finally:
        db.close()


def _write(data: bytes, out: BinaryIO) -> None:
    out.write(data)


def _line(row: Iterable[Any]) -> bytes:
    _, *values = row
    coded = [{"b": base64.b64encode(value).decode()} if isinstance(value, bytes) else value for value in values]
    return orjson.dumps(coded) + b"\n"


def take_in(run: Path, number: int) -> int:
    """Take what is in a shard's inbox into its database: pages that are known already stay as they are. How many are new."""
    folder = shard_folder(run, number)
    files = sorted((folder / INBOX).glob("*.jsonl"))
    if not files:
        return 0
    names = _HANDED.partition(", ")[2].replace("kind, host", "kind, identity, host")
    marks = ", ".join("?" * len(names.split(", ")))
    db = sqlite3.connect(folder / DATABASE, isolation_level=None)
    new = 0
    try:
        for file in files:
            db.execute("BEGIN IMMEDIATE")
            with file.open("rb") as lines:
                for line in lines:
                    new += _take(db, _values(line), names, marks)
            db.execute("COMMIT")
            file.unlink()
    finally:
        db.close()
    return new


def _values(line: bytes) -> list[Any]:
    coded = orjson.loads(line)
    return [base64.b64decode(value["b"]) if isinstance(value, dict) else value for value in coded]


def _take(db: sqlite3.Connection, values: list[Any], names: str, marks: str) -> int:
    """Insert a page that was handed over; one that another shard knows as this one's own is asked for now, one that is known
    moves up when its new place comes before."""
    kind, host, method, url, headers, body, route, _, before, dry, edge, last, inputs, way, shown, purpose = values
    page = page_of(0, kind, method, url, headers, body, route, before, dry, edge, inputs, last, way, shown, purpose)
    row = (kind, page.request.identity, host, *values[2:])
    done = db.execute(f"INSERT OR IGNORE INTO pages ({names}) VALUES ({marks})", row)
    if done.rowcount:
        return 1
    known = "kind = ? AND purpose = ? AND identity = ?"
    keys = (kind, purpose, page.request.identity)
    if page.request.led_to:  # known as a page that this shard's own host redirects, or as one of another shard
        db.execute(f"DELETE FROM handed WHERE page = (SELECT id FROM pages WHERE {known})", keys)
        db.execute(
            f"UPDATE pages SET state = {State.WAITING}, host = ?, shown = ? WHERE {known} AND state = {State.ELSEWHERE}",
            (host, shown, *keys),
        )
    db.execute(
        f"UPDATE pages SET route = ? WHERE {known} AND state = {State.WAITING} AND route > ?", (route, *keys, route)
    )
    return 0


def put_together(run: Path) -> None:
    """Put what the shards have into the run's database and its archive, and remove them. Doing it twice, or again after the
    process died over it, changes nothing but that the log may have its lines twice. Raises RunError when somebody works on a
    shard."""
    every = [shard_folder(run, number) for number in shards_of(run)]
    for folder in every:
        RunLock(folder / INBOX).check()
    folders = [folder for folder in every if (folder / DATABASE).is_file()]
    for folder in folders:
        _share_files(folder / PAGES, run / PAGES)
        _share_files(folder / DOWNLOADS, run / DOWNLOADS)
    db = sqlite3.connect(run / DATABASE, isolation_level=None)
    try:
        for put in (_put_pages, _put_the_rest):
            for folder in folders:
                with _attached(db, folder):
                    put(db)
        for name in _OF_HOSTS:
            _put_known(db, folders, name)
        _put_logs(run, folders)
        sizes = {path.name: path.stat().st_size for path in (run / PAGES).glob("*.warc.gz")}
        db.executemany("INSERT OR REPLACE INTO archived VALUES (?, ?)", list(sizes.items()))
    finally:
        db.close()
    shutil.rmtree(run / SHARDS, ignore_errors=True)


class _attached:  # noqa: N801, a context manager
    """A shard's database beside the run's, in one transaction."""

    def __init__(self, db: sqlite3.Connection, folder: Path) -> None:
        self._db, self._folder = db, folder

    def __enter__(self) -> None:
        self._db.execute("ATTACH ? AS shard", (str(self._folder / DATABASE),))
        self._db.execute("BEGIN IMMEDIATE")

    def __exit__(self, kind: object, *_: object) -> None:
        self._db.execute("ROLLBACK" if kind else "COMMIT")
        self._db.execute("DETACH shard")


def _put_pages(db: sqlite3.Connection) -> None:
    """The shard's own pages: settled ones over what is known of them, waiting ones where they are new."""
    kept = ", ".join(
        f"{name} = excluded.{name}" for name in _PAGE.split(", ") if name not in ("kind", "identity", "purpose")
    )
    db.execute(
        f"INSERT INTO main.pages ({_PAGE}) SELECT {_PAGE} FROM shard.pages WHERE state IN ({State.DONE}, {State.FAILED})"
        f" ON CONFLICT (kind, purpose, identity) DO UPDATE SET {kept}"
    )
    db.execute(
        f"INSERT OR IGNORE INTO main.pages ({_PAGE}) SELECT {_PAGE} FROM shard.pages WHERE state = {State.WAITING}"
    )
    db.execute(  # perhaps handed over, and not yet taken in
        f"INSERT OR IGNORE INTO main.pages ({_PAGE})"
        f" SELECT {_PAGE.replace(' state,', f' {State.WAITING},')} FROM shard.pages WHERE state = {State.ELSEWHERE}"
    )


def _put_the_rest(db: sqlite3.Connection) -> None:
    """Where the shard's pages lead, their rows, their files, and what lets replies be shared."""
    db.execute(
        "CREATE TEMP TABLE number AS SELECT s.id AS theirs, m.id AS ours FROM shard.pages s"
        " JOIN main.pages m ON m.kind = s.kind AND m.purpose = s.purpose AND m.identity = s.identity"
    )
    db.execute("CREATE UNIQUE INDEX temp.by_theirs ON number (theirs)")
    db.execute(
        "INSERT OR REPLACE INTO main.links SELECT a.ours, l.role, l.place, b.ours, l.row, l.text, l.inputs FROM shard.links l"
        " JOIN number a ON a.theirs = l.source JOIN number b ON b.theirs = l.target WHERE l.source <> ?",
        (START_PAGE,),
    )
    for table, columns in (
        ("rows", "name, completes, columns, count, cells, problems, several, parents, digest"),
        ("files", "path, size_bytes, type, sha256"),
    ):
        theirs = ", ".join(f"t.{name}" for name in columns.split(", "))
        db.execute(
            f"INSERT OR REPLACE INTO main.{table} (page, {columns}) SELECT n.ours, {theirs} FROM shard.{table} t"
            " JOIN number n ON n.theirs = t.page"
        )
    db.execute(
        "INSERT OR IGNORE INTO main.payloads SELECT t.digest, n.ours FROM shard.payloads t JOIN number n ON n.theirs = t.page"
    )
    db.execute("INSERT OR IGNORE INTO main.seen SELECT * FROM shard.seen")
    db.execute("DROP TABLE temp.number")


def _put_known(db: sqlite3.Connection, folders: Iterable[Path], name: str) -> None:
    """What shards know of their hosts, by host."""
    known: dict[str, Any] = {}
    for folder in folders:
        with _attached(db, folder):
            found = db.execute("SELECT value FROM shard.meta WHERE name = ?", (name,)).fetchone()
            known |= orjson.loads(found[0]) if found else {}
    if known:
        db.execute("INSERT OR REPLACE INTO meta VALUES (?, ?)", (name, orjson.dumps(known)))


def _put_logs(run: Path, folders: Iterable[Path]) -> None:
    """The shards' events in the run's own log, in the order of their times, with which each line begins."""
    with contextlib.ExitStack() as held:
        logs = [folder / LOG for folder in folders if (folder / LOG).is_file()]
        files: list[Iterable[bytes]] = [held.enter_context(log.open("rb")) for log in logs]
        with (run / LOG).open("ab") as out:
            out.writelines(line for _, line in heapq.merge(*map(_timed, files)))


def _timed(lines: Iterable[bytes]) -> Iterator[tuple[bytes, bytes]]:
    """Lines of a log with what orders them."""
    return ((line[:_TIME_OF_LINE], line) for line in lines)


def _share_files(source: Path, target: Path) -> None:
    """The files below a folder in another, too, without copying them where they can be linked; longer ones over shorter."""
    for path in source.rglob("*") if source.is_dir() else ():
        other = target / path.relative_to(source)
        if not path.is_file() or (other.is_file() and other.stat().st_size >= path.stat().st_size):
            continue
        other.parent.mkdir(parents=True, exist_ok=True)
        other.unlink(missing_ok=True)
        try:
            os.link(path, other)
        except OSError:
            copied(path, other)


def shards_with_work(run: Path, count: int) -> list[int]:
    """The shards for whose hosts the run has pages that wait."""
    db = sqlite3.connect(run / DATABASE)
    try:
        hosts = db.execute(f"SELECT DISTINCT host FROM pages WHERE state = {State.WAITING}")
        return sorted({owner_of(host, count) for (host,) in hosts})
    finally:
        db.close()
