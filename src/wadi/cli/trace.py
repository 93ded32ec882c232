"""`wadi trace`: from a row of a table back to the stored page, stage by stage."""

from __future__ import annotations

import argparse
from datetime import datetime
from typing import TYPE_CHECKING, Any, TextIO

from wadi.cli.options import A_RUN, add_runs, say_which
from wadi.cli.status import Status

if TYPE_CHECKING:
    from rich.text import Text

    from wadi.actions.trace import CellLocation, CellTrace

EXAMPLES = """examples:
  wadi trace springs springs 17              every column of row 17
  wadi trace springs springs MW-0141 flow    one cell of the row with this key
  wadi trace springs springs name='Ash Spring' --json
"""
_WIDE = 100


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("run", metavar="RUN", help=A_RUN)
    parser.add_argument("table", metavar="TABLE", help="the table")
    parser.add_argument("row", metavar="ROW", help="the row: its number from 1, its key, or COLUMN=VALUE")
    parser.add_argument("column", metavar="COLUMN", nargs="?", help="the column (default: all of them)")
    add_runs(parser)
    parser.add_argument("--json", action="store_true", help="the same as JSON on standard output")


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    from wadi.actions.run import Run
    from wadi.actions.trace import traced
    from wadi.cli.show import console, write_json

    with Run.open(args.run, args.runs) as opened:
        say_which(opened.chosen, args, err)
        traces = traced(opened, args.table, args.row, args.column)
        if args.json:
            write_json(
                {
                    "table": args.table or opened.tables[0],
                    "row": args.row,
                    "cells": [_as_dict(trace) for trace in traces],
                },
                out,
            )
            return Status.DONE
        to = console(out)
        last: CellLocation | None = None
        for trace in traces:
            if trace.location is not None and (last is None or trace.location != last):
                to.print(_location_lines(trace.location, opened.folder.name))
                last = trace.location
            to.print(_cell_lines(trace, whole=args.column is not None or args.verbose))
    return Status.DONE


def _location_lines(location: CellLocation, run: str) -> Text:
    from rich.text import Text

    from wadi.urls import without_secret

    at = (
        datetime.fromtimestamp(location.at).astimezone().isoformat(sep=" ", timespec="seconds")
        if location.at
        else "not stored"
    )
    text = Text()
    text.append(f"{location.kind}", "bold")
    text.append(f"  page {location.page} of run {run}, row {location.row + 1} on it\n")
    text.append(f"  {location.method} {without_secret(location.url)}   status {location.status}   {at}", "dim")
    return text


def _cell_lines(trace: CellTrace, *, whole: bool) -> Text:
    from rich.text import Text

    from wadi.problems import shortened

    text = Text()
    text.append(f"  {trace.column}", "bold cyan")
    text.append(f" = {shortened(_shown(trace.final), _WIDE)}")
    if trace.expression:
        text.append(f"   {shortened(trace.expression, 60)}", "dim")
    if not whole:
        way = _way(trace)
        return text.append(f"\n    {' → '.join(way)}", "dim") if len(way) > 1 else text
    if trace.markup:
        text.append("\n    ")
        text.append(_highlighted(trace.markup, trace.steps[0].value if trace.steps else None))
    for step in trace.steps:
        text.append(f"\n    {step.name:<24} ", "dim")
        text.append(shortened(_shown(step.value), _WIDE))
    return text


def _way(trace: CellTrace) -> list[str]:
    """The values that the stages made, each that differs from the one before it."""
    from wadi.problems import shortened

    shown = [shortened(_shown(step.value), 34) for step in trace.steps]
    return [text for place, text in enumerate(shown) if place == 0 or text != shown[place - 1]]


def _highlighted(markup: str, raw: Any) -> Text:
    """The element's source with the picked text standing out."""
    from rich.text import Text

    text = Text(markup, "dim")
    value = str(raw) if raw else ""
    at = markup.find(value) if value else -1
    if at >= 0:
        text.stylize("bold reverse", at, at + len(value))
    return text


def _shown(value: Any) -> str:
    from wadi.clean.stages import Unread

    if value is None:
        return "(no value)"
    if isinstance(value, Unread):
        return f"not readable: {value.what} [{value.code}]"
    return repr(value) if isinstance(value, str) else str(value)


def _as_dict(trace: CellTrace) -> dict[str, Any]:
    from dataclasses import asdict

    location = asdict(trace.location) if trace.location else None
    steps = [
        {"stage": step.name, "value": _shown(step.value) if step.value.__class__.__name__ == "Unread" else step.value}
        for step in trace.steps
    ]
    return {
        "column": trace.column,
        "value": trace.final,
        "page": location,
        "expression": trace.expression,
        "markup": trace.markup,
        "steps": steps,
    }
