"""`wadi lint`: every mistake in a plan, at its place, without a request."""

from __future__ import annotations

import argparse
from typing import TextIO

from wadi.cli.options import add_inputs, inputs_of, starts_noted
from wadi.cli.show import show_problems, write_json
from wadi.cli.status import Status
from wadi.problems import plural

EXAMPLES = """examples:
  wadi lint examples/springs.toml
  wadi lint examples/springs.toml --input site=http://127.0.0.1:8700 --json
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("plan", metavar="PLAN", help="the plan file")
    add_inputs(parser)
    parser.add_argument("--json", action="store_true", help="the findings as JSON on standard output")


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    from wadi.plan.columns import columns, tables_of
    from wadi.plan.lint.starts import every_address
    from wadi.plan.reader import load_plan
    from wadi.problems import PlanError

    try:
        loaded = load_plan(args.plan, inputs_of(args.input))
        noted = starts_noted(args.plan, "addresses looked at", args, err)
        if wrong := [problem for _, problem in every_address(loaded.plan, loaded.text, noted)]:
            raise PlanError(wrong)
    except PlanError as error:
        if args.json:
            write_json({"plan": args.plan, "problems": [problem.as_dict() for problem in error.problems]}, out)
        else:
            show_problems(error.problems, err)
            print(f"{args.plan}: {plural(len(error.problems), 'mistake')}", file=err)
        return Status.USAGE
    if args.json:
        write_json({"plan": args.plan, "problems": []}, out)
    elif not args.quiet:
        tables = [
            f'"{name}" with {plural(len(columns(loaded.plan, name)), "column")}' for name in tables_of(loaded.plan)
        ]
        kinds = plural(len(loaded.plan.page), "page kind")
        print(f"{args.plan}: no mistakes. {kinds}, {plural(len(tables), 'table')}: {', '.join(tables)}", file=err)
    return Status.DONE
