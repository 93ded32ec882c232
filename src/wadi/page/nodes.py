"""Nodes: what a parsed page is made of, and the one way in which the rest of Wadi looks at them.

HTML is a tree of the parser's own elements; XML's are wrapped so that they have the same face (`xml_tree`); a JSON document
and a file of columns are values in their places. Trees hold texts as nodes beside elements; comments and the like are there too.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice
from typing import Any

import turbohtml

from wadi.page.xml_tree import XmlElement, XmlText

Element = turbohtml.Element | XmlElement
"""An element of HTML or XML."""
HtmlElement = turbohtml.Element
HtmlText = turbohtml.Text
TEXTS = (turbohtml.Text, turbohtml.CData, XmlText)


@dataclass(frozen=True, slots=True)
class JsonNode:
    """A value in a JSON document, and the steps that lead to it from where the expression was applied."""

    value: Any
    path: tuple[str | int, ...]

    @property
    def key(self) -> str | None:
        """The last step: the key or, as text, the number under which the value stands."""
        return str(self.path[-1]) if self.path else None


Node = Element | JsonNode | str | float | bool
"""What an expression picks: an element, a JSON value in its place, or what XPath and `re:` give else."""
Scope = Element | JsonNode
"""What an expression starts from: the page's root or value, or a row."""


def attributes(element: Element) -> dict[str, str]:
    """The attributes as they stand in the source: name → text, which is empty for one without a value."""
    return {name: element.attr(name) or "" for name in element.attrs}


def children(element: Element, *tags: str) -> list[Any]:
    """The child elements, those of some names or all."""
    found = [child for child in element.children if isinstance(child, Element)]
    return [child for child in found if child.tag in tags] if tags else found


def has_children(element: Element) -> bool:
    """Whether elements stand in the element, and not text alone."""
    return any(isinstance(child, Element) for child in element.children)


def elements(top: Element, *tags: str) -> Iterator[Any]:
    """The element and all below it in reading order, those of some names or all."""
    return top.iter_elements(tags or None, include_self=True)


def first(top: Element, *tags: str) -> Any:
    """The first element below `top` of some names; None without one."""
    return next(top.iter_elements(tags), None)


def parent(element: Element) -> Any:
    """The element around an element; None for a root."""
    above = element.parent
    return above if isinstance(above, Element) else None


def ancestors(element: Element, *tags: str) -> Iterator[Any]:
    """The elements around an element, the nearest first, those of some names or all."""
    return (
        ancestor
        for ancestor in element.ancestors
        if isinstance(ancestor, Element) and (not tags or ancestor.tag in tags)
    )


def following(element: Element) -> Iterator[Any]:
    """The sibling elements behind an element."""
    return (sibling for sibling in element.next_siblings if isinstance(sibling, Element))


def preceding(element: Element) -> Iterator[Any]:
    """The sibling elements before an element, the nearest first."""
    return (sibling for sibling in element.previous_siblings if isinstance(sibling, Element))


def leading_text(element: Element) -> str:
    """The text before the first element inside."""
    return _texts_until_element(element.children)


def text_behind(element: Element) -> str:
    """The text between an element and the next one, or its parent's end."""
    return _texts_until_element(element.next_siblings)


def _texts_until_element(nodes: Any) -> str:
    pieces = []
    for node in nodes:
        if isinstance(node, Element):
            break
        if isinstance(node, TEXTS):
            pieces.append(node.data)
    return "".join(pieces)


def own_texts(element: Element) -> list[str]:
    """The texts that stand in the element itself, not in elements inside it."""
    return [node.data for node in element.children if isinstance(node, TEXTS)]


def pieces_of_text(top: Element) -> Iterator[str]:
    """The texts of an element and all in it, in reading order, what is not shown included."""
    return iter(top.strings)


def path_of(element: Element) -> str:
    """The way from the root to an element: `html > body > ol.register > li:nth-of-type(2) > a`."""
    steps: list[str] = []
    for upper in [element, *ancestors(element)]:
        alike = sum(sibling.tag == upper.tag for sibling in preceding(upper))
        is_one_of_many = alike or any(islice((s for s in following(upper) if s.tag == upper.tag), 1))
        token = next(iter((upper.attr("class") or "").split()), "")
        name = f"#{upper.attr('id')}" if upper.attr("id") else f".{token}" if token else ""
        steps.append(f"{upper.tag}{name}" + (f":nth-of-type({alike + 1})" if is_one_of_many else ""))
    return " > ".join(reversed(steps))


def line_of(element: Element) -> int | None:
    """The line of the source in which the element begins, from 1; None for elements that the source does not have."""
    return element.source_line


def markup_of(node: Any) -> str:
    """The markup of an element with what is in it, as HTML or XML writes it."""
    return str(node.html)


def inner_markup_of(element: Element) -> str:
    """The markup of what is in an element."""
    return str(element.inner_html)


def raw_text_of(element: Element) -> str:
    """All text in an element as it is, what a reader does not see included (`textContent` of the DOM)."""
    return element.text


def link_of(element: Element) -> Any:
    """The link that an element is, or the first `a` with a reference inside it; None without one."""
    if element.attr("href") is not None:
        return element
    return next((a for a in elements(element, "a") if a.attr("href") is not None), None)


def letters_in(top: Element) -> dict[Element, int]:
    """How many characters of text each element holds, the top and all below it, those that are not seen counted."""
    found: dict[Element, int] = {}
    for element in reversed(list(elements(top))):
        found[element] = sum(map(len, own_texts(element))) + sum(found[child] for child in children(element))
    return found
