"""Named points at which a process may die, for tests of what is left behind: `WADI_DIE_AT=committed:3`.

Without the variable a point costs one look at a name.
"""

from __future__ import annotations

import os
import signal

POINTS = (
    "archive-appended",  # a reply is written, not yet synced
    "archive-synced",  # replies are durable, nothing of them is in the database
    "commit-open",  # all of an outcome is in the transaction, not yet committed
    "committed",  # the transaction is through
    "file-written",  # a download is written under another name
    "file-renamed",  # a download has its name, and is not in the database
    "export-written",  # a table is written under another name
    "export-renamed",  # a table has its name
)
_name, _, _count = os.environ.get("WADI_DIE_AT", "").partition(":")
_left = int(_count or 1) if _name in POINTS else 0


def reached(point: str) -> None:
    """The process has come to a named point."""
    if point == _name:
        _die_at_last()


def _die_at_last() -> None:
    global _left
    _left -= 1
    if _left == 0:
        os.kill(os.getpid(), signal.SIGKILL)
