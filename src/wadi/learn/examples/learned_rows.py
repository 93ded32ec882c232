"""Rows learned from values that stand together in them: the set of alike siblings whose members hold the examples.

Of all sets of siblings, those count in whose members the values of one example stand together, another member for each
example. The one that holds the most values, and of several the one whose members are most alike (`rows`), has the rows.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import islice

from wadi.learn.examples.sightings import Sighting
from wadi.learn.first_look.rows import RowSet, RowsGuess, as_guess, measured_set, row_sets
from wadi.page.document import Document
from wadi.page.nodes import Element, ancestors, following, parent, preceding

Example = Mapping[str, str]
"""What a person sees in one record: column → value, as the page shows it or in a plain form."""
Seen = Mapping[str, Sequence[Sighting]]
"""Value → where it stands on a page."""
_MOST_SETS, _BEHIND, _MOST_HUNG = 12, 3, 1000
_NEARLY, _ABOUT = 0.05, 0.35
"""Values in attributes and parts of texts weigh a little less: differences that do not count, and that may be outweighed."""
_Held = Mapping[int, Mapping[Element, Mapping[str, float]]]


@dataclass(slots=True)
class Fit:
    """How examples fit into a set of siblings: the row of each (None: none holds it), and how many of its values stand there."""

    rows: list[Element | None]
    held: float


def learned_rows(
    document: Document,
    examples: Sequence[Example],
    seen: Seen,
    *,
    excluded: Sequence[Element] = (),
    count: int | None = None,
) -> Iterator[tuple[RowsGuess, Fit]]:
    """Rows that hold the examples, the likeliest first. Rows around `excluded` elements are none; `count` is how many there
    should be."""
    sets = row_sets(document)
    fits = _fits(examples, seen, sets)
    most = max((fit.held for fit in fits.values()), default=0.0)
    best = sorted((number for number, fit in fits.items() if fit.held >= most / 2), key=lambda n: -fits[n].held)
    chosen: list[tuple[tuple[float, ...], RowSet, Fit]] = []
    for number in best[:_MOST_SETS]:
        keep = [row for row in fits[number].rows if row is not None]
        measured = measured_set(document, sets[number], keep=keep, without=excluded)
        if measured is not None:
            is_counted = count is not None and len(measured.elements) == count
            held = fits[number].held
            is_near = (held >= most - _NEARLY, held >= most - _ABOUT)
            chosen.append(((is_counted and is_near[1], *is_near, measured.score), measured, fits[number]))
    for _, measured, fit in sorted(chosen, key=lambda one: one[0], reverse=True):
        if (guess := as_guess(document, measured)) is not None:
            yield guess, fit


def fit_into(rows: Sequence[Element], examples: Sequence[Example], seen: Seen) -> Fit:
    """How examples fit into given rows."""
    return _fits(examples, seen, [rows]).get(0, Fit([None] * len(examples), 0.0))


def _fits(examples: Sequence[Example], seen: Seen, sets: Sequence[Sequence[Element]]) -> dict[int, Fit]:
    member_of: dict[Element, list[int]] = defaultdict(list)
    for number, alike in enumerate(sets):
        for element in alike:
            member_of[element].append(number)
    held = [_held(example, seen, member_of) for example in examples]
    found = {number: _fit(number, held, sets[number]) for number in sorted(set().union(*held))} if held else {}
    return {number: fit for number, fit in found.items() if any(row is not None for row in fit.rows)}


def _held(example: Example, seen: Seen, member_of: Mapping[Element, Sequence[int]]) -> _Held:
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
    """The members of sets around an element, or before what is around it; the rows into which a cell hangs down."""
    for upper in [element, *ancestors(element)]:
        if upper.tag in ("td", "th") and (span := (upper.attr("rowspan") or "").strip()).isdecimal():
            row = parent(upper)
            below = islice(following(row), min(int(span), _MOST_HUNG) - 1) if row is not None and int(span) > 1 else ()
            yield from ((other, number) for other in below for number in member_of.get(other, ()))
        own = member_of.get(upper, ())
        yield from ((upper, number) for number in own)
        for _, before in zip(range(_BEHIND), preceding(upper), strict=False):
            yield from ((before, number) for number in member_of.get(before, ()) if number not in own)


def _fit(number: int, held: Sequence[_Held], members: Sequence[Element]) -> Fit:
    """The members of a set that hold the examples, each another: the one with the most values, in reading order."""
    taken: list[Element | None] = []
    total = 0.0
    for own in held:
        fields_of = own.get(number, {})
        free = [(sum(fields.values()), member) for member, fields in fields_of.items() if member not in taken]
        best = max((worth for worth, _ in free), default=0.0)
        order = {member: place for place, member in enumerate(members)} if len(free) > 1 else {}
        ties = [member for worth, member in free if worth >= best - 1e-9]
        taken.append(min(ties, key=lambda member: order.get(member, 0)) if ties else None)
        total += best
    return Fit(taken, total)
