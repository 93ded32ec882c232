"""How well learned expressions survive changes of a page:  python tests/robustness.py  gives the figures that docs/draft.md records.

Every HTML listing of the corpus is drafted from two records. Then its first page is changed as sites change, one change at a time, and read
again: a field keeps its values where all records that are still there have the same as before. Beside it stands what a browser copies for an
element: its path from the root by numbers, one for each record. Both are measured on the same pages.
"""

from __future__ import annotations

import re
import sys
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent))

import turbohtml

from corpus.listings import LISTINGS, Listing
from corpus.reading import HOST, reply_of
from draft_figures import examples_of
from wadi.actions.open_page import OpenedPage
from wadi.crawl.extract import extract
from wadi.crawl.kinds import compile_kinds
from wadi.learn.clues.class_names import Worth, tokens, worth
from wadi.learn.drafts.drafting import Asked, draft_page
from wadi.page.document import Document, html_document
from wadi.page.expressions import compile_expression
from wadi.page.nodes import Element, ancestors, children, elements, first, following, parent, preceding
from wadi.page.text import text_of
from wadi.plan.reader import parse_plan
from wadi.web.messages import Reply, Request

_PARTS = frozenset({"tr", "td", "th", "dt", "dd", "thead", "tbody"})


@dataclass
class Changed:
    """A page that is being changed: its body, its rows, and the records that are left; `lost` is a record that loses a field."""

    document: Document
    rows: list[Any]
    left: list[int]
    lost: tuple[int, str] | None = None

    @property
    def body(self) -> Any:
        return first(self.document.top, "body")


def _new(markup: str) -> Any:
    holder = turbohtml.Element("div")
    holder.set_inner_html(markup)
    return children(holder)[0]


def banner(page: Changed) -> None:
    """A banner above all."""
    page.body.insert(0, _new('<div class="banner"><p>The office is closed on Monday.</p><a href="/x">More</a></div>'))


def wrapped_page(page: Changed) -> None:
    """All of the page in one more element."""
    page.body.wrap_children(turbohtml.Element("div", {"class": "page"}))


def wrapped_list(page: Changed) -> None:
    """What holds the rows in one more element."""
    holder = parent(page.rows[0])
    holder = parent(holder) if holder.tag == "tbody" else holder
    if holder.tag != "body":
        holder.wrap(turbohtml.Element("div", {"class": "block"}))


def wrapped_rows(page: Changed) -> None:
    """What is in each row in one more element."""
    for row in page.rows:
        if row.tag not in _PARTS and row.tag not in ("ul", "dl", "a", "h3"):
            row.wrap_children(turbohtml.Element("div", {"class": "inner"}))


def turned(page: Changed) -> None:
    """The parts of each row the other way round."""
    for row in page.rows:
        if row.tag not in _PARTS and row.tag != "dl":
            parts = children(row)
            for part in parts[:-1][::-1]:
                row.append(part.extract())


def badge(page: Changed) -> None:
    """A badge at the begin of each row."""
    for row in page.rows:
        if row.tag not in _PARTS and row.tag != "dl":
            row.insert(0, _new('<span class="badge-new">new</span>'))


def column(page: Changed) -> None:
    """One more column, before all others."""
    table = next(iter(ancestors(page.rows[0], "table")), None)
    if table is None:
        return
    for row in elements(table, "tr"):
        cell = "th" if row not in page.rows and any(c.tag == "th" for c in children(row)) else "td"
        row.insert(0, _in_row(f"<{cell}>{'No' if cell == 'th' else 'x'}</{cell}>"))


def _in_row(markup: str) -> Any:
    holder = turbohtml.Element("div")
    holder.set_inner_html(f"<table><tr>{markup}</tr></table>")
    return first(holder, "td", "th")


def section(page: Changed) -> None:
    """A section with a list of its own above the rows."""
    holder = parent(page.rows[0])
    top = next(
        (a for a in [holder, *ancestors(holder)] if a.tag not in _PARTS and a.tag not in ("table", "ul", "ol", "dl")),
        None,
    )
    if top is not None and top.tag != "html":
        top.insert(
            0,
            _new(
                '<section class="most-read"><h2>Most read</h2><ul><li><a href="/m/1">Rules</a></li><li><a href="/m/2">Map</a></li></ul></section>'
            ),
        )


def layout(page: Changed) -> None:
    """Other classes of layout."""
    for element in elements(page.body):
        changed = [
            f"{t.rstrip('0123456789')}9" if worth(t) is Worth.LAYOUT and re.search(r"-\d+$", t) else t
            for t in tokens(element)
        ]
        if changed:
            element.attrs["class"] = " ".join([*changed, "wide-9"])


def build(page: Changed) -> None:
    """Another build: names that a machine made are others."""
    for element in elements(page.body):
        own = tokens(element)
        if any(worth(t) is Worth.MADE for t in own):
            element.attrs["class"] = " ".join(_rebuilt(t) if worth(t) is Worth.MADE else t for t in own)


def _rebuilt(token: str) -> str:
    head, _, tail = token.rpartition("_") if token.count("_") > 1 else token.rpartition("-")
    return (
        re.sub(r"_[0-9a-z]{4,}\Z", "_7q2zk", head) + f"_{tail}9" if token.count("_") > 1 else f"{head}-{tail[::-1]}z8"
    )


def fewer(page: Changed) -> None:
    """The first two rows are gone."""
    for row in page.rows[:2]:
        for behind in [*_behind(row, page.rows), row]:
            behind.extract()
    page.left = page.left[2:]


def _behind(row: Any, rows: Sequence[Any]) -> list[Any]:
    found = []
    for sibling in following(row):
        if sibling in rows:
            break
        found.append(sibling)
    return found if len(found) < 3 else []


def gone(page: Changed) -> None:
    """One field is missing in a row: the first of the second record that has an element of its own."""
    assert page.lost is not None
    record, text = page.lost
    row = page.rows[record]
    found = [e for e in elements(row) if e != row and text_of(e) == text and not children(e) and e.tag not in _PARTS]
    if len(found) == 1:
        found[0].extract()
    else:
        page.lost = None


SINGLE: tuple[Callable[[Changed], None], ...] = (
    banner, wrapped_page, wrapped_list, wrapped_rows, turned, badge, column, section, layout, build, fewer, gone,
)  # fmt: skip


def season(page: Changed) -> None:
    """A new season: a banner, badges, and rows that are gone."""
    for change in (banner, badge, fewer):
        change(page)


def release(page: Changed) -> None:
    """A new release: another build with other layout, all in one more element, a section above the rows."""
    for change in (layout, build, wrapped_page, section):
        change(page)


def extension(page: Changed) -> None:
    """More shown of each record: a column or a badge before the others, the list in one more element."""
    for change in (wrapped_list, column, badge):
        change(page)


TOGETHER = (season, release, extension)


def absolute(element: Element) -> str:
    """The path of an element as a browser's inspector copies it."""
    steps = []
    for upper in [element, *ancestors(element)]:
        place = 1 + sum(sibling.tag == upper.tag for sibling in preceding(upper))
        steps.append(f"{upper.tag}[{place}]")
    return "/" + "/".join(reversed(steps))


def outcomes(listing: Listing) -> Iterator[tuple[str, str, bool, bool | None]]:
    """Change, field, whether the learned field kept its values, and whether the copied path did (None: there is none)."""
    reply = reply_of(listing, HOST + listing.address)
    opened = OpenedPage(html_document(reply.body, reply.url), reply, "the corpus", None)
    text = draft_page(opened, Asked(examples_of(listing.shown()))).text
    before = _columns(text, reply)
    shown = listing.shown()
    texts = {name: [row.get(name) for row in shown[: len(before[name])]] for name in before}
    paths = {name: _copied(opened.document, own) for name, own in texts.items()}
    plan = parse_plan(text, "p.toml").plan
    rows_said = (plan.page[plan.start.page].rows or [""])[0]
    for change in (*SINGLE, *TOGETHER):
        document = html_document(reply.body, reply.url)
        rows = [
            row for row in compile_expression(rows_said).nodes(document.scope, document) if isinstance(row, Element)
        ]
        if not rows:
            return
        name_lost = next((n for n in before if shown[1].get(n)), "")
        page = Changed(document, rows, list(range(len(rows))), (1, shown[1].get(name_lost) or ""))
        change(page)
        body = str(document.html.html if document.html is not None else "").encode()
        after = _columns(text, Reply(Request(reply.url), reply.url, 200, reply.headers, body, 0.0))
        changed = html_document(body, reply.url)
        for name, values in before.items():
            if change is gone and name in ("url", "photo"):  # they may stand in the very element
                continue
            wanted = [values[place] for place in page.left if place < len(values)]
            if change is gone and page.lost is not None and name == name_lost:
                wanted[1] = None
            kept = after.get(name) == wanted
            left = [(paths[name][place], texts[name][place]) for place in page.left if place < len(texts[name])]
            if change is gone and page.lost is not None and name == name_lost:
                left[1] = (left[1][0], None)
            copied = all(_keeps(path, changed, text) for path, text in left if path) if any(paths[name]) else None
            yield change.__name__, name, kept, copied


def _columns(text: str, reply: Reply) -> dict[str, list[Any]]:
    plan = parse_plan(text, "p.toml").plan
    kinds = compile_kinds(plan, this_year=2026)
    found = extract(reply, kinds[plan.start.page], kinds)
    if not found.tables:
        return {}
    table = found.tables[0]
    return {name: [row[place] for row in table.rows] for place, name in enumerate(table.columns)}


def _copied(document: Document, texts: Sequence[str | None]) -> list[str | None]:
    """The path of the element of each value, as it is copied one by one."""
    places: dict[str, list[Element]] = {}
    for element in elements(document.top):
        if not children(element):
            places.setdefault(text_of(element), []).append(element)
    found = [places.get(text or "", []) for text in texts]
    return [absolute(own.pop(0)) if text and own else None for text, own in zip(texts, found, strict=True)]


def _keeps(path: str, document: Document, text: str | None) -> bool:
    found = compile_expression(path).nodes(document.scope, document)
    if text is None:
        return not found
    return bool(found) and isinstance(found[0], Element) and text_of(found[0]) == text


def main() -> int:
    counts: dict[str, list[int]] = {}
    for listing in LISTINGS:
        if listing.as_json is not None or not listing.row:
            continue
        for change, name, kept, copied in outcomes(listing):
            counted = counts.setdefault(change, [0, 0, 0, 0])
            counted[0] += kept
            counted[1] += 1
            counted[2] += bool(copied)
            counted[3] += copied is not None
            if not kept and "-v" in sys.argv:
                print(f"   {change:<14}{listing.name:<24}{name}")
    together = {change.__name__ for change in TOGETHER}
    single = [sum(own) for own in zip(*(counts[name] for name in counts if name not in together), strict=True)]
    several = [sum(own) for own in zip(*(counts[name] for name in together), strict=True)]
    shown = [*counts.items(), ("one change", single), ("several", several)]
    for change, (kept, all_, copied, had) in shown:
        print(
            f"{change:<14} learned {kept:>4} of {all_:<4} {100 * kept / all_:4.0f} %    copied paths {copied:>4} of {had:<4} {100 * copied / max(1, had):4.0f} %"
        )
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
