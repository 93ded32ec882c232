"""Whether everything that a run keeps is as it was written: its database, its rows, and every stored reply."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator

from wadi.actions.run import Run
from wadi.store.archive import DamagedRecord, read_reply
from wadi.store.folder import PAGES
from wadi.urls import without_secret


def damage_of(run: Run) -> Iterator[str]:
    """Everything that is not as it was written, in words. Stored pages that the plan let go count as no damage."""
    yield from (f"database: {what}" for what in run.state.what_is_damaged())
    for page, table in run.state.places_of_rows():
        try:
            run.state.rows(page, table)
        except (sqlite3.DatabaseError, ValueError) as error:
            yield str(error)
    folder = run.folder / PAGES
    if run.loaded.plan.limits.keep_pages is not None and not any(folder.glob("*.warc.gz")):
        return
    for page, url, location in run.state.replies():
        try:
            read_reply(folder, location)
        except (DamagedRecord, OSError, KeyError, ValueError) as error:
            why = error.strerror if isinstance(error, OSError) and error.strerror else str(error)
            yield f"page {page}, {without_secret(url)}: the stored reply cannot be read: {why}"
