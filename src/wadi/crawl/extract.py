"""A reply and its page kind → rows, links, the stated total, or the reason why it is not the page.

What depends on the way by which a page was reached (link text, inputs) is left open here: one page may be reached by
several ways, and its extract is the same for all.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

from wadi.clean.stages import Unread
from wadi.crawl.block_signals import signals_of
from wadi.crawl.documents import document_of
from wadi.crawl.kinds import Kind
from wadi.crawl.links import file_links, links_of
from wadi.crawl.page_calls import never_given, with_page_data
from wadi.crawl.paging import is_at_its_end, next_request, stated_number
from wadi.crawl.requests import with_referer
from wadi.crawl.rows import Uneven, row_scopes, tables_of
from wadi.page.document import Document, NotADocument
from wadi.page.expressions import BadExpression, Expression, compile_expression
from wadi.page.field import Field
from wadi.page.grid import TooLargeTable
from wadi.page.nodes import JsonNode
from wadi.plan.code import CodeFailed
from wadi.problems import Place, Problem, listed, shortened
from wadi.store.outcome import Link, Role, TableRows
from wadi.urls import without_secret
from wadi.web.blocked import block_of
from wadi.web.messages import END_OF_TURNS, NOTICED, Reply
from wadi.web.pickled import pickled_by_value


@pickled_by_value
@dataclass(frozen=True, slots=True)
class Extract:
    """What stands on a page. `failure` tells why it is not the page that the plan expects; then there is nothing else.

    `lost` tells that the page says that the session has ended, `blocked` that it is a block or lacks what the plan expects,
    so that it may be worth asking again. `row_count` is None where the kind has no rows. `of_pages` is how many pages the
    listing says it has.
    """

    tables: tuple[TableRows, ...] = ()
    links: tuple[Link, ...] = ()
    total: int | None = None
    failure: Problem | None = None
    notes: tuple[Problem, ...] = ()
    row_count: int | None = 0
    lost: bool = False
    blocked: bool = False
    of_pages: int | None = None


def extract(
    reply: Reply,
    kind: Kind,
    kinds: Mapping[str, Kind],
    expect_place: str = "",
    *,
    number: int = 0,
    most_rows: int | None = None,
    usual_bytes: float | None = None,
) -> Extract:
    """What stands on the page. `number` is its place in its listing, from 0; `expect_place` says where `expect` stands.

    `usual_bytes` is the size of good pages of this kind, by which a block is known from a page with nothing on it.

    `most_rows` is for rehearsals: only so many of the rows are read, and `row_count` tells how many there are.
    """
    place = Place(reply.url)
    if reply.is_end and kind.rendering is not None and kind.rendering.next is not None:
        return Extract(row_count=0, notes=_turned_in_vain(reply, kind, number))
    try:
        document = document_of(reply, kind)
    except NotADocument as error:
        return Extract(failure=Problem("wrong-kind", f"reply {reply.status} is no page: {error}", place))
    page = _Page(document, reply, kind, kinds, expect_place, number, most_rows, usual_bytes)
    try:
        return _checked(page)
    except Uneven as error:
        what = f"columns of different lengths are not put side by side: {error}"
        now = "rows = … picks whole rows, which hold together"
        return Extract(failure=Problem("uneven-columns", what, place, now=now))
    except BadExpression as error:
        what = f"an expression cannot be asked of this page: {error.text}: {error.what}"
        return Extract(failure=Problem("bad-expression", what, place, now=error.now))
    except CodeFailed as error:
        return Extract(failure=Problem("code-failed", str(error), place))
    except TooLargeTable as error:
        return Extract(failure=Problem("beyond-bounds", f"reply {reply.status} has {error}", place))


def _turned_in_vain(reply: Reply, kind: Kind, number: int) -> tuple[Problem, ...]:
    """What is to be told of a listing that never went on, since what it goes on by was not there."""
    rendering = kind.rendering
    if number != 1 or rendering is None or rendering.next is None or reply.header(END_OF_TURNS) != "gone":
        return ()
    what = (
        f'page "{kind.name}": browser.next ({rendering.next}) is not on the first page: the listing is this page alone'
    )
    return (Problem("no-next", what, Place(reply.url)),)


class _Page(NamedTuple):
    """A page that is read: its document and reply, what it is read as, and what is known of it."""

    document: Document
    reply: Reply
    kind: Kind
    kinds: Mapping[str, Kind]
    expect_place: str
    number: int
    most_rows: int | None
    usual_bytes: float | None


def _checked(page: _Page) -> Extract:
    """The extract of a page, or why it is not the page."""
    document, reply, kind, place = page.document, page.reply, page.kind, Place(page.reply.url)
    if stands(kind.lost, document):
        what = f"reply {reply.status} is the page of someone who is not logged in"
        return Extract(failure=Problem("logged-out", what, place), lost=True)
    if document.beside == () and reply.request.turn == 0:
        return Extract(failure=_without_data(reply, kind), blocked=True)
    if not is_readable(document, kind):
        what = f"reply {reply.status} is {document.kind.upper()}, which no expression of page {kind.name!r} reads"
        now = "JSON is read with JSONPath: $.…"
        if document.kind == "html" and "json" in kind.reads:
            now = "nor is it in the data that the page carries: wadi inspect shows what is"
        return Extract(failure=Problem("wrong-kind", what, place, now=now))
    is_empty = stands(kind.empty, document)
    if kind.expect and not is_empty and not stands(kind.expect, document):
        block = block_of(signals_of(document, len(reply.body)), misses_expected=True, usual_bytes=page.usual_bytes)
        return Extract(failure=_not_the_page(document, reply, kind, page.expect_place, block), blocked=True)
    found = _extracted(page)
    if kind.expect or is_empty or reply.request.turn or not _gives_nothing(found):
        return found
    block = block_of(signals_of(document, len(reply.body)), misses_expected=False, usual_bytes=page.usual_bytes)
    if block is None:
        return found
    what = f"reply {reply.status}{_redirected(reply)} gives nothing and is {block}"
    now = "if it is a page like any other: expect = … says what must be on it"
    return Extract(failure=Problem("blocked", what, place, now=now), blocked=True)


def _extracted(page: _Page) -> Extract:
    reply, kind, number = page.reply, page.kind, page.number
    document = with_page_data(page.document, reply, kind)
    every = row_scopes(document, kind.rows)
    scopes = every[: page.most_rows]
    tables = tables_of(document, reply, kind, scopes)
    links, notes = links_of(document, reply, kind, page.kinds, scopes if kind.rows else None)
    links += file_links(tables, kind, len(links))
    count = len(every) if kind.rows else len(tables[0].rows) if kind.side_by_side and tables else None
    if kind.next is not None:
        following = next_request(document, reply, kind.next, number, count, kind.links, notes)
        if isinstance(following, Problem):
            notes.append(following)
        elif following is not None:
            links.append(Link(Role.NEXT, 0, kind.name, following))
        elif (
            number == 0
            and count
            and kind.total is None
            and kind.call is None
            and kind.next.goes_by_link
            and not is_at_its_end(document, kind.next)
        ):
            what = f'page "{kind.name}": next picks nothing on the first page, so that the listing is this page alone'
            notes.append(Problem("no-next", what, Place(reply.url)))
    elif kind.rendering is not None and kind.rendering.next is not None and count != 0:
        turned = replace(reply.request, turn=reply.request.turn + 1, rendering=None)
        links.append(Link(Role.NEXT, 0, kind.name, turned))
    if reply.request.route:
        links = [replace(link, request=replace(link.request, route=reply.request.route)) for link in links]
    if kind.says_referer:
        links = [replace(link, request=with_referer(link.request, reply.url)) for link in links]
    if document.unknown_entities:
        names = listed([f"&{name};" for name in document.unknown_entities], 4)
        notes.append(Problem("unknown-entity", f"not declared in the document: {names}", Place(reply.url)))
    if unlike := never_given(document, kind):
        notes.append(Problem("unused-key", f'page "{kind.name}": {unlike}', Place(reply.url)))
    did = [value for name, value in reply.headers if name == NOTICED] if kind.rendering is not None else []
    if did:
        what = f'page "{kind.name}", in the browser: {listed(list(dict.fromkeys(did)), 3)}'
        notes.append(Problem("in-browser", what, Place(reply.url)))
    if document.cut_off:
        notes.append(Problem("cut-off", f"the end of the page is not read: {document.cut_off}", Place(reply.url)))
    last, lacks = _stated(page, "next.end_page", kind.next.last if kind.next is not None else None)
    total, lacks_total = _stated(page, "total", kind.total, is_wanted=kind.call is None)
    gives_links = kind.call is not None and bool(links)
    is_empty = count == 0 and (gives_links or stands(kind.empty, page.document) or is_empty_array(document, kind))
    if number == 0 and not is_empty:
        notes += [*lacks, *lacks_total, *([_rowless(page)] if count == 0 else [])]
    return Extract(tuple(tables), tuple(links), total, None, tuple(notes), count, of_pages=last)


def _stated(
    page: _Page, name: str, field: Field | None, *, is_wanted: bool = False
) -> tuple[int | None, list[Problem]]:
    """A number that the page states, and what is to be told of it on the first page of a listing: that it cannot be read, or,
    where it is wanted, that it is not there."""
    if field is None:
        return None, []
    found, place = stated_number(field, page.document, page.reply), Place(page.reply.url)
    if isinstance(found, Unread):
        what = f'page "{page.kind.name}": {name} cannot be read: {found.what}'
        return None, [Problem("unread-total", what, place, why=found.why)]
    if found is None and is_wanted:
        what = f'page "{page.kind.name}": {name} picks nothing, so that nobody can tell whether all rows came'
        return None, [Problem("no-total", what, place)]
    return found, []


def _rowless(page: _Page) -> Problem:
    """What is to be told of a page without rows that does not say that there are none."""
    which = " or ".join(f'"{row.text}"' for row in page.kind.rows)
    if page.kind.call is not None:
        which = f"row from {page.kind.call.name}()"
    what = f'page "{page.kind.name}": no {which}: the page gives no rows'
    return Problem("rowless", what, Place(page.reply.url), now='empty = "…" says what stands on a page that has none')


def is_empty_array(document: Document, kind: Kind) -> bool:
    """Whether rows that are the members of an array in JSON are none because the array that stands there has none."""
    if kind.call is not None:
        return False
    members = [rows.text for rows in kind.rows if rows.reads == "json" and rows.text.endswith("[*]")]
    arrays = (compile_expression(text[:-3]) for text in members)
    found = (node for array in arrays for node in array.nodes(document.scope, document))
    return any(isinstance(node, JsonNode) and node.value == [] for node in found)


def stands(expressions: Sequence[Expression], document: Document) -> bool:
    """Whether one of the expressions picks something on the page."""
    return any(expression.stands(document.scope, document) for expression in expressions)


def is_readable(document: Document, kind: Kind) -> bool:
    """Whether the rows of the page kind, or without any its expressions, read such a document at all. HTML whose rows or fields
    are JSON has to carry some of it: else it stands in place of the page that was asked for."""
    if document.beside is not None or kind.call is not None:
        return True
    reads = {rows.reads for rows in kind.rows} or kind.reads
    if document.kind == "html" and reads == {"json"}:
        if any(sign.reads != "json" for sign in kind.expect):
            return True
        of_fields = [
            expression for field in kind.fields if field.source in ("", "page") for expression in field.expressions
        ]
        return stands([*kind.expect, *kind.empty, *(kind.rows or of_fields)], document)
    if document.kind == "json":
        return "tree" not in reads  # beside what is picked in a tree, JSON is the data that it carries
    return not reads or bool(reads & {"any", "tree"})


def _without_data(reply: Reply, kind: Kind) -> Problem:
    """That no background reply came that the kind reads, and which did."""
    came = list(dict.fromkeys(without_secret(other.url) for other in reply.beside))
    there = f"there were: {listed(came, 4)}" if came else "none with data came"
    what = f'page "{kind.name}": no background reply is one of data_from; {there}'
    return Problem("not-the-page", what, Place(reply.url), now="wadi inspect PAGE --rendered  shows them")


def _gives_nothing(found: Extract) -> bool:
    """Whether a page has neither links nor a cell with something in it."""
    cells = (cell for table in found.tables for row in table.rows for cell in row)
    return not found.links and not any(cell not in (None, []) for cell in cells)


def _redirected(reply: Reply) -> str:
    """Where the redirects led, where there were some."""
    return f" (redirected to {without_secret(reply.url)})" if reply.hops else ""


def _not_the_page(document: Document, reply: Reply, kind: Kind, expect_place: str, block: str | None) -> Problem:
    wanted = " or ".join(f'"{sign.text}"' for sign in kind.expect)
    where = f" (expect, {expect_place})" if expect_place else ""
    title = f'its title is "{shortened(document.title, 50)}"; ' if document.title else ""
    status = f"reply {reply.status}{_redirected(reply)}"
    if block is not None:
        return Problem("blocked", f"{status} is {block}: no {wanted}{where}", Place(reply.url), why=title.rstrip("; "))
    return Problem(
        "not-the-page",
        f"{status} without {wanted}{where}",
        Place(reply.url),
        why=f"{title}a block, a log-in or a redesign: it counts as failed, not as a page with no rows",
    )
