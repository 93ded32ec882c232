"""The outline of a JSON document: its paths with types, counts and samples, and the lists and objects that look like rows."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from typing import Any

from wadi.clean.numbers import PlainNumber
from wadi.learn.clues.field_guess import FieldGuess, named_apart
from wadi.learn.clues.types import STRING, guessed_type
from wadi.page.json_values import text_of_value
from wadi.page.jsonpath import Step, compile_path, pointed
from wadi.page.nodes import JsonNode

_MOST_PATHS = 200
_MOST_MEMBERS, _MOST_SEARCHED = 200, 5000
_DEEPEST = 12
_SAMPLES = 3
_KEYS_AS_DATA = 12
_CODE = re.compile(r"(?=.*\d)[\w .:/-]{1,40}|[A-Z]{2,6}|[a-z]{2,3}_[A-Z]{2}")
"""Keys that are data by their letters: those with figures, codes in capitals, locales."""
_SAYS_LITTLE = frozenset({"name", "id", "value", "title", "text", "label", "url", "href", "code", "amount"})
_WRAPPERS = frozenset({"attributes", "data", "node", "item", "fields", "properties", "links"})


@dataclass(slots=True)
class PathFound:
    """One path: its JSONPath, how often a value stands there, of which types, and samples."""

    path: str
    count: int = 0
    types: Counter[str] = field(default_factory=Counter)
    samples: list[str] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class JsonRows:
    """Rows in a JSON document: the JSONPath, how many there are, and the fields of a row."""

    expression: str
    count: int
    fields: tuple[FieldGuess, ...]
    score: float


def outline(data: Any) -> list[PathFound]:
    """The document's paths in the order of first appearance, members of lists taken together as `[*]`; at most 200."""
    found: dict[str, PathFound] = {}
    _gather(data, "$", found, 0)
    return list(found.values())[:_MOST_PATHS]


def _gather(value: Any, path: str, found: dict[str, PathFound], depth: int) -> None:
    if len(found) > _MOST_PATHS or depth > _DEEPEST:
        return
    seen = found.setdefault(path, PathFound(path))
    seen.count += 1
    seen.types[_type_name(value)] += 1
    if isinstance(value, dict):
        if _keys_are_data(value):
            for inner in list(value.values())[:_MOST_MEMBERS]:
                _gather(inner, f"{path}.*", found, depth + 1)
            return
        for key, inner in value.items():
            _gather(inner, path + pointed((key,))[1:], found, depth + 1)
    elif isinstance(value, list):
        for inner in value[:_MOST_MEMBERS]:
            _gather(inner, f"{path}[*]", found, depth + 1)
    elif len(seen.samples) < _SAMPLES and value is not None and (text := _text(value)) not in seen.samples:
        seen.samples.append(text)


def _keys_are_data(value: dict[str, Any]) -> bool:
    """Whether an object's keys are codes rather than names: many of them, or codes by their letters, with objects of like keys,
    or values of one kind, behind all."""
    inner = list(value.values())
    are_codes = len(inner) > 2 and all(_CODE.fullmatch(key) for key in value)
    if len(inner) < _KEYS_AS_DATA and not are_codes:
        return False
    if all(isinstance(member, dict) for member in inner):
        return bool(set.intersection(*(set(member) for member in inner[:20])))
    kinds = {type(member) for member in inner if member is not None}
    are_figures = bool(kinds) and kinds <= {int, float}
    return are_figures or (are_codes and len(kinds) == 1 and not kinds & {dict, list, bool})


def json_rows(data: Any, most: int = 6) -> list[JsonRows]:
    """Lists and objects of alike members, the likeliest rows first."""
    lists = _lists(data, (), 0)
    found = [rows for path, members, keys in lists if (rows := _as_rows(path, members, keys)) is not None]
    found = [_named_by_columns(data, rows) for rows in found]
    return sorted(found, key=lambda rows: rows.score, reverse=True)[:most]


def _lists(value: Any, path: tuple[Step, ...], depth: int) -> Iterator[tuple[str, list[Any], list[str]]]:
    """The path of the members of each list and map, the members, and of a map their keys. A map of plain values inside a list's
    member is a part of that row."""
    if depth > _DEEPEST:
        return
    if isinstance(value, list):
        if len(value) > 1 and isinstance(value[0], dict | list):
            yield f"{pointed(path)}[*]", value, []
        for place, inner in enumerate(value[:3]):
            yield from _lists(inner, (*path, place), depth + 1)
    elif isinstance(value, dict):
        if _keys_are_data(value):
            is_part = any(isinstance(step, int) for step in path) and not isinstance(next(iter(value.values())), dict)
            if not is_part:
                yield f"{pointed(path)}.*", list(value.values()), list(value)
        else:
            for key, inner in value.items():
                yield from _lists(inner, (*path, key), depth + 1)


def _named_by_columns(data: Any, rows: JsonRows) -> JsonRows:
    """Rows that are lists with the names that stand beside them: a list of as many texts, or of objects with a name, in an
    object around them (`columns` beside `rows`)."""
    width = len(rows.fields)
    if not all(re.fullmatch(r"\$\[\d+\]", guess.expression) for guess in rows.fields) or "[*]" not in rows.expression:
        return rows
    holder = rows.expression.removesuffix("[*]").rpartition(".")[0] or "$"
    around = [node.value for node in compile_path(holder)(data)] if rows.expression != "$[*]" else []
    for value in (inner for one in around if isinstance(one, dict) for inner in one.values()):
        if (
            isinstance(value, list)
            and len(value) == width
            and (names := [_column_name(member) for member in value])
            and all(names)
        ):
            named = [replace(guess, name=name) for guess, name in zip(rows.fields, names, strict=True)]
            return replace(rows, fields=tuple(named_apart(named)))
    return rows


def _column_name(member: Any) -> str:
    """The name that a member of a list of columns is or has."""
    if isinstance(member, dict):
        member = next((member[key] for key in ("name", "title", "label", "field", "id") if key in member), None)
    return member if isinstance(member, str) and 0 < len(member) < 60 else ""


def _as_rows(path: str, members: list[Any], keys: list[str]) -> JsonRows | None:
    read = members[:_MOST_MEMBERS]
    values: dict[str, list[Any]] = {}
    for member in read:
        for place, inner in _row_values(member, (), 0) if isinstance(member, dict | list) else [((), member)]:
            values.setdefault(pointed(place), []).append(inner)
    fields: list[FieldGuess] = []
    if keys:
        fields.append(
            FieldGuess(
                "", None, 1.0, 0.0, tuple(keys[:_SAMPLES]), guessed_type(keys), "key", is_unique=True, source="key"
            )
        )
    for where, found in values.items():
        texts = [_text(value) for value in found if value is not None]
        if not texts and any(other.startswith((f"{where}.", f"{where}[")) for other in values):
            continue  # an object that is null now and then
        samples = tuple(dict.fromkeys(texts))[:_SAMPLES]
        share, is_unique = len(texts) / len(read), 1 < len(read) == len(set(texts))
        guess = guessed_type(texts) if texts else STRING
        fields.append(FieldGuess(where, None, share, 0.0, samples, guess, _name_of(where), is_unique=is_unique))
    if not fields:
        return None
    alike = sum(offered.share for offered in fields) / len(fields)
    varied = sum(len(offered.samples) > 1 for offered in fields)
    depth = path.count(".") + path.count("[")
    score = min(len(members), 100) ** 0.5 * min(varied, 12) * alike / (1 + 0.15 * depth)
    return JsonRows(path, len(members), tuple(named_apart(fields)), score)


def members_of(data: Any, rows: JsonRows) -> list[JsonNode]:
    """The rows themselves, as many as examples are looked for in."""
    return [JsonNode(node.value, node.path) for node in compile_path(rows.expression)(data)[:_MOST_SEARCHED]]


def row_texts(row: JsonNode) -> Iterator[tuple[str, str]]:
    """The paths of a row with the texts of the values there, and its key as `key`, where it stands under one."""
    for path, value in _row_values(row.value, (), 0):
        if value is not None:
            yield pointed(path), _text(value)
    if row.path and isinstance(row.path[-1], str):
        yield "key", row.path[-1]


def _name_of(path: str) -> str:
    """A name for a column: the last key, with the one before it where it says little (`district.name`)."""
    keys = [key for key in re.split(r"\.|\['?|'?\]", path.removeprefix("$")) if key]
    few = keys[-2:] if keys and keys[-1].lower() in _SAYS_LITTLE else keys[-1:]
    return "_".join(key for key in few if key.lower() not in _WRAPPERS or len(few) == 1) or "value"


def _row_values(member: Any, path: tuple[Step, ...], depth: int) -> Iterator[tuple[tuple[Step, ...], Any]]:
    """The scalars of a row with their paths; lists and maps inside it stay whole."""
    if isinstance(member, dict) and depth < 3 and not (path and _keys_are_data(member)):
        for key, inner in member.items():
            yield from _row_values(inner, (*path, key), depth + 1)
    elif isinstance(member, list) and not path:
        for place, inner in enumerate(member[:40]):
            yield (place,), inner
    elif path:
        yield path, member


def _type_name(value: Any) -> str:
    names = {
        dict: "object",
        list: "list",
        str: "string",
        bool: "boolean",
        int: "integer",
        float: "number",
        type(None): "null",
    }
    return names.get(type(value), "number" if isinstance(value, float) else "string")


def _text(value: Any) -> str:
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, int | float):
        return PlainNumber(value)
    if isinstance(value, str):
        return " ".join(value.split())
    text = text_of_value(value)
    return text if len(text) < 120 else f"{text[:119]}…"
