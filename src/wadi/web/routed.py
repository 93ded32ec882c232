"""Sends requests by routes, in turn or by their names: a transport, with cookies of its own, for each of them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from wadi.urls import without_secret
from wadi.web.messages import FetchFailed, Reply, Request
from wadi.web.routes import Routes
from wadi.web.transport import Transport

_NOT_THROUGH = frozenset({"unreachable", "timed-out", "broken-off", "no-route"})
_MOST_FAILURES = 3
_REFUSED = frozenset({403, 407, 429, 502, 503})


@dataclass(frozen=True, slots=True)
class RouteFailed:
    """An event: a route failed. `route` is its address without what is secret."""

    route: str
    why: str
    is_withdrawn: bool


class RoutedTransport:
    """Sends each request by the route that is next. A request that a route did not get through is a failed one: the layers
    above try it again, by another route."""

    def __init__(
        self,
        addresses: Sequence[str],
        transports: Sequence[Transport],
        routes: Routes,
        *,
        clock: Callable[[], float],
        report: Callable[[RouteFailed], None] = lambda event: None,
    ) -> None:
        self._addresses = [without_secret(address) for address in addresses]
        self._transports = transports
        self._routes = routes
        self._clock = clock
        self._report = report

    async def close(self) -> None:
        for transport in self._transports:
            await transport.close()

    async def send(self, request: Request, sent: Callable[[], None] = lambda: None) -> Reply:
        """One request by the next route. Raises FetchFailed."""
        route = self._routes.choose(self._clock())
        if route is None:
            withdrawn = len(self._routes.withdrawn())
            what = f"no route is left: {withdrawn} of {self._routes.count} are withdrawn, the others rest"
            raise FetchFailed("no-route", what)
        try:
            reply = await self._transports[route].send(request, sent)
        except FetchFailed as failure:
            if failure.cause in _NOT_THROUGH:
                self._failed(route, failure.what)
            raise
        if reply.status in _REFUSED:
            self._failed(route, f"status {reply.status}")
        else:
            self._routes.succeeded(route)
        return reply

    def _failed(self, route: int, why: str) -> None:
        self._routes.failed(route, self._clock())
        self._report(RouteFailed(self._addresses[route], why, self._routes.is_withdrawn(route)))


class NamedTransport:
    """Sends each request by the route that it names, and by no other: what a site says may depend on it. Without a name it goes
    by the first. A route that fails three times in a row is withdrawn; its pages fail, and the others go on."""

    def __init__(
        self,
        addresses: Mapping[str, str],
        transports: Mapping[str, Transport],
        *,
        report: Callable[[RouteFailed], None] = lambda event: None,
    ) -> None:
        self._addresses = {name: without_secret(address) for name, address in addresses.items()}
        self._transports = transports
        self._failures: Counter[str] = Counter()
        self._report = report

    async def close(self) -> None:
        for transport in self._transports.values():
            await transport.close()

    async def send(self, request: Request, sent: Callable[[], None] = lambda: None) -> Reply:
        """One request by its route. Raises FetchFailed."""
        name = request.route or next(iter(self._transports))
        if name not in self._transports:
            raise FetchFailed("route-withdrawn", f'the plan has no route "{name}" any more')
        if self._failures[name] >= _MOST_FAILURES:
            what = f'route "{name}" is withdrawn: it failed {_MOST_FAILURES} times in a row'
            raise FetchFailed("route-withdrawn", what)
        try:
            reply = await self._transports[name].send(request, sent)
        except FetchFailed as failure:
            if failure.cause == "no-route":
                self._failures[name] += 1
                is_withdrawn = self._failures[name] >= _MOST_FAILURES
                self._report(RouteFailed(self._addresses[name], failure.what, is_withdrawn))
            raise
        self._failures.pop(name, None)
        return reply
