"""The pages of a run as a table: what was asked for, what came, how often and when."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any

from wadi.clean.types import TypeName
from wadi.plan.columns import Column
from wadi.store.outcome import State
from wadi.store.pages import PageRecord
from wadi.store.view import RunView
from wadi.table.ledger import Ledger
from wadi.urls import without_secret

PAGES = "pages"
_COLUMNS: dict[str, TypeName] = {
    "kind": "string",
    "url": "url",
    "final_url": "url",
    "state": "string",
    "status": "integer",
    "tries": "integer",
    "code": "string",
    "reason": "string",
    "rows": "integer",
    "size": "integer",
    "at": "datetime",
    "seconds": "number",
    "route": "string",
    "purpose": "string",
}
_STATES = {State.DONE: "read", State.FAILED: "failed", State.WAITING: "not asked for"}


class Visits:
    """The table, used like an Assembly: pages in reading order, downloads (kind `file`) and redirects among them.

    `final_url` is where redirects led, of a redirect where it led itself; `tries` how often it was sent, `size` the bytes of the
    reply, decoded; `at` when it was asked for (UTC), `seconds` how long it took;
    `route` the named route that it went.
    """

    names_files = False

    def __init__(self, state: RunView) -> None:
        self.columns = [Column(name, kind, False, None, False, ()) for name, kind in _COLUMNS.items()]
        self.ledger = Ledger()
        self._state = state

    def rows(self) -> Iterator[list[Any]]:
        """One row for each page that is known, behind those of the redirects that led to it."""
        for page in self._state.all_pages():
            for row in (*_redirects(page), _row(page)):
                self.ledger.accepted += 1
                yield [row.get(name) for name in _COLUMNS]


def _redirects(page: PageRecord) -> Iterator[dict[str, Any]]:
    """A row for each redirect on the way to a page."""
    targets = [*(url for url, _ in page.hops[1:]), page.final_url]
    for (url, status), target in zip(page.hops, targets, strict=False):
        yield {
            "kind": page.kind.strip("[]"),
            "purpose": page.purpose.name.lower(),
            "url": without_secret(url),
            "final_url": without_secret(target) if target else None,
            "state": "redirected",
            "status": status,
            "route": page.way or None,
        }


def _row(page: PageRecord) -> dict[str, Any]:
    return {
        "kind": page.kind.strip("[]"),
        "purpose": page.purpose.name.lower(),
        "url": without_secret(page.url),
        "final_url": without_secret(page.final_url) if page.final_url else None,
        "state": _STATES[page.state],
        "status": page.status,
        "tries": page.tries,
        "code": page.failure["code"] if page.failure else None,
        "reason": page.failure["what"] if page.failure else None,
        "rows": page.rows,
        "size": page.size_bytes,
        "at": datetime.fromtimestamp(page.at, UTC).isoformat(timespec="seconds") if page.at is not None else None,
        "seconds": round(page.seconds, 3) if page.seconds is not None else None,
        "route": page.way or None,
    }
