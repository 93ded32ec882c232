"""Changes of a plan's text: values are put in place, comments and layout stay (TOML 1.0)."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping, Sequence
from typing import Any

import tomlkit
from tomlkit.items import Item

from wadi.learn.clues.toml_text import as_key, quoted

Path = tuple[str, ...]


def with_changes(source: str, changes: Sequence[tuple[Path, Any]]) -> str:
    """The plan with values set at paths; None takes a key away. What stands under a heading of its own keeps it, and a new
    key comes behind the others there."""
    for path, value in changes:
        document = tomlkit.parse(source)
        if value is not None and (added := _added(source, document, path, value)) is not None:
            source = added
        else:
            _set(document, path, value)
            source = tomlkit.dumps(document)
    return source


def _added(source: str, document: Any, path: Path, value: Any) -> str | None:
    """The text with a new key as the last line under its heading; None where the key is there, or the heading is not."""
    holder = document
    for step in path[:-1]:
        holder = holder.get(step) if isinstance(holder, Mapping) else None
    if not isinstance(holder, Mapping) or path[-1] in holder:
        return None
    heading = f"[{'.'.join(map(as_key, path[:-1]))}]"
    lines = source.splitlines(keepends=True)
    start = next((n for n, line in enumerate(lines) if line.strip().startswith(heading)), None)
    if start is None:
        return None
    end = next((n for n, line in enumerate(lines[start + 1 :], start + 1) if line.startswith("[")), len(lines))
    while end > start + 1 and not lines[end - 1].strip():
        end -= 1
    widths = [len(line.partition("=")[0].rstrip()) for line in lines[start + 1 : end] if re.match(r"[\w-]+ *=", line)]
    before = lines[end - 1] if lines[end - 1].endswith("\n") else f"{lines[end - 1]}\n"
    line = f"{as_key(path[-1]):<{max(widths, default=0)}} = {text_of_value(value)}\n"
    return "".join([*lines[: end - 1], before, line, *lines[end:]])


def _set(document: Any, path: Path, value: Any) -> None:
    holder = document
    for step in path[:-1]:
        if step not in holder:
            holder[step] = tomlkit.table()
        holder = holder[step]
    name = path[-1]
    if value is None:
        if name in holder:
            del holder[name]
    elif isinstance(value, Mapping) and name in holder and isinstance(holder[name], tomlkit.items.Table):
        table = holder[name]
        for key in [key for key in table if key not in value]:
            del table[key]
        for key, inner in value.items():
            table[key] = written(inner)
    else:
        # A value in place of another; a comment behind it stays in its column where there is room.
        item = written(value)
        old = holder.get(name, None)
        if isinstance(old, Item) and old.trivia.comment:
            room = len(old.trivia.comment_ws) + len(old.as_string()) - len(item.as_string())
            holder[name] = item
            holder[name].trivia.comment_ws = " " * max(4, room)
        else:
            holder[name] = item


def written(value: Any) -> Item:
    """A value as a plan has it: expressions in the plainest quotes, tables in one line."""
    item: Item = tomlkit.parse(f"value = {text_of_value(value)}")["value"]
    return item


def text_of_value(value: Any) -> str:
    """A value of TOML in one line, as drafts write it."""
    if isinstance(value, str):
        return quoted(value)
    if isinstance(value, Mapping):
        return f"{{ {', '.join(f'{as_key(key)} = {text_of_value(inner)}' for key, inner in value.items())} }}"
    if isinstance(value, list):
        return f"[{', '.join(map(text_of_value, value))}]"
    return str(value).lower() if isinstance(value, bool) else str(value)


def read(text: str) -> Any:
    """A value as a plan writes it (`{ at = ".flow" }`)."""
    return tomllib.loads(f"value = {text}")["value"]
