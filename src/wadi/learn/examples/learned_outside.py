"""Fields of values that stand outside of the rows: in a heading above, in the page's head, in its title."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Literal

from wadi.learn.clues.sameness import folded, says
from wadi.learn.clues.ways import Way, own_ways, plain_field
from wadi.learn.examples.learned_fields import LearnedField
from wadi.learn.examples.sightings import Sighting
from wadi.learn.first_look.fields import Reading, field_guess, way_to_element
from wadi.page.document import Document
from wadi.page.expressions import BadExpression, compile_expression
from wadi.page.field import nodes_of
from wadi.page.nodes import Element, ancestors
from wadi.page.text import text_of

_MOST_PLACES, _MOST_WAYS = 12, 6
Source = Literal["heading", "page"]
_WHY: dict[Source, str] = {"heading": "by the heading above the row", "page": "by its place on the page"}


def learned_outside(
    name: str,
    wanted: Sequence[tuple[Element, str]],
    rows: Sequence[Element],
    document: Document,
    sightings: Sequence[Sighting],
    language: str = "",
) -> LearnedField | None:
    """The field of a value that stands in no row: `wanted` are the rows of the examples with the value of each, `sightings` the
    places of the first one. None where neither a heading nor a place of the page gives all of them."""
    for source, way in _ways(rows, document, sightings):
        texts = _texts(source, way, rows, document)
        given = dict(zip(rows, texts, strict=True))
        if all(_is_value(given.get(row, ""), value, language) for row, value in wanted):
            guess = replace(field_guess(way, Reading(texts, 0.0), name, language), source=source, is_unique=False)
            rating = "sure" if source == "heading" and len({value for _, value in wanted}) > 1 else "likely"
            return LearnedField(guess, rating, _WHY[source], (), "", sum(map(bool, texts)), len(texts))  # type: ignore[arg-type]
    return None


def _ways(rows: Sequence[Element], document: Document, sightings: Sequence[Sighting]) -> Iterator[tuple[Source, Way]]:
    members = set(rows)
    outside = [one.element for one in sightings if not one.attribute and one.how != "part"]
    outside = [e for e in outside if e not in members and not any(a in members for a in ancestors(e))][:_MOST_PLACES]
    for element in outside:
        yield from (("heading", way) for way in own_ways(element)[:_MOST_WAYS])
    for element in outside:
        if (way := way_to_element(document, element)) is not None and way.expression:
            yield "page", way


def _texts(source: Source, way: Way, rows: Sequence[Element], document: Document) -> list[str]:
    """What a row gets by a way from outside, row by row."""
    spec = replace(plain_field(), source=source, expressions=(compile_expression(way.expression),))
    found = []
    for row in rows:
        try:
            nodes = nodes_of(spec, row, document)
        except (BadExpression, KeyError):
            nodes = []
        found.append(text_of(nodes[0]) if nodes and isinstance(nodes[0], Element) else "")
    return found


def _is_value(text: str, value: str, language: str) -> bool:
    return folded(text) == folded(value) or says(text, value, language)
