"""What reads stored replies as page kinds, in this process or in another."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path

from wadi.crawl.bounds import read_within
from wadi.crawl.extract import Extract
from wadi.crawl.kinds import Kind
from wadi.plan.starts import FILE
from wadi.store.archive import DamagedRecord, Location, read_reply
from wadi.web.messages import Reply, Request

Key = tuple[str, str, int]
"""Kind, identity of the request, place in the listing."""


@dataclass(frozen=True, slots=True)
class Wanted:
    """A stored page that is to be read as a kind."""

    kind: str
    request: Request
    number: int
    location: Location

    @property
    def key(self) -> Key:
        return (self.kind, self.request.identity, self.number)


Taken = tuple[Reply, Extract] | str
"""A reply with its extract, its body left out unless it is a file; or why it cannot be had."""


@dataclass(frozen=True)
class Reader:
    """What reads stored replies: the folder, the compiled kinds, where `expect` of each stands, and how many seconds reading
    a page may take."""

    pages: Path
    kinds: Mapping[str, Kind]
    expect_places: Mapping[str, str]
    page_time_s: float = 30.0

    def reply_of(self, wanted: Wanted) -> Reply | str:
        """The stored reply, or why it cannot be had."""
        try:
            return replace(read_reply(self.pages, wanted.location), request=wanted.request)
        except (DamagedRecord, OSError, KeyError, ValueError) as error:
            return f"the stored reply cannot be read: {error}"

    def read(self, wanted: Wanted) -> Taken:
        """One page; in the same process."""
        reply = self.reply_of(wanted)
        if isinstance(reply, str):
            return reply
        kind = self.kinds[wanted.kind]
        place = self.expect_places.get(wanted.kind, "")
        found = read_within(self.page_time_s, reply, kind, self.kinds, place, number=wanted.number)
        return (reply if wanted.kind == FILE else reply.without_body()), found
