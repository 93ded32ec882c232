"""The questions that `wadi draft` asks at a terminal: which rows, which columns, further pages, where to. Each has a proposal."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from wadi.learn.clues.field_guess import FieldGuess
from wadi.learn.drafts.draft import table_name
from wadi.learn.drafts.drafting import Asked
from wadi.learn.first_look.details import link_of_rows
from wadi.learn.first_look.look import Group, Look, RowsFound
from wadi.page.nodes import pieces_of_text
from wadi.problems import shortened

Ask = Callable[[str], str]
Tell = Callable[[str], None]
_MOST_GROUPS = 4
_WIDTH = 78


@dataclass(frozen=True)
class Answers:
    """What was answered: what is wanted of the page, and the file for the plan."""

    asked: Asked
    output: str


def questions(look: Look, path: str, ask: Ask, tell: Tell) -> Answers | None:
    """Ask what is wanted of a page; None where there is nothing to choose from. `ask` gives the answer to a question, "" for
    the proposal."""
    groups = look.groups[:_MOST_GROUPS]
    if not groups:
        return None
    group = _group(groups, ask, tell)
    fields = _fields(group, ask, tell)
    is_open = False
    if group.rows is not None and link_of_rows(look, group.fields) is not None:
        answer = ask("Each row leads to a page of its own. Look at three of them, and draft their columns, too? [y/N] ")
        is_open = answer.strip().lower().startswith("y")
    # A file name that is not taken.
    proposal, number = f"{table_name(path)}.toml", 2
    while Path(proposal).exists():
        proposal, number = f"{table_name(path)}-{number}.toml", number + 1
    output = ask(f"Where to? [{proposal}] ").strip() or proposal
    return Answers(Asked(group=group.mark, fields=fields, open=is_open), output)


def _group(groups: Sequence[Group], ask: Ask, tell: Tell) -> Group:
    """The rows that are wanted; the first where nothing else is said."""
    if len(groups) == 1:
        tell(_described(groups[0]))
        return groups[0]
    tell("What should become the table?")
    for group in groups:
        tell(f"  {_described(group)}")
    marks = {group.mark: group for group in groups}
    while True:
        answer = ask(f"Which? [{groups[0].mark}] ").strip().upper() or groups[0].mark
        if answer in marks:
            return marks[answer]
        tell(f"  one of {', '.join(marks)}")


def _described(group: Group) -> str:
    if group.rows is None:
        return f"{group.mark}  the page itself: {_samples(group.fields)}"
    if isinstance(group.rows, RowsFound):
        pieces = (" ".join(piece.split()) for piece in pieces_of_text(group.rows.rows.rows[0]))
        first = " · ".join(piece for piece in pieces if piece)
        return f"{group.mark}  {group.rows.rows.count:,} rows: {shortened(first, _WIDTH - 20)}"
    return f"{group.mark}  {group.rows.count:,} rows: {_samples(group.fields)}"


def _samples(fields: Sequence[FieldGuess]) -> str:
    return shortened(" · ".join(field.samples[0] for field in fields if field.samples), _WIDTH - 20)


def _fields(group: Group, ask: Ask, tell: Tell) -> dict[str, str]:
    """The columns that are wanted, by mark with their names; empty for all."""
    tell("Its columns:")
    width = max((len(field.name) for field in group.fields), default=0)
    for mark, field in zip(group.marks, group.fields, strict=True):
        samples = " | ".join(shortened(sample, 24) for sample in field.samples)
        tell(f"  {mark:<4} {field.name:<{width}}  {shortened(samples, _WIDTH - width - 8)}")
    while True:
        answer = ask("Which, and called what? (A1=code, A3, …; Enter takes all) ")
        found = _marks_in(answer, group)
        if found is not None:
            return found
        tell(f"  marks are {group.marks[0]} to {group.marks[-1]}, a name behind = where it should be another")


def _marks_in(answer: str, group: Group) -> dict[str, str] | None:
    """The marks of an answer with their names; None for one that cannot be read."""
    found: dict[str, str] = {}
    for part in filter(None, re.split(r"[,\s]+", answer.strip())):
        mark, _, name = part.partition("=")
        mark = mark.upper() if mark.upper().startswith(group.mark) else f"{group.mark}{mark}"
        if mark not in group.marks:
            return None
        found[mark] = name
    return found
