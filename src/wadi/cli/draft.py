"""`wadi draft`: the first plan for a page, from examples of its records, from marks of `wadi inspect`, or from the best guess."""

from __future__ import annotations

import argparse
import os
import re
import shlex
import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, TextIO
from urllib.parse import urlsplit

from wadi.cli.options import add_page, at_least_one, check_outputs, credentials_for, inputs_of, opened
from wadi.cli.show import age_text, console, plain, rows_table
from wadi.cli.status import Status
from wadi.plan.local import is_of_files
from wadi.problems import Place, Problem, UsageError, WadiError, plural, shortened
from wadi.urls import without_secret

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import RenderableType

    from wadi.actions.open_page import OpenedPage
    from wadi.actions.setup import Credentials
    from wadi.learn.drafts.drafting import Asked, Draft
    from wadi.learn.examples.learned_fields import LearnedField
    from wadi.learn.first_look.look import Look
    from wadi.learn.first_look.saved_replies import Sending

EXAMPLES = """examples (with the sample site up:  wadi demo --serve --port 8700):
  wadi draft http://127.0.0.1:8700/register -o register.toml
  wadi draft http://127.0.0.1:8700/register --row code=MW-0141 name='Ash Spring' --row code=MW-0094 name='Iron Source'
  wadi draft http://127.0.0.1:8700/register --fields A1=code,A3=name,A5=flow
  wadi draft http://127.0.0.1:8700/register --open -o register.toml
  wadi draft http://127.0.0.1:8700/wells --run -o wells.csv
  wadi draft --har saved.har --pick 2 -o levels.toml
"""
_PREVIEW_ROWS = 5
_LIMITS = (100, "10m")
"""Pages and time of a first run."""
_OLD_S = 300
"""From this age on it is told that a page was not asked for just now."""
_MARK = re.compile(r"[A-Z]{1,2}\d+")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_page(parser, or_archive=True)
    parser.add_argument(
        "--pick",
        type=at_least_one,
        metavar="N",
        help="with --har: the reply that  wadi inspect --har  numbers so (default: 1)",
    )
    parser.add_argument(
        "--secrets", action="store_true", help="with --har: cookies and tokens of the request come from the environment"
    )
    said = parser.add_argument_group("what is wanted (default: the best guess)")
    said.add_argument(
        "--row", nargs="+", action="append", default=[], metavar="NAME=VALUE",
        help="values that you see in one record, as the page shows them; for a second record, once more",
    )  # fmt: skip
    said.add_argument(
        "--not", dest="without", action="append", default=[], metavar="TEXT", help="a text that is in no row"
    )
    said.add_argument(
        "--also",
        action="append",
        default=[],
        metavar="PAGE",
        help="a further page of the same kind, which should have the fields, too",
    )
    said.add_argument("--count", type=at_least_one, metavar="N", help="how many rows there should be on this page")
    said.add_argument("--group", metavar="MARK", help="rows by the mark that wadi inspect gives them: A, B, …")
    said.add_argument(
        "--fields", metavar="MARK=NAME,…", help="of a group these fields alone, with their names: A1=code,A3=name"
    )
    said.add_argument(
        "--thing",
        metavar="KIND",
        help="the usual fields of a page about one thing: Product, Article, Event, Place, Person …",
    )
    said.add_argument(
        "--open", action="store_true", help="look at pages that rows lead to as well, and draft their fields"
    )
    parser.add_argument(
        "--run",
        action="store_true",
        help=f"from the page to a table: run the draft within {_LIMITS[0]} pages and {_LIMITS[1]}; the plan is left beside it",
    )
    parser.add_argument(
        "-o", "--output", action="append", default=[], metavar="FILE",
        help="write the plan to this new file (default: standard output); with --run the table",
    )  # fmt: skip


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    from wadi.learn.drafts.drafting import Means, draft_page

    asked = _asked(args)
    if args.run:
        check_outputs(args.output)
    target = _beside(args.output) if args.run else _plan_file(args.output)
    if args.har is None and (args.pick is not None or args.secrets):
        raise UsageError(Problem("bad-option", "--pick and --secrets are for a saved archive", now="--har FILE"))
    page, sending, look = _saved(args) if args.har is not None else (opened(args), None, None)
    asked = replace(
        asked, also=[opened(argparse.Namespace(**{**vars(args), "page": page})).document for page in args.also]
    )
    is_said = args.row or args.group or args.fields or args.thing or args.run or args.quiet or args.har
    if not is_said and sys.stdin.isatty() and err.isatty() and args.page != "-":
        asked, target = _led(page, args, asked, target, err)
    carried, credentials = _carried(args)
    means = Means(
        target.name if target is not None else "plan.toml",
        _address(page, args, target) if sending is None else sending.address,
        args.parse,
        carried=carried,
        credentials=credentials,
        limits=_LIMITS if args.run else None,
        sending=sending,
        look=look,
    )
    draft = draft_page(page, asked, means)
    _write(draft.text, target, out)
    if not args.quiet:
        if page.age_s is not None and page.age_s > _OLD_S and page.from_web:
            print(f"the page is from today's cache, {age_text(page.age_s)} old; --fresh asks again", file=err)
        _tell(draft, target, err, is_run=args.run)
        _say_what_it_is(draft, args, err)
    is_all = not draft.left_out and not draft.remarks
    if args.run and target is not None:
        status = _run(target, args, out, err)
        is_one_page = draft.extent is not None and draft.extent.takes == "one page"
        if is_one_page and not args.quiet and draft.extent is not None:
            print(draft.extent.said, file=err)
        return status if (is_all and not is_one_page) or status is not Status.DONE else Status.NOT_ALL
    if not args.quiet:
        _show_preview(draft, target, credentials, err)
    return Status.DONE if is_all else Status.NOT_ALL


def _saved(args: argparse.Namespace) -> tuple[OpenedPage, Sending, Look]:
    """A reply of a saved archive as a page, what a plan sends for it, and the look at it. Raises UsageError."""
    from wadi.actions.open_page import OpenedPage
    from wadi.cli.options import saved_in_archive
    from wadi.learn.first_look.saved_replies import CannotBeSent, sending_of

    found, number, place = saved_in_archive(args), args.pick or 1, Place(args.har)
    if number > len(found):
        what = f"there is no reply {number}: {plural(len(found), 'has rows', 'have rows')}"
        raise UsageError(Problem("bad-option", what, place, now=f"wadi inspect --har {shlex.quote(args.har)}"))
    picked = found[number - 1]
    try:
        sending = sending_of(picked.reply.request, with_secrets=args.secrets)
    except CannotBeSent as error:
        raise UsageError(Problem("wrong-kind", f"reply {number}: {error}", place)) from error
    return OpenedPage(picked.look.document, picked.reply, "the archive"), sending, picked.look


def _plan_file(outputs: Sequence[str]) -> Path | None:
    """The new file that the plan goes to; None for standard output."""
    if len(outputs) > 1:
        raise UsageError(Problem("bad-option", "a plan goes to one file; several -o are for  --run"))
    target = None if not outputs or outputs[0] == "-" else Path(outputs[0])
    if target is not None and target.exists():
        raise _is_there(outputs[0])
    return target


def _beside(outputs: Sequence[str]) -> Path:
    """The new plan file beside the table: `table.csv` → `table.toml`."""
    if not outputs or outputs[0] == "-" or "://" in outputs[0]:
        now = "wadi draft PAGE --run -o table.csv"
        raise UsageError(Problem("bad-option", "--run wants a file for the table: the plan is left beside it", now=now))
    target = Path(outputs[0]).with_suffix(".toml")
    if target.exists():
        now = (
            f"wadi run {shlex.quote(str(target))} -o {shlex.quote(outputs[0])}  runs it;  or another name for the table"
        )
        raise UsageError(Problem("not-writable", "it is there already", Place(str(target)), now=now))
    return target


def _led(
    page: OpenedPage, args: argparse.Namespace, asked: Asked, target: Path | None, err: TextIO
) -> tuple[Asked, Path | None]:
    """What is wanted, by questions."""
    from wadi.cli.draft_questions import questions
    from wadi.learn.first_look.look import look_at

    def ask(question: str) -> str:
        err.write(question)
        err.flush()
        line = sys.stdin.readline()
        if not line:
            raise KeyboardInterrupt
        return line.rstrip("\n")

    look = look_at(page.document, page.reply)
    path = urlsplit(page.reply.request.url).path
    answers = questions(look, path, ask, lambda line: print(line, file=err)) if look.kind.kind != "log-in" else None
    if answers is None:
        return asked, target
    return answers.asked, target or (None if answers.output == "-" else _plan_file([answers.output]))


def _run(plan: Path, args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    """Run the drafted plan within its limits, write the table, sum up."""
    from wadi.actions.begin import begin
    from wadi.cli.run import crawl_and_sum_up
    from wadi.plan.reader import load_plan

    args.table, args.strict, args.json = None, False, False
    args.delimiter, args.bom, args.disarm, args.into = ",", False, False, "replace"
    loaded = load_plan(plan)
    with begin(loaded, args.runs, reached=args.reached) as begun:
        status = crawl_and_sum_up(begun, args, out, err, credentials_for(loaded))
    if not args.quiet:
        print(
            f"plan      {plan}: look at it, change what is wrong, and run it again:  wadi run {shlex.quote(str(plan))}",
            file=err,
        )
    return status


def _asked(args: argparse.Namespace) -> Asked:
    """What the command line says of the page."""
    from wadi.learn.drafts.drafting import Asked
    from wadi.learn.first_look.things import things

    examples = [_example(pairs) for pairs in args.row]
    fields = dict(_mark_and_name(text) for text in (args.fields or "").split(",") if text.strip())
    group = (args.group or "").upper()
    if args.thing and args.thing not in things():
        what = f'--thing: "{shortened(args.thing)}" is no kind that is known'
        raise UsageError(Problem("bad-option", what, now=f"kinds: {', '.join(things())}"))
    if args.thing and (examples or fields or group):
        raise UsageError(
            Problem("bad-option", "--thing names the fields by itself: without --row, --group and --fields")
        )
    if examples and (fields or group):
        raise UsageError(Problem("bad-option", "--row names values, --group and --fields name marks: one of both"))
    if group and any(re.sub(r"\d", "", mark) != group for mark in fields):
        raise UsageError(Problem("bad-option", f"--fields names fields of another group than {group}"))
    if args.also and not examples:
        raise UsageError(Problem("bad-option", "--also is for fields that are learned: that needs a --row"))
    if args.without and not examples:
        raise UsageError(Problem("bad-option", "--not says what is no row: that needs a --row"))
    return Asked(examples, tuple(args.without), args.count, group, fields, args.open, args.thing or "")


def _example(pairs: Sequence[str]) -> dict[str, str]:
    found = {}
    for pair in pairs:
        name, equals, value = pair.partition("=")
        if not equals or not name.strip() or not value.strip():
            now = "--row code=MW-0141 name='Ash Spring'"
            raise UsageError(Problem("bad-option", f'--row "{shortened(pair)}" is no NAME=VALUE', now=now))
        found[name.strip()] = value.strip()
    return found


def _mark_and_name(text: str) -> tuple[str, str]:
    mark, _, name = text.strip().partition("=")
    if not _MARK.fullmatch(mark.upper()):
        now = "--fields A1=code,A3=name;  wadi inspect  shows the marks"
        raise UsageError(Problem("bad-option", f'--fields: "{shortened(mark)}" is no mark of a field', now=now))
    return mark.upper(), name.strip()


def _is_there(path: str) -> UsageError:
    return UsageError(Problem("not-writable", "it is there already", Place(path), now="another name for the draft"))


def _carried(args: argparse.Namespace) -> tuple[str, Credentials | None]:
    """Of a plan that the page is opened with: its log-in and manners as they stand, and the credentials."""
    if args.plan_with is None:
        return "", None
    from wadi.plan.reader import load_plan

    loaded = load_plan(args.plan_with, inputs_of(args.input))
    parts = re.split(r"(?m)^(?=\[)", loaded.source)
    kept = [part.strip() for part in parts if re.match(r"\[(?:login|manners|inputs)\b", part)]
    return "\n\n".join(kept), credentials_for(loaded)


def _address(page: OpenedPage, args: argparse.Namespace, target: Path | None) -> str:
    """How a plan names the page: a file by its path from where the plan will stand."""
    if page.from_web:
        return page.reply.request.url
    if not Path(args.page).is_file():
        what = "a plan needs the address of its page, or a file"
        raise UsageError(Problem("bad-url", what, Place(without_secret(args.page)), now="wadi draft http://…"))
    folder = target.parent if target is not None else Path()
    path = Path(os.path.relpath(args.page, folder)).as_posix().replace("%", "%25")
    return path if path.startswith("../") or is_of_files(path) else f"./{path}"


def _write(text: str, target: Path | None, out: TextIO) -> None:
    if target is None:
        out.write(text)
        return
    try:
        with target.open("x", encoding="utf-8") as file:
            file.write(text)
    except FileExistsError as error:
        raise _is_there(str(target)) from error
    except OSError as error:
        raise UsageError(Problem("not-writable", f"cannot be written: {error.strerror}", Place(str(target)))) from error


def _say_what_it_is(draft: Draft, args: argparse.Namespace, err: TextIO) -> None:
    """The kind of thing that a page is about, where it says so and nobody asked for it."""
    from wadi.learn.first_look.things import kind_of_thing

    document = draft.look.document
    is_asked = bool(args.thing or args.row)
    kind = kind_of_thing(document) if document.kind == "html" and draft.look.fields and not is_asked else ""
    if kind:
        print(f"the page says that it is about a {kind}: --thing {kind}  drafts its usual fields", file=err)


def _tell(draft: Draft, target: Path | None, err: TextIO, *, is_run: bool = False) -> None:
    """How sure what was learned is, what is not on the page, and what comes next."""
    if draft.learned:
        shown_on = console(err)
        shown_on.print(_learned_table(draft.learned, shown_on.width))
    for name, why in draft.left_out.items():
        print(f"{name}: {why}: the column is left out", file=err)
    for remark in draft.remarks:
        print(remark, file=err)
    if is_run:
        print(f"{target}: drafted; it is run within {_LIMITS[0]} pages and {_LIMITS[1]}, as its [limits] say", file=err)
    elif target is not None:
        print(f"{target}: drafted; next:  wadi preview {shlex.quote(str(target))}", file=err)
    if draft.extent is not None and not is_run:
        print(draft.extent.said, file=err)


def _learned_table(learned: Sequence[LearnedField], width: int) -> RenderableType:
    """Each field with how sure it is, in how many rows, by what, and what else it may be."""
    from rich.table import Table

    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim", pad_edge=False)
    for heading, right in (("column", False), ("how sure", False), ("rows", True), ("found", False), ("or", False)):
        table.add_column(heading, no_wrap=True, justify="right" if right else "left")
    left = max(len(one.guess.name) for one in learned) + max(len(one.reason) for one in learned)
    for one in learned:
        other = one.others[0].as_plan() if one.others and one.rating != "sure" else ""
        style = "" if one.rating == "sure" else "yellow"
        cells = (one.guess.name, one.rating, f"{one.filled} of {one.rows}", one.reason)
        table.add_row(
            *(plain(cell, style) for cell in cells), plain(shortened(other, max(12, width - left - 30)), "dim")
        )
    return table


def _show_preview(draft: Draft, target: Path | None, credentials: Credentials | None, err: TextIO) -> None:
    """The first rows of the drafted plan's tables, from pages that were looked at."""
    from wadi.actions.preview import rehearse

    loaded = draft.loaded(str(target) if target is not None else "plan.toml")
    if loaded.plan.login is not None and credentials is None:
        return
    try:
        seen = rehearse(loaded, rows=_PREVIEW_ROWS, credentials=credentials)
    except WadiError as error:
        print(f"no preview: {error}", file=err)
        return
    shown_on = console(err)
    for table in seen.tables:
        shown, left_out = rows_table(table.columns, table.rows, shown_on.width)
        shown_on.print(plain(f"{table.name}: the first {plural(len(table.rows), 'row')}", "bold"))
        shown_on.print(shown)
        if left_out:
            shown_on.print(plain(f"{plural(len(left_out), 'more column')}: {', '.join(left_out)}", "dim"))
