"""How a page is shown by a browser before it is read: its window, what is done on it, and when it is ready. Plain values, no
browser."""

from __future__ import annotations

import re
import shlex
from dataclasses import dataclass, replace

from wadi.web.pickled import pickled_by_value

KEYS = {
    "enter": "\ue007", "tab": "\ue004", "escape": "\ue00c", "space": " ", "backspace": "\ue003", "delete": "\ue017",
    "up": "\ue013", "down": "\ue015", "left": "\ue012", "right": "\ue014", "home": "\ue011", "end": "\ue010",
    "pageup": "\ue00e", "pagedown": "\ue00f",
}  # fmt: skip
"""The keys that `press` knows, as WebDriver sends them (W3C WebDriver §17.4.2)."""
_SECONDS = re.compile(r"(\d+(?:\.\d+)?)(ms|s)")
_MOST_WAIT_S = 60.0


class BadStep(ValueError):
    """A sentence of `do` that cannot be read: what is wrong, and what to write."""

    def __init__(self, what: str, now: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.now = now


@dataclass(frozen=True, slots=True)
class Verb:
    """A kind of step: the words for its arguments, how many of them may be left out, and what it does in one line."""

    arguments: tuple[str, ...]
    optional: int
    help: str


VERBS = {
    "click": Verb(("EXPRESSION",), 0, "click the first element that it picks, once it is there"),
    "accept": Verb(
        ("EXPRESSION",), 0, "click it when it is there within two seconds, such as a banner's button; else go on"
    ),
    "hover": Verb(("EXPRESSION",), 0, "move the pointer over it"),
    "type": Verb(("EXPRESSION", "TEXT"), 0, "click it and type a text, in place of what stands there"),
    "choose": Verb(("EXPRESSION", "TEXT"), 0, "choose the option of a list that says this, or has this value"),
    "press": Verb(("KEY",), 0, f"press a key: {', '.join(KEYS)}"),
    "scroll": Verb(("EXPRESSION",), 1, "scroll the page, or a list inside it, to its end, until nothing new comes"),
    "more": Verb(
        ("EXPRESSION",), 0, "click a button that adds more, until it is gone, switched off, or nothing new comes"
    ),
    "wait": Verb(("EXPRESSION or TIME",), 0, "wait for an element, or for a time (500ms, 2s)"),
}
"""The sentences of `do`: VERB ARGUMENT…, quoted as in a shell."""
IN_ROWS = ("click", "hover", "type", "choose", "press", "wait")
"""The sentences of `per_row`: what can be done inside a row."""


@pickled_by_value
@dataclass(frozen=True, slots=True)
class Step:
    """One thing that is done on a page."""

    verb: str
    arguments: tuple[str, ...] = ()

    @property
    def seconds(self) -> float | None:
        """Of `wait` with a time: the seconds."""
        found = _SECONDS.fullmatch(self.arguments[0]) if self.verb == "wait" else None
        return float(found[1]) / (1000 if found[2] == "ms" else 1) if found is not None else None

    @property
    def expression(self) -> str | None:
        """What picks the element that it is about; None where it is about none."""
        is_about = self.arguments and VERBS[self.verb].arguments[0].startswith("EXPRESSION") and self.seconds is None
        return self.arguments[0] if is_about else None

    def about(self, expression: str) -> Step:
        """The same with another expression."""
        return replace(self, arguments=(expression, *self.arguments[1:]))

    def __str__(self) -> str:
        return shlex.join([self.verb, *self.arguments])


@pickled_by_value
@dataclass(frozen=True, slots=True)
class Rendering:
    """How a page is shown. It is ready once at least `least` elements stand that one of `wait` picks (CSS or XPath), none of
    `gone` does, and, where neither is said, the network was quiet for `quiet_s`. Then `per_row` is done inside each element that
    one of `rows` picks. All of it, with the steps, takes `within_s` at most. `language` (BCP 47) and `zone` (IANA) are what
    the page is told of its reader ("" for the machine's)."""

    wait: tuple[str, ...] = ()
    least: int = 1
    gone: tuple[str, ...] = ()
    quiet_s: float = 0.5
    within_s: float = 30.0
    size: tuple[int, int] = (1280, 800)
    language: str = ""
    zone: str = ""
    steps: tuple[Step, ...] = ()
    rows: tuple[str, ...] = ()
    per_row: tuple[Step, ...] = ()


def step_of(sentence: str, *, in_row: bool = False) -> Step:
    """A sentence of `do`, or of `per_row`, as a step. Raises BadStep."""
    try:
        words = shlex.split(sentence)
    except ValueError as error:
        raise BadStep(f"the quotes do not match: {sentence}") from error
    if not words:
        raise BadStep("an empty sentence")
    verb, arguments = words[0], tuple(words[1:])
    if verb not in VERBS:
        raise BadStep(f'unknown step "{verb}"', f"steps: {', '.join(VERBS)}")
    if in_row and verb not in IN_ROWS:
        raise BadStep(f"{verb} is not done inside a row", f"steps there: {', '.join(IN_ROWS)}")
    known = VERBS[verb]
    if not len(known.arguments) - known.optional <= len(arguments) <= len(known.arguments):
        raise BadStep(f"{verb} takes {' '.join(known.arguments)}", f"{verb} '…'")
    if verb == "press" and arguments[0].lower() not in KEYS:
        raise BadStep(f'press knows no key "{arguments[0]}"', f"keys: {', '.join(KEYS)}")
    step = Step(verb, arguments)
    if (step.seconds or 0) > _MOST_WAIT_S:
        raise BadStep(f"wait takes {_MOST_WAIT_S:g} s at most")
    return step
