"""A host for benchmarks: replies to GET from a function, on a free port that is printed, with as little work as can be."""

from __future__ import annotations

import asyncio
from collections.abc import Callable


def serve(reply: Callable[[bytes], bytes], address: str = "127.0.0.1") -> None:
    """Answer until the process is ended; `reply` gives the whole answer to a path."""

    class Site(asyncio.Protocol):
        def connection_made(self, transport: asyncio.BaseTransport) -> None:
            self.transport, self.data = transport, b""

        def data_received(self, data: bytes) -> None:
            self.data += data
            while (end := self.data.find(b"\r\n\r\n")) >= 0:
                head, self.data = self.data[:end], self.data[end + 4 :]
                self.transport.write(reply(head.split(b" ", 2)[1]))  # type: ignore[attr-defined]

    async def run() -> None:
        server = await asyncio.get_running_loop().create_server(Site, address, 0, backlog=4096)
        print(server.sockets[0].getsockname()[1], flush=True)
        await server.serve_forever()

    asyncio.run(run())


def answer(body: bytes, content_type: str = "text/html; charset=utf-8") -> bytes:
    """A reply of status 200 as it goes over the wire."""
    return f"HTTP/1.1 200 OK\r\nContent-Type: {content_type}\r\nContent-Length: {len(body)}\r\n\r\n".encode() + body
