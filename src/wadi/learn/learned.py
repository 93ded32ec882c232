"""Rows and fields learned from values that a person sees in a record or two.

Method. (1) Every place where a value of the examples stands is looked up (`sightings`). (2) Of all sets of alike siblings,
those count in whose members the values of one example stand together, another member for each example; the one that holds the
most values, whose members are most alike, has the rows. (3) For each field all ways to the places of its values are tried on
all rows (`ways`); what is right on every example counts, then how well it survives changes, then in how many rows it finds
something of the same type. (4) Where no set of siblings holds an example, the page is about one thing, and fields are learned
for the page.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import islice
from typing import Any, Literal

from wadi.clean.text import tidied
from wadi.learn.field_guess import FieldGuess
from wadi.learn.fields import ROWS_READ, Reading, field_guess
from wadi.learn.labels import labels_of_page, labels_of_rows
from wadi.learn.patterns import found_in, patterns_for
from wadi.learn.rows import RowSet, RowsGuess, as_guess, measured_set, row_sets
from wadi.learn.sameness import folded, says
from wadi.learn.sightings import Sighting, sightings_of
from wadi.learn.types import STRING, guessed_type
from wadi.learn.ways import Way, ways_to
from wadi.page.document import Document
from wadi.page.expressions import BadExpression
from wadi.page.nodes import Element, ancestors, preceding
from wadi.page.text import direct_text_of, text_of
from wadi.plan.model import MISSING_TEXTS

Example = Mapping[str, str]
"""What a person sees in one record: column → value, as the page shows it or in a plain form."""
Rating = Literal["sure", "likely", "a guess"]
_MOST_WAYS, _MOST_SIGHTINGS, _MOST_FAIR = 40, 30, 4
_MOST_SETS, _MOST_PATTERNS = 12, 24
_BEHIND = 3
_UNSURE_COST, _GUESS_COST = 1.8, 3.0
_ALIKE = 0.5


@dataclass(frozen=True, slots=True)
class LearnedField:
    """A field with how sure it is and why, and the next best ways to say it."""

    guess: FieldGuess
    rating: Rating
    why: str
    others: tuple[FieldGuess, ...] = ()


@dataclass(frozen=True, slots=True)
class Learned:
    """What was learned: the rows (None where the page is about one thing), and the fields in the order of the examples;
    `unseen` are values that stand nowhere on the page, by column."""

    rows: RowsGuess | None
    fields: tuple[LearnedField, ...]
    unseen: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class _Candidate:
    """One way to read a field: its texts row by row, and what it costs."""

    way: Way
    reading: Reading
    find: str
    cost: float

    @property
    def texts(self) -> list[str]:
        return self.reading.texts


def learn(
    document: Document,
    examples: Sequence[Example],
    *,
    without: Sequence[str] = (),
    count: int | None = None,
    language: str = "",
) -> Learned | None:
    """What gives the examples, on a page of HTML or XML; None where no value stands on the page. `without` are texts that no
    row and no field may have, `count` is how many rows there should be."""
    values = [value for example in examples for value in example.values()]
    seen = sightings_of(document, [*values, *without], language)
    unseen = {name: value for example in examples for name, value in example.items() if not seen.get(value)}
    known = [{name: value for name, value in example.items() if value not in unseen.values()} for example in examples]
    known = [example for example in known if example]
    if not known:
        return None
    excluded = [sighting.element for text in without for sighting in seen[text]]
    found = _as_rows(document, known, seen, excluded, count, language)
    names = list(dict.fromkeys(name for example in known for name in example))
    if found is None:
        fields = _page_fields(document, known[0], seen, language)
        return Learned(None, fields, unseen) if fields else None
    rows, its_rows = found
    scopes = _sample(rows, its_rows)
    learned = [_field(document, name, known, its_rows, scopes, rows, seen, without, language) for name in names]
    return Learned(rows, tuple(one for one in learned if one is not None), unseen)


# -- rows


@dataclass(slots=True)
class _Fit:
    """How examples fit into a set of siblings: the row of each (None: none holds it), and how many of its values stand there."""

    rows: list[Element | None]
    held: float


def _as_rows(
    document: Document,
    examples: Sequence[Example],
    seen: Mapping[str, list[Sighting]],
    excluded: Sequence[Element],
    count: int | None,
    language: str,
) -> tuple[RowsGuess, list[Element | None]] | None:
    """The rows that hold the examples, and the row of each example; None where the page is about one thing."""
    sets = row_sets(document)
    member_of: dict[Element, list[int]] = defaultdict(list)
    for number, alike in enumerate(sets):
        for element in alike:
            member_of[element].append(number)
    places = [_places(example, seen, member_of) for example in examples]
    fits = {number: fit for number in set().union(*places) if (fit := _fit(number, examples, places, sets)) is not None}
    if not fits:
        return None
    most = max(fit.held for fit in fits.values())
    wanted = sum(map(len, examples))
    best = sorted((number for number, fit in fits.items() if fit.held >= most - 0.35), key=lambda n: -fits[n].held)
    chosen: list[tuple[tuple[float, ...], RowSet, _Fit]] = []
    for number in best[:_MOST_SETS]:
        held_rows = [row for row in fits[number].rows if row is not None]
        measured = measured_set(document, sets[number], keep=held_rows, without=excluded)
        if measured is not None:
            is_counted = count is not None and len(measured.elements) == count
            chosen.append(((is_counted, fits[number].held >= most - 0.05, measured.score), measured, fits[number]))
    for _, measured, fit in sorted(chosen, key=lambda one: one[0], reverse=True):
        guess = as_guess(document, measured)
        if guess is None or (len(examples) == 1 and most < wanted - 0.5 * wanted):
            continue
        if len(examples) > 1 or _are_alike(document, examples, fit, guess, seen, language):
            return guess, fit.rows
    return None


def _places(
    example: Example, seen: Mapping[str, list[Sighting]], member_of: Mapping[Element, Sequence[int]]
) -> dict[int, dict[Element, dict[str, float]]]:
    """Set → member → field → how well its value stands there (1 for a text that is the value)."""
    found: dict[int, dict[Element, dict[str, float]]] = defaultdict(lambda: defaultdict(dict))
    for name, value in example.items():
        for sighting in seen[value]:
            worth = 1.0 - 0.1 * sighting.cost
            for member, number in _members(sighting.element, member_of):
                fields = found[number][member]
                fields[name] = max(fields.get(name, 0.0), worth)
    return found


def _members(element: Element, member_of: Mapping[Element, Sequence[int]]) -> Iterator[tuple[Element, int]]:
    """The members of sets around an element, or before what is around it."""
    for upper in [element, *ancestors(element)]:
        yield from ((upper, number) for number in member_of.get(upper, ()))
        for _, before in zip(range(_BEHIND), preceding(upper), strict=False):
            yield from (
                (before, number) for number in member_of.get(before, ()) if number not in member_of.get(upper, ())
            )


def _fit(
    number: int,
    examples: Sequence[Example],
    places: Sequence[Mapping[int, Mapping[Element, Mapping[str, float]]]],
    sets: Sequence[Sequence[Element]],
) -> _Fit | None:
    """The members of a set that hold the examples, each another: the one with the most values, in reading order."""
    taken: list[Element | None] = []
    held = 0.0
    for own in places:
        members = own.get(number, {})
        free = [(sum(fields.values()), member) for member, fields in members.items() if member not in taken]
        best = max((worth for worth, _ in free), default=0.0)
        order = {member: place for place, member in enumerate(sets[number])} if len(free) > 1 else {}
        ties = [member for worth, member in free if worth >= best - 1e-9]
        taken.append(min(ties, key=lambda member: order.get(member, 0)) if ties else None)
        held += best
    return _Fit(taken, held) if any(row is not None for row in taken) else None


def _are_alike(
    document: Document,
    examples: Sequence[Example],
    fit: _Fit,
    guess: RowsGuess,
    seen: Mapping[str, list[Sighting]],
    language: str,
) -> bool:
    """Whether most other rows have what a single example has; where they do not, the page is about one thing."""
    scopes = _sample(guess, fit.rows)
    fields = [_field(document, name, examples, fit.rows, scopes, guess, seen, (), language) for name in examples[0]]
    count = len(scopes)
    others = [(one.guess.share * count - 1) / (count - 1) for one in fields if one is not None] if count > 1 else []
    return len(others) * 2 > len(examples[0]) and sum(others) / len(others) >= _ALIKE


def _sample(guess: RowsGuess, its_rows: Sequence[Element | None]) -> list[Element]:
    """The rows on which ways are tried: the first, and those of the examples."""
    first = list(guess.rows[:ROWS_READ])
    return [*first, *(row for row in its_rows if row is not None and row not in first)]


# -- fields


def _field(
    document: Document,
    name: str,
    examples: Sequence[Example],
    its_rows: Sequence[Element | None],
    scopes: Sequence[Element],
    rows: RowsGuess | None,
    seen: Mapping[str, list[Sighting]],
    without: Sequence[str],
    language: str,
) -> LearnedField | None:
    """The best way to read a field in all rows, with the next ones; None where nothing gives the examples."""
    wanted = [
        (scopes.index(row), example[name])
        for example, row in zip(examples, its_rows, strict=True)
        if row is not None and name in example
    ]
    candidates: list[_Candidate] = []
    for place, value in wanted[:1]:
        behind = [scopes[place], *(rows.behind.get(scopes[place], ()) if rows is not None else ())]
        inside = [s for s in seen[value] if any(top == s.element or top in ancestors(s.element) for top in behind)]
        for sighting in sorted(inside, key=lambda one: one.cost)[:_MOST_SIGHTINGS]:
            candidates += _candidates(document, sighting, place, wanted, scopes, language)
    forbidden = {folded(text) for text in without}
    fair = [one for one in candidates if not forbidden & set(map(folded, one.texts))]
    ranked = sorted(fair, key=lambda one: (one.cost, len(one.way.expression)))
    return _rated(name, ranked, len(wanted), language) if ranked else None


def _candidates(
    document: Document,
    sighting: Sighting,
    place: int,
    wanted: Sequence[tuple[int, str]],
    scopes: Sequence[Element],
    language: str,
) -> Iterator[_Candidate]:
    """The ways from the rows to a place that give the values of all examples."""
    row = scopes[place]
    ways = [*_ways_by_label(row, sighting, wanted, scopes, document), *ways_to(sighting.element, row, scopes)]
    left = _MOST_FAIR
    for way in sorted(ways, key=lambda way: way.cost)[:_MOST_WAYS]:
        is_of_label = bool(way.label) and not way.expression
        attribute, take = ("", "") if is_of_label else (sighting.attribute, sighting.take)
        if not _gives(way, attribute, take, wanted, scopes, document, language, is_part=sighting.how == "part"):
            continue
        reading = _reading(way, attribute, take, scopes, document)
        if reading is None:
            continue
        for find, texts in _found(reading.texts, wanted, language):
            read = replace(reading, texts=texts)
            place_cost = 0.0 if is_of_label else sighting.cost
            yield _Candidate(way, read, find, way.cost + place_cost + _misfit(read, wanted, language))
            left -= 1
        if left <= 0:
            return


def _ways_by_label(
    row: Element, sighting: Sighting, wanted: Sequence[tuple[int, str]], scopes: Sequence[Element], document: Document
) -> Iterator[Way]:
    """By a label in the rows beside which the value stands."""
    if document.kind != "html" or sighting.attribute not in ("", "value"):
        return
    labels = document.cached(("labels of rows", row, len(scopes)), lambda: _labels(row, scopes))
    place, value = wanted[0]
    for label, texts in labels.items():
        if folded(value) in folded(texts[place]):
            yield Way(label=label, cost=0.5, by="its label")


def _labels(row: Element, scopes: Sequence[Element]) -> dict[str, list[str]]:
    if len(scopes) == 1:
        return labels_of_page(row).values
    return labels_of_rows(scopes, every=True).values


def _gives(
    way: Way,
    attribute: str,
    take: str,
    wanted: Sequence[tuple[int, str]],
    scopes: Sequence[Element],
    document: Document,
    language: str,
    *,
    is_part: bool,
) -> bool:
    """Whether a way gives the values of the examples, or texts that they stand in."""
    for place, value in wanted:
        text = _text(way, attribute, take, scopes[place], document)
        plain = folded(text)
        if not (_is_value(text, value, attribute, document, language) or (is_part and folded(value) in plain)):
            return False
    return True


def _is_value(text: str, value: str, attribute: str, document: Document, language: str) -> bool:
    if folded(text) == folded(value) or says(text, value, language):
        return True
    return attribute in ("href", "src") and text.endswith(value.partition("://")[2].partition("/")[2] or value)


def _text(way: Way, attribute: str, take: str, row: Element, document: Document) -> str:
    try:
        found = way.nodes(row, document)
    except BadExpression:
        return ""
    return _taken(found[0], attribute, take) if found else ""


def _taken(node: Any, attribute: str, take: str) -> str:
    if not isinstance(node, Element):
        return str(node)
    if attribute:
        return tidied(node.attr(attribute) or "")
    return direct_text_of(node) if take else text_of(node)


def _reading(way: Way, attribute: str, take: str, scopes: Sequence[Element], document: Document) -> Reading | None:
    """What a way gives in all rows."""
    texts, several = [], 0
    for row in scopes:
        try:
            found = way.nodes(row, document)
        except BadExpression:
            return None
        texts.append(_taken(found[0], attribute, take) if found else "")
        several += len(found) > 1
    return Reading(texts, several / len(scopes), attribute or None, take)


def _found(texts: list[str], wanted: Sequence[tuple[int, str]], language: str) -> Iterator[tuple[str, list[str]]]:
    """The texts as they are, where they are the values; else what patterns take out of them, the two that find the most."""
    if all(folded(texts[place]) == folded(value) or says(texts[place], value, language) for place, value in wanted):
        yield "", texts
        return
    if not all(folded(value) in folded(texts[place]) for place, value in wanted):
        yield "", texts  # an address in another form
        return
    patterns = islice(patterns_for([(texts[place], value) for place, value in wanted]), _MOST_PATTERNS)
    found = [(pattern, [found_in(pattern, text) for text in texts]) for pattern in patterns]
    yield from sorted(found, key=lambda one: -sum(map(bool, one[1])))[:2]


def _misfit(reading: Reading, wanted: Sequence[tuple[int, str]], language: str) -> float:
    """What is to be said against a reading: rows in which it finds nothing or several, values of another type than the
    examples'."""
    texts = reading.texts
    filled = [text for text in texts if text not in MISSING_TEXTS]
    found = (1 - len(filled) / len(texts)) + 0.3 * reading.several
    examples = guessed_type([texts[place] for place, _ in wanted], reading.attribute, language)
    if examples.type not in ("string", "boolean") and guessed_type(filled, reading.attribute, language) == STRING:
        found += 1.5
    return found


def _rated(name: str, ranked: Sequence[_Candidate], examples: int, language: str) -> LearnedField:
    """The best candidate with how sure it is, and the best ones that say it otherwise."""
    best = ranked[0]
    others: list[_Candidate] = []
    for one in ranked[1:]:
        if (one.way.expression, one.way.label, one.way.under) != (
            best.way.expression,
            best.way.label,
            best.way.under,
        ) and all(one.way != other.way for other in others):
            others.append(one)
    rival = next((one for one in ranked if one.texts != best.texts and one.cost < best.cost + 0.5), None)
    guess = _guess(best, name, language)
    return LearnedField(
        guess, *_how_sure(best, guess, examples, rival), tuple(_guess(one, name, language) for one in others[:2])
    )


def _guess(one: _Candidate, name: str, language: str) -> FieldGuess:
    guess = field_guess(one.way, one.reading, name, language)
    if one.find:
        kind = guess.type if guess.type.find is None else STRING
        guess = replace(guess, type=replace(kind, find=one.find))
    return guess


def _how_sure(best: _Candidate, guess: FieldGuess, examples: int, rival: _Candidate | None) -> tuple[Rating, str]:
    rows = len(best.texts)
    by = f"by {best.way.by}" + (", a part of the text" if best.find else "")
    filled = sum(text not in MISSING_TEXTS for text in best.texts)
    why = f"{by}; in {filled} of {rows} rows"
    if rival is not None:
        return "a guess", f"{why}; {_said(rival)} gives the examples, too, and differs elsewhere"
    if best.cost < _UNSURE_COST and examples > 1:
        return "sure", why
    return ("likely" if best.cost < _GUESS_COST else "a guess"), why


def _said(one: _Candidate) -> str:
    return one.way.expression or one.way.label or one.way.under


# -- a page about one thing


def _page_fields(
    document: Document, example: Example, seen: Mapping[str, list[Sighting]], language: str
) -> tuple[LearnedField, ...]:
    """The fields of a page about one thing, by ways from its top."""
    top = document.top
    found = [_field(document, name, [example], [top], [top], None, seen, (), language) for name in example]
    return tuple(one for one in found if one is not None)
