"""The stages that a picked text goes through: part → find → clean → missing → map → type → adjust; default for what is absent.

Compiled once for each field. Every stage is a function with a name, so that a value can be followed through them.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any, NamedTuple

from wadi.clean.adjust import Adjustment, adjustment_of
from wadi.clean.errors import NotReadable
from wadi.clean.patterns import pattern_of
from wadi.clean.steps import Functions, step_of
from wadi.clean.types import FROM_NOW, Converter, Setting, Value, Where, converter, moment_from_now

TextStage = Callable[[str], str | None]
"""From text to text; None when the text counts as no value. Raises NotReadable."""


_TEXT = Setting()
_MADE_ANEW = frozenset({"url", "file", "array", "object"})
"""Types whose values depend on the page, or can be changed by whoever gets them."""
_MOST_KNOWN, _LONGEST_KNOWN = 4096, 100
_NUMERAL = re.compile(r"-?[0-9][0-9.eE+-]*")
"""How Python writes numbers."""


@dataclass(frozen=True, slots=True)
class Recipe:
    """What a field says about its stages. `part` is the expression of the field that this one is a part of, and its group;
    `functions` are those of the plan's code."""

    part: tuple[str, str] | None = None
    find: str | None = None
    clean: tuple[str, ...] = ()
    missing: frozenset[str] = frozenset({""})
    map: Mapping[str, str] | None = None
    otherwise: str | None = None
    setting: Setting = _TEXT
    adjust: tuple[str, ...] = ()
    default: str | int | float | bool | None = None
    functions: Functions | None = None

    @property
    def calls(self) -> bool:
        """Whether functions of the plan's code take part, which may do more than give a value."""
        return any(sentence.split(None, 1)[0] == "call" for sentence in (*self.clean, *self.adjust))


class Unread(NamedTuple):
    """A text that did not become a value: the text, a problem's code, what is wrong, and why."""

    raw: str
    code: str
    what: str
    why: str


class Step(NamedTuple):
    """One stage on the way of a value, for those who follow it: the stage's name and what came out; None: no value."""

    name: str
    value: Any


class Stages:
    """A field's compiled stages."""

    def __init__(self, recipe: Recipe) -> None:
        self.recipe = recipe
        self.text_stages: tuple[tuple[str, TextStage], ...] = tuple(_text_stages(recipe))
        self.convert: Converter = converter(recipe.setting)
        self.adjustments: tuple[tuple[str, Adjustment], ...] = tuple(
            (f"adjust: {sentence}", adjustment_of(sentence, recipe.functions)) for sentence in recipe.adjust
        )
        self._tells_from_now = recipe.setting.type in FROM_NOW
        self._is_plain = len(self.text_stages) == 1 and not self.adjustments
        # A text that stays what it is has one question to answer.
        self.missing = recipe.missing if self._is_plain and recipe.setting.type == "string" else None
        """The texts that count as missing, where all others are their own values; else None."""
        self._remembers = self.missing is None and recipe.setting.type not in _MADE_ANEW
        self.known: dict[str, Value | None] = {}
        """The values of texts that have the same one on every page: districts, kinds and dates come again and again."""

    @cached_property
    def as_number(self) -> bool:
        """Whether a number that came as one (JSON) is the value, whichever it is: none of them counts as missing."""
        is_number = self.recipe.setting.type == "number"
        return is_number and self._is_plain and not any(map(_NUMERAL.fullmatch, self.recipe.missing))

    def value_of(self, text: str, where: Where, *, written: str | None = None) -> Value | Unread | None:
        """The value of a text, None when it counts as missing, Unread when it cannot be read. It is known again by how it is
        `written`, where that is not the text itself."""
        if self.missing is not None:
            return None if text in self.missing else text
        if not self._remembers or text.__class__ is not str:
            return self._read(text, where, where.at)
        if text in self.known:
            return self.known[text]
        value = self._read(text, where, None)
        if value.__class__ is Unread:  # unless it tells a time from now
            return self._read(text, where, where.at) if self._tells_from_now else value
        # What comes first is kept, since what is frequent does; a long text would fill the memory and hardly come again.
        name = written or text
        if len(name) <= _LONGEST_KNOWN and len(self.known) < _MOST_KNOWN:
            self.known[name] = value  # type: ignore[assignment]
        return value

    def _read(self, text: str, where: Where, at: float | None) -> Value | Unread | None:
        try:
            if self._is_plain:
                if text in self.recipe.missing:
                    return None
                return self._converted(text, where, at) if self._tells_from_now else self.convert(text, where)
            current: str | None = text
            for _, function in self.text_stages:
                current = function(current)  # type: ignore[arg-type]
                if current is None:
                    return None
            value: Any = self._converted(current, where, at)  # type: ignore[arg-type]
            for _, adjust in self.adjustments:
                value = adjust(value)
            return value  # type: ignore[no-any-return]
        except NotReadable as error:
            return Unread(text, error.code, error.what, error.why)

    def _converted(self, text: str, where: Where, at: float | None) -> Value:
        try:
            return self.convert(text, where)
        except NotReadable:
            if not self._tells_from_now or not at or (moment := moment_from_now(text, self.recipe.setting, at)) is None:
                raise
            return moment

    def retraced(self, text: str, where: Where) -> Iterator[Step]:
        """The same way as `value_of`, told stage by stage. The last value may be Unread."""
        current: Any = text
        name = ""
        try:
            for name, function in self.text_stages:
                current = function(current)
                yield Step(name, current)
                if current is None:
                    return
            name = f"type: {self.recipe.setting.type}"
            current = self._converted(current, where, where.at)
            yield Step(name, current)
            for name, adjust in self.adjustments:
                current = adjust(current)
                yield Step(name, current)
        except NotReadable as error:
            yield Step(name, Unread(text, error.code, error.what, error.why))


def _text_stages(recipe: Recipe) -> list[tuple[str, TextStage]]:
    stages: list[tuple[str, TextStage]] = []
    if recipe.part is not None:
        stages.append((f"part: {recipe.part[1]}", _find(recipe.part[0], recipe.missing, recipe.part[1])))
    if recipe.find is not None:
        stages.append(("find", _find(recipe.find, recipe.missing)))
    stages += [(f"clean: {sentence}", step_of(sentence, recipe.functions)) for sentence in recipe.clean]
    stages.append(("missing", (lambda text: None if text in recipe.missing else text)))
    if recipe.map is not None:
        stages.append(("map", _map(recipe.map, recipe.otherwise)))
    return stages


def _find(pattern: str, missing: frozenset[str], group: str | int | None = None) -> TextStage:
    expression = pattern_of(pattern)
    if group is None:
        group = 1 if expression.groups else 0

    def find(text: str) -> str | None:
        found = expression.search(text)
        if found is None:
            if text.strip() in missing:
                return None
            raise NotReadable("no-match", f"find = {pattern!r} does not match {text!r}")
        return found[group]

    return find


def _map(choices: Mapping[str, str], otherwise: str | None) -> TextStage:
    def mapped(text: str) -> str | None:
        found = choices.get(text, otherwise)
        if found is None:
            raise NotReadable(
                "not-in-map", f"{text!r} is not in the map", 'else = "…" catches what the map does not know'
            )
        return found

    return mapped
