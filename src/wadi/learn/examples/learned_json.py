"""Rows and fields of JSON learned from values that a person sees in a record or two: of a document, or of data that a page
carries.

Method: of all lists and maps, the one in whose members the values of the examples stand, each example in another; for each
field the path at which every example's value stands, and of several the shortest.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any

from wadi.learn.clues.field_guess import FieldGuess
from wadi.learn.clues.sameness import folded, says
from wadi.learn.clues.types import guessed_type
from wadi.learn.examples.learned_fields import LearnedField, Rating
from wadi.learn.examples.learned_rows import Example
from wadi.learn.first_look.outline import JsonRows, json_rows, members_of, row_texts
from wadi.page.jsonpath import Step, pointed
from wadi.page.nodes import JsonNode

_DEEPEST, _MOST_MEMBERS = 8, 50


def learn_json(data: Any, examples: Sequence[Example]) -> tuple[JsonRows, tuple[LearnedField, ...]] | None:
    """The rows whose members have every value of the examples, and their fields; None where no list or map has them."""
    best: tuple[float, JsonRows, tuple[LearnedField, ...]] | None = None
    for rows in json_rows(data, 40):
        fields = _fields(rows, members_of(data, rows), examples)
        if fields is None:
            continue
        worth = rows.score + sum(one.guess.share for one in fields)
        if best is None or worth > best[0]:
            best = worth, rows, fields
    return best[1:] if best is not None else None


def _fields(
    rows: JsonRows, members: Sequence[JsonNode], examples: Sequence[Example]
) -> tuple[LearnedField, ...] | None:
    """The fields of the examples in these rows; None where a value of them stands in no member."""
    taken: list[int] = []
    paths: dict[str, set[str]] = {}
    for example in examples:
        fit = next(_fits(members, taken, example), None)
        if fit is None:
            return None
        taken.append(fit[0])
        for name, found in fit[1].items():
            paths[name] = paths[name] & found if name in paths else found
    if not all(paths.values()):
        return None
    known = {guess.expression or guess.source: guess for guess in rows.fields}
    fields = []
    for name, found in paths.items():
        there = [known[path] for path in known if path in found]
        if not there:
            return None
        others = tuple(replace(guess, name=name) for guess in there[1:3])
        rating: Rating = "sure" if len(examples) > 1 or len(there) == 1 else "likely"
        filled = round(there[0].share * rows.count)
        found_as = LearnedField(
            replace(there[0], name=name), rating, "by its key", others, filled=filled, rows=rows.count
        )
        fields.append(found_as)
    return tuple(fields)


def _fits(
    members: Sequence[JsonNode], taken: Sequence[int], example: Example
) -> Iterator[tuple[int, dict[str, set[str]]]]:
    """The members in which every value of an example stands: its number, and for each value the paths at which it does."""
    for place, member in enumerate(members):
        if place not in taken:
            found = {name: set(_with_value(member, value)) for name, value in example.items()}
            if all(found.values()):
                yield place, found


def _with_value(member: JsonNode, value: str) -> Iterator[str]:
    for path, text in row_texts(member):
        if (
            folded(text) == folded(value)
            or says(text, value)
            or says(value, text)
            or ("/" in text and value.endswith(text) and value.startswith(("http://", "https://")))
        ):
            yield path


def value_in_data(data: Any, name: str, value: str) -> LearnedField | None:
    """A field for one value in the data that a page carries; None where it does not stand there."""
    found = [path for path, text in _scalars(data, ()) if folded(text) == folded(value) or says(text, value)]
    if not found:
        return None
    path = pointed(min(found, key=len))
    guess = FieldGuess(path, None, 1.0, 0.0, (value,), guessed_type([value]), name, source="data")
    return LearnedField(guess, "likely", "in the data that the page carries", filled=1, rows=1)


def _scalars(value: Any, path: tuple[Step, ...]) -> Iterator[tuple[tuple[Step, ...], str]]:
    """The texts and numbers of data with their places, as deep as records lie."""
    if len(path) > _DEEPEST:
        return
    if isinstance(value, dict):
        for key, inner in value.items():
            yield from _scalars(inner, (*path, key))
    elif isinstance(value, list):
        for place, inner in enumerate(value[:_MOST_MEMBERS]):
            yield from _scalars(inner, (*path, place))
    elif isinstance(value, str | int | float) and not isinstance(value, bool):
        yield path, str(value)
