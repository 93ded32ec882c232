"""Strings and keys as a drafted plan writes them (TOML 1.0)."""

from __future__ import annotations

import json
import re

from wadi.problems import escaped_in_strings


def exact(text: str) -> str:
    """A text as a basic string, line breaks and all; its escapes are those of JSON."""
    return escaped_in_strings(json.dumps(text, ensure_ascii=False))


def quoted(text: str) -> str:
    """An expression as a TOML string, in the plainest quotes that hold it."""
    if not text.isprintable():
        return exact(text)
    if '"' not in text and "\\" not in text:
        return f'"{text}"'
    return f"'{text}'" if "'" not in text else '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def as_key(name: str) -> str:
    """A name as a key of TOML, in quotes where it has to be."""
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else exact(name)


def text_in_quotes(text: str) -> str:
    """A text in one line as a basic string, whose escapes are those of JSON."""
    return exact(" ".join(text.split()))
