"""A row as it is written: its tags, taken from the source of a page, and the template that rows like it fit.

A template is a regular expression: tags, and the attributes that selectors ask for, stand in it as they are written; texts and
other values are whatever holds no markup. What is written in a way that leaves the slightest doubt about the elements it makes
has no template: tags that do not nest, elements with rules of their own, comments.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from html import unescape
from itertools import islice
from operator import itemgetter
from typing import NamedTuple

from wadi.page.selectors.parse import Compound
from wadi.page.selectors.shape import Picks
from wadi.page.text import NOT_INLINE
from wadi.page.tree import VOID

Groups = tuple[str, ...]

_STARTS_TRIED = 40
_MOST_TAGS = 500
_BLANK = r"[ \t\r\n\f]"
# What ends a text or a value is all that has to be looked for: no other character makes markup.
_TEXT = "[^<]*"
_VALUES = {'"': '[^"]*', "'": "[^']*", "": "[^ \\t\\r\\n\\f\"'<>=`&]+"}
_ATTRIBUTE = re.compile(f"({_BLANK}+)([A-Za-z][A-Za-z0-9_:.-]*)(?:=(?:\"([^\"<>]*)\"|'([^'<>]*)'|({_VALUES['']})))?")
_TAG = re.compile("<(/?)([A-Za-z][A-Za-z0-9]*)((?:[^<>\"'/]|\"[^\"<>]*\"|'[^'<>]*'|/(?!>))*)(/?)>")
# Elements that are read by rules of their own, or that change how what comes after them is read.
_REFUSED = frozenset(
    "html head body base frame frameset script style textarea title template noscript noframes noembed iframe xmp plaintext "
    "listing svg math select option optgroup form table caption colgroup col tbody thead tfoot nobr marquee object applet "
    "image isindex".split()
)
# What parsers look at, and what hides an element.
LITERAL = frozenset({"type", "hidden", "style", "rel", "encoding", "definitionurl"})


_Key = tuple[str, int, str]
"""What a group holds: the text of a gap, by its place among the parts; an attribute, by its element and name."""


class _Attribute(NamedTuple):
    """An attribute as it is written, with the blanks before it and its quotes; `value` is None where there is only a name."""

    blank: str
    name: str
    quote: str
    value: str | None


@dataclass(slots=True)
class _Start:
    """A start tag: where the element stands among those of the row, and how many elements stand in it."""

    tag: str
    written: str
    attributes: tuple[_Attribute, ...]
    is_closed: bool
    parent: int
    children: int = 0

    def value(self, name: str) -> str | None:
        found = next((one for one in self.attributes if one.name.lower() == name), None)
        return None if found is None else unescape(found.value or "")


class _Gap(NamedTuple):
    """What stands between two tags, perhaps nothing: in which element, and the text."""

    owner: int
    text: str


@dataclass(slots=True)
class RowSource:
    """A row as it is written: its elements, the row first, and its tags and gaps in their order; end tags as texts."""

    text: str = ""
    elements: list[_Start] = field(default_factory=list)
    parts: list[_Start | _Gap | str] = field(default_factory=list)

    def shape(self, attributes: Sequence[str], present: Sequence[str] = ()) -> tuple[object, ...]:
        """The shape of the row, as `Shapes` tells it of a tree."""
        inner = self.elements[1:]
        told: list[object] = [one.tag for one in inner]
        told += [one.children for one in inner]
        for name in attributes:
            told += [one.value(name) for one in inner]
        for name in present:
            told += [one.value(name) is not None for one in inner]
        return tuple(told)


def units(source: str, tag: str) -> Iterator[RowSource]:
    """The elements of a name among the first of a page, where they can be read without doubt."""
    starts = re.finditer(rf"<{re.escape(tag)}(?=[ \t\r\n\f>])", source, re.IGNORECASE)
    for start in islice(starts, _STARTS_TRIED):
        unit = _unit(source, start.start())
        if unit is not None:
            yield unit


def _unit(source: str, at: int) -> RowSource | None:
    """The element whose start tag stands at a place; None where its tags do not nest plainly."""
    unit, begin, open_ = RowSource(), at, list[int]()
    for _ in range(_MOST_TAGS):
        tag = _TAG.match(source, at)
        if tag is None:
            return None
        closes, name = tag[1], tag[2].lower()
        if closes:
            if not open_ or unit.elements[open_.pop()].tag != name or tag[3].strip() or tag[4]:
                return None
            unit.parts.append(tag[0])
        else:
            start = _start_of(tag, open_[-1] if open_ else -1)
            if start is None:
                return None
            if open_:
                unit.elements[open_[-1]].children += 1
            if name not in VOID:
                open_.append(len(unit.elements))
            unit.elements.append(start)
            unit.parts.append(start)
        at = tag.end()
        if not open_:
            unit.text = source[begin:at]
            return unit
        next_tag = source.find("<", at)
        if next_tag < 0:
            return None
        unit.parts.append(_Gap(open_[-1], source[at:next_tag]))
        at = next_tag
    return None


def _start_of(tag: re.Match[str], parent: int) -> _Start | None:
    """A start tag; None for elements that are refused, and for attributes that are written in an odd way."""
    name, written, is_closed = tag[2].lower(), tag[3], bool(tag[4])
    attributes: list[_Attribute] = []
    at = 0
    while match := _ATTRIBUTE.match(written, at):
        blank, attribute, double, single, unquoted = match.groups()
        quote = '"' if double is not None else "'" if single is not None else ""
        value = next((value for value in (double, single, unquoted) if value is not None), None)
        attributes.append(_Attribute(blank, attribute, quote, value))
        at = match.end()
    names = [one.name.lower() for one in attributes]
    is_unquoted_at_end = bool(attributes) and attributes[-1].value is not None and not attributes[-1].quote
    is_odd = written[at:].strip(" \t\r\n\f") or len(set(names)) < len(names) or name in _REFUSED
    if is_odd or (is_closed and (name not in VOID or is_unquoted_at_end)):
        return None
    return _Start(name, tag[2], tuple(attributes), is_closed, parent)


@dataclass(frozen=True, slots=True, eq=False)
class Template:
    """What rows of one kind look like in the source, made from a `unit` in which the fields pick `picks`.

    `expression` has `group_count` groups. From them `like_of` gives the attributes that are asked for and may differ from row to
    row: the row's own, and those `varying`, by element and name. `texts` gives each field's text, None where it picks nothing.
    """

    unit: RowSource
    picks: Picks
    varying: frozenset[tuple[int, str]]
    structure: tuple[object, ...]
    expression: str
    group_count: int
    like_of: Callable[[Groups], object]
    texts: Callable[[Groups], Sequence[str | None]]

    @property
    def tag(self) -> str:
        return self.unit.elements[0].written

    def may_hold(self, compound: Compound) -> bool:
        """Whether an element of such a row may match a compound."""
        asked = {one.name.lower() for one in compound.attributes}
        asked |= ({"class"} if compound.classes else set()) | ({"id"} if compound.ids else set())
        tag = compound.tag.lower() if compound.tag is not None else None
        return any(
            (tag is None or one.tag == tag) and asked <= {attribute.name.lower() for attribute in one.attributes}
            for one in self.unit.elements
        )


def template_of(
    unit: RowSource,
    picks: Picks,
    taken: Sequence[str | None],
    asked: frozenset[str],
    varying: frozenset[tuple[int, str]] = frozenset(),
) -> Template | None:
    """The template of rows like this one; None where what the fields pick cannot be told from it.

    `picks` is what each field picks in such rows, and `taken` the attribute that it takes (None: the text). The values of the
    attributes that are `asked` for stay as they are, but for those `varying`.
    """
    making = _Making(unit, asked, varying)
    sources: list[tuple[_Key, ...] | None] = []
    try:
        for pick, name in zip(picks, taken, strict=True):
            if pick is None or pick == ():
                sources.append(None)
            elif isinstance(pick, int) and pick > 0:
                sources.append(making.wanted_text(pick) if name is None else making.wanted_attribute(pick, name))
            else:
                return None
        expression = making.expression()
    except _NotPlain:
        return None
    if re.fullmatch(expression, unit.text) is None:
        return None
    at = {key: number for number, key in enumerate(making.groups)}
    texts = _texts_of([None if one is None else tuple(at[key] for key in one) for one in sources])
    like_of = itemgetter(*[at[key] for key in making.like]) if making.like else lambda groups: ()
    return Template(unit, picks, varying, unit.shape(()), expression, len(at), like_of, texts)


def differing(one: RowSource, other: RowSource, attributes: Sequence[str]) -> frozenset[tuple[int, str]]:
    """The attributes, of those given, in which two rows of one structure differ: by element and name."""
    pairs = enumerate(zip(one.elements, other.elements, strict=True))
    return frozenset(
        (place, name)
        for place, (own, its) in pairs
        if place
        for name in attributes
        if own.value(name) != its.value(name)
    )


def _texts_of(sources: Sequence[tuple[int, ...] | None]) -> Callable[[Groups], Sequence[str | None]]:
    """What gives each field's text from the groups of a row."""
    firsts = [one[0] if one else 0 for one in sources]
    first_of_each = itemgetter(*firsts) if len(firsts) > 1 else lambda groups: (groups[firsts[0]],) if groups else ("",)
    others = [(place, one) for place, one in enumerate(sources) if one is None or len(one) != 1]
    if not others:
        return first_of_each

    def texts(groups: Groups) -> Sequence[str | None]:
        found = list(first_of_each(groups))
        for place, one in others:
            found[place] = None if one is None else "".join([groups[number] for number in one])
        return found

    return texts


class _NotPlain(Exception):
    """What a field picks cannot be told from the source alone."""


class _Making:
    """A template in the making: first what the fields want is told, then the expression is made."""

    def __init__(self, unit: RowSource, literal: frozenset[str], varying: frozenset[tuple[int, str]]) -> None:
        self._unit = unit
        self._literal = literal
        self._varying = varying
        self._wanted: set[_Key] = set()
        self.groups: list[_Key] = []
        self.like: list[_Key] = []

    def wanted_text(self, place: int) -> tuple[_Key, ...]:
        """The gaps that make the text of an element in which nothing but shown inline elements without children stand."""
        elements = self._unit.elements
        inside = [number for number, one in enumerate(elements) if one.parent == place]
        for one in (elements[number] for number in inside):
            if (
                one.children
                or one.tag in NOT_INLINE
                or one.value("hidden") is not None
                or one.value("style") is not None
            ):
                raise _NotPlain
        keys = tuple(
            ("text", number, "")
            for number, part in enumerate(self._unit.parts)
            if isinstance(part, _Gap) and (part.owner == place or part.owner in inside)
        )
        self._wanted.update(keys)
        return keys

    def wanted_attribute(self, place: int, name: str) -> tuple[_Key, ...] | None:
        """The attribute of an element; None where it has none."""
        found = next((one for one in self._unit.elements[place].attributes if one.name.lower() == name), None)
        if found is None:
            return None
        if found.value is None:
            raise _NotPlain
        self._wanted.add(("attribute", place, name))
        return (("attribute", place, name),)

    def expression(self) -> str:
        """The row's tags and gaps as a regular expression."""
        written: list[str] = []
        element = -1
        for number, part in enumerate(self._unit.parts):
            if isinstance(part, str):
                written.append(re.escape(part))
            elif isinstance(part, _Gap):
                written.append(self._gap(number, part))
            else:
                element += 1
                attributes = "".join(self._attribute(element, one) for one in part.attributes)
                written.append(f"<{part.written}{attributes}{_BLANK}*{'/?' if part.is_closed else ''}>")
        return "".join(written)

    def _gap(self, number: int, gap: _Gap) -> str:
        if ("text", number, "") in self._wanted:
            self.groups.append(("text", number, ""))
            return f"({_TEXT})"
        owner = self._unit.elements[gap.owner]
        if owner.children and not gap.text.strip(" \t\r\n\f"):
            return f"{_BLANK}*"
        if owner.tag == "tr":
            raise _NotPlain  # a text between cells goes elsewhere
        return _TEXT

    def _attribute(self, element: int, one: _Attribute) -> str:
        """An attribute: a group where a field takes it, and where it is asked for and may differ; else, asked for, as it is."""
        name = one.name.lower()
        if name == "rel" and "next" in (one.value or "").lower():
            raise _NotPlain  # a listing may go on there
        if one.value is None:
            return re.escape(one.blank + one.name)
        key: _Key = ("attribute", element, name)
        may_differ = name in self._literal and (element == 0 or (element, name) in self._varying)
        is_literal = name in self._literal and not may_differ
        if is_literal and "&" in one.value:
            raise _NotPlain
        pattern = re.escape(one.value) if is_literal else _VALUES[one.quote]
        if may_differ:
            self.like.append(key)
        if may_differ or key in self._wanted:
            self.groups.append(key)
            pattern = f"({pattern})"
        return f"{re.escape(one.blank + one.name)}={one.quote}{pattern}{one.quote}"
