"""What may be asked next: waiting pages in reading order, of hosts that have room, without those that are put off or rest."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Set
from typing import Any

from wadi.crawl.flight import Flight
from wadi.crawl.health import Health
from wadi.crawl.task import Patience, Room
from wadi.store.pages import Page
from wadi.store.queue import Queue
from wadi.web.hosts import Hosts


class Choice:
    """What chooses the pages that come next. This one chooses none, puts nothing off and waits for nothing."""

    @property
    def put_off_pages(self) -> list[Page]:
        """The pages that wait for a later time."""
        return []

    def may_be_put_off(self, page: Page) -> bool:
        """Whether a page that did not come right is to be asked for again later."""
        return False

    def put_off(self, page: Page, now: float) -> float:
        """A page is to be asked for again later: the seconds until then."""
        return 0.0

    def open(self, hosts: Iterable[str]) -> None:
        """These hosts may have pages to ask for, or room again."""

    def open_all(self) -> None:
        """Any host may."""

    def choose(self, now: float, may_send: Callable[[Page, int], bool]) -> list[Page]:
        """The next pages to ask for; none where what is under way is to be waited for, or nothing is left. `may_send` is asked of
        each, with how many were chosen before it."""
        return []

    def next_at(self) -> float | None:
        """When there may be more; None where that depends on no time."""
        return None


class Agenda(Choice):
    """The pages to come. It looks at what waits in the database, what is in flight, and how hosts are doing; it asks for nothing.

    Of more than `many_hosts` waiting pages are looked for all together. Pages further from the starts than `most_depth` are left.
    """

    def __init__(
        self,
        queue: Queue,
        flight: Flight[Any],
        health: Health,
        hosts: Hosts,
        room: Room,
        patience: Patience,
        *,
        many_hosts: int,
        most_depth: int | None,
    ) -> None:
        self._queue = queue
        self._flight = flight
        self._health = health
        self._hosts = hosts
        self._room = room
        self._patience = patience
        self._many_hosts = many_hosts
        self._most_depth = most_depth
        self._later: dict[int, tuple[Page, float]] = {}
        self._put_offs: Counter[int] = Counter()
        self._open: set[str] = set()
        """The hosts that may have pages to ask for; those that are known to have none are left out."""
        self._looked_at = 0.0

    @property
    def put_off_pages(self) -> list[Page]:
        """The pages that wait for a later time."""
        return [page for page, _ in self._later.values()]

    def may_be_put_off(self, page: Page) -> bool:
        """Whether a page that did not come right has not been put off too often, and its host ever answered."""
        return self._put_offs[page.id] < self._patience.put_offs and self._health.has_answered(page.request.host)

    def put_off(self, page: Page, now: float) -> float:
        """A page is to be asked for again later: the seconds until then, doubled each time."""
        self._put_offs[page.id] += 1
        seconds = self._patience.put_off_s * 2.0 ** (self._put_offs[page.id] - 1)
        self._later[page.id] = (page, now + seconds)
        return seconds

    def open(self, hosts: Iterable[str]) -> None:
        """These hosts may have pages to ask for, or room again."""
        self._open |= set(hosts)

    def open_all(self) -> None:
        """Look at all hosts that have waiting pages."""
        self._open = set(self._queue.hosts())

    def choose(self, now: float, may_send: Callable[[Page, int], bool]) -> list[Page]:
        """The next pages to ask for, in reading order, of hosts that have room; `may_send` is asked of each, with how many were
        chosen before it."""
        self._looked_at, room = now, self._flight.room
        self._open |= {page.request.host for page, at in self._later.values() if at <= now}
        rooms = {host: self._room_at(host, now) for host in self._open}
        # Hosts that are full are open again when one of their pages has come.
        self._open -= {host for host, count in rooms.items() if count <= 0 and self._hosts[host].under_way}
        rooms = {host: count for host, count in rooms.items() if count > 0}
        if room <= 0 or not rooms:
            return []
        later = {number for number, (_, at) in self._later.items() if at > now}
        busy = self._flight.busy | later if later else self._flight.busy
        chosen: list[Page] = []
        for page in self._of_hosts(rooms, room, busy):
            if len(chosen) == room or not may_send(page, len(chosen)):
                break
            host = page.request.host
            if rooms.get(host, 0) > 0:
                rooms[host] -= 1
                chosen.append(page)
                self._later.pop(page.id, None)
        return chosen

    def next_at(self) -> float | None:
        """When the next page that is put off is due, or the next host that rests may be asked again; None where neither is.

        What was due when we looked and was not sent is held by something else: a limit, or a host that rests.
        """
        looked, barred = self._looked_at, self._health.given_up()
        ends = [at for page, at in self._later.values() if at > looked and page.request.host not in barred]
        resting = self._health.next_s(looked)
        ends += [looked + resting] if resting is not None else []
        return min(ends) if ends else None

    def _room_at(self, host: str, now: float) -> int:
        """How many more pages a host may be asked for."""
        allowed = self._health.room(host, now)
        if allowed is None:
            return self._room.per_host - self._hosts[host].asked
        # Where one page is to show whether the host answers again, it is waited for.
        return allowed - self._hosts[host].under_way

    def _of_hosts(self, rooms: Mapping[str, int], room: int, busy: Set[int]) -> list[Page]:
        """Waiting pages of these hosts in reading order. Of few hosts each is asked for by itself, so that what waits at hosts
        without room is not gone through; those that have nothing more are not open any longer."""
        if len(rooms) > self._many_hosts:
            full = {page.request.host for page in self._flight.pages} - rooms.keys()
            barred = full | self._health.barred(self._looked_at)
            found = self._queue.first(len(busy) + room, barred, busy, self._most_depth)
            if len(found) < room:
                self._open -= rooms.keys()
                self._open |= {page.request.host for page in found}
            return found
        pages: list[Page] = []
        for host, count in rooms.items():
            found = self._queue.first_at(host, min(count, room), busy, self._most_depth)
            pages += found
            if len(found) < count:
                self._open.discard(host)
        return sorted(pages, key=lambda page: page.route)
