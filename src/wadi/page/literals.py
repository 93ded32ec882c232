"""JavaScript literals in scripts, often no JSON: `undefined`, `new Date(…)`, quotes and commas of JavaScript's own.

A reader for data, not for programs: whatever is no literal ends the reading with None.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from wadi.page.json_values import number_of, whole_characters, whole_of

_SPACE = re.compile(r"(?:\s|//[^\n]*|/\*.*?\*/)*", re.DOTALL)
_NUMBER = re.compile(r"[+-]?(?:0[xX][0-9A-Fa-f]+|(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)")
_NAME = re.compile(r"[A-Za-z_$][\w$]*")
_DATE = re.compile(r"new\s+Date\s*\(")
_PARSED = re.compile(r"JSON\.parse\s*\(")
_ASSIGNED = re.compile(
    r"(?:(?:var|let|const)\s+|window\.|self\.|globalThis\.)?(?P<name>[A-Za-z_$][\w$]*(?:\.[\w$]+|\[[\"'][^\"']+[\"']\])*)"
    r"\s*=\s*(?=[\[{]|JSON\.parse)"
)
_ESCAPE = re.compile(r"\\(?:u\{([0-9A-Fa-f]+)\}|u([0-9A-Fa-f]{4})|x([0-9A-Fa-f]{2})|(\r\n|.))", re.DOTALL)
_SHORT = {"n": "\n", "t": "\t", "r": "\r", "b": "\b", "f": "\f", "v": "\v", "0": "\0", "\n": "", "\r\n": ""}
_WORDS: dict[str, Any] = {
    "true": True,
    "false": False,
    "null": None,
    "undefined": None,
    "NaN": None,
    "Infinity": None,
}
_DEEPEST = 200
_MOST_IN_VAIN = 2_000_000
_STRING = {quote: re.compile(rf"[^{quote}\\]*(?:\\.[^{quote}\\]*)*{quote}", re.DOTALL) for quote in "\"'`"}
"""The rest of a string with its closing quote."""


class NoLiteral(ValueError):
    """The text is no literal; `at` is how far it was read."""

    def __init__(self, what: str, at: int = 0) -> None:
        super().__init__(what)
        self.at = at


def assignments(script: str) -> Iterator[tuple[str, Any]]:
    """The objects and lists that a script assigns, by the name they are assigned to, in order.

    What breaks off far from where it began is read again from each place inside it that looks like an assignment: a script in
    which that comes to more than `_MOST_IN_VAIN` characters, and more than four times its length, is left from there on.
    """
    at = in_vain = 0
    while found := _ASSIGNED.search(script, at):
        try:
            value, at = literal(script, found.end())
        except NoLiteral as error:
            at = found.end()
            in_vain += max(0, error.at - at)
            if in_vain > max(_MOST_IN_VAIN, 4 * len(script)):
                return
            continue
        yield found["name"], value


def literal(text: str, at: int = 0, depth: int = 0) -> tuple[Any, int]:
    """The literal that begins at a place, and the place behind it. Raises NoLiteral."""
    if depth > _DEEPEST:
        raise NoLiteral("nested too deeply", at)
    at = _skip(text, at)
    character = text[at : at + 1]
    if character == "{":
        return _object(text, at + 1, depth)
    if character == "[":
        return _list(text, at + 1, depth)
    if character and character in "\"'`":
        return _string(text, at)
    if found := _NUMBER.match(text, at):
        return _number(found[0]), found.end()
    return _word(text, at, depth)


def _skip(text: str, at: int) -> int:
    found = _SPACE.match(text, at)
    return found.end() if found else at


def _object(text: str, at: int, depth: int) -> tuple[dict[str, Any], int]:
    found: dict[str, Any] = {}
    while True:
        at = _skip(text, at)
        if text[at : at + 1] == "}":
            return found, at + 1
        key, at = _key(text, at)
        at = _skip(text, at)
        if text[at : at + 1] != ":":
            raise NoLiteral("no colon", at)
        found[key], at = literal(text, at + 1, depth + 1)
        at = _past_comma(text, at, "}")


def _list(text: str, at: int, depth: int) -> tuple[list[Any], int]:
    found: list[Any] = []
    while True:
        at = _skip(text, at)
        if text[at : at + 1] == "]":
            return found, at + 1
        value, at = literal(text, at, depth + 1)
        found.append(value)
        at = _past_comma(text, at, "]")


def _past_comma(text: str, at: int, end: str) -> int:
    at = _skip(text, at)
    if text[at : at + 1] == ",":
        return at + 1
    if text[at : at + 1] != end:
        raise NoLiteral("neither comma nor end", at)
    return at


def _key(text: str, at: int) -> tuple[str, int]:
    if text[at : at + 1] in ('"', "'"):
        return _string(text, at)
    found = _NAME.match(text, at) or _NUMBER.match(text, at)
    if not found:
        raise NoLiteral("no key", at)
    return found[0], found.end()


def _string(text: str, at: int) -> tuple[str, int]:
    quote = text[at]
    found = _STRING[quote].match(text, at + 1)
    if found is None:
        raise NoLiteral("a string is not closed", len(text))
    end = found.end() - 1
    body = text[at + 1 : end]
    if quote == "`" and "${" in body:
        raise NoLiteral("a template with code in it", end)
    return (whole_characters(_ESCAPE.sub(_unescaped, body)) if "\\" in body else body), end + 1


def _unescaped(found: re.Match[str]) -> str:
    code = found[1] or found[2] or found[3]
    if code:
        number = int(code, 16)
        return chr(number) if number < 0x110000 else "\ufffd"
    return _SHORT.get(found[4], found[4])


def _number(text: str) -> int | float:
    if "x" in text.lower():
        return int(text, 16)
    return whole_of(text) if re.fullmatch(r"[+-]?\d+", text) else number_of(text)


def _word(text: str, at: int, depth: int) -> tuple[Any, int]:
    if found := _DATE.match(text, at):
        return _argument(text, found.end(), depth)
    if found := _PARSED.match(text, at):
        inner, end = _argument(text, found.end(), depth)
        if not isinstance(inner, str):
            raise NoLiteral("JSON.parse of something else than a string", end)
        return literal(inner, 0, depth + 1)[0], end
    if text.startswith(("!0", "!1"), at):
        return text[at + 1] == "0", at + 2
    if text.startswith("void 0", at):
        return None, at + 6
    name = _NAME.match(text, at)
    if name and name[0] in _WORDS:
        return _WORDS[name[0]], name.end()
    raise NoLiteral("code, not data", at)


def _argument(text: str, at: int, depth: int) -> tuple[Any, int]:
    """The only argument of a call, or None without one, and the place behind the closing parenthesis."""
    at = _skip(text, at)
    value = None
    if text[at : at + 1] != ")":
        value, at = literal(text, at, depth + 1)
        at = _skip(text, at)
    if text[at : at + 1] != ")":
        raise NoLiteral("more than one argument", at)
    return value, at + 1
