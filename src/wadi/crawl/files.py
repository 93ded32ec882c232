"""Downloads: a file is kept below the run's folder, under its content's hash."""

from __future__ import annotations

import hashlib
import mimetypes
import re
from pathlib import Path, PurePosixPath
from urllib.parse import unquote, urlsplit

from wadi.problems import Place, Problem
from wadi.store.crash_points import Reached, unheard
from wadi.store.folder import DOWNLOADS
from wadi.store.outcome import StoredFile
from wadi.store.whole_files import whole_file
from wadi.web.messages import Reply

_ANYTHING = frozenset(
    {
        "application/octet-stream",
        "binary/octet-stream",
        "application/download",
        "application/force-download",
        "text/plain",
    }
)
"""Media types that say nothing of what a file is."""
_POINTS = ("file-written", "file-renamed")
_ENDING = re.compile(r"\.[A-Za-z0-9]{1,8}")


def keep_file(folder: Path, reply: Reply, reached: Reached = unheard) -> StoredFile:
    """Write a reply's body below `folder`/downloads, whole or not at all; the same content is there once. Raises OSError."""
    digest = hashlib.sha256(reply.body).hexdigest()
    kind = media_type(reply)
    path = PurePosixPath(DOWNLOADS) / f"{digest}{ending_of(reply.url, kind, reply.header('content-disposition'))}"
    target = folder / path
    if not target.exists():
        target.parent.mkdir(exist_ok=True)
        part = target.with_suffix(".part")
        whole_file(target, lambda out: out.write(reply.body), part=part, reached=reached, points=_POINTS)
    return StoredFile(str(path), len(reply.body), kind, digest)


def not_the_file(reply: Reply) -> Problem | None:
    """What is wrong with a reply that should be a file: a page where the address speaks of something else, or nothing."""
    expected, _ = mimetypes.guess_type(urlsplit(reply.url).path)
    media = media_type(reply)
    if not reply.body:
        return Problem("not-the-file", f"reply {reply.status} is empty", Place(reply.url))
    if media == "text/html" and expected not in (None, "text/html", "application/xhtml+xml"):
        what = f"reply {reply.status} is an HTML page and no {expected}: a block or an error page"
        return Problem("not-the-file", what, Place(reply.url))
    return None


def media_type(reply: Reply) -> str:
    """The media type without its parameters, in small letters; `application/octet-stream` where none is given."""
    return reply.content_type.partition(";")[0].strip().lower() or "application/octet-stream"


def ending_of(url: str, kind: str, disposition: str = "") -> str:
    """The ending for a file: that of the name under which it is sent (RFC 6266), or of its address, where that fits
    the media type or this says nothing; else that of the media type."""
    ending = PurePosixPath(_file_name(disposition) or unquote(urlsplit(url).path)).suffix
    fits = bool(_ENDING.fullmatch(ending))
    says_nothing = kind in _ANYTHING
    if fits and (says_nothing or mimetypes.guess_type(f"x{ending}")[0] == kind):
        return ending.lower()
    return mimetypes.guess_extension(kind) or (ending.lower() if fits else "")


def _file_name(disposition: str) -> str:
    """The name of a file in Content-Disposition, its encoded form first (RFC 6266 §4.3); empty without one."""
    from email.message import Message

    said = Message()
    said["Content-Disposition"] = " ".join(disposition.split())
    try:
        return str(said.get_filename() or "")
    except (ValueError, LookupError):  # encoded otherwise than it says
        return ""
