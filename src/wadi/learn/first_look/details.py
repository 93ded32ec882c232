"""The pages that the rows of a listing lead to: what differs from one to the next is worth a column."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from wadi.clean.types import Where
from wadi.learn.clues.field_guess import FieldGuess
from wadi.learn.clues.sameness import folded
from wadi.learn.first_look.look import Look
from wadi.learn.first_look.page_fields import page_fields
from wadi.page.cells import Notes, read_column
from wadi.page.document import Document
from wadi.page.field import Field, Source
from wadi.plan.fields import field_of
from wadi.urls import NotAUrl

MOST_PAGES = 3


def link_of_rows(look: Look, fields: Sequence[FieldGuess]) -> FieldGuess | None:
    """The field that leads from each row to a page of its own: an address on this site that no two rows share."""
    for found in fields:
        is_link = found.type.type == "url" and found.attribute == "href" and found.is_unique and not found.source
        if is_link and found.samples and all(_is_of_site(look.document, sample) for sample in found.samples):
            return found
    return None


def _is_of_site(document: Document, reference: str) -> bool:
    try:
        whole = document.resolve(reference)
    except NotAUrl:
        return False
    return whole.partition("#")[0] != document.url.partition("#")[0] and _site(whole) == _site(document.url)


def _site(url: str) -> str:
    return url.partition("://")[2].partition("/")[0]


def differing_fields(pages: Sequence[Document], known: Sequence[FieldGuess], language: str = "") -> list[FieldGuess]:
    """The fields of pages of one kind whose values differ from page to page, without those that the listing has (`known`)."""
    found: dict[str, FieldGuess] = {}
    for page in pages:
        for guess in page_fields(page, language):
            found.setdefault(guess.as_plan(), guess)
    taken = {folded(sample) for guess in known for sample in guess.samples}
    names = {guess.name for guess in known}
    kept = []
    for guess in found.values():
        values = [_value(guess, page) for page in pages]
        filled = [value for value in values if value]
        is_known = bool(filled) and folded(filled[0]) in taken
        # A label that stands on one page alone is as a rule a line of prose.
        is_usual = len(filled) * 2 >= len(pages) or not guess.label
        differs = len(set(filled)) > 1 or len(filled) == 1
        if differs and is_usual and not is_known:
            name = f"{guess.name}_of_sheet" if guess.name in names else guess.name
            kept.append(replace(guess, name=name, share=len(filled) / len(pages), samples=tuple(filled[:3])))
    return kept


def _value(guess: FieldGuess, page: Document) -> str:
    """The text that a field picks on a page; "" where there is none."""
    (value,) = read_column(field_of_guess(guess), [page.scope], Source(page, Where(page.base)), Notes())
    return str(value or "")


def field_of_guess(guess: FieldGuess) -> Field:
    """A candidate as a field that takes its text."""
    keys = {"label": guess.label} if guess.label else {}
    keys |= {"from": guess.source} if guess.source else {}
    keys |= {"attr": guess.attribute} if guess.attribute else {}
    keys |= {"take": guess.take} if guess.take else {}
    keys |= {"under": guess.under} if guess.under else {}
    return field_of(guess.expression or None, keys, 2000)[1]
