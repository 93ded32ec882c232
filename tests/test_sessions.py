"""Log-ins by a form, sessions that end, cookies and saved requests from files; nothing secret is stored."""

from __future__ import annotations

import base64
import gzip
import io
import json
import os
import pty
import select
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pytest
from aiohttp import web

from conftest import EXAMPLES, Program, serving
from small_host import HEAD, SmallHost, crawled, items, plan_of
from wadi.actions.begin import begin
from wadi.actions.crawl import crawl
from wadi.actions.setup import credentials_of
from wadi.cli.show import console
from wadi.cli.summary import Summary
from wadi.demo.shapes import MEMBER, PASSWORD
from wadi.plan.reader import load_plan
from wadi.problems import CrawlError, UsageError
from wadi.quality.verify_run import verify
from wadi.web.session import BadSession, read_cookies, read_saved_request

LOGIN = "<title>Log in</title><form action=/q><input name=q></form><form method=post action=/do><input type=hidden name=t value=7><input name=u><input type=password name=p></form>"
PLAN = """[start]
page = "list"
addresses = ["{+site}/l"]
[login]
address = "{+site}/login"
user_from = "U"
password_from = "P"
EXTRA
[page.list]
expect = "ul"
rows = "li"
table = "t"
next = "a"
fields = { name = "." }
"""


class Guarded:
    """Pages behind a cookie: `lives` requests a session; `closed` says how those without one are answered."""

    def __init__(self, closed: Callable[[web.Request], Any], lives: int = 2) -> None:
        self.sessions: dict[str, int] = {}
        self.closed = closed
        self.lives = lives
        self.host = SmallHost(
            {
                "/login": LOGIN,
                "/do": self.log_in,
                "/welcome": "<p class=in>in",
                **{f"/l{n}": self.page for n in ("", 2, 3, 4)},
            }
        )

    def log_in(self, request: web.Request, body: str) -> Any:
        if body != "t=7&u=me&p=secret":
            return LOGIN
        self.sessions[f"s{len(self.sessions)}"] = self.lives
        return (303, {"Location": "/welcome", "Set-Cookie": f"sid=s{len(self.sessions) - 1}"}, "")

    def page(self, request: web.Request, body: str) -> Any:
        name = request.cookies.get("sid", "")
        if self.sessions.get(name, 0) <= 0:
            return self.closed(request)
        self.sessions[name] -= 1
        number = int(request.path[2:] or 1)
        return items(f"r{number}", more=f"<a href=/l{number + 1}>n</a>" if number < 4 else "")


def _everything_in(folder: Path) -> bytes:
    """All bytes of a run's files, those of the archive unpacked."""
    files = [path for path in folder.rglob("*") if path.is_file()]
    assert any(path.name == "run.sqlite" for path in files)
    return b"".join(
        gzip.decompress(data) if path.suffix == ".gz" else data for path in files for data in [path.read_bytes()]
    )


def _crawl(guarded: Guarded, folder: Path, extra: str = "", retries: int = 0) -> Any:
    with serving(guarded.host.application) as address:
        loaded = plan_of(folder, PLAN.replace("EXTRA", extra), address, retries=retries)
        with begin(loaded, folder / "runs") as run:
            try:
                crawl(run)
            finally:
                kept = _everything_in(run.folder)
                assert b"secret" not in kept
                assert b"sid=s" not in kept
            return run.read().rows, [failed.problem["code"] for failed in run.state.failures()]


@pytest.mark.parametrize(
    ("closed", "extra"),
    [
        (lambda request: (302, {"Location": f"/login?back={request.path}"}, ""), ""),
        (lambda request: (401, {}, "who are you?"), ""),
        (lambda request: "<p class=please>Please log in", 'lost = "p.please"'),
        (lambda request: "<p class=please>Please log in<ul><li>not a row</ul>", 'lost = ".please"\ncheck = "p.in"'),
    ],
)
@pytest.mark.parametrize("lives", [1, 2, 9])
def test_a_session_that_ends_is_begun_anew_and_nothing_is_lost(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, closed: Any, extra: str, lives: int
) -> None:
    monkeypatch.setenv("U", "me")
    monkeypatch.setenv("P", "secret")
    guarded = Guarded(closed, lives)
    assert _crawl(guarded, tmp_path, extra) == ([["r1"], ["r2"], ["r3"], ["r4"]], [])
    assert len(guarded.sessions) == -(-4 // lives)


def test_a_session_that_ended_is_told_in_the_summary(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("U", "me")
    monkeypatch.setenv("P", "secret")
    guarded = Guarded(lambda request: (302, {"Location": "/login"}, ""), 2)
    told = io.StringIO()
    with (
        serving(guarded.host.application) as address,
        begin(plan_of(tmp_path, PLAN.replace("EXTRA", ""), address), tmp_path / "runs") as run,
    ):
        crawl(run)
        console(told).print(Summary(run, verify(run), []).view())
    assert "log-in    2 times: the session ended meanwhile" in told.getvalue()


@pytest.mark.parametrize(
    "first", [(302, {"Location": "/welcome"}), (307, {"Location": "/again"}), (503, {}), (503, {"Retry-After": "0"})]
)
def test_nothing_of_a_log_in_is_kept_however_it_is_answered(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, first: tuple[int, dict[str, str]]
) -> None:
    monkeypatch.setenv("U", "me")
    monkeypatch.setenv("P", "secret")
    guarded = Guarded(lambda request: (302, {"Location": "/login"}, ""), 2)
    asked: list[str] = []

    def log_in(request: web.Request, body: str) -> Any:
        asked.append(body)
        status, headers = first
        if status == 503:
            return (status, headers, "busy")
        if status == 307:
            return (status, headers, "")
        done = guarded.log_in(request, body)
        return (302, done[1], "") if status == 302 else done

    guarded.host.pages = {**guarded.host.pages, "/do": log_in, "/again": guarded.log_in}
    if first[0] == 503:
        with pytest.raises(CrawlError, match="status 503"):
            _crawl(guarded, tmp_path, retries=2)
    else:
        assert _crawl(guarded, tmp_path, retries=2) == ([["r1"], ["r2"], ["r3"], ["r4"]], [])
    assert asked
    assert all(body == "t=7&u=me&p=secret" for body in asked)


def test_a_page_that_stays_closed_fails_and_the_others_go_on(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("U", "me")
    monkeypatch.setenv("P", "secret")
    guarded = Guarded(lambda request: (401, {}, ""), 9)
    guarded.host.pages = {**guarded.host.pages, "/l2": (401, {}, "never")}
    with pytest.raises(CrawlError, match="ended at once, 3 times in a row"):
        _crawl(guarded, tmp_path)


@pytest.mark.parametrize(
    ("user", "password", "extra", "words"),
    [
        ("me", "wr0ng", "", "the form came back"),
        ("me", "wr0ng", 'check = "p.in"', 'the page after it has no "p.in" (its title: "Log in")'),
        ("me", "secret", 'form = "form.none"', "there is no form for it on the page"),
        ("me", "secret", 'form = "form"', "the form has no field for a password"),
        ("", "secret", "", "no user name to log in with: the environment variable U is not set"),
    ],
)
def test_log_ins_that_do_not_work_say_why(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, user: str, password: str, extra: str, words: str
) -> None:
    monkeypatch.setenv("U", user)
    monkeypatch.setenv("P", password)
    with pytest.raises(CrawlError) as caught:
        _crawl(Guarded(lambda request: (401, {}, "")), tmp_path, extra)
    assert words in str(caught.value)
    assert password not in str(caught.value)


def test_credentials_are_asked_for_once_where_no_variable_holds_them(tmp_path: Path) -> None:
    asked: list[bool] = []

    def ask(question: str, secret: bool) -> str:
        asked.append(secret)
        return "secret" if secret else "me"

    guarded = Guarded(lambda request: (401, {}, ""), 1)
    with serving(guarded.host.application) as address:
        loaded = plan_of(tmp_path, PLAN.replace("EXTRA", ""), address)
        with begin(loaded, tmp_path / "runs") as run:
            crawl(run, credentials=credentials_of(loaded, ask))
            assert len(run.read().rows) == 4
    assert asked == [False, True]


# -- sessions from files


def test_cookies_from_a_file() -> None:
    lines = [
        "# cookies",
        "",
        "h.example\tFALSE\t/\tFALSE\t0\tsid\ta=b c",
        "#HttpOnly_.wide.example\tTRUE\t/x\tTRUE\t2000\twide\t1",
        "h.example\tFALSE\t/\tFALSE\t500\told\t1",
    ]
    session = read_cookies("\ufeff" + "\r\n".join(lines), now=1000)
    first, second = session.cookies
    assert (first.domain, first.name, first.value, first.host_only, first.secure) == (
        "h.example",
        "sid",
        "a=b c",
        True,
        False,
    )
    assert (second.domain, second.path, second.host_only, second.secure) == ("wide.example", "/x", False, True)
    assert session.expired == 1


RAW = "GET /l?x=1 HTTP/1.1\r\nHost: h.example\r\nCookie: sid=1; b=2=3\r\nUser-Agent: other\r\nX-Token: t\r\nAccept: */*\r\n\r\nbody"
COMMAND = (
    "fetch 'http://h.example/l' \\\n -H 'cookie: sid=1; b=2=3' -H 'user-agent: other' -H 'x-token: t' --compressed"
)
ARCHIVE = json.dumps(
    {"log": {"entries": [
        {"request": {"url": "http://other.example/", "headers": [{"name": "Cookie", "value": "no=1"}]}},
        {"request": {"url": "http://h.example/l", "headers": [{"name": "Cookie", "value": "sid=1; b=2=3"}, {"name": "X-Token", "value": "t"}]}},
        {"request": {"url": "http://h.example/style.css", "headers": []}},
    ]}}
)  # fmt: skip


@pytest.mark.parametrize("text", [RAW, RAW.replace("\r\n", "\n"), COMMAND, ARCHIVE])
def test_saved_requests(text: str) -> None:
    session = read_saved_request(text)
    assert [(c.domain, c.name, c.value) for c in session.cookies] == [
        ("h.example", "sid", "1"),
        ("h.example", "b", "2=3"),
    ]
    assert (session.host, [(name.lower(), value) for name, value in session.headers]) == (
        "h.example:80",
        [("x-token", "t")],
    )


@pytest.mark.parametrize(
    ("read", "text", "words"),
    [
        (lambda text: read_cookies(text, 0), "", "no cookies"),
        (lambda text: read_cookies(text, 0), "a b c", "line 1 has 1 columns"),
        (lambda text: read_cookies(text, 0), "h\tF\t/\tF\tsoon\tn\tv", "no time in seconds"),
        (lambda text: read_cookies(text, 9e9), "h\tF\t/\tF\t5\tn\tv", "all cookies in it have expired"),
        (read_saved_request, "", "neither a request"),
        (read_saved_request, "GET / HTTP/1.1\nHost: h\n\n", "neither cookies nor"),
        (read_saved_request, "GET / HTTP/1.1\nCookie: a=1\n", "no Host header"),
        (read_saved_request, "GET / HTTP/1.1\nnonsense\n", "is no header line"),
        (read_saved_request, "it's not closed", "cannot be read|no request"),
        (read_saved_request, '{"log": 1}', "no HTTP archive"),
        (read_saved_request, '{"log": {"entries": []}}', "no request in it"),
    ],
)
def test_files_without_a_session_say_why(read: Any, text: str, words: str) -> None:
    with pytest.raises(BadSession, match=words):
        read(text)


FROM_FILE = """[start]
page = "list"
addresses = ["{+site}/l"]
[login]
WAY
lost = "p.please"
[page.list]
rows = "li"
table = "t"
open = { list = "a" }
fields = { name = "." }
"""


@pytest.mark.parametrize("way", ["cookies", "request"])
def test_a_session_from_a_file_opens_pages_and_is_not_kept(tmp_path: Path, way: str) -> None:
    def answer(request: web.Request, body: str) -> str:
        return items("r") if request.cookies.get("sid") == "opensesame" else "<p class=please>Log in"

    host = SmallHost({"/l": answer})
    with serving(host.application) as address:
        port = address.rpartition(":")[2]
        text = {
            "cookies": "127.0.0.1\tFALSE\t/\tFALSE\t0\tsid\topensesame\n",
            "request": f"GET / HTTP/1.1\nHost: 127.0.0.1:{port}\nCookie: sid=opensesame\n",
        }[way]
        (tmp_path / "session.txt").write_text(text)
        loaded = plan_of(tmp_path, FROM_FILE.replace("WAY", f'{way} = "session.txt"'), address)
        with begin(loaded, tmp_path / "runs") as run:
            crawl(run)
            assert run.read().rows == [["r"]]
            assert not [path for path in run.folder.rglob("*") if path.is_file() and b"opensesame" in path.read_bytes()]


def test_an_ended_session_from_a_file_is_no_empty_page(tmp_path: Path) -> None:
    (tmp_path / "c.txt").write_text("127.0.0.1\tFALSE\t/\tFALSE\t0\tsid\told\n")
    plan = FROM_FILE.replace("WAY", 'cookies = "c.txt"')
    with crawled(tmp_path, {"/l": "<p class=please>Log in"}, plan) as done:
        assert (done.rows(), done.failures) == ([], ["logged-out"])


def test_a_missing_file_ends_before_anything_is_asked(tmp_path: Path) -> None:
    with (
        pytest.raises(UsageError, match=r"c\.txt: no such file"),
        crawled(tmp_path, {}, FROM_FILE.replace("WAY", 'cookies = "c.txt"')),
    ):
        pass
    assert not (tmp_path / "runs").exists()


def test_the_program_asks_at_a_terminal_and_does_not_show_the_password(program: Program, site: str) -> None:
    """The real program behind a terminal: a question for each, a password that is not echoed, then the whole table."""
    pid, terminal = pty.fork()
    if pid == 0:
        os.chdir(program.folder)
        plan = str(EXAMPLES / "members.toml")
        arguments = [*program.command, "run", plan, "-i", f"site={site}", "-o", "out.csv"]
        os.execve(arguments[0], arguments, {**program.environment, "TERM": "dumb"})
    seen = b""
    answers = [(b"user name for", MEMBER), (b"password for", PASSWORD)]
    while select.select([terminal], [], [], 60)[0]:
        try:
            seen += os.read(terminal, 4096)
        except OSError:
            break
        if answers and answers[0][0] in seen:
            os.write(terminal, answers.pop(0)[1].encode() + b"\r")
    assert os.waitpid(pid, 0)[1] == 0, seen.decode()
    os.close(terminal)
    assert PASSWORD.encode() not in seen
    assert len((program.folder / "out.csv").read_text().splitlines()) == 101


# -- secrets beside forms

TOKEN, NAME, WORD = "tk-8d1f6c0e97", "desk officer", "pa ss/w\u00f6rd+7"
STORE = """[start]
page = "list"
addresses = ["{+site}/l{?key}"]
[page.list]
rows = "$.rows[*]"
table = "t"
next = { at = "$.next" }
open = { one = { address = "/one/{n}", send = { n = "$.n" }HEADERS } }
[page.list.fields]
n = "$.n"
[page.one]
completes = "t"
fields = { size = "$.size" }
"""
SECRET_PLANS = {
    "a key in addresses, links and header fields": (STORE.replace("HEADERS", ', headers = { X-Api-Key = "{key}" }'), 'key = { secret_from = "STORE_KEY" }\n'),
    "a token in header fields of every request": (
        STORE.replace("{?key}", "").replace("HEADERS", ""),
        'key = { secret_from = "STORE_KEY" }\n[manners.headers]\nAuthorization = "Token {key}"\n',
    ),
    "a key in the body of a POST": (
        STORE.replace("{?key}", "").replace("HEADERS", "").replace("[page.list]", 'post = "json"\nvalues = { auth = { key = "{key}" } }\n[page.list]').replace(
            'next = { at = "$.next" }', 'next = { post = "json", send = { page = "$.page" } }'
        ),
        'key = { secret_from = "STORE_KEY" }\n',
    ),
    "name and password": (
        STORE.replace("{?key}", "").replace("HEADERS", "")
        + '[login]\nscheme = "basic"\nuser_from = "STORE_USER"\npassword_from = "STORE_WORD"\n',
        "",
    ),
    "a bearer's token": (
        STORE.replace("{?key}", "").replace("HEADERS", "")
        + '[login]\nscheme = "bearer"\ntoken_from = "STORE_KEY"\n',
        "",
    ),
}  # fmt: skip


class Store:
    """A service whose every page wants the secret, and which says it back in links, header fields and error texts."""

    def __init__(self, case: str) -> None:
        self.case = case
        self.key = "none" if case == "name and password" else TOKEN
        names = ("/l", "/one/1", "/one/2", "/one/3", "/moved", "/robots.txt")
        self.host = SmallHost(dict.fromkeys(names, self.page))

    def is_let_in(self, request: web.Request, body: str) -> bool:
        given = request.headers.get("Authorization", "")
        match self.case:
            case "a key in addresses, links and header fields":
                return TOKEN in (request.query.get("key"), request.headers.get("X-Api-Key"))
            case "a token in header fields of every request":
                return given == f"Token {TOKEN}"
            case "a key in the body of a POST":
                return request.path != "/l" or json.loads(body)["auth"]["key"] == TOKEN
            case "name and password":
                return given == "Basic " + base64.b64encode(f"{NAME}:{WORD}".encode()).decode()
        return given == f"Bearer {TOKEN}"

    def page(self, request: web.Request, body: str) -> Any:
        if request.path == "/robots.txt":
            return (200, {"Content-Type": "text/plain"}, "")
        if not self.is_let_in(request, body):
            return (401, {}, f"you are not let in with {request.query_string}")
        said = {"X-Echo": f"{request.query_string} {request.headers.get('Authorization')}"}
        json_type = {"Content-Type": "application/json", **said}
        if request.path == "/l":
            page = int(json.loads(body).get("page", 1)) if body else int(request.query.get("page", 1))
            more = {"next": f"/l?key={self.key}&page=2", "page": 2} if page == 1 else {}
            rows = [{"n": n} for n in ((1, 2) if page == 1 else (3,))]
            return (200, json_type, json.dumps({"rows": rows, "asked": request.path_qs, "with": body, **more}))
        if request.path == "/one/1":
            return (302, {"Location": f"/moved?key={self.key}", **said}, "")
        if request.path == "/one/2":
            return (500, said, f"broken for {self.key} {request.headers.get('Authorization')}")
        return (200, json_type, json.dumps({"size": 7}))


@pytest.mark.parametrize("case", SECRET_PLANS)
def test_no_secret_is_anywhere_in_what_a_run_leaves(program: Program, case: str) -> None:
    plan, inputs = SECRET_PLANS[case]
    store = Store(case)
    environment = {"STORE_KEY": TOKEN, "STORE_USER": NAME, "STORE_WORD": WORD}
    with serving(store.host.application) as site:
        path = program.folder / "p.toml"
        path.write_text(
            HEAD.replace("http://h", site).replace(
                "[inputs]\n", f"[inputs]\n{inputs}" if "[" not in inputs else "[inputs]\n" + inputs.partition("[")[0]
            )
            + ("[" + inputs.partition("[")[2] if "[" in inputs else "")
            + plan
        )
        without = program("run", path)
        assert without.status == 3
        assert "the environment variable STORE_" in without.err
        program.environment |= environment
        said = [program("run", path, "-v", "--debug", "-o", "t.csv"), program("preview", path, "-v", "--fresh")]
        assert said[0].status == 1, said[0].err  # one page is broken
        assert "status 500" in said[0].err
        said += [program("resume", "p", "--again", "failed", "-v", "-o", "t.csv")]
        for name in environment:
            del program.environment[name]
        said += [
            program.inside("reparse", "p", "-v"),
            program.inside("report", "p", "-o", "r.html"),
            program.inside("trace", "p", "t", "1"),
        ]
        said += [program.inside("verify", "p", "-v"), program.inside("export", "p", "-o", "t.xlsx", "-o", "t.sqlite")]
    assert (program.folder / "t.csv").read_text().split() == ["n,size", "1,7", "2,", "3,7"]
    everything = b"".join(_unpacked(one) for one in program.folder.rglob("*") if one.is_file() and one != path)
    everything += "".join(one.out + one.err for one in said).encode()
    assert len(everything) > 20_000
    for secret in (TOKEN, WORD, quote(WORD, safe=""), base64.b64encode(f"{NAME}:{WORD}".encode()).decode()):
        assert secret.encode() not in everything, secret


def _unpacked(path: Path) -> bytes:
    data = path.read_bytes()
    if path.suffix == ".xlsx":
        with zipfile.ZipFile(path) as packed:
            return b"".join(packed.read(name) for name in packed.namelist())
    return gzip.decompress(data) if path.suffix == ".gz" else data


def test_a_secret_goes_to_no_host_that_the_plan_does_not_name(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("STORE_KEY", TOKEN)
    heard: list[str] = []

    def stranger(request: web.Request, body: str) -> str:
        heard.append(f"{request.path_qs} {dict(request.headers)} {body}")
        return "<li>elsewhere</li>"

    plan = """[start]
page = "list"
addresses = ["{+site}/l"]
[manners.headers]
X-Api-Key = "{key}"
[login]
scheme = "bearer"
token_from = "STORE_KEY"
[page.list]
rows = "li"
table = "t"
fields = { name = "." }
next = { at = "a", headers = { X-More = "{key}" } }
"""
    with serving(SmallHost({"/x": stranger, "/y": stranger}).application) as other:
        moved = (302, {"Location": f"{other}/y?key=~secret.key~"}, "")
        link = f"<a href='{other}/x?key=~secret.key~'>x</a>"
        for first in (items("a", more=link), moved):
            with serving(SmallHost({"/l": first}).application) as site:
                (tmp_path / "p.toml").write_text(
                    HEAD.replace("http://h", site).replace(
                        "[inputs]\n", '[inputs]\nkey = { secret_from = "STORE_KEY" }\n'
                    )
                    + plan
                )
                with begin(load_plan(tmp_path / "p.toml"), tmp_path / "runs") as run:
                    crawl(run)
    assert heard
    assert not any(TOKEN in one or "authorization" in one.lower() for one in heard)


@pytest.mark.parametrize(
    ("old", "new", "what"),
    [
        ('"{+site}/l"', '"http://me:SECRET@h/l"', "an address does not hold user and password"),
        ('"{+site}/l"', '"{+site}/l?api_key=SECRET"', '"api_key" in the address looks like a secret'),
        ('site = "http://h"', 'site = "http://me:SECRET@h"', 'input "site" is an address with user and password'),
        ('site = "http://h"', 'site = "http://h"\napi_key = "SECRET"', 'input "api_key" looks like a secret'),
        ("[start]", '[start]\nheaders = { Authorization = "Bearer SECRET" }', 'the header field "Authorization" carries a secret'),
        ("[page.list]", '[page.list.next]\nat = "a"\nheaders = { X-Api-Key = "SECRET" }\n[page.list]', '"X-Api-Key" carries a secret'),
        ("parallel = 3", 'parallel = 3\nheaders = { X-Auth = "SECRET" }', 'the header field "X-Auth" carries a secret'),
        ("parallel = 3", 'parallel = 3\nheaders = { Cookie = "s=SECRET" }', 'the header field "Cookie" carries a secret'),
        ("[start]", '[start]\npost = "form"\nvalues = { password = "SECRET" }', '"password" looks like a secret'),
        ("parallel = 3", 'parallel = 3\nroutes = "http://me:SECRET@p:80"', "a proxy's log-in does not belong in a plan"),
        ("[start]", '[login]\naddress = "{+site}/in"\nvalues = { secret = "SECRET" }\n[start]', '"secret" looks like a secret'),
        ('site = "http://h"', 'site = "http://h"\nkey = { secret_from = "K" }', 'input "key" is a secret, and no column'),
    ],
)  # fmt: skip
def test_a_secret_in_a_plan_is_a_mistake_that_does_not_show_it(program: Program, old: str, new: str, what: str) -> None:
    text = (
        HEAD
        + """[start]
page = "list"
addresses = ["{+site}/l"]
[page.list]
rows = "li"
table = "t"
[page.list.fields]
name = "."
"""
    )
    if "no column" in what:
        text = text.replace('name = "."', 'name = { from = "input.key" }')
    path = program.folder / "p.toml"
    path.write_text(text.replace(old, new, 1))
    for command in (("lint", path), ("run", path), ("lint", path, "--json")):
        done = program.inside(*command)
        assert done.status == 2
        assert "secret-in-plan" in done.out + done.err
        assert "SECRET" not in done.out + done.err
    assert what in program.inside("lint", path).out + program.inside("lint", path).err


def test_secrets_are_not_given_in_the_open(program: Program) -> None:
    text = HEAD.replace("[inputs]\n", '[inputs]\nkey = { secret_from = "K" }\n')
    text += '[start]\npage = "l"\naddresses = ["{+site}/l{?key}"]\n[page.l]\nrows = "li"\ntable = "t"\nfields = { name = "." }\n'
    (program.folder / "p.toml").write_text(text)
    for given in ("key=SECRET", "site=http://me:SECRET@h"):
        done = program("run", "p.toml", "-i", given)
        assert done.status == 2
        assert "[secret-in-plan]" in done.err
        assert "SECRET" not in done.err


def test_pages_are_looked_at_with_user_and_password_and_nothing_of_it_is_kept(program: Program) -> None:
    def page(request: web.Request, body: str) -> Any:
        ok = request.headers.get("Authorization") == "Basic " + base64.b64encode(b"me:pass+word").decode()
        return items("a", "b", more=f"<p>{request.headers.get('Authorization')}") if ok else (401, {}, "no")

    with serving(SmallHost({"/l": page}).application) as site:
        url = site.replace("http://", "http://me:pass+word@") + "/l"
        for command in (("inspect", url), ("try", url, "li"), ("try", url, "p")):
            done = program(*command)
            assert done.status == 0, done.err
            assert "pass+word" not in done.out + done.err
            assert base64.b64encode(b"me:pass+word").decode() not in done.out + done.err
    kept = [one.read_bytes() for one in program.folder.rglob("*.warc.gz")]
    assert not any(b"/l " in gzip.decompress(one) for one in kept)


@pytest.mark.parametrize(
    ("old", "new"),
    [
        ('"{+site}/l"', '"{+site}/l?secretary=anna"'),
        ('site = "http://h"', 'site = "http://h"\nsecretary = "anna"'),
        ("parallel = 3", 'parallel = 3\nheaders = { X-Tokenizer = "plain", X-CSRF-Token = "fetch" }'),
    ],
)
def test_what_only_sounds_like_a_secret_is_none(tmp_path: Path, old: str, new: str) -> None:
    text = (
        HEAD
        + '[start]\npage = "l"\naddresses = ["{+site}/l"]\n[page.l]\nrows = "li"\ntable = "t"\nfields = { name = "." }\n'
    )
    text = text.replace("{ name", '{ who = { from = "input.secretary" }, name') if "secretary =" in new else text
    (tmp_path / "p.toml").write_text(text.replace(old, new, 1))
    assert load_plan(tmp_path / "p.toml").secrets == {}
