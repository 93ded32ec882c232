"""`wadi try`: what expressions pick on a page, and through which stages a value goes; a prompt where none is given."""

from __future__ import annotations

import argparse
import re
import sys
from datetime import date
from typing import TYPE_CHECKING, Any, TextIO

from wadi.cli.options import add_page, opened
from wadi.cli.show import console, plain, plural, write_json
from wadi.cli.status import Status
from wadi.problems import Place, Problem, UsageError, shortened

if TYPE_CHECKING:
    from rich.text import Text

    from wadi.crawl.kinds import Field
    from wadi.learn.trying import Match, NoMatchHelp, Tried
    from wadi.page.document import Document
    from wadi.page.expressions import Scope

EXAMPLES = """examples (with the sample site up:  wadi demo --serve --port 8700):
  wadi try http://127.0.0.1:8700/register 'h3 a'
  wadi try http://127.0.0.1:8700/register .flow --rows 'li.entry' --type number --locale fr --unit l/s
  wadi try http://127.0.0.1:8700/register                       a prompt, with history
"""
_PLACES_IN_JSON = 1000
_STAGES = ("attr", "take", "find", "type", "locale", "format", "unit")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_page(parser)
    parser.add_argument("expressions", metavar="EXPR", nargs="*", help="expressions; with --rows each is a column")
    parser.add_argument("--rows", metavar="EXPR", help="expression for rows; the others are then relative to each row")
    parser.add_argument(
        "--limit", type=int, default=10, metavar="N", help="how many matches or rows are shown (default: 10)"
    )
    parser.add_argument("--json", action="store_true", help="all matches as JSON on standard output")
    stages = parser.add_argument_group("the later stages, with the words of a plan")
    stages.add_argument("--attr", metavar="NAME", help="the attribute to take instead of the text")
    stages.add_argument(
        "--take", metavar="WHAT", choices=("text", "direct text", "html", "inner html"), help="what to take"
    )
    stages.add_argument("--find", metavar="REGEX", help="the part of the text that a regular expression finds")
    stages.add_argument(
        "--clean", metavar="STEP", action="append", default=[], help="a step, may be given several times"
    )
    stages.add_argument("--type", metavar="TYPE", help="string, integer, number, boolean, date, url")
    stages.add_argument("--locale", metavar="NAME", help="the CLDR locale of numbers and dates")
    stages.add_argument("--format", metavar="PATTERN", help="the date pattern: d MMMM y")
    stages.add_argument("--unit", metavar="UNIT", help="the unit that stands at numbers")


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    page = opened(args)
    if not args.expressions:
        if not sys.stdin.isatty() or args.page == "-":
            what = "no expression is given, and standard input is no terminal for a prompt"
            raise UsageError(Problem("bad-option", what, now="wadi try PAGE 'h3 a'"))
        return _prompt(page.document, args, out)
    return show(page.document, args.expressions, args, out)


def show(document: Document, expressions: list[str], args: argparse.Namespace, out: TextIO) -> Status:
    """Try the expressions and show what they pick. Status 1 when one of them picks nothing."""
    from wadi.learn.trying import scopes_of, try_on

    fields = [_field(expression, args) for expression in expressions]
    scopes = scopes_of(document, _compiled(args.rows)) if args.rows else [document.scope]
    if args.rows and not scopes:
        _explain(document, document.scope, args.rows, out, args)
        return Status.NOT_ALL
    places = _PLACES_IN_JSON if args.json else 0 if args.rows else args.limit
    most = None if args.json or args.rows else args.limit
    tried = [[try_on(document, scope, one, places=places, most=most) for one in fields] for scope in scopes]
    if args.json:
        write_json(_as_dict(expressions, args.rows, tried), out)
    elif args.rows:
        _show_rows(expressions, tried, args, out)
    else:
        for one in tried[0]:
            if one.matches:
                _show_matches(one, args, out)
    empty = [n for n in range(len(expressions)) if not any(row[n].matches for row in tried)]
    for number in empty if not args.json else ():
        _explain(document, scopes[0], expressions[number], out, args)
    return Status.NOT_ALL if empty else Status.DONE


def _field(expression: str, args: argparse.Namespace) -> Field:
    """A field out of the command line. Raises UsageError with the position of a mistake."""
    from pydantic import ValidationError

    from wadi.clean.errors import BadSetting
    from wadi.learn.trying import field_of

    stages = {name: getattr(args, name) for name in _STAGES if getattr(args, name) is not None}
    _compiled(expression)
    try:
        return field_of(expression, {**stages, "clean": args.clean, "many": True}, date.today().year)  # noqa: DTZ011
    except BadSetting as error:
        raise UsageError(Problem(error.code, error.what, now=error.now)) from error
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        what = f"--{first['loc'][-1]} {first['input']!r}: {first['msg'][:1].lower()}{first['msg'][1:]}"
        raise UsageError(Problem("bad-option", what)) from error
    except re.error as error:
        raise UsageError(Problem("bad-regex", f"--find {args.find!r}: {error}")) from error


def _compiled(expression: str) -> Any:
    from wadi.page.expressions import BadExpression, compile_expression

    try:
        return compile_expression(expression)
    except BadExpression as error:
        pointer = f"{expression}\n{' ' * error.offset}^" if error.offset is not None else expression
        raise UsageError(
            Problem("bad-expression", error.what, Place(column=None), why=pointer, now=error.now)
        ) from error


def _show_matches(one: Tried, args: argparse.Namespace, out: TextIO) -> None:
    to = console(out)
    to.print(plain(f"{one.expression}    {plural(one.count, 'match', 'matches')}", "bold"))
    for number, match in enumerate(one.matches, 1):
        to.print(_match_head(number, match))
        for line in _match_lines(match):
            to.print(line)
    if one.count > len(one.matches):
        to.print(plain(f"… {one.count - len(one.matches):,} more (--limit shows them)", "dim"))


def _match_head(number: int, match: Match) -> Text:
    text = " | ".join(shortened(text, 100) for text in match.texts) or "(nothing: the attribute or value is not there)"
    line = plain(f"{number:>4}  ")
    line.append(text, "bold cyan" if match.texts else "yellow")
    changed = [
        value for value, raw in zip(match.values, match.texts, strict=True) if value is not None and value != raw
    ]
    if changed:
        line.append(f"  →  {' | '.join(shortened(repr(value), 60) for value in changed)}", "green")
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
        table.add_row(str(number), *(_row_cell(one) for one in row))
    to.print(table)
    if len(tried) > args.limit:
        to.print(plain(f"… {len(tried) - args.limit} more rows (--limit shows them)", "dim"))
    to.print(plain(f"{plural(len(tried), 'row')}"))
    for place, expression in enumerate(expressions):
        for line in _counts(expression, [row[place] for row in tried]):
            to.print(plain(line, "yellow"))


def _row_cell(one: Tried) -> Text:
    if not one.matches:
        return plain("–", "yellow")
    match = one.matches[0]
    if match.problem:
        return plain(f"! {shortened(' | '.join(match.texts), 40)}", "yellow")
    more = f"  (+{len(one.matches) - 1})" if len(one.matches) > 1 else ""
    return plain(shortened(" | ".join("" if value is None else str(value) for value in match.values), 60) + more)


def _counts(expression: str, column: list[Tried]) -> list[str]:
    none = [number for number, one in enumerate(column, 1) if not one.matches]
    several = [number for number, one in enumerate(column, 1) if len(one.matches) > 1]
    unread = [number for number, one in enumerate(column, 1) if any(match.problem for match in one.matches)]
    lines = []
    for rows, what in ((none, "nothing"), (several, "several matches"), (unread, "a value that cannot be read")):
        if rows:
            shown = ", ".join(map(str, rows[:12])) + (" …" if len(rows) > 12 else "")
            lines.append(f"{expression}: {what} in {plural(len(rows), 'row')}: {shown}")
    reasons = {match.problem for one in column for match in one.matches if match.problem}
    return lines + [f"  {shortened(reason, 150)}" for reason in sorted(reasons)[:2]]


def _explain(document: Document, scope: Scope, expression: str, out: TextIO, args: argparse.Namespace) -> None:
    from wadi.learn.trying import why_nothing

    help_: NoMatchHelp = why_nothing(document, scope, expression)
    to = console(out)
    to.print(plain(f"{expression}    no match", "bold yellow"))
    for step, count in help_.steps:
        to.print(plain(f"  {count:>5}  {step}", "" if count else "yellow"))
    for hint in help_.hints:
        to.print(plain(f"  {hint}"))


def _as_dict(expressions: list[str], rows: str | None, tried: list[list[Tried]]) -> dict[str, Any]:
    def matches(one: Tried) -> list[dict[str, Any]]:
        return [
            {
                "texts": match.texts,
                "values": match.values,
                "problem": match.problem or None,
                "attributes": match.attributes,
                "line": match.line,
                "path": match.path,
            }
            for match in one.matches
        ]

    found = [{e: matches(one) for e, one in zip(expressions, row, strict=True)} for row in tried]
    return {"rows": rows, "found": found if rows else found[0]}


def _prompt(document: Document, args: argparse.Namespace, out: TextIO) -> Status:
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
            show(document, [line], args, out)
        except WadiError as error:
            show_problems(error.problems, out)
