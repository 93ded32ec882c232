"""`wadi verify`: whether a run's tables are all there, once, in the right types, and as earlier runs lead to expect."""

from __future__ import annotations

import argparse
from shlex import quote
from typing import TYPE_CHECKING, TextIO

from wadi.cli.options import A_RUN, add_runs, say_which
from wadi.cli.status import Status

if TYPE_CHECKING:
    from rich.console import RenderableType

    from wadi.quality.verdict import Finding, Verdict

EXAMPLES = """examples (after  wadi demo):
  wadi verify wadi-demo/runs/springs/…
  wadi verify springs --runs wadi-demo/runs        the plan's newest complete run
  wadi verify springs --against springs~1 --json
exit status: 1 when something does not hold
"""
_SHOWN = 3
_IN_SHORT = 4
_IN_SHORT_CODES = ("check", "drift", "blank", "rowless", "unopened", "empty-table", "no-total", "unread-total")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("run", metavar="RUN", help=A_RUN)
    parser.add_argument(
        "--against", metavar="RUN", help="tell drift against this run alone (default: the plan's earlier complete runs)"
    )
    parser.add_argument(
        "--deep", action="store_true", help="look whether the database and every stored reply are as they were written"
    )
    parser.add_argument("--json", action="store_true", help="the findings as JSON on standard output")
    add_runs(parser)


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    from wadi.actions.run import Run
    from wadi.cli.show import console, write_json
    from wadi.quality.verify_run import plan_to_mend, verify

    with Run.open(args.run, args.runs) as opened:
        say_which(opened.chosen, args, err)
        verified = verify(opened, against=args.against, deep=args.deep)
        verdict = verified.verdict
        if args.json:
            found = {"plan": opened.plan_name, "run": str(opened.folder), **verdict.as_dict()}
            write_json({**found, "earlier": verified.earlier}, out)
        elif not args.quiet:
            console(out).print(verdict_view(verdict, verbose=args.verbose, cuts=out.isatty()))
            if plan := plan_to_mend(opened, verdict):
                console(out).print(mend_hint(plan))
    return Status.DONE if verdict.holds else Status.NOT_ALL


def verdict_view(verdict: Verdict, *, verbose: bool = False, cuts: bool = True) -> RenderableType:
    """The verdict for people: the sentence, what fails, remarks; `cuts` for a terminal."""
    from rich.console import Group

    from wadi.cli.show import plain

    fails = [finding for finding in verdict.findings if finding.fails]
    remarks = [finding for finding in verdict.findings if not finding.fails]
    parts: list[RenderableType] = [plain(verdict.sentence, "bold green" if verdict.holds else "bold red")]
    for title, which, style in (("does not hold", fails, "red"), ("worth knowing", remarks, "")):
        if which:
            parts += [plain(""), plain(title, "bold")]
            parts += [line for shown in which for line in _lines(shown, style, verbose=verbose, cuts=cuts)]
    if not verdict.earlier:
        parts += [plain(""), plain(verdict.compared, "dim")]
    return Group(*parts)


def _lines(finding: Finding, style: str, *, verbose: bool, cuts: bool) -> list[RenderableType]:
    from wadi.cli.show import plain
    from wadi.problems import shortened

    where = f"{finding.table}: " if finding.table and finding.table not in finding.what else ""
    shown = finding.examples if verbose else finding.examples[:_SHOWN]
    lines: list[RenderableType] = [plain(f"  {where}{finding.what} [{finding.code}]", style)]
    lines += [plain(f"      {shortened(example, 180) if cuts else example}", "dim") for example in shown]
    left = len(finding.examples) - len(shown)
    return lines + ([plain(f"      {left} more: -v", "dim")] if left else [])


def mend_hint(plan: str) -> str:
    """What may help where pages are built otherwise than before."""
    return (
        f"mend      a redesign?  wadi mend {quote(plan)}  looks for the records of the last good run on today's pages"
    )


def is_in_short(code: str) -> bool:
    """Whether a finding that fails is told at the end of a run from the verdict."""
    return code.startswith(_IN_SHORT_CODES)


def in_short(verdict: Verdict, folder: str) -> list[str]:
    """What is told of a verdict at the end of a run: what the run's own summary does not say."""
    found = [finding for finding in verdict.findings if finding.fails and is_in_short(finding.code)]
    if not found:
        return []
    lines = [f"verify    {len(found)} {'thing does' if len(found) == 1 else 'things do'} not hold"]
    lines += [f"  {shown.what} [{shown.code}]" for shown in found[:_IN_SHORT]]
    return [*lines, f"  all of it:  wadi verify {quote(folder)}"]
