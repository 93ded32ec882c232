"""How much text elements hold, without gathering it: what is too long for a value, and what weighs most on a page."""

from __future__ import annotations

from wadi.page.nodes import Element, children, elements, own_texts


def letters_in(top: Element) -> dict[Element, int]:
    """How many characters of text each element holds, the top and all below it, those that are not seen counted."""
    found: dict[Element, int] = {}
    for element in reversed(list(elements(top))):
        found[element] = sum(map(len, own_texts(element))) + sum(found[child] for child in children(element))
    return found
