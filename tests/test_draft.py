"""Plans drafted from what inspect finds: they are plans, they give the rows, and they say what they do not know."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import EXAMPLES, Program
from labelled.pages import PAGES
from wadi.crawl.extract import Extract, extract
from wadi.crawl.kinds import compile_kinds
from wadi.demo.shapes import FURTHER
from wadi.learn.drafts.draft import best_guess, plan_text
from wadi.learn.drafts.extent import extent_of
from wadi.learn.first_look.look import look_at
from wadi.page.document import NotADocument, read_document
from wadi.plan.model import Plan
from wadi.plan.reader import parse_plan
from wadi.web.messages import Reply, Request


def _drafted(
    page: str, content_type: str = "text/html", url: str = "http://h/springs/list.html"
) -> tuple[str, Extract | None]:
    """A draft from a page, and what it extracts from the same page."""
    reply = Reply(Request(url), url, 200, (("Content-Type", content_type),), page.encode(), 0.0)
    chosen = best_guess(look_at(read_document(reply.body, url, content_type), reply))
    if chosen is None:
        return "", None
    text = plan_text(chosen, "p.toml")
    plan: Plan = parse_plan(text, "p.toml").plan
    kinds = compile_kinds(plan, this_year=2026)
    return text, extract(reply, kinds[plan.start.page], kinds)


@pytest.mark.parametrize(("name", "html", "label"), PAGES, ids=[name for name, _, _ in PAGES])
def test_a_draft_of_a_listing_gives_its_rows(name: str, html: str, label: str) -> None:
    _, found = _drafted(html)
    look = look_at(
        read_document(html.encode(), "http://h/", "text/html"),
        Reply(Request("http://h/"), "http://h/", 200, (), b"", 0.0),
    )
    assert found is not None
    assert found.failure is None
    assert found.row_count == look.rows[0].rows.count
    columns = zip(*found.tables[0].rows, strict=True)
    assert all(any(cell is not None for cell in column) for column in columns)


CARDS = "".join(
    f'<article class=card data-code=W{n}><a href="/w/{n}">Weir "{n}"</a><p>Levy: £{n}.50</p><p>Span: {n} m</p></article>'
    for n in range(1, 7)
)
LISTING = f"""<html lang=en-GB><title>Weirs</title><p class=count>1–6 of 54 weirs</p><div class=cards>{CARDS}</div>
<a rel=next href="?p=2">Older</a>"""


def test_a_draft_says_all_that_was_found() -> None:
    text, found = _drafted(LISTING)
    assert (
        text
        == """# Drafted by  wadi draft.  Look at each line, then:  wadi preview p.toml
wadi  = 1
title = "Weirs"

[start]
page      = "list"
addresses = ["http://h/springs/list.html"]

[page.list]
expect = "div.cards"       # a page without it was blocked, and is not “no rows”
rows   = "article.card"    # 6 on this page
table  = "springs"
total  = { at = "p.count", find = 'of ([\\d., ]+)', locale = "en" }
next   = { rel = "next" }

[page.list.fields]
code = { at = ".", attr = "data-code" }                     # W1
name = "a"                                                  # Weir "1"
url  = { at = "a", attr = "href", type = "url" }            # /w/1
levy = { label = "Levy", type = "money", locale = "en" }    # £1.50
span = { label = "Span", type = "integer", unit = "m" }     # 1 m

[table.springs]
key = ["code"]    # no two rows of this page have the same
"""
    )
    assert found is not None
    assert found.total == 54
    assert found.tables[0].rows[0] == ["W1", 'Weir "1"', "http://h/w/1", [1.5, "GBP"], 1]


@pytest.mark.parametrize(
    ("cells", "key"),
    [
        ("<b class=code>W{n}</b>", "code"),
        ("<a href='/w/{n}'>x</a><b class=when>{n}.4.2026</b>", "url"),
        ("<b class=flow>{n}.5</b><b class=name>Weir {n}</b>", None),
        ("<b class=code>W{half}</b>", None),
    ],
)
def test_a_key_is_a_code_or_an_address_that_no_two_rows_share(cells: str, key: str | None) -> None:
    rows = "".join(f"<li>{cells.format(n=n, half=n // 2)}<i>{n * 3}</i></li>" for n in range(1, 9))
    text, _ = _drafted(f"<ul>{rows}</ul>")
    assert (f'key = ["{key}"]' in text) if key else ("[table." not in text)


@pytest.mark.parametrize(
    ("page", "content_type", "rows", "lines"),
    [
        (
            json.dumps({"meta": {"total": 9}, "next": "/b", "data": [{"id": n, "of": {"name": f"W{n}"}} for n in range(4)]}),
            "application/json", 4, ['rows  = "$.data[*]"', 'total = "$.meta.total"', 'next  = "$.next"', 'of_name = "$.of.name"', 'key = ["id"]'],
        ),
        (
            f"<div id=app></div><script>window.ALL = {json.dumps([{'code': f'W{n}', 'flow': n} for n in range(4)])};</script>",
            "text/html", 4, ['rows  = "$.state.ALL[*]"', 'key = ["code"]'],
        ),
        (
            "<rss><channel>" + "".join(f"<item><title>N{n}</title><link>http://h/{n}</link></item>" for n in range(5)) + "</channel></rss>",
            "application/xml", 5, ['title = "title"', 'link  = { at = "link", type = "url" }'],
        ),
        ("<h1>Ash Weir</h1><dl><dt>Flow<dd>1,5 l/s<dt>Owner<dd>K. Pike</dl>", "text/html", None, ["[page.sheet]", 'owner = { label = "Owner" }', "# or  completes = …"]),
    ],
    ids=["json", "data in a page", "feed", "one thing"],
)  # fmt: skip
def test_drafts_of_other_pages(page: str, content_type: str, rows: int | None, lines: list[str]) -> None:
    text, found = _drafted(page, content_type)
    assert found is not None
    assert found.failure is None
    assert len(found.tables[0].rows) == (rows or 1)
    assert [line for line in lines if line not in text] == []


@settings(max_examples=120, deadline=None)
@given(
    st.text(max_size=20),
    st.lists(st.text(st.characters(exclude_categories=["Cs", "Cc"]), min_size=1, max_size=12), min_size=2, max_size=3),
    st.sampled_from(["/", "/a b/ü.html", '/x?y=1&z="q"', "/Springs/2", "/index.php"]),
)
def test_any_texts_and_addresses_make_a_plan(title: str, texts: list[str], path: str) -> None:
    def told(text: str) -> str:
        return text.replace("&", "&amp;").replace("<", "&lt;")

    rows = "".join(f"<tr><td>{n}<td class='c'>{told(text)} {n}</tr>" for n, text in enumerate(texts * 4))
    page = f"<title>{told(title)}</title><table><tr><th>{told(texts[0])}<th>x</tr>{rows}</table>"
    try:
        text, found = _drafted(page, url=f"http://h{path}")
    except NotADocument:
        return
    assert not text or (found is not None and found.failure is None)


@pytest.mark.parametrize(
    "path",
    [
        "/register",
        "/register/MW-0141",
        "/news.xml",
        "/api/gauges?page=1",
        *(path for path, _ in FURTHER if "login" not in path),
    ],
)
def test_drafts_of_the_sample_site_rehearse(program: Program, site: str, path: str) -> None:
    done = program.inside("draft", f"{site}{path}", "-o", "drafted.toml", "--ignore-robots")
    if done.status == 2:
        assert "[nothing-to-draft]" in done.err
        assert not (program.folder / "drafted.toml").exists()
        return
    assert done.err.startswith("drafted.toml: drafted; next:  wadi preview drafted.toml\n")
    assert done.out == ""
    told: dict[str, Any] = json.loads(program.inside("preview", "drafted.toml", "--json").out)
    assert told["tables"][0]["rows"]


def test_a_page_that_was_read_as_something_is_drafted_so(program: Program, site: str) -> None:
    done = program("draft", f"{site}/wells", "--parse", "html", "-o", "-")
    assert '[page.list]\nparse = "html"\n' in done.out
    (program.folder / "wells.toml").write_text(done.out)
    assert json.loads(program.inside("preview", "wells.toml", "--json").out)["tables"][0]["rows"]


def test_an_address_is_taken_without_its_password_and_with_its_braces() -> None:
    text, _ = _drafted(LISTING, url="http://me:secret@h/springs?q={x}")
    assert 'addresses = ["http://h/springs?q=%7Bx%7D"]' in text
    assert "secret" not in text


def test_what_cannot_be_drafted_is_said(program: Program, site: str) -> None:
    assert program.inside("run", EXAMPLES / "dry.toml", "-i", f"site={site}").status == 0
    done = program.inside("draft", "dry#1", "-o", "p.toml")
    assert (done.status, "a plan needs the address of its page, or a file" in done.err) == (2, True)
    first = program.inside("draft", f"{site}/register", "-o", "p.toml", "-q")
    assert (first.status, first.out, first.err) == (0, "", "")
    kept = (program.folder / "p.toml").read_bytes()
    again = program.inside("draft", f"{site}/register", "-o", "p.toml")
    assert (again.status, "p.toml: it is there already [not-writable]" in again.err) == (2, True)
    assert (program.folder / "p.toml").read_bytes() == kept
    assert program("draft", f"{site}/register", "-o", "-", "-q").out.encode() == kept.replace(b"p.toml", b"plan.toml")
    missing = program.inside("draft", f"{site}/register", "-o", str(Path("no") / "p.toml"))
    assert (missing.status, "[not-writable]" in missing.err) == (2, True)


def test_a_log_in_page_drafts_a_log_in(program: Program, site: str) -> None:
    done = program("draft", f"{site}/members/login", "--ignore-robots", "-o", "in.toml")
    assert done.status == 0, done.err
    text = (program.folder / "in.toml").read_text()
    assert f'address       = "{site}/members/login"' in text
    text = text.replace(f'["{site}/"]', f'["{site}/members/welcome"]').replace('# check = "…" ', 'check = "p.member"')
    (program.folder / "in.toml").write_text(text + '[manners]\npause = "0s"\nignore_robots = "we are members"\n')
    program.environment |= {"SITE_USER": "reader", "SITE_PASSWORD": "clear-water"}
    done = program("run", "in.toml", "-o", "-", "-q")
    assert (done.status, done.out.splitlines()[0]) == (0, "title"), done.err
    assert len(done.out.splitlines()) == 2


@pytest.mark.parametrize(
    ("asked", "said", "status"),
    [
        (["--row", "name=Ada", "kept=nowhere"], 'kept: "nowhere" is not on this page: the column is left out', 1),
        (["--row", "name=Ada", "--count", "7"], "7 rows were asked for, and 3 are found", 1),
        (["--row", "name=Ada", "--not", "Zzz"], '--not "Zzz" is not on this page, so it has no effect', 1),
        (["--row", "name=Ada", "--count", "3"], "name", 0),
        (["--row", "name=Ada", "price=12,50", "--row", "name=Bea", "price=13,50"], "price", 0),
    ],
)
def test_a_draft_says_what_is_not_as_it_was_asked_for(
    program: Program, asked: list[str], said: str, status: int
) -> None:
    rows = "".join(
        f"<li><b>{n}</b><i class=p>{p}</i></li>"
        for n, p in (("Ada", "ab 12,50 €"), ("Bea", "13,50 €"), ("Cem", "14,50 €"))
    )
    (program.folder / "p.html").write_text(f"<ul>{rows}</ul>", "utf-8")
    done = program.inside("draft", "p.html", *asked)
    assert (done.status, said in done.err) == (status, True), done.err
    if "kept=nowhere" in asked:
        assert '# kept is left out: "nowhere" is not on this page' in done.out


def test_a_run_of_a_draft_that_leaves_a_column_out_ends_with_1(program: Program) -> None:
    rows = "".join(f"<li><b>{name}</b></li>" for name in ("Ada", "Bea", "Cem"))
    (program.folder / "p.html").write_text(f"<ul>{rows}</ul>", "utf-8")
    done = program.inside("draft", "p.html", "--row", "name=Ada", "kept=nowhere", "--run", "-o", "t.csv")
    assert done.status == 1, done.err
    assert (program.folder / "t.csv").read_text("utf-8").split() == ["name", "Ada", "Bea", "Cem"]


ROWS = "".join(f"<li><b>Well {n}</b><i>{n} m</i></li>" for n in range(1, 21))
FEW = "".join(f"<li><b>Well {n}</b><i>{n} m</i></li>" for n in range(1, 8))


@pytest.mark.parametrize(
    ("page", "takes", "said"),
    [
        (f"<p>Treffer 1 bis 20 von insgesamt 90</p><ul>{ROWS}</ul><p><b>1–20</b> | <a href=?s=21>21–40</a></p>", "one page", "it says 'Treffer 1 bis 20"),
        (f"<p>1..20 out of 420</p><ul>{ROWS}</ul>", "one page", "it says '1..20 out of 420'"),
        (f"<ul>{ROWS}</ul><p><span class=this-page>1</span> <a class=end href=?p=2>2</a></p>", "one page", "a link to page 2"),
        (f"<ul>{ROWS}</ul>", "one page", "20 is a round count of rows"),
        (f"<ul>{ROWS}</ul><p>20 results</p>", "all", "20 rows, as the page states"),
        (f"<ul>{FEW}</ul>", "all", "nothing on the page says that it goes on"),
        (f"<ul>{FEW}</ul><button>Load more</button>", "one page", "load more"),
        (f"<ul>{FEW}</ul><p>{' '.join(f'<a href=/{c}>{c}</a>' for c in 'ABCDEFGHIJKL')}</p>", "one page", "links by letters (A to L)"),
        (f"<ul>{FEW}</ul><p>7 of 90 wells</p>", "one page", "90 are stated, and 7 are here"),
        ("<h1>Ash Spring</h1><dl><dt>Flow</dt><dd>3 l/s</dd><dt>Depth</dt><dd>2 m</dd></dl>", "", ""),
    ],
)  # fmt: skip
def test_a_draft_says_how_much_of_the_listing_it_takes(page: str, takes: str, said: str) -> None:
    reply = Reply(
        Request("http://h/l"), "http://h/l", 200, (("Content-Type", "text/html; charset=utf-8"),), page.encode(), 0.0
    )
    guess = best_guess(look_at(read_document(reply.body, reply.url, "text/html; charset=utf-8"), reply))
    assert guess is not None
    found = extent_of(guess)
    assert (found.takes if found else "", said in (found.said if found else "")) == (takes, True), found


def test_a_run_of_what_may_be_one_page_of_several_ends_with_1(program: Program) -> None:
    (program.folder / "p.html").write_text(f"<p>1–20 of 90</p><ul>{ROWS}</ul>", "utf-8")
    done = program.inside("draft", "p.html", "--run", "-o", "t.csv")
    assert (done.status, "this may be one page of several: 90 are stated" in done.err) == (1, True), done.err
    assert "# this may be one page of several" in (program.folder / "t.toml").read_text("utf-8")
