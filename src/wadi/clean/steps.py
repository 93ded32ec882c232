"""The steps of `clean`: one-line sentences, `VERB ARGUMENT…`, quoted as in a shell, from text to text.

A new step is a function below, a line in STEPS, its cases and its line in docs/plan.md.
"""

from __future__ import annotations

import shlex
from collections.abc import Callable
from dataclasses import dataclass

from wadi.clean.errors import BadSetting
from wadi.problems import listed, nearest

Step = Callable[[str], str]


@dataclass(frozen=True, slots=True)
class Verb:
    """A kind of step: its function of the arguments, the words that stand for them, and what it does in one line."""

    make: Callable[..., Step]
    arguments: tuple[str, ...]
    optional: int
    help: str


def _after(mark: str) -> Step:
    return lambda text: text.partition(mark)[2].strip() if mark in text else text


def _before(mark: str) -> Step:
    return lambda text: text.partition(mark)[0].strip()


def _between(left: str, right: str) -> Step:
    def step(text: str) -> str:
        _, found, rest = text.partition(left)
        inside, closed, _ = rest.partition(right)
        return inside.strip() if found and closed else text

    return step


def _drop(part: str) -> Step:
    return lambda text: " ".join(text.replace(part, "").split(" ")).strip()


def _replace(old: str, new: str) -> Step:
    return lambda text: text.replace(old, new)


def _nth(number: int, separator: str | None = None) -> Step:
    def step(text: str) -> str:
        parts = [part.strip() for part in text.split(separator)]
        index = number - 1 if number > 0 else number
        return parts[index] if -len(parts) <= index < len(parts) else ""

    return step


def _line(number: int) -> Step:
    return _nth(number, "\n")


STEPS: dict[str, Verb] = {
    "after": Verb(_after, ("TEXT",), 0, "what stands behind the first TEXT; all of it where there is none"),
    "before": Verb(_before, ("TEXT",), 0, "what stands in front of the first TEXT; all of it where there is none"),
    "between": Verb(_between, ("LEFT", "RIGHT"), 0, "what stands between the first LEFT and the next RIGHT"),
    "drop": Verb(_drop, ("TEXT",), 0, "every TEXT taken out"),
    "replace": Verb(_replace, ("OLD", "NEW"), 0, "every OLD turned into NEW"),
    "lower": Verb(lambda: str.lower, (), 0, "in small letters"),
    "upper": Verb(lambda: str.upper, (), 0, "in capital letters"),
    "nth": Verb(
        _nth, ("NUMBER", "SEPARATOR"), 1, "part NUMBER of the text split at SEPARATOR (blanks); -1 is the last"
    ),
    "line": Verb(_line, ("NUMBER",), 0, "line NUMBER of the text; -1 is the last"),
}


def step_of(sentence: str) -> Step:
    """The function that a sentence stands for. Raises BadSetting with what was meant."""
    try:
        words = shlex.split(sentence)
    except ValueError as error:
        raise BadSetting("bad-step", f"step {sentence!r} has a quote that is not closed") from error
    if not words:
        raise BadSetting("bad-step", "a step is empty", f"verbs: {listed(STEPS, 99)}")
    name, *arguments = words
    verb = STEPS.get(name)
    if verb is None:
        near = nearest(name, STEPS)
        now = f'did you mean "{near}"?' if near else f"verbs: {listed(STEPS, 99)}"
        raise BadSetting("bad-step", f'step {sentence!r}: there is no verb "{name}"', now, offset=0)
    return verb.make(*_typed(name, verb, arguments, sentence))


def _typed(name: str, verb: Verb, arguments: list[str], sentence: str) -> list[str | int]:
    least = len(verb.arguments) - verb.optional
    if not least <= len(arguments) <= len(verb.arguments):
        wanted = " ".join([name, *verb.arguments])
        raise BadSetting(
            "bad-step", f"step {sentence!r} has {len(arguments)} arguments", f"write:  {wanted}   (quote blanks: '…')"
        )
    return [_argument(word, kind, sentence) for word, kind in zip(arguments, verb.arguments, strict=False)]


def _argument(word: str, kind: str, sentence: str) -> str | int:
    if kind != "NUMBER":
        return word
    try:
        number = int(word)
    except ValueError:
        number = 0
    if number == 0:
        raise BadSetting(
            "bad-step", f"step {sentence!r}: {word!r} is no number of a part", "1 is the first, -1 the last"
        )
    return number
