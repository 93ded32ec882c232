"""Expressions for elements that were found by other means: the shortest that pick them and nothing else, tried on the page."""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterator, Sequence

from lxml import etree

from wadi.page.document import Document
from wadi.page.expressions import BadExpression, compile_expression

_NAME = re.compile(r"-?[A-Za-z_][\w-]*\Z")
_MADE = re.compile(r"\d{2,}|^(?:css|sc|jsx?)-|[A-Z].*\d|\d.*[A-Z]")
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


def expression_for(
    document: Document, elements: Sequence[etree._Element], odd: Sequence[etree._Element]
) -> tuple[str | None, list[etree._Element]]:
    """The shortest expression that picks the elements, and what it picks.

    Without a selector that tells the odd siblings apart they are picked too; None when nothing fits.
    """
    wanted = set(elements)
    found = _first_exact(document, _selectors(elements, odd), wanted)
    if found is None and odd:
        # Keep at least those out that can be told apart one by one.
        untold = [one for one in odd if len(_telling_apart(elements, [one])) == 1]
        told = [one for one in odd if one not in untold]
        if untold and told:
            return expression_for(document, [*elements, *untold], told)
        with_odd = [*elements, *odd]
        wanted = set(with_odd)
        found = _first_exact(document, _selectors(with_odd, []), wanted)
    if found is None:
        return None, []
    order = {element: place for place, element in enumerate(document.tree.iter()) if element in wanted}
    return found, sorted(wanted, key=order.__getitem__)


def _first_exact(document: Document, selectors: Iterator[str], wanted: set[etree._Element]) -> str | None:
    for selector in itertools.islice(dict.fromkeys(selectors), _MOST_TRIED):
        try:
            found = compile_expression(selector).nodes(document.scope, document)
        except BadExpression:
            continue
        if len(found) == len(wanted) and all(node in wanted for node in found):
            return selector
    return None


def _selectors(elements: Sequence[etree._Element], odd: Sequence[etree._Element]) -> Iterator[str]:
    """Selectors worth trying, the plainest first."""
    own = [name + ending for ending in _telling_apart(elements, odd) for name in _names(elements)]
    parents = _parents(elements)
    yield from (name for name in own if name not in _PLAIN_TAGS)
    ways = _ways(parents)
    for way in ways:
        yield from (f"{way} > {name}" for name in own)
    grand = _parents(parents) if parents else []
    for way, upper in itertools.product(ways, _ways(grand)):
        yield from (f"{upper} > {way} > {name}" for name in own)
    for upper in _ways(grand):
        yield from (f"{upper} {name}" for name in own)
    great = _parents(grand) if grand else []
    for upper in _ways(great):
        yield from (f"{upper} {name}" for name in own)
    if len(parents) == 1:
        path = _path(parents[0])
        yield from (f"{path} > {name}" for name in own)


_PLAIN_TAGS = frozenset("li div tr a p span ul td section".split())


def _names(elements: Sequence[etree._Element]) -> list[str]:
    """What the elements are called: by a class that all bear, by an attribute, by tag."""
    tag = elements[0].tag
    classes = [set((element.get("class") or "").split()) for element in elements]
    shared = set.intersection(*classes)
    names = [f"{tag}.{name}" for name in sorted(shared, key=_token_rank) if _NAME.match(name)]
    for attribute in _attributes(elements):
        values = {element.get(attribute) for element in elements}
        value = values.pop() if len(values) == 1 else None
        if value and len(value) < 40 and '"' not in value and attribute in _TELLING_ATTRIBUTES:
            names.append(f'{tag}[{attribute}="{value}"]')
        names.append(f"{tag}[{attribute}]")
    names.append(tag)
    return names


def _attributes(elements: Sequence[etree._Element]) -> list[str]:
    """Attributes that all elements bear and that say something."""
    shared = set.intersection(*({str(name) for name in element.attrib} for element in elements))
    return sorted(name for name in shared if name in _TELLING_ATTRIBUTES or name.startswith("data-"))


def _token_rank(token: str) -> tuple[bool, int, str]:
    """Class names that people gave come before those that machines made."""
    return bool(_MADE.search(token)), -len(token), token


def _telling_apart(elements: Sequence[etree._Element], odd: Sequence[etree._Element]) -> list[str]:
    """Endings that keep the odd siblings out: a class of theirs, an attribute or a child that only the others have."""
    if not odd:
        return [""]
    endings = [""]
    theirs = set.intersection(*(set((o.get("class") or "").split()) for o in odd))
    ours = set().union(*(set((e.get("class") or "").split()) for e in elements))
    endings += [f":not(.{token})" for token in sorted(theirs - ours) if _NAME.match(token)]
    own_attributes = set.intersection(*({str(name) for name in e.attrib} for e in elements))
    their_attributes = set().union(*({str(name) for name in o.attrib} for o in odd))
    endings += [
        f"[{name}]" for name in sorted(own_attributes - their_attributes) if _NAME.match(name) and name != "class"
    ]
    endings += _by_children(elements, odd)
    if len(odd) == 1 and next(odd[0].itersiblings(preceding=True, tag=etree.Element), None) is None:
        endings.append(":not(:first-child)")
    return endings


def _by_children(elements: Sequence[etree._Element], odd: Sequence[etree._Element]) -> list[str]:
    """`:has()` endings over children: a tag, a class or a role that all rows have and no odd one, or two cells in a row."""
    ours = set.intersection(*(_children(e) for e in elements))
    theirs = set().union(*(_children(o) for o in odd))
    endings = [f":has(> {child})" for child in sorted(ours - theirs, key=lambda c: (len(c), c))]
    for tag in ("td", "div", "span", "li"):
        if all(len(e.findall(tag)) > 1 for e in elements) and all(len(o.findall(tag)) < 2 for o in odd):
            endings.append(f":has(> {tag} + {tag})")
    return endings


def _children(element: etree._Element) -> set[str]:
    found = set()
    for child in element:
        if isinstance(child.tag, str) and _NAME.match(child.tag):
            found.add(child.tag)
            found |= {f"{child.tag}.{token}" for token in (child.get("class") or "").split() if _NAME.match(token)}
            if child.get("role"):
                found.add(f'{child.tag}[role="{child.get("role")}"]')
    return found


def _parents(elements: Sequence[etree._Element]) -> list[etree._Element]:
    found = {parent: None for element in elements if (parent := element.getparent()) is not None}
    return list(found)


def _ways(elements: Sequence[etree._Element]) -> list[str]:
    """How the elements above can be named: by id, by class, by attribute, by tag."""
    if not elements or elements[0].tag == "html":
        return []
    ways = []
    if len(elements) == 1 and (name := elements[0].get("id")) and _NAME.match(name) and not _MADE.search(name):
        ways.append(f"#{name}")
    tags = {element.tag for element in elements}
    return ways + (_names(elements) if len(tags) == 1 else [])


def _path(element: etree._Element) -> str:
    """A path of places from the nearest id or from the body: `body > div:nth-of-type(2) > ul`."""
    steps: list[str] = []
    for one in [element, *element.iterancestors()]:
        name = one.get("id")
        if name and _NAME.match(name) and not _MADE.search(name):
            return " > ".join([f"#{name}", *reversed(steps)])
        if one.tag in ("body", "html"):
            return " > ".join([one.tag, *reversed(steps)])
        before = sum(sibling.tag == one.tag for sibling in one.itersiblings(preceding=True))
        others = before + sum(sibling.tag == one.tag for sibling in one.itersiblings())
        steps.append(f"{one.tag}:nth-of-type({before + 1})" if others else one.tag)
    return " > ".join(reversed(steps))
