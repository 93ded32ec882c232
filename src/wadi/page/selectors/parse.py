"""Selectors read into parts: lists of complex selectors, compounds, simple selectors. Mistakes come with their offset."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

_SPACE = " \t\r\n\f"
# Letters, `_` and all beyond ASCII; these, digits and `-`. Told by what they are not: ranges up to U+10FFFF take long to compile.
_START_OF_NAME = r"[^\x00-@\[-^`{-\x7f]"
_OF_NAME = r"[^\x00-,./:-@\[-^`{-\x7f]"
_IDENT = re.compile(rf"-?(?:{_START_OF_NAME}|\\[^\n\r\f])(?:{_OF_NAME}|\\[^\n\r\f])*|--(?:{_OF_NAME})*")
_NAME = re.compile(rf"(?:{_OF_NAME}|\\[^\n\r\f])+")
_ESCAPE = re.compile(r"\\(?:([0-9A-Fa-f]{1,6})\s?|(.))", re.DOTALL)
_STRING = re.compile(r"\"((?:[^\"\\\n]|\\.)*)\"|'((?:[^'\\\n]|\\.)*)'", re.DOTALL)
_NTH = re.compile(r"\s*(?:(odd|even)|([+-]?\d*)n(?:\s*([+-])\s*(\d+))?|([+-]?\d+))\s*", re.IGNORECASE)
_OPERATORS = ("~=", "|=", "^=", "$=", "*=", "=")

TAKES_SELECTORS = frozenset({"is", "where", "not", "has", "matches"})
TAKES_NTH = frozenset({"nth-child", "nth-last-child", "nth-of-type", "nth-last-of-type"})
TAKES_WORDS = frozenset({"lang"})
ALONE = frozenset(
    "root empty scope first-child last-child only-child first-of-type last-of-type only-of-type any-link link checked "
    "disabled enabled required optional read-only read-write default indeterminate placeholder-shown".split()
)
NEVER = frozenset(
    "visited hover active focus focus-within focus-visible target target-within current past future".split()
)
"""What a page that nobody looks at never is."""


class BadSelector(ValueError):
    """A selector that cannot be read: what is wrong, where (characters from 0), what to do."""

    def __init__(self, what: str, offset: int, now: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.offset = offset
        self.now = now


@dataclass(frozen=True)
class Attribute:
    """`[name op "value" i]`; without `op` the attribute is there at all. `fold` is "i", "s" or ""."""

    name: str
    op: str = ""
    value: str = ""
    fold: str = ""


@dataclass(frozen=True)
class Pseudo:
    """A pseudo-class with its argument: selectors, an+b with selectors, or words."""

    name: str
    selectors: tuple[Complex, ...] = ()
    nth: tuple[int, int] = (0, 0)
    words: tuple[str, ...] = ()


@dataclass(frozen=True)
class Compound:
    """Simple selectors that hold for one element. `tag` is None for any."""

    tag: str | None = None
    ids: tuple[str, ...] = ()
    classes: tuple[str, ...] = ()
    attributes: tuple[Attribute, ...] = ()
    pseudos: tuple[Pseudo, ...] = ()

    @property
    def is_scope(self) -> bool:
        return any(pseudo.name == "scope" for pseudo in self.pseudos)


@dataclass(frozen=True)
class Complex:
    """Compounds from left to right, each with the combinator before it: " ", ">", "+" or "~". The first one's is that to the
    element from which it is searched."""

    parts: tuple[tuple[str, Compound], ...] = field(default=())


def parse_selectors(text: str, *, relative: bool = True) -> tuple[Complex, ...]:
    """The selectors of a list. With `relative` each may begin with a combinator. Raises BadSelector."""
    reader = _Reader(text)
    found = reader.selectors(relative=relative)
    if reader.at < len(text):
        raise reader.wrong("the end")
    return found


class _Reader:
    """Reads from left to right."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.at = 0

    def wrong(self, wanted: str) -> BadSelector:
        here = self.text[self.at : self.at + 1]
        return BadSelector(f"expected {wanted}, found {repr(here) if here else 'the end'}", self.at)

    def blank(self) -> bool:
        """Skip white space and comments; whether there was any."""
        start = self.at
        while True:
            while self.text[self.at : self.at + 1] and self.text[self.at] in _SPACE:
                self.at += 1
            if not self.text.startswith("/*", self.at):
                return self.at > start
            end = self.text.find("*/", self.at + 2)
            self.at = len(self.text) if end < 0 else end + 2

    def peek(self) -> str:
        return self.text[self.at : self.at + 1]

    def ident(self, wanted: str) -> str:
        match = _IDENT.match(self.text, self.at)
        if match is None:
            raise self.wrong(wanted)
        self.at = match.end()
        return _unescaped(match[0])

    def selectors(self, *, relative: bool) -> tuple[Complex, ...]:
        found = [self.complex(relative=relative)]
        while self.peek() == ",":
            self.at += 1
            found.append(self.complex(relative=relative))
        return tuple(found)

    def complex(self, *, relative: bool) -> Complex:
        self.blank()
        combinator = " "
        if self.peek() in (">", "+", "~") and self.peek():
            if not relative:
                raise self.wrong("a selector")
            combinator = self.text[self.at]
            self.at += 1
            self.blank()
        parts = [(combinator, self.compound())]
        while True:
            spaced = self.blank()
            here = self.peek()
            if not here or here in ",)":
                return Complex(tuple(parts))
            if here in ">+~":
                self.at += 1
                self.blank()
                parts.append((here, self.compound()))
            elif self.text.startswith("||", self.at):
                raise BadSelector(
                    "the column combinator || picks nothing in lxml's trees",
                    self.at,
                    "a field's under picks by heading",
                )
            elif spaced:
                parts.append((" ", self.compound()))
            else:
                raise self.wrong("a selector")

    def compound(self) -> Compound:
        start = self.at
        tag = self.type_selector()
        ids: list[str] = []
        classes: list[str] = []
        attributes: list[Attribute] = []
        pseudos: list[Pseudo] = []
        while True:
            here = self.peek()
            if here == "#":
                self.at += 1
                match = _NAME.match(self.text, self.at)
                if match is None:
                    raise self.wrong("a name")
                self.at = match.end()
                ids.append(_unescaped(match[0]))
            elif here == ".":
                self.at += 1
                classes.append(self.ident("a class"))
            elif here == "[":
                attributes.append(self.attribute())
            elif here == ":":
                pseudos.append(self.pseudo())
            else:
                break
        if self.at == start:
            raise self.wrong("a selector")
        return Compound(tag if tag != "*" else None, tuple(ids), tuple(classes), tuple(attributes), tuple(pseudos))

    def type_selector(self) -> str | None:
        """A tag name or `*`, its namespace left out: any is meant."""
        if self.peek() == "|" and not self.text.startswith("||", self.at):
            raise BadSelector("namespaces have no prefixes here", self.at, "a name matches in any namespace")
        name = None
        if self.peek() == "*":
            self.at += 1
            name = "*"
        elif _IDENT.match(self.text, self.at):
            name = self.ident("a name")
        if self.peek() == "|" and self.text[self.at + 1 : self.at + 2] not in ("|", "="):
            if name != "*":
                raise BadSelector("namespaces have no prefixes here", self.at, "a name matches in any namespace")
            self.at += 1
            return self.type_selector()
        return name

    def attribute(self) -> Attribute:
        self.at += 1
        self.blank()
        name = self.ident("the name of an attribute")
        self.blank()
        op = next((one for one in _OPERATORS if self.text.startswith(one, self.at)), "")
        if not op:
            self.closed("]")
            return Attribute(name)
        self.at += len(op)
        self.blank()
        value = self.string_or_ident()
        self.blank()
        fold = ""
        if self.peek() and self.peek() in "iIsS":
            fold = self.peek().lower()
            self.at += 1
            self.blank()
        self.closed("]")
        return Attribute(name, op, value, fold)

    def string_or_ident(self) -> str:
        match = _STRING.match(self.text, self.at)
        if match is not None:
            self.at = match.end()
            return _unescaped(match[1] if match[1] is not None else match[2])
        number = re.compile(r"\d+").match(self.text, self.at)
        if number is not None:
            raise BadSelector(f'a value that begins with a digit stands in quotes: "{number[0]}…"', self.at)
        return self.ident("a value")

    def closed(self, mark: str) -> None:
        if self.peek() != mark:
            raise self.wrong(f'"{mark}"')
        self.at += 1

    def pseudo(self) -> Pseudo:
        start = self.at
        self.at += 1
        if self.peek() == ":":
            self.at += 1
            name = self.ident("a name")
            now = 'text is what a field takes anyway; an attribute is taken with  attr = "…"'
            raise BadSelector(f'"::{name}" is no element of the page', start, now)
        name = self.ident("the name of a pseudo-class").lower()
        if self.peek() != "(":
            return self.alone(name, start)
        self.at += 1
        self.blank()
        if name in TAKES_SELECTORS:
            pseudo = Pseudo(name, self.selectors(relative=name == "has"))
        elif name in TAKES_NTH:
            pseudo = self.nth(name)
        elif name in TAKES_WORDS:
            words = [self.word()]
            while self.blank() or self.peek() == ",":
                if self.peek() != ",":
                    break
                self.at += 1
                self.blank()
                words.append(self.word())
            pseudo = Pseudo(name, words=tuple(words))
        else:
            hints = {
                "contains": "by its text a link is found with  text = …,  other elements with XPath:  //dt[contains(., '…')]"
            }
            raise BadSelector(f'there is no pseudo-class ":{name}()"', start, hints.get(name, ""))
        self.blank()
        self.closed(")")
        return pseudo

    def word(self) -> str:
        match = re.compile(r"[\w\-*]+").match(self.text, self.at)
        if match is not None:
            self.at = match.end()
            return match[0]
        return self.string_or_ident()

    def alone(self, name: str, start: int) -> Pseudo:
        if name in ("before", "after", "first-line", "first-letter"):
            raise BadSelector(f'"::{name}" is no element of the page', start)
        if name in TAKES_SELECTORS | TAKES_NTH | TAKES_WORDS:
            raise BadSelector(f'":{name}" wants an argument: :{name}(…)', start)
        if name not in ALONE and name not in NEVER:
            raise BadSelector(f'there is no pseudo-class ":{name}"', start)
        return Pseudo(name)

    def nth(self, name: str) -> Pseudo:
        match = _NTH.match(self.text, self.at)
        if match is None or not match[0].strip():
            raise self.wrong("odd, even or an+b")
        self.at = match.end()
        word, step, sign, offset, alone = match.groups()
        if word:
            nth = (2, 1 if word.lower() == "odd" else 0)
        elif alone is not None:
            nth = (0, int(alone))
        else:
            a = int(f"{step}1") if step in ("", "+", "-") else int(step)
            nth = (a, int(f"{sign}{offset}") if offset else 0)
        chosen: tuple[Complex, ...] = ()
        if name in ("nth-child", "nth-last-child") and re.compile(r"of[\s(:.#\[*]", re.IGNORECASE).match(
            self.text, self.at
        ):
            self.at += 2
            chosen = self.selectors(relative=False)
        return Pseudo(name, chosen, nth)


def _unescaped(text: str) -> str:
    if "\\" not in text:
        return text
    return _ESCAPE.sub(lambda found: _character(found[1]) if found[1] else found[2], text)


def _character(digits: str) -> str:
    number = int(digits, 16)
    return chr(number) if 0 < number <= 0x10FFFF and not 0xD800 <= number <= 0xDFFF else "\ufffd"
