"""HTTP Archives (HAR 1.2) that a browser's network panel saves: what was asked for, and the replies that response.

What is broken in a file from outside is left out, entry by entry.
"""

from __future__ import annotations

import base64
import binascii
import json
from collections.abc import Mapping
from typing import Any

from wadi.web.messages import Headers, Reply, Request

MOST_BYTES = 500_000_000
"""The largest file that is read."""
_UNDONE = ("content-encoding", "content-length", "transfer-encoding", "content-type", "set-cookie")


class NotAnArchive(ValueError):
    """A file is no HTTP Archive; says why."""


def read_archive(data: bytes) -> list[Reply]:
    """The replies with a body, in the order of the file, each with its request as it was sent: secrets stand in it. Raises
    NotAnArchive."""
    try:
        read: Any = json.loads(data)
        entries = read["log"]["entries"]
    except (ValueError, KeyError, TypeError, RecursionError) as error:
        raise NotAnArchive("it is no HTTP Archive: JSON with log.entries") from error
    if not isinstance(entries, list):
        raise NotAnArchive("its log.entries is no list")
    return [reply for entry in entries if (reply := _reply(entry)) is not None]


def _reply(entry: Any) -> Reply | None:
    """An entry as a reply; None where it has no body, or is none that can be read."""
    try:
        asked, response = entry["request"], entry["response"]
        url = _text(asked["url"]).partition("#")[0]
        status, content = int(response["status"]), response["content"]
        kind, body = _text(content.get("mimeType", "")), _body(content)
        request = Request(url, str(asked.get("method", "GET")).upper(), _fields(asked), _sent(asked))
        headers = tuple((name, value) for name, value in _fields(response) if name.lower() not in _UNDONE)
    except (KeyError, TypeError, ValueError, AttributeError):
        return None
    if not body or not url.startswith(("http://", "https://")):
        return None
    if content.get("encoding") != "base64":  # the browser has decoded its text already
        kind = f"{kind.partition(';')[0].strip()}; charset=utf-8"
    return Reply(request, url, status, (*headers, ("Content-Type", kind)), body, 0.0, received_bytes=len(body))


def _text(value: Any) -> str:
    """A text without halves of characters, which JSON can hold."""
    return str(value).encode("utf-8", "replace").decode()


def _body(content: Mapping[str, Any]) -> bytes:
    text = content.get("text") or ""
    if content.get("encoding") != "base64":
        return str(text).encode("utf-8", "replace")
    try:
        return base64.b64decode(text)
    except binascii.Error:
        return b""


def _sent(asked: Mapping[str, Any]) -> bytes:
    """The body of a request."""
    posted = asked.get("postData") or {}
    return str(posted.get("text") or "").encode("utf-8", "replace")


def _fields(message: Mapping[str, Any]) -> Headers:
    """Header fields, without those of HTTP/2 that are none."""
    found = []
    for one in message.get("headers") or ():
        name, value = _text(one["name"]), _text(one["value"])
        if not name.startswith(":"):
            found.append((name, value))
    return tuple(found)
