"""How a page is shown by a browser before it is read: its window, what is done on it, and when it is ready. Plain values, no
browser."""

from __future__ import annotations

import hashlib
import re
import shlex
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

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
    "type": Verb(("EXPRESSION", "TEXT"), 0, "click it and type a text, in place of what is there"),
    "choose": Verb(("EXPRESSION", "TEXT"), 0, "choose the option of a list that says this, or has this value"),
    "press": Verb(("KEY",), 0, f"press a key: {', '.join(KEYS)}"),
    "scroll": Verb(
        ("EXPRESSION", "COUNT"),
        2,
        "scroll the page, or a list inside it, to its end, until so many rows are there or nothing new comes",
    ),
    "more": Verb(
        ("EXPRESSION", "COUNT"),
        1,
        "click a button that adds more, until so many rows are there, or it is gone, switched off, or nothing new comes",
    ),
    "wait": Verb(("EXPRESSION or TIME",), 0, "wait for an element, or for a time (500ms, 2s)"),
    "run": Verb(("FILE",), 0, "run a script beside the plan; what it returns is data of the page"),
}
"""The sentences of `do`: VERB ARGUMENT…, quoted as in a shell."""
IN_ROWS = ("click", "hover", "type", "choose", "press", "wait")
"""The sentences of `per_row`: what can be done inside a row."""
GOING_ON = ("click", "press", "scroll")
"""The sentences by which a listing goes on."""


@pickled_by_value
@dataclass(frozen=True, slots=True)
class Script:
    """A script of the plan's: the body of an async function of JavaScript."""

    name: str
    source: str = field(repr=False)
    digest: str = ""

    @property
    def url(self) -> str:
        """What stands for its address where its result is a reply."""
        return f"script:{self.name}"


def script_of(name: str, source: str) -> Script:
    """A script with what tells it from others of its name."""
    return Script(name, source, hashlib.sha256(source.encode()).hexdigest()[:16])


@pickled_by_value
@dataclass(frozen=True, slots=True)
class Step:
    """One thing that is done on a page; `script` is what `run` runs."""

    verb: str
    arguments: tuple[str, ...] = ()
    script: Script | None = None

    @property
    def seconds(self) -> float | None:
        """Of `wait` with a time: the seconds."""
        found = _SECONDS.fullmatch(self.arguments[0]) if self.verb == "wait" else None
        return float(found[1]) / (1000 if found[2] == "ms" else 1) if found is not None else None

    @property
    def expression(self) -> str | None:
        """What picks the element that it is about; None where it is about none."""
        is_about = self.arguments and VERBS[self.verb].arguments[0].startswith("EXPRESSION") and self.seconds is None
        return self.arguments[0] if is_about and not self.arguments[0].isdecimal() else None

    @property
    def count(self) -> int | None:
        """Of `scroll` and `more`: how many rows are enough."""
        is_counted = self.verb in ("scroll", "more") and self.arguments and self.arguments[-1].isdecimal()
        return int(self.arguments[-1]) if is_counted else None

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
    one of `rows` picks. All of it, with the steps, takes `within_s` at most. `language` (BCP 47), `zone` (IANA) and `dark` are
    what the page is told of its reader ("" for the machine's).

    With `next` a listing goes on by that step: each turn (`Request.turn`) shows the rows that those before did not.
    `properties` are kept of each element as attributes (`property_attribute`)."""

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
    next: Step | None = None
    properties: tuple[str, ...] = ()
    dark: bool = False


def property_attribute(name: str) -> str:
    """The attribute by which a property of an element stands in a document that a browser showed."""
    return f"data-property-{name.replace('.', '-').lower()}"


def new_rows(before: Sequence[str], now: Sequence[str], verb: str) -> list[int]:
    """The places of the rows that a turn shows anew, of what stood there before and what stands there now, each row by its text
    and links.

    A list that grew holds the old ones at its beginning. Else scrolling moved a list that takes rows out again: those that
    stood there are not new. Else all are: a button showed another page.
    """
    same = sum(old == new for old, new in zip(before, now, strict=False))
    if len(now) > len(before) and same * 2 > len(before):
        return list(range(len(before), len(now)))
    if verb != "scroll":
        return list(range(len(now)))
    moved = next((n for n in range(min(len(before), len(now)), 0, -1) if before[-n:] == now[:n]), 0)
    if moved:
        return list(range(moved, len(now)))
    known, found = Counter(before), []
    for place, row in enumerate(now):
        if known[row]:
            known[row] -= 1
        else:
            found.append(place)
    return found


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
    if len(arguments) == len(known.arguments) == 2 and known.arguments[1] == "COUNT" and step.count is None:
        raise BadStep(f'{verb} takes a count, and "{arguments[1]}" is none', f"{verb} '…' 200")
    if verb == "more" and step.expression is None:
        raise BadStep(f"{verb} takes {' '.join(known.arguments)}", f"{verb} '…'")
    if (step.seconds or 0) > _MOST_WAIT_S:
        raise BadStep(f"wait takes {_MOST_WAIT_S:g} s at most")
    return step
