"""What an earlier run has: replies that the site says are unchanged, and the rows that a listing had then."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from wadi.clean.identity import digests_of
from wadi.store.archive import DamagedRecord, read_reply
from wadi.store.folder import DATABASE, PAGES
from wadi.store.outcome import TableRows
from wadi.store.pages import Page
from wadi.store.state import RunState
from wadi.web.messages import Headers, Reply, Request

NOT_MODIFIED = 304


class PreviousRun:
    """An earlier run of the plan, read only. Use `close` at the end."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._state = RunState.open(folder / DATABASE)
        self.unchanged = 0
        """Pages that the site said were unchanged."""

    def close(self) -> None:
        self._state.close()

    def asked(self, page: Page) -> Request:
        """The request for a page with the conditions under which the site need not send it again (RFC 9110 §13.1)."""
        if page.request.method != "GET":
            return page.request
        kept = self._kept(page)
        conditions = _conditions(kept) if kept is not None else ()
        return replace(page.request, headers=(*page.request.headers, *conditions)) if conditions else page.request

    def reply(self, page: Page, reply: Reply) -> Reply:
        """The earlier reply where the site says that it is unchanged, with the moment at which it said so."""
        if reply.status != NOT_MODIFIED:
            return replace(reply, request=page.request)
        kept = self._kept(page)
        if kept is None:
            return replace(reply, request=page.request)
        self.unchanged += 1
        return replace(kept, request=page.request, started_at=reply.started_at, elapsed_s=reply.elapsed_s)

    def rows(self, table: str, key: Sequence[str]) -> Iterator[bytes]:
        """The digests of a table's rows, by which a listing knows them again."""
        for rows in self._state.all_rows(table):
            yield from row_digests(rows, key)

    def known(self) -> Iterator[bytes]:
        """The digests of rows that the run itself knew from those before it."""
        return self._state.known()

    def _kept(self, page: Page) -> Reply | None:
        location = self._state.found(page.kind, page.request)
        if location is None:
            return None
        try:
            return read_reply(self.folder / PAGES, location)
        except (DamagedRecord, OSError, KeyError, ValueError):
            return None


def _conditions(reply: Reply) -> Headers:
    etag, modified = reply.header("etag"), reply.header("last-modified")
    named = (("If-None-Match", etag), ("If-Modified-Since", modified))
    return tuple((name, value) for name, value in named if value)


def row_digests(table: TableRows, key: Sequence[str]) -> list[bytes]:
    """What tells rows from one another: a digest of the cells of the key's columns, or of all of them."""
    places = [table.columns.index(name) for name in key if name in table.columns]
    cells: Sequence[list[Any]] = [[row[place] for place in places] for row in table.rows] if places else table.rows
    return digests_of(cells)
