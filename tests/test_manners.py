"""How hosts are treated: pauses on the wire, paces that adapt, quotas, hours, several hosts at once. Virtual time, but for the
last ones, which read the host's own access log."""

from __future__ import annotations

import asyncio
import random
import time
from collections.abc import Callable
from datetime import datetime
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest
from aiohttp import web
from hypothesis import given
from hypothesis import strategies as st

from conftest import serving
from small_host import items, plan_of
from wadi.actions.begin import begin
from wadi.actions.crawl import crawl
from wadi.actions.run import Run
from wadi.crawl.events import Event
from wadi.plan.reader import parse_plan
from wadi.problems import PlanError
from wadi.web.client import Client
from wadi.web.hosts import Pace
from wadi.web.hours import closed_for_s, hours_of
from wadi.web.lag import Lag
from wadi.web.manners import PaceChanged, Quota, Stopped, Throttle, quota_of
from wadi.web.messages import FetchFailed, Reply, Request
from wadi.web.pace import new_pace, pace_after, pauses_of
from wadi.web.retry import Retrying, Tries, decide


class Time:
    """Virtual time: sleeping moves it on."""

    def __init__(self) -> None:
        self.now = 1000.0

    def clock(self) -> float:
        return self.now

    async def sleep(self, seconds: float) -> None:
        self.now += seconds
        await asyncio.sleep(0)


PACE = Pace(1.0, 2)


def _after(*story: tuple[str, float] | str, pause_s: float = 1.0, slowest_s: float = 60.0) -> tuple[float, str]:
    """The pause after a story, and why."""
    pauses = pauses_of(pause_s, slowest_s)
    pace = new_pace(pauses)
    for one in story:
        what, seconds = one if isinstance(one, tuple) else (one, 0.1)
        pace = pace_after(pace, pauses, what, seconds)  # type: ignore[arg-type]
    return round(pauses[pace.step], 2), pace.why


@pytest.mark.parametrize(
    ("story", "pause_s", "why"),
    [
        (["good"] * 50, 1.0, ""),
        (["refused"], 1.0, ""),  # one may be chance
        (["refused"] * 2, 2.0, "it refused a request"),
        (["broken"] * 2, 2.0, "a connection broke"),
        (["refused"] * 5, 16.0, "it refused a request"),
        ([*["good"] * 50, *["refused"] * 5], 16.0, "it refused a request"),  # whatever was before
        (["refused"] * 20, 60.0, "it refused a request"),
        ([*["refused"] * 5, "good"], 11.31, "it refused a request"),
        ([*["refused"] * 5, *["good"] * 24], 1.41, "it refused a request"),  # near to it, a step for each answer
        ([*["refused"] * 5, *["good"] * 200], 1.0, ""),
        ([*["good"] * 12, ("good", 3.0)], 1.0, ""),
        ([*["good"] * 12, *[("good", 3.0)] * 3], 4.0, "answers take 3.0 s, usually 0.1 s"),
        ([*["good"] * 12, *[("good", 0.9)] * 3], 1.0, ""),
        ([*["good"] * 3, *[("good", 3.0)] * 3], 1.0, ""),
    ],
)
def test_the_pace_follows_what_speaks_of_load(story: list[Any], pause_s: float, why: str) -> None:
    assert _after(*story) == (pause_s, why)


@pytest.mark.parametrize(
    ("plan_s", "slowest_s", "refusals", "pause_s"), [(0.0, 60.0, 5, 1.6), (1.0, 0.0, 9, 1.0), (30.0, 60.0, 9, 60.0)]
)
def test_the_pace_keeps_within_what_the_plan_says(
    plan_s: float, slowest_s: float, refusals: int, pause_s: float
) -> None:
    assert _after(*["refused"] * refusals, pause_s=plan_s, slowest_s=slowest_s)[0] == pause_s
    assert _after(*["refused"] * refusals, *["good"] * 200, pause_s=plan_s, slowest_s=slowest_s)[0] == plan_s


def _crawled(pages: int, answers: Callable[[float], Reply], pause_s: float = 1.0) -> tuple[float, int, float]:
    """Seconds (virtual) that so many pages take, two in flight, requests sent, and how much slower than planned it says it was."""
    time_ = Time()

    class Host:
        async def send(self, request: Request, sent: Callable[[], None] = lambda: None) -> Reply:
            sent()
            return answers(time_.now)

        async def close(self) -> None:
            pass

    async def story() -> tuple[float, int, float]:
        throttle = Throttle(Pace(pause_s, 2), clock=time_.clock, sleep=time_.sleep)
        policy, rng = Retrying(8, 1.0, 60.0), random.Random(5)
        client = Client(Host(), throttle, policy, sleep=time_.sleep, now=time_.clock, rng=rng.random)
        for _ in range(pages):
            await client.fetch(Request("http://h/"))
        slowed = client.slowed()
        return time_.now - 1000.0, client.sent, slowed[0].longer_s if slowed else 0.0

    return asyncio.run(story())


@pytest.mark.parametrize("share", [0.01, 0.03, 0.05, 0.1])
@pytest.mark.parametrize("seed", [1, 2, 3])
def test_failures_that_pass_cost_at_most_half_the_time_again(share: float, seed: int) -> None:
    rng = random.Random(seed)
    seconds, _, longer_s = _crawled(1000, lambda now: _reply(503 if rng.random() < share else 200))
    assert 1000 <= seconds <= 1500
    assert longer_s <= seconds - 990


@pytest.mark.parametrize("least_s", [3.0, 10.0])
def test_a_quota_is_found_and_kept(least_s: float) -> None:
    last = 0.0
    refused: list[float] = []

    def answers(now: float) -> Reply:
        nonlocal last
        early, last = now - last < least_s - 1e-6, now
        if early:
            refused.append(now)
        return _reply(429 if early else 200)

    seconds, sent, longer_s = _crawled(500, answers)
    assert seconds <= 1.5 * 500 * least_s
    assert len(refused) <= 0.05 * sent
    assert longer_s >= 0.5 * seconds


@given(
    st.lists(st.tuples(st.sampled_from(["good", "refused", "broken"]), st.floats(0, 100)), max_size=80), st.floats(0, 5)
)
def test_the_pace_is_never_below_the_plans_and_never_endless(story: list[Any], pause_s: float) -> None:
    found, _ = _after(*story, pause_s=pause_s)
    assert round(pause_s, 2) <= found <= 60.0


@pytest.mark.parametrize(
    ("headers", "quota"),
    [
        ((("RateLimit", "limit=100, remaining=3, reset=50"),), Quota(3, 50)),
        ((("RateLimit", '"default";r=0;t=30'),), Quota(0, 30)),
        ((("RateLimit-Remaining", "0"), ("RateLimit-Reset", "7")), Quota(0, 7)),
        ((("X-RateLimit-Remaining", "0"), ("X-RateLimit-Reset", "2000000050")), Quota(0, 50)),
        ((("X-Rate-Limit-Remaining", " 9 "), ("X-Rate-Limit-Reset", "60; w=60")), Quota(9, 60)),
        ((("X-RateLimit-Remaining", "9" * 5000), ("X-RateLimit-Reset", "7")), None),
        ((("RateLimit", f"remaining={'9' * 5000}, reset=7"),), None),
        ((("X-RateLimit-Reset", "7"),), None),
        ((("X-RateLimit-Remaining", "many"), ("X-RateLimit-Reset", "7")), None),
        ((), None),
    ],
)
def test_quotas_as_sites_send_them(headers: tuple[tuple[str, str], ...], quota: Quota | None) -> None:
    assert quota_of(Reply(Request("http://h/"), "http://h/", 200, headers, b"", 0.0), 2_000_000_000.0) == quota


@pytest.mark.parametrize(
    ("hours", "now", "seconds"),
    [
        (None, "12:00", 0),
        ("22:00-06:00", "23:30", 0),
        ("22:00-06:00", "05:59", 0),
        ("22:00-06:00", "06:00", 16 * 3600),
        ("22:00-06:00", "21:59", 60),
        ("8:30 - 17:00", "08:30", 0),
        ("8:30 - 17:00", "17:00", 15.5 * 3600),
        ("8:30 - 17:00", "07:30", 3600),
    ],
)
def test_hours(hours: str | None, now: str, seconds: float) -> None:
    assert closed_for_s(hours, datetime.fromisoformat(f"2026-11-03T{now}")) == seconds


@pytest.mark.parametrize("text", ["22-6", "25:00-06:00", "6:00-6:00", "", "22:00"])
def test_hours_that_are_none(text: str) -> None:
    with pytest.raises(ValueError, match=r"hour|time|minute"):
        hours_of(text)
    with pytest.raises(PlanError, match="hours"):
        parse_plan(
            f'wadi = 1\n[start]\npage = "p"\naddresses = "http://h/"\n[manners]\nhours = "{text}"\n'
            '[page.p]\ntable = "t"\nfields = { x = "b" }\n',
            "p.toml",
        )


# -- the throttle


def _starts(pace: Pace, connect_s: list[float], *, rng: Callable[[], float] = lambda: 0.5) -> list[float]:
    """When requests are on the wire, the n-th of which takes connect_s[n] to get there after its turn has come."""
    time_ = Time()
    wire: list[float] = []

    async def one(throttle: Throttle, number: int) -> None:
        async with throttle.turn("h:80") as sent:
            await time_.sleep(connect_s[number])
            wire.append(time_.now)
            sent()
            await time_.sleep(0.3)

    async def all_of_them() -> None:
        throttle = Throttle(pace, clock=time_.clock, sleep=time_.sleep, rng=rng)
        await asyncio.gather(*(one(throttle, number) for number in range(len(connect_s))))

    asyncio.run(all_of_them())
    return sorted(wire)


@pytest.mark.parametrize("parallel", [1, 2, 5])
def test_the_pause_counts_from_the_wire_however_long_connecting_takes(parallel: int) -> None:
    starts = _starts(Pace(1.0, parallel), [0.9, 0.0, 0.4, 2.5, 0.0, 0.1])
    assert all(late - early >= 1.0 - 1e-9 for early, late in pairwise(starts))


def test_jitter_makes_pauses_longer() -> None:
    starts = _starts(Pace(1.0, 5, jitter=0.5), [0.0] * 4, rng=lambda: 1.0)
    assert all(late - early == pytest.approx(1.5) for early, late in pairwise(starts))


def test_a_total_limit_holds_over_all_hosts() -> None:
    inside = most = 0

    async def one(throttle: Throttle, host: str) -> None:
        nonlocal inside, most
        async with throttle.turn(host):
            inside += 1
            most = max(most, inside)
            await asyncio.sleep(0)
            inside -= 1

    async def all_of_them() -> None:
        time_ = Time()
        throttle = Throttle(Pace(0.0, 2, total=3), clock=time_.clock, sleep=time_.sleep)
        await asyncio.gather(*(one(throttle, f"h{number % 5}:80") for number in range(30)))

    asyncio.run(all_of_them())
    assert most == 3


def test_requests_that_pause_take_nobodys_place_and_are_given_up_when_it_stops() -> None:
    order: list[str] = []
    over = asyncio.Event()

    async def one(throttle: Throttle, name: str) -> None:
        async with throttle.turn(f"{name[0]}:80") as sent:
            sent()
            order.append(name)

    async def all_of_them() -> list[bool]:
        async def sleep(seconds: float) -> None:
            await over.wait()

        throttle = Throttle(Pace(10.0, 1, total=1), clock=lambda: 1000.0, sleep=sleep)
        tasks = [asyncio.create_task(one(throttle, name)) for name in ("a1", "a2", "a3", "b1", "c1")]
        for _ in range(20):
            await asyncio.sleep(0)
        assert order == ["a1", "b1", "c1"]
        assert throttle.pausing == 1  # the third waits for the second
        throttle.stop()
        over.set()
        await asyncio.wait(tasks)
        assert throttle.pausing == 0
        return [isinstance(task.exception(), Stopped) for task in tasks]

    assert asyncio.run(all_of_them()) == [False, True, True, False, False]
    assert order == ["a1", "b1", "c1"]


class Script:
    """A transport that answers from a list."""

    def __init__(self, time_: Time, *answers: Reply | FetchFailed) -> None:
        self.time, self.answers, self.at = time_, list(answers), list[float]()

    async def send(self, request: Request, sent: Callable[[], None] = lambda: None) -> Reply:
        sent()
        self.at.append(self.time.now - 1000.0)
        answer = self.answers.pop(0)
        if isinstance(answer, FetchFailed):
            raise answer
        return answer

    async def close(self) -> None:
        pass


def _reply(status: int = 200, *headers: tuple[str, str]) -> Reply:
    return Reply(Request("http://h/"), "http://h/", status, headers, b"", 0.0)


@pytest.mark.parametrize(
    ("answers", "at"),
    [
        # a refusal with a time holds the whole host so long
        ([_reply(503, ("Retry-After", "30")), _reply(), _reply()], [0, 30, 31]),
        ([_reply(429), _reply(429), _reply(), _reply()], [0, 1, 3, 5]),
        # nothing is left of the quota: the next request comes when it is renewed
        ([_reply(200, ("RateLimit-Remaining", "0"), ("RateLimit-Reset", "20")), _reply()], [0, 20]),
        ([FetchFailed("broken-off", "x"), FetchFailed("broken-off", "x"), _reply(), _reply()], [0, 1, 3, 5]),
    ],
)
def test_what_hosts_say_goes_into_the_pace(answers: list[Any], at: list[float]) -> None:
    time_, events = Time(), list[PaceChanged]()
    script = Script(time_, *answers)

    async def story() -> None:
        throttle = Throttle(Pace(1.0, 2), clock=time_.clock, sleep=time_.sleep, report=events.append)
        client = Client(script, throttle, Retrying(2, 1.0, 60.0), sleep=time_.sleep, now=time_.clock)
        while script.answers:
            await client.fetch(Request("http://h/"))
        assert client.sent == len(answers)

    asyncio.run(story())
    assert script.at == [pytest.approx(one) for one in at]
    assert [round(event.pause_s, 2) for event in events] == ([2.0, 1.41] if len(answers) == 4 else [])


@pytest.mark.parametrize(
    ("status", "method", "post", "again"),
    [(408, "GET", False, True), (425, "GET", False, True), (403, "GET", False, False), (503, "POST", False, False), (503, "POST", True, True), (503, "PUT", True, False)],
)  # fmt: skip
def test_what_is_tried_again(status: int, method: str, post: bool, again: bool) -> None:
    failure = FetchFailed("http-status", "x", _reply(status))
    policy = Retrying(2, 1.0, 60.0, post)
    assert decide(failure, Tries(), policy, method=method, now=datetime.now().astimezone()).again is again


@pytest.mark.parametrize(
    ("tries", "share", "wait"), [(0, 1.0, 1.0), (3, 1.0, 8.0), (3, 0.25, 2.0), (3, 0.0, 0.0), (9, 1.0, 60.0)]
)
def test_waits_double_with_full_jitter(tries: int, share: float, wait: float) -> None:
    before = Tries(("x",) * tries)
    decision = decide(
        FetchFailed("timed-out", "x"),
        before,
        Retrying(99, 1.0, 60.0),
        method="GET",
        now=datetime.now().astimezone(),
        share=share,
    )
    assert decision.wait_s == wait


# -- from the host's own log


class Logging:
    """A host that writes down when it was asked, and refuses some requests."""

    def __init__(self, pages: int, refuse: frozenset[int] = frozenset(), slow_s: float = 0.0) -> None:
        self.pages, self.refuse, self.slow_s = pages, refuse, slow_s
        self.log: list[tuple[float, str]] = []

    def application(self) -> web.Application:
        async def answer(request: web.Request) -> web.Response:
            self.log.append((time.monotonic(), request.path_qs))
            if len(self.log) in self.refuse:
                return web.Response(status=503)
            await asyncio.sleep(self.slow_s)
            if request.path == "/robots.txt":
                return web.Response(text="User-agent: *\nDisallow: /p5\n")
            if request.path == "/l":
                links = "".join(f"<li><a href=/p{n}>p{n}</a>" for n in range(self.pages))
                return web.Response(text=f"<ul>{links}</ul>", content_type="text/html")
            return web.Response(text=f"<b>{request.path}</b>", content_type="text/html")

        app = web.Application()
        app.router.add_get("/{rest:.*}", answer)
        return app


WALK = """[start]
page = "list"
addresses = ["{+site}/l"]
[page.list]
open = { one = "li a" }
[page.one]
table = "t"
fields = { name = "b" }
"""


@pytest.mark.parametrize("parallel", [1, 4, 16])
def test_no_two_requests_are_closer_than_the_pause_through_retries_and_resumes(tmp_path: Path, parallel: int) -> None:
    host = Logging(7, refuse=frozenset({8}))
    with serving(host.application) as site:
        loaded = _with_manners(
            plan_of(tmp_path, WALK, site, pages=5), pause=0.4, parallel=parallel, retries=2, first_wait=0.01
        )
        with begin(loaded, tmp_path / "runs") as run:
            crawl(run)
        with Run.open(run.folder) as run:
            run.loaded = _with_manners(
                plan_of(tmp_path, WALK, site), pause=0.4, parallel=parallel, retries=2, first_wait=0.01
            )
            crawl(run)
            assert len(run.read().rows) == 6
    times = [at for at, _ in host.log]
    # The log is written when a request is handled, which may be a little after it has come, more so on a busy machine.
    assert min(late - early for early, late in pairwise(times)) > 0.25
    assert "/p5" not in [path for _, path in host.log]


def _with_manners(loaded: Any, **manners: Any) -> Any:
    from dataclasses import replace

    changed = loaded.plan.model_copy(update={"manners": loaded.plan.manners.model_copy(update=manners)})
    return replace(loaded, plan=changed)


def test_one_slow_host_does_not_hold_the_others(tmp_path: Path) -> None:
    slow, quick = Logging(6, slow_s=0.3), Logging(20)
    with serving(slow.application) as first, serving(quick.application) as second:
        plan = WALK.replace('"{+site}/l"', '"{+site}/l", "{+other}/l"').replace(
            "[start]", f'other = "{second}"\n[start]', 1
        )
        loaded = _with_manners(plan_of(tmp_path, plan, first), parallel=2)
        events: list[Event] = []
        with begin(loaded, tmp_path / "runs") as run:
            crawl(run, events.append)
            assert len(run.read().rows) == 5 + 19
    assert quick.log[-1][0] < slow.log[-1][0]


def test_a_budget_of_requests_and_hours_end_or_hold_a_run(tmp_path: Path) -> None:
    host = Logging(12)
    with serving(host.application) as site:
        loaded = plan_of(tmp_path, WALK, site, requests=6)
        with begin(loaded, tmp_path / "runs") as run:
            assert crawl(run) == "requests limit"
        assert 6 <= len(host.log) <= 9
        host.log.clear()
        now = datetime.now().astimezone()
        later = f"{(now.hour + 2) % 24:02d}:00-{(now.hour + 3) % 24:02d}:00"
        closed = _with_manners(plan_of(tmp_path, WALK, site, time=0.5), hours=later)
        events: list[Event] = []
        with begin(closed, tmp_path / "runs") as run:
            assert crawl(run, events.append) == "time limit"
        assert host.log == []
        assert "Closed" in {type(event).__name__ for event in events}


def test_headers_of_the_plan_are_sent(tmp_path: Path) -> None:
    seen: list[tuple[str, ...]] = []

    async def answer(request: web.Request) -> web.Response:
        names = ("User-Agent", "Accept-Language", "X-Who")
        seen.append(tuple(request.headers.get(name, "") for name in names))
        return web.Response(text=items("a"), content_type="text/html")

    def application() -> web.Application:
        app = web.Application()
        app.router.add_get("/{rest:.*}", answer)
        return app

    with serving(application) as site:
        loaded = plan_of(tmp_path, WALK, site)
        changed = _with_manners(
            loaded, contact="desk@merrowdale.example", language="fr, en;q=0.5", headers={"X-Who": "me"}
        )
        with begin(changed, tmp_path / "runs") as run:
            crawl(run)
    assert set(seen) == {("Wadi/0.1.0 (desk@merrowdale.example)", "fr, en;q=0.5", "me")}


@pytest.mark.parametrize(
    ("steps", "pause_s"),
    [
        ([0, 0, 0, 0, 0, 0], 2.0),  # all were in flight when the host stumbled
        ([0, 0, 2, 4], 8.0),  # asked since: the host stumbles on
    ],
)
def test_what_was_in_flight_when_a_host_stumbled_makes_its_pause_no_longer(steps: list[int], pause_s: float) -> None:
    hour, told = Time(), list[PaceChanged]()
    throttle = Throttle(PACE, clock=hour.clock, sleep=hour.sleep, report=told.append)
    for step in steps:
        throttle.heard("h:80", "refused", step=step)
    assert throttle.pause_s("h:80") == pytest.approx(pause_s)
    assert len(told) == {2.0: 1, 8.0: 3}[pause_s]


def test_time_that_the_loop_was_held_up_is_known() -> None:
    async def held_up() -> list[float]:
        loop, now = asyncio.get_running_loop(), 50.0
        loop.time = lambda: now  # type: ignore[method-assign]
        lag = Lag()
        found = [lag.total_s()]
        now += 0.2  # before the next beat is due nothing is late
        found.append(lag.total_s())
        now += 3.0  # an answer is heard before the beat that is late
        found.append(lag.total_s())
        for _ in range(3):
            await asyncio.sleep(0)
        found.append(lag.total_s())
        lag.close()
        return found

    first, early, late, after = asyncio.run(held_up())
    assert (first, early) == (0.0, 0.0)
    assert late == pytest.approx(2.95)
    assert after == pytest.approx(2.95)
