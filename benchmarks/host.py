"""A host for benchmarks: replies to GET from a function, on a free port that is printed, with as little work as can be."""

from __future__ import annotations

import selectors
import socket
from collections.abc import Callable


def serve(reply: Callable[[bytes], bytes], address: str = "127.0.0.1") -> None:
    """Answer until the process is ended; `reply` gives the whole answer to a path."""
    listening = socket.create_server((address, 0), backlog=4096)
    print(listening.getsockname()[1], flush=True)
    # One loop over plain sockets: a request takes a sixth of the time that an event loop with transports takes for it.
    watched = selectors.DefaultSelector()
    watched.register(listening, selectors.EVENT_READ, None)
    while True:
        for key, _ in watched.select():
            if key.data is None:
                connection, _ = listening.accept()
                connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                watched.register(connection, selectors.EVENT_READ, bytearray())
            elif not _answered(key.fileobj, key.data, reply):  # type: ignore[arg-type]
                watched.unregister(key.fileobj)
                key.fileobj.close()  # type: ignore[union-attr]


def _answered(connection: socket.socket, came: bytearray, reply: Callable[[bytes], bytes]) -> bool:
    """Whether the connection still stands after its requests have been answered."""
    try:
        data = connection.recv(65_536)
        came += data
        while (end := came.find(b"\r\n\r\n")) >= 0:
            connection.sendall(reply(bytes(came[:end]).split(b" ", 2)[1]))
            del came[: end + 4]
    except OSError:
        return False
    return bool(data)


def answer(body: bytes, content_type: str = "text/html; charset=utf-8") -> bytes:
    """A reply of status 200 as it goes over the wire."""
    return f"HTTP/1.1 200 OK\r\nContent-Type: {content_type}\r\nContent-Length: {len(body)}\r\n\r\n".encode() + body
