"""Rows and fields learned from values that a person sees in a record or two.

Method. (1) Every place where a value of the examples stands is looked up (`sightings`). (2) The rows are the set of alike
siblings whose members hold the examples (`learned_rows`). (3) For each field all ways to the places of its values are tried
on all rows (`learned_fields`). (4) Where no set of siblings holds an example, the page is about one thing, and fields are
learned for the page.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from itertools import islice

from wadi.learn.clues.labels import are_labels_and_values
from wadi.learn.clues.sameness import folded
from wadi.learn.examples.learned_fields import LearnedField, Rating, Scopes, learned_field, wanted_in
from wadi.learn.examples.learned_outside import learned_outside
from wadi.learn.examples.learned_rows import Example, Fit, Seen, learned_rows
from wadi.learn.examples.sightings import sightings_of
from wadi.learn.first_look.fields import rows_read
from wadi.learn.first_look.rows import RowsGuess
from wadi.page.document import Document
from wadi.page.expressions import compile_expression
from wadi.page.grid import TooLargeTable, merged_cells
from wadi.page.nodes import Element, ancestors

_ALIKE = 0.5
_MOST_CANDIDATES = 6


@dataclass(frozen=True, slots=True)
class Learned:
    """What was learned: the rows (None where the page is about one thing), and the fields in the order of the examples;
    `unseen` are values that stand nowhere on the page, by column. `rating` is how sure the rows are, `held` how many examples
    stand in one each, `other_rows` the next best; `lost` are columns for which nothing was found, with why."""

    rows: RowsGuess | None
    fields: tuple[LearnedField, ...]
    unseen: Mapping[str, str] = field(default_factory=dict)
    rating: Rating = "likely"
    held: int = 0
    other_rows: RowsGuess | None = None
    lost: Mapping[str, str] = field(default_factory=dict)


def learn(
    document: Document,
    examples: Sequence[Example],
    *,
    without: Sequence[str] = (),
    count: int | None = None,
    language: str = "",
    also: Sequence[Document] = (),
) -> Learned | None:
    """What gives the examples, on a page of HTML or XML; None where no value stands on the page. `without` are texts that no
    row and no field may have, `count` is how many rows there should be, `also` are further pages of the same kind, on which
    fields should be found, too."""
    values = [value for example in examples for value in example.values()]
    seen = sightings_of(document, [*values, *without], language)
    unseen = {name: value for example in examples for name, value in example.items() if not seen.get(value)}
    known = [{name: value for name, value in example.items() if value not in unseen.values()} for example in examples]
    known = [example for example in known if example]
    if not known:
        return None
    excluded = [sighting.element for text in without for sighting in seen[text]]
    forbidden = frozenset(map(folded, without))
    best: tuple[RowsGuess, Fit, tuple[LearnedField, ...]] | None = None
    asked = list(dict.fromkeys(name for example in known for name in example))
    candidates = list(islice(learned_rows(document, known, seen, excluded=excluded, count=count), _MOST_CANDIDATES))
    counted = [one for one in candidates if one[0].count == count]
    for rows, fit in counted or candidates:
        if len(known) == 1 and are_labels_and_values(rows.rows):
            continue
        scopes = _with_rows_of(also, rows, row_scopes(document, rows, fit.rows, language, forbidden))
        fields = fields_in_rows(known, fit.rows, scopes, seen)
        outside = _with_outside(fields, asked, known, fit, rows, document, seen, language) if not also else fields
        in_headings = [one for one in outside if one.guess.source != "page"]
        if len(known) > 1 or _are_alike(known[0], fit, in_headings, len(scopes.elements)):
            if best is None or len(outside) > len(best[2]):
                best = rows, fit, outside
            if len(outside) == len(asked):
                break  # else the next rows may have more of what was asked for
    if best is not None:
        rows, fit, fields = best
        other = next((two for two, _ in candidates if set(two.rows) != set(rows.rows)), None)
        held = sum(row is not None for row in fit.rows)
        is_sure = held == len(known) > 1 and (count is None or count == rows.count) and len(fields) == len(asked)
        lost = {name: _why_lost(name, known, fit, seen) for name in asked if name not in {f.guess.name for f in fields}}
        return Learned(rows, fields, unseen, "sure" if is_sure else "likely", held, other, lost)
    tops, pages = [document.top, *(page.top for page in also)], [document, *also]
    fields = fields_in_rows(known[:1], [document.top], Scopes(tops, pages, {}, language, forbidden), seen)
    lost = {name: _NO_WAY for name in known[0] if name not in {field.guess.name for field in fields}}
    return Learned(None, fields, unseen, lost=lost) if fields else None


_NO_WAY = "no expression gives its value here"


def _with_outside(
    fields: tuple[LearnedField, ...],
    asked: Sequence[str],
    examples: Sequence[Example],
    fit: Fit,
    rows: RowsGuess,
    document: Document,
    seen: Seen,
    language: str,
) -> tuple[LearnedField, ...]:
    """The fields with those of values that stand outside of the rows, in the order in which they were asked for."""
    found = {one.guess.name: one for one in fields}
    for name in asked:
        given = [(row, e[name]) for e, row in zip(examples, fit.rows, strict=True) if row is not None and name in e]
        if name not in found and given:
            outside = learned_outside(name, given, rows.rows, document, seen[given[0][1]], language)
            found |= {name: outside} if outside is not None else {}
    return tuple(found[name] for name in asked if name in found)


def _why_lost(name: str, examples: Sequence[Example], fit: Fit, seen: Seen) -> str:
    """Why a column that was asked for is not in the plan."""
    for example, row in zip(examples, fit.rows, strict=True):
        if row is None or name not in example:
            continue
        inside = [one for one in seen[example[name]] if one.element == row or row in ancestors(one.element)]
        if not inside:
            where = ", ".join(dict.fromkeys(f"<{one.element.tag}>" for one in seen[example[name]][:3]))
            return f"{example[name]!r} stands outside of its row (in {where}), and no heading or place gives it"
    return "no one expression gives it in all records that were named"


def _with_rows_of(pages: Sequence[Document], rows: RowsGuess, scopes: Scopes) -> Scopes:
    """The rows of further pages as well."""
    elements, documents = list(scopes.elements), list(scopes.documents)
    for page in pages:
        found = compile_expression(rows.expression).nodes(page.scope, page)
        own = rows_read([row for row in found if isinstance(row, Element)])
        elements += own
        documents += [page] * len(own)
    return replace(scopes, elements=elements, documents=documents)


def row_scopes(
    document: Document,
    rows: RowsGuess,
    its_rows: Sequence[Element | None],
    language: str = "",
    forbidden: frozenset[str] = frozenset(),
) -> Scopes:
    """The rows on which ways are tried: the first, and those of the examples."""
    first = rows_read(rows.rows)
    elements = [*first, *(row for row in its_rows if row is not None and row not in first)]
    behind = dict(rows.behind)
    with suppress(TooLargeTable):
        for row, cells in merged_cells(elements).items():  # a cell that hangs down belongs to the rows below it, too
            behind[row] = [*behind.get(row, ()), *(cell for cell in cells if row not in ancestors(cell))]
    return Scopes(elements, [document] * len(elements), behind, language, forbidden)


def fields_in_rows(
    examples: Sequence[Example], its_rows: Sequence[Element | None], scopes: Scopes, seen: Seen
) -> tuple[LearnedField, ...]:
    """The fields that give all examples, in their order."""
    found = []
    for name in dict.fromkeys(name for example in examples for name in example):
        wanted = [
            wanted_in(scopes, scopes.elements.index(row), example[name], seen[example[name]])
            for example, row in zip(examples, its_rows, strict=True)
            if row is not None and name in example
        ]
        found.append(learned_field(name, wanted, scopes))
    return tuple(one for one in found if one is not None)


def _are_alike(example: Example, fit: Fit, fields: Sequence[LearnedField], rows: int) -> bool:
    """Whether a set holds at least half of a single example, and most other rows have what it has; where they do not, the page is
    about one thing."""
    others = [(one.guess.share * rows - 1) / (rows - 1) for one in fields] if rows > 1 else []
    is_held = fit.held * 2 >= len(example) and len(others) * 2 > len(example)
    return is_held and sum(others) / len(others) >= _ALIKE
