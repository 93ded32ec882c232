"""Requests and replies: codings, retries, pace, redirects, and a real host that misbehaves."""

from __future__ import annotations

import asyncio
import functools
import gzip
import json
import zlib
from collections.abc import Callable
from datetime import UTC, datetime

import brotli
import pytest
import zstandard
from aiohttp import web
from hypothesis import given
from hypothesis import strategies as st

from conftest import serving
from wadi.web.client import Client, KeptRobots, TriedAgain, redirected
from wadi.web.coding import BadCoding, TooLarge, decoded
from wadi.web.hosts import Pace
from wadi.web.manners import Throttle
from wadi.web.messages import FetchFailed, Hop, Reply, Request
from wadi.web.retry import Retrying, Tries, decide, wait_asked_for
from wadi.web.transport import Bounds, HttpTransport

NOW = datetime(2026, 11, 3, 9, 0, 0, tzinfo=UTC)
_gzip = functools.partial(gzip.compress, mtime=0)
TEXT = b"the register of springs " * 40


def _raw_deflate(data: bytes) -> bytes:
    packer = zlib.compressobj(wbits=-15)
    return packer.compress(data) + packer.flush()


@pytest.mark.parametrize(
    ("codings", "body"),
    [
        ("", TEXT),
        ("identity", TEXT),
        ("gzip", _gzip(TEXT)),
        ("X-GZIP", _gzip(TEXT)),
        ("gzip", _gzip(TEXT[:100]) + _gzip(TEXT[100:])),
        ("gzip", _gzip(TEXT) + b"\0\0\0"),
        ("gzip", TEXT),
        ("deflate", zlib.compress(TEXT)),
        ("deflate", _raw_deflate(TEXT)),
        ("br", brotli.compress(TEXT)),
        ("zstd", zstandard.compress(TEXT)),
        ("gzip, br", brotli.compress(_gzip(TEXT))),
        ("mystery", TEXT),
    ],
)
def test_content_codings_are_undone(codings: str, body: bytes) -> None:
    assert decoded(body, codings, 10_000) == TEXT


@pytest.mark.parametrize("codings", ["gzip", "deflate", "br", "zstd"])
def test_broken_and_swollen_bodies_are_refused(codings: str) -> None:
    packed = {"gzip": _gzip, "deflate": zlib.compress, "br": brotli.compress, "zstd": zstandard.compress}[codings]
    with pytest.raises(TooLarge):
        decoded(packed(b"\0" * 5_000_000), codings, 1_000_000)
    with pytest.raises(BadCoding):
        decoded(packed(TEXT)[: 12 if codings != "zstd" else 3] + b"\xff\xff\xff\xff\xff", codings, 1_000_000)


@given(st.binary(max_size=300), st.sampled_from(["gzip", "deflate", "br", "zstd", "deflate, gzip"]))
def test_any_body_is_decoded_or_refused(body: bytes, codings: str) -> None:
    try:
        assert len(decoded(body, codings, 10_000)) <= 10_000
    except (BadCoding, TooLarge):
        pass


def _reply(status: int = 200, *headers: tuple[str, str]) -> Reply:
    return Reply(Request("http://h/"), "http://h/", status, headers, b"", 0.0)


@pytest.mark.parametrize(
    ("value", "wanted"),
    [
        ("", None),
        ("7", 7.0),
        ("Tue, 03 Nov 2026 09:00:30 GMT", 30.0),
        ("Tue, 03 Nov 2026 08:00:00 GMT", 0.0),
        ("soon", None),
        ("-5", None),
        ("9" * 5000, float("inf")),
        ("Tue, 03 Nov 2026 09:00:30 +9999", None),
        ("Tue, 03 Nov 99999 09:00:30 GMT", None),
    ],
)
def test_the_wait_that_a_host_asks_for(value: str, wanted: float | None) -> None:
    assert wait_asked_for(_reply(503, ("Retry-After", value)), NOW) == wanted


@pytest.mark.parametrize(
    ("date", "wanted"),
    [("Tue, 03 Nov 2026 07:00:00 GMT", 30.0), ("Wed, 04 Nov 2026 07:00:00 GMT", 0.0), ("today", 0.0)],
)
def test_a_date_to_wait_for_is_one_of_the_hosts_clock(date: str, wanted: float) -> None:
    headers = (("Retry-After", "Tue, 03 Nov 2026 07:00:30 GMT"), ("Date", date))
    assert wait_asked_for(_reply(503, *headers), NOW) == wanted


@pytest.mark.parametrize(
    ("cause", "status", "method", "before", "retry_after", "wanted"),
    [
        ("unreachable", None, "GET", 0, "", 1.0),
        ("timed-out", None, "GET", 2, "", 4.0),
        ("broken-off", None, "HEAD", 1, "", 2.0),
        ("http-status", 503, "GET", 0, "", 1.0),
        ("http-status", 429, "GET", 0, "9", 9.0),
        ("http-status", 429, "GET", 3, "2", 8.0),
        ("http-status", 429, "GET", 0, "500", None),
        ("http-status", 404, "GET", 0, "", None),
        ("http-status", 501, "GET", 0, "", None),
        ("too-large", None, "GET", 0, "", None),
        ("unreachable", None, "POST", 0, "", None),
        ("unreachable", None, "GET", 4, "", None),
    ],
)
def test_what_is_tried_again_and_when(
    cause: str, status: int | None, method: str, before: int, retry_after: str, wanted: float | None
) -> None:
    reply = _reply(status, ("Retry-After", retry_after)) if status else None
    failure = FetchFailed(cause, "it failed", reply)  # type: ignore[arg-type]
    tries = Tries(("x",) * before)
    decision = decide(failure, tries, Retrying(4, 1.0, 60.0), method=method, now=NOW)
    assert (decision.wait_s if decision.again else None) == wanted
    assert decision.reason


class FakeTime:
    """A clock that only sleeping moves."""

    def __init__(self) -> None:
        self.now = 0.0
        self.slept: list[float] = []

    def clock(self) -> float:
        return self.now

    async def sleep(self, seconds: float) -> None:
        self.slept.append(seconds)
        due = self.now + seconds
        await asyncio.sleep(0)
        self.now = max(self.now, due)


@pytest.mark.parametrize("parallel", [1, 3])
def test_the_throttle_keeps_the_pause_at_any_parallelism(parallel: int) -> None:
    time = FakeTime()
    starts: list[float] = []

    async def one(throttle: Throttle) -> None:
        async with throttle.turn("h:80"):
            starts.append(time.now)

    async def all_of_them() -> None:
        throttle = Throttle(Pace(0.5, parallel), clock=time.clock, sleep=time.sleep)
        await asyncio.gather(*(one(throttle) for _ in range(6)))

    asyncio.run(all_of_them())
    assert len(starts) == 6
    assert all(late - early >= 0.5 - 1e-9 for early, late in zip(sorted(starts), sorted(starts)[1:], strict=False))


def test_the_throttle_limits_what_is_in_flight() -> None:
    time, inside, most = FakeTime(), 0, 0

    async def one(throttle: Throttle) -> None:
        nonlocal inside, most
        async with throttle.turn("h:80"):
            inside += 1
            most = max(most, inside)
            await asyncio.sleep(0)
            inside -= 1

    async def all_of_them() -> None:
        throttle = Throttle(Pace(0.0, 3), clock=time.clock, sleep=time.sleep)
        await asyncio.gather(*(one(throttle) for _ in range(10)))

    asyncio.run(all_of_them())
    assert most == 3


class Script:
    """A transport that answers from a list: a reply, or a failure to raise."""

    def __init__(self, *answers: Reply | FetchFailed) -> None:
        self.answers = list(answers)
        self.asked: list[Request] = []

    async def send(self, request: Request, sent: Callable[[], None] = lambda: None) -> Reply:
        self.asked.append(request)
        answer = self.answers.pop(0)
        if isinstance(answer, FetchFailed):
            raise answer
        return answer

    async def close(self) -> None:
        pass


def _client(script: Script, time: FakeTime, report: Callable[[TriedAgain], None] = lambda event: None) -> Client:
    throttle = Throttle(Pace(0.0, 2), clock=time.clock, sleep=time.sleep)
    return Client(script, throttle, Retrying(2, 1.0, 60.0), sleep=time.sleep, now=time.clock, report=report)


def test_a_failure_is_tried_again_with_growing_waits_and_told() -> None:
    down = FetchFailed("unreachable", "nobody there")
    time, told = FakeTime(), list[TriedAgain]()
    reply = asyncio.run(_client(Script(down, down, _reply()), time, told.append).fetch(Request("http://h/")))
    assert reply.status == 200
    assert time.slept == [1.0, 2.0]
    assert [event.tries for event in told] == [1, 2]


def test_a_host_that_was_lost_is_asked_once_only_until_it_answers() -> None:
    down = FetchFailed("unreachable", "nobody there")
    time = FakeTime()
    script = Script(down, down, down, down, _reply(), down, down, down)

    async def story() -> list[int]:
        client = _client(script, time)
        counts = []
        for _ in range(2):
            with pytest.raises(FetchFailed):
                await client.fetch(Request("http://h/"))
            counts.append(client.unreachable("h:80"))
        await client.fetch(Request("http://h/"))
        counts.append(client.unreachable("h:80"))
        with pytest.raises(FetchFailed) as failed:
            await client.fetch(Request("http://h/"))
        assert failed.value.tries == 3
        return counts

    assert asyncio.run(story()) == [1, 2, 0]


def test_redirects_are_followed_and_recorded() -> None:
    time = FakeTime()
    script = Script(_reply(302, ("Location", "/b?x=%2F")), _reply(200))
    reply = asyncio.run(_client(script, time).fetch(Request("http://h/a", "POST", body=b"q")))
    assert [(r.method, r.url) for r in script.asked] == [("POST", "http://h/a"), ("GET", "http://h/b?x=%2F")]
    assert reply.hops == (Hop("http://h/a", 302),)


ROBOTS = b"User-agent: *\nDisallow: /members/\nCrawl-delay: 3\n"


def _obeying(script: Script, time: FakeTime) -> Client:
    throttle = Throttle(Pace(0.5, 2), clock=time.clock, sleep=time.sleep)
    return Client(script, throttle, Retrying(1, 1.0, 60.0), sleep=time.sleep, now=time.clock, robots_agent="wadi")


def _with_body(body: bytes) -> Reply:
    return Reply(Request("http://h/"), "http://h/", 200, (), body, 0.0)


def test_robots_txt_is_asked_for_once_and_obeyed_with_its_pause() -> None:
    time, script = FakeTime(), Script(_with_body(ROBOTS), _reply(), _reply(302, ("Location", "/members/x")))

    async def story() -> None:
        client = _obeying(script, time)
        await client.fetch(Request("http://h/a"))
        with pytest.raises(
            FetchFailed, match=r'http://h/members/ not fetched: robots\.txt line 2, "Disallow: /members/"'
        ) as refused:
            await client.fetch(Request("http://h/members/"))
        assert refused.value.cause == "robots"
        with pytest.raises(FetchFailed, match="members/x not fetched"):
            await client.fetch(Request("http://h/b"))

    asyncio.run(story())
    assert [request.url for request in script.asked] == ["http://h/robots.txt", "http://h/a", "http://h/b"]
    assert time.slept == [0.5, 3.0]


def test_a_kept_robots_txt_is_as_old_as_it_was_when_it_came() -> None:
    """Of a file that came 23 hours ago another sitting may use an hour more, and no day."""
    time, script = FakeTime(), Script(_with_body(b""), _reply(), _reply(), _with_body(b""), _reply(), _reply())
    kept: dict[str, KeptRobots] = {}

    async def story() -> None:
        for hours in (23, 0.5, 0.6):
            throttle = Throttle(Pace(0.5, 2), clock=time.clock, sleep=time.sleep)
            client = Client(script, throttle, Retrying(1), now=time.clock, robots_agent="wadi", robots_kept=kept)
            await client.fetch(Request("http://h/a"))
            if hours == 0.5:
                time.now += 1.2 * 3600  # in the sitting that has read it again
                await client.fetch(Request("http://h/b"))
            time.now += hours * 3600

    asyncio.run(story())
    assert [request.url for request in script.asked] == [
        "http://h/robots.txt", "http://h/a", "http://h/a", "http://h/robots.txt", "http://h/b", "http://h/a",
    ]  # fmt: skip


@pytest.mark.parametrize(("status", "allowed"), [(404, True), (403, True), (500, False), (503, False)])
def test_a_robots_txt_that_cannot_be_had(status: int, allowed: bool) -> None:
    script = Script(_reply(status), _reply())
    if allowed:
        assert asyncio.run(_obeying(script, FakeTime()).fetch(Request("http://h/a"))).status == 200
    else:
        with pytest.raises(FetchFailed, match="nothing is allowed"):
            asyncio.run(_obeying(script, FakeTime()).fetch(Request("http://h/a")))


def test_a_host_that_is_down_fails_the_page_and_is_asked_for_its_robots_txt_again() -> None:
    down = FetchFailed("unreachable", "nobody there")
    script = Script(down, _with_body(ROBOTS), _reply())
    assert asyncio.run(_obeying(script, FakeTime()).fetch(Request("http://h/a"))).status == 200


def test_redirects_that_never_end_are_a_failure() -> None:
    script = Script(*(_reply(301, ("Location", f"/{n}")) for n in range(20)))
    with pytest.raises(FetchFailed, match="11 redirects") as failed:
        asyncio.run(_client(script, FakeTime()).fetch(Request("http://h/")))
    assert failed.value.cause == "redirect-loop"


@pytest.mark.parametrize(
    ("status", "method", "wanted"),
    [(301, "POST", "GET"), (303, "PUT", "GET"), (307, "POST", "POST"), (308, "GET", "GET")],
)
def test_the_method_after_a_redirect(status: int, method: str, wanted: str) -> None:
    assert redirected(Request("http://h/a", method), _reply(status, ("Location", "//o/b"))).method == wanted


@pytest.mark.parametrize(
    ("one", "other", "same"),
    [
        (Request("HTTP://h:80/a/../b#x"), Request("http://h/b"), True),
        (Request("http://h/%7eb?x=%c3%a9"), Request("http://h/~b?x=%C3%A9"), True),
        (Request("http://h/a%2Fb"), Request("http://h/a/b"), False),
        (Request("http://h/?a=1&b=2"), Request("http://h/?b=2&a=1"), False),
        (Request("http://h/b", "POST", body=b"1"), Request("http://h/b", "POST", body=b"1"), True),
        (Request("http://h/b", "POST", body=b"1"), Request("http://h/b", "POST", body=b"2"), False),
        (Request("http://h/b", "POST"), Request("http://h/b"), False),
        (Request("http://h/", headers=(("X-Token", "1"),)), Request("http://h/", headers=(("X-Token", "2"),)), True),
        (Request("http://h/", headers=(("accept-language", "de"),)), Request("http://h/"), False),
    ],
)
def test_when_requests_are_the_same(one: Request, other: Request, same: bool) -> None:
    assert (one.identity == other.identity) is same


def _broken_host() -> web.Application:
    async def slow(request: web.Request) -> web.Response:
        await asyncio.sleep(5)
        return web.Response()

    async def cut(request: web.Request) -> web.StreamResponse:
        response = web.StreamResponse(headers={"Content-Length": "1000"})
        await response.prepare(request)
        await response.write(b"half")
        assert request.transport is not None
        request.transport.close()
        return response

    async def big(request: web.Request) -> web.Response:
        return web.Response(body=_gzip(b"x" * 400_000), headers={"Content-Encoding": "gzip"})

    async def packed(request: web.Request) -> web.Response:
        # What was asked for comes back, so that escapes and headers are seen as they were sent.
        told = f"{request.raw_path} {request.headers['User-Agent']} {request.headers['Accept-Encoding']}"
        return web.Response(body=brotli.compress(told.encode()), headers={"Content-Encoding": "br"})

    app = web.Application()
    for path, handler in (("/slow", slow), ("/cut", cut), ("/big", big), ("/packed{tail:.*}", packed)):
        app.router.add_get(path, handler)
    return app


@pytest.mark.parametrize(
    ("path", "cause"), [("/slow", "timed-out"), ("/cut", "broken-off"), ("/big", "too-large"), (":1/", "unreachable")]
)
def test_a_real_host_that_fails_is_named_by_its_cause(path: str, cause: str) -> None:
    async def ask(address: str) -> Reply:
        transport = HttpTransport(bounds=Bounds(0.2, 0.2, 2, 300_000), identity="Wadi/test")
        try:
            return await transport.send(Request("http://127.0.0.1:1/" if path == ":1/" else address + path))
        finally:
            await transport.close()

    with serving(_broken_host) as address, pytest.raises(FetchFailed) as failed:
        asyncio.run(ask(address))
    assert failed.value.cause == cause


def test_a_request_goes_out_as_it_was_written() -> None:
    async def ask(address: str) -> bytes:
        transport = HttpTransport(bounds=Bounds(), identity="Wadi/test (desk@merrowdale.example)")
        try:
            return (await transport.send(Request(f"{address}/packed/%7E?q=a%2Fb+c"))).body
        finally:
            await transport.close()

    with serving(_broken_host) as address:
        assert (
            asyncio.run(ask(address))
            == b"/packed/%7E?q=a%2Fb+c Wadi/test (desk@merrowdale.example) gzip, deflate, br, zstd"
        )


def test_methods_bodies_and_headers_go_out_as_they_are_and_leave_nothing_behind() -> None:
    async def echo(request: web.Request) -> web.Response:
        kind = request.headers.get("Content-Type")
        own = [value for name, value in request.headers.items() if name == "X-Own"]
        return web.json_response([request.method, await request.text(), kind, own])

    def application() -> web.Application:
        app = web.Application()
        app.router.add_route("*", "/echo", echo)
        return app

    requests = [
        (("POST", (), b"a=1"), ["POST", "a=1", "application/octet-stream", []]),
        (("GET", (), b""), ["GET", "", None, []]),
        (("GET", (("X-Own", "1"), ("X-Own", "é")), b"q"), ["GET", "q", "application/octet-stream", ["1", "é"]]),
        (("PUT", (("content-type", "text/x"), ("X-Own", "")), b"b"), ["PUT", "b", "text/x", [""]]),
        (("GET", (), b""), ["GET", "", None, []]),
    ]

    async def ask(address: str) -> None:
        transport = HttpTransport(bounds=Bounds(), identity="Wadi/test")
        try:
            for (method, headers, body), expected in requests:
                reply = await transport.send(Request(f"{address}/echo", method, headers, body))
                assert json.loads(reply.body) == expected
            with pytest.raises(FetchFailed, match='"X-Own" has a line end'):
                await transport.send(Request(f"{address}/echo", headers=(("X-Own", "a\r\nX-Other: b"),)))
        finally:
            await transport.close()

    with serving(application) as address:
        asyncio.run(ask(address))
