"""Pages that were looked at, kept for a day in the user's cache folder, so that looking again asks no site again.

One file for each URL: an archive record, named by the digest of the request's identity. Where no cache can be written,
nothing is kept, and looking goes on.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import time
from collections.abc import Callable
from pathlib import Path

from wadi.store.archive import DamagedRecord, Location, packed_reply, read_reply
from wadi.store.whole_files import whole_file
from wadi.web.messages import Reply, Request

KEPT_S = 24 * 3600.0


def cache_folder() -> Path:
    """`WADI_CACHE`, or the user's cache folder by the rules of the system (XDG on Linux)."""
    from platformdirs import user_cache_path

    return Path(os.environ.get("WADI_CACHE") or user_cache_path("wadi", appauthor=False)) / "pages"


class PageCache:
    """The kept pages below a folder. `now` gives seconds since 1970; pages that were asked for in another `manner` (with header
    fields of a plan) are others."""

    def __init__(self, folder: Path, *, now: Callable[[], float] = time.time, manner: str = "") -> None:
        self.folder = folder
        self._now = now
        self._manner = manner

    def asked_so(self, manner: str) -> PageCache:
        """The kept pages that were asked for in a manner."""
        return PageCache(self.folder, now=self._now, manner=manner)

    def find(self, request: Request) -> tuple[Reply, float] | None:
        """The kept reply and its age in seconds; None when there is none of today."""
        path = self._path(request)
        try:
            reply = read_reply(self.folder, Location(path.name, 0, path.stat().st_size))
        except (OSError, DamagedRecord, ValueError, KeyError):
            return None
        age = self._now() - reply.started_at
        return (reply, age) if 0 <= age < KEPT_S else None

    def keep(self, request: Request, reply: Reply) -> None:
        """Keep a reply; pages older than a day are cleared away. One with replies beside it is not kept: they are records of
        their own."""
        if reply.beside:
            return
        with contextlib.suppress(OSError):
            self.folder.mkdir(parents=True, exist_ok=True)
            for path in self.folder.iterdir():
                if self._now() - path.stat().st_mtime > KEPT_S:
                    path.unlink(missing_ok=True)
            whole_file(self._path(request), lambda out: out.write(packed_reply(reply)))

    def _path(self, request: Request) -> Path:
        return self.folder / f"{hashlib.sha256((request.identity + self._manner).encode()).hexdigest()[:40]}.warc.gz"
