"""What a page in a browser asks for: which requests are on their way, and the replies that are data, with their bodies."""

from __future__ import annotations

import base64
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from wadi.web.messages import Headers, Hop, Reply, Request
from wadi.web.webdriver import MOST_BODY_BYTES, BrowserError, Session

_DATA = ("json", "xml", "csv", "graphql", "javascript-object", "x-ndjson")
_LEFT_OUT = frozenset({"content-encoding", "content-length", "transfer-encoding", "set-cookie"})
_OF_REQUESTS = frozenset({"content-type", "accept", "x-requested-with"})


@dataclass
class Traffic:
    """What a window asked for: replies by their request, those that are on their way, when something last happened.

    `hops` are the documents that gave way to others since a page was taken: redirects, pages that led on. `replies` counts the
    background replies that are data, `noticed` is what a person would have seen happen, `opened` are the windows that the page
    opened.
    """

    context: str
    url: str = ""
    status: int = 0
    headers: Headers = ()
    hops: list[Hop] = field(default_factory=list)
    replies: int = 0
    noticed: list[str] = field(default_factory=list)
    opened: list[str] = field(default_factory=list)
    collector: str = ""
    last_s: float = field(default_factory=time.monotonic)
    _on_the_way: set[str] = field(default_factory=set)
    _completed: list[Mapping[str, Any]] = field(default_factory=list)

    def hear(self, method: str, said: Mapping[str, Any]) -> None:
        """Take an event of this window into account."""
        if method == "browsingContext.contextCreated" and said.get("originalOpener") == self.context:
            self.opened.append(str(said["context"]))
            self.noticed.append(f"a window: {str(said.get('url', ''))[:80]}")
        if said.get("context") != self.context:
            return
        request = said.get("request", {})
        name = str(request.get("request", ""))
        self.last_s = time.monotonic()
        if method == "network.beforeRequestSent":
            self._on_the_way.add(name)
        elif method == "network.responseStarted":
            if said.get("navigation"):  # before anything of it is shown: its end may come long after
                self._take_document(said.get("response", {}))
        elif method in ("network.responseCompleted", "network.fetchError"):
            self._on_the_way.discard(name)
            media_type = str(said.get("response", {}).get("mimeType", ""))
            is_data = method == "network.responseCompleted" and any(kind in media_type for kind in _DATA)
            if is_data and not said.get("navigation"):
                self._completed.append(said)
                self.replies += 1
        elif method == "browsingContext.userPromptOpened":
            self.noticed.append(f"a dialog: {str(said.get('message', ''))[:80]}")
        elif method == "browsingContext.downloadWillBegin":
            self.noticed.append(f"a download: {str(said.get('suggestedFilename', ''))[:80]}")

    def _take_document(self, response: Mapping[str, Any]) -> None:
        if self.url:
            self.hops.append(Hop(self.url, self.status))
        self.url = str(response.get("url", "")).partition("#")[0]
        self.status = int(response.get("status", 0))
        self.headers = _headers(response)

    @property
    def is_quiet(self) -> bool:
        return not self._on_the_way

    async def bodies(self, session: Session) -> tuple[Reply, ...]:
        """The background replies that are data and were not given yet, in the order in which they came."""
        completed, self._completed = self._completed, []
        found = [await _reply(session, self.collector, said) for said in completed]
        return tuple(reply for reply in found if reply is not None)


async def _reply(session: Session, collector: str, said: Mapping[str, Any]) -> Reply | None:
    """A background reply with its body; None where the browser has it no more, and where it is too large."""
    request, response = said["request"], said["response"]
    if int(response.get("bodySize") or 0) > MOST_BODY_BYTES:
        return None
    try:
        body = await _data(session, collector, str(request["request"]), "response")
    except BrowserError:
        return None
    method, sent = str(request["method"]), b""
    if method not in ("GET", "HEAD"):
        try:
            sent = await _data(session, collector, str(request["request"]), "request")
        except BrowserError:
            sent = b""
    fields = tuple((n, v) for n, v in _headers(request) if n.lower() in _OF_REQUESTS)
    asked = Request(str(request["url"]).partition("#")[0], method, fields, sent)
    return Reply(
        asked, asked.url, int(response["status"]), _headers(response), body, time.time(), received_bytes=len(body)
    )


async def _data(session: Session, collector: str, request: str, kind: str) -> bytes:
    """The body of a request or of its response. Raises BrowserError."""
    wanted = {"dataType": kind, "request": request, "collector": collector, "disown": True}
    value = (await session.send("network.getData", wanted))["bytes"]
    return base64.b64decode(value["value"]) if value["type"] == "base64" else str(value["value"]).encode()


def _headers(message: Mapping[str, Any]) -> Headers:
    """The header fields of a request or a reply, without those of a coding that is undone."""
    found = []
    for one in message.get("headers", ()):
        value = one.get("value", {})
        text = str(value.get("value", "")) if value.get("type") == "string" else ""
        if one["name"].lower() not in _LEFT_OUT:
            found.append((str(one["name"]), text))
    return tuple(found)
