"""What servers do on the wire, from raw bytes: codings, lengths, redirects, cookies. A whole reply, or a clear failure."""

from __future__ import annotations

import asyncio
import gzip
import json
import shutil
import socket
import ssl
import subprocess
import threading
import time
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest

from conftest import Program
from wadi.web.client import Client
from wadi.web.hosts import Pace
from wadi.web.manners import Throttle
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


def _made(folder: Path) -> tuple[Path, Path]:
    """A key and a certificate for `localhost`."""
    key, certificate = folder / "key.pem", folder / "certificate.pem"
    request = ["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=localhost"]
    made = ["-addext", "subjectAltName=DNS:localhost", "-keyout", str(key), "-out", str(certificate)]
    subprocess.run(["openssl", *request, *made], check=True, capture_output=True)
    return key, certificate


@contextmanager
def _by_version(key: Path, certificate: Path, versions: list[str]) -> Iterator[str]:
    """A server by TLS that offers these versions of HTTP, and answers with the one that was taken and what was sent by it."""
    from hypercorn.asyncio import serve
    from hypercorn.config import Config

    async def answer(scope: Any, receive: Any, send: Any) -> None:
        if scope["type"] != "http":
            return
        body = b""
        while (event := await receive())["type"] == "http.request":
            body += event["body"]
            if not event.get("more_body"):
                break
        said = {"version": scope["http_version"], "path": scope["raw_path"].decode(), "body": body.decode()}
        fields = [(b"content-type", b"application/json"), (b"x-asked", dict(scope["headers"]).get(b"x-key", b""))]
        await send({"type": "http.response.start", "status": 200, "headers": fields})
        await send({"type": "http.response.body", "body": json.dumps(said).encode()})

    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    config = Config()
    config.bind, config.certfile, config.keyfile = [f"127.0.0.1:{port}"], str(certificate), str(key)
    config.alpn_protocols, config.accesslog, config.errorlog = versions, None, None
    held: dict[str, Any] = {}
    ready = threading.Event()

    async def main() -> None:
        held["loop"], held["stop"] = asyncio.get_running_loop(), asyncio.Event()
        ready.set()
        await serve(answer, config, shutdown_trigger=held["stop"].wait)

    thread = threading.Thread(target=asyncio.run, args=(main(),), daemon=True)
    thread.start()
    assert ready.wait(10)
    for _ in range(100):
        with suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
            break
        time.sleep(0.05)
    try:
        yield f"https://localhost:{port}"
    finally:
        held["loop"].call_soon_threadsafe(held["stop"].set)
        thread.join(10)


@pytest.mark.skipif(shutil.which("openssl") is None, reason="a certificate is made by openssl")
@pytest.mark.parametrize(("offered", "taken"), [(["h2", "http/1.1"], "2"), (["http/1.1"], "1.1")])
def test_http_2_is_taken_where_a_server_offers_it_and_the_pause_is_kept(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, offered: list[str], taken: str
) -> None:
    key, certificate = _made(tmp_path)

    async def fetched(site: str) -> tuple[list[Reply], list[float]]:
        transport = HttpTransport(bounds=Bounds(2, 2, 4, 1_000_000), identity="Wadi/test")
        at: list[float] = []

        class Noted:
            async def send(self, request: Request, sent: Callable[[], None]) -> Reply:
                return await transport.send(request, lambda: (at.append(time.monotonic()), sent())[1])

            async def close(self) -> None:
                await transport.close()

        throttle = Throttle(Pace(0.2, 4), clock=time.monotonic, sleep=asyncio.sleep)
        client = Client(Noted(), throttle, Retrying(0))
        asked = [Request(f"{site}/a%2fb?n={n}", headers=(("X-Key", "k"),)) for n in range(4)]
        asked.append(Request(f"{site}/p", "POST", (("Content-Type", "text/plain"),), b"x" * 100_000))
        replies = await asyncio.gather(*map(client.fetch, asked))
        await client.close()
        return list(replies), at

    monkeypatch.setenv("SSL_CERT_FILE", str(certificate))
    with _by_version(key, certificate, offered) as site:
        replies, at = asyncio.run(fetched(site))
    said = [json.loads(reply.body) for reply in replies]
    assert [one["version"] for one in said] == [taken] * 5
    assert [one["path"] for one in said[:4]] == ["/a%2fb"] * 4
    assert len(said[4]["body"]) == 100_000
    assert [reply.header("x-asked") for reply in replies[:4]] == ["k"] * 4
    assert all(late - early >= 0.19 for early, late in pairwise(sorted(at)))


@pytest.mark.skipif(shutil.which("openssl") is None, reason="a certificate is made by openssl")
def test_a_certificate_must_be_trusted_and_be_that_of_the_host(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    key, certificate = _made(tmp_path)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificate, key)
    with _speaking(_sized(TEXT), tls=context) as url:
        address = url.replace("http://127.0.0.1", "https://localhost")
        with pytest.raises(FetchFailed, match="certificate") as unknown:
            _fetched(address)
        assert unknown.value.cause == "unreachable"
        monkeypatch.setenv("SSL_CERT_FILE", str(certificate))
        assert _fetched(address).body == TEXT
        with pytest.raises(FetchFailed, match=r"127\.0\.0\.1") as other:
            _fetched(url.replace("http:", "https:"))
        assert other.value.cause == "unreachable"


_PLAN = """wadi = 1
[manners]
pause = "0s"
retries = 0
ignore_robots = "own test"
CERTIFICATES
[start]
page = "list"
addresses = ["ADDRESS"]
[page.list]
rows = "p"
table = "t"
[page.list.fields]
name = "."
"""


@pytest.mark.skipif(shutil.which("openssl") is None, reason="a certificate is made by openssl")
@pytest.mark.parametrize(
    ("named", "status", "said"),
    [
        ("certificate.pem", 0, ""),
        ("", 3, "(manners.certificates names authorities"),
        ("other.pem", 3, "(manners.certificates names authorities"),
        ("key.pem", 2, "key.pem: it holds no certificates in PEM [bad-certificates]"),
        ("page.html", 2, "page.html: it holds no certificates in PEM [bad-certificates]"),
        ("gone.pem", 2, "gone.pem: no such file [no-such-file]"),
        ("../above.pem", 2, "lies outside the plan's folder: copy it there [bad-certificates]"),
    ],
)
def test_a_plan_names_certificates_that_are_trusted(program: Program, named: str, status: int, said: str) -> None:
    folder = program.folder = program.folder / "plans"
    folder.mkdir()
    _made(folder)
    (folder / "certificate.pem").rename(folder / "other.pem")
    key, certificate = _made(folder)
    (folder / "page.html").write_text("<p>no certificate")
    (folder.parent / "above.pem").write_bytes(certificate.read_bytes())
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificate, key)
    with _speaking(_sized(b"<p>one</p>", b"Content-Type: text/html"), tls=context) as url:
        address = url.replace("http://127.0.0.1", "https://localhost")
        line = f'certificates = "{named}"' if named else ""
        (folder / "p.toml").write_text(_PLAN.replace("CERTIFICATES", line).replace("ADDRESS", address))
        for command in (("preview", "p.toml"), ("run", "p.toml", "-o", "t.csv")):
            done = program(*command)
            assert (done.status, said in done.err) == (status, True), (command, done)
        assert (folder / "t.csv").exists() == (status == 0)
        if status == 2:
            assert not (folder / "runs").exists()
