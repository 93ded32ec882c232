"""Named points of writing at which a process may die. Whoever writes is handed what is to be told of them; tests kill there."""

from __future__ import annotations

from collections.abc import Callable

CRASH_POINTS = (
    "archive-appended",  # a reply is written, not yet synced
    "archive-synced",  # replies are durable, nothing of them is in the database
    "commit-open",  # all of an outcome is in the transaction, not yet committed
    "committed",  # the transaction is through
    "file-written",  # a download is written under another name
    "file-renamed",  # a download has its name, and is not in the database
    "export-written",  # a table is written under another name
    "export-renamed",  # a table has its name
)
Reached = Callable[[str], None]
"""Told the name of a crash point that the process has come to."""


def unheard(point: str) -> None:
    """Nobody wants to know."""
