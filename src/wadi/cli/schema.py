"""`wadi schema`: the JSON Schema of the plan language."""

from __future__ import annotations

import argparse
import json
from typing import TextIO

from wadi.cli.status import Status

EXAMPLES = """examples:
  wadi schema > wadi.schema.json
  wadi schema | head -20
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """No arguments of its own."""


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    from wadi.plan.model import json_schema

    json.dump(json_schema(), out, ensure_ascii=False, indent=2)
    out.write("\n")
    return Status.DONE
