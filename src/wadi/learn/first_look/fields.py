"""Candidate fields of rows: expressions relative to a row, how many rows have them, samples, name and type."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from wadi.clean.text import tidied
from wadi.learn.clues.column_names import name_for
from wadi.learn.clues.field_guess import FieldGuess, named_apart
from wadi.learn.clues.labels import Labels, labels_of_rows
from wadi.learn.clues.spots import WORDY, Spot, has_words, spots_of
from wadi.learn.clues.types import STRING, guessed_type
from wadi.learn.clues.ways import Way, heading_of, leads_to, ways_to
from wadi.page.document import Document
from wadi.page.nodes import Element, children, elements
from wadi.page.text import direct_text_of, text_of
from wadi.plan.model import MISSING_TEXTS

_MOST_ROWS, _FEWEST_ROWS, _MOST_ELEMENTS = 60, 8, 15_000
_MOST_FIELDS = 40
_LEAST_SHARE = 0.1
_AGREEMENT = 0.95
_ATTRIBUTES = ("href", "src", "datetime", "value", "content", "alt", "title")
_INLINE = frozenset("b i em strong small br wbr sup sub mark abbr u s font code span a".split())
_MOST_TRIED = 24


@dataclass(frozen=True, slots=True)
class Reading:
    """What can be taken at a place: the text or an attribute, row by row ("" where there is none)."""

    texts: list[str]
    several: float
    attribute: str | None = None
    take: str = ""


def rows_read(rows: Sequence[Element]) -> list[Element]:
    """The rows in which fields are looked for, of whose number shares are: the first 60, and of large ones fewer."""
    read: list[Element] = []
    held = 0
    for row in rows[:_MOST_ROWS]:
        held += sum(1 for _ in elements(row))
        if len(read) >= _FEWEST_ROWS and held > _MOST_ELEMENTS:
            break
        read.append(row)
    return read


def field_candidates(
    document: Document,
    rows: Sequence[Element],
    language: str = "",
    behind: Mapping[Element, Sequence[Element]] | None = None,
) -> list[FieldGuess]:
    """The fields that the first rows have, in the order in which they stand; at most 40. `language` is the
    page's, `behind` what stands behind a row and belongs to it."""
    read = rows_read(rows)
    found: list[FieldGuess] = []
    seen: set[tuple[str, ...]] = set()
    for name in _row_attributes(read):
        texts = [tidied(row.attr(name) or "") for row in read]
        _add(found, seen, _guess(Way("."), Reading(texts, 0.0, name), name.removeprefix("data-"), language), texts)
    labels = labels_of_rows(read) if document.kind == "html" else Labels()
    of_labels = {label: (guess, texts) for label, guess, texts in labelled_fields(labels, language)}
    for spot in spots_of(read, behind):
        if len(found) >= _MOST_FIELDS:
            break
        is_labelled = bool(labels.values) and is_made_by(labels, spot)
        for label in _labels_valued_in(labels, spot) if is_labelled else ():
            if label in of_labels:
                _add(found, seen, *of_labels.pop(label))
        way: Way | None = None
        for reading in readings(read, spot):
            if is_labelled and reading.attribute is None:
                continue
            way = way or way_to_spot(document, read, spot)
            if way is None:
                break
            texts = reading.texts
            beside = (
                next((words for words, (_, its) in of_labels.items() if its == texts), "")
                if reading.attribute is None
                else ""
            )
            name = beside or name_for(spot.example, reading.attribute, way.label, read)
            _add(found, seen, _guess(way, reading, name, language), texts)
    for guess, texts in of_labels.values():
        _add(found, seen, guess, texts)
    return named_apart(_with_dull_columns(found, read, language)[:_MOST_FIELDS])


def _with_dull_columns(found: list[FieldGuess], rows: Sequence[Element], language: str) -> list[FieldGuess]:
    """The fields of a table's rows with those columns among them that have a heading, and are blank or the same in all rows of
    this page: on others they may not be."""
    width = max((len(children(row)) for row in rows if row.tag == "tr"), default=0)
    if not width or not all(row.tag == "tr" for row in rows):
        return found
    dull: list[FieldGuess] = []
    for place in range(1, width + 1):
        cells = [cells[place - 1] if len(cells := children(row)) >= place else None for row in rows]
        name = next((heading_of(cell, rows) for cell in cells if cell is not None), "")
        texts = [text_of(cell) if cell is not None else "" for cell in cells]
        filled = sorted({text for text in texts if text not in MISSING_TEXTS})
        if name and len(rows) > 3 and len(filled) < 2 and not any(field.name == name for field in found):
            remark = "the same in all rows of this page" if filled else "blank on this page"
            share = sum(text in filled for text in texts) / len(texts)
            kind = guessed_type(filled, None, language) if filled else STRING
            dull.append(
                FieldGuess("", None, share, 0.0, tuple(filled), kind, name, remark=remark, under=name, cost=0.4)
            )
    return [*found, *dull]


def labelled_fields(labels: Labels, language: str) -> Iterator[tuple[str, FieldGuess | None, list[str]]]:
    """The labels with a field for each, None where it says nothing, and its texts."""
    for label, texts in labels.values.items():
        yield label, _guess(Way(label=label, cost=0.4), Reading(texts, 0.0), label, language), texts


def _labels_valued_in(labels: Labels, spot: Spot) -> Iterator[str]:
    for there in spot.elements.values():
        for element in there:
            yield from labels.valued_in(element)


def is_made_by(labels: Labels, spot: Spot) -> bool:
    """Whether what stands at a place is labels and their values."""
    elements = [element for found in spot.elements.values() for element in found]
    return sum(map(labels.make, elements)) >= len(elements) * _AGREEMENT


def _add(found: list[FieldGuess], seen: set[tuple[str, ...]], guess: FieldGuess | None, texts: list[str]) -> None:
    """Add a candidate unless another one, found before, has the same texts."""
    key = (guess.attribute or "", *texts) if guess and guess.attribute in ("href", "src") else tuple(texts)
    if guess is not None and key not in seen:
        seen.add(key)
        found.append(guess)


def _guess(way: Way, reading: Reading, name: str, language: str) -> FieldGuess | None:
    texts = reading.texts
    filled = [text for text in texts if text not in MISSING_TEXTS]
    share = len(filled) / len(texts)
    if share < _LEAST_SHARE or (len(set(filled)) == 1 and len(texts) > 3 and share > 0.6):
        return None
    return field_guess(way, reading, name, language)


def field_guess(way: Way, reading: Reading, name: str, language: str) -> FieldGuess:
    """A field that a way leads to, with what its texts tell."""
    texts = reading.texts
    filled = [text for text in texts if text not in MISSING_TEXTS]
    return FieldGuess(
        way.expression,
        reading.attribute,
        len(filled) / max(1, len(texts)),
        reading.several,
        tuple(dict.fromkeys(filled))[:3],
        guessed_type(filled, reading.attribute, language) if filled else STRING,
        name,
        way.label,
        1 < len(texts) == len(set(filled)),
        under=way.under,
        take=reading.take,
        cost=way.cost,
    )


def _row_attributes(rows: Sequence[Element]) -> list[str]:
    names = dict.fromkeys(name for row in rows for name in row.attrs)
    return [name for name in names if name.startswith("data-") or name in ("href", "id", "code", "itemid")]


def readings(rows: Sequence[Element], spot: Spot) -> Iterator[Reading]:
    """What can be taken at a place: the text, and attributes that say something."""
    several = sum(len(found) > 1 for found in spot.elements.values()) / len(rows)
    firsts = [spot.elements[n][0] if n in spot.elements else None for n in range(len(rows))]
    texts = [text_of(element) if element is not None else "" for element in firsts]
    take = "direct text" if _has_parts(spot) else ""
    if take:
        texts = [direct_text_of(element) if element is not None else "" for element in firsts]
    if any(texts):
        yield Reading(texts, several, None, take)
    others = {name for found in spot.elements.values() for name in found[0].attrs} if not any(texts) else set()
    names = sorted(name for name in others if name.startswith("data-") or name == "aria-label")
    for name in (*_ATTRIBUTES, *names):
        values = [tidied(element.attr(name) or "") if element is not None else "" for element in firsts]
        if any(values) and not (name in WORDY and (any(texts) or values == texts)):
            yield Reading(values, several, name)


def _has_parts(spot: Spot) -> bool:
    """Whether the place has a text of its own, and blocks with others below it, which are places themselves."""
    held = [found[0] for found in spot.elements.values()]
    parted = [
        e for e in held if any(child.tag not in _INLINE for child in children(e)) and has_words(direct_text_of(e))
    ]
    return len(parted) >= len(held) * _AGREEMENT


def way_to_element(document: Document, element: Element) -> Way | None:
    """The surest way from the top of a page to an element."""
    spot = Spot()
    spot.elements[0].append(element)
    return way_to_spot(document, [document.top], spot)


def way_to_spot(document: Document, rows: Sequence[Element], spot: Spot) -> Way | None:
    """The surest way that leads to a place in nearly every row."""
    number = next(iter(spot.elements))
    ways = ways_to(spot.elements[number][0], rows[number], rows)
    return next((way for way in ways[:_MOST_TRIED] if _agrees(document, rows, spot, way)), None)


def _agrees(document: Document, rows: Sequence[Element], spot: Spot, way: Way) -> bool:
    """Whether the first that a way leads to is the place itself, in nearly all rows, and nothing else where it is absent."""
    if way.expression == "." and not way.under:
        return True
    left = len(rows) * (1 - _AGREEMENT)
    for number, row in enumerate(rows):
        found = leads_to(way, row, document)
        wanted = spot.elements.get(number)
        if wanted:
            left -= found is None or found != wanted[0]
        else:
            left -= found is not None and not (isinstance(found, Element) and text_of(found) in MISSING_TEXTS)
        if left < 0:
            return False
    return True
