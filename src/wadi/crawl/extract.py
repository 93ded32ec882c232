"""A reply and its page kind → rows, links, the stated total, or the reason why it is not the page.

What depends on the way by which a page was reached (link text, inputs) is left open here: one page may be reached by
several ways, and its extract is the same for all.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from lxml import etree

from wadi.clean.stages import Unread
from wadi.clean.text import tidied
from wadi.crawl.kinds import Field, Kind
from wadi.crawl.links import links_of
from wadi.page.document import Document, NotADocument, read_html
from wadi.page.expressions import Node, first_of
from wadi.page.text import direct_text_of, text_of
from wadi.problems import Place, Problem, shortened
from wadi.store.outcome import CellProblem, Link, TableRows
from wadi.web.messages import Reply

_NO_MARKUP = ("image/", "audio/", "video/", "application/pdf", "application/zip", "application/octet-stream")


@dataclass(frozen=True, slots=True)
class Extract:
    """What stands on a page. `failure` tells why it is not the page that the plan expects; then there is nothing else."""

    tables: tuple[TableRows, ...] = ()
    links: tuple[Link, ...] = ()
    total: int | None = None
    failure: Problem | None = None
    notes: tuple[Problem, ...] = ()


@dataclass(slots=True)
class _Found:
    """What is gathered row by row."""

    rows: list[list[Any]] = field(default_factory=list)
    problems: list[CellProblem] = field(default_factory=list)
    several: dict[str, int] = field(default_factory=dict)


def extract(reply: Reply, kind: Kind, kinds: Mapping[str, Kind], expect_place: str = "") -> Extract:
    """What stands on the page. `expect_place` says where the plan's `expect` stands, for the message."""
    place = Place(reply.url)
    if reply.content_type.lower().startswith(_NO_MARKUP):
        what = f"reply {reply.status} is {reply.content_type}, and page kind {kind.name!r} reads HTML"
        return Extract(failure=Problem("not-html", what, place))
    try:
        document = read_html(reply.body, reply.url, reply.content_type)
    except NotADocument as error:
        return Extract(failure=Problem("not-html", f"reply {reply.status} is no page: {error}", place))
    is_empty = bool(kind.empty and first_of(kind.empty, document.root))
    if kind.expect and not is_empty and not first_of(kind.expect, document.root):
        return Extract(failure=_not_the_page(document, reply, kind, expect_place))
    scopes = row_scopes(document, kind)
    tables = (_rows(document, reply, kind, scopes),) if kind.table and kind.fields else ()
    links, notes = links_of(document, kind, kinds, scopes if kind.rows else None)
    if document.cut_off:
        notes = [*notes, Problem("cut-off", f"the parser left out the end of the page: {document.cut_off}", place)]
    return Extract(tables, tuple(links), _stated_total(document, reply, kind), None, tuple(notes))


def row_scopes(document: Document, kind: Kind) -> list[etree._Element]:
    """The elements that are rows; the whole document where the kind has no `rows`."""
    if not kind.rows:
        return [document.root]
    return [node for node in first_of(kind.rows, document.root) if isinstance(node, etree._Element)]


def picked(field: Field, scope: etree._Element, document: Document, reply: Reply) -> list[str]:
    """The texts that a field picks, before any stage: none when there is nothing."""
    if field.source == "url":
        return [reply.url]
    if field.source == "header":
        value = reply.header(field.detail)
        return [value] if value else []
    nodes = first_of(field.expressions, document.root if field.source == "page" else scope)
    texts = (taken(node, field) for node in nodes)
    return [text for text in texts if text is not None]


def taken(node: Node, field: Field) -> str | None:
    """The text of one picked node; None when the attribute that is asked for is not there."""
    if isinstance(node, etree._Element):
        if field.plan.attr is not None:
            value = node.get(field.plan.attr)
            return None if value is None else tidied(value)
        if not isinstance(node.tag, str):
            return tidied(node.text or "")
        return _TAKES[field.plan.take or "text"](node)
    if isinstance(node, bool):
        return "true" if node else "false"
    if isinstance(node, float):
        return repr(int(node)) if node.is_integer() else repr(node)
    return tidied(node)


def _html(element: etree._Element) -> str:
    return str(etree.tostring(element, encoding="unicode", method="html", with_tail=False))


def _inner_html(element: etree._Element) -> str:
    return (element.text or "") + "".join(
        str(etree.tostring(child, encoding="unicode", method="html")) for child in element
    )


_TAKES = {"text": text_of, "direct text": direct_text_of, "html": _html, "inner html": _inner_html}


def _rows(document: Document, reply: Reply, kind: Kind, scopes: list[etree._Element]) -> TableRows:
    found = _Found()
    for number, scope in enumerate(scopes):
        found.rows.append([_cell(f, number, scope, document, reply, found) for f in kind.fields])
    assert kind.table is not None
    return TableRows(kind.table, kind.columns, found.rows, kind.completes, tuple(found.problems), found.several)


def _cell(field: Field, row: int, scope: etree._Element, document: Document, reply: Reply, found: _Found) -> Any:
    if field.by_route:
        return None
    texts = picked(field, scope, document, reply)
    if len(texts) > 1 and not field.plan.many:
        found.several[field.name] = found.several.get(field.name, 0) + 1
    return cell_of(
        field, texts, document.base, lambda unread: found.problems.append(problem_of(field.name, row, unread))
    )


def cell_of(field: Field, texts: list[str], base: str, report: Any) -> Any:
    """The cell for the picked texts. What cannot be read is handed to `report` and leaves the cell empty."""
    values: list[Any] = []
    unread = False
    for text in texts if field.plan.many else texts[:1]:
        value = field.stages.value_of(text, base)
        if isinstance(value, Unread):
            report(value)
            unread = True
        elif value is not None:
            values.append(value)
    if field.plan.many:
        return values
    if values:
        return values[0]
    return None if unread else field.plan.default


def problem_of(column: str, row: int, unread: Unread) -> CellProblem:
    """A text that could not be read, as it is kept with the run."""
    return CellProblem(row, column, shortened(unread.raw, 500), unread.code, unread.what, unread.why)


def _stated_total(document: Document, reply: Reply, kind: Kind) -> int | None:
    if kind.total is None:
        return None
    texts = picked(kind.total, document.root, document, reply)
    value = kind.total.stages.value_of(texts[0], document.base) if texts else None
    return value if isinstance(value, int) else None


def _not_the_page(document: Document, reply: Reply, kind: Kind, expect_place: str) -> Problem:
    wanted = " or ".join(f'"{one.text}"' for one in kind.expect)
    where = f" (expect, {expect_place})" if expect_place else ""
    title = f'its title is "{shortened(document.title, 50)}"; ' if document.title else ""
    return Problem(
        "not-the-page",
        f"reply {reply.status} without {wanted}{where}",
        Place(reply.url),
        why=f"{title}a block, a log-in or a redesign: it counts as failed, not as a page with no rows",
    )
