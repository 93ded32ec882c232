"""The shape of a row: tags, numbers of children and the attributes that selectors ask for. Rows of one shape are matched once.

Most rows of a listing are alike. What the fields pick in the first of them, by place in reading order, they pick in all.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from lxml import etree

from wadi.page.selectors.index import Index
from wadi.page.selectors.match import Matcher, is_name
from wadi.page.selectors.parse import Complex, Compound, Pseudo

Element = etree._Element
Picks = tuple[int | tuple[int, ...] | None, ...]
"""For each field the place of the one element that it picks in the row, comments counted, or the places of none or several;
None: not told by the shape."""

Shape = tuple[object, ...]

_BY_SHAPE = frozenset(
    "scope first-child last-child only-child first-of-type last-of-type only-of-type nth-child nth-last-child nth-of-type "
    "nth-last-of-type is where matches not has".split()
)
_FREE_OF_PLACE = frozenset("is where matches not has".split())
_MOST_SHAPES = 1000
_TRIED = 200


class Shapes:
    """The shapes of rows met so far, with what fields pick in each. `fields` are the matchers of each field: the first that
    picks something counts; of none the shape tells nothing."""

    def __init__(self, fields: Sequence[Sequence[Matcher]]) -> None:
        self._fields = [
            tuple(matchers) if all(_is_by_shape(one) for m in matchers for one in m.selectors) else ()
            for matchers in fields
        ]
        selectors = [one for matchers in self._fields for m in matchers for one in m.selectors]
        by_value = dict.fromkeys(name for one in selectors for name in attributes_of(one))
        by_presence = dict.fromkeys(name for one in selectors for name in attributes_of(one, by_presence=True))
        self.attributes = tuple(filter(is_name, by_value))
        """The attributes whose values tell a shape."""
        self.present = tuple(name for name in by_presence if is_name(name) and name not in by_value)
        """The attributes of which it tells a shape whether they are there."""
        self._known: dict[Shape, Picks] = {}
        self._asked = 0
        self.is_of_use = any(self._fields)

    def picks(self, row: Element) -> tuple[list[Element], Picks]:
        """The elements of a row in reading order, the row first, and which of them each field picks."""
        elements = list(row.iter())
        return elements, self._picks_of(_shape_of(elements, self.attributes, self.present), row, elements)

    def known(self, row: Element) -> tuple[Shape, Picks]:
        """The shape of a row, and which of its elements each field picks."""
        elements = list(row.iter())
        shape = _shape_of(elements, self.attributes, self.present)
        return shape, self._picks_of(shape, row, elements)

    def _picks_of(self, shape: Shape, row: Element, elements: list[Element]) -> Picks:
        self._asked += 1
        found = self._known.get(shape)
        if found is None:
            found = self._known[shape] = self._matched(row, elements)
            if len(self._known) > max(_TRIED, self._asked // 4):
                self.is_of_use = False  # every row has a shape of its own: asking for it is lost time
            if len(self._known) > _MOST_SHAPES:
                self._known.clear()
        return found

    def tells(self, place: int) -> bool:
        """Whether the shape of a row tells what a field picks."""
        return bool(self._fields[place])

    def _matched(self, row: Element, elements: list[Element]) -> Picks:
        places = {element: place for place, element in enumerate(elements)}
        index = Index(row)
        picked = (first_picked(matchers, row, index) if matchers else None for matchers in self._fields)
        return tuple(
            None if found is None else places[found[0]] if len(found) == 1 else tuple(places[one] for one in found)
            for found in picked
        )


def first_picked(matchers: Iterable[Matcher], row: Element, index: Index | None) -> list[Element]:
    """What the first of the matchers picks that picks something."""
    for matcher in matchers:
        if elements := matcher.select(row, index):
            return elements
    return []


def _shape_of(elements: list[Element], attributes: tuple[str, ...], present: tuple[str, ...]) -> Shape:
    """What tells the tree of elements in reading order: each one's name and number of children, and the attributes. The row
    itself is left out: odd and even rows are of one shape."""
    inner = elements[1:]
    told: list[object] = [one.tag for one in inner]
    told += [len(one) for one in inner]
    for name in attributes:
        told += [one.get(name) for one in inner]
    for name in present:
        told += [one.get(name) is not None for one in inner]
    return tuple(told)


def _is_by_shape(one: Complex) -> bool:
    """Whether it depends on nothing but the tree inside the row and the attributes that are asked for."""
    return one.parts[0][0] in " >" and all(_is_plain(compound) for _, compound in one.parts)


def is_free_of_place(one: Complex) -> bool:
    """Whether an element matches it wherever it stands among its siblings."""
    return all(combinator in " >" for combinator, _ in one.parts) and all(
        pseudo.name in _FREE_OF_PLACE and all(map(is_free_of_place, pseudo.selectors))
        for _, compound in one.parts
        for pseudo in compound.pseudos
    )


def _is_plain(compound: Compound) -> bool:
    if compound.is_scope:
        # Beside it anything else would be asked of the row itself, or of what stands around it.
        return compound == Compound(pseudos=(Pseudo("scope"),))
    for pseudo in compound.pseudos:
        if pseudo.name not in _BY_SHAPE:
            return False
        # What stands in :not() or :is() may look up beyond the row; one compound cannot.
        is_inside = pseudo.name == "has"
        if not all(_is_by_shape(one) if is_inside else _is_one_plain(one) for one in pseudo.selectors):
            return False
    return True


def _is_one_plain(one: Complex) -> bool:
    return len(one.parts) == 1 and _is_by_shape(one)


def attributes_of(one: Complex, *, by_presence: bool = False) -> Iterator[str]:
    """The attributes whose values a selector asks for, or those of which it asks whether they are there."""
    for _, compound in one.parts:
        if compound.classes and not by_presence:
            yield "class"
        if compound.ids and not by_presence:
            yield "id"
        yield from (
            attribute.name.lower() for attribute in compound.attributes if by_presence is not bool(attribute.op)
        )
        for pseudo in compound.pseudos:
            for inner in pseudo.selectors:
                yield from attributes_of(inner, by_presence=by_presence)
