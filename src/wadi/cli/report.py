"""`wadi report`: a run as one HTML page that can be sent to a colleague, or as PDF."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TextIO

from wadi.cli.options import A_RUN, add_runs, say_which
from wadi.cli.status import Status

EXAMPLES = """examples (after  wadi demo):
  wadi report springs --runs wadi-demo/runs -o report.html
  wadi report springs --runs wadi-demo/runs -o report.html --pdf report.pdf
exit status: 1 when something does not hold, as with wadi verify
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("run", metavar="RUN", help=A_RUN)
    parser.add_argument(
        "-o", "--output", type=Path, metavar="FILE", help="the HTML file to write (default: PLAN-report.html)"
    )
    parser.add_argument(
        "--pdf", type=Path, metavar="FILE", help="print it to PDF as well, with a browser that is installed"
    )
    parser.add_argument("--against", metavar="RUN", help="tell drift against this run alone")
    add_runs(parser)


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    from wadi.actions.run import Run
    from wadi.cli.show import shown_size
    from wadi.quality.pdf import write_pdf
    from wadi.quality.report_run import report_of
    from wadi.store.whole_files import check_writable, replaced

    with Run.open(args.run, args.runs) as opened:
        say_which(opened.chosen, args, err)
        text, holds = report_of(opened, against=args.against)
        target = args.output or Path(f"{opened.plan_name}-report.html")
    replaced(target, text.encode())
    written = [target]
    if args.pdf is not None:
        check_writable(args.pdf)
        write_pdf(target, args.pdf)
        written.append(args.pdf)
    if not args.quiet:
        for path in written:
            print(f"{path}  {shown_size(path.stat().st_size)}", file=out)
    return Status.DONE if holds else Status.NOT_ALL
