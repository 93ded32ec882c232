"""What a column might be called: by microdata, labels, the heading of a table, a class that says what it is, or the tag."""

from __future__ import annotations

import re
from collections.abc import Sequence

from wadi.learn.clues.class_names import names
from wadi.learn.clues.ways import heading_of
from wadi.page.nodes import Element, ancestors, parent

_INLINE = frozenset("b i em strong small br wbr sup sub mark abbr u s font code".split())
_ATTRIBUTES = ("itemprop", "property", "slot")
_TEST_MARKS = ("data-testid", "data-test", "data-field", "data-label", "data-name", "data-column")
_PLAIN = {
    "a": "name",
    "img": "image",
    "time": "date",
    "dt": "term",
    "dd": "definition",
    **dict.fromkeys(("h1", "h2", "h3", "h4", "h5", "h6"), "name"),
}


def name_for(element: Element, attribute: str | None, label: str, rows: Sequence[Element]) -> str:
    """A name for what stands in an element of the rows, or in an attribute of it."""
    if "}" in element.tag:
        return element.tag.rpartition("}")[2]
    if attribute in ("href", "src"):
        return "url" if attribute == "href" else "image"
    data = attribute.removeprefix("data-") if attribute is not None and attribute.startswith("data-") else ""
    marked = next((value for name in _ATTRIBUTES if (value := element.attr(name))), "")
    tested = next((value for name in _TEST_MARKS if (value := element.attr(name))), "")
    control = element.attr("name") or "" if element.tag in ("input", "select", "textarea") else ""
    name = label or marked or _heading(element, rows) or _token(element) or tested or control or data
    if not name and element not in rows and element.tag in (*_INLINE, "a", "img", "p", "span"):
        above = parent(element)
        name = _token(above) if above is not None and above not in rows else ""
    return name or ("link" if element.tag == "a" and attribute else _PLAIN.get(element.tag, element.tag))


def _heading(element: Element, rows: Sequence[Element]) -> str:
    cell = next((upper for upper in [element, *ancestors(element)] if upper.tag in ("td", "th")), None)
    return heading_of(cell, rows) if cell is not None and not cell.attr("colspan") else ""


def _token(element: Element) -> str:
    """The first class that a person gave, without the block that it says it is a part of (`card__title`)."""
    token = next((token for token in names(element) if not re.search(r"\d", token)), "")
    return re.split(r"__+", token)[-1] or token
