"""The pages that a run has, to be read again: by their requests, in reading order, with where each reply is. Read only."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

import orjson

from wadi.problems import Problem
from wadi.store.archive import Location
from wadi.store.connect import connect
from wadi.store.folder import DATABASE, PAGES
from wadi.store.outcome import Purpose, State
from wadi.store.pages import request_of
from wadi.store.whole_files import copied
from wadi.web.messages import Request

_COLUMNS = "id, kind, method, url, headers, body, way, shown, purpose, route, state, file, offset, length, failure"


@dataclass(frozen=True, slots=True)
class StoredPage:
    """A page that a run asked for: what came of it, and where the reply is (None where nothing came)."""

    id: int
    kind: str
    request: Request
    purpose: Purpose
    route: bytes
    state: State
    location: Location | None
    failure: Problem | None


class StoredPages:
    """The pages of a run. Use `close` at the end."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._db = connect(folder / DATABASE)
        self._db.execute("CREATE TEMP TABLE asked AS SELECT identity, purpose, route, state, id FROM main.pages")
        self._db.execute("CREATE INDEX temp.by_identity ON asked (identity)")
        self._has_order = False

    def close(self) -> None:
        self._db.close()

    def behind(self, route: bytes, count: int) -> list[int]:
        """The numbers of the next pages that were read behind one, in reading order."""
        if not self._has_order:
            self._db.execute(f"CREATE INDEX temp.by_route ON asked (route) WHERE state = {State.DONE}")
            self._has_order = True
        query = f"SELECT id FROM asked WHERE state = {State.DONE} AND route > ? ORDER BY route LIMIT ?"
        return [number for (number,) in self._db.execute(query, (route, count))]

    def page(self, number: int) -> StoredPage:
        """A page by its number."""
        return _page_of(*self._db.execute(f"SELECT {_COLUMNS} FROM pages WHERE id = ?", (number,)).fetchone())

    def find(self, kind: str, request: Request, purpose: Purpose) -> StoredPage | str:
        """What came for a request, best for a page of the same kind, since kinds may be called otherwise now; or why nothing
        is there."""
        query = (
            f"SELECT {_COLUMNS} FROM pages WHERE id IN (SELECT id FROM asked WHERE identity = ? AND purpose = ?)"
            f" ORDER BY state NOT IN ({State.DONE}, {State.FAILED}), kind <> ?, state LIMIT 1"
        )
        row = self._db.execute(query, (request.identity, purpose, kind)).fetchone()
        if row is None:
            return "the run did not know of"
        found = _page_of(*row)
        is_settled = found.state in (State.DONE, State.FAILED)
        return found if is_settled else "the run knew of and did not ask for"


def _page_of(
    number: int,
    kind: str,
    method: str,
    url: str,
    headers: bytes | None,
    body: bytes | None,
    way: str,
    shown: bytes | None,
    purpose: int,
    route: bytes,
    state: int,
    file: str | None,
    offset: int,
    length: int,
    failure: bytes | None,
) -> StoredPage:
    location = Location(file, offset, length) if file else None
    problem = None
    if failure:
        kept = orjson.loads(failure)
        problem = Problem(kept["code"], kept["what"], why=kept.get("why") or "", now=kept.get("now") or "")
    request = request_of(method, url, headers, body, way, shown)
    return StoredPage(number, kind, request, Purpose(purpose), route, State(state), location, problem)


def share_pages(source: Path, target: Path) -> dict[str, int]:
    """The archive of one run in another's folder, without copying where files can be linked; gives each file's size."""
    sizes: dict[str, int] = {}
    (target / PAGES).mkdir(parents=True, exist_ok=True)
    for path in sorted((source / PAGES).glob("*.warc.gz")):
        other = target / PAGES / path.name
        try:
            os.link(path, other)
        except OSError:
            copied(path, other)
        sizes[path.name] = other.stat().st_size
    return sizes
