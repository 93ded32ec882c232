"""Addresses of private networks: what a site of the open net leads to is not asked for there.

Names are resolved by what the test says, and all are on loopback: 127.0.0.1 stands for the open net, 127.0.0.2 for a private one.
"""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator

import pytest

from wadi.web.messages import FetchFailed, Request
from wadi.web.private import AddressGuard, is_private
from wadi.web.transport import Bounds, HttpTransport


@pytest.mark.parametrize(
    ("address", "wanted"),
    [
        ("127.0.0.1", True), ("127.9.9.9", True), ("10.1.2.3", True), ("172.16.0.1", True), ("172.32.0.1", False), ("192.168.1.1", True),
        ("169.254.169.254", True), ("100.64.0.1", True), ("0.0.0.0", True), ("224.0.0.1", True), ("255.255.255.255", True),
        ("8.8.8.8", False), ("::1", True), ("[::1]", True), ("fe80::1%eth0", True), ("fd00::1", True), ("::ffff:10.0.0.1", True),
        ("2002:0a00:0001::", True), ("2606:4700::1", False), ("64:ff9b::10.0.0.1", True), ("64:ff9b::8.8.8.8", False), ("::127.0.0.1", True), ("::", True),
        ("example.org", False), ("", False),
    ],
)  # fmt: skip
def test_which_addresses_are_private(address: str, wanted: bool) -> None:
    assert is_private(address) is wanted


def test_a_plan_that_begins_in_a_private_network_may_go_on_there() -> None:
    guard = AddressGuard(frozenset({"office.example"}))
    assert not guard.refuses("other.example", "8.8.8.8")
    assert guard.refuses("other.example", "10.0.0.1")
    assert not guard.refuses("Office.Example", "10.0.0.2")
    assert not guard.refuses("other.example", "10.0.0.1")
    assert not AddressGuard(allows_all=True).refuses("other.example", "10.0.0.1")


def test_a_named_host_of_the_open_net_may_not_move_inside() -> None:
    guard = AddressGuard(frozenset({"open.example"}))
    assert not guard.refuses("open.example", "open.example")  # looked at before its name is resolved
    assert not guard.refuses("Open.Example", "8.8.8.8")
    assert guard.refuses("open.example", "127.0.0.1")
    assert guard.refuses("other.example", "127.0.0.1")
    assert not guard.refuses("open.example", "8.8.4.4")


@contextlib.asynccontextmanager
async def _hosts(asked: list[str]) -> AsyncIterator[int]:
    async def answer(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        asked.append(writer.get_extra_info("sockname")[0])
        await reader.readline()
        writer.write(b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\nConnection: close\r\n\r\nok")
        await writer.drain()
        writer.close()

    first = await asyncio.start_server(answer, "127.0.0.1", 0)
    port = first.sockets[0].getsockname()[1]
    second = await asyncio.start_server(answer, "127.0.0.2", port)
    async with first, second:
        yield port


@pytest.mark.parametrize(
    ("host", "is_refused"),
    [("open.example", False), ("more.example", False), ("inner.example", True), ("127.0.0.2", True)],
)
def test_a_name_or_an_address_that_leads_inside_is_not_connected_to(host: str, is_refused: bool) -> None:
    asked: list[str] = []

    async def story() -> None:
        async with _hosts(asked) as port:
            places = {"open.example": "127.0.0.1", "more.example": "127.0.0.1", "inner.example": "127.0.0.2"}
            guard = AddressGuard(frozenset({"open.example"}), is_private=lambda address: address == "127.0.0.2")
            transport = HttpTransport(
                bounds=Bounds(2, 2, 4, 100_000), identity="Wadi/test", guard=guard,
                resolve=[f"{name}:{port}:{place}" for name, place in places.items()],
            )  # fmt: skip
            try:
                if is_refused:
                    with pytest.raises(FetchFailed, match="private network") as failed:
                        await transport.send(Request(f"http://{host}:{port}/"))
                    assert failed.value.cause == "private-address"
                else:
                    assert (await transport.send(Request(f"http://{host}:{port}/"))).status == 200
            finally:
                await transport.close()

    asyncio.run(story())
    assert asked == ([] if is_refused else ["127.0.0.1"])
