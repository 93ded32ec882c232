"""The analyst's own functions: the Python file beside the plan that `code` names."""

from __future__ import annotations

import importlib.util
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

Function = Callable[..., Any]


class BadCode(ValueError):
    """The file cannot be used; `str()` says why."""


class CodeFailed(Exception):
    """A function of the analyst's raised an exception; `str()` says which and what."""


def guarded(name: str, function: Function) -> Function:
    """The function with its exceptions named after it. It raises CodeFailed."""

    def call(*arguments: Any) -> Any:
        try:
            return function(*arguments)
        except Exception as error:
            raise CodeFailed(f"{name}(): {type(error).__name__}: {error}") from error

    return call


def load_code(path: Path) -> Mapping[str, Function]:
    """The functions that a file defines, by name. The file is run, as any Python module that is imported. Raises BadCode."""
    if not path.is_file():
        raise BadCode(f"no such file: {path}")
    spec = importlib.util.spec_from_file_location(f"wadi_code_{path.stem}", path)
    if spec is None or spec.loader is None:
        raise BadCode(f"{path} is no Python file (its name ends in .py)")
    module = importlib.util.module_from_spec(spec)
    try:
        spec.loader.exec_module(module)
    except Exception as error:  # the analyst's code may raise anything
        line = error.lineno if isinstance(error, SyntaxError) else _line_of(error, path)
        raise BadCode(f"{path}{f':{line}' if line else ''}: {type(error).__name__}: {error}") from error
    return {name: value for name, value in vars(module).items() if callable(value) and not name.startswith("_")}


def _line_of(error: BaseException, path: Path) -> int | None:
    """The last line of the file that the error passed through."""
    trace, line = error.__traceback__, None
    while trace is not None:
        if trace.tb_frame.f_code.co_filename == str(path):
            line = trace.tb_lineno
        trace = trace.tb_next
    return line
