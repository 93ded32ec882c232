"""Where everything stands in a TOML text: a scanner that gives the offset of every key and value.

`tomllib` reads the values and refuses what is not TOML 1.0, but keeps no positions. This scanner runs after it, on a
text known to be right, so it needs no errors of its own.
"""

from __future__ import annotations

import re
from bisect import bisect_right
from dataclasses import dataclass
from functools import cached_property

Path = tuple[str | int, ...]

_BLANK = re.compile(r"(?:[ \t\r\n]|#[^\n]*)*")
_SPACE = re.compile(r"[ \t]*")
_BARE = re.compile(r"[A-Za-z0-9_-]+")
_SCALAR = re.compile(r"[^,\]}#\n]+")
_ESCAPE = re.compile(r'\\(?:u([0-9A-Fa-f]{4})|U([0-9A-Fa-f]{8})|(["\\bfnrt]))')
_MULTI_BASIC = re.compile(r'"""(?:\\.|[^\\])*?"{3,5}', re.DOTALL)
_MULTI_LITERAL = re.compile(r"'''.*?'{3,5}", re.DOTALL)
_BASIC = re.compile(r'"(?:\\.|[^"\\])*"')
_LITERAL = re.compile(r"'[^']*'")
_SHORT = dict(zip('"\\bfnrt', '"\\\b\f\n\r\t', strict=True))


@dataclass(frozen=True, slots=True)
class Spot:
    """Offsets in the text: of the key, of the value, and of the first character inside a string without escapes."""

    key: int
    value: int
    inside: int | None = None


class Positions:
    """The spots of a TOML text by path: ("page", "register", "rows"), list places counted from 0."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.spots = _Scanner(text).scan()

    @cached_property
    def _line_starts(self) -> list[int]:
        return [0, *(match.end() for match in re.finditer("\n", self.text))]

    def spot(self, path: Path) -> Spot | None:
        """The spot of a path, or of the nearest part of it that is written down."""
        while path:
            if path in self.spots:
                return self.spots[path]
            path = path[:-1]
        return None

    def line_and_column(self, offset: int) -> tuple[int, int]:
        """Line and column of an offset, both from 1, columns in characters."""
        line = bisect_right(self._line_starts, offset)
        return line, offset - self._line_starts[line - 1] + 1

    def line(self, number: int) -> str:
        """The text of a line, numbered from 1."""
        return self.text.splitlines()[number - 1] if number <= len(self.text.splitlines()) else ""


class _Scanner:
    def __init__(self, text: str) -> None:
        self.text = text
        self.at = 0
        self.spots: dict[Path, Spot] = {}
        self.table_arrays: dict[Path, int] = {}

    def scan(self) -> dict[Path, Spot]:
        heading: Path = ()
        self._skip(_BLANK)
        while self.at < len(self.text):
            if self.text[self.at] == "[":
                heading = self._heading()
            else:
                self._pair(heading)
            self._skip(_BLANK)
        return self.spots

    def _skip(self, pattern: re.Pattern[str]) -> None:
        found = pattern.match(self.text, self.at)
        if found:
            self.at = found.end()

    def _heading(self) -> Path:
        """`[a.b]` or `[[a.b]]`: the path that the pairs below it belong to."""
        start = self.at
        is_array = self.text.startswith("[[", self.at)
        self.at += 2 if is_array else 1
        names = self._key()
        self.at = self.text.index("]", self.at) + (2 if is_array else 1)
        path: Path = ()
        for number, (name, at) in enumerate(names, 1):
            path = (*path, name)
            self.spots.setdefault(path, Spot(at, start))
            if is_array and number == len(names):
                self.table_arrays[path] = self.table_arrays.get(path, -1) + 1
            if path in self.table_arrays:
                path = (*path, self.table_arrays[path])
                self.spots.setdefault(path, Spot(at, start))
        return path

    def _pair(self, heading: Path) -> None:
        names = self._key()
        self._skip(_SPACE)
        self.at += 1  # the equals sign
        self._skip(_SPACE)
        path = heading
        for name, at in names:
            path = (*path, name)
            self.spots.setdefault(path, Spot(at, self.at))
        self.spots[path] = Spot(names[-1][1], self.at, self._inside())
        self._value(path)

    def _key(self) -> list[tuple[str, int]]:
        """The parts of a dotted key with their offsets."""
        names: list[tuple[str, int]] = []
        while True:
            self._skip(_SPACE)
            start = self.at
            character = self.text[self.at]
            pattern = _BASIC if character == '"' else _LITERAL if character == "'" else _BARE
            found = pattern.match(self.text, self.at)
            assert found is not None, "the text was read by tomllib before"
            self.at = found.end()
            names.append((_unquoted(found[0]), start))
            self._skip(_SPACE)
            if self.at >= len(self.text) or self.text[self.at] != ".":
                return names
            self.at += 1

    def _inside(self) -> int | None:
        """The offset of the first character of the string that begins here; None when escapes move what follows."""
        for pattern, quotes in ((_MULTI_LITERAL, 3), (_MULTI_BASIC, 3), (_LITERAL, 1), (_BASIC, 1)):
            found = pattern.match(self.text, self.at)
            if found:
                if found[0].startswith('"') and "\\" in found[0]:
                    return None
                first = self.at + quotes
                return first + 1 if quotes == 3 and self.text.startswith("\n", first) else first
        return None

    def _value(self, path: Path) -> None:
        character = self.text[self.at]
        if character == "[":
            self.at += 1
            index = 0
            self._skip(_BLANK)
            while self.text[self.at] != "]":
                self.spots[(*path, index)] = Spot(self.at, self.at, self._inside())
                self._value((*path, index))
                index += 1
                self._past_comma()
            self.at += 1
        elif character == "{":
            self.at += 1
            self._skip(_BLANK)
            while self.text[self.at] != "}":
                self._pair(path)
                self._past_comma()
            self.at += 1
        elif character in "\"'":
            for pattern in (_MULTI_LITERAL, _MULTI_BASIC, _LITERAL, _BASIC):
                found = pattern.match(self.text, self.at)
                if found:
                    self.at = found.end()
                    return
        else:
            self._skip(_SCALAR)

    def _past_comma(self) -> None:
        self._skip(_BLANK)
        if self.text[self.at] == ",":
            self.at += 1
            self._skip(_BLANK)


def _unquoted(name: str) -> str:
    if name.startswith("'"):
        return name[1:-1]
    if not name.startswith('"'):
        return name
    return _ESCAPE.sub(lambda m: _SHORT[m[3]] if m[3] else chr(int(m[1] or m[2], 16)), name[1:-1])
