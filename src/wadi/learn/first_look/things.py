"""Pages about one thing of a common kind: the usual fields of a Product, an Article, an Event … and where a page has them.

The kinds and the names of their fields are those of schema.org, an open vocabulary (`things.toml`). Each field is looked for
in what the page carries for machines (JSON-LD, microdata, RDFa, meta elements), then beside labels, in elements with such a
class, last by layout: the heading, the first picture, the longest paragraph.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cache
from importlib.resources import files
from itertools import chain
from typing import Any

from wadi.learn.clues.class_names import Worth, tokens, worth
from wadi.learn.clues.field_guess import FieldGuess
from wadi.learn.clues.labels import labels_of_page
from wadi.learn.clues.sameness import folded
from wadi.learn.clues.surroundings import is_aside, main_part
from wadi.learn.clues.types import guessed_type
from wadi.learn.clues.ways import Way
from wadi.learn.first_look.fields import Reading, field_guess, way_to_element
from wadi.page.document import Document
from wadi.page.jsonpath import Step, pointed
from wadi.page.nodes import Element, elements, first, has_children
from wadi.page.structured import structured
from wadi.page.text import text_of

_LONG_TEXT, _LONGEST_PRICE = 80, 24
_NAMES_OF_THINGS = ("name", "value", "url", "@id", "streetAddress")
Guess = tuple[FieldGuess, str]
"""A field, and where it was found, in words."""


@dataclass(frozen=True)
class ThingFound:
    """What a page has of the usual fields of a kind of thing: each with where it was found, in words; `missing` are the names
    of those that it has not."""

    kind: str
    fields: tuple[Guess, ...]
    missing: tuple[str, ...]

    @property
    def usual(self) -> int:
        return len(self.fields) + len(self.missing)


@dataclass(frozen=True)
class _Vocabulary:
    """What is known of kinds of things: the usual fields of each with the words for them, kinds that count as others, meta
    elements."""

    usual: Mapping[str, Mapping[str, Sequence[str]]]
    subkinds: Mapping[str, str]
    meta: Mapping[str, Sequence[str]]


@cache
def _vocabulary() -> _Vocabulary:
    said = tomllib.loads((files("wadi.learn.first_look") / "things.toml").read_text("utf-8"))
    subkinds = {sub: kind for kind, subs in said["subkinds"].items() for sub in subs}
    return _Vocabulary(said["usual"], subkinds, said["meta"])


def things() -> list[str]:
    """The kinds of things whose usual fields are known."""
    return list(_vocabulary().usual)


def kind_of_thing(document: Document) -> str:
    """The kind of thing that a page says it is about, by what it carries for machines; "" where it says none that is known."""
    data = structured(document)
    for item in chain(data["jsonld"], data["microdata"], data["rdfa"]):
        for name in _kinds_of(item):
            if kind := _known_kind(name):
                return kind
    by_type = {"article": "Article", "product": "Product", "book": "Book", "profile": "Person"}
    return by_type.get(data["meta"].get("og:type", ""), "")


def thing_of(document: Document, kind: str, language: str = "") -> ThingFound:
    """The usual fields of a kind of thing on a page. Raises KeyError for a kind that is not known."""
    search = _Search(document, kind, language)
    usual = _vocabulary().usual[kind]
    found = {path: next(search.found(path, words), None) for path, words in usual.items()}
    fields = tuple(guess for guess in found.values() if guess is not None)
    return ThingFound(kind, fields, tuple(_column(path) for path, guess in found.items() if guess is None))


def _column(path: str) -> str:
    """The name of the column: the last name of a path."""
    return path.rpartition(".")[2]


def _known_kind(name: str) -> str:
    """The kind as which a type of schema.org counts; "" for one that is not known."""
    words = _vocabulary()
    return name if name in words.usual else words.subkinds.get(name, "Event" if name.endswith("Event") else "")


def _kinds_of(item: Any) -> Iterator[str]:
    """The types of an item, without the vocabulary's address."""
    if isinstance(item, dict):
        said = item.get("@type") or item.get("type") or ()
        yield from (str(name).rstrip("/").rpartition("/")[2] for name in (said if isinstance(said, list) else [said]))


class _Search:
    """A page on which the usual fields of a kind are looked for."""

    def __init__(self, document: Document, kind: str, language: str) -> None:
        self._document = document
        self._kind = kind
        self._language = language
        self._data = structured(document)
        self._main = main_part(document)
        self._labels = labels_of_page(self._main)

    def found(self, path: str, words: Sequence[str]) -> Iterator[Guess]:
        """Where a field is, the steadiest place first."""
        by_words = (self._by_label(path, words), self._by_class(path, words))
        for guess, where in chain(self._in_data(path), self._in_meta(path), *by_words, self._by_layout(path)):
            yield replace(guess, name=_column(path)), where

    def _in_data(self, path: str) -> Iterator[Guess]:
        for name, words in (("jsonld", "JSON-LD"), ("microdata", "microdata"), ("rdfa", "RDFa")):
            for place, item in enumerate(self._data[name]):
                if any(_known_kind(kind) == self._kind for kind in _kinds_of(item)):
                    for steps, text in _values(item, path.split("."), (name, place)):
                        yield self._from_data(steps, text), words

    def _from_data(self, steps: tuple[Step, ...], text: str) -> FieldGuess:
        kind = guessed_type([text], None, self._language)
        return FieldGuess(pointed(steps), None, 1.0, 0.0, (text,), kind, source="data")

    def _in_meta(self, path: str) -> Iterator[Guess]:
        for name in _vocabulary().meta.get(path, ()):
            if text := self._data["meta"].get(name, ""):
                yield self._from_data(("meta", name), text), "a meta element"

    def _by_label(self, path: str, words: Sequence[str]) -> Iterator[Guess]:
        wanted = {folded(word) for word in (*words, _column(path))}
        for label, texts in self._labels.values.items():
            if folded(label.rstrip(": ")) in wanted and texts[0]:
                yield self._read(Way(label=label), texts[0]), f"the label “{label}”"

    def _by_class(self, path: str, words: Sequence[str]) -> Iterator[Guess]:
        wanted = {folded(word).replace(" ", "-") for word in (*words, _column(path))}
        for element in elements(self._main):
            if not any(part in wanted for token in tokens(element) for part in _parts(token)) or is_aside(element):
                continue
            text, way = text_of(element), way_to_element(self._document, element)
            if text and way is not None:
                yield self._read(way, text), f"the class of {way.expression}"

    def _by_layout(self, path: str) -> Iterator[Guess]:
        element, attribute, words = self._laid_out(_column(path))
        way = way_to_element(self._document, element) if element is not None else None
        if element is None or way is None:
            return
        attribute = attribute if attribute and element.attr(attribute) else ""
        text = (element.attr(attribute) or "") if attribute else text_of(element)
        if text:
            yield self._read(way, text, attribute), words

    def _read(self, way: Way, text: str, attribute: str = "") -> FieldGuess:
        return field_guess(way, Reading([text], 0.0, attribute or None), "", self._language)

    def _laid_out(self, column: str) -> tuple[Element | None, str, str]:
        """The element that as a rule holds a column where nothing says so, an attribute of it, and what it is in words."""
        if column in ("name", "headline", "title"):
            return first(self._main, "h1") or first(self._main, "h2"), "", "the heading"
        if column == "image":
            return first(self._main, "img"), "src", "the first picture"
        if column in ("datePublished", "datePosted", "startDate"):
            return first(self._main, "time"), "datetime", "the first date"
        if column == "price":
            return next((e for e in elements(self._main) if self._is_price(e)), None), "", "the first sum of money"
        if column in ("description", "articleBody", "reviewBody"):
            longest = max(elements(self._main, "p"), key=lambda p: len(text_of(p)), default=None)
            is_long = longest is not None and len(text_of(longest)) > _LONG_TEXT
            return (longest if is_long else None), "", "the longest paragraph"
        return None, "", ""

    def _is_price(self, element: Element) -> bool:
        text = text_of(element) if not has_children(element) else ""
        is_short = 0 < len(text) < _LONGEST_PRICE and any(c.isdigit() for c in text)
        return is_short and guessed_type([text], None, self._language).type == "money"


def _parts(token: str) -> Iterator[str]:
    """What a class name may say: all of it, what stands behind its block, its last word."""
    if worth(token) is Worth.NAMED:
        yield from map(folded, (token, re.split(r"__|--", token)[-1], token.rpartition("-")[2]))


def _values(item: Any, names: Sequence[str], steps: tuple[Step, ...]) -> Iterator[tuple[tuple[Step, ...], str]]:
    """The first value at a path of names in an item, with its place; of a thing in its place its name or value."""
    if isinstance(item, list):
        for place, inner in enumerate(item[:1]):
            yield from _values(inner, names, (*steps, place))
    elif isinstance(item, Mapping):
        own = item.get("properties")  # of microdata and RDFa
        if isinstance(own, Mapping):
            yield from _values(own, names, (*steps, "properties"))
        elif names and names[0] in item:
            yield from _values(item[names[0]], names[1:], (*steps, names[0]))
        elif not names and (known := next((name for name in _NAMES_OF_THINGS if name in item), None)):
            yield from _values(item[known], (), (*steps, known))
    elif not names and isinstance(item, str | int | float) and not isinstance(item, bool) and str(item).strip():
        yield steps, str(item)
