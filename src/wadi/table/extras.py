"""Libraries that only some commands need, which come with an extra: whether they are there, and how to get them."""

from __future__ import annotations

from importlib.util import find_spec

from wadi.problems import Problem, UsageError


def needs(module: str, what: str, extra: str) -> None:
    """Raise UsageError where a library is not installed that an extra of Wadi brings."""
    try:
        is_there = find_spec(module) is not None
    except ValueError:  # it was taken out of this process
        is_there = False
    if not is_there:
        now = f"pip install 'wadi[{extra}]'"
        raise UsageError(Problem("not-installed", f"{what} needs {module}, which is not installed", now=now))
