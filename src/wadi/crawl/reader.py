"""What reads replies as page kinds, in this process or in another: one that came just now, or one that a run has stored."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path

from wadi.crawl.bounds import read_within
from wadi.crawl.extract import Extract
from wadi.crawl.kinds import Kind
from wadi.store.archive import DamagedRecord, Location, Packed, pack, read_reply
from wadi.web.messages import Reply, Request
from wadi.web.pickled import pickled_by_value

DAMAGED_REPLY = (DamagedRecord, OSError, KeyError, ValueError)
"""What is raised for a stored reply that cannot be had."""


@dataclass(frozen=True, slots=True)
class ReplyToRead:
    """A reply that is to be read as a kind: of a page of the run, at a place in its listing."""

    kind: str
    reply: Reply
    page: int
    number: int
    usual_bytes: float | None = None

    def loaded(self) -> Reply:
        """The reply."""
        return self.reply


@dataclass(frozen=True, slots=True)
class RecordToRead:
    """A stored reply, below `pages`, that is to be read as a kind."""

    kind: str
    request: Request
    number: int
    pages: Path
    location: Location
    usual_bytes: None = None

    def loaded(self) -> Reply:
        """The reply. Raises what DAMAGED_REPLY names."""
        return replace(read_reply(self.pages, self.location), request=self.request)


ToRead = ReplyToRead | RecordToRead


@pickled_by_value
@dataclass(frozen=True, slots=True)
class Read:
    """What reading came to: the extract; of a reply that came just now its record for the archive, of a stored one the reply
    without its body; or what is damaged."""

    found: Extract
    packed: Packed | None = None
    reply: Reply | None = None
    damage: str = ""


@dataclass(frozen=True)
class Reader:
    """What reads replies: the compiled kinds, where `expect` of each stands, and how many seconds reading a page may take."""

    kinds: Mapping[str, Kind]
    expect_places: Mapping[str, str]
    page_time_s: float = 30.0

    def read(self, todo: ToRead) -> Read:
        """One page; in the same process."""
        try:
            reply = todo.loaded()
        except DAMAGED_REPLY as error:
            return Read(Extract(), damage=f"the stored reply cannot be read: {error}")
        kind, place = self.kinds[todo.kind], self.expect_places.get(todo.kind, "")
        found = read_within(
            self.page_time_s, reply, kind, self.kinds, place, number=todo.number, usual_bytes=todo.usual_bytes
        )
        return read_as(todo, reply, found)


def read_as(todo: ToRead, reply: Reply, found: Extract) -> Read:
    """An extract, with what goes with it."""
    if isinstance(todo, ReplyToRead):
        return Read(found, pack(reply, todo.page))
    return Read(found, reply=reply.without_body())
