"""Candidates for rows on a page that nobody has described: repeated elements, ranked so that the main listing comes first.

Method: every set of siblings of one tag (also across parents that are siblings themselves) is a candidate. What its
members have in common is found as paths below them (tags, classes, roles, places of cells); rows that lack most of it,
such as headings and notices, are taken out if one selector can tell them. The score is the product of how many rows
there are, how many fields vary among them, how alike they are, how much of the page's text they hold, and a factor for
navigation and its like. `tests/labelled` holds the pages that it is measured on, `docs/inspect.md` its misses.
"""

from __future__ import annotations

import heapq
import math
import re
from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import islice

from wadi.learn.clues.class_names import names
from wadi.learn.clues.selectors import expression_for
from wadi.learn.clues.surroundings import is_called_navigation
from wadi.learn.clues.tables import is_heading
from wadi.page.document import Document
from wadi.page.nodes import (
    TEXTS,
    Element,
    ancestors,
    attributes,
    children,
    elements,
    first,
    following,
    has_children,
    letters_in,
    own_texts,
    parent,
    preceding,
)
from wadi.page.text import UNSEEN, is_hidden, text_of
from wadi.plan.model import MISSING_TEXTS

_LEAST_ROWS = 2
_ROWS_RANKED = 40
_ROWS_READ = 2000
_MOST_PATHS, _MOST_NODES, _MOST_SETS = 150, 600, 400
_LEAST_TERMS, _LONG_DEFINITION = 4, 30
_NO_PARTS = frozenset("table section article form nav main footer ul ol".split())
_IN_TURN, _MOST_BEHIND, _MOST_INSIDE = 0.85, 3, 30
_COMMON = 0.6
_ODD = 0.6
_LEAST_OF_BEST = 0.03
_SHARED_TOKEN = 0.75
_NO_ROWS = frozenset("option br hr col td th dt dd source track script style link meta param area label input".split())
_NAVIGATION_TAGS = frozenset({"nav", "footer", "aside", "menu", "select", "form"})


@dataclass(frozen=True, slots=True)
class RowsGuess:
    """A candidate: the expression that picks its rows, the rows and its score (to be compared on one page alone). `behind` are
    the siblings behind a row that belong to its record: a `dd` behind its `dt`, a second line of a table."""

    expression: str
    rows: tuple[Element, ...]
    score: float
    left_out: int = 0
    behind: Mapping[Element, Sequence[Element]] = field(default_factory=dict)

    @property
    def count(self) -> int:
        return len(self.rows)


@dataclass(slots=True)
class RowSet:
    """A set of alike elements under one parent or under sibling parents, measured: `odd` are those that are no rows like the
    others, `behind` what belongs to a row and stands behind it."""

    elements: list[Element]
    paths: list[set[str]]
    texts: list[str]
    values: dict[str, list[str]]
    odd: list[Element]
    behind: dict[Element, list[Element]]
    score: float = 0.0


def row_candidates(document: Document, most: int = 8) -> list[RowsGuess]:
    """The best candidates, best first; those nested in a better one with nothing of their own are left out."""
    body = first(document.top, "body")
    root = document.top if body is None else body
    whole = max(1, len(_squeezed(root)))
    sets = [_measured(elements, whole, _ROWS_RANKED) for elements in _worth_measuring(root)]
    ranked = sorted(
        (one for one in sets if one is not None and one.score > 0), key=lambda rows: rows.score, reverse=True
    )
    found: list[RowsGuess] = []
    taken: list[set[Element]] = []
    for one in ranked:
        if len(found) >= most or (found and one.score < found[0].score * _LEAST_OF_BEST):
            break
        if len(one.elements) + len(one.odd) > _ROWS_RANKED:
            one = _measured([*one.elements, *one.odd], whole, _ROWS_READ) or one
        members = set(one.elements)
        if any(
            members <= other or _is_shell(one.elements, other) or _is_inside(one.elements, other) for other in taken
        ):
            continue
        guess = as_guess(document, one)
        if guess is not None:
            taken.append(set(guess.rows))
            found.append(guess)
    return found


def row_sets(document: Document) -> list[list[Element]]:
    """Every set of alike siblings that may be rows, also terms with their definitions."""
    body = first(document.top, "body")
    root = document.top if body is None else body
    return [
        *_sibling_sets(root),
        *(terms for holder in elements(root, "dl") if len(terms := children(holder, "dt")) > 1),
    ]


def measured_set(
    document: Document, elements: list[Element], keep: Sequence[Element] = (), without: Sequence[Element] = ()
) -> RowSet | None:
    """One set measured; the members of `keep` are rows, those around elements of `without` are none. None when nothing varies
    in it."""
    body = first(document.top, "body")
    whole = document.cached("letters", lambda: max(1, len(_squeezed(document.top if body is None else body))))
    return _measured(elements, whole, _ROWS_READ, keep, without)


def as_guess(document: Document, one: RowSet) -> RowsGuess | None:
    """The set as a candidate, with the shortest expression that picks its rows; None where none does."""
    if is_heading(one.elements[0], one.elements[1:]):
        one = replace(one, odd=[one.elements[0], *one.odd], elements=one.elements[1:])
    expression, rows = expression_for(document, one.elements, one.odd)
    if expression is None:
        return None
    left_out = len(one.odd) if len(rows) == len(one.elements) else 0
    return RowsGuess(expression, tuple(rows), one.score, left_out, one.behind)


def _is_shell(elements: Sequence[Element], other: set[Element]) -> bool:
    """Whether the elements are only other names for rows that are taken: each alone inside one of them, or around one."""
    if len(elements) != len(other):
        return False
    inside = {next((a for a in ancestors(element) if a in other), None) for element in elements}
    if None not in inside and len(inside) == len(other):
        return True
    around = {a for row in other for a in ancestors(row)}
    return all(element in around for element in elements)


def _is_inside(elements: Sequence[Element], other: set[Element]) -> bool:
    """Whether the elements are parts of one row that is taken."""
    return any(ancestor in other for ancestor in ancestors(elements[0]))


def _sibling_sets(root: Element) -> Iterator[list[Element]]:
    """Children of one parent that share a tag; and the same for parents that are siblings of one kind."""
    by_parent: dict[Element, dict[str, list[Element]]] = {}
    for holder in elements(root):
        inner = children(holder)
        if not inner or holder.tag == "select" or is_hidden(holder):
            continue
        by_tag: dict[str, list[Element]] = defaultdict(list)
        is_of_terms = holder.tag == "dl" and not any(child.tag == "dd" for child in inner)
        for child in inner:
            if (
                (child.tag not in _NO_ROWS or (child.tag == "dt" and is_of_terms))
                and child.tag not in UNSEEN
                and not is_hidden(child)
            ):
                by_tag[child.tag].append(child)
        by_parent[holder] = by_tag
        for alike in by_tag.values():
            if len(alike) >= _LEAST_ROWS:
                yield alike
                if first_lines := lines_by_turns(alike):
                    yield first_lines
        if holder.tag == "dl" and _are_records(terms := children(holder, "dt")):
            yield terms
    yield from _across_parents(by_parent)


def _are_records(terms: Sequence[Element]) -> bool:
    """Whether terms with their definitions are records: what is said of labels is short."""
    said = sorted(len(text_of(own[0])) for own in behind_rows(terms).values())
    return len(said) >= _LEAST_TERMS and said[len(said) // 2] >= _LONG_DEFINITION


def lines_by_turns(siblings: Sequence[Element]) -> list[Element]:
    """The first of the two or three lines of each record, where siblings of other shapes take turns; empty where they are
    alike."""
    shapes = [_shape(sibling) for sibling in siblings]
    start = next((place for place in range(min(3, len(shapes))) if shapes.count(shapes[place]) > 1), 0)
    rest, kept = shapes[start:], list(siblings[start:])
    for turns in (2, 3):
        if len(rest) < turns * _LEAST_ROWS or len(set(rest[:turns])) < turns:
            continue
        fitting = sum(shape == rest[place % turns] for place, shape in enumerate(rest))
        if fitting >= len(rest) * _IN_TURN:
            return [element for element, shape in zip(kept, rest, strict=True) if shape == rest[0]]
    return []


def _shape(element: Element) -> tuple[str, ...]:
    """What a sibling looks like: its children's tags and how many columns they cover; of one without children its class."""
    inner = children(element)
    if not inner:
        return ("", *names(element))
    return tuple(f"{child.tag}{child.attr('colspan') or ''}" for child in inner)


def behind_rows(rows: Sequence[Element]) -> dict[Element, list[Element]]:
    """What stands between each row and the next and belongs to it: the same tags behind nearly all. Empty where nothing does."""
    members = set(rows)
    found: dict[Element, list[Element]] = {}
    for row in rows:
        found[row] = []
        for sibling in following(row):
            if sibling in members or len(found[row]) > _MOST_BEHIND:
                break
            if sibling.tag not in UNSEEN and sibling.tag not in ("hr", "br"):
                found[row].append(sibling)
    shapes = Counter(tuple(sibling.tag for sibling in own) for own in found.values())
    (usual, count), *_ = shapes.most_common(1) or [((), 0)]
    if not 0 < len(usual) <= _MOST_BEHIND or count < len(rows) * _IN_TURN - 1 or count < _LEAST_ROWS:
        return {}
    before = next(preceding(rows[0]), None)
    if before is not None and before.tag == usual[-1]:
        return {}  # the rows are what stands behind others
    kept = {row: own for row, own in found.items() if tuple(sibling.tag for sibling in own) == usual}
    return kept if all(map(_is_light, next(iter(kept.values())))) else {}


def _is_light(element: Element) -> bool:
    """Whether an element may be a part of a record, and is no list or table of its own."""
    inner = list(islice(elements(element), _MOST_INSIDE + 1))
    return len(inner) <= _MOST_INSIDE and element.tag not in _NO_PARTS


def _worth_measuring(root: Element) -> list[list[Element]]:
    """The sets of siblings; of very many those with the most text, in the order in which they stand."""
    sets = list(_sibling_sets(root))
    if len(sets) <= _MOST_SETS:
        return sets
    letters = letters_in(root)
    heavy = heapq.nlargest(_MOST_SETS, range(len(sets)), key=lambda place: sum(letters[one] for one in sets[place]))
    return [sets[place] for place in sorted(heavy)]


def _across_parents(by_parent: dict[Element, dict[str, list[Element]]]) -> Iterator[list[Element]]:
    """The same children under parents that stand beside each other: grids in lines, lists under headings, several tbody."""
    beside: dict[tuple[Element | None, str, str, str], list[list[Element]]] = defaultdict(list)
    for holder, by_tag in by_parent.items():
        for tag, alike in by_tag.items():
            if not _are_fields(alike):
                beside[parent(holder), holder.tag, holder.attr("class") or "", tag].append(alike)
    for groups in beside.values():
        if len(groups) > 1 and sum(len(group) > 1 for group in groups) * 2 > len(groups):
            yield [element for group in groups for element in group]


def _are_fields(siblings: Sequence[Element]) -> bool:
    """Whether each child bears another name than its siblings: then they are the parts of one row, not rows."""
    for attribute in ("class", "slot", "itemprop", "headers"):
        names = [sibling.attr(attribute) for sibling in siblings]
        if len(names) > 1 and None not in names and len(set(names)) == len(names):
            return True
    return False


def _headings_in(rows: Sequence[Element]) -> list[Element]:
    """The rows of a table that have headings alone, where most have other cells: they are no records."""
    heads = [row for row in rows if row.tag == "tr" and (cells := children(row)) and all(c.tag == "th" for c in cells)]
    return heads if len(heads) * 2 < len(rows) else []


def _measured(
    elements: list[Element], whole: int, most: int, keep: Sequence[Element] = (), without: Sequence[Element] = ()
) -> RowSet | None:
    """The set with its odd rows taken out and its score, from its first `most` members; None when nothing varies in it."""
    read = elements[:most]
    behind = behind_rows(read)
    leaves = [_leaves(element, behind.get(element, ())) for element in read]
    paths = [set(found) for found in leaves]
    common = {path for path, count in Counter(p for own in paths for p in own).items() if count >= len(read) * _COMMON}
    tokens = _shared_tokens(read)
    odd = [e for e, own in zip(read, paths, strict=True) if _is_odd(e, own, common, tokens)]
    if odd and (len(odd) > len(read) * 0.4 or any(element in keep for element in odd)):
        odd = []
    odd += [e for e in _headings_in(read) if e not in odd and e not in keep]
    odd += [e for e in read if e not in odd and any(e == inner or e in ancestors(inner) for inner in without)]
    kept = [(e, found) for e, found in zip(read, leaves, strict=True) if e not in odd]
    if len(kept) < _LEAST_ROWS:
        return None
    values: dict[str, list[str]] = defaultdict(list)
    for _, found in kept:
        for path, text in found.items():
            values[path].append(text)
    texts = ["".join(map(_squeezed, [element, *behind.get(element, ())])) for element, _ in kept]
    out = set(odd)
    members = [e for e in elements if e not in out]
    if behind and len(elements) > most:
        behind = behind_rows(elements)
    rows = RowSet(members, [set(found) for _, found in kept], texts, values, odd, behind)
    rows.score = _score(rows, whole)
    return rows


def _shared_tokens(elements: Sequence[Element]) -> set[str]:
    """Class names that most, but not all, of the elements bear."""
    counts = Counter(token for element in elements for token in set((element.attr("class") or "").split()))
    return {token for token, count in counts.items() if len(elements) > count >= len(elements) * _SHARED_TOKEN}


def _is_odd(element: Element, paths: set[str], common: set[str], tokens: set[str]) -> bool:
    """Whether an element is no row like the others: it lacks most of what they have, or a class that nearly all bear."""
    if common and len(paths & common) < len(common) * _ODD:
        return True
    return bool(tokens) and not tokens & set((element.attr("class") or "").split())


def _leaves(row: Element, behind: Sequence[Element] = ()) -> dict[str, str]:
    """Path → text for everything in a row, and in what stands behind it, that holds text of its own, and for links, images
    and data attributes."""
    found: dict[str, str] = {}
    stack: list[tuple[Element, str]] = [*((sibling, f"+{sibling.tag}") for sibling in reversed(behind)), (row, "")]
    looked_at = 0
    while stack and len(found) < _MOST_PATHS and looked_at < _MOST_NODES:
        element, path = stack.pop()
        looked_at += 1
        text = " ".join(own_texts(element)).strip()
        if text and text.strip("\u00a0 ") not in MISSING_TEXTS:
            found.setdefault(path or ".", " ".join(text.split()))
        for name in ("href", "src", "datetime"):
            if element.attr(name):
                found.setdefault(f"{path}@{name}", element.attr(name) or "")
        for key, value in attributes(element).items() if not path else ():
            if str(key).startswith("data-") and value:
                found.setdefault(f"@{key!s}", str(value))
        for place, child in enumerate(children(element), 1):
            if not is_hidden(child):
                stack.append((child, f"{path}/{_step(child, place)}"))
    return found


def _step(element: Element, place: int) -> str:
    tag = element.tag
    role = element.attr("role")
    if role:
        tag = f"{tag}[{role}]"
    if tag in ("td", "th") or role in ("cell", "gridcell"):
        return f"{tag}:{place}"
    token = next((t for t in (element.attr("class") or "").split() if not re.search(r"\d", t)), "")
    return f"{tag}.{token}" if token else tag


def _score(rows: RowSet, whole: int) -> float:
    count = len(rows.elements)
    varied = [path for path, texts in rows.values.items() if _varies(path, texts, len(rows.paths))]
    if not varied:
        return 0.0
    alike = sum(len(text & set(varied)) for text in rows.paths) / (len(rows.paths) * len(varied))
    distinct = len(set(rows.texts)) / len(rows.texts)
    length = sorted(map(len, rows.texts))[len(rows.texts) // 2]
    coverage = min(1.0, sum(map(len, rows.texts)) * count / len(rows.texts) / whole)
    fields = len([path for path in varied if "@" not in path]) + 0.3 * len([path for path in varied if "@" in path])
    size = math.log2(1 + count)
    richness = min(fields, 8.0) + min(length / 60, 2.0)
    return size * richness * alike * distinct * math.sqrt(coverage) * _surroundings(rows.elements)


def _varies(path: str, texts: list[str], rows: int) -> bool:
    return len(texts) >= rows * 0.3 and len(set(texts)) > max(1, len(texts) * 0.15)


def _surroundings(elements: Sequence[Element]) -> float:
    """A factor below 1 for what stands in navigation, footers and side lists, and for bare links."""
    first = elements[0]
    factor = 1.0
    for element in [first, *ancestors(first)]:
        if element.tag in _NAVIGATION_TAGS or element.attr("role") == "navigation":
            factor = min(factor, 0.25)
        elif is_called_navigation(element):
            factor = min(factor, 0.4)
    if all(_is_bare_link(element) for element in elements[:20]):
        factor *= 0.5
    return factor


def _is_bare_link(element: Element) -> bool:
    """Whether all text of the element stands in one link, with no structure inside."""
    links = [element] if element.tag == "a" else list(elements(element, "a"))
    return len(links) == 1 and not has_children(links[0]) and _squeezed(element) == _squeezed(links[0])


def _squeezed(element: Element) -> str:
    """The visible text without blanks, for comparing and measuring."""
    pieces: list[str] = []
    stack = [iter(element.children)]
    while stack:
        node = next(stack[-1], None)
        if node is None:
            stack.pop()
        elif isinstance(node, TEXTS):
            pieces.append(node.data)
        elif isinstance(node, Element) and node.tag not in UNSEEN and node.tag != "select":
            stack.append(iter(node.children))
    return "".join("".join(pieces).split())
