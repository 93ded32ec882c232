"""The places below rows that hold something: for each the elements that stand there, row by row.

Elements of one place are alike: the same tag, class and marks below the same place. Where every row has several alike
siblings, they are places of their own by their number; where the number differs from row to row, they are one place with
several elements.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import islice

from wadi.learn.clues.class_names import Worth, names, worth
from wadi.page.grid import TooLargeTable, merged_cells
from wadi.page.nodes import Element, attributes, children, has_children, own_texts, preceding
from wadi.page.text import is_hidden, text_of

_MOST_SPOTS, _MOST_NODES, _DEEPEST = 120, 600, 40
"""So many places are given, the first that enough rows have; so many elements of a row are looked at."""
_LEAST_SHARE = 0.1
_SAME_COUNT, _MOST_NUMBERED = 0.6, 12
_MARKS = (
    "itemprop",
    "slot",
    "role",
    "property",
    "data-testid",
    "data-test",
    "data-field",
    "data-label",
)
_CONTROLS = frozenset({"input", "select", "textarea", "button", "meta"})
_SAYING = ("href", "src", "datetime", "content")
WORDY = ("alt", "title", "aria-label")
_LONGEST_VALUE = 80


@dataclass(slots=True)
class Spot:
    """A place below the rows: the elements that stand there, by the number of the row."""

    elements: dict[int, list[Element]] = field(default_factory=lambda: defaultdict(list))

    @property
    def example(self) -> Element:
        """One of its elements."""
        return next(iter(self.elements.values()))[0]


def spots_of(rows: Sequence[Element], behind: Mapping[Element, Sequence[Element]] | None = None) -> Iterator[Spot]:
    """The places in rows, and in what stands `behind` each and belongs to it, in reading order; those of a tenth of the rows
    and more."""
    left = [_MOST_NODES] * len(rows)
    start = {number: [row] for number, row in enumerate(rows)}
    try:
        merged = merged_cells(rows)
    except TooLargeTable:
        merged = {}
    if merged:  # a cell that hangs down stands in every row that it covers
        found = _children({number: merged[row] for number, row in enumerate(rows)}, left, 0, are_columns=True)
    else:
        found = _below(start, left, 0)
    followed = {number: list(behind[row]) for number, row in enumerate(rows) if row in behind} if behind else {}
    later = _children(followed, left, 0, is_behind=True)
    usual = (spot for part in (found, later) for spot in part if len(spot.elements) >= len(rows) * _LEAST_SHARE)
    yield from islice(usual, _MOST_SPOTS)


def _below(here: Mapping[int, list[Element]], left: list[int], depth: int) -> Iterator[Spot]:
    """The place itself, where it holds something, and the places below it."""
    holding = {n: [e for e in some if _holds(e)] for n, some in here.items()}
    if any(holding.values()):
        yield Spot(defaultdict(list, {n: some for n, some in holding.items() if some}))
    if depth < _DEEPEST:
        inner = {n: [child for e in some for child in children(e)] for n, some in here.items()}
        yield from _children({n: some for n, some in inner.items() if some}, left, depth)


def _children(
    inner: dict[int, list[Element]],
    left: list[int],
    depth: int,
    *,
    is_behind: bool = False,
    are_columns: bool = False,
) -> Iterator[Spot]:
    """The places of sibling elements, or of the cells that cover the columns of rows."""
    places: dict[str, dict[int, list[Element]]] = {}
    for number, siblings in inner.items():
        for column, element in enumerate(siblings):
            left[number] -= 1
            if left[number] < 0:
                break
            if not is_hidden(element):
                step = element.tag if is_behind and element.tag == "dd" else _step(element)
                step = str(column) if are_columns else step
                places.setdefault(step, {}).setdefault(number, []).append(element)
    for place in _in_order(places, inner):
        for numbered in _apart(places[place]):
            yield from _below(numbered, left, depth + 1)


def _in_order(places: dict[str, dict[int, list[Element]]], inner: Mapping[int, list[Element]]) -> list[str]:
    """The places in reading order: each behind those that stand before it in most rows that have both."""
    ranks: dict[str, list[float]] = defaultdict(list)
    for number, siblings in inner.items():
        order = {element: rank for rank, element in enumerate(siblings)}
        for place, by_row in places.items():
            if number in by_row:
                ranks[place].append(order[by_row[number][0]] / len(siblings))
    return sorted(places, key=lambda place: sum(ranks[place]) / len(ranks[place]))


def _apart(by_row: dict[int, list[Element]]) -> list[dict[int, list[Element]]]:
    """A place of several alike siblings as one for each number, where most rows have as many."""
    counts = Counter(map(len, by_row.values()))
    count, rows = counts.most_common(1)[0]
    if max(counts) == 1 or count > _MOST_NUMBERED or count < 2 or rows < len(by_row) * _SAME_COUNT:
        return [by_row]
    numbered = [{n: [some[place]] for n, some in by_row.items() if len(some) > place} for place in range(count)]
    return [place for place in numbered if place]


def _step(element: Element) -> str:
    """How a place is told from its siblings: cells by number, labelled values by their label, others by tag, class and marks."""
    tag = element.tag
    if tag in ("td", "th"):
        return f"{tag}:{sum(1 for _ in preceding(element))}"
    if tag == "dd":
        before = next((label for label in preceding(element) if label.tag == "dt"), None)
        if before is not None:
            return f"dd={text_of(before)[:40]}"
    token = next(iter(names(element)), "") or next(
        (t for t in (element.attr("class") or "").split() if worth(t) is Worth.MADE or not re.search(r"\d", t)), ""
    )
    marks = (*_MARKS, "type", "name") if tag in _CONTROLS else _MARKS
    return f"{tag}.{token}|{'|'.join(element.attr(name) or '' for name in marks)}"


def _holds(element: Element) -> bool:
    if has_words("".join(own_texts(element))) or any(element.attr(name) for name in _SAYING):
        return True
    if element.tag in ("input", "option") and element.attr("value"):
        return True
    return not has_children(element) and any(_may_say(name, value) for name, value in attributes(element).items())


def _may_say(name: str, value: str) -> bool:
    """Whether an attribute of an element without a text may say what a reader sees as a picture: stars, a bar."""
    return (name.startswith("data-") or name in WORDY) and 0 < len(value) <= _LONGEST_VALUE


def has_words(text: str) -> bool:
    """Whether a text has more than blanks and marks between other texts."""
    return any(character.isalnum() or ord(character) > 0x2000 for character in text)
