"""A column as it is proposed: where its value stands, its type, how many rows have it, and how a plan says it."""

from __future__ import annotations

import re
import unicodedata
from dataclasses import dataclass, replace

from wadi.learn.clues.toml_text import quoted
from wadi.learn.clues.types import STRING, TypeGuess
from wadi.plan.model import PAGE_KEYS


@dataclass(frozen=True, slots=True)
class FieldGuess:
    """A candidate field. `expression` is relative to the row, or inside the value beside a `label`, or inside the cell below
    the heading that `under` names; `take` says what is taken of the element where that is not its text. `share` of the rows
    have it, `several` of them twice or more.

    `name` is a guess from headings, labels and classes. `is_unique` tells that all rows have it, and no two the same; `remark`
    what is odd about it; `cost` how soon it breaks when the page changes (`ways`).
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
    under: str = ""
    take: str = ""
    cost: float = 0.0

    def as_plan(self) -> str:
        """The field as a plan has it: the short form where that says it all."""
        keys = [f"from = {quoted(self.source)}"] if self.source else []
        keys += [f"label = {quoted(self.label)}"] if self.label else []
        keys += [f"under = {quoted(self.under)}"] if self.under else []
        keys += [f"at = {quoted(self.expression)}"] if self.expression else []
        is_short = bool(self.expression) and len(keys) == 1
        keys += [f'attr = "{self.attribute}"'] if self.attribute else []
        keys += [f'take = "{self.take}"'] if self.take else []
        keys += [self.type.keys()] if self.type.keys() else []
        return quoted(self.expression) if is_short and len(keys) == 1 else f"{{ {', '.join(keys)} }}"


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
