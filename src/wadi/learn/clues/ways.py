"""Ways to a place in rows: what a plan can say to pick it, the ways that survive changes of a page before those that do not.

In order: microdata and attributes that name a place, class names that people gave, labels and headings beside the value, tags
that say what they hold; then other tags, words of layout; last places by number and names that machines made (`Way.cost`, to
be compared only).
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cache, lru_cache

from wadi.learn.clues.class_names import Worth, names, stem, tokens
from wadi.page.document import Document
from wadi.page.expressions import BadExpression, compile_expression
from wadi.page.field import Field, nodes_of
from wadi.page.grid import Grid, TooLargeTable, grid_of
from wadi.page.nodes import Element, Node, ancestors, children, first, following, parent, preceding
from wadi.page.text import text_of

_NAMING = ("itemprop", "slot", "property", "headers")
_TEST_MARKS = re.compile(
    r"data-(?:test(?:-?id)?|qa|cy|field|name|role|column|col|label|th|title|key|prop|cell|part|e2e|hook|element)"
)
_TELLING_TAGS = frozenset(
    {"time", "address", "figcaption", "caption", "summary", "code", "data", "h1", "h2", "h3", "h4", "h5", "h6"}
)
_ONE_OF_A_KIND = frozenset(
    {"a", "img", "em", "strong", "b", "i", "small", "p", "cite", "q", "mark", "input", "textarea", "select"}
)
_LONGEST_WORD = 40
_MOST_ABOVE = 3


@dataclass(frozen=True, slots=True)
class Way:
    """One way to a place: an expression relative to the row, or a label, or the heading of a column; `by` says by what, in
    words."""

    expression: str = ""
    cost: float = 0.0
    by: str = ""
    label: str = ""
    under: str = ""

    def nodes(self, row: Element, document: Document) -> list[Node]:
        """What it picks in a row. Raises BadExpression."""
        return nodes_of(_field(self.expression, self.label, self.under), row, document)


@cache
def plain_field() -> Field:
    """A field of the row's text."""
    from wadi.plan.fields import field_of

    return field_of(".", {}, 2000)[1]


def _field(expression: str, label: str, under: str) -> Field:
    expressions = (compile_expression(expression),) if expression else ()
    return replace(plain_field(), expressions=expressions, label=(label,) if label else (), under=under or None)


def ways_to(element: Element, row: Element, rows: Sequence[Element] = ()) -> list[Way]:
    """The ways to an element inside a row, or behind it before the next one; the surest first. Whether they lead there in all
    rows has to be tried."""
    if element == row:
        return [Way(".", 0.0, "the row itself")]
    above = [element, *ancestors(element)]
    if row not in above:
        return [*_under_heading(element, row, rows), *_ways_behind(element, row, above)]
    inside = above[: above.index(row)]
    found = [*_beside(element, row, rows), *own_ways(element)]
    for upper in inside[1 : _MOST_ABOVE + 1]:
        for outer in own_ways(upper)[:3]:
            found += [
                Way(
                    f"{outer.expression} {own.expression}",
                    own.cost + 0.4 + outer.cost * 0.4,
                    own.by if own.cost < 1 else outer.by,
                )
                for own in own_ways(element)[:4]
            ]
    steps = " > ".join(reversed([_step(upper) for upper in inside]))
    found.append(Way(f"> {steps}", 3.0 + 0.3 * len(inside), "its place"))
    return sorted(found, key=lambda way: way.cost)


def _ways_behind(element: Element, row: Element, above: Sequence[Element]) -> list[Way]:
    """The ways to what stands in a sibling behind the row: `+ dd`, `+ tr.more td`."""
    top = next((upper for upper in above if parent(upper) == parent(row)), None)
    if top is None:
        return []
    between = 0
    for sibling in preceding(top):
        if sibling == row:
            break
        between += 1
    else:
        return []
    to_it = "+ " + "* + " * between
    found = [
        Way(to_it + _with_tag(top, own.expression), own.cost + 0.3, own.by)
        for own in (*own_ways(top), Way(top.tag, 1.0, "its tag"))
    ]
    if top == element:
        return sorted(found, key=lambda way: way.cost)
    outer = min(found, key=lambda way: way.cost)
    return [
        Way(f"{outer.expression} {way.expression}", way.cost + outer.cost * 0.4, way.by)
        for way in ways_to(element, top)
        if not way.label and not way.under
    ]


def _with_tag(element: Element, expression: str) -> str:
    return expression if expression.startswith(element.tag) else f"{element.tag}{expression}"


def _beside(element: Element, row: Element, rows: Sequence[Element]) -> Iterator[Way]:
    """By the label before a definition, and by the heading above a cell."""
    tag = element.tag
    if tag == "dd" and (label := label_before(element)):
        yield Way(label=label, cost=0.4, by="its label")
    yield from _under_heading(element, row, rows)


def _under_heading(element: Element, row: Element, rows: Sequence[Element]) -> Iterator[Way]:
    """By the heading above a cell that stands in a row, or hangs down into it."""
    cell = next((upper for upper in [element, *ancestors(element, "td", "th")] if upper.tag in ("td", "th")), None)
    is_of_table = cell is not None and row.tag == "tr" and next(ancestors(cell, "table"), None) in ancestors(row)
    if cell is None or not (row in ancestors(cell) or is_of_table) or not (heading := heading_of(cell, rows)):
        return
    inside = "" if cell == element else own_ways(element)[0].expression
    yield Way(inside, 0.4 if cell == element else 0.6, "the heading above it", under=heading)


def label_before(element: Element) -> str:
    """The text of the `dt` before a `dd`; "" where there is none, or one too long for a label."""
    before = next((label for label in preceding(element) if label.tag == "dt"), None)
    text = text_of(before) if before is not None else ""
    return text if text and len(text) < _LONGEST_WORD and "\n" not in text else ""


def heading_of(cell: Element, rows: Sequence[Element]) -> str:
    """The heading above a table's cell: in a row that says so, or in the first one where that is none of the rows."""
    place = sum(1 for _ in preceding(cell))
    table = next(ancestors(cell, "table"), None)
    head = first(table, "tr") if table is not None else None
    if table is None or head is None or head in rows:
        return ""
    cells = children(head)
    looked_at = [*cells, *(other for row in rows if row.tag == "tr" for other in children(row))]
    if any(other.attr("colspan") or other.attr("rowspan") for other in looked_at):
        return _heading_in_grid(cell, table)
    names_row = parent(cell)
    is_head = all(other.tag == "th" for other in cells) or first(table, "thead") is not None
    is_head = is_head or (names_row is not None and len(cells) == len(children(names_row)))
    text = text_of(cells[place]) if place < len(cells) and is_head else ""
    return text if len(text) < _LONGEST_WORD and "\n" not in text else ""


def _heading_in_grid(cell: Element, table: Element) -> str:
    """The heading of a column whose headings are merged cells, or stand in several lines."""
    try:
        grid = _grid(table)
    except TooLargeTable:
        return ""
    row = parent(cell)
    column = next((column for column, other in grid.cells.get(row, {}).items() if other == cell), None)
    texts = list(dict.fromkeys(grid.headings.get(column, ()))) if column is not None else []
    return next(
        (text for text in reversed(texts) if sum(text in own for own in grid.headings.values()) == 1 and text), ""
    )


@lru_cache(maxsize=2)
def _grid(table: Element) -> Grid:
    return grid_of(table)


def own_ways(element: Element) -> list[Way]:
    """What an element is called, the surest first: by attributes, classes, tag, or its number among its siblings."""
    return sorted(_every_own_way(element), key=lambda way: way.cost)


def _every_own_way(element: Element) -> Iterator[Way]:
    tag = element.tag.rpartition("}")[2]
    for name in element.attrs:
        value = element.attr(name) or ""
        if (name in _NAMING or _TEST_MARKS.fullmatch(name)) and 0 < len(value) < _LONGEST_WORD and '"' not in value:
            yield Way(f'[{name}="{value}"]', 0.1, "what it is marked as")
    beside = {token for other in _siblings(element) for token in tokens(other)}
    for place, token in enumerate(names(element)):
        # A name that siblings bear, too, says what they all are.
        numbered = 0.3 if any(character.isdigit() for character in token) else 0.0
        yield Way(f".{token}", 0.3 + 0.05 * place + numbered + (1.5 if token in beside else 0.0), "its class")
    for token in tokens(element):
        if part := stem(token):
            yield Way(f'[class*="{part}"]', 0.9, "a part of its class")
    for token in names(element, Worth.LAYOUT):
        yield Way(f".{token}", 2.0, "a class of layout")
    for token in names(element, Worth.MADE):
        yield Way(f".{token}", 3.5, "a class that a machine made")
    if role := element.attr("role"):
        yield Way(f'[role="{role}"]', 1.5, "its role")
    if "{" in element.tag or tag not in ("td", "th"):
        cost = 0.8 if tag in _TELLING_TAGS else 0.9 if tag in _ONE_OF_A_KIND else 0.5 if "-" in tag else 1.6
        yield Way(tag, cost, "its tag")
    place = 1 + sum(1 for _ in preceding(element))
    if place > 1 or next(following(element), None) is not None:
        yield Way(f"{tag}:nth-child({place})", 2.5 if tag in ("td", "th") else 2.8, "its place")


def _siblings(element: Element) -> Iterator[Element]:
    yield from preceding(element)
    yield from following(element)


def _step(element: Element) -> str:
    before = sum(sibling.tag == element.tag for sibling in preceding(element))
    others = before + sum(sibling.tag == element.tag for sibling in following(element))
    return f"{element.tag}:nth-of-type({before + 1})" if others else element.tag


def leads_to(way: Way, row: Element, document: Document) -> Node | None:
    """The first that a way picks in a row; None for nothing, and for what cannot be read."""
    try:
        found = way.nodes(row, document)
    except BadExpression:
        return None
    return found[0] if found else None
