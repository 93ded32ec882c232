"""Candidate fields of rows: expressions relative to a row, how many rows have them, samples, name and type."""

from __future__ import annotations

import itertools
import json
import re
import unicodedata
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace

from wadi.clean.text import tidied
from wadi.learn.labels import Labels, labels_of_page, labels_of_rows
from wadi.learn.types import STRING, TypeGuess, guessed_type
from wadi.page.document import Document
from wadi.page.expressions import BadExpression, compile_expression
from wadi.page.nodes import (
    Element,
    ancestors,
    attributes,
    children,
    elements,
    first,
    following,
    has_children,
    own_texts,
    parent,
    preceding,
)
from wadi.page.text import is_hidden, text_of
from wadi.plan.model import MISSING_TEXTS, PAGE_KEYS
from wadi.problems import escaped_in_strings

ROWS_READ = 60
"""Fields are looked for in so many rows; shares are shares of these."""
_MOST_FIELDS = 40
_MOST_SPOTS, _MOST_NODES = 120, 600
"""So many places are tried, the first that enough rows have; so many elements of a row are looked at."""
_LEAST_SHARE = 0.1
_AGREEMENT = 0.95
_ATTRIBUTES = ("href", "src", "datetime", "value", "content", "alt", "title")
_WORDY = ("alt", "title", "aria-label")
_LONGEST_VALUE = 80
_NAME = re.compile(r"-?[A-Za-z_][\w-]*\Z")
_INLINE = frozenset("b i em strong small br wbr sup sub mark abbr u s font code".split())


@dataclass(frozen=True, slots=True)
class FieldGuess:
    """A candidate field. `expression` is relative to the row, or there is a `label` that its value stands beside; `share` of
    the rows have it, `several` of them twice or more.

    `name` is a guess from headings, labels and classes. `is_unique` tells that all rows have it, and no two the same; `remark`
    what is odd about it.
    """

    expression: str
    attribute: str | None
    share: float
    several: float
    samples: tuple[str, ...]
    type: TypeGuess = STRING
    name: str = ""
    label: str = ""
    is_unique: bool = False
    source: str = ""
    remark: str = ""

    def as_plan(self) -> str:
        """The field as a plan has it: the short form where that says it all."""
        if self.source:
            keys = [f"from = {quoted(self.source)}", *([self.type.keys()] if self.type.keys() else [])]
            return f"{{ {', '.join(keys)} }}"
        if self.label:
            keys = [f"label = {quoted(self.label)}"]
            return f"{{ {', '.join([*keys, *([self.type.keys()] if self.type.keys() else [])])} }}"
        keys = [f"at = {quoted(self.expression)}"]
        keys += [f'attr = "{self.attribute}"'] if self.attribute else []
        keys += [self.type.keys()] if self.type.keys() else []
        return quoted(self.expression) if len(keys) == 1 else f"{{ {', '.join(keys)} }}"


@dataclass(slots=True)
class _Spot:
    """A place below the rows: the elements that stand there, by row."""

    elements: dict[int, list[Element]] = field(default_factory=lambda: defaultdict(list))


def quoted(text: str) -> str:
    """An expression as a TOML string, in the plainest quotes that hold it."""
    if not text.isprintable():
        return escaped_in_strings(json.dumps(text, ensure_ascii=False))
    if '"' not in text and "\\" not in text:
        return f'"{text}"'
    return f"'{text}'" if "'" not in text else '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def field_candidates(document: Document, rows: Sequence[Element], language: str = "") -> list[FieldGuess]:
    """The fields that the first rows have, in the order in which they stand; at most 40. `language` is the
    page's."""
    read = list(rows[:ROWS_READ])
    found: list[FieldGuess] = []
    seen: set[tuple[str, ...]] = set()
    for name in _row_attributes(read):
        texts = [tidied(row.attr(name) or "") for row in read]
        _add(found, seen, _guess(".", name, texts, 0.0, name.removeprefix("data-"), language), texts)
    labels = labels_of_rows(read) if document.kind == "html" else Labels()
    labelled = {label: (guess, texts) for label, guess, texts in _labelled(labels, language)}
    for spot in _spots(read):
        if len(found) >= _MOST_FIELDS:
            break
        is_labelled = bool(labels.values) and _is_made_by(labels, spot)
        for label in _labels_valued_in(labels, spot) if is_labelled else ():
            if label in labelled:
                _add(found, seen, *labelled.pop(label))
        chosen = _expression(document, read, spot)
        if chosen is None:
            continue
        expression, label = chosen
        for attribute, texts, several in _readings(read, spot):
            if is_labelled and attribute is None:
                continue
            beside = (
                next((words for words, (_, its) in labelled.items() if its == texts), "") if attribute is None else ""
            )
            name = beside or _name(spot, attribute, label, read)
            _add(found, seen, _guess(expression, attribute, texts, several, name, language), texts)
    for guess, texts in labelled.values():
        _add(found, seen, guess, texts)
    return named_apart(_with_dull_columns(found, read, language)[:_MOST_FIELDS])


def _with_dull_columns(found: list[FieldGuess], rows: Sequence[Element], language: str) -> list[FieldGuess]:
    """The fields of a table's rows with those columns among them that have a heading, and are blank or the same in all rows of
    this page: on others they may not be."""
    width = max((len(children(row)) for row in rows if row.tag == "tr"), default=0)
    if not width or not all(row.tag == "tr" for row in rows):
        return found
    dull: list[FieldGuess] = []
    for place in range(1, width + 1):
        cells = [cells[place - 1] if len(cells := children(row)) >= place else None for row in rows]
        name = next((_heading_of(cell, rows) for cell in cells if cell is not None), "")
        texts = [text_of(cell) if cell is not None else "" for cell in cells]
        filled = sorted({text for text in texts if text not in MISSING_TEXTS})
        if name and len(rows) > 3 and len(filled) < 2 and not any(field.name == name for field in found):
            remark = "the same in all rows of this page" if filled else "blank on this page"
            share = sum(text in filled for text in texts) / len(texts)
            kind = guessed_type(filled, None, language) if filled else STRING
            expression = f"{next(cell.tag for cell in cells if cell is not None)}:nth-child({place})"
            dull.append(FieldGuess(expression, None, share, 0.0, tuple(filled), kind, name, remark=remark))
    return [*found, *dull]


def page_fields(document: Document, language: str = "") -> list[FieldGuess]:
    """The fields of a page that shows one thing: its heading, and the values beside labels. None where there are no labels."""
    found = [guess for _, guess, _ in _labelled(labels_of_page(document.top), language) if guess is not None]
    heading = next(elements(document.top, "h1"), None)
    if found and heading is not None and (title := text_of(heading)):
        found.insert(0, FieldGuess("h1", None, 1.0, 0.0, (title,), STRING, "name"))
    return named_apart(found[:_MOST_FIELDS])


def _labelled(labels: Labels, language: str) -> Iterator[tuple[str, FieldGuess | None, list[str]]]:
    """The labels with a field for each, None where it says nothing, and its texts."""
    for label, texts in labels.values.items():
        guess = _guess("", None, texts, 0.0, label, language)
        yield label, replace(guess, label=label) if guess is not None else None, texts


def _labels_valued_in(labels: Labels, spot: _Spot) -> Iterator[str]:
    for there in spot.elements.values():
        for element in there:
            yield from labels.valued_in(element)


def _is_made_by(labels: Labels, spot: _Spot) -> bool:
    """Whether what stands at a place is labels and their values."""
    elements = [element for found in spot.elements.values() for element in found]
    return sum(map(labels.make, elements)) >= len(elements) * _AGREEMENT


def _add(found: list[FieldGuess], seen: set[tuple[str, ...]], guess: FieldGuess | None, texts: list[str]) -> None:
    """Add a candidate unless another one, found before, has the same texts."""
    key = (guess.attribute or "", *texts) if guess and guess.attribute in ("href", "src") else tuple(texts)
    if guess is not None and key not in seen:
        seen.add(key)
        found.append(guess)


def _guess(
    expression: str, attribute: str | None, texts: list[str], several: float, name: str, language: str
) -> FieldGuess | None:
    filled = [text for text in texts if text not in MISSING_TEXTS]
    share = len(filled) / len(texts)
    if share < _LEAST_SHARE or (len(set(filled)) == 1 and len(texts) > 3 and share > 0.6):
        return None
    samples = tuple(dict.fromkeys(filled))[:3]
    is_unique = 1 < len(texts) == len(set(filled))
    guess = guessed_type(filled, attribute, language)
    return FieldGuess(expression, attribute, share, several, samples, guess, name, is_unique=is_unique)


def _row_attributes(rows: Sequence[Element]) -> list[str]:
    names = dict.fromkeys(name for row in rows for name in row.attrs)
    return [name for name in names if name.startswith("data-") or name in ("href", "id", "code", "itemid")]


def _spots(rows: Sequence[Element]) -> Iterator[_Spot]:
    """The places below the rows that hold text, a link or an image, in reading order."""
    spots: dict[str, _Spot] = {}
    for number, row in enumerate(rows):
        stack, looked_at = [(row, "")], 0
        while stack and looked_at < _MOST_NODES:
            element, path = stack.pop()
            looked_at += 1
            if _holds(element):
                spots.setdefault(path, _Spot()).elements[number].append(element)
            shown = [child for child in children(element) if not is_hidden(child)]
            places = {child: place for place, child in enumerate(shown, 1)}
            stack += [(child, f"{path}/{_step(child, places[child])}") for child in reversed(shown)]
    usual = (spot for spot in spots.values() if len(spot.elements) >= len(rows) * _LEAST_SHARE)
    yield from itertools.islice(usual, _MOST_SPOTS)


def _holds(element: Element) -> bool:
    if "".join(own_texts(element)).strip() or any(
        element.attr(name) for name in ("href", "src", "datetime", "content")
    ):
        return True
    return not has_children(element) and any(_may_say(name, value) for name, value in attributes(element).items())


def _may_say(name: str, value: str) -> bool:
    """Whether an attribute of an element without a text may say what a reader sees as a picture: stars, a bar."""
    return (name.startswith("data-") or name in _WORDY) and 0 < len(value) <= _LONGEST_VALUE


def _step(element: Element, place: int) -> str:
    """How a place is told from its siblings: cells by number, labelled values by their label, others by tag and class."""
    tag = element.tag
    if tag in ("td", "th"):
        return f"{tag}:{place}"
    if tag == "dd" and (label := _label(element)):
        return f"dd={label}"
    token = next((t for t in (element.attr("class") or "").split() if not re.search(r"\d", t)), "")
    marks = [element.attr(name) or "" for name in ("itemprop", "slot", "role")]
    return f"{tag}.{token}|{'|'.join(marks)}"


def _label(element: Element) -> str | None:
    """The text of the `dt` before a `dd`."""
    before = next((label for label in preceding(element) if label.tag == "dt"), None)
    text = text_of(before) if before is not None else ""
    return text if text and len(text) < 40 and not {'"', "'"} <= set(text) else None


def _readings(rows: Sequence[Element], spot: _Spot) -> Iterator[tuple[str | None, list[str], float]]:
    """What can be taken at a place: the text, and attributes that say something; with the share of rows that have several."""
    several = sum(len(found) > 1 for found in spot.elements.values()) / len(rows)
    texts = [text_of(spot.elements[n][0]) if n in spot.elements else "" for n in range(len(rows))]
    if any(texts):
        yield None, texts, several
    others = {name for found in spot.elements.values() for name in found[0].attrs} if not any(texts) else set()
    names = sorted(name for name in others if name.startswith("data-") or name == "aria-label")
    for name in (*_ATTRIBUTES, *names):
        values = [tidied(spot.elements[n][0].attr(name) or "") if n in spot.elements else "" for n in range(len(rows))]
        if any(values) and not (name in _WORDY and (any(texts) or values == texts)):
            yield name, values, several


def _expression(document: Document, rows: Sequence[Element], spot: _Spot) -> tuple[str, str] | None:
    """The plainest expression that picks the place in nearly every row, with the label that it goes by (or "")."""
    example = next(iter(spot.elements.values()))[0]
    row = rows[next(iter(spot.elements))]
    for expression, label in _possible(example, row):
        if _agrees(document, rows, spot, expression):
            return expression, label
    return None


def _possible(element: Element, row: Element) -> Iterator[tuple[str, str]]:
    if element == row:
        yield ".", ""
        return
    if element.tag == "dd" and not element.attr("class") and (label := _label(element)):
        quote = "'" if "'" not in label else '"'
        yield f".//dt[normalize-space()={quote}{label}{quote}]/following-sibling::dd[1]", label
    names = list(_own_names(element))
    yield from ((name, "") for name in names)
    above = [a for a in ancestors(element) if a != row and row in ancestors(a)]
    for heading in above[:3]:
        yield from ((f"{upper} {name}", "") for upper in _own_names(heading) for name in names[:3])
    yield _by_place(element, row), ""


def _own_names(element: Element) -> Iterator[str]:
    tag = element.tag.rpartition("}")[2]
    for attribute in ("itemprop", "slot", "property"):
        if (value := element.attr(attribute)) and '"' not in value:
            yield f'[{attribute}="{value}"]'
    if tag in ("td", "th"):
        beside = {token for other in (*preceding(element), *following(element)) for token in _tokens(other)}
        yield from (f".{t}" for t in _tokens(element) if t not in beside and _NAME.match(t) and not re.search(r"\d", t))
        place = 1 + sum(1 for _ in preceding(element))
        yield f"{tag}:nth-child({place})"
    yield from (f".{t}" for t in (element.attr("class") or "").split() if _NAME.match(t) and not re.search(r"\d", t))
    yield from (f".{t}" for t in (element.attr("class") or "").split() if _NAME.match(t) and re.search(r"\d", t))
    yield tag
    if role := element.attr("role"):
        yield f'[role="{role}"]'


def _tokens(element: Element) -> list[str]:
    return (element.attr("class") or "").split()


def _by_place(element: Element, row: Element) -> str:
    steps = []
    for upper in [element, *ancestors(element)]:
        if upper == row:
            break
        before = sum(sibling.tag == upper.tag for sibling in preceding(upper))
        others = before + sum(sibling.tag == upper.tag for sibling in following(upper))
        steps.append(f"{upper.tag}:nth-of-type({before + 1})" if others else upper.tag)
    return "> " + " > ".join(reversed(steps))


def _agrees(document: Document, rows: Sequence[Element], spot: _Spot, expression: str) -> bool:
    """Whether the expression's first match is the place itself, in nearly all rows, and nothing else where it is absent."""
    if expression == ".":
        return True
    try:
        compiled = compile_expression(expression)
    except BadExpression:
        return False
    good = 0
    for number, row in enumerate(rows):
        found = compiled.nodes(row, document)
        wanted = spot.elements.get(number)
        if wanted:
            good += bool(found) and found[0] == wanted[0]
        else:
            good += not found or (isinstance(found[0], Element) and text_of(found[0]) in MISSING_TEXTS)
    return good >= len(rows) * _AGREEMENT


def _token(element: Element) -> str:
    """The first class without a digit, without the block that it says it is a part of (`card__title`)."""
    token = next((t for t in (element.attr("class") or "").split() if not re.search(r"\d", t)), "")
    return re.split(r"__+", token)[-1] or token


def _name(spot: _Spot, attribute: str | None, label: str, rows: Sequence[Element]) -> str:
    """A name for the column: label, microdata, class, the table's heading, or the tag."""
    element = next(iter(spot.elements.values()))[0]
    if "}" in element.tag:
        return element.tag.rpartition("}")[2]
    data = attribute.removeprefix("data-") if attribute is not None and attribute.startswith("data-") else ""
    name = (
        label
        or element.attr("itemprop")
        or element.attr("slot")
        or _heading_of(element, rows)
        or _token(element)
        or data
    )
    if not name and element.tag in (*_INLINE, "a", "img", "p", "span"):
        above = parent(element)
        name = _token(above) if above is not None and above not in rows else ""
    plain = {
        "a": "link" if attribute else "name",
        "img": "image",
        "time": "date",
        "h1": "name",
        "h2": "name",
        "h3": "name",
    }
    name = name or plain.get(element.tag, element.tag)
    if attribute in ("href", "src"):
        name = "url" if attribute == "href" else "image"
    return name


def _heading_of(element: Element, rows: Sequence[Element]) -> str:
    """The heading above a table's cell: in a row that says so, or in the first one where that is none of the rows."""
    cell = element
    while cell is not None and cell.tag not in ("td", "th"):
        cell = parent(cell)
    if cell is None:
        return ""
    place = sum(1 for _ in preceding(cell))
    table = next((a for a in ancestors(cell) if a.tag == "table"), None)
    head = first(table, "tr") if table is not None else None
    cells = children(head) if head is not None else []
    is_head = all(other.tag == "th" for other in cells) or (table is not None and first(table, "thead") is not None)
    names = parent(cell)
    is_head = is_head or (
        head is not None and head not in rows and names is not None and len(cells) == len(children(names))
    )
    if place < len(cells) and is_head:
        return text_of(cells[place])
    return ""


def as_key(name: str) -> str:
    """A name as a key of TOML, in quotes where it has to be."""
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else escaped_in_strings(json.dumps(name, ensure_ascii=False))


def _plain_letters(name: str) -> str:
    """A name of letters and digits, underscores for all else; without accents, where that leaves letters that every keyboard
    has: other scripts stay."""
    plain = "".join(letter for letter in unicodedata.normalize("NFKD", name) if not unicodedata.combining(letter))
    kept = plain if plain.isascii() else unicodedata.normalize("NFKC", name)
    return "".join(letter if letter.isalpha() or letter.isdecimal() else "_" for letter in kept)


def named_apart(found: list[FieldGuess]) -> list[FieldGuess]:
    """The fields with names that a plan takes, each once."""
    taken: set[str] = set()
    named = []
    for guess in found:
        base = re.sub(r"_+", "_", _plain_letters(guess.name.strip().casefold())).strip("_")[:30] or "value"
        if not base[0].isalpha():
            base = f"column_{base}"
        if base in PAGE_KEYS:
            base = f"{base}_text"
        name, number = base, 2
        while name in taken:
            name, number = f"{base}_{number}", number + 1
        taken.add(name)
        named.append(replace(guess, name=name))
    return named
