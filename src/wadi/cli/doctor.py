"""`wadi doctor`: what this machine has of what Wadi can use, and what to do about what is missing."""

from __future__ import annotations

import argparse
from dataclasses import asdict
from typing import TextIO

from wadi.cli import settings
from wadi.cli.show import console, plain, write_json
from wadi.cli.status import Status

EXAMPLES = """examples:
  wadi doctor
  wadi doctor --json
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--json", action="store_true", help="everything as JSON on standard output")


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    from rich.table import Table

    from wadi.actions.machine import parts

    found, made = list(parts()), settings.settings()
    if args.json:
        write_json({"parts": [asdict(part) for part in found], "settings": [asdict(setting) for setting in made]}, out)
    else:
        table = Table.grid(padding=(0, 2, 0, 0))
        for part in found:
            table.add_row(
                plain(part.name, "bold"), plain(part.what, "" if part.is_there else "yellow"), plain(part.now, "dim")
            )
        for setting in made:
            table.add_row(
                plain(f"setting {setting.name}", "bold"), plain(setting.value), plain(f"from {setting.source}", "dim")
            )
        known = {setting.name for setting in made}
        for name, (variable, what) in settings.VARIABLES.items():
            if name in known:
                continue
            table.add_row(
                plain(f"setting {name}", "bold"), plain("not made", "dim"), plain(f"{variable}: {what}", "dim")
            )
        console(out).print(table)
    return Status.DONE
