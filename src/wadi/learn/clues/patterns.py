"""A regular expression for a value that shares its text with others, learned from what stands before and behind it."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import product

from wadi.learn.clues.sameness import folded

_PIECES = re.compile(r"\s+|\w+|[^\w\s]")
_NUMBER = re.compile(r"([+-]?[0-9]+(?:[.,'’\s][0-9]+)*)")
_MOST_PIECES, _LONGEST = 6, 2000
"""Of borders so many words and marks count; of a text so many characters are searched, since a pattern takes long over long
ones."""


def found_in(pattern: str, text: str) -> str:
    """What a pattern takes out of a text; "" where it is not there."""
    found = re.search(pattern, text[:_LONGEST])
    return " ".join(found[1].split()) if found else ""


def patterns_for(examples: Sequence[tuple[str, str]]) -> Iterator[str]:
    """Expressions with one group that take each value out of its text, the shortest first. `examples` are (text, value); case
    aside and with single blanks, each value stands in its text.

    Method: what all texts have in common just before the value, and just behind it, in words and marks; of that as little as
    gives the values.
    """
    parts = [part for text, value in examples if (part := _parted(text, value)) is not None]
    if len(parts) != len(examples) or not parts:
        return
    befores = _common([_PIECES.findall(before)[::-1] for before, _ in parts])
    afters = _common([_PIECES.findall(after) for _, after in parts])
    starts = [_written(befores[:length][::-1]) for length in range(1, len(befores) + 1) if _says(befores[:length])]
    ends = [_written(afters[:length]) for length in range(1, len(afters) + 1) if _says(afters[:length])]
    starts += [] if any(before.strip() for before, _ in parts) else ["^"]
    ends += [] if any(after.strip() for _, after in parts) else ["$"]
    for start, end in sorted(product(starts, ends), key=lambda pair: len(pair[0]) + len(pair[1])):
        pattern = f"{start}(.+?){end}"
        if all(folded(found_in(pattern, text)) == folded(value) for text, value in examples):
            yield pattern
    # The first number of a text, whatever stands around it: `ab 12,50 €` and `13,50 €`.
    if all(_NUMBER.fullmatch(value) and found_in(_NUMBER.pattern, text) == value for text, value in examples):
        yield _NUMBER.pattern


def _parted(text: str, value: str) -> tuple[str, str] | None:
    """What stands before and behind a value in a text."""
    words = r"\s+".join(map(re.escape, value.split()))
    found = re.search(rf"(?<!\w){words}(?!\w)", text, re.IGNORECASE) or re.search(words, text, re.IGNORECASE)
    return (text[: found.start()], text[found.end() :]) if found is not None else None


def _common(sides: Sequence[Sequence[str]]) -> list[str]:
    """The pieces with which all sides begin, white space counted as one kind."""
    found: list[str] = []
    for pieces in zip(*sides, strict=False):
        kinds = {" " if piece.isspace() else piece for piece in pieces}
        if len(kinds) > 1 or len(found) == _MOST_PIECES:
            break
        found.append(kinds.pop())
    return found


def _says(pieces: Sequence[str]) -> bool:
    """Whether there is more than white space in pieces: that stands before and behind many a value."""
    return any(piece != " " for piece in pieces)


def _written(pieces: Sequence[str]) -> str:
    return "".join(r"\s+" if piece == " " else re.escape(piece) for piece in pieces)
