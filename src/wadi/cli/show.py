"""How results look: problems, tables of rows, numbers. Foreign text is escaped before it meets a terminal."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any, TextIO

from wadi.problems import Problem, escaped_in_strings, shortened

if TYPE_CHECKING:
    from rich.console import Console
    from rich.table import Table
    from rich.text import Text

    from wadi.plan.columns import Column

_CELL = 40
_PIPE_WIDTH = 140


def console(stream: TextIO) -> Console:
    """A terminal or whatever the stream is: colours only on a terminal, and not with NO_COLOR."""
    from rich.console import Console

    width = None if stream.isatty() else int(os.environ.get("COLUMNS") or _PIPE_WIDTH)
    return Console(file=stream, highlight=False, markup=False, emoji=False, soft_wrap=width is not None, width=width)


def show_problems(problems: Iterable[Problem], err: TextIO) -> None:
    """Every problem as style.md wants it; the place stands out on a terminal."""
    if not err.isatty():
        for problem in problems:
            print(problem, file=err)
        return
    from rich.text import Text

    to = console(err)
    for problem in problems:
        first, *below = problem.lines()
        where = str(problem.place)
        line = Text(first)
        line.stylize("bold", 0, len(where) + 1 if where else 0)
        line.stylize("dim", len(first) - len(problem.code) - 2)
        to.print(line)
        for text in below:
            to.print(Text(text, style="" if text.lstrip()[:1].isdigit() else "dim"))


def write_json(value: Any, out: TextIO) -> None:
    """A report for programs: one JSON value with the version of its form, indented."""
    out.write(escaped_in_strings(json.dumps({"format": 1, **value}, ensure_ascii=False, indent=2, default=str)) + "\n")


def cell_text(value: Any) -> str:
    """A cell for people, in one line."""
    if value is None or value == []:
        return ""
    if isinstance(value, list):
        return shortened("; ".join(str(member) for member in value), _CELL)
    return shortened(str(value), _CELL)


def rows_table(columns: Sequence[Column], rows: Sequence[Sequence[Any]], width: int) -> tuple[Any, list[str]]:
    """A rich table of rows in as many columns as fit into `width` characters, and the names of those left out."""
    from rich.table import Table

    from wadi.clean.types import NUMERIC

    texts = [[cell_text(value) for value in row] for row in rows]
    widths = [max([len(c.name), *(len(row[place]) for row in texts)]) for place, c in enumerate(columns)]
    shown: list[int] = []
    used = 0
    # URLs are long and say little to the eye: they come last, if there is room.
    for place in sorted(range(len(columns)), key=lambda place: columns[place].type == "url"):
        if used + widths[place] + 2 <= width or not shown:
            shown.append(place)
            used += widths[place] + 2
    shown.sort()
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bold", pad_edge=False)
    for place in shown:
        column = columns[place]
        right = column.type in NUMERIC and not column.many
        table.add_column(column.name, justify="right" if right else "left", no_wrap=True, overflow="ellipsis")
    for row in texts:
        table.add_row(*(plain(row[place]) for place in shown))
    return table, [column.name for place, column in enumerate(columns) if place not in shown]


def plain(text: str, style: str = "") -> Text:
    """Foreign text as it is: no markup is read in it."""
    from rich.text import Text

    return Text(text, style=style)


def blocks(parts: Sequence[tuple[str, Sequence[Any]]]) -> Table:
    """Blocks of lines, each with its name at the left; empty ones are left out. A line is text or something drawn."""
    from rich.console import Group
    from rich.table import Table

    table = Table.grid(padding=(0, 2, 0, 0))
    table.add_column(no_wrap=True)
    table.add_column()
    first = True
    for name, lines in parts:
        if not lines:
            continue
        if not first:
            table.add_row("", "")
        first = False
        table.add_row(plain(name, "bold"), Group(*(plain(line) if isinstance(line, str) else line for line in lines)))
    return table


def age_text(seconds: float) -> str:
    """`40 s`, `12 min`, `3 h`, `2 days`."""
    for limit, size, word in ((120, 1, "s"), (7200, 60, "min"), (172_800, 3600, "h")):
        if seconds < limit:
            return f"{seconds / size:.0f} {word}"
    return f"{seconds / 86_400:.0f} days"


def shown_size(size: int) -> str:
    """Bytes for people: `12 kB`, `3.4 MB`."""
    return f"{size / 1e6:.1f} MB" if size >= 100_000 else f"{size / 1e3:.0f} kB"


def standard_output() -> Any:
    """The bytes of standard output."""
    return sys.stdout.buffer
