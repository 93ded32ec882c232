"""Expressions for elements that were found by other means: the shortest that pick them and nothing else, tried on the page."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from wadi.learn.clues.class_names import PLAIN_NAME, Worth, stem, worth
from wadi.page.document import Document
from wadi.page.expressions import BadExpression, compile_expression
from wadi.page.nodes import Element, ancestors, children, elements, following, parent, preceding

_TELLING_ATTRIBUTES = (
    "role",
    "itemtype",
    "itemscope",
    "itemprop",
    "typeof",
    "property",
    "slot",
    "scope",
    "name",
    "rel",
)
_MOST_TRIED = 400
_SEVERAL, _MOST_CHILDREN = 3, 4


def expression_for(
    document: Document, chosen: Sequence[Element], odd: Sequence[Element]
) -> tuple[str | None, list[Element]]:
    """The shortest expression that picks the chosen, and what it picks.

    Without a selector that tells the odd siblings apart they are picked too; None when nothing fits.
    """
    wanted = set(chosen)
    found = _first_exact(document, _selectors(chosen, odd), wanted)
    if found is None and odd:
        # Keep at least those out that can be told apart one by one.
        ours = _Ours.of(chosen)
        untold = [one for one in odd if len(_telling_apart(ours, [one])) == 1]
        they = set(untold)
        named = [one for one in odd if one not in they]
        if untold and named:
            return expression_for(document, [*chosen, *untold], named)
        with_odd = [*chosen, *odd]
        wanted = set(with_odd)
        found = _first_exact(document, _selectors(with_odd, []), wanted)
    if found is None:
        return None, []
    order = {element: place for place, element in enumerate(elements(document.top)) if element in wanted}
    return found, sorted(wanted, key=order.__getitem__)


def _first_exact(document: Document, selectors: Iterator[str], wanted: set[Element]) -> str | None:
    for selector in itertools.islice(dict.fromkeys(selectors), _MOST_TRIED):
        try:
            found = compile_expression(selector).nodes(document.scope, document)
        except BadExpression:
            continue
        if len(found) == len(wanted) and all(node in wanted for node in found):
            return selector
    return None


def _selectors(chosen: Sequence[Element], odd: Sequence[Element]) -> Iterator[str]:
    """Selectors worth trying, the plainest first."""
    endings = _telling_apart(_Ours.of(chosen), odd) if odd else [""]
    itself = [name + ending for ending in endings for name in _names(chosen)]
    parents = _parents(chosen)
    yield from (name for name in itself if name not in _PLAIN_TAGS)
    ways = _ways(parents)
    for way in ways:
        yield from (f"{way} > {name}" for name in itself)
    grand = _parents(parents) if parents else []
    # What is named between them keeps lists inside rows out; a mere tag does not.
    for way, upper in itertools.product([way for way in ways if way not in _PLAIN_TAGS], _ways(grand)):
        yield from (f"{upper} {way} > {name}" for name in itself)
    for upper in _ways(grand):
        yield from (f"{upper} {name}" for name in itself)
    yield from _by_contents(chosen)
    for way, upper in itertools.product(ways, _ways(grand)):
        yield from (f"{upper} {way} > {name}" for name in itself)
    weak = [name + ending for ending in endings for name in _weak_names(chosen)]
    yield from weak
    for way in [*ways, *(_weak_names(parents) if parents else [])]:
        yield from (f"{way} > {name}" for name in [*itself, *weak])
    great = _parents(grand) if grand else []
    for upper in _ways(great):
        yield from (f"{upper} {name}" for name in itself)
    if len(parents) == 1:
        path = _path(parents[0])
        yield from (f"{path} > {name}" for name in itself)


def _by_contents(chosen: Sequence[Element]) -> Iterator[str]:
    """By what all chosen hold, and nothing else does: a child of a name, two or three children of a tag, a pair of tags."""
    tag, ours = chosen[0].tag, _Ours.of(chosen)
    if len(chosen) < _SEVERAL:
        return
    named = sorted(
        (child for child in ours.children if "." in child or "[" in child), key=lambda child: (len(child), child)
    )
    for child in named[:_MOST_CHILDREN]:
        if "[" in child or worth(child.partition(".")[2]) is Worth.NAMED:
            yield f"{tag}:has(> {child})"
    for count in (3, 2):
        for inner in ("p", "div", "span", "li"):
            if all(len(children(e, inner)) >= count for e in chosen):
                yield f"{tag}:has(> {' + '.join([inner] * count)})"
    pairs = set.intersection(*({(a.tag, b.tag) for a, b in itertools.pairwise(children(e))} for e in chosen))
    yield from (f"{tag}:has(> {one} + {other})" for one, other in sorted(pairs)[:_MOST_CHILDREN] if one != other)


_PLAIN_TAGS = frozenset("li div tr a p span ul td section".split())


def _names(chosen: Sequence[Element]) -> list[str]:
    """What the chosen are called: by a class that all bear, by an attribute, by tag."""
    tag = chosen[0].tag
    classes = [set((element.attr("class") or "").split()) for element in chosen]
    shared = set.intersection(*classes)
    ranked = sorted((name for name in shared if PLAIN_NAME.match(name)), key=_token_rank)
    names = [f"{tag}.{name}" for name in ranked if worth(name) is Worth.NAMED]
    for attribute in _attributes(chosen):
        values = {element.attr(attribute) for element in chosen}
        value = values.pop() if len(values) == 1 else None
        if value and len(value) < 40 and '"' not in value and attribute in _TELLING_ATTRIBUTES:
            names.append(f'{tag}[{attribute}="{value}"]')
        names.append(f"{tag}[{attribute}]")
    return [*names, *(f'{tag}[class*="{part}"]' for name in sorted(shared) if (part := stem(name))), tag]


def _weak_names(chosen: Sequence[Element]) -> list[str]:
    """What the chosen are called by layout, and by names that a machine made: they change sooner than where the chosen stand."""
    if len({element.tag for element in chosen}) > 1:
        return []
    shared = set.intersection(*(set((element.attr("class") or "").split()) for element in chosen))
    ranked = sorted(
        (name for name in shared if PLAIN_NAME.match(name)), key=lambda name: (worth(name), _token_rank(name))
    )
    return [f"{chosen[0].tag}.{name}" for name in ranked if worth(name) is not Worth.NAMED]


def _attributes(chosen: Sequence[Element]) -> list[str]:
    """Attributes that all chosen bear and that say something."""
    shared = set.intersection(*(set(element.attrs) for element in chosen))
    return sorted(name for name in shared if name in _TELLING_ATTRIBUTES or name.startswith("data-"))


def _token_rank(token: str) -> tuple[bool, int, str]:
    """Class names that people gave come before those that machines made."""
    return worth(token) is Worth.MADE, -len(token), token


@dataclass(frozen=True, slots=True)
class _Ours:
    """What the chosen bear: classes that some have, attributes and children that all have, tags of which all have two."""

    classes: frozenset[str]
    attributes: frozenset[str]
    children: frozenset[str]
    pairs: tuple[str, ...]

    @classmethod
    def of(cls, chosen: Sequence[Element]) -> _Ours:
        return cls(
            frozenset().union(*((e.attr("class") or "").split() for e in chosen)),
            frozenset.intersection(*(frozenset(e.attrs) for e in chosen)),
            frozenset.intersection(*(frozenset(_children(e)) for e in chosen)),
            tuple(tag for tag in ("td", "div", "span", "li") if all(len(children(e, tag)) > 1 for e in chosen)),
        )


def _telling_apart(ours: _Ours, odd: Sequence[Element]) -> list[str]:
    """Endings that keep the odd siblings out: a class of theirs, an attribute or a child that only the others have."""
    endings = [""]
    theirs = set.intersection(*(set((o.attr("class") or "").split()) for o in odd))
    endings += [f":not(.{token})" for token in sorted(theirs - ours.classes) if PLAIN_NAME.match(token)]
    their_attributes = set().union(*(set(o.attrs) for o in odd))
    endings += [
        f"[{name}]" for name in sorted(ours.attributes - their_attributes) if PLAIN_NAME.match(name) and name != "class"
    ]
    endings += _by_children(ours, odd)
    if len(odd) == 1 and next(preceding(odd[0]), None) is None:
        endings.append(":not(:first-child)")
    return endings


def _by_children(ours: _Ours, odd: Sequence[Element]) -> list[str]:
    """`:has()` endings over children: a tag, a class or a role that all rows have and no odd one, or two cells in a row."""
    theirs = set().union(*(_children(o) for o in odd))
    endings = [f":has(> {child})" for child in sorted(ours.children - theirs, key=lambda c: (len(c), c))]
    return endings + [f":has(> {tag} + {tag})" for tag in ours.pairs if all(len(children(o, tag)) < 2 for o in odd)]


def _children(element: Element) -> set[str]:
    found = set()
    for child in children(element):
        if PLAIN_NAME.match(child.tag):
            found.add(child.tag)
            found |= {
                f"{child.tag}.{token}" for token in (child.attr("class") or "").split() if PLAIN_NAME.match(token)
            }
            if child.attr("role"):
                found.add(f'{child.tag}[role="{child.attr("role")}"]')
    return found


def _parents(chosen: Sequence[Element]) -> list[Element]:
    found = {above: None for element in chosen if (above := parent(element)) is not None}
    return list(found)


def _ways(chosen: Sequence[Element]) -> list[str]:
    """How the chosen above can be named: by id, by class, by attribute, by tag."""
    if not chosen or chosen[0].tag == "html":
        return []
    ways = []
    if len(chosen) == 1 and (name := chosen[0].attr("id")) and PLAIN_NAME.match(name) and worth(name) is not Worth.MADE:
        ways.append(f"#{name}")
    tags = {element.tag for element in chosen}
    return ways + (_names(chosen) if len(tags) == 1 else [])


def _path(element: Element) -> str:
    """A path of places from the nearest id or from the body: `body > div:nth-of-type(2) > ul`."""
    steps: list[str] = []
    for upper in [element, *ancestors(element)]:
        name = upper.attr("id")
        if name and PLAIN_NAME.match(name) and worth(name) is not Worth.MADE:
            return " > ".join([f"#{name}", *reversed(steps)])
        if upper.tag in ("body", "html"):
            return " > ".join([upper.tag, *reversed(steps)])
        before = sum(sibling.tag == upper.tag for sibling in preceding(upper))
        others = before + sum(sibling.tag == upper.tag for sibling in following(upper))
        steps.append(f"{upper.tag}:nth-of-type({before + 1})" if others else upper.tag)
    return " > ".join(reversed(steps))
