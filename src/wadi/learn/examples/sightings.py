"""Where values that a person sees stand in a page: in the text of an element, in an attribute, or in a part of a longer text."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from typing import Literal

from wadi.learn.clues.sameness import folded, says
from wadi.learn.clues.spots import has_words
from wadi.page.document import Document
from wadi.page.nodes import Element, attributes, elements, letters_in
from wadi.page.text import direct_text_of, is_hidden, text_of
from wadi.urls import NotAUrl

How = Literal["same", "value", "part"]
_COST = {"same": 0.0, "value": 0.2, "part": 1.2}
_ATTRIBUTE_COST = 0.6
_SHORTER = 400
_MOST_OF_ONE = 400
"""So many places of one value are looked at."""
_NO_VALUES = frozenset({"class", "style", "for", "onclick"})
_LINKS = frozenset({"href", "src", "data-href", "data-src", "content"})


@dataclass(frozen=True, slots=True)
class Sighting:
    """A place where a value stands: the element, the attribute ("" for its text), what is taken of it, and the whole text
    there."""

    element: Element
    text: str
    how: How = "same"
    attribute: str = ""
    take: str = ""

    @property
    def cost(self) -> float:
        """How far it is from what a reader sees; to be compared only."""
        return _COST[self.how] + (_ATTRIBUTE_COST if self.attribute else 0.0)


def sightings_of(document: Document, values: Collection[str], language: str = "") -> dict[str, list[Sighting]]:
    """Value → where it stands, in reading order; of a text in nested elements the innermost and those around it."""
    wanted = {folded(value): value for value in values if value.strip()}
    longest = max(map(len, wanted), default=0) + _SHORTER
    found: dict[str, list[Sighting]] = defaultdict(list)
    letters = letters_in(document.top)
    for element in elements(document.top):
        for sighting, value in _in_attributes(element, wanted, document):
            found[value].append(sighting)
        if letters[element] > longest or is_hidden(element):
            continue
        for sighting, value in _in_text(element, wanted, language):
            if len(found[value]) < _MOST_OF_ONE:
                found[value].append(sighting)
    return {value: sorted(found[value], key=lambda sighting: sighting.how == "part") for value in values}


def _in_text(element: Element, wanted: dict[str, str], language: str) -> Iterator[tuple[Sighting, str]]:
    text = text_of(element)
    if not text:
        return
    plain = folded(text)
    if plain in wanted:
        yield Sighting(element, text), wanted[plain]
        return
    own = direct_text_of(element)
    if own != text and folded(own) in wanted:
        yield Sighting(element, own, take="direct text"), wanted[folded(own)]
    for short, value in wanted.items():
        if says(text, value, language):
            yield Sighting(element, text, "value"), value
        elif has_words(own) and stands_in(short, plain):
            yield Sighting(element, text, "part"), value


def stands_in(short: str, text: str) -> bool:
    """Whether a value stands in a text as words of its own."""
    at = text.find(short)
    while at >= 0:
        before, after = text[at - 1 : at], text[at + len(short) : at + len(short) + 1]
        if not (before.isalnum() and short[0].isalnum()) and not (after.isalnum() and short[-1].isalnum()):
            return True
        at = text.find(short, at + 1)
    return False


def _in_attributes(element: Element, wanted: dict[str, str], document: Document) -> Iterator[tuple[Sighting, str]]:
    for name, text in attributes(element).items():
        if name in _NO_VALUES or not text or len(text) > _SHORTER:
            continue
        plain = folded(text)
        if plain in wanted:
            yield Sighting(element, text, "same", name), wanted[plain]
        elif name in _LINKS:
            for short, value in wanted.items():
                if ("/" in short or "." in short) and _is_address(text, value, document):
                    yield Sighting(element, text, "same", name), value
        elif name.startswith("data-") or name in ("datetime", "value", "content"):
            yield from (
                (Sighting(element, text, "value", name), value) for value in wanted.values() if says(text, value)
            )


def _is_address(reference: str, value: str, document: Document) -> bool:
    try:
        whole = document.resolve(reference)
    except NotAUrl:
        return False
    return value == whole or (value.startswith("/") and whole.endswith(value))
