"""Addresses that only this machine or its own network reaches: where a site of the open net may not send us."""

from __future__ import annotations

import ipaddress
from collections.abc import Callable
from dataclasses import dataclass, field


def is_private(address: str) -> bool:
    """Whether an IP address is of this machine, a link, a private network, or none that anybody may have (RFC 6890)."""
    try:
        ip = ipaddress.ip_address(address.partition("%")[0].strip("[]"))
    except ValueError:
        return False
    if isinstance(ip, ipaddress.IPv6Address):
        ip = _inner(ip) or ip
    return not ip.is_global or ip.is_multicast


_TRANSLATED = (ipaddress.IPv6Network("64:ff9b::/96"), ipaddress.IPv6Network("::/96"))
"""Where an IPv4 address stands in the last 32 bits (RFC 6052 §2.1, RFC 4291 §2.5.5.1)."""


def _inner(ip: ipaddress.IPv6Address) -> ipaddress.IPv4Address | None:
    """The IPv4 address that an IPv6 address leads to."""
    if any(ip in network for network in _TRANSLATED) and int(ip) > 1:  # not :: and ::1
        return ipaddress.IPv4Address(int(ip) & 0xFFFFFFFF)
    return ip.ipv4_mapped or ip.sixtofour


@dataclass
class AddressGuard:
    """Which hosts may stand at private addresses: those that the plan itself names; and all, when one of those does, since then
    the plan is about such a network, or when the plan allows it. A host that stood in the open net may not move to a private
    address: whoever has its name could send us anywhere by it."""

    named: frozenset[str] = frozenset()
    allows_all: bool = False
    is_private: Callable[[str], bool] = field(default=is_private)
    _in_the_open: set[str] = field(default_factory=set)

    def refuses(self, host: str, address: str) -> bool:
        """Whether a host (its name, without a port) may not be asked at this address."""
        name = host.casefold()
        if self.allows_all:
            return False
        if not self.is_private(address):
            if address != host:  # a name at an address, and not a name alone
                self._in_the_open.add(name)
            return False
        if name in self.named - self._in_the_open:
            self.allows_all = True
            return False
        return True
