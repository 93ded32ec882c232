"""The command `wadi`: picks a command's module, hands it the arguments, and turns errors into words and statuses.

Only argparse and a table of names are needed for `wadi --help`; a command's module is imported when it is chosen.
"""

from __future__ import annotations

import argparse
import gc
import importlib
import io
import os
import sys
from typing import TYPE_CHECKING, Any, NoReturn, Protocol, TextIO

from wadi.cli.status import Status
from wadi.store.crash_points import unheard
from wadi.version import __version__

if TYPE_CHECKING:
    from wadi.problems import Problem
    from wadi.store.crash_points import Reached

COMMANDS: dict[str, tuple[str, str]] = {
    "demo": ("wadi.cli.demo", "show all of it, with nothing but this machine"),
    "inspect": ("wadi.cli.inspect", "look at a page: what repeats, how it goes on, where its data comes from"),
    "try": ("wadi.cli.try_", "try expressions on a page: what they pick, where, and why not"),
    "show": ("wadi.cli.show_page", "a page as text, Markdown, cleaned HTML, or the data that it carries"),
    "snap": ("wadi.cli.snap", "a picture of a page as a browser shows it"),
    "new": ("wadi.cli.new", "put a commented plan in place, to be filled in"),
    "draft": (
        "wadi.cli.draft",
        "write the first plan for a page, from records that you see on it or from the best guess",
    ),
    "lint": ("wadi.cli.lint", "say what is wrong with a plan, before a single request"),
    "preview": ("wadi.cli.preview", "rehearse a plan on a few pages: first rows, fields, what the run would cost"),
    "run": ("wadi.cli.run", "crawl a plan to its end and write the table"),
    "resume": ("wadi.cli.resume", "go on with a run where it was left, or ask again for chosen pages"),
    "reparse": (
        "wadi.cli.reparse",
        "take the rows of stored pages again, with a changed plan, without asking the site",
    ),
    "runs": ("wadi.cli.runs_", "list the runs that are there, or remove some"),
    "export": ("wadi.cli.export", "write a table of a run to a file"),
    "trace": ("wadi.cli.trace", "from a row of a table back to the stored page, stage by stage"),
    "verify": ("wadi.cli.verify", "say whether a run has everything, once, in the right types, and what drifted"),
    "profile": ("wadi.cli.profile", "figures and charts of every column, of a run or a file"),
    "mend": (
        "wadi.cli.mend",
        "after a redesign: find the last run's records on today's pages, and propose a change of the plan",
    ),
    "compare": ("wadi.cli.compare", "what changed between two runs or files, or in a table over all runs"),
    "report": ("wadi.cli.report", "a run as one page to be sent on: verdict, tables, crawl, failures"),
    "doctor": ("wadi.cli.doctor", "what this machine has of what Wadi can use"),
    "completion": ("wadi.cli.completion", "print what bash, zsh or fish completes after wadi"),
    "schema": ("wadi.cli.schema", "print the JSON Schema of the plan language, for editors"),
}
_ABOUT = "Write a crawler as a short, readable file, rehearse it, run it politely, and get clean tables."


class Command(Protocol):
    """What a command's module has: its examples, its arguments, and what it does."""

    EXAMPLES: str

    @staticmethod
    def add_arguments(parser: argparse.ArgumentParser) -> None: ...

    @staticmethod
    def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status: ...


class _Parser(argparse.ArgumentParser):
    """Errors in one line, with the way to the help."""

    def error(self, message: str) -> NoReturn:
        self.exit(Status.USAGE, f"{self.prog}: {message}\n  see:  {self.prog} --help\n")


def entry() -> NoReturn:
    """The console script."""
    # A command loads and keeps much, and makes few cycles: looked for as often as is usual they cost a twentieth of a short one.
    gc.set_threshold(50_000, 20, 100)
    # Else pydantic looks for plug-ins among all that is installed, which takes as long.
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    if isinstance(sys.stdout, io.TextIOWrapper):
        sys.stdout.reconfigure(errors="backslashreplace")  # a terminal that has not all letters shows them as escapes
    if isinstance(sys.stderr, io.TextIOWrapper):
        messages = io.BufferedWriter(_Messages(sys.stderr.fileno(), "wb", closefd=False))
        sys.stderr = io.TextIOWrapper(messages, sys.stderr.encoding, "backslashreplace", line_buffering=True)
    sys.exit(main(sys.argv[1:], sys.stdout, sys.stderr))


class _Messages(io.FileIO):
    """Where messages go. One that cannot be written, since the terminal was closed or a log's disk is full, ends no crawl."""

    def write(self, data: Any) -> int:
        try:
            return super().write(data) or 0
        except OSError:
            return len(data)


def main(argv: list[str], out: TextIO, err: TextIO, reached: Reached | None = None) -> int:
    """Run a command line; returns its status. `reached` is told of crash points where the command writes."""
    if not argv or argv[0] in ("-h", "--help", "help"):
        print(_help(), end="", file=out)
        return Status.DONE if argv else Status.USAGE
    if argv[0] in ("-V", "--version"):
        print(f"wadi {__version__}", file=out)
        return Status.DONE
    argv = command_first(argv)
    if argv[0] not in COMMANDS:
        return _unknown(argv[0], err)
    if not _settle(err):
        return Status.USAGE
    command: Command = importlib.import_module(COMMANDS[argv[0]][0])  # type: ignore[assignment]
    args = command_parser(argv[0], command).parse_intermixed_args(argv[1:])
    args.reached = reached or unheard
    # How many files this process may open, after it asked for as many as a crawl may need.
    import resource

    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if 0 <= soft < _FILES:
        soft = _FILES if hard < 0 else min(_FILES, hard)
        resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))
    if (most := (soft if soft >= 0 else _FILES)) < _LEAST_FILES:
        print(f"wadi: {most} open files are allowed here, and {_LEAST_FILES} at least are needed", file=err)
        print(f"  ulimit -n {_FILES}  allows more, if the system lets it", file=err)
        return Status.NO_WAY
    if argv[0] in _LOOKING:
        from wadi.cli.options import ended_at_once

        ended_at_once()
    try:
        if argv[0] not in _LONG or not out.isatty():
            return _checked(command, args, out, err)
        from wadi.cli.pager import paged

        with paged(out) as pages:
            return _checked(command, args, pages, err)
    except BrokenPipeError:
        # The reader of a pipe has seen enough; what Python still holds for it must not complain at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return Status.DONE


def _settle(err: TextIO) -> bool:
    """Let a person's settings hold; False, with words, where they cannot be read."""
    from wadi.cli import settings
    from wadi.problems import UsageError

    try:
        settings.apply()
    except UsageError as error:
        from wadi.cli.show import show_problems

        show_problems(error.problems, err)
        return False
    return True


_EVERYWHERE = frozenset({"-q", "--quiet", "-v", "--verbose", "--debug"})
"""Options of all commands, which may stand before the command, too."""


def command_first(argv: list[str]) -> list[str]:
    """A command line with the options that stand before its command behind it."""
    before = next((place for place, word in enumerate(argv) if word not in _EVERYWHERE), len(argv))
    return [*argv[before : before + 1], *argv[:before], *argv[before + 1 :]]


_FILES, _LEAST_FILES = 256, 64


_LONG = frozenset({"inspect", "show", "trace", "verify", "profile", "compare", "schema"})
"""Commands that may write more than a screen holds, and ask nothing."""
_LOOKING = frozenset({"inspect", "try", "trace", "draft"})
"""Commands that have nothing to lose."""


def _checked(command: Command, args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    """The one table from errors to statuses."""
    from wadi.problems import CrawlError, Problem, WadiError

    try:
        status = command.run(args, out, err)
        out.flush()
    except WadiError as error:
        if args.debug:
            raise
        from wadi.cli.show import show_problems

        show_problems(error.problems, err)
        return Status.NO_WAY if isinstance(error, CrawlError) else Status.USAGE
    except KeyboardInterrupt:
        print("interrupted", file=err)
        return Status.INTERRUPTED
    except BrokenPipeError:
        raise
    except Exception as error:
        if args.debug:
            raise
        if (problem := _of_the_machine(error)) is not None:
            print(problem, file=err)
            return Status.NO_WAY
        what = f"an internal error: {type(error).__name__}: {error}"
        now = "the same command with --debug shows where; please report it with that text"
        print(Problem("fault", what, now=now), file=err)
        return Status.FAULT
    return status


def _of_the_machine(error: Exception) -> Problem | None:
    """A full, closed or damaged disk under what a command reads or writes, or too little memory for it."""
    from dataclasses import replace
    from pathlib import Path

    from wadi.problems import Place, Problem
    from wadi.store.faults import disk_problem, is_want_of_memory

    if is_want_of_memory(error):
        now = "close other programs, or allow it more; what a run has committed is kept, and  wadi resume  goes on"
        return Problem("too-little-memory", "the memory that this process may have is used up", now=now)

    problem = disk_problem(error, Path())
    if problem is not None and isinstance(error, OSError) and error.filename is None:  # what is written to has no name
        return replace(problem, place=Place("the output"), now="")
    return problem


def command_parser(name: str, command: Command) -> argparse.ArgumentParser:
    """What reads the arguments of a command."""
    parser = _Parser(
        prog=f"wadi {name}",
        description=COMMANDS[name][1][0].upper() + COMMANDS[name][1][1:] + ".",
        epilog=command.EXAMPLES,
        formatter_class=argparse.RawDescriptionHelpFormatter,
        allow_abbrev=False,
    )
    command.add_arguments(parser)
    shown = parser.add_argument_group("what is shown")
    shown.add_argument("-q", "--quiet", action="store_true", help="only problems")
    shown.add_argument(
        "-v",
        "--verbose",
        action="store_true",
        help="more of it; while a crawl runs on a terminal, its last rows",
    )
    shown.add_argument("--debug", action="store_true", help="a traceback where an error ends the command")
    # Options may stand anywhere among arguments; what argparse makes of the usage then is formatted once more.
    parser.usage = parser.format_usage().removeprefix("usage: ").replace("%", "%%")
    return parser


def _help() -> str:
    width = max(map(len, COMMANDS))
    lines = "".join(f"  {name:<{width}}  {summary}\n" for name, (_, summary) in COMMANDS.items())
    return (
        f"usage: wadi COMMAND …\n\n{_ABOUT}\n\ncommands:\n{lines}\n"
        "  wadi COMMAND --help   says more, with examples\n"
        "  wadi --version        prints the version\n\n"
        "first steps:\n"
        "  wadi demo                                            a crawl of the sample site, on this machine alone\n"
        "  wadi demo --examples examples                        copy the example plans into a folder\n"
        "  wadi demo --serve --port 8700                        keep the sample site up and try things\n"
        "  wadi run examples/springs.toml -o springs.csv        …in another terminal\n\n"
        "exit status: 0 done; 1 done, but not all of it; 2 the command line or the plan is wrong;\n"
        "  3 the crawl could not go on; 70 an internal error; 130 interrupted\n"
    )


def _unknown(word: str, err: TextIO) -> Status:
    from wadi.problems import nearest

    near = nearest(word, COMMANDS)
    hint = f'did you mean "wadi {near}"?' if near else f"commands: {', '.join(COMMANDS)}"
    print(f'wadi: there is no command "{word}"\n  {hint}', file=err)
    return Status.USAGE
