"""Labels with values beside them, as rows and pages have them: which there are, what they say, and what elements make them."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from wadi.learn.clues.types import STRING, guessed_type
from wadi.page.labels import LabelsIn, folded, is_long
from wadi.page.nodes import Element, children, elements, following, has_children, leading_text, parent, preceding
from wadi.page.text import is_hidden, text_of

_LINE = re.compile(r"([^\W\d][^:：\n<>]{0,29}?)\s*(?::\s+|：\s*)\S[^\n]*")
_ENDS = (":", "：")
_MOST_LETTERS, _MOST_WORDS, _MOST_LABELS = 40, 4, 30
_LEAST_ROWS, _LEAST_SHARE, _LEAST_SHARE_OF_LINES = 2, 0.1, 0.3
_MOST_NODES, _MOST_OF_ROW = 3000, 600
"""So many elements of a row or a page are looked at."""
_ELSEWHERE = frozenset({"nav", "footer", "form", "aside", "script", "style", "select", "noscript", "template"})


@dataclass
class Labels:
    """The labels of rows, in the order in which they stand: for each the value of every row, "" where it has none."""

    values: dict[str, list[str]] = field(default_factory=dict)
    _by_element: dict[Element, str] = field(default_factory=dict)
    _folded: dict[str, str] = field(default_factory=dict)

    def make(self, element: Element) -> bool:
        """Whether all that an element says is a label, the value of one, or lines of both."""
        if element in self._by_element:
            return True
        lines = text_of(element).split("\n")
        return all(folded(line) in self._folded or folded(_label_of(line)) in self._folded for line in lines)

    def valued_in(self, element: Element) -> list[str]:
        """The labels whose values stand in an element."""
        if element in self._by_element:
            return [self._by_element[element]]
        lines = (folded(_label_of(line)) for line in text_of(element).split("\n"))
        return [self._folded[line] for line in lines if line in self._folded]


def labels_of_rows(rows: Sequence[Element], *, every: bool = False) -> Labels:
    """The labels that several of the rows have. Values in elements with a class of their own are found by that, and left out,
    unless `every` label is asked for."""
    counts: Counter[tuple[str, bool]] = Counter()
    for row in rows:
        counts.update(list(dict.fromkeys(_labels_in(row, most=_MOST_OF_ROW))))
    least = {True: _LEAST_SHARE_OF_LINES * len(rows), False: _LEAST_SHARE * len(rows)}
    usual = [label for (label, is_line), n in counts.items() if n >= max(_LEAST_ROWS, least[is_line])]
    known = [LabelsIn(row) for row in rows]
    found = _labels(known, [label for label in usual if every or not _have_classes(known, label)])
    found._folded.update({folded(label): label for label in usual})
    return found


def _have_classes(rows: Sequence[LabelsIn], label: str) -> bool:
    """Whether the value beside a label always stands in an element with a class that tells it from its siblings."""
    values = [value for row in rows for value in row.find([label])[:1]]
    classes = [member.attr("class") for member in values if not isinstance(member, str)]
    others = [two.attr("class") for member in values if not isinstance(member, str) for two in _siblings(member)]
    return len(classes) == len(values) and len(set(classes)) == 1 and bool(classes[0]) and classes[0] not in others


def _siblings(element: Element) -> Iterator[Element]:
    yield from following(element)
    yield from preceding(element)


def labels_of_page(root: Element) -> Labels:
    """The labels of a page that shows one thing, without those of its navigation, its forms and its foot."""
    main = next(elements(root, "main"), None)
    scope = main if main is not None else next(elements(root, "body"), root)
    return _labels([LabelsIn(scope)], [label for label, _ in _labels_in(scope, forms=_are_filled(scope))])


def _are_filled(scope: Element) -> bool:
    """Whether the controls of a page show what a record holds, and do not ask for something."""
    held = [
        control.attr("value")
        for control in elements(scope, "input")
        if control.attr("type") in (None, "text", "number")
    ]
    return len(held) > 1 and sum(bool(value) for value in held) * 2 > len(held)


def _labels(scopes: Sequence[LabelsIn], names: Sequence[str]) -> Labels:
    found = Labels()
    for name in names:
        if folded(name) in found._folded or len(found.values) >= _MOST_LABELS:
            continue
        values = [scope.find([name])[:1] for scope in scopes]
        texts = [member if isinstance(member, str) else text_of(member) for value in values for member in value or [""]]
        if any(texts):
            found.values[name] = texts
            found._folded[folded(name)] = name
            found._by_element.update(
                {member: name for value in values for member in value if not isinstance(member, str)}
            )
    return found


def _labels_in(scope: Element, *, forms: bool = False, most: int = _MOST_NODES) -> Iterator[tuple[str, bool]]:
    """The labels in a row or on a page, and whether each stands in one line with its value; those of `forms` where they are
    wanted."""
    stack: list[Element] = [scope]
    of_terms: set[Element] = set()
    by_turns: set[Element] = set()
    left = most
    while stack and left:
        element = stack.pop()
        left -= 1
        if are_by_turns(inner := children(element)):
            by_turns.update(inner[0::2])
        is_elsewhere = element.tag in _ELSEWHERE and not (forms and element.tag == "form")
        if element != scope and (is_elsewhere or is_hidden(element)):
            continue
        if element.tag == "dl" and all(child.tag not in ("dd", "div") for child in children(element)):
            of_terms.add(element)
        if element.tag == "dt" and parent(element) in of_terms:  # a list of terms alone has no labels
            stack += reversed(children(element))
            continue
        if (label := _own_label(element, scope, is_by_turns=element in by_turns)) is not None:
            yield label, False
        elif (leading_text(element).strip() or not has_children(element)) and not is_long(element):
            yield from ((label, True) for line in text_of(element).split("\n") if (label := _label_of(line)))
        stack += reversed(children(element))


def _own_label(element: Element, scope: Element, *, is_by_turns: bool = False) -> str | None:
    """The label that an element is: a term, the head of a row that has one value, a text that ends with a colon."""
    row = parent(element)
    is_head = element.tag == "th" and row is not None and row != scope and is_pair(row)
    is_said = element.tag in ("dt", "label") or is_head or leading_text(element).rstrip().endswith(_ENDS)
    if not is_said and (element == scope or not (is_by_turns or _is_first_of_pair(element))):
        return None
    if element == scope or len(children(element)) > 2:
        return None
    text = " ".join(text_of(element).split()).rstrip(" :：\u00a0")
    is_short = 0 < len(text) < _MOST_LETTERS and len(text.split()) <= _MOST_WORDS and '"' not in text
    return text if is_short and any(c.isalpha() for c in text) else None


def _is_first_of_pair(element: Element) -> bool:
    """Whether an element is the first of two in several alike parents: a name and its value, apart by class or tag."""
    around = parent(element)
    if around is None or has_children(element) or len(pair := children(around)) != 2 or pair[0] != element:
        return False
    if around.tag == "tr":
        return are_pairs([row for row in _siblings_and(around) if row.tag == "tr"])
    shape = _marks(pair)
    alike = sum(_marks(children(other)) == shape for other in _siblings(around) if other.tag == around.tag)
    return shape[0] != shape[1] and alike > 0 and not any(c.isdigit() for c in text_of(element))


def are_by_turns(members: Sequence[Element]) -> bool:
    """Whether siblings without children are labels and values by turns: all labels have one class, and no value has it."""
    if len(members) < 4 or len(members) % 2 or len(members) > _MOST_LABELS * 2 or any(map(has_children, members)):
        return False
    if _marks(members[:1]) == _marks(members[1:2]):
        return False
    marks = _marks(members)
    labels = [text_of(member) for member in members[0::2]]
    are_words = all(len(label) < _MOST_LETTERS and not any(c.isdigit() for c in label) for label in labels)
    return are_words and len(set(labels)) == len(labels) and len(set(marks[0::2])) == 1 and marks[0] not in marks[1::2]


def _marks(members: Sequence[Element]) -> tuple[tuple[str, str], ...]:
    return tuple((member.tag, member.attr("class") or "") for member in members)


def _siblings_and(element: Element) -> list[Element]:
    around = parent(element)
    return children(around) if around is not None else [element]


def are_labels_and_values(rows: Sequence[Element]) -> bool:
    """Whether what repeats is the labels and values of one thing, and no rows."""
    return all(map(is_pair, rows)) or are_pairs(rows) or are_by_turns(rows)


def are_pairs(rows: Sequence[Element]) -> bool:
    """Whether the rows of a table of two columns are labels and values, though no cell says so: short words without figures,
    none twice, before values of several types, some with figures."""
    cells = [children(row) for row in rows]
    if not 1 < len(rows) <= _MOST_LABELS or any([cell.tag for cell in own] != ["td", "td"] for own in cells):
        return False
    heads, values = ([text_of(own[place]) for own in cells] for place in (0, 1))
    are_words = all(0 < len(head) < _MOST_LETTERS and not any(c.isdigit() for c in head) for head in heads)
    figures = [value for value in values if any(c.isdigit() for c in value)]
    is_mixed = bool(figures) and guessed_type(values) == STRING
    kinds = {guessed_type([value]) for value in values}
    return are_words and len(set(heads)) == len(heads) and is_mixed and len(kinds) > 1


def is_pair(row: Element) -> bool:
    """Whether a row of a table is a head and its value."""
    return [cell.tag for cell in children(row)] in (["th", "td"], ["th", "td"] * 2)


def _label_of(line: str) -> str:
    """The label of a line "Label: value"; empty for others."""
    found = _LINE.fullmatch(line.strip())
    label = found[1] if found is not None and len(found[1].split()) <= _MOST_WORDS else ""
    return "" if '"' in label else label
