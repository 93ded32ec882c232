"""Listings that go on in the same page, the data behind pages that a browser shows, and sessions in it."""

from __future__ import annotations

import asyncio
import json
import shlex
import struct
from collections.abc import Mapping
from functools import partial
from pathlib import Path
from typing import Any

import pytest
from aiohttp import web
from hypothesis import given
from hypothesis import strategies as st

from conftest import FENCE, Program, needs_browser, serving
from small_host import HEAD, SmallHost, standing_in
from wadi.actions.open_page import open_page
from wadi.demo.proxies import StandInProxy
from wadi.learn.first_look.frames import frames_of
from wadi.learn.first_look.look import look_at
from wadi.web.browser import Browser
from wadi.web.messages import Request
from wadi.web.pictures import picture_of_window
from wadi.web.rendering import Rendering, new_rows
from wadi.web.shown_page import ShownPage

PLAN = (
    HEAD
    + """
[start]
page = "list"
addresses = "{+site}/"
[page.list]
rows = "li"
table = "weirs"
[page.list.fields]
name = "b"
[page.list.browser]
"""
)


def _names(path: Path) -> list[str]:
    return path.read_text("utf-8").split()[1:]


WEIRS = [f"Weir-{n}" for n in range(1, 48)]
LIST = """<div id=box style="height:200px;overflow:auto"><ul style="margin:0;position:relative"></ul></div><button id=next>next</button>
<script>
  const names = Array.from({length: 47}, (_, n) => `Weir-${n + 1}`), ul = document.querySelector("ul"), box = document.getElementById("box");
  const li = (name) => `<li style="height:20px"><b>${name}</b></li>`;
  let from = 0;
  function pages() { ul.innerHTML = names.slice(from, from + 10).map(li).join(""); next.disabled = from + 10 >= names.length; }
  START
</script>"""
GOING_ON = {
    "replaced": ("click '#next'", "pages(); next.onclick = () => { from += 10; pages(); };"),
    "emptied": ("click '#next'", "pages(); next.onclick = () => { ul.innerHTML = ''; from += 10; setTimeout(pages, 300); };"),
    "added": ("click '#next'", """const more = () => { ul.innerHTML += names.slice(from, from + 10).map(li).join(""); from += 10;
              if (from >= names.length) next.remove(); }; next.onclick = more; more();"""),
    "changed": ("click '#next'", """const more = () => { names.slice(from, from + 10).forEach((name) => ul.insertAdjacentHTML("beforeend", li(name)));
              from += 10; ul.firstChild.append("!"); next.disabled = from >= names.length; }; next.onclick = more; more();"""),
    "recycled": ("scroll '#box'", """next.remove(); ul.style.height = names.length * 20 + "px";
              const draw = () => { const first = Math.floor(box.scrollTop / 20);
                ul.innerHTML = names.slice(first, first + 12).map((name, n) => `<li style="height:20px;position:absolute;top:${(first + n) * 20}px"><b>${name}</b></li>`).join(""); };
              box.onscroll = () => requestAnimationFrame(draw); draw();"""),
    "scrolled": ("scroll", """next.remove(); box.style.cssText = ""; ul.style.paddingTop = "1500px";
              const more = () => { ul.insertAdjacentHTML("beforeend", names.slice(from, from += 10).map(li).join("")); };
              let busy = false; addEventListener("scroll", () => { if (busy || scrollY + innerHeight < document.body.scrollHeight - 50 || from >= names.length) return;
                busy = true; setTimeout(() => { more(); busy = false; }, 200); }); more();"""),
    "by keys": ("press PageDown", "pages(); document.addEventListener('keydown', () => { if (!next.disabled) { from += 10; pages(); } });"),
}  # fmt: skip


def _every_way() -> str:
    """A plan whose index leads to a listing for each way of going on."""
    kinds = {how: how.replace(" ", "_") for how in GOING_ON}
    parts = [PLAN.partition("[page.list]")[0].replace('page = "list"', 'page = "index"'), "[page.index.open]\n"]
    parts += [f'{kind} = "#{kind}"\n' for kind in kinds.values()]
    for how, kind in kinds.items():
        fields = 'fields = { how = { from = "url" }, name = "b" }'
        browser = f'browser = {{ next = "{GOING_ON[how][0]}" }}'
        parts.append(f'[page.{kind}]\nrows = "li"\ntable = "weirs"\n{fields}\n{browser}\n')
    return "".join(parts)


@needs_browser
def test_listings_go_on_in_the_same_page_with_rows_taken_once(program: Program) -> None:
    (program.folder / "p.toml").write_text(_every_way(), "utf-8")
    pages = {f"/{how.replace(' ', '_')}": LIST.replace("START", script) for how, (_, script) in GOING_ON.items()}
    pages["/"] = "".join(f"<a id={path[1:]} href={path}>x</a>" for path in pages)
    with serving(SmallHost(pages).application) as site:
        done = program.inside("run", "p.toml", "-i", f"site={site}", "-o", "w.jsonl")
    assert done.status == 0, done.err
    found: dict[str, list[str]] = {}
    for line in (program.folder / "w.jsonl").read_text("utf-8").splitlines():
        row = json.loads(line)
        found.setdefault(row["how"].rpartition("/")[2], []).append(row["name"].rstrip("!"))
    assert found == {how.replace(" ", "_"): WEIRS for how in GOING_ON}
    program.environment["PATH"] = str(program.folder)
    assert program.inside("reparse", "p", "p.toml", "-q", "-o", "again.jsonl").status == 0
    assert (program.folder / "again.jsonl").read_bytes() == (program.folder / "w.jsonl").read_bytes()


@needs_browser
def test_exactly_so_many_rows_come_and_a_run_goes_on_from_there(program: Program) -> None:
    step, script = GOING_ON["emptied"]
    (program.folder / "p.toml").write_text(PLAN + f'next = "{step}"', "utf-8")
    with serving(SmallHost({"/": LIST.replace("START", script)}).application) as site:
        done = program.inside("run", "p.toml", "-i", f"site={site}", "--rows", "24", "-o", "w.csv")
        assert (done.status, _names(program.folder / "w.csv")) == (0, WEIRS[:24]), done.err
        assert "3 read" in done.err + done.out
        done = program.inside(
            "resume", "p", "--rows", "47", "-o", "w.csv"
        )  # the page is opened again, and gone on with to its place
    assert (done.status, _names(program.folder / "w.csv")) == (0, WEIRS), done.err


@needs_browser
def test_a_way_on_that_is_never_there_is_said(program: Program) -> None:
    (program.folder / "p.toml").write_text(PLAN + "next = \"click '#nxt'\"", "utf-8")
    with serving(SmallHost({"/": LIST.replace("START", GOING_ON["replaced"][1])}).application) as site:
        done = program.inside("run", "p.toml", "-i", f"site={site}", "-o", "w.csv")
    assert "browser.next (click '#nxt') is not on the first page" in done.err + done.out
    assert len(_names(program.folder / "w.csv")) == 10


rows = st.lists(st.sampled_from("abcdefgh"), max_size=12)


@given(rows, rows)
def test_of_a_list_that_grew_what_was_added_is_new(before: list[str], added: list[str]) -> None:
    for verb in ("click", "press", "scroll"):
        assert [(before + added)[place] for place in new_rows(before, before + added, verb)] == (
            added if added or verb == "scroll" else before
        )


@given(st.lists(st.integers(), unique=True, min_size=2, max_size=30), st.data())
def test_of_a_list_that_moved_what_came_is_new_in_whatever_order_it_stands(rows: list[int], data: Any) -> None:
    every = list(map(str, rows))
    end = data.draw(st.integers(1, len(every)))
    start = data.draw(st.integers(0, end))
    before, now = every[:end], every[start:]
    assert [now[place] for place in new_rows(before, now, "scroll")] == every[end:]
    reused = every[end:] + before[start:]  # elements that left hold the rows that came
    assert [reused[place] for place in new_rows(before, reused, "scroll")] == every[end:]


NOTES = {"/": """<p>drawn</p><script>
  const ask = (name, number) => fetch("/graphql", {method: "POST", headers: {"Content-Type": "application/json"}, body: JSON.stringify({query: name, number})});
  ask("Me", 0).then(() => ask("Notes", 1)).then(() => ask("Notes", 2));
</script>"""}  # fmt: skip


def _notes(request: Any, body: str) -> Any:
    asked = json.loads(body)
    notes = [{"text": f"note-{asked['number']}-{n}"} for n in (1, 2)] if asked["query"] == "Notes" else []
    return (200, {"Content-Type": "application/json"}, json.dumps({"data": {"notes": notes}}))


BEHIND = (
    PLAN.replace('rows = "li"', 'rows = "$.data.notes[*]"\nexpect = "p"').replace('name = "b"', 'name = "$.text"')
    + 'data_from = "*/graphql"\ndata_sent = "*Notes*"\n'
)


@needs_browser
def test_what_a_page_asked_for_is_its_data(program: Program) -> None:
    (program.folder / "p.toml").write_text(BEHIND, "utf-8")
    (program.folder / "q.toml").write_text(BEHIND.replace("*/graphql", "*/graph"), "utf-8")
    with serving(SmallHost({**NOTES, "/graphql": _notes}).application) as site:
        done = program.inside("run", "p.toml", "-i", f"site={site}", "-o", "w.csv")
        assert done.status == 0, done.err
        wrong = program.inside("run", "q.toml", "-i", f"site={site}", "-o", "q.csv")
        assert "no background reply is one of data_from" in wrong.err + wrong.out
        assert f'there were: "{site}/graphql"' in wrong.err + wrong.out
    names = ["note-1-1", "note-1-2", "note-2-1", "note-2-2"]
    assert _names(program.folder / "w.csv") == names
    program.environment["PATH"] = str(program.folder)
    assert program.inside("reparse", "p", "p.toml", "-q", "-o", "again.csv").status == 0
    assert _names(program.folder / "again.csv") == names
    assert "note-2-1" in program.inside("trace", "p", "weirs", "3", "name").out
    assert program.inside("verify", "p").status == 0


@needs_browser
def test_a_script_of_the_plan_gives_data_and_fields_take_properties(program: Program) -> None:
    page = """<ul><li><input type=checkbox><b>one</b></li><li><input type=checkbox><b>two</b></li></ul>
      <script>document.querySelectorAll("li").forEach((li, n) => { li.model = {id: 40 + n}; li.firstChild.checked = n == 1; });</script>"""
    fields = 'name = "b"\nid = { at = ".", property = "model.id", type = "integer" }\non = { at = "input", property = "checked", type = "boolean" }\n'
    (program.folder / "p.toml").write_text(PLAN.replace('name = "b"\n', fields), "utf-8")
    script = PLAN.replace('rows = "li"', 'rows = "$[*]"').replace('name = "b"', 'name = "$.n"\nid = "$.id"')
    (program.folder / "s.toml").write_text(script + 'do = ["run ids.js"]\ndata_from = "script:ids.js"', "utf-8")
    (program.folder / "ids.js").write_text(
        "// what the page keeps\nreturn [...document.querySelectorAll('li')].map((li) => ({n: li.textContent, id: li.model.id}));"
    )
    (program.folder / "t.toml").write_text(script + 'do = ["run bad.js"]\ndata_from = "script:bad.js"', "utf-8")
    (program.folder / "bad.js").write_text("return nothing.there;")
    with serving(SmallHost({"/": page}).application) as site:
        for plan, wanted in (
            ("p", ["name,id,on", "one,40,false", "two,41,true"]),
            ("s", ["name,id", "one,40", "two,41"]),
        ):
            done = program.inside("run", f"{plan}.toml", "-i", f"site={site}", "-o", f"{plan}.csv")
            assert done.status == 0, done.err
            assert (program.folder / f"{plan}.csv").read_text("utf-8").splitlines() == wanted
        failed = program.inside("run", "t.toml", "-i", f"site={site}", "-o", "t.csv")
    assert failed.status != 0
    assert "run bad.js: ReferenceError: nothing is not defined" in failed.err + failed.out
    assert (program.folder / "runs" / "s").exists()


SEARCH = """<input id=q><ul></ul><script>
  q.onkeydown = (event) => { if (event.key == "Enter") document.querySelector("ul").innerHTML = `<li><b>${q.value}-1</b></li><li><b>${q.value}-2</b></li>`; };
</script>"""


@needs_browser
def test_what_is_searched_for_is_typed_as_a_person_types_it(program: Program) -> None:
    plan = PLAN.replace("[start]", 'phrase = ["Ash", "Elm\'s {x}"]\n[start]').replace(
        'name = "b"', 'name = "b"\nfor = { from = "input.phrase" }'
    )
    (program.folder / "p.toml").write_text(plan + """do = ["type '#q' {phrase}", "press Enter"]""", "utf-8")
    with serving(SmallHost({"/": SEARCH}).application) as site:
        done = program.inside("run", "p.toml", "-i", f"site={site}", "-o", "w.csv")
    assert done.status == 0, done.err
    assert (program.folder / "w.csv").read_text("utf-8").splitlines() == [
        "name,for", "Ash-1,Ash", "Ash-2,Ash", "Elm's {x}-1,Elm's {x}", "Elm's {x}-2,Elm's {x}",
    ]  # fmt: skip


LOGIN = """<form><input id=u><input id=p type=password><button type=button>in</button></form><script>
  document.querySelector("button").onclick = () => fetch("/in", {method: "POST", body: u.value + ":" + p.value}).then(() => { location = "/home"; });
</script>"""


def _is_member(request: Any) -> bool:
    return bool(request.cookies.get("sid") == "s3")


@needs_browser
def test_a_log_in_in_a_browser_is_that_of_all_pages(program: Program) -> None:
    def enter(request: Any, body: str) -> Any:
        headers = {"Set-Cookie": "sid=s3; HttpOnly"} if body == "ann:open-sesame-7" else {}
        return (200, headers, "")

    pages = {
        "/login": LOGIN, "/in": enter,
        "/home": lambda request, body: "<p>welcome</p>" if _is_member(request) else "<p>no</p>",
        "/": lambda request, body: "<ul><li><b>shown</b><a href='/one'>o</a></li></ul>" if _is_member(request) else "closed",
        "/one": lambda request, body: "<i>plain</i>" if _is_member(request) else "closed",
    }  # fmt: skip
    plan = PLAN.replace(
        "[page.list.browser]",
        '[page.list.open]\none = "a"\n[page.one]\ncompletes = "weirs"\n[page.one.fields]\nmore = "i"\n[page.list.browser]',
    )
    login = """
[login]
address = "{+site}/login"
do = ["type '#u' {user}", "type '#p' {password}", "click button", "wait p"]
user_from = "WEIR_USER"
password_from = "WEIR_WORD"
check = "//p[.='welcome']"
"""
    (program.folder / "p.toml").write_text(plan + login, "utf-8")
    program.environment |= {"WEIR_USER": "ann", "WEIR_WORD": "open-sesame-7"}
    with serving(SmallHost(pages).application) as site:
        done = program.inside("run", "p.toml", "-i", f"site={site}", "-o", "w.csv")
        assert done.status == 0, done.err
        program.environment["WEIR_WORD"] = "wrong-sesame-8"
        refused = program.inside("run", "p.toml", "-i", f"site={site}", "-o", "x.csv")
    assert (program.folder / "w.csv").read_text("utf-8").splitlines() == ["name,more", "shown,plain"]
    assert refused.status != 0
    assert "//p[.='welcome']" in refused.err
    kept = b"".join(path.read_bytes() for path in program.folder.rglob("*") if path.is_file())
    assert b"sesame" not in kept + (done.err + done.out + refused.err + refused.out).encode()


@needs_browser
def test_a_browser_goes_by_the_routes_of_the_plan(program: Program) -> None:
    north, south = StandInProxy(region="127.0.0.3"), StandInProxy("socks5", region="127.0.0.4")
    program.environment["WADI_BROWSER_ARGUMENTS"] = ""
    page = lambda request, body: f"<ul><li><b>{request.remote}</b></li></ul>"  # noqa: E731
    with standing_in(north, south) as (one, other), serving(SmallHost({"/": page}).application) as site:
        routes = f'routes = {{ north = "{one}", south = "{other}" }}\n'
        (program.folder / "p.toml").write_text(PLAN.replace("[inputs]", f"{routes}[inputs]"), "utf-8")
        done = program.inside("run", "p.toml", "-i", f"site={site}", "-o", "w.csv")
    assert done.status == 0, done.err
    assert _names(program.folder / "w.csv") == ["127.0.0.3", "127.0.0.4"]


@needs_browser
def test_a_browser_that_grew_too_large_is_started_anew(program: Program) -> None:
    async def work() -> tuple[int, int, list[int]]:
        browser = Browser(agent="Wadi", most_memory=1)
        with serving(SmallHost({"/": "<p>x</p>"}).application) as site:
            try:
                replies = [await browser.render(Request(f"{site}/?{n}"), Rendering(quiet_s=0.0)) for n in range(30)]
                return browser.starts, browser.restarts, [shown.reply.status for shown in replies]
            finally:
                await browser.close()

    starts, restarts, statuses = asyncio.run(work())
    assert (starts, restarts, set(statuses)) == (1, 1, {200})


def test_frames_are_drawn_where_the_candidates_stand(site: str) -> None:
    page = open_page(f"{site}/register")
    look = look_at(page.document, page.reply)
    found = {frame.mark: page.document.tree.xpath(frame.expression) for frame in frames_of(page.reply) if frame.mark}
    assert all(len(elements) == 1 for elements in found.values())
    assert found["A"][0] == look.groups[0].rows.rows.rows[0]
    marks = {mark: elements[0] for named, elements in found.items() for mark in named.split()}
    assert set(look.groups[0].marks) <= set(marks)
    date = next(
        mark
        for mark, field in zip(look.groups[0].marks, look.groups[0].fields, strict=False)
        if field.type.type == "date"
    )
    assert "28 May 2022" in marks[date].text


def _size(png: bytes) -> tuple[int, int]:
    width, height = struct.unpack(">II", png[16:24])
    return int(width), int(height)


@needs_browser
def test_pictures_of_an_element_of_all_of_a_page_and_with_marks(program: Program, site: str) -> None:
    page = f"{site}/register"
    done = program.inside("snap", page, "-o", "marked.png", "--mark", "--dark", "--size", "600x400")
    assert done.status == 0, done.err
    missing = program.inside("snap", page, "-o", "no.png", "--element", "h7")
    assert (missing.status, "h7 is not on the page" in missing.err, (program.folder / "no.png").exists()) == (
        3,
        True,
        False,
    )

    async def work() -> list[bytes]:
        browser = Browser(agent="Wadi", pictures=True, arguments=tuple(shlex.split(FENCE)))
        wanted: list[dict[str, Any]] = [{}, {"whole": True}, {"element": "h1"}]
        try:
            return [
                await browser.picture(Request(page), partial(_taken, how), Rendering(size=(600, 400))) for how in wanted
            ]
        finally:
            await browser.close()

    window, whole, element = asyncio.run(work())
    marked = (program.folder / "marked.png").read_bytes()
    assert _size(window) == _size(marked) == (600, 400)
    assert marked != window
    assert _size(whole)[1] > 800
    assert _size(element)[1] < 100


async def _taken(how: Mapping[str, Any], page: ShownPage) -> bytes:
    return await picture_of_window(page.window, **how)


async def _slowly(request: web.Request, _: str) -> web.StreamResponse:
    """A page whose end comes long after its beginning is shown."""
    reply = web.StreamResponse(headers={"Content-Type": "text/html"})
    await reply.prepare(request)
    await reply.write(b"<i>secret</i>" + b" " * 4096)
    await asyncio.sleep(2)
    await reply.write_eof()
    return reply


@needs_browser
@pytest.mark.parametrize("closed", ["<i>secret</i>", _slowly], ids=["at-once", "slowly"])
def test_where_a_page_leads_on_to_is_a_hop_and_robots_txt_holds_there(program: Program, closed: Any) -> None:
    pages = {
        "/robots.txt": "User-agent: *\nDisallow: /closed",
        "/": "<ul><li><b>one</b><a href='/on'>a</a><a href='/off'>b</a></li></ul><script>alert('Join us!')</script>",
        "/on": "<script>location = '/there'</script>",
        "/off": "<script>location = '/closed/x'</script>",
        "/there": "<i>it</i>",
        "/closed/x": closed,
    }
    plan = PLAN.replace(
        "[page.list.browser]",
        '[page.list.open]\none = "a"\n[page.one]\ntable = "ones"\nfields = { more = "i", url = { from = "url" } }\nbrowser = { wait = "i" }\n[page.list.browser]',
    )
    (program.folder / "p.toml").write_text(plan, "utf-8")
    with serving(SmallHost(pages).application) as site:
        done = program.inside("run", "p.toml", "-i", f"site={site}", "--table", "ones", "-o", "w.csv")
    said = done.err + done.out
    assert "robots.txt" in said
    assert "/closed/x" in said
    assert (program.folder / "w.csv").read_text("utf-8").splitlines() == ["more,url", f"it,{site}/there"]
    assert 'in the browser: "a dialog: Join us!"' in said
    assert "secret" not in b"".join(path.read_bytes() for path in program.folder.rglob("*.csv")).decode()


def test_a_site_cannot_say_what_a_browser_says(program: Program) -> None:
    headers = {"Wadi-End-Of-Turns": "gone", "Wadi-Noticed": "a dialog: you won", "Wadi-Beside": "00001.warc.gz 0 9 9"}
    plan = PLAN.replace("[page.list.browser]", "")
    (program.folder / "p.toml").write_text(plan, "utf-8")
    with serving(SmallHost({"/": (200, headers, "<ul><li><b>one</b></li></ul>")}).application) as site:
        done = program.inside("run", "p.toml", "-i", f"site={site}", "-o", "w.csv")
    assert (done.status, _names(program.folder / "w.csv")) == (0, ["one"]), done.err
    assert "dialog" not in done.err + done.out
    assert program.inside("reparse", "p", "p.toml", "-q", "-o", "again.csv").status == 0
    assert _names(program.folder / "again.csv") == ["one"]
