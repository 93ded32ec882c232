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
    if isinstance(ip, ipaddress.IPv6Address) and (inner := ip.ipv4_mapped or ip.sixtofour) is not None:
        ip = inner
    return not ip.is_global or ip.is_multicast


@dataclass
class AddressGuard:
    """Which hosts may stand at private addresses: those that the plan itself names; and all, when one of those does, since then
    the plan is about such a network, or when the plan allows it."""

    named: frozenset[str] = frozenset()
    allows_all: bool = False
    is_private: Callable[[str], bool] = field(default=is_private)

    def refuses(self, host: str, address: str) -> bool:
        """Whether a host (its name, without a port) may not be asked at this address."""
        if self.allows_all or not self.is_private(address):
            return False
        if host.casefold() in self.named:
            self.allows_all = True
            return False
        return True
