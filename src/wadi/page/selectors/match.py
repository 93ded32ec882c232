"""Selectors as matchers: each compound one function of an element, complex selectors tried from right to left.

Every compound is relative to the element from which it is searched: `h3 a` in a row is an `a` in an `h3` in the row. What
stands inside `:is()`, `:where()` and `:not()` may look further up.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace

from lxml import etree

from wadi.page.selectors.index import Index
from wadi.page.selectors.parse import NEVER, Attribute, Complex, Compound, Pseudo
from wadi.page.selectors.states import STATES, Round, Test

Element = etree._Element

# The attributes whose values HTML compares without case (HTML Living Standard, "Case-sensitivity of selectors").
_NAME = re.compile(r"[^\x00-\x20{}\x7f-\x9f\ud800-\udfff\ufffe\uffff]+")
_FOLDED = frozenset(
    "accept accept-charset align alink axis bgcolor charset checked clear codetype color compact declare defer dir direction "
    "disabled enctype face frame hreflang http-equiv lang language link media method multiple nohref noresize noshade nowrap "
    "readonly rel rev rules scope scrolling selected shape target text type valign valuetype vlink".split()
)


class Matcher:
    """A compiled list of selectors, for HTML or for XML."""

    def __init__(self, selectors: Sequence[Complex], *, html: bool) -> None:
        self.selectors = tuple(selectors)
        self.complexes = [_Compiled(one, html=html) for one in selectors]
        self.is_one_inside = len(self.complexes) == 1 and not self.complexes[0].leaves_scope

    def select(self, scope: Element, index: Index | None = None) -> list[Element]:
        """The elements that match, in document order, each once."""
        if index is not None and self.is_one_inside:
            return self.complexes[0].picked(scope, index)
        round_ = Round(scope)
        if len(self.complexes) == 1:
            return list(self.complexes[0].found(scope, round_, index))
        chosen: dict[Element, None] = {}
        for one in self.complexes:
            chosen.update(dict.fromkeys(one.found(scope, round_, index)))
        if len(chosen) < 2:
            return list(chosen)
        order = scope.getparent() if any(one.leaves_scope for one in self.complexes) else scope
        return [element for element in (scope if order is None else order).iter("*") if element in chosen]

    def stands_below(self, scope: Element) -> bool:
        """Whether some element matches; no further ones are looked for."""
        round_ = Round(scope)
        return any(True for one in self.complexes for _ in one.found(scope, round_, None))

    def is_any(self, element: Element, round_: Round) -> bool:
        """Whether one of the selectors matches the element, wherever it stands."""
        return any(one.matches_anywhere(element, round_) for one in self.complexes)


_NONE: list[Element] = []


class _Compiled:
    """One complex selector."""

    def __init__(self, complex_: Complex, *, html: bool) -> None:
        self.parts = [
            (combinator, _test_of(compound, html=html), compound.is_scope) for combinator, compound in complex_.parts
        ]
        self.subject = complex_.parts[-1][1]
        self.html = html
        self.leading = self.parts[0][0]
        self.leaves_scope = self.leading in "+~"
        self.tag = self.subject.tag.lower() if self.subject.tag and html else self.subject.tag
        simple = (
            len(self.parts) == 1 and self.leading == " " and not self.subject.pseudos and not self.subject.attributes
        )
        count = bool(self.tag) + len(self.subject.ids) + len(self.subject.classes)
        # A lone tag, class or id is answered by the index as it is; of a class with a tag only the tag is left to see.
        self.is_lookup = simple and html and count == 1
        self.is_alone = len(self.parts) == 1 and self.leading == " "
        self.test_of_walked = self.parts[0][1]
        if self.is_alone and html and self.tag is not None and is_name(self.tag):
            # What is walked through has the tag.
            self.test_of_walked = _test_of(replace(self.subject, tag=None), html=html)
        self.is_in_parent = len(self.parts) > 1 and self.parts[-1][0] in " >"
        self.pair = _pair_of(complex_) if html else None
        self.is_class_of_tag = (
            simple and html and bool(self.tag) and len(self.subject.classes) == 1 and not self.subject.ids
        )

    def picked(self, scope: Element, index: Index) -> list[Element]:
        """The elements of a row that match, by its index."""
        candidates = self._candidates(index)
        if not candidates or self.is_lookup:
            return candidates
        if self.is_class_of_tag:
            tag = self.tag
            return [element for element in candidates if element.tag == tag]
        if self.pair is not None:
            return self.pair(candidates, scope)
        last, round_ = len(self.parts) - 1, Round(scope)
        return [element for element in candidates if self._matches(element, last, scope, round_)]

    def found(self, scope: Element, round_: Round, index: Index | None) -> Iterator[Element]:
        if index is not None and not self.leaves_scope:
            candidates: Iterable[Element] = self._candidates(index)
            if self.is_lookup:
                return iter(candidates)
        else:
            candidates = self._walked(scope)
        if self.is_in_parent:
            return self._below_alike(candidates, scope, round_)
        if self.is_alone:
            test = self.parts[0][1] if index is not None else self.test_of_walked
            return (element for element in candidates if test(element, round_))
        last = len(self.parts) - 1
        return (element for element in candidates if self._matches(element, last, scope, round_))

    def _below_alike(self, candidates: Iterable[Element], scope: Element, round_: Round) -> Iterator[Element]:
        """The same where what stands left of the last compound is asked of the parent: rows have one in common, once for all."""
        last = len(self.parts) - 1
        combinator, test, _ = self.parts[last]
        known: dict[Element, bool] = {}
        for element in candidates:
            if not test(element, round_):
                continue
            parent = element.getparent()
            if parent is None:
                continue
            if parent not in known:
                known[parent] = self._stands_below(parent, combinator, last - 1, scope, round_)
            if known[parent]:
                yield element

    def _stands_below(self, parent: Element, combinator: str, place: int, scope: Element | None, round_: Round) -> bool:
        """Whether the compounds up to `place` hold for a parent, or with " " for it or what it stands in."""
        up: Element | None = parent
        while up is not None and self._may(up, place, scope):
            if self._matches(up, place, scope, round_):
                return True
            if combinator == ">" or up is scope:
                return False
            up = up.getparent()
        return False

    def _candidates(self, index: Index) -> list[Element]:
        subject = self.subject
        if subject.ids:
            return index.by_id.get(subject.ids[0], _NONE)
        if subject.classes:
            return index.by_class.get(subject.classes[0], _NONE)
        if self.tag is not None and self.html:
            return index.by_tag.get(self.tag, _NONE)
        return index.all

    def _walked(self, scope: Element) -> Iterator[Element]:
        tag = self.tag if self.tag is not None and self.html and is_name(self.tag) else "*"
        if self.leaves_scope:
            for sibling in scope.itersiblings():
                if isinstance(sibling.tag, str):
                    yield from sibling.iter(tag)
            return
        is_root = scope.getparent() is None
        for element in scope.iter(tag):
            if element is not scope or is_root:
                yield element

    def matches_anywhere(self, element: Element, round_: Round) -> bool:
        return self._matches(element, len(self.parts) - 1, None, round_)

    def _matches(self, element: Element, place: int, scope: Element | None, round_: Round) -> bool:
        """Whether the compounds up to `place` hold, the last of them for `element`. Without a scope they may stand anywhere."""
        combinator, test, _ = self.parts[place]
        if not test(element, round_):
            return False
        if place == 0:
            return scope is None or _is_from(element, combinator, scope)
        before = place - 1
        if combinator in " >":
            parent = element.getparent()
            return parent is not None and self._stands_below(parent, combinator, before, scope, round_)
        for sibling in _before(element):
            if self._matches(sibling, before, scope, round_):
                return True
            if combinator == "+":
                return False
        return False

    def _may(self, element: Element, place: int, scope: Element | None) -> bool:
        """Whether a compound may stand for an element: the one that is searched from only where it says so, or is the root."""
        return element is not scope or self.parts[place][2] or element.getparent() is None


def _pair_of(complex_: Complex) -> Callable[[list[Element], Element], list[Element]] | None:
    """`td.code a` and `td > a`, with no more than a tag and a class on each side: the commonest form of a field, in one loop."""
    if len(complex_.parts) != 2 or complex_.parts[0][0] != " " or complex_.parts[1][0] not in " >":
        return None
    above, own = (_plain_test(compound) for _, compound in complex_.parts)
    if above is None or own is None:
        return None
    if complex_.parts[1][0] == ">":

        def children(candidates: list[Element], scope: Element) -> list[Element]:
            return [
                one
                for one in candidates
                if (up := one.getparent()) is not None and up is not scope and own(one) and above(up)
            ]

        return children

    def descendants(candidates: list[Element], scope: Element) -> list[Element]:
        found = []
        for one in candidates:
            if own(one):
                up = one.getparent()
                while up is not None and up is not scope:
                    if above(up):
                        found.append(one)
                        break
                    up = up.getparent()
        return found

    return descendants


def _plain_test(compound: Compound) -> Callable[[Element], bool] | None:
    """A compound of a tag, a class or both as one function; None for others."""
    if compound.ids or compound.attributes or compound.pseudos or len(compound.classes) > 1:
        return None
    tag = compound.tag.lower() if compound.tag else None
    if not compound.classes:
        return (lambda element: element.tag == tag) if tag else lambda element: True
    (name,) = compound.classes

    def has_class(element: Element) -> bool:
        classes = element.get("class")
        return classes is not None and (classes == name or (name in classes and name in classes.split()))

    return (lambda element: element.tag == tag and has_class(element)) if tag else has_class


def _is_from(element: Element, combinator: str, scope: Element) -> bool:
    """Whether the leftmost element stands to the one that is searched from as the combinator says."""
    if element is scope:
        return combinator == " "
    if combinator == " ":
        return True
    if combinator == ">":
        return element.getparent() is scope
    siblings = _before(element)
    return next(siblings, None) is scope if combinator == "+" else any(one is scope for one in siblings)


def _before(element: Element) -> Iterator[Element]:
    return (sibling for sibling in element.itersiblings(preceding=True) if isinstance(sibling.tag, str))


def _test_of(compound: Compound, *, html: bool) -> Test:
    """A compound as one function."""
    tests: list[Test] = []
    if compound.tag is not None:
        tests.append(_tag_test(compound.tag, html=html))
    tests += [_id_test(name) for name in compound.ids]
    if compound.classes:
        tests.append(_class_test(compound.classes))
    tests += [_attribute_test(one, html=html) for one in compound.attributes]
    tests += [_pseudo_test(one, html=html) for one in compound.pseudos]
    if not tests:
        return lambda element, round_: True
    if len(tests) == 1:
        return tests[0]
    if len(tests) == 2:
        one, other = tests
        return lambda element, round_: one(element, round_) and other(element, round_)
    return lambda element, round_: all(test(element, round_) for test in tests)


def _tag_test(tag: str, *, html: bool) -> Test:
    if html:
        wanted = tag.lower()
        return lambda element, round_: element.tag == wanted
    end = f"}}{tag}"
    return lambda element, round_: element.tag == tag or element.tag.endswith(end)


def _id_test(name: str) -> Test:
    return lambda element, round_: element.get("id") == name


def _class_test(names: tuple[str, ...]) -> Test:
    if len(names) == 1:
        (name,) = names

        def one(element: Element, round_: Round) -> bool:
            classes = element.get("class")
            # Most elements have one class or none: the whole value first.
            return classes is not None and (classes == name or (name in classes and name in classes.split()))

        return one
    wanted = frozenset(names)
    return lambda element, round_: wanted.issubset((element.get("class") or "").split())


def is_name(text: str) -> bool:
    """Whether an element or attribute of a tree can have this name at all: lxml refuses to look for others."""
    return _NAME.fullmatch(text) is not None


def _attribute_test(one: Attribute, *, html: bool) -> Test:
    name = one.name.lower() if html else one.name
    if not is_name(name):
        return lambda element, round_: False
    if not one.op:
        return lambda element, round_: element.get(name) is not None
    folds = one.fold == "i" or (html and one.fold != "s" and name in _FOLDED)
    wanted = one.value.casefold() if folds else one.value
    compare = _COMPARISONS[one.op]

    def test(element: Element, round_: Round) -> bool:
        value = element.get(name)
        return value is not None and compare(value.casefold() if folds else value, wanted)

    return test


_COMPARISONS: dict[str, Callable[[str, str], bool]] = {
    "=": lambda value, wanted: value == wanted,
    "~=": lambda value, wanted: bool(wanted) and wanted in value.split() and not any(c in wanted for c in " \t\r\n\f"),
    "|=": lambda value, wanted: value == wanted or value.startswith(wanted + "-"),
    "^=": lambda value, wanted: bool(wanted) and value.startswith(wanted),
    "$=": lambda value, wanted: bool(wanted) and value.endswith(wanted),
    "*=": lambda value, wanted: bool(wanted) and wanted in value,
}


def _pseudo_test(pseudo: Pseudo, *, html: bool) -> Test:
    name = pseudo.name
    if name in NEVER:
        return lambda element, round_: False
    if name in ("is", "where", "matches", "not"):
        inner = Matcher(pseudo.selectors, html=html)
        if name == "not":
            return lambda element, round_: not inner.is_any(element, round_)
        return inner.is_any
    if name == "has":
        relative = Matcher(pseudo.selectors, html=html)
        return lambda element, round_: any(
            next(one.found(element, Round(element), None), None) is not None for one in relative.complexes
        )
    if name in _CHILD_NUMBERS:
        return _nth_test(*_CHILD_NUMBERS[name], pseudo, html=html)
    if name in _ONLY:
        one, other = (_pseudo_test(Pseudo(each), html=html) for each in _ONLY[name])
        return lambda element, round_: one(element, round_) and other(element, round_)
    if name == "lang":
        return _lang_test(pseudo.words)
    return STATES[name]


_CHILD_NUMBERS: dict[str, tuple[bool, bool]] = {
    "nth-child": (False, False), "nth-last-child": (True, False), "nth-of-type": (False, True),
    "nth-last-of-type": (True, True), "first-child": (False, False), "last-child": (True, False),
    "first-of-type": (False, True), "last-of-type": (True, True),
}  # fmt: skip
"""Whether it counts from the end, and only elements of the same name."""
_ONLY = {"only-child": ("first-child", "last-child"), "only-of-type": ("first-of-type", "last-of-type")}


def _nth_test(from_end: bool, of_type: bool, pseudo: Pseudo, *, html: bool) -> Test:
    a, b = pseudo.nth if pseudo.name.startswith("nth") else (0, 1)
    chosen = Matcher(pseudo.selectors, html=html) if pseudo.selectors else None
    name = (from_end, of_type, pseudo.selectors)

    def test(element: Element, round_: Round) -> bool:
        if chosen is not None and not chosen.is_any(element, round_):
            return False
        parent = element.getparent()
        if parent is None:
            number = 1
        else:
            known = round_.positions.get((parent, name))
            if known is None:
                known = round_.positions[parent, name] = _positions(parent, from_end, of_type, chosen, round_)
            number = known[element]
        return number == b if a == 0 else (number - b) % a == 0 and (number - b) // a >= 0

    return test


def _positions(
    parent: Element, from_end: bool, of_type: bool, chosen: Matcher | None, round_: Round
) -> dict[Element, int]:
    """The numbers of an element's children, counted once for all of them: among all, those of a name, or those chosen."""
    counts: dict[str, int] = {}
    found: dict[Element, int] = {}
    for child in parent.iterchildren("*", reversed=from_end):
        kind = child.tag if of_type else ""
        if chosen is None or chosen.is_any(child, round_):
            counts[kind] = counts.get(kind, 0) + 1
        found[child] = counts.get(kind, 0)
    return found


def _lang_test(words: tuple[str, ...]) -> Test:
    """Language ranges by extended filtering (RFC 4647 §3.3.2), against the nearest `lang` or `xml:lang`."""
    ranges = [word.lower().split("-") for word in words]

    def test(element: Element, round_: Round) -> bool:
        around: Element | None = element
        while around is not None:
            lang = around.get("lang")
            lang = around.get("{http://www.w3.org/XML/1998/namespace}lang") if lang is None else lang
            if lang is not None:
                return any(_in_range(lang.lower().split("-"), one) for one in ranges)
            around = around.getparent()
        return False

    return test


def _in_range(tag: list[str], wanted: list[str]) -> bool:
    if wanted[0] != "*" and tag[0] != wanted[0]:
        return False
    place = 1
    for part in wanted[1:]:
        if part == "*":
            continue
        while place < len(tag) and tag[place] != part:
            if len(tag[place]) == 1:
                return False
            place += 1
        if place == len(tag):
            return False
        place += 1
    return bool(tag[0])
