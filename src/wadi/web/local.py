"""Local files as pages: a transport that reads them, and sends everything else by another one."""

from __future__ import annotations

import mimetypes
import time
from collections.abc import Callable, Collection
from pathlib import Path
from urllib.parse import unquote, urlsplit

from wadi.web.messages import FetchFailed, Reply, Request
from wadi.web.transport import Transport

_NO_TYPE = {".csv": "text/csv", ".tsv": "text/tab-separated-values", ".jsonl": "application/jsonl"}
"""Media types that not every machine knows."""


class LocalTransport:
    """Reads files below `roots`; a page that was saved may link to anything, and gets nothing else."""

    def __init__(self, roots: Collection[Path], other: Transport, most_bytes: int) -> None:
        self._roots = roots
        self._other = other
        self._most = most_bytes

    async def close(self) -> None:
        await self._other.close()

    async def send(self, request: Request, sent: Callable[[], None] = lambda: None) -> Reply:
        """The file as a reply: 404 where there is none. Raises FetchFailed."""
        if not request.url.startswith("file:"):
            return await self._other.send(request, sent)
        sent()
        return self._read(request, time.time())

    def _read(self, request: Request, began: float) -> Reply:
        path = Path(unquote(urlsplit(request.url).path)).resolve()
        if not any(path.is_relative_to(root) for root in self._roots):
            what = f"{request.url}: it is outside the folders of the files that the plan begins with"
            raise FetchFailed("bad-url", what)
        try:
            if not path.is_file():
                return Reply(request, request.url, 404, (), b"", began)
            if path.stat().st_size > self._most:
                raise FetchFailed("too-large", f"{request.url}: the file is larger than {self._most / 1e6:.0f} MB")
            body = path.read_bytes()
        except OSError as error:
            raise FetchFailed("unreachable", f"{request.url}: it cannot be read: {error.strerror}") from error
        kind = _NO_TYPE.get(path.suffix.lower()) or mimetypes.guess_type(path.name)[0]
        headers = (("Content-Type", kind),) if kind else ()
        return Reply(request, request.url, 200, headers, body, began, received_bytes=len(body))
