"""The stages that a picked text goes through: find → clean → missing → map → type, and default for what is absent.

Compiled once for each field. Every stage is a function with a name, so that a value can be followed through them.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import NamedTuple

from wadi.clean.errors import NotReadable
from wadi.clean.steps import step_of
from wadi.clean.types import Converter, Setting, Value, converter

TextStage = Callable[[str], str | None]
"""From text to text; None when the text counts as no value. Raises NotReadable."""


_TEXT = Setting()
_REMEMBERED = 4096


@dataclass(frozen=True, slots=True)
class Recipe:
    """What a field says about its stages."""

    find: str | None = None
    clean: tuple[str, ...] = ()
    missing: frozenset[str] = frozenset({""})
    map: Mapping[str, str] | None = None
    otherwise: str | None = None
    setting: Setting = _TEXT
    default: str | int | float | bool | None = None


class Unread(NamedTuple):
    """A text that did not become a value: the text, a problem's code, what is wrong, and why."""

    raw: str
    code: str
    what: str
    why: str


class Stages:
    """A field's compiled stages."""

    def __init__(self, recipe: Recipe) -> None:
        self.recipe = recipe
        self.text_stages: tuple[tuple[str, TextStage], ...] = tuple(_text_stages(recipe))
        self.convert: Converter = converter(recipe.setting)
        self._functions = tuple(function for _, function in self.text_stages)
        # Districts, kinds and dates come again and again, and reading one costs ten times a look-up.
        self._known: dict[str, Value | Unread | None] = {}
        self._repeats = recipe.setting.type not in ("url", "file")

    def value_of(self, text: str, base: str) -> Value | Unread | None:
        """The value of a text, None when it counts as missing, Unread when it cannot be read. `base` resolves URLs."""
        if not self._repeats or text.__class__ is not str:
            return self._read(text, base)
        if text not in self._known:
            if len(self._known) >= _REMEMBERED:
                self._known.clear()
            self._known[text] = self._read(text, base)
        return self._known[text]

    def _read(self, text: str, base: str) -> Value | Unread | None:
        current: str | None = text
        try:
            for function in self._functions:
                current = function(current)  # type: ignore[arg-type]
                if current is None:
                    return None
            return self.convert(current, base)  # type: ignore[arg-type]
        except NotReadable as error:
            return Unread(text, error.code, error.what, error.why)


def _text_stages(recipe: Recipe) -> list[tuple[str, TextStage]]:
    stages: list[tuple[str, TextStage]] = []
    if recipe.find is not None:
        stages.append(("find", _find(recipe.find, recipe.missing)))
    stages += [(f"clean: {sentence}", step_of(sentence)) for sentence in recipe.clean]
    stages.append(("missing", _missing(recipe.missing)))
    if recipe.map is not None:
        stages.append(("map", _map(recipe.map, recipe.otherwise)))
    return stages


def _find(pattern: str, missing: frozenset[str]) -> TextStage:
    expression = re.compile(pattern)
    group = 1 if expression.groups else 0

    def find(text: str) -> str | None:
        found = expression.search(text)
        if found is None:
            if text.strip() in missing:
                return None
            raise NotReadable("no-match", f"find = {pattern!r} does not match {text!r}")
        return found[group]

    return find


def _missing(texts: frozenset[str]) -> TextStage:
    return lambda text: None if text in texts else text


def _map(choices: Mapping[str, str], otherwise: str | None) -> TextStage:
    def mapped(text: str) -> str | None:
        found = choices.get(text, otherwise)
        if found is None:
            raise NotReadable(
                "not-in-map", f"{text!r} is not in the map", 'else = "…" catches what the map does not know'
            )
        return found

    return mapped
