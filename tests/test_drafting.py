"""`wadi draft` as it is used: further pages, kinds of things, questions at a terminal, from a page to a table in one line."""

from __future__ import annotations

import json
import os
import pty
import select
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

import wadi
from conftest import Program, serving
from small_host import SmallHost
from wadi.learn.first_look.things import kind_of_thing, thing_of, things
from wadi.page.document import read_document

ROW = '<li><a class=name href="/w/{n}">Weir {n}</a> <i class=span>{n} m</i></li>'


def _listing(page: int, pages: int = 3, *, rows: int = 4, row: str = ROW, further: str = "") -> str:
    inner = "".join(row.format(n=page * 10 + n) for n in range(rows))
    more = f'<a class=more href="/list?page={page + 1}">Next</a>' if page < pages else ""
    return f"<title>Weirs</title><ul class=weirs>{inner}</ul>{further}{more}"


def _weir(number: int) -> str:
    about = "<p class=about>A weir.</p>" if number % 2 else ""
    return f"<main><h1>Weir {number}</h1><dl><dt>Owner<dd>K. Pike {number}<dt>Built<dd>19{number}<dt>Country<dd>Merrow</dl>{about}</main>"


@pytest.fixture
def host() -> Any:
    pages = {f"/list?page={n}": _listing(n) for n in (2, 3)} | {"/list": _listing(1)}
    pages |= {f"/w/{n}": _weir(n) for n in range(10, 40)}
    pages |= {"/robots.txt": (200, {"Content-Type": "text/plain"}, "User-agent: *\nCrawl-delay: 0.4\n")}
    small = SmallHost(pages)
    with serving(small.application) as address:
        small.address = address
        yield small


def test_the_second_page_is_tried_once(program: Program, host: SmallHost) -> None:
    done = program.inside("draft", f"{host.address}/list", "-q")
    assert done.status == 0, done.err
    assert 'next   = { at = "a", text = "Next" }' in done.out or 'text = "Next" }' in done.out
    assert "# page 2 has 4 more" in done.out
    assert "# no two rows of the first two pages have the same" in done.out
    assert 'pause = "0.4s"    # robots.txt asks for so long between two requests' in done.out
    assert host.asked == ["GET /list", "GET /list?page=2"]


@pytest.mark.parametrize(
    ("second", "said"),
    [
        (_listing(1), "# next = {way}    # tried: it leads to the same rows again"),
        (_listing(1, rows=0), "# next = {way}    # tried: it leads to a page without rows"),
    ],
    ids=["the same", "no rows"],
)
def test_a_way_that_leads_nowhere_is_a_comment(program: Program, second: str, said: str) -> None:
    with serving(SmallHost({"/list": _listing(1), "/list?page=2": second}).application) as site:
        done = program.inside("draft", f"{site}/list", "-q")
    assert done.status == 0, done.err
    assert said.partition("{way}")[2] in done.out
    assert "\nnext " not in done.out


def test_the_key_is_one_that_holds_on_the_second_page_too(program: Program) -> None:
    row = '<li data-id="{m}"><a class=code href="/w/{n}">W{n}</a> <i class=span>{n} m</i></li>'
    pages = {f"/list?page={page}": _listing(page, row=row.replace("{m}", "{n}"[:1] + "n}")) for page in (2, 3)}
    numbered = "".join(f'<li data-id="{n}"><a class=code href="/w/{{p}}{n}">W{{p}}{n}</a></li>' for n in range(1, 5))
    pages = {
        "/list": f"<ul>{numbered.replace('{p}', '1')}</ul><a href='/list?page=2'>Next</a>",
        "/list?page=2": f"<ul>{numbered.replace('{p}', '2')}</ul>",
    }
    with serving(SmallHost(pages).application) as site:
        assert 'key = ["code"]' in program.inside("draft", f"{site}/list", "-q").out


def test_pages_that_rows_lead_to_are_drafted_too(program: Program, host: SmallHost) -> None:
    done = program.inside(
        "draft", f"{host.address}/list", "--row", "weir=Weir 10", "span=10 m", "--open", "-o", "weirs.toml"
    )
    assert done.status == 0, done.err
    text = (program.folder / "weirs.toml").read_text("utf-8")
    details = text.partition("[page.sheet.fields]")[2]
    assert 'owner = { label = "Owner" }' in details
    assert 'built = { label = "Built", type = "integer" }' in details
    assert "country" not in details  # the same on all
    assert "name" not in details  # the listing has it
    assert 'completes = "list"' not in text
    rows = json.loads(program.inside("preview", "weirs.toml", "--json").out)["tables"][0]
    assert rows["columns"][:3] == ["weir", "span", "owner"]
    assert rows["rows"][0][:3] == ["Weir 10", 10, "K. Pike 10"]


def test_from_a_page_to_a_table_in_one_line(program: Program, host: SmallHost) -> None:
    done = program.inside("draft", f"{host.address}/list", "--run", "-o", "weirs.csv")
    assert done.status == 0, done.err
    assert "weirs.toml: drafted; it is run within 100 pages and 10m, as its [limits] say" in done.err
    lines = (program.folder / "weirs.csv").read_text("utf-8").splitlines()
    assert (lines[0], len(lines)) == ("name,url,span", 13)
    assert "pages = 100" in (program.folder / "weirs.toml").read_text("utf-8")
    assert "plan      weirs.toml: look at it, change what is wrong, and run it again" in done.err
    again = program.inside("draft", f"{host.address}/list", "--run", "-o", "weirs.csv")
    assert (again.status, "weirs.toml: it is there already [not-writable]" in again.err) == (2, True)
    nowhere = program.inside("draft", f"{host.address}/list", "--run")
    assert (nowhere.status, "--run wants a file for the table" in nowhere.err) == (2, True)


def test_in_python_a_draft_has_a_preview(host: SmallHost, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("WADI_CACHE", str(tmp_path / "cache"))
    drafted = wadi.draft(f"{host.address}/list", rows=[{"weir": "Weir 11", "span": "11"}])
    assert list(drafted.preview(3)["weir"]) == ["Weir 10", "Weir 11", "Weir 12"]
    loaded = drafted.save(tmp_path / "weirs.toml")
    assert loaded.plan.page["list"].rows == ["ul.weirs > li"] or loaded.plan.page["list"].rows
    with pytest.raises(wadi.WadiError, match="there already"):
        drafted.save(tmp_path / "weirs.toml")


def test_a_shell_is_drafted_from_the_json_that_its_script_asks_for(program: Program) -> None:
    rows = [{"code": f"W{n}", "span": n} for n in range(5)]
    pages = {
        "/app": '<div id="root"></div><script>fetch("/api/weirs").then(show)</script>',
        "/api/weirs": (200, {"Content-Type": "application/json"}, json.dumps({"weirs": rows})),
    }
    with serving(SmallHost(pages).application) as site:
        done = program.inside("draft", f"{site}/app", "-q")
        assert f'addresses = ["{site}/api/weirs"]' in done.out, done.err
        assert 'rows  = "$.weirs[*]"' in done.out


def test_the_json_behind_a_listing_is_the_steadier_source(program: Program) -> None:
    rows = [{"code": f"W{n}", "name": f"Weir number {n}", "span": n, "owner": "K. Pike"} for n in range(6)]
    shown = "".join(f"<li><b>{row['name']}</b> <i>{row['span']} m</i></li>" for row in rows)
    pages = {
        "/list": f'<ul>{shown}</ul><script>fetch("/api/weirs").then(show)</script>',
        "/other": f'<ul>{shown}</ul><script>fetch("/api/tides").then(show)</script>',
        "/api/weirs": (200, {"Content-Type": "application/json"}, json.dumps(rows)),
        "/api/tides": (
            200,
            {"Content-Type": "application/json"},
            json.dumps([{"at": n, "high": n * 2} for n in range(9)]),
        ),
    }
    with serving(SmallHost(pages).application) as site:
        assert f'addresses = ["{site}/api/weirs"]' in program.inside("draft", f"{site}/list", "-q").out
        assert f'addresses = ["{site}/other"]' in program.inside("draft", f"{site}/other", "-q").out
        named = program.inside("draft", f"{site}/list", "--row", "owner=K. Pike", "name=Weir number 2", "-q").out
        assert 'owner = "$.owner"' in named  # it stands in the JSON alone


def test_further_pages_tell_a_label_from_a_place(program: Program) -> None:
    """On the second page a fact is missing: only what goes by its label holds on both."""
    facts = "<h1>Weir {n}</h1><table>{owner}<tr><td>Built<td>19{n}0</table>"
    for n, owner in ((1, "<tr><td>Owner<td>K. Pike"), (2, "")):
        (program.folder / f"{n}.html").write_text(facts.format(n=n, owner=owner), "utf-8")
    alone = program.inside("draft", "1.html", "--row", "built=1910", "-q").out
    both = program.inside("draft", "1.html", "--row", "built=1910", "--also", "2.html", "-q").out
    assert 'built = { label = "Built"' in both
    assert alone
    wrong = program.inside("draft", "1.html", "--also", "2.html")
    assert (wrong.status, "that needs a --row" in wrong.err) == (2, True)


THING = """<html lang=en><head><title>Kettle</title><meta property="og:image" content="/k.jpg">{head}</head><body><nav><a href=/>Home</a></nav>
<main><h1>Copper kettle</h1><p class="price">£ 24.50</p><dl><dt>Weight<dd>1.2 kg<dt>Colour<dd>red</dl>
<p>{text}</p></main></body></html>"""
LONG = "A kettle of copper, made by hand in the valley, which holds two litres and keeps the water warm for an hour."


def test_usual_fields_are_found_wherever_they_are() -> None:
    data = json.dumps({"@context": "https://schema.org", "@graph": [{"@type": "Product", "sku": "K-1", "brand": {"@type": "Brand", "name": "Ash"}, "offers": [{"price": "24.50", "priceCurrency": "GBP"}]}]})  # fmt: skip
    page = THING.format(head=f'<script type="application/ld+json">{data}</script>', text=LONG)
    document = read_document(page.encode(), "http://h/", "text/html")
    assert kind_of_thing(document) == "Product"
    found = thing_of(document, "Product", "en")
    assert {guess.name: (guess.samples[0], where) for guess, where in found.fields} == {
        "name": ("Copper kettle", "the heading"),
        "sku": ("K-1", "JSON-LD"),
        "brand": ("Ash", "JSON-LD"),
        "price": ("24.50", "JSON-LD"),
        "priceCurrency": ("GBP", "JSON-LD"),
        "weight": ("1.2 kg", "the label “Weight”"),
        "color": ("red", "the label “Colour”"),
        "image": ("/k.jpg", "a meta element"),
        "description": (LONG, "the longest paragraph"),
    }
    assert set(found.missing) == {"availability", "ratingValue", "reviewCount", "category", "material", "url"}


def test_a_price_without_any_data_is_found_by_its_class() -> None:
    found = thing_of(read_document(THING.format(head="", text="").encode(), "http://h/", "text/html"), "Product", "en")
    price = next(guess for guess, _ in found.fields if guess.name == "price")
    assert (price.expression, price.type.type) == (".price", "money")


@pytest.mark.parametrize(
    ("markup", "kind"),
    [
        ('<div itemscope itemtype="https://schema.org/MusicEvent"><b itemprop=name>Concert</b></div>', "Event"),
        ('<div vocab="https://schema.org/" typeof="NewsArticle"><b property="headline">Flood</b></div>', "Article"),
        ('<meta property="og:type" content="book"><p>x</p>', "Book"),
        ('<div itemscope itemtype="https://schema.org/BreadcrumbList"></div>', ""),
    ],
)
def test_the_kind_that_a_page_names_is_seen(markup: str, kind: str) -> None:
    assert kind_of_thing(read_document(f"<html>{markup}".encode(), "http://h/", "text/html")) == kind


def test_things_are_drafted_by_name(program: Program) -> None:
    (program.folder / "kettle.html").write_text(THING.format(head="", text=LONG), "utf-8")
    done = program.inside("draft", "kettle.html", "--thing", "Product", "-o", "kettle.toml")
    assert done.status == 0, done.err
    text = (program.folder / "kettle.toml").read_text("utf-8")
    assert "# Product: 6 of 15 usual fields; not found:" in text
    assert "# £ 24.50; the class of .price" in text
    assert "Copper kettle" in done.err
    wrong = program.inside("draft", "kettle.html", "--thing", "Kettle")
    assert (wrong.status, "kinds: Product, Article" in wrong.err) == (2, True)
    assert len(things()) > 8


def test_at_a_terminal_it_asks(program: Program, host: SmallHost) -> None:
    """Which rows, which columns, further pages, where to: the proposal is taken by an empty line."""
    answers = [b"Q\n", b"1=weir, A3\n", b"y\n", b"asked.toml\n"]
    shown = _at_terminal(program, ["draft", f"{host.address}/list"], answers)
    assert "Its columns:" in shown
    assert "asked.toml: drafted" in shown, shown
    text = (program.folder / "asked.toml").read_text("utf-8")
    assert 'weir = ".name"' in text
    assert "[page.sheet.fields]" in text


def _at_terminal(program: Program, words: list[str], answers: list[bytes]) -> str:
    """What the program shows at a terminal that answers its questions one after the other."""
    master, slave = pty.openpty()
    environment = {**os.environ, **program.environment, "COLUMNS": "100"}
    process = subprocess.Popen(
        [sys.executable, "-m", "wadi", *words], stdin=slave, stdout=slave, stderr=slave, cwd=program.folder, env=environment
    )  # fmt: skip
    os.close(slave)
    shown, end = b"", time.monotonic() + 60
    while time.monotonic() < end:
        ready, _, _ = select.select([master], [], [], 0.2)
        if ready:
            try:
                shown += os.read(master, 65536)
            except OSError:
                break
        elif answers and shown.rstrip(b" ")[-1:] in (b"]", b")"):
            os.write(master, answers.pop(0))
        elif process.poll() is not None:
            break
    process.wait(30)
    os.close(master)
    return shown.decode("utf-8", "replace")


def test_what_is_asked_for_beside_a_new_page_is_new_too(program: Program, host: SmallHost) -> None:
    """A site that was redesigned since it was looked at: its second page in today's cache is of the old design."""
    assert isinstance(host.pages, dict)
    second, host.pages["/list?page=2"] = host.pages["/list?page=2"], "<p>another design</p>"
    assert "tried: it leads to a page without rows" in program.inside("draft", f"{host.address}/list", "-q").out
    host.pages["/list?page=2"] = second
    assert "# page 2 has 4 more" in program.inside("draft", f"{host.address}/list", "-q", "--fresh").out
