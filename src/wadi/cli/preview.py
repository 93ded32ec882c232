"""`wadi preview`: a plan tried on a few pages: the first rows, how each field did, what the run would cost."""

from __future__ import annotations

import argparse
from collections import Counter
from typing import TYPE_CHECKING, Any, TextIO

from wadi.cli.options import (
    add_code,
    add_inputs,
    add_route,
    ask_for_code,
    at_least_one,
    check_outputs,
    credentials_for,
    ended_at_once,
    inputs_of,
)
from wadi.cli.show import console, plain, rows_table, shown_size, standard_output, write_json
from wadi.cli.status import Status
from wadi.problems import plural, shortened
from wadi.table.words import percent

if TYPE_CHECKING:
    from rich.console import RenderableType

    from wadi.actions.preview import Estimate, FieldSeen, Rehearsal

EXAMPLES = """examples (with the sample site up:  wadi demo --serve --port 8700):
  wadi preview examples/springs.toml
  wadi preview examples/springs.toml --sample 20 --seed 7
  wadi preview examples/springs.toml --page-kind register -o first.csv
"""
_SHOWN_PROBLEMS = 2
_NOT_ALL = frozenset({"no-total", "unread-total"})
"""Notes by which a plan does not do what it says."""
_FIELD_COUNTS_WIDTH = 50


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("plan", metavar="PLAN", help="the plan file")
    add_inputs(parser)
    add_route(parser)
    parser.add_argument(
        "--rows", type=at_least_one, default=5, metavar="N", help="how many rows are shown (default: 5)"
    )
    parser.add_argument("--page-kind", metavar="NAME", help="pages of this kind, and those that lead there")
    parser.add_argument(
        "--sample", type=at_least_one, metavar="N", help="N pages picked at random from all that are known"
    )
    parser.add_argument("--seed", type=int, default=1, metavar="N", help="another seed picks other pages (default: 1)")
    parser.add_argument("--fresh", action="store_true", help="ask the site again, even for pages that were read today")
    parser.add_argument("-o", "--output", metavar="FILE", help="write the rows of the first table there")
    parser.add_argument("--json", action="store_true", help="everything as JSON on standard output")
    add_code(parser)


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    from wadi.actions.preview import rehearse
    from wadi.learn.first_look.trying import near_misses
    from wadi.plan.reader import load_plan, with_route
    from wadi.problems import Problem, UsageError, listed
    from wadi.table.destinations import Source, write_tables
    from wadi.table.writers import csv_file

    check_outputs([args.output] if args.output else [], also=args.json)
    loaded = with_route(load_plan(args.plan, inputs_of(args.input)), args.route)
    ask_for_code(loaded, args, err)
    if args.page_kind and args.page_kind not in loaded.plan.page:
        now = f"page kinds of the plan: {listed(loaded.plan.page)}"
        raise UsageError(Problem("unknown-page", f'--page-kind: there is no page kind "{args.page_kind}"', now=now))

    def report(kind: str, url: str) -> None:
        if args.verbose:
            print(f"{kind}  {url}", file=err)

    wanted = 1_000_000 if args.output else args.rows
    credentials = credentials_for(loaded)
    ended_at_once()
    seen = rehearse(
        loaded,
        near=near_misses,
        rows=wanted,
        kind=args.page_kind,
        sample=args.sample,
        seed=args.seed,
        fresh=args.fresh,
        report=report,
        credentials=credentials,
    )
    if args.json:
        write_json(_as_dict(seen, args.rows), out)
    else:
        shown_on = err if args.output == "-" else out  # the rows alone go to standard output then
        console(shown_on).print(view(seen, args.rows, console(shown_on).width))
    first = seen.tables[0]
    if args.output == "-":
        csv_file(standard_output(), first.columns, first.rows)
    elif args.output:
        count = write_tables(args.output, [Source(first.name, first.columns, [], lambda: first.rows)])
        print(f"{args.output}: {plural(count, 'row')}", file=err)
    lacks = (
        bool(seen.unopened)
        or any(counted.is_rowless for counted in seen.kinds.values())
        or any(note.code in _NOT_ALL for note in seen.notes)
    )
    return Status.NOT_ALL if seen.failures or lacks else Status.DONE


def view(seen: Rehearsal, rows: int, width: int) -> RenderableType:
    """Rows, fields, failures and the estimate."""
    from rich.console import Group

    parts: list[RenderableType] = []
    for table in seen.tables:
        shown, left_out = rows_table(table.columns, table.rows[:rows], width)
        parts += [plain(f"{table.name}: the first {plural(len(table.rows[:rows]), 'row')}", "bold"), shown]
        if left_out:
            parts.append(plain(f"{plural(len(left_out), 'more column')}: {', '.join(left_out)}", "dim"))
        parts += [
            plain(""),
            _fields_view([field for field in seen.fields if field.table == table.name], width),
            plain(""),
        ]
    parts += [
        plain(f"failed    {shortened(str(problem).splitlines()[0], 200)}", "yellow") for problem in seen.failures[:5]
    ]
    parts += [plain(line, "yellow") for line in _note_lines(seen)]
    parts += [plain(line) for line in (_pages_line(seen), _estimate_line(seen.estimate))]
    return Group(*parts)


def _fields_view(mine: list[FieldSeen], width: int) -> RenderableType:
    from rich.console import Group
    from rich.table import Table

    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim", pad_edge=False)
    for heading in ("  field", "page"):
        table.add_column(heading, no_wrap=True)
    for heading in ("filled", "", "several", "unread"):
        table.add_column(heading, justify="right", no_wrap=True)
    table.add_column("samples", no_wrap=True)
    left = max((len(page.name) for page in mine), default=0) + max((len(page.kind) for page in mine), default=0)
    room = max(12, width - left - _FIELD_COUNTS_WIDTH)
    for page in mine:
        style = "red" if not page.filled and page.rows else ""
        table.add_row(
            plain(f"  {page.name}"),
            plain(page.kind, "dim"),
            plain(f"{page.filled} of {page.rows}", style),
            plain(percent(page.filled, page.rows), style),
            plain(str(page.several or ""), "yellow"),
            plain(str(len(page.problems) or ""), "yellow"),
            plain(shortened(" | ".join(shortened(sample, 26) for sample in page.samples), room), "dim"),
        )
    return Group(table, *(plain(line, "yellow") for line in _problem_lines(mine)))


def _problem_lines(fields: list[FieldSeen]) -> list[str]:
    lines = []
    for field in fields:
        for problem in field.problems[:_SHOWN_PROBLEMS]:
            lines.append(f"  {field.name}: {shortened(problem.what, 120)} [{problem.code}]")
            if problem.why and problem is field.problems[0]:
                lines.append(f"    {shortened(problem.why, 130)}")
    return lines


def _note_lines(seen: Rehearsal) -> list[str]:
    counted = Counter(note.code for note in seen.notes if note.code != "rowless")
    first = {note.code: note for note in reversed(seen.notes)}
    lines = [f"note      {count} × {code}: {shortened(first[code].what, 140)}" for code, count in counted.items()]
    lines += [f'note      page "{kind}" was never opened: {way} led nowhere' for kind, way in seen.unopened.items()]
    for kind, its in seen.kinds.items():
        if its.pages and not its.rows and any(field.kind == kind for field in seen.fields):
            near = f": {'; '.join(its.hints)}" if its.hints else ""
            lines.append(f'note      page "{kind}": read, but no rows on {plural(its.pages, "page")}{near}')
    return lines


def _pages_line(seen: Rehearsal) -> str:
    by_kind = ", ".join(f"{counted.pages} {name}" for name, counted in seen.kinds.items() if counted.pages)
    kept = f"; {seen.from_cache} from today's cache" if seen.from_cache else ""
    return f"read      {plural(len(seen.pages), 'page')} ({by_kind}){kept}"


def _estimate_line(estimate: Estimate) -> str:
    by_kind = ", ".join(f"{count:,} {name}" for name, count in estimate.by_kind.items())
    least = "about" if estimate.known else "at least"
    cost = f"{_duration(estimate.seconds)} at the plan's pace, {shown_size(estimate.size_bytes)}"
    return f"the run   {least} {plural(estimate.requests, 'request')} ({by_kind}), {cost}"


def _duration(seconds: float) -> str:
    if seconds < 120:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 7200 else f"{seconds / 3600:.1f} h"


def _as_dict(seen: Rehearsal, rows: int) -> dict[str, Any]:
    return {
        "tables": [
            {"name": t.name, "columns": [c.name for c in t.columns], "rows": t.rows[:rows]} for t in seen.tables
        ],
        "fields": [
            {
                "page": field.kind,
                "table": field.table,
                "name": field.name,
                "rows": field.rows,
                "filled": field.filled,
                "several": field.several,
                "samples": field.samples,
                "problems": [{"raw": p.raw, "code": p.code, "what": p.what} for p in field.problems],
            }
            for field in seen.fields
        ],
        "pages": [{"kind": kind, "url": url, "from_cache": kept} for kind, url, kept in seen.pages],
        "failures": [problem.as_dict() for problem in seen.failures],
        "notes": [problem.as_dict() for problem in seen.notes],
        "estimate": {
            "requests": seen.estimate.requests,
            "seconds": round(seen.estimate.seconds, 1),
            "bytes": seen.estimate.size_bytes,
            "known": seen.estimate.known,
            "by_kind": seen.estimate.by_kind,
        },
    }
