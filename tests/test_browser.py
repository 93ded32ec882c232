"""Pages that scripts draw: shown by a real browser, read as any other page; what goes wrong there is bounded and said."""

from __future__ import annotations

import asyncio
import json
import os
import shlex
import signal
import subprocess
import time
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import FENCE, Program, needs_browser, serving
from small_host import HEAD, SmallHost
from wadi.learn.first_look.look import look_at
from wadi.learn.first_look.three_ways import three_ways
from wadi.page.document import read_document
from wadi.problems import UsageError
from wadi.web.browser import Browser, Rendered
from wadi.web.driver_process import driver_named, sweep
from wadi.web.messages import FetchFailed, Reply, Request
from wadi.web.rendering import BadStep, Rendering, Step, step_of


@pytest.mark.parametrize(
    ("sentence", "step"),
    [
        ("click '#agree'", Step("click", ("#agree",))), ("type 'input[name=q]' 'Ash Spring'", Step("type", ("input[name=q]", "Ash Spring"))),
        ("scroll", Step("scroll")), ("scroll .list", Step("scroll", (".list",))), ("press Enter", Step("press", ("Enter",))),
        ("wait 500ms", Step("wait", ("500ms",))), ("choose select 'Upper Merrow'", Step("choose", ("select", "Upper Merrow"))),
    ],
)  # fmt: skip
def test_steps_are_sentences(sentence: str, step: Step) -> None:
    assert step_of(sentence) == step
    assert step_of(str(step)) == step


@pytest.mark.parametrize(
    ("sentence", "what"),
    [
        ("push '#agree'", 'unknown step "push"'), ("click", "click takes EXPRESSION"), ("click 'a", "the quotes do not match"),
        ("press Print", 'press knows no key "Print"'), ("wait 90s", "wait takes 60 s at most"), ("", "an empty sentence"),
    ],
)  # fmt: skip
def test_sentences_that_mean_nothing_are_refused(sentence: str, what: str) -> None:
    with pytest.raises(BadStep, match=what):
        step_of(sentence)


def test_what_is_done_inside_a_row_is_less() -> None:
    assert step_of("click button", in_row=True) == Step("click", ("button",))
    with pytest.raises(BadStep, match="scroll is not done inside a row"):
        step_of("scroll", in_row=True)


def test_the_wait_of_a_time_is_its_seconds() -> None:
    assert [step_of(f"wait {said}").seconds for said in ("500ms", "2s", "1.5s", ".list")] == [0.5, 2.0, 1.5, None]


def test_a_driver_is_named_or_found(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    assert driver_named("http://127.0.0.1:4444", {}) == "http://127.0.0.1:4444"
    assert driver_named(None, {"WADI_WEBDRIVER": "http://127.0.0.1:9"}) == "http://127.0.0.1:9"
    monkeypatch.setenv("PATH", str(tmp_path))
    for named, environment, what in (
        (None, {}, "no browser with a WebDriver server is installed"),
        ("nowhere", {}, "no WebDriver server at nowhere"),
    ):
        with pytest.raises(UsageError, match=what) as error:
            driver_named(named, environment)
        assert "apt install chromium chromium-driver" in error.value.problems[0].now


def test_folders_of_processes_that_are_gone_are_removed(tmp_path: Path) -> None:
    gone = subprocess.Popen(["true"])
    gone.wait()
    for owner in (gone.pid, os.getpid()):
        (tmp_path / f"wadi-browser-{owner}-x").mkdir()
    sweep(tmp_path)
    assert [path.name for path in tmp_path.iterdir()] == [f"wadi-browser-{os.getpid()}-x"]


LISTING = (
    HEAD
    + """
[start]
page = "list"
addresses = "{+site}/drawn"
[page.list]
rows = "li"
table = "weirs"
fields = { name = "b", span = { at = "i", type = "integer", unit = "m" } }
[page.list.browser]
"""
)


@pytest.mark.parametrize(
    ("plan", "code", "what"),
    [
        (LISTING + 'do = ["push it"]', "bad-step", 'unknown step "push"'),
        (LISTING + 'size = "big"', "wrong-value", "size"),
        (LISTING + 'per_row = ["more b"]', "bad-step", "more is not done inside a row"),
        (LISTING.replace('rows = "li"', "").replace('table = "weirs"', "") + 'per_row = ["click b"]', "missing-key", "this kind has no rows"),
        (LISTING + 'wait = "$.rows"', "bad-expression", "a browser finds elements by CSS or XPath"),
        (LISTING + """do = ["click 're:(a)'"]""", "bad-expression", "a browser finds elements by CSS or XPath"),
        (LISTING + 'zone = "Merrow/Dale"', "wrong-value", "is no time zone"),
        (LISTING.replace('rows = "li"', 'rows = "li"\nparse = "xml"'), "both-keys", "a browser shows pages of HTML"),
        (LISTING.replace("[start]", '[login]\nscheme = "bearer"\ntoken_from = "P"\n[start]'), "both-keys", "a browser takes no part in a log-in by bearer"),
        (LISTING + 'next = "type b x"', "bad-step", "type is not done here"),
        (LISTING + 'do = ["scroll ul many"]', "bad-step", 'scroll takes a count, and "many" is none'),
        (LISTING + 'do = ["more 20"]', "bad-step", "more takes EXPRESSION COUNT"),
        (LISTING + 'do = ["run there.js"]', "bad-code", "no such file beside the plan: there.js"),
        (LISTING + 'do = ["run ../there.js"]', "bad-code", "a script is beside the plan"),
        (LISTING + 'data_from = "script:there.js"', "missing-key", 'no step of do runs "there.js"'),
        (LISTING + 'data_sent = "*weirs*"', "missing-key", "data_sent says which of the replies"),
        (LISTING + """do = ["type b '{phrse}'"]""", "unset-input", 'nothing sets the input "phrse"'),
        (LISTING.replace('rows = "li"', 'rows = "$.weirs[*]"') + 'next = "scroll"', "bad-expression", "a browser finds elements by CSS or XPath"),
        (LISTING.replace('table = "weirs"', 'table = "weirs"\nnext = "a"') + 'next = "scroll"', "both-keys", "not by both"),
        (LISTING.replace("[page.list.browser]", "").replace('name = "b"', 'name = { at = "b", property = "value" }'), "missing-key", "scripts see properties"),
        (LISTING.replace('name = "b"', 'name = { at = "b", property = "value", attr = "title" }'), "both-keys", "attr and property exclude each other"),
        (LISTING.replace("[start]", '[login]\naddress = "http://h/in"\ndo = ["type b {pasword}"]\nform = "form"\n[start]'), "unset-input", 'nothing sets the input "pasword"'),
        (LISTING.replace("[start]", '[login]\naddress = "http://h/in"\ndo = ["click b"]\nform = "form"\n[start]'), "both-keys", "do is done in a browser on the page at address, and there is form"),
    ],
)  # fmt: skip
def test_lint_knows_what_a_browser_can(program: Program, plan: str, code: str, what: str) -> None:
    (program.folder / "p.toml").write_text(plan, "utf-8")
    done = program.inside("lint", "p.toml")
    assert (done.status, f"[{code}]" in done.err + done.out, what in done.err + done.out) == (2, True, True), (
        done.err + done.out
    )


def test_without_a_browser_it_is_said_what_to_install(program: Program, tmp_path: Path) -> None:
    (program.folder / "p.toml").write_text(LISTING, "utf-8")
    program.environment["PATH"] = str(tmp_path)
    with serving(SmallHost({"/drawn": DRAWN}).application) as site:
        done = program.inside("run", "p.toml", "-i", f"site={site}")
        assert done.status == 2, done.err
        assert "no browser with a WebDriver server is installed [no-browser]" in done.err
        assert "apt install chromium chromium-driver" in done.err
        told = json.loads(program.inside("doctor", "--json").out)["parts"]
    assert [part["is_there"] for part in told if part["name"] == "WebDriver"] == [False]


DRAWN = """<ul id=list></ul><script>
  for (const n of [1, 2, 3, 4]) document.getElementById("list").innerHTML += `<li><b>Weir ${n}</b> <i>${n} m</i></li>`;
</script>"""
LATE = """<main><ul id=list></ul><p id=cover>loading</p></main><script>
  setTimeout(() => { document.getElementById("list").innerHTML = "<li><b>Weir 9</b> <i>9 m</i></li><li><b>Weir 8</b> <i>8 m</i></li>";
                     document.getElementById("cover").remove(); }, 1200);
</script>"""


def _shown(work: Callable[[Browser], Awaitable[Any]]) -> Any:
    async def done() -> Any:
        browser = Browser(agent="Wadi", arguments=tuple(shlex.split(FENCE)))
        try:
            return await work(browser)
        finally:
            await browser.close()

    return asyncio.run(done())


@needs_browser
def test_a_page_is_read_as_a_browser_shows_it(program: Program) -> None:
    """Plain or shown is one word of the plan; resume, reparse and trace need no browser."""
    plan = LISTING.replace('rows = "li"', 'rows = "xpath: descendant::li"')
    browser = """do = ["wait 'css: li'", "hover 'descendant::li'"]\nper_row = ["hover ."]\nwait = "css:li"\ngone = "id('x')"\n"""
    (program.folder / "p.toml").write_text(plan + browser, "utf-8")
    with serving(SmallHost({"/drawn": DRAWN}).application) as site:
        done = program.inside("run", "p.toml", "-i", f"site={site}", "-o", "w.csv")
        assert done.status == 0, done.err
        assert json.loads(program.inside("preview", "p.toml", "-i", f"site={site}", "--json").out)["tables"][0]["rows"][
            0
        ] == [
            "Weir 1",
            1,
        ]
    assert (program.folder / "w.csv").read_text("utf-8").splitlines() == [
        "name,span",
        "Weir 1,1",
        "Weir 2,2",
        "Weir 3,3",
        "Weir 4,4",
    ]
    program.environment["PATH"] = str(program.folder)
    assert program.inside("reparse", "p", "p.toml", "-q", "-o", "again.csv").status == 0
    assert (program.folder / "again.csv").read_bytes() == (program.folder / "w.csv").read_bytes()
    assert "Weir 3" in program.inside("trace", "p", "weirs", "3", "name").out


READY = [
    (Rendering(wait=("li",), least=2), ""),
    (Rendering(gone=("#cover",)), ""),
    (Rendering(wait=("//li[b='Weir 9']",)), ""),
    (Rendering(wait=("li.never",), within_s=2), "li.never is not on the page after 2 s"),
    (Rendering(wait=("li",), least=3, within_s=2), "li is not on the page 3 times after 2 s"),
    (Rendering(gone=("main",), within_s=2), "main is still on the page after 2 s"),
    (
        Rendering(steps=(step_of("click '#nothing'"),), within_s=2),
        "click '#nothing': #nothing is not on the page after",
    ),
]


@needs_browser
def test_a_page_is_ready_when_the_plan_says_so() -> None:
    async def work(browser: Browser) -> list[str]:
        found = []
        with serving(SmallHost({"/": LATE}).application) as site:
            for rendering, _ in READY:
                try:
                    shown = await browser.render(Request(f"{site}/"), rendering)
                    found.append("" if b"Weir 8" in shown.reply.body else "too early")
                except FetchFailed as failure:
                    found.append(failure.what)
        return found

    for said, (_, what) in zip(_shown(work), READY, strict=True):
        assert said.startswith(what) if what else said == ""


@needs_browser
def test_a_page_that_does_not_get_ready_is_a_failed_page_with_its_reason(program: Program) -> None:
    (program.folder / "p.toml").write_text(LISTING + 'wait = "li.never"\nwithin = "1s"', "utf-8")
    with serving(SmallHost({"/drawn": DRAWN}).application) as site:
        done = program.inside("run", "p.toml", "-i", f"site={site}")
    assert done.status == 3
    assert "li.never is not on the page after 1 s" in done.err


FORM = """<form onsubmit="event.preventDefault(); document.title = [q.value, d.value, c.dataset.was].join('|');">
<input id=q value=old><select id=d><option value=1>North<option value=2>Upper Merrow</select>
<div id=c onmouseenter="this.dataset.was = 'hovered'">here</div><button id=b>Find</button></form>"""


@needs_browser
def test_what_is_done_is_done_as_a_person_does_it() -> None:
    steps = ["type '#q' 'Ash Spring'", "choose '#d' 'upper merrow'", "hover '#c'", "accept '#banner'", "click '#b'"]
    rendering = Rendering(steps=tuple(map(step_of, steps)))

    async def work(browser: Browser) -> list[Rendered]:
        with serving(SmallHost({"/": FORM}).application) as site:
            keyed = Rendering(steps=(step_of("type '#q' x"), step_of("press Enter")))
            return [await browser.render(Request(f"{site}/"), one) for one in (rendering, keyed)]

    titles = [read_document(shown.reply.body, "http://h/", "text/html").title for shown in _shown(work)]
    assert titles == ["Ash Spring|2|hovered", "x|1|"]


_ADDS = """<ul id=list></ul><div id=cover hidden style="position:fixed;inset:0">wait</div><p style="height:3000px"></p><button id=more>More</button><script>
  let n = 0, busy = false;
  async function add() {
    if (busy || n >= 3) return;
    busy = true; cover.hidden = false;
    const text = await (await fetch("/slow")).text();
    setTimeout(() => {
      n++; list.innerHTML += `<li><b>Weir ${n}</b> <i>${n} m</i></li>`; busy = false; cover.hidden = true; END
    }, 200);
  }
  START
</script>"""
_BY_BUTTON = _ADDS.replace("START", "more.onclick = add; add();")
ADDING = {
    "/off": _BY_BUTTON.replace("END", "more.disabled = n >= 3;"),
    "/gone": _BY_BUTTON.replace("END", "if (n >= 3) more.remove();"),
    "/dead": _BY_BUTTON.replace("END", ""),
    "/scroll": _ADDS.replace("START", "more.remove(); document.addEventListener('scroll', add); add();").replace(
        "END", ""
    ),
    "/covered": "<ul><li><b>Weir 1</b></ul><button id=more>More</button><div style='position:fixed;inset:0'>wait</div>",
}


def _elements(shown: Rendered, name: str) -> int:
    return len(read_document(shown.reply.body, "http://h/", "text/html").tree.xpath(f"//{name}"))


def _slow(request: Any, body: str) -> str:
    time.sleep(1.4)  # longer than a page has to be still
    return "ok"


@needs_browser
def test_what_comes_by_a_button_or_by_scrolling_is_waited_for() -> None:
    async def work(browser: Browser) -> dict[str, Any]:
        found: dict[str, Any] = {}
        with serving(SmallHost({**ADDING, "/slow": _slow}).application) as site:
            for path in ADDING:
                steps = ("scroll",) if path == "/scroll" else ("more '#more'",)
                rendering = Rendering(steps=tuple(map(step_of, steps)), within_s=3 if path == "/covered" else 30)
                try:
                    shown = await browser.render(Request(f"{site}{path}"), rendering)
                    found[path] = _elements(shown, "li")
                except FetchFailed as failure:
                    found[path] = failure.what
        return found

    covered = "more '#more': something covers it"
    assert _shown(work) == {"/off": 3, "/gone": 3, "/dead": 3, "/scroll": 3, "/covered": covered}


CARDS = """<ul></ul><script>
  document.querySelector("ul").innerHTML = [1, 2, 3].map((n) => `<li><b>Weir ${n}</b>${n == 2 ? "" : "<button>show</button>"}</li>`).join("");
  for (const b of document.querySelectorAll("button")) b.onclick = () => setTimeout(() => { b.outerHTML = "<i>7 m</i>"; }, 100);
</script>"""

ANEW = """<ul></ul><script>
  const open = new Set();
  function draw() {
    document.querySelector("ul").innerHTML = [1, 2, 3].map((n) => `<li>${open.has(n) ? "<i>7 m</i>" : "<button>show</button>"}</li>`).join("");
    document.querySelectorAll("li").forEach((li, at) => { if (li.firstChild.onclick !== undefined) li.firstChild.onclick = () => { open.add(at + 1); draw(); }; });
  }
  draw();
</script>"""


@needs_browser
def test_what_each_row_hides_is_shown() -> None:
    def in_rows(*sentences: str) -> Rendering:
        return Rendering(rows=("li.none", "li"), per_row=tuple(step_of(said, in_row=True) for said in sentences))

    async def work(browser: Browser) -> list[Any]:
        with serving(SmallHost({"/": CARDS, "/anew": ANEW}).application) as site:
            shown = await browser.render(Request(f"{site}/"), in_rows("click button", "wait i"))
            anew = await browser.render(Request(f"{site}/anew"), in_rows("click button"))
            with pytest.raises(FetchFailed) as failed:
                await browser.render(Request(f"{site}/"), in_rows("click a.show"))
            return [_elements(shown, "i"), _elements(anew, "i"), failed.value.what]

    assert _shown(work) == [2, 3, "click a.show: in none of 3 rows of li"]


SEEN = """<p></p><script>document.querySelector("p").textContent =
  [innerWidth, navigator.language, Intl.DateTimeFormat().resolvedOptions().timeZone].join(" ")</script>"""


@needs_browser
def test_a_page_is_told_of_its_reader_and_no_page_after_it() -> None:
    async def work(browser: Browser) -> list[str]:
        found = []
        with serving(SmallHost({"/": SEEN}).application) as site:
            for rendering in (
                Rendering(),
                Rendering(size=(800, 600), language="fr-CH", zone="Asia/Tokyo"),
                Rendering(),
            ):
                shown = await browser.render(Request(f"{site}/"), rendering)
                found.append(shown.reply.body.decode())
        return [text.partition("<p>")[2].partition("</p>")[0] for text in found]

    first, second, third = _shown(work)
    assert second == "800 fr-CH Asia/Tokyo"
    assert first == third != second


TROUBLE = {
    "/dialog": "<p>before</p><script>alert('Subscribe!'); document.body.innerHTML += '<p>after</p>';</script>",
    "/windows": "<p>it</p><script>for (let n = 0; n < 3; n++) window.open('/dialog');</script>",
    "/download": (200, {"Content-Type": "application/zip", "Content-Disposition": "attachment; filename=w.zip"}, "PK"),
    "/restless": "<p>it</p><script>setInterval(() => fetch('/dialog'), 50);</script>",
    "/endless": "<p>it</p><script>while (true) {}</script>",
    "/gone": (410, {}, "gone"),
}


@needs_browser
def test_what_a_page_does_to_a_browser_is_bounded_and_said() -> None:
    async def work(browser: Browser) -> dict[str, Any]:
        found: dict[str, Any] = {}
        with serving(SmallHost(TROUBLE).application) as site:
            for path in TROUBLE:
                began = time.monotonic()
                try:
                    shown = await browser.render(Request(f"{site}{path}"), Rendering(within_s=3))
                    found[path] = (shown.reply.status, shown.noticed)
                except FetchFailed as failure:
                    found[path] = failure.cause
                assert time.monotonic() - began < 20, path
            again = await browser.render(Request(f"{site}/restless"), Rendering(within_s=1))
            found["again"] = again.reply.status
        return found

    found = _shown(work)
    assert found["/dialog"] == (200, ("a dialog: Subscribe!",))
    assert found["/windows"][0] == 200
    assert found["/download"] in ("broken-off", "timed-out")
    assert found["/restless"][0] == 200
    assert found["/endless"] == "timed-out"
    assert found["/gone"][0] == 410
    assert found["again"] == 200


@needs_browser
def test_a_browser_that_is_killed_costs_no_page() -> None:
    async def work(browser: Browser) -> list[int]:
        with serving(SmallHost({"/drawn": DRAWN}).application) as site:
            first = await browser.render(Request(f"{site}/drawn"))
            for pid in _processes(f"wadi-browser-{os.getpid()}-"):
                os.kill(pid, signal.SIGKILL)
            try:
                second = await browser.render(Request(f"{site}/drawn"))
            except FetchFailed:  # as the layer above does
                second = await browser.render(Request(f"{site}/drawn"))
            return [first.reply.status, second.reply.status, browser.starts]

    assert _shown(work) == [200, 200, 2]
    assert _processes(f"wadi-browser-{os.getpid()}-") == []


@needs_browser
def test_no_process_is_left_when_wadi_is_killed(program: Program) -> None:
    (program.folder / "p.toml").write_text(LISTING + 'wait = "li.never"', "utf-8")
    with serving(SmallHost({"/drawn": DRAWN}).application) as site:
        running = program.start("run", "p.toml", "-i", f"site={site}")
        end = time.monotonic() + 30
        while not _processes(f"wadi-browser-{running.pid}-") and time.monotonic() < end:
            time.sleep(0.1)
        time.sleep(1.0)
        running.kill()
        running.communicate()
        end = time.monotonic() + 10
        while (left := _processes(f"wadi-browser-{running.pid}-")) and time.monotonic() < end:
            time.sleep(0.1)
    assert left == []
    sweep()


def _processes(mark: str) -> list[int]:
    """The processes whose command line has a mark."""
    found = []
    for path in Path("/proc").glob("[0-9]*/cmdline"):
        try:
            if mark.encode() in path.read_bytes():
                found.append(int(path.parent.name))
        except OSError:
            continue
    return found


def _page(html: str, url: str = "http://h/") -> Any:
    reply = Reply(Request(url), url, 200, (("Content-Type", "text/html"),), html.encode(), 0.0)
    return look_at(read_document(reply.body, url, "text/html"), reply)


ROWS = "".join(f"<li><b>Weir number {n}</b> <i>{n} m</i></li>" for n in range(5))


@pytest.mark.parametrize(
    ("raw", "background", "way", "only"),
    [
        (f"<ul>{ROWS}</ul>", [], "plain", 0),
        ("<ul id=list></ul>", [{"all": [{"name": f"Weir number {n}", "span": n} for n in range(5)]}], "JSON behind", 5),
        ("<ul id=list></ul>", [{"users": [{"id": n, "mail": f"u{n}@h.example"} for n in range(5)]}], "browser", 5),
        ("<ul id=list></ul>", [], "browser", 5),
    ],
    ids=["plain", "behind", "other data", "nothing"],
)  # fmt: skip
def test_the_plainest_way_is_named(raw: str, background: list[Any], way: str, only: int) -> None:
    replies = [
        Reply(Request(f"http://h/api/{n}"), f"http://h/api/{n}", 200, (("Content-Type", "application/json"),), json.dumps(said).encode(), 0.0)
        for n, said in enumerate(background)
    ]  # fmt: skip
    found = three_ways(_page(raw), _page(f"<ul>{ROWS}</ul>"), replies)
    assert (found.way, found.only_rendered) == (way, only)
    assert found.lines


@needs_browser
def test_inspect_try_show_and_snap_see_what_a_browser_shows(program: Program, site: str) -> None:
    told = json.loads(program.inside("inspect", f"{site}/gauges", "--rendered", "--json").out)
    assert (told["way"], told["only_rendered"]) == ("JSON behind", 20)
    assert told["plan"] == [f'addresses = ["{site}/api/gauges?page=1"]', 'rows = "$.items[*]"']
    shown = program.inside("inspect", f"{site}/gauges", "--rendered").out
    assert "the JSON behind it: a script asks for the rows, and so can a plan" in shown
    tried = program.inside("try", f"{site}/gauges", "tbody tr td:first-child", "--rendered")
    assert "20 matches" in tried.out
    assert "0 matches on the page as it comes" in tried.out
    assert "MW-0181" in program.inside("show", f"{site}/gauges", "--as", "text", "--rendered").out
    done = program.inside(
        "snap",
        f"{site}/walks",
        "--do",
        "accept '#agree'",
        "--wait",
        "ul.walks > li",
        "--size",
        "800x600",
        "-o",
        "walks.png",
    )
    assert done.status == 0, done.err
    picture = (program.folder / "walks.png").read_bytes()
    assert (picture[:4], int.from_bytes(picture[16:20]), int.from_bytes(picture[20:24])) == (b"\x89PNG", 800, 600)
    whole = program.inside("snap", f"{site}/register", "--whole", "-o", "-q.png")
    assert whole.status in (0, 2)
    wrong = program.inside("snap", "page.html", "-o", "x.png")
    assert (wrong.status, "a browser shows pages of sites" in wrong.err) == (2, True)


def test_a_page_is_shown_in_five_forms(program: Program, site: str) -> None:
    page = f"{site}/register/MW-0141"
    assert "Ash Spring" in program.inside("show", page).out
    assert "# Ash Spring" in program.inside("show", page, "--as", "markdown").out
    assert "<script>" in program.inside("show", page, "--as", "html").out
    assert "<script" not in program.inside("show", page, "--as", "safe").out
    assert json.loads(program.inside("show", page, "--as", "json").out)["jsonld"][0]["name"] == "Ash Spring"
    bare = program.inside("show", page, "--as", "markdown", "--no-links", "--no-images").out
    assert ("](" in program.inside("show", page, "--as", "markdown").out, "](" in bare, "Register" in bare) == (
        True,
        False,
        True,
    )
    refused = program.inside("show", page, "--no-links")
    assert (refused.status, "are about Markdown" in refused.err) == (2, True)
    assert program.inside("show", page, "--part", "p.code").out == "MW-0141\n"
    nothing = program.inside("show", page, "--part", ".nothing")
    assert (nothing.status, ".nothing picks nothing on this page" in nothing.err) == (2, True)
    assert program.inside("doctor").status == 0
