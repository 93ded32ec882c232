"""What servers do on the wire, from raw bytes: codings, lengths, redirects, cookies. A whole reply, or a clear failure."""

from __future__ import annotations

import asyncio
import gzip
import shutil
import ssl
import subprocess
import threading
import time
import zlib
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest

from wadi.web import transport as transports
from wadi.web.client import Client
from wadi.web.manners import Pace, Throttle
from wadi.web.messages import FetchFailed, Reply, Request
from wadi.web.retry import Retrying
from wadi.web.transport import Bounds, HttpTransport

TEXT = b"<p>Spring" + b"s" * 500
PACKED = gzip.compress(TEXT)
OK = b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\n"


def _sized(body: bytes, *fields: bytes, length: int | None = None) -> bytes:
    lines = b"".join(field + b"\r\n" for field in fields)
    return OK + lines + b"Content-Length: %d\r\n\r\n" % (len(body) if length is None else length) + body


@contextmanager
def _speaking(*answers: bytes, tls: ssl.SSLContext | None = None) -> Iterator[str]:
    """A server that sends these bytes, one answer for each connection, and closes; the last one again and again."""
    left = list(answers)
    ready = threading.Event()
    held: dict[str, object] = {}

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with suppress(asyncio.IncompleteReadError):
            await reader.readuntil(b"\r\n\r\n")
        writer.write(left.pop(0) if len(left) > 1 else left[0])
        await writer.drain()
        writer.close()

    async def main() -> None:
        server = await asyncio.start_server(serve, "127.0.0.1", 0, ssl=tls)
        held["port"], held["loop"], held["stop"] = (
            server.sockets[0].getsockname()[1],
            asyncio.get_running_loop(),
            asyncio.Event(),
        )
        ready.set()
        async with server:
            await held["stop"].wait()

    thread = threading.Thread(target=asyncio.run, args=(main(),), daemon=True)
    thread.start()
    assert ready.wait(10)
    try:
        yield f"http://127.0.0.1:{held['port']}/l"
    finally:
        held["loop"].call_soon_threadsafe(held["stop"].set)  # type: ignore[attr-defined]
        thread.join(10)


def _fetched(url: str, retries: int = 0) -> Reply:
    async def fetch() -> Reply:
        transport = HttpTransport(bounds=Bounds(2, 2, 4, 1_000_000), identity="Wadi/test")
        throttle = Throttle(Pace(0.0, 2), clock=time.monotonic, sleep=asyncio.sleep)
        client = Client(transport, throttle, Retrying(retries, 0.01, 1.0))
        try:
            return await client.fetch(Request(url))
        finally:
            await client.close()

    return asyncio.run(fetch())


@pytest.mark.parametrize(
    "answer",
    [
        _sized(TEXT),
        OK + b"Connection: close\r\n\r\n" + TEXT,  # no length and no chunks
        OK + b"Transfer-Encoding: chunked\r\n\r\n%x\r\n%s\r\n0\r\n\r\n" % (len(TEXT), TEXT),
        _sized(PACKED, b"Content-Encoding: gzip"),
        _sized(PACKED, b"Content-Encoding: x-gzip"),
        _sized(PACKED, b"Content-Encoding: GZIP"),
        _sized(gzip.compress(TEXT[:100]) + gzip.compress(TEXT[100:]), b"Content-Encoding: gzip"),
        _sized(PACKED + b"\0" * 20, b"Content-Encoding: gzip"),
        _sized(zlib.compress(TEXT), b"Content-Encoding: deflate"),
        _sized(zlib.compress(TEXT)[2:-4], b"Content-Encoding: deflate"),
        _sized(gzip.compress(PACKED), b"Content-Encoding: gzip, gzip"),
        _sized(TEXT, b"Content-Encoding: identity"),
        _sized(TEXT, b"Content-Encoding: gzip"),  # said, and not done
        _sized(TEXT, b"Set-Cookie: a=" + b"x" * 9000),
    ],
)  # fmt: skip
def test_whole_replies_come_however_they_are_sent(answer: bytes) -> None:
    with _speaking(answer) as url:
        assert _fetched(url).body == TEXT


@pytest.mark.parametrize(
    ("answer", "cause"),
    [
        (_sized(TEXT, length=9999), "broken-off"),
        (OK + b"Transfer-Encoding: chunked\r\n\r\n%x\r\n%s\r\n" % (len(TEXT), TEXT), "broken-off"),
        (b"", "broken-off"),
        (b"not http at all\r\n\r\n", "broken-off"),
        (_sized(PACKED[:-9], b"Content-Encoding: gzip"), "bad-coding"),
        (_sized(b"x" * 1_000_001), "too-large"),
        (_sized(gzip.compress(b"x" * 1_000_001), b"Content-Encoding: gzip"), "too-large"),
        (b"HTTP/1.1 302 Found\r\nLocation: /l\r\nContent-Length: 0\r\n\r\n", "redirect-loop"),
        (b"HTTP/1.1 302 Found\r\nLocation: ftp://h/\r\nContent-Length: 0\r\n\r\n", "bad-url"),
        (b"HTTP/1.1 503 Busy\r\nContent-Length: 0\r\n\r\n", "http-status"),
    ],
)
def test_what_is_no_whole_reply_is_a_failure(answer: bytes, cause: str) -> None:
    with _speaking(answer) as url, pytest.raises(FetchFailed) as failed:
        _fetched(url)
    assert failed.value.cause == cause


@pytest.mark.parametrize(
    "first",
    [
        b"HTTP/1.1 302 Found\r\nLocation: /l\r\nSet-Cookie: seen=1\r\nContent-Length: 0\r\n\r\n",  # a cookie is to be taken first
        b"HTTP/1.1 308 Moved\r\nLocation: ../l/./x#part\r\nContent-Length: 0\r\n\r\n",
        b"HTTP/1.1 503 Busy\r\nRetry-After: 0\r\nContent-Length: 0\r\n\r\n",
        b"HTTP/1.1 429 Slow\r\nRetry-After: Sun, 06 Nov 1994 08:49:37 GMT\r\nContent-Length: 0\r\n\r\n",
        b"",
        _sized(TEXT, length=9999),
    ],
)
def test_what_comes_right_at_the_second_try(first: bytes) -> None:
    with _speaking(first, _sized(TEXT)) as url:
        assert _fetched(url, retries=1).body == TEXT


@pytest.mark.skipif(shutil.which("openssl") is None, reason="a certificate is made by openssl")
def test_a_certificate_must_be_trusted_and_be_that_of_the_host(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    key, certificate = tmp_path / "key.pem", tmp_path / "certificate.pem"
    request = ["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=localhost"]
    made = ["-addext", "subjectAltName=DNS:localhost", "-keyout", str(key), "-out", str(certificate)]
    subprocess.run(["openssl", *request, *made], check=True, capture_output=True)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificate, key)
    with _speaking(_sized(TEXT), tls=context) as url:
        address = url.replace("http://127.0.0.1", "https://localhost")
        with pytest.raises(FetchFailed, match="certificate") as unknown:
            _fetched(address)
        assert unknown.value.cause == "unreachable"
        monkeypatch.setenv("SSL_CERT_FILE", str(certificate))
        transports._trusted.cache_clear()
        try:
            assert _fetched(address).body == TEXT
            with pytest.raises(FetchFailed, match=r"127\.0\.0\.1") as other:
                _fetched(url.replace("http:", "https:"))
            assert other.value.cause == "unreachable"
        finally:
            monkeypatch.undo()
            transports._trusted.cache_clear()
