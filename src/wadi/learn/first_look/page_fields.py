"""The fields of a page that shows one thing: its heading, values beside labels, table cells below headings, and what is
marked by name."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice

from wadi.learn.clues.class_names import names
from wadi.learn.clues.column_names import name_for
from wadi.learn.clues.field_guess import FieldGuess, named_apart
from wadi.learn.clues.labels import Labels, labels_of_page
from wadi.learn.clues.spots import has_words, spots_of
from wadi.learn.clues.surroundings import is_aside, main_part
from wadi.learn.clues.ways import Way
from wadi.learn.first_look.fields import Reading, field_guess, is_made_by, labelled_fields, readings, way_to_element
from wadi.page.document import Document
from wadi.page.nodes import Element, ancestors, children, elements, has_children, parent
from wadi.page.text import text_of

_MOST_FIELDS, _MOST_HEADINGS = 40, 2
_LONGEST_VALUE = 400
_NAMED_COST = 1.0
"""Ways that cost less go by names that people gave."""
_FURTHER = frozenset({"img", "time", "meter", "data"})


def page_fields(document: Document, language: str = "") -> list[FieldGuess]:
    """The fields of a page that shows one thing; none where nothing on it is named."""
    main = main_part(document)
    labels = labels_of_page(main)
    found = [guess for _, guess, _ in labelled_fields(labels, language) if guess is not None]
    found += _of_lone_rows(document, main, language, {guess.name for guess in found})
    named = list(_named(document, main, labels, language))
    known = {sample for guess in found for sample in guess.samples}
    found += [guess for guess in named if not set(guess.samples) <= known]
    titles = list(_headings(document, main))
    if titles and (found or titles[0].cost < _NAMED_COST):
        said = {title.samples for title in titles}
        found = [*titles, *(guess for guess in found if guess.samples not in said or guess.attribute)]
    return named_apart(found[:_MOST_FIELDS])


def _headings(document: Document, main: Element) -> Iterator[FieldGuess]:
    """What the page is about: its headings of the first level in the main part, as a rule one; those of the second where it
    has none."""
    headings: list[Element] = list(elements(main, "h1")) or list(elements(main, "h2"))[:1]
    for heading in headings[:_MOST_HEADINGS]:
        text = text_of(heading)
        way = way_to_element(document, heading) if text and not is_aside(heading) else None
        if way is not None:
            yield field_guess(way, Reading([text], 0.0), "name", "")


def _of_lone_rows(document: Document, main: Element, language: str, known: set[str]) -> Iterator[FieldGuess]:
    """The cells of tables that have one row below their headings, by these."""
    for table in elements(main, "table"):
        rows = [row for row in elements(table, "tr") if next(ancestors(row, "table"), None) == table]
        if len(rows) != 2 or not all(cell.tag == "th" for cell in children(rows[0])) or is_aside(table):
            continue
        heads, cells = children(rows[0]), children(rows[1])
        for head, cell in zip(heads, cells, strict=False):
            name, text = text_of(head), text_of(cell)
            way = way_to_element(document, cell) if name and text and name not in known else None
            if way is not None:
                yield field_guess(way, Reading([text], 0.0), name, language)


def _named(document: Document, main: Element, labels: Labels, language: str) -> Iterator[FieldGuess]:
    """What stands at places that have a name of their own, and does not repeat."""
    for spot in islice(spots_of([main]), _MOST_FIELDS * 3):
        element = spot.example
        if (
            is_aside(element)
            or element == main
            or (labels.values and is_made_by(labels, spot))
            or _repeats(element, main)
        ):
            continue
        way = way_to_element(document, element)
        if way is None or way.cost > _NAMED_COST + (0.4 if element.tag in _FURTHER else 0.0):
            continue
        for reading in readings([main], spot):
            is_name = bool(names(element)) or way.cost < _NAMED_COST or reading.attribute is not None
            if (
                is_name
                and len(reading.texts[0]) <= _LONGEST_VALUE
                and not (reading.attribute == "href" and element.tag == "a")
            ):
                yield field_guess(way, reading, name_for(element, reading.attribute, way.label, ()), language)
    for element in elements(main):
        for name in element.attrs:
            if (
                name.startswith("data-")
                and element.attr("id")
                and has_words(element.attr(name) or "")
                and not is_aside(element)
            ):
                way = Way(f"#{element.attr('id')}", 0.2, "its id")
                yield field_guess(
                    way, Reading([element.attr(name) or ""], 0.0, name), name.removeprefix("data-"), language
                )


def _repeats(element: Element, main: Element) -> bool:
    """Whether an element stands in one of several alike siblings, such as a list of what is near."""
    for upper in [element, *ancestors(element)]:
        above = parent(upper)
        if upper == main or above is None:
            return False
        alike = [s for s in children(above, upper.tag) if s.attr("class") == upper.attr("class")]
        if len(alike) > 2 and has_children(upper):
            return True
    return False
