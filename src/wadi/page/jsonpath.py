"""JSONPath of RFC 9535: plain paths are walked here, all others go to a library that passes the public suite."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import Any

from wadi.page.nodes import JsonNode

Step = str | int

_SINGULAR = re.compile(
    # Letters, `_` and all beyond ASCII, told by what they are not: a range up to U+10FFFF takes long to compile.
    r"\$((?:\.[^\x00-@\[-^`{-\x7f][^\x00-/:-@\[-^`{-\x7f]*|\[(?:0|-?[1-9]\d*)\]|\['[^'\\\x00-\x1f]*'\]|\[\"[^\"\\\x00-\x1f]*\"\])*)\Z"
)
_ALL = "[*]"
_MOST_INDEX = 2**53 - 1
_STEP = re.compile(r"\.([^.\[]+)|\[(-?\d+)\]|\['([^']*)'\]|\[\"([^\"]*)\"\]")


Query = Callable[[Any], list[JsonNode]]


class BadPath(ValueError):
    """A JSONPath that cannot be read; `offset` from 0."""

    def __init__(self, what: str, offset: int | None) -> None:
        super().__init__(what)
        self.offset = offset


def compile_path(text: str) -> Query:
    """The query as a function from a value to nodes. Raises BadPath."""
    if (steps := steps_of(text)) is not None:
        return lambda value: _walk(steps, value)
    if text.endswith(_ALL) and (before := steps_of(text.removesuffix(_ALL))) is not None:
        return lambda value: _members(before, value)
    return _library(text)


def steps_of(text: str) -> tuple[Step, ...] | None:
    """The keys and numbers of a plain path, which leads to one value at most; None for others. Raises BadPath."""
    if _SINGULAR.match(text) is None:
        return None
    steps = tuple(_step(match) for match in _STEP.finditer(text))
    if any(isinstance(step, int) and abs(step) > _MOST_INDEX for step in steps):
        raise BadPath("an index beyond 2^53 - 1 (RFC 9535 §2.1)", text.index("["))
    return steps


def _step(match: re.Match[str]) -> Step:
    name, index, single, double = match.groups()
    return int(index) if index is not None else next(s for s in (name, single, double) if s is not None)


def _walk(steps: Sequence[Step], value: Any) -> list[JsonNode]:
    path: list[Step] = []
    for step in steps:
        if isinstance(step, str):
            if not isinstance(value, dict) or step not in value:
                return []
            value = value[step]
            path.append(step)
        else:
            if not isinstance(value, list) or not -len(value) <= step < len(value):
                return []
            path.append(step % len(value))
            value = value[step]
    return [JsonNode(value, tuple(path))]


def _members(steps: Sequence[Step], value: Any) -> list[JsonNode]:
    """All that stands in the array or object to which steps lead, as rows mostly do."""
    around = _walk(steps, value)
    if not around:
        return []
    value, path = around[0].value, around[0].path
    members = enumerate(value) if isinstance(value, list) else value.items() if isinstance(value, dict) else ()
    return [JsonNode(member, (*path, key)) for key, member in members]


def _library(text: str) -> Query:
    import jsonpath_rfc9535 as jsonpath

    try:
        query = jsonpath.compile(text)
    except jsonpath.JSONPathError as error:
        token = getattr(error, "token", None)
        what = str(error.args[0]) if error.args else str(error)
        raise BadPath(what, getattr(token, "index", None)) from error
    return lambda value: [JsonNode(node.value, tuple(node.location)) for node in query.find(value)]


def pointed(path: tuple[Step, ...]) -> str:
    """The normalized path (RFC 9535 §2.7) in its short form where that can be written: `$.a[0]['b c']`."""
    out = "$"
    for step in path:
        if isinstance(step, int):
            out += f"[{step}]"
        elif re.fullmatch(r"[A-Za-z_]\w*", step):
            out += f".{step}"
        else:
            quoted = step.replace("\\", "\\\\").replace("'", "\\'")
            out += f"['{quoted}']"
    return out
