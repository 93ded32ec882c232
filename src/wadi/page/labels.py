"""Values beside their labels: of form controls, in definition lists, tables of two columns, lines such as "Depth: 12 m"."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from itertools import chain

from wadi.page.controls import CONTROLS, held_by
from wadi.page.nodes import (
    Element,
    children,
    elements,
    following,
    has_children,
    leading_text,
    parent,
    pieces_of_text,
    raw_text_of,
    text_behind,
)
from wadi.page.text import text_of

Labelled = Element | str
_Found = dict[str, list[Labelled]]
_LABEL_ENDS = " :：\u00a0"
_IN_LISTS = frozenset({"dt", "dd", "tr", "td", "th", "thead", "tbody", "tfoot", "li", "option", "caption"})
"""What stands among others of its sort: none is the label of the next."""
_NEVER_VALUES = frozenset({"h1", "h2", "h3", "h4", "h5", "h6", "label", "legend"})
"""What is a label always."""
_LONG = 2000
"""What is longer is no label, and hardly a line with one."""


class LabelsIn:
    """The labels in a row or on a page. What is looked through once tells all of them."""

    def __init__(self, scope: Element) -> None:
        self.scope = scope

    def find(self, labels: Sequence[str]) -> list[Labelled]:
        """What stands beside the first of `labels` that is there: elements, or a text where no element holds it alone.

        Several `dd` of one `dt` are several values. Case, blanks and a colon at the end of a label do not count.
        """
        for wanted in map(folded, labels):
            # What comes later is looked through only when it is needed.
            for way in ("_of_controls", "_in_definitions", "_in_tables", "_beside", "_in_lines", "_in_long_lines"):
                found: _Found = getattr(self, way)
                if values := found.get(wanted):
                    return values
        return []

    @cached_property
    def _of_controls(self) -> _Found:
        """The values of form controls by their `label` (HTML Standard §4.10.4): named by `for`, or the first inside it."""
        found: _Found = {}
        by_id: dict[str, Element] = {}
        for label in elements(self.scope, "label"):
            if not by_id:
                by_id = {control.attr("id") or "": control for control in elements(self.scope, *CONTROLS)}
            named = label.attr("for")
            control = by_id.get(named) if named else next(iter(elements(label, *CONTROLS)), None)
            if control is not None and (held := held_by(control)) is not None:
                name = text_of(label) if named else text_of(label).replace(text_of(control), " ", 1)
                found.setdefault(folded(name), [*held] or [""])
        return found

    @cached_property
    def _in_definitions(self) -> _Found:
        found: _Found = {}
        for term in elements(self.scope, "dt"):
            found.setdefault(folded(text_of(term)), list(_definitions(term)))
        return found

    @cached_property
    def _in_tables(self) -> _Found:
        found: _Found = {}
        for row in elements(self.scope, "tr"):
            cells = children(row, "td", "th")
            has_headings = any(cell.tag == "th" for cell in cells)
            for place in range(0, len(cells) - 1, 2):
                label, value = cells[place], cells[place + 1]
                # Where cells are marked as headings, those are the labels, and a heading is no value.
                if not has_headings or (label.tag == "th" and value.tag == "td"):
                    found.setdefault(folded(text_of(label)), [value])
        return found

    @cached_property
    def _beside(self) -> _Found:
        """Elements that hold a label alone, and the element or the text behind each."""
        found: _Found = {}
        for element in self.scope.iter_elements():
            if element.tag in _IN_LISTS or is_long(element):
                continue
            tail = text_behind(element).strip().lstrip(_LABEL_ENDS).strip()
            if tail:
                found.setdefault(folded(text_of(element)), [tail])
            elif (after := next(following(element), None)) is not None and _is_a_pair(element, after):
                found.setdefault(folded(text_of(element)), [after])
        return found

    @cached_property
    def _in_lines(self) -> _Found:
        return _lines_of(holder for holder in self._holders if not is_long(holder))

    @cached_property
    def _in_long_lines(self) -> _Found:
        """Those of long elements, which hold others, mostly: to read them takes long where they nest deeply."""
        return _lines_of(filter(is_long, self._holders))

    @cached_property
    def _holders(self) -> list[Element]:
        """The elements that hold text themselves."""
        every = elements(self.scope)
        return [element for element in every if not has_children(element) or leading_text(element).strip()]


def folded(text: str) -> str:
    """A label as it is compared: without case, blanks and a colon at its end."""
    return " ".join(text.split()).rstrip(_LABEL_ENDS).casefold()


def _is_a_pair(element: Element, after: Element) -> bool:
    """Whether an element is the label of the one behind it, and not the next of the same sort: another tag or class, a colon,
    or that there are only these two says so."""
    if element.tag in _NEVER_VALUES and after.tag in _NEVER_VALUES:
        return False
    if element.tag != after.tag or element.attr("class") != after.attr("class"):
        return True
    if text_of(element).rstrip().endswith((":", "：")):
        return True
    around = parent(element)
    return element.tag != "a" and around is not None and len(children(around)) == 2


def _definitions(term: Element) -> Iterator[Element]:
    """The `dd` of a `dt`, up to the next `dt` behind one."""
    is_after_value = False
    for after in _after(term):
        if after.tag == "dt" and is_after_value:
            return
        if after.tag == "dd":
            is_after_value = True
            yield after


def _lines_of(holders: Iterable[Element]) -> _Found:
    """The lines "label: value" of elements, the shortest first."""
    found: _Found = {}
    for line in (line for text in sorted(map(text_of, holders), key=len) for line in text.split("\n")):
        label, _, value = line.replace("：", ":").partition(":")
        if value.strip():
            found.setdefault(folded(label), [value.strip()])
    return found


def is_long(element: Element) -> bool:
    """Whether an element holds too much for a line, what is not shown counted."""
    if not has_children(element):
        return len(raw_text_of(element)) > _LONG
    letters = _LONG
    for piece in pieces_of_text(element):
        letters -= len(piece.strip())
        if letters < 0:
            return True
    return False


def _after(element: Element) -> Iterable[Element]:
    """The elements behind a `dt`: also those of the next `div` where pairs are wrapped."""
    behind = following(element)
    nearest = next(behind, None)
    above = parent(element)
    if nearest is not None:
        return chain((nearest,), behind)
    return (inner for wrapper in following(above) for inner in children(wrapper)) if above is not None else ()
