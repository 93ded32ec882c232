"""`wadi try`: what expressions pick on a page, and through which stages a value goes; a prompt where none is given."""

from __future__ import annotations

import argparse
import sys
from datetime import date
from typing import TYPE_CHECKING, Any, Literal, TextIO, get_args, get_origin

from wadi.cli.options import add_page, add_rendered, opened, rendering_asked
from wadi.cli.show import console, plain, write_json
from wadi.cli.status import Status
from wadi.problems import Place, Problem, UsageError, plural, shortened

if TYPE_CHECKING:
    from rich.text import Text

    from wadi.actions.open_page import OpenedPage
    from wadi.learn.first_look.trying import Match, NoMatchHelp, Tried
    from wadi.page.document import Document
    from wadi.page.field import Field
    from wadi.page.nodes import Scope

EXAMPLES = """examples (with the sample site up:  wadi demo --serve --port 8700):
  wadi try http://127.0.0.1:8700/register 'h3 a'
  wadi try http://127.0.0.1:8700/register .flow --rows 'li.entry' --type number --locale fr --unit l/s
  wadi try http://127.0.0.1:8700/register                       a prompt, with history
"""
_PLACES_IN_JSON = 1000
_NOT_TRIED = frozenset({"at", "parts", "whole", "of", "required", "about", "name"})
"""Keys of a field that say nothing of a single value, or stand as arguments of their own."""
_ELSEWHERE = ("from", "label", "under")
"""Keys that make a field without an expression."""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_page(parser)
    add_rendered(parser)
    parser.add_argument("expressions", metavar="EXPR", nargs="*", help="expressions; with --rows each is a column")
    parser.add_argument("--rows", metavar="EXPR", help="expression for rows; the others are then relative to each row")
    parser.add_argument(
        "--limit", type=int, default=10, metavar="N", help="how many matches or rows are shown (default: 10)"
    )
    parser.add_argument("--json", action="store_true", help="all matches as JSON on standard output")
    stages = parser.add_argument_group("the keys of a field, as in a plan")
    for key, annotation, about in _keys():
        stages.add_argument(f"--{key}", dest=f"field_{key}", help=about.replace("%", "%%"), **_kind(annotation))


def _keys() -> list[tuple[str, Any, str]]:
    """The keys of a field in the plan's model: name, type, what it is."""
    from wadi.plan.model import FieldPlan

    fields = ((info.alias or name, info) for name, info in FieldPlan.model_fields.items())
    return [(key, info.annotation, info.description or "") for key, info in fields if key not in _NOT_TRIED]


def _kind(annotation: Any) -> dict[str, Any]:
    """How an option of a type is read: flags, choices, lists and tables by giving the option several times."""
    inner = [arg for arg in (get_args(annotation) or (annotation,)) if arg is not type(None)]
    whole = annotation if get_origin(annotation) in (list, dict, Literal) else inner[0]
    if whole is bool:
        return {"action": "store_true"}
    if get_origin(whole) is Literal:
        return {"choices": get_args(whole), "metavar": "WORD"}
    if get_origin(whole) is dict:
        return {"action": "append", "metavar": "TEXT=VALUE"}
    return {"action": "append", "metavar": "TEXT"} if get_origin(whole) is list else {"metavar": "TEXT"}


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    if args.rendered:
        return _in_both(args, out)
    page = opened(args)
    if not args.expressions and not any(getattr(args, f"field_{key}") for key in _ELSEWHERE):
        if not sys.stdin.isatty() or args.page == "-":
            what = "no expression is given, and standard input is no terminal for a prompt"
            raise UsageError(Problem("bad-option", what, now="wadi try PAGE 'h3 a'"))
        return _prompt(page, args, out)
    return show(page, args.expressions, args, out)


def _in_both(args: argparse.Namespace, out: TextIO) -> Status:
    """The expressions on the page as a browser shows it, and how many they pick on the page as it comes."""
    from wadi.actions.rendered import open_rendered

    shown = open_rendered(args.page, rendering_asked(args), ignore_robots=args.ignore_robots)
    raw = opened(args).document
    status = show(shown.opened, args.expressions, args, out)
    if not args.json:
        for expression in args.expressions:
            count = len(_compiled(expression).nodes(raw.scope, raw))
            line = f"{expression}    {plural(count, 'match', 'matches')} on the page as it comes"
            console(out).print(plain(line, "dim"))
    return status


def show(page: OpenedPage, expressions: list[str], args: argparse.Namespace, out: TextIO) -> Status:
    """Try the expressions and show what they pick. Status 1 when one of them picks nothing."""
    from wadi.crawl.requests import source_of
    from wadi.crawl.rows import row_scopes
    from wadi.learn.first_look.trying import try_on

    document = page.document
    tried_: list[str | None] = [*expressions] or [None]
    fields = [_field(expression, args) for expression in tried_]
    names = [name for name, _ in fields]
    scopes = row_scopes(document, [_compiled(args.rows)] if args.rows else [])
    if args.rows and not scopes:
        _explain(document, document.scope, args.rows, out)
        return Status.NOT_ALL
    places = _PLACES_IN_JSON if args.json else 0 if args.rows else args.limit
    most = None if args.json or args.rows else args.limit
    source = source_of(document, page.reply)
    tried = [
        [try_on(name, field, scope, source, places=places, most=most) for name, field in fields] for scope in scopes
    ]
    if args.json:
        write_json(_as_dict(names, args.rows, tried), out)
    elif args.rows:
        _show_rows(names, tried, args, out)
    else:
        for attempt in tried[0]:
            if attempt.matches:
                _show_matches(attempt, out)
    empty = [n for n in range(len(names)) if not any(row[n].matches for row in tried)]
    for number in empty if not args.json else ():
        if expressions:
            _explain(document, scopes[0], expressions[number], out)
        else:
            console(out).print(plain(f"{names[number]}    nothing", "bold yellow"))
    return Status.NOT_ALL if empty else Status.DONE


def _field(expression: str | None, args: argparse.Namespace) -> tuple[str, Field]:
    """A field out of the command line, and what it is called. Raises UsageError with the position of a mistake."""
    from pydantic import ValidationError

    from wadi.clean.errors import BadSetting
    from wadi.plan.fields import field_of

    given = {key: getattr(args, f"field_{key}") for key, _, _ in _keys()}
    keys = {key: _value(key, value) for key, value in given.items() if value not in (None, False)}
    for expr in [*([expression] if expression is not None else []), *keys.get("then", ())]:
        _compiled(expr)
    try:
        return field_of(expression, keys, date.today().year)  # noqa: DTZ011
    except BadSetting as error:
        where = f"--find {args.field_find!r}: " if error.code == "bad-regex" else ""
        raise UsageError(Problem(error.code, where + error.what, now=error.now)) from error
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        what = f"--{first['loc'][0]} {first['input']!r}: {first['msg'][:1].lower()}{first['msg'][1:]}"
        raise UsageError(Problem("bad-option", what)) from error


def _value(key: str, given: Any) -> Any:
    """An option's value as the plan has it: `TEXT=VALUE` pairs become a table."""
    annotation = next(annotation for name, annotation, _ in _keys() if name == key)
    if _kind(annotation).get("metavar") != "TEXT=VALUE":
        return given
    pairs = [pair.partition("=") for pair in given]
    for text, equals, _ in pairs:
        if not equals:
            now = f"--{key} 'flowing=yes', once for each"
            raise UsageError(Problem("bad-option", f'--{key} "{text}" is no TEXT=VALUE', now=now))
    try:
        return {text: float(value) if get_args(annotation)[1:] == (float,) else value for text, _, value in pairs}
    except ValueError:
        raise UsageError(Problem("bad-option", f"--{key} wants numbers: {', '.join(given)}")) from None


def _compiled(expression: str) -> Any:
    from wadi.page.expressions import BadExpression, compile_expression

    try:
        return compile_expression(expression)
    except BadExpression as error:
        pointer = f"{expression}\n{' ' * error.offset}^" if error.offset is not None else expression
        raise UsageError(
            Problem("bad-expression", error.what, Place(column=None), why=pointer, now=error.now)
        ) from error


def _show_matches(attempt: Tried, out: TextIO) -> None:
    to = console(out)
    to.print(plain(f"{attempt.expression}    {plural(attempt.count, 'match', 'matches')}", "bold"))
    for number, match in enumerate(attempt.matches, 1):
        to.print(_match_head(number, match))
        for line in _match_lines(match):
            to.print(line)
    if attempt.count > len(attempt.matches):
        to.print(plain(f"… {attempt.count - len(attempt.matches):,} more (--limit shows them)", "dim"))


def _match_head(number: int, match: Match) -> Text:
    text = " | ".join(shortened(text, 100) for text in match.texts) or "(nothing: the attribute or value is not there)"
    line = plain(f"{number:>4}  ")
    line.append(text, "bold cyan" if match.texts else "yellow")
    changed = [_written(v) for v, raw in zip(match.values, match.texts, strict=True) if v is not None and v != raw]
    if changed:
        line.append(f"  →  {' | '.join(shortened(text, 60) for text in changed)}", "green")
    return line


def _match_lines(match: Match) -> list[Text]:
    lines = []
    if match.problem:
        lines.append(plain(f"      ! {shortened(match.problem, 200)}", "yellow"))
    where = f"line {match.line}   " if match.line else ""
    if where or match.path:
        lines.append(plain(f"      {where}{shortened(match.path, 150)}", "dim"))
    if match.snippet:
        snippet = plain(f"      {shortened(match.snippet, 160)}", "dim")
        part = match.marked[:40]
        if part and (at := snippet.plain.find(part, 6)) >= 0:
            snippet.stylize("not dim reverse", at, at + min(len(match.marked), len(snippet.plain) - at))
        lines.append(snippet)
    return lines


def _show_rows(expressions: list[str], tried: list[list[Tried]], args: argparse.Namespace, out: TextIO) -> None:
    """One line for each row, and which rows have none or several."""
    from rich.table import Table

    to = console(out)
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bold", pad_edge=False)
    table.add_column("row", justify="right", style="dim")
    for expression in expressions:
        table.add_column(plain(expression), no_wrap=True, overflow="ellipsis")
    for number, row in enumerate(tried[: args.limit], 1):
        table.add_row(str(number), *(_row_cell(found) for found in row))
    to.print(table)
    if len(tried) > args.limit:
        to.print(plain(f"… {len(tried) - args.limit} more rows (--limit shows them)", "dim"))
    to.print(plain(f"{plural(len(tried), 'row')}"))
    for place, expression in enumerate(expressions):
        for line in _counts(expression, [row[place] for row in tried]):
            to.print(plain(line, "yellow"))


def _row_cell(attempt: Tried) -> Text:
    if not attempt.matches:
        return plain("–", "yellow")
    if attempt.problem:
        return plain(
            f"! {shortened(' | '.join(text for match in attempt.matches for text in match.texts), 40)}", "yellow"
        )
    more = (
        f"  (+{len(attempt.matches) - 1})" if len(attempt.matches) > 1 and not isinstance(attempt.value, list) else ""
    )
    return plain(shortened(_written(attempt.value), 60) + more)


def _written(value: Any) -> str:
    """A value as a table writes it."""
    from wadi.store.outcome import as_stored
    from wadi.table.cells import flat

    written = flat(as_stored(value))
    return "" if written is None else str(written)


def _counts(expression: str, column: list[Tried]) -> list[str]:
    none = [number for number, attempt in enumerate(column, 1) if not attempt.matches]
    several = [number for number, attempt in enumerate(column, 1) if len(attempt.matches) > 1]
    unread = [number for number, attempt in enumerate(column, 1) if attempt.problem]
    lines = []
    for rows, what in ((none, "nothing"), (several, "several matches"), (unread, "a value that cannot be read")):
        if rows:
            shown = ", ".join(map(str, rows[:12])) + (" …" if len(rows) > 12 else "")
            lines.append(f"{expression}: {what} in {plural(len(rows), 'row')}: {shown}")
    reasons = {attempt.problem for attempt in column if attempt.problem}
    return lines + [f"  {shortened(reason, 150)}" for reason in sorted(reasons)[:2]]


def _explain(document: Document, scope: Scope, expression: str, out: TextIO) -> None:
    from wadi.learn.first_look.trying import why_nothing

    help_: NoMatchHelp = why_nothing(document, scope, expression)
    to = console(out)
    to.print(plain(f"{expression}    no match", "bold yellow"))
    for step, count in help_.steps:
        to.print(plain(f"  {count:>5}  {step}", "" if count else "yellow"))
    for hint in help_.hints:
        to.print(plain(f"  {hint}"))


def _as_dict(expressions: list[str], rows: str | None, tried: list[list[Tried]]) -> dict[str, Any]:
    def matches(attempt: Tried) -> list[dict[str, Any]]:
        return [
            {
                "texts": match.texts,
                "values": match.values,
                "problem": match.problem or None,
                "attributes": match.attributes,
                "line": match.line,
                "path": match.path,
            }
            for match in attempt.matches
        ]

    found = [{e: matches(tried_on) for e, tried_on in zip(expressions, row, strict=True)} for row in tried]
    cells = [{e: tried_on.value for e, tried_on in zip(expressions, row, strict=True)} for row in tried]
    return {"rows": rows, "found": found if rows else found[0], "cells": cells if rows else cells[0]}


def _prompt(page: OpenedPage, args: argparse.Namespace, out: TextIO) -> Status:
    """Expressions tried one after the other until Ctrl-D; what was typed is kept in the user's state folder."""
    from platformdirs import user_state_path
    from prompt_toolkit import PromptSession
    from prompt_toolkit.history import FileHistory

    from wadi.cli.show import show_problems
    from wadi.problems import WadiError

    folder = user_state_path("wadi", appauthor=False)
    folder.mkdir(parents=True, exist_ok=True)
    session: PromptSession[str] = PromptSession(history=FileHistory(str(folder / "try-history")))
    print("expressions, one a line; Ctrl-D ends", file=out)
    while True:
        try:
            line = session.prompt("try> ").strip()
        except EOFError:
            return Status.DONE
        except KeyboardInterrupt:
            continue
        if not line:
            continue
        try:
            show(page, [line], args, out)
        except WadiError as error:
            show_problems(error.problems, out)
