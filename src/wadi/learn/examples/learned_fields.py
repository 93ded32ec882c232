"""Fields learned from values that stand in some rows: all ways to the places of a value are tried on all rows.

What is right on the examples counts, then how well it survives changes of the page (`ways`), then in how many rows it finds
something, of the type that the examples have.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import islice
from typing import Any, Literal

from wadi.clean.text import tidied
from wadi.learn.clues.field_guess import FieldGuess
from wadi.learn.clues.labels import labels_of_page, labels_of_rows
from wadi.learn.clues.patterns import found_in, patterns_for
from wadi.learn.clues.sameness import folded, says
from wadi.learn.clues.types import STRING, guessed_type
from wadi.learn.clues.ways import Way, ways_to
from wadi.learn.examples.sightings import Sighting
from wadi.learn.first_look.fields import Reading, field_guess
from wadi.page.document import Document
from wadi.page.expressions import BadExpression
from wadi.page.nodes import Element, ancestors
from wadi.page.text import direct_text_of, text_of
from wadi.plan.model import MISSING_TEXTS

Rating = Literal["sure", "likely", "a guess"]
_MOST_WAYS, _MOST_SIGHTINGS, _MOST_FAIR, _MOST_PATTERNS = 40, 30, 4, 24
_UNSURE_COST, _GUESS_COST = 1.8, 3.0


@dataclass(frozen=True, slots=True)
class LearnedField:
    """A field with how sure it is, by what it is found (`why`), and the next best ways to say it. `rival` is one that gives the
    examples, too, and differs elsewhere; `filled` of `rows` rows have the field."""

    guess: FieldGuess
    rating: Rating
    why: str
    others: tuple[FieldGuess, ...] = ()
    rival: str = ""
    filled: int = 0
    rows: int = 0

    @property
    def reason(self) -> str:
        """By what it is found, and what might be meant in its place."""
        return f"{self.why}; {self.rival} gives the examples, too, and differs elsewhere" if self.rival else self.why


@dataclass(frozen=True, slots=True)
class Scopes:
    """Where ways are tried: rows, or the tops of several pages of one kind, each with its document; what stands behind a row
    and belongs to it; the language; folded texts that no field may have."""

    elements: Sequence[Element]
    documents: Sequence[Document]
    behind: Mapping[Element, Sequence[Element]] = field(default_factory=dict)
    language: str = ""
    forbidden: frozenset[str] = frozenset()

    def parts(self, place: int) -> list[Element]:
        """The element of a scope, and what stands behind it."""
        return [self.elements[place], *self.behind.get(self.elements[place], ())]


@dataclass(frozen=True, slots=True)
class Wanted:
    """A value that a field should have in a scope, and where it stands there."""

    place: int
    value: str
    sightings: Sequence[Sighting]


def wanted_in(scopes: Scopes, place: int, value: str, sightings: Sequence[Sighting]) -> Wanted:
    """A value with those of its places that lie in a scope."""
    parts = scopes.parts(place)
    inside = [one for one in sightings if any(part == one.element or part in ancestors(one.element) for part in parts)]
    return Wanted(place, value, sorted(inside, key=lambda one: one.cost)[:_MOST_SIGHTINGS])


@dataclass(frozen=True, slots=True)
class _Take:
    """What is taken at the end of a way."""

    way: Way
    attribute: str = ""
    take: str = ""

    def texts(self, scopes: Scopes, place: int) -> list[str]:
        """The texts of all that the way picks in a scope. Raises BadExpression."""
        nodes = self.way.nodes(scopes.elements[place], scopes.documents[place])
        return [self._taken(node) for node in nodes]

    def first(self, scopes: Scopes, place: int) -> str:
        try:
            return next(iter(self.texts(scopes, place)), "")
        except BadExpression:
            return ""

    def _taken(self, node: Any) -> str:
        if not isinstance(node, Element):
            return str(node)
        if self.attribute:
            return tidied(node.attr(self.attribute) or "")
        return direct_text_of(node) if self.take else text_of(node)


@dataclass(frozen=True, slots=True)
class _Candidate:
    """One way to read a field: its texts row by row, and what it costs."""

    way: Way
    reading: Reading
    find: str
    cost: float


def learned_field(name: str, wanted: Sequence[Wanted], scopes: Scopes, *, least: float = 1.0) -> LearnedField | None:
    """The best way to read a field in all scopes, with the next ones; None where nothing gives at least that share of the
    values."""
    first = next((one for one in wanted if one.sightings), None)
    if first is None:
        return None
    found = [one for sighting in first.sightings for one in _candidates(sighting, first, wanted, scopes, least)]
    fair = [one for one in found if not scopes.forbidden & set(map(folded, one.reading.texts))]
    ranked = sorted(fair, key=lambda one: (one.cost, len(one.way.expression)))
    return _rated(name, ranked, len(wanted), scopes.language) if ranked else None


def many_field(
    name: str, wanted: Sequence[tuple[int, list[str]]], scopes: Scopes, seen: Mapping[str, list[Sighting]]
) -> Way | None:
    """The surest way that picks all of several values in most scopes, each in an element of its own."""
    place, values = wanted[0]
    inside = wanted_in(scopes, place, values[0], seen.get(values[0], ())).sightings
    for sighting in inside:
        for way in ways_to(sighting.element, scopes.elements[place])[:_MOST_WAYS]:
            take = _Take(way)
            good = sum([folded(text) for text in _all(take, scopes, n)] == list(map(folded, own)) for n, own in wanted)
            if good * 4 >= len(wanted) * 3:
                return way
    return None


def _all(take: _Take, scopes: Scopes, place: int) -> list[str]:
    try:
        return take.texts(scopes, place)
    except BadExpression:
        return []


def _candidates(
    sighting: Sighting, first: Wanted, wanted: Sequence[Wanted], scopes: Scopes, least: float
) -> Iterator[_Candidate]:
    """The ways from a scope to a place that give the values."""
    ways = [
        *_by_label(sighting, first, scopes),
        *ways_to(sighting.element, scopes.elements[first.place], scopes.elements),
    ]
    left = _MOST_FAIR
    for way in sorted(ways, key=lambda way: way.cost)[:_MOST_WAYS]:
        is_of_label = bool(way.label) and not way.expression
        take = _Take(way) if is_of_label else _Take(way, sighting.attribute, sighting.take)
        given = [one for one in wanted if _gives(take, one, scopes, is_part=sighting.how == "part")]
        if len(given) < max(1.0, len(wanted) * least):
            continue
        reading = _reading(take, scopes)
        for find, texts in _found(reading.texts, given, scopes.language):
            read = replace(reading, texts=texts)
            place_cost = 0.0 if is_of_label else sighting.cost
            yield _Candidate(way, read, find, way.cost + place_cost + _misfit(read, given, scopes.language))
            left -= 1
        if left <= 0:
            return


def _by_label(sighting: Sighting, first: Wanted, scopes: Scopes) -> Iterator[Way]:
    """By a label in the scopes beside which the value stands."""
    document = scopes.documents[first.place]
    if document.kind != "html" or sighting.attribute not in ("", "value"):
        return
    labels = document.cached(("labels of scopes", *scopes.elements[:2], len(scopes.elements)), lambda: _labels(scopes))
    for label, texts in labels.items():
        if folded(first.value) in folded(texts[first.place]):
            yield Way(label=label, cost=0.5, by="its label")


def _labels(scopes: Scopes) -> dict[str, list[str]]:
    if scopes.elements[0] == scopes.documents[0].top:
        own = [labels_of_page(top).values for top in scopes.elements]
        names = dict.fromkeys(name for labels in own for name in labels)
        return {name: [next(iter(labels.get(name, [""])), "") for labels in own] for name in names}
    return labels_of_rows(scopes.elements, every=True).values


def _gives(take: _Take, wanted: Wanted, scopes: Scopes, *, is_part: bool) -> bool:
    """Whether a way gives a value, or a text that it is a part of."""
    text = take.first(scopes, wanted.place)
    return _is_value(text, wanted.value, take.attribute, scopes.language) or (
        is_part and folded(wanted.value) in folded(text)
    )


def _is_value(text: str, value: str, attribute: str, language: str) -> bool:
    if folded(text) == folded(value) or says(text, value, language):
        return True
    path = value.partition("://")[2].partition("/")[2] or value
    return attribute in ("href", "src") and bool(text) and (text.endswith(path) or path.endswith(text.lstrip("./")))


def _reading(take: _Take, scopes: Scopes) -> Reading:
    """What a way gives in all scopes."""
    found = [_all(take, scopes, place) for place in range(len(scopes.elements))]
    several = sum(len(texts) > 1 for texts in found) / len(found)
    return Reading([texts[0] if texts else "" for texts in found], several, take.attribute or None, take.take)


def _found(texts: list[str], wanted: Sequence[Wanted], language: str) -> Iterator[tuple[str, list[str]]]:
    """The texts as they are, where they are the values; else what patterns take out of them, the two that find the most."""
    if all(
        folded(texts[one.place]) == folded(one.value) or says(texts[one.place], one.value, language) for one in wanted
    ):
        yield "", texts
        return
    if not all(folded(one.value) in folded(texts[one.place]) for one in wanted):
        yield "", texts  # an address in another form
        return
    patterns = islice(patterns_for([(texts[one.place], one.value) for one in wanted]), _MOST_PATTERNS)
    found = [(pattern, [found_in(pattern, text) for text in texts]) for pattern in patterns]
    yield from sorted(found, key=lambda one: -sum(map(bool, one[1])))[:2]


def _misfit(reading: Reading, wanted: Sequence[Wanted], language: str) -> float:
    """What is to be said against a reading: rows in which it finds nothing or several, values of another type than the
    examples'."""
    texts = reading.texts
    filled = [text for text in texts if text not in MISSING_TEXTS]
    found = (1 - len(filled) / len(texts)) + 0.3 * reading.several
    examples = guessed_type([texts[one.place] for one in wanted], reading.attribute, language)
    if examples.type not in ("string", "boolean") and guessed_type(filled, reading.attribute, language) == STRING:
        found += 1.5
    return found


def _rated(name: str, ranked: Sequence[_Candidate], examples: int, language: str) -> LearnedField:
    """The best candidate with how sure it is, and the best ones that say it otherwise."""
    best = ranked[0]
    others: dict[tuple[str, str, str], _Candidate] = {}
    for one in ranked[1:]:
        others.setdefault((one.way.expression, one.way.label, one.way.under), one)
    others.pop((best.way.expression, best.way.label, best.way.under), None)
    rival = next(
        (one for one in ranked if one.reading.texts != best.reading.texts and one.cost < best.cost + 0.5), None
    )
    guess = _guess(best, name, language)
    further = tuple(_guess(one, name, language) for one in islice(others.values(), 2))
    why = f"by {best.way.by}" + (", a part of the text" if best.find else "")
    said = (rival.way.expression or rival.way.label or rival.way.under) if rival is not None else ""
    texts = best.reading.texts
    filled = sum(text not in MISSING_TEXTS for text in texts)
    return LearnedField(guess, "a guess" if said else _how_sure(best, examples), why, further, said, filled, len(texts))


def _guess(one: _Candidate, name: str, language: str) -> FieldGuess:
    guess = field_guess(one.way, one.reading, name, language)
    if one.find:
        kind = guess.type if guess.type.find is None else STRING
        guess = replace(guess, type=replace(kind, find=one.find))
    return guess


def _how_sure(best: _Candidate, examples: int) -> Rating:
    if best.cost < _UNSURE_COST and examples > 1:
        return "sure"
    return "likely" if best.cost < _GUESS_COST else "a guess"
