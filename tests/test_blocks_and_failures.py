"""Blocks are told from pages, in ten languages; rough weather makes no difference to the table, storms are survived."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from conftest import Program, plan_text, serving
from small_host import crawled
from truth import register_rows
from wadi.crawl.block_signals import signals_of
from wadi.crawl.health import Health
from wadi.demo.site import application
from wadi.demo.weather import CHALLENGE, middleware, trouble_for
from wadi.page.document import html_document
from wadi.web.blocked import block_of
from wadi.web.hosts import Hosts, Pace

FILLER = "The gauge at the mill was read by hand every morning. " * 40


def _block(page: str, *, misses: bool, usual: float | None) -> str | None:
    document = html_document(page.encode(), "http://h/")
    return block_of(signals_of(document, len(page.encode())), misses_expected=misses, usual_bytes=usual)


@pytest.mark.parametrize(
    ("page", "kind"),
    [
        ("<title>Checking</title><p>Are you a human? Please verify you are.", "a challenge page"),
        ("<p>Bitte bestätigen Sie, dass Sie kein Roboter sind.", "a challenge page"),
        ("<p>Confirmez que vous n'êtes pas un robot.", "a challenge page"),
        ("<p>Confirma que no eres un robot para continuar.", "a challenge page"),
        ("<p>Conferma che non sei un robot.", "a challenge page"),
        ("<p>Confirme que não é um robô.", "a challenge page"),
        ("<p>Bevestig dat u geen robot bent.", "a challenge page"),
        ("<p>Potwierdź, że nie jesteś robotem.", "a challenge page"),
        ("<p>Bekräfta att du inte är en robot.", "a challenge page"),
        ("<p>私はロボットではありません", "a challenge page"),
        ("<p>Подтвердите, что вы не робот.", "a challenge page"),
        ("<p>请完成人机验证", "a challenge page"),
        ("<p>Too many requests. Slow down.", 'a "too many requests" page'),
        ("<p>Zu viele Anfragen.", 'a "too many requests" page'),
        ("<p>Trop de requêtes, réessayez plus tard.", 'a "too many requests" page'),
        ("<p>Demasiadas solicitudes.", 'a "too many requests" page'),
        ("<p>Troppe richieste dal tuo indirizzo.", 'a "too many requests" page'),
        ("<p>Acesso negado.", 'a "too many requests" page'),
        ("<p>Te veel verzoeken.", 'a "too many requests" page'),
        ("<p>Zbyt wiele żądań.", 'a "too many requests" page'),
        ("<p>För många förfrågningar.", 'a "too many requests" page'),
        ("<p>リクエストが多すぎます。", 'a "too many requests" page'),
        ("<div class=g-captcha></div><p>One more step.", "a challenge page"),
        ("<iframe src=/challenge?x></iframe>", "a challenge page"),
        ("<form><input name=u><input type=password name=p></form>", "a log-in page"),
        ("<meta http-equiv=refresh content='3; url=/'><p>Please wait a moment.", "a page that says to wait"),
        ("<div id=root></div><script src=/app.js></script>", "an empty shell"),
        ("<p>There are no springs in this district.", None),
        (f"<h1>How captchas came about</h1><p>Are you a human? {FILLER}", None),
    ],
)
def test_what_kind_of_block_a_page_is(page: str, kind: str | None) -> None:
    assert _block(page, misses=True, usual=None) == kind
    assert _block(page, misses=False, usual=20_000.0) == kind
    if kind is not None and "password" not in page and "script" not in page:
        assert _block(page, misses=False, usual=len(page.encode())) is None  # no smaller than the others are


ARTICLES = """[start]
page = "list"
addresses = ["{+site}/l"]
[page.list]
open = { one = "a" }
[page.one]
EXPECT
table = "t"
fields = { title = "article h1" }
"""


def _article(title: str) -> str:
    return f"<article><h1>{title}</h1><p>{FILLER}<p>They asked: are you a robot? <div class=captcha-history></div></article>"


@pytest.mark.parametrize("expect", ['expect = "article"', ""])
def test_an_article_about_captchas_passes_and_a_challenge_comes_right_later(tmp_path: Path, expect: str) -> None:
    asked = {"n": 0}

    def shy(request: object, body: str) -> str:
        asked["n"] += 1
        return _article("Shy") if asked["n"] > 2 else CHALLENGE

    links = "".join(f"<a href=/{n}>x</a>" for n in (1, 2, 3))
    replies = {"/l": links, "/1": _article("Captchas"), "/2": shy, "/3": CHALLENGE}
    with crawled(tmp_path, replies, ARTICLES.replace("EXPECT", expect), retries=2) as done:
        assert done.rows() == [["Captchas"], ["Shy"]]
        assert done.failures == ["blocked"]
        assert sorted(done.host.asked).count("GET /3") == 3
        assert "a challenge page" in next(done.run.state.failures()).problem["what"]
        names = [type(event).__name__ for event in done.events]
        assert names.count("PutOff") == 4


def test_a_host_is_rested_probed_and_given_up() -> None:
    health = Health(Hosts(Pace()), 30.0)
    health.succeeded("h")
    assert [health.failed("h", "x", 0.0) for _ in range(5)] == [None] * 4 + [30.0]
    assert (health.room("h", 10.0), health.barred(10.0), health.next_s(10.0)) == (0, {"h"}, 20.0)
    assert health.failed("h", "x", 10.0) is None  # was in flight
    assert health.room("h", 31.0) == 1
    assert health.failed("h", "x", 31.0) == 60.0
    health.succeeded("h")
    assert health.room("h", 32.0) is None
    rests = [health.failed("h", "x", now) for now in (100.0, 100.0, 100.0, 100.0, 100.0, 200.0, 400.0, 1000.0)]
    assert rests[4:] == [30.0, 60.0, 120.0, 240.0]
    assert health.is_given_up("h")
    assert health.next_s(1000.0) is None
    assert [health.failed("never", "x", 0.0) for _ in range(5)] == [None] * 5
    assert health.given_up() == {"h": "x", "never": "x"}


def test_a_blocked_host_is_left_and_the_others_go_on(tmp_path: Path) -> None:
    plan = """[start]
page = "list"
addresses = ["{+site}/l"]
[page.list]
open = { one = { at = "a", hosts = "*" } }
[page.one]
expect = "article"
table = "t"
fields = { title = "h1" }
"""
    import asyncio

    from aiohttp import web

    async def other(request: web.Request) -> web.Response:
        await asyncio.sleep(0)
        return web.Response(text=f"<article><h1>{request.path}</h1></article>", content_type="text/html")

    def elsewhere() -> web.Application:
        app = web.Application()
        app.router.add_get("/{rest:.*}", other)
        return app

    with serving(elsewhere) as second:
        links = "".join(f"<a href=/b{n}>x</a><a href={second}/g{n}>x</a>" for n in range(12))
        replies = {"/l": links, **{f"/b{n}": CHALLENGE for n in range(12)}}
        with crawled(tmp_path, replies, plan) as done:
            assert sorted(row[0] for row in done.rows()) == sorted(f"/g{n}" for n in range(12))
            assert done.run.end == "host refused"
            assert "HostGivenUp" in {type(event).__name__ for event in done.events}


# -- weather


def test_the_weather_is_the_same_for_the_same_seed() -> None:
    paths = [f"/register/MW-{n:04d}" for n in range(400)]
    drawn = [trouble_for(1, "rough", path, 1) for path in paths]
    assert drawn == [trouble_for(1, "rough", path, 1) for path in paths]
    assert 30 < sum(one is not None for one in drawn) < 90
    assert {one for one in drawn if one} >= {"slow", "cut short", "reset", "429", "503", "challenge", "redirect loop"}
    assert not any(trouble_for(1, "rough", path, 2) for path in paths)
    assert not any(trouble_for(1, "calm", path, 1) for path in paths)


def _springs(program: Program, site: str, *, resumes: int = 0) -> list[dict[str, object]]:
    plan = plan_text(pause='"0s"', parallel='8\nfirst_wait = "20ms"\nrest = "50ms"\nslowest = "20ms"\nretries = 4')
    (program.folder / "springs.toml").write_text(plan)
    program("run", "springs.toml", "-i", f"site={site}", "-q", "-o", "out.jsonl", timeout=300)
    for _ in range(resumes):
        program("resume", "springs", "--again", "failed", "-q", "-o", "out.jsonl", timeout=300)
    return [json.loads(line) for line in (program.folder / "out.jsonl").read_text("utf-8").splitlines()]


def test_in_rough_weather_the_table_is_the_truth(program: Program) -> None:
    with serving(lambda: application((middleware(3, "rough"),))) as site:
        assert _springs(program, site) == register_rows(site)


def test_in_a_storm_the_table_is_the_truth_after_resuming_but_for_what_is_never_had(program: Program) -> None:
    with serving(lambda: application((middleware(5, "storm"),))) as site:
        found = _springs(program, site, resumes=2)
        done = program("resume", "springs", "--json", "-q", timeout=300)
        failed = {one["url"].removeprefix(site) for one in json.loads(done.out)["failures"]}
    truth = register_rows(site)
    never = {
        f"/register/{row['code']}" for row in truth if trouble_for(5, "storm", f"/register/{row['code']}", 9) == "never"
    }
    assert failed == never
    assert never
    assert [row["code"] for row in found] == [row["code"] for row in truth]
    assert [row for row in found if f"/register/{row['code']}" not in never] == [
        row for row in truth if f"/register/{row['code']}" not in never
    ]


def test_a_page_put_off_does_not_keep_a_limited_run_from_its_end(tmp_path: Path) -> None:
    links = "".join(f"<a href=/{n}>x</a>" for n in range(6))
    replies = {"/l": links, "/0": CHALLENGE, **{f"/{n}": _article(f"A{n}") for n in range(1, 6)}}
    plan = ARTICLES.replace("EXPECT", 'expect = "article"')
    with crawled(tmp_path, replies, plan, pages=3) as done:
        assert done.run.end == "pages limit"


def test_waiting_for_a_host_that_rests_costs_nothing(tmp_path: Path) -> None:
    """Pages that are due again while their host still rests are no reason to look every moment."""
    replies = {"/l": "".join(f"<a href=/{n}>x</a>" for n in range(8)), **{f"/{n}": CHALLENGE for n in range(8)}}
    plan = ARTICLES.replace("EXPECT", 'expect = "article"')
    with crawled(tmp_path, replies, plan, rest="300ms", retries=2) as done:
        assert done.run.end == "host refused"
        assert sum(type(event).__name__ == "Progress" for event in done.events) < 100
