"""Values as people write them, in tables by kind under `writings/`, each with what a person reads in it.

    python tests/small_writings.py        how many are read right, refused though ordinary, and wrong in silence

A line is `text | settings | what a person reads`: `!` where nobody can tell, `~` for nothing; settings are KEY=VALUE with
blanks between, and a word alone is a key that is true. In tables of several kinds the kind stands before the text.
"""

from __future__ import annotations

import shlex
import sys
from dataclasses import fields
from datetime import UTC, date, datetime, time
from pathlib import Path
from typing import Any, NamedTuple

from wadi.clean.stages import Recipe, Stages, Unread
from wadi.clean.types import Setting, Where

AT = datetime(2026, 5, 14, 12, 30, tzinfo=UTC).timestamp()
"""When the page came on which the texts stand."""
_KINDS = {"numbers": "number", "ranges": "number", "money": "money", "dates": "date", "moments": "datetime",
          "times": "time", "durations": "duration"}  # fmt: skip
_KNOWN = {field.name for field in fields(Setting)}


class Writing(NamedTuple):
    """A text with the settings of its column, and what a person reads in it."""

    kind: str
    text: str
    settings: str
    wanted: str


def writings(table: str) -> list[Writing]:
    """The writings of a table."""
    found = []
    for line in (Path(__file__).parent / "writings" / f"{table}.txt").read_text(encoding="utf-8").splitlines():
        if line and not line.startswith("#"):
            text, settings, wanted = ("" if cell == "~" else cell for cell in map(str.strip, line.rsplit("|", 2)))
            kind, text = (_KINDS[table], text) if table in _KINDS else text.split(" ", 1)
            found.append(Writing(kind, text, settings, wanted))
    return found


def tables() -> list[str]:
    """The names of all tables."""
    return sorted(path.stem for path in (Path(__file__).parent / "writings").glob("*.txt"))


def setting_of(writing: Writing) -> Setting:
    """The column's setting. A key that `Setting` does not know is left out."""
    given: dict[str, Any] = {"around": False}
    for word in shlex.split(writing.settings):
        key, mark, value = word.partition("=")
        if key == "units":
            unit, _, factor = value.rpartition(":")
            given["units"] = {**given.get("units", {}), unit: float(factor)}
        elif key == "other_words":
            given["around"] = True
        else:
            given[key] = value if mark else True
    return Setting(type=writing.kind, this_year=2026, **{key: value for key, value in given.items() if key in _KNOWN})  # type: ignore[arg-type]


def read(writing: Writing) -> str:
    """What comes out, as the table writes it; `!` with the reason for what is refused."""
    value = Stages(Recipe(setting=setting_of(writing))).value_of(writing.text, Where("http://h/", AT))
    return f"! {value.code}: {value.what}; {value.why}" if isinstance(value, Unread) else shown(value)


def shown(value: Any) -> str:
    """A value as the tables write it."""
    if isinstance(value, list) and len(value) == 2 and not isinstance(value[1], float):
        return f"{shown(value[0])} {value[1] or '-'}"
    if isinstance(value, date | datetime | time):
        return value.isoformat()
    if isinstance(value, float):
        return str(int(value)) if value.is_integer() else repr(value)
    return "" if value is None else str(value)


def is_right(writing: Writing, got: str) -> bool:
    """Whether that is what a person reads; figures of numbers to the last digit that a float has."""
    if got == writing.wanted or (writing.wanted == "!" and got[:1] in ("!", "")):
        return True
    amount, _, rest = got.partition(" ")
    wanted, _, wanted_rest = writing.wanted.partition(" ")
    try:
        return float(amount) == float(wanted) and rest == wanted_rest
    except ValueError:
        return False


def main() -> None:
    """Print the figures, and with --all every writing that is not read as a person reads it."""
    totals = [0, 0, 0, 0]
    for table in tables():
        counts = [0, 0, 0, 0]
        for writing in writings(table):
            try:
                got = read(writing)
            except Exception as error:
                got = f"crash: {error!r}"
            place = 1 if is_right(writing, got) else 2 if got.startswith("!") else 3
            counts[0] += 1
            counts[place] += 1
            if place > 1 and "--all" in sys.argv:
                print(
                    f"  {'refused' if place == 2 else 'WRONG'}  {writing.text!r} ({writing.settings}) wanted {writing.wanted!r}, got {got!r}"
                )
        totals = [a + b for a, b in zip(totals, counts, strict=True)]
        print(
            f"{table:<12}{counts[0]:>5} writings, {counts[1]:>5} right, {counts[2]:>4} refused though ordinary, {counts[3]:>4} wrong"
        )
    print(
        f"{'all':<12}{totals[0]:>5} writings, {totals[1]:>5} right, {totals[2]:>4} refused though ordinary, {totals[3]:>4} wrong"
    )


if __name__ == "__main__":
    main()
