"""The pages of a run as a table: what was asked for, what came, how often and when."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any

from wadi.clean.types import TypeName
from wadi.plan.columns import Column
from wadi.store.outcome import State
from wadi.store.state import RunState
from wadi.table.account import Account
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
}
_STATES = {State.DONE: "read", State.FAILED: "failed", State.WAITING: "not asked for"}


class Visits:
    """The table, used like an Assembly: pages in reading order, downloads among them (kind `file`). `final_url` is where
    redirects led, `tries` how often it was sent, `size` the bytes of the reply, decoded; `at` when it was asked for (UTC),
    `seconds` how long it took.
    """

    names_files = False

    def __init__(self, state: RunState) -> None:
        self.columns = [Column(name, kind, False, None, False, ()) for name, kind in _COLUMNS.items()]
        self.account = Account()
        self._state = state

    def rows(self) -> Iterator[list[Any]]:
        """One row for each page that is known."""
        for kind, url, final_url, state, status, tries, failure, count, size, at, seconds in self._state.all_pages():
            self.account.accepted += 1
            moment = datetime.fromtimestamp(at, UTC).isoformat(timespec="seconds") if at is not None else None
            yield [
                kind.strip("[] "),
                without_secret(url),
                without_secret(final_url) if final_url else None,
                _STATES[State(state)],
                status,
                tries,
                failure["code"] if failure else None,
                failure["what"] if failure else None,
                count,
                size,
                moment,
                round(seconds, 3) if seconds is not None else None,
            ]
