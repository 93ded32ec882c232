"""Stand-in proxies for trying routes: HTTP with absolute addresses (RFC 9112 §3.2.2) and SOCKS5 (RFC 1928, 1929), on loopback.

They lead to loopback alone, and count what goes through them.
"""

from __future__ import annotations

import asyncio
import base64
import contextlib
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from urllib.parse import urlsplit

_LOCAL = ("127.0.0.1", "localhost")


class StandInProxy:
    """A proxy of one kind; with `login` (`user:word`) it asks for it. `broken` ones close every connection. `region` is the
    loopback address from which it asks sites, as the proxies of a region ask from addresses of their own."""

    def __init__(
        self, kind: str = "http", login: str | None = None, *, broken: bool = False, region: str = "127.0.0.1"
    ) -> None:
        self.kind, self.login, self.broken, self.region = kind, login, broken, region
        self.count = 0

    async def serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """One connection."""
        with contextlib.suppress(OSError, asyncio.IncompleteReadError, ValueError):
            if not self.broken:
                self.count += 1
                await (self._socks(reader, writer) if self.kind == "socks5" else self._http(reader, writer))
        writer.close()

    async def _opened(self, host: str, port: int) -> Stream:
        return await asyncio.open_connection(host, port, local_addr=(self.region, 0))

    async def _http(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        head = await reader.readuntil(b"\r\n\r\n")
        first, _, rest = head.partition(b"\r\n")
        method, target, version = first.decode().split(" ")
        wanted = f"Basic {base64.b64encode(self.login.encode()).decode()}" if self.login else None
        if wanted is not None and f"Proxy-Authorization: {wanted}".lower() not in rest.decode("latin-1").lower():
            writer.write(
                b"HTTP/1.1 407 Proxy Authentication Required\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
            )
            await writer.drain()
            return
        parts = urlsplit(target)
        if parts.hostname not in _LOCAL:
            return
        path = parts._replace(scheme="", netloc="").geturl() or "/"
        upstream = await self._opened(parts.hostname, parts.port or 80)
        fields = [
            line for line in rest.split(b"\r\n") if line and not line.lower().startswith((b"proxy-", b"connection:"))
        ]
        lines = [f"{method} {path} {version}".encode(), *fields, b"Connection: close", b"", b""]
        upstream[1].write(b"\r\n".join(lines))
        await _between((reader, writer), upstream)

    async def _socks(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        _, count = await reader.readexactly(2)
        await reader.readexactly(count)
        writer.write(b"\x05\x02" if self.login else b"\x05\x00")
        if self.login:
            _, length = await reader.readexactly(2)
            user = await reader.readexactly(length)
            (length,) = await reader.readexactly(1)
            word = await reader.readexactly(length)
            is_right = f"{user.decode()}:{word.decode()}" == self.login
            writer.write(b"\x01\x00" if is_right else b"\x01\x01")
            if not is_right:
                return
        _, _, _, kind = await reader.readexactly(4)
        if kind == 1:
            host = ".".join(map(str, await reader.readexactly(4)))
        else:
            (length,) = await reader.readexactly(1)
            host = (await reader.readexactly(length)).decode()
        port = int.from_bytes(await reader.readexactly(2), "big")
        if host not in _LOCAL:
            writer.write(b"\x05\x02\x00\x01\x00\x00\x00\x00\x00\x00")
            return
        upstream = await self._opened(host, port)
        writer.write(b"\x05\x00\x00\x01\x7f\x00\x00\x01\x00\x00")
        await _between((reader, writer), upstream)


Stream = tuple[asyncio.StreamReader, asyncio.StreamWriter]


async def _between(one: Stream, other: Stream) -> None:
    """Pass bytes on in both directions until either side ends."""

    async def pump(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(OSError):
            while data := await reader.read(65_536):
                writer.write(data)
                await writer.drain()
        with contextlib.suppress(OSError):
            writer.close()

    await asyncio.gather(pump(one[0], other[1]), pump(other[0], one[1]))


@asynccontextmanager
async def proxies(*stand_ins: StandInProxy) -> AsyncIterator[list[str]]:
    """The proxies up on free ports of 127.0.0.1; gives their addresses."""
    servers = [await asyncio.start_server(proxy.serve, "127.0.0.1", 0) for proxy in stand_ins]
    addresses = []
    for stand_in, server in zip(stand_ins, servers, strict=True):
        login = f"{stand_in.login}@" if stand_in.login else ""
        addresses.append(f"{stand_in.kind}://{login}127.0.0.1:{server.sockets[0].getsockname()[1]}")
    try:
        yield addresses
    finally:
        for server in servers:
            server.close()
