"""The analyst's own functions: the Python file beside the plan that `code` names.

A plan may be somebody else's, so the file is looked at as text until a function is called, and is run only if it was approved:
by its digest, on this machine (`~/.local/state/wadi/code`) or in this process and those that it starts.
"""

from __future__ import annotations

import ast
import hashlib
import os
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from functools import cached_property
from pathlib import Path
from types import ModuleType
from typing import Any

Function = Callable[..., Any]
_APPROVED = "WADI_APPROVED_CODE"
"""Environment variable with the digests that this process and its workers may run."""


class BadCode(ValueError):
    """The file cannot be used; `str()` says why."""


class CodeNotApproved(ValueError):
    """The file was not approved; `str()` names it."""


class CodeFailed(Exception):
    """A function of the analyst's raised an exception; `str()` says which and what."""


def guarded(name: str, function: Function) -> Function:
    """The function with its exceptions named after it. It raises CodeFailed."""

    def call(*arguments: Any) -> Any:
        try:
            return function(*arguments)
        except CodeFailed:
            raise
        except (Exception, SystemExit) as error:
            raise CodeFailed(f"{name}(): {type(error).__name__}: {error}") from error

    return call


class PlanCode(Mapping[str, Function]):
    """The functions that a file defines, by name. The file is run, as any Python module that is imported, when one is called."""

    def __init__(self, path: Path) -> None:
        """Read the file as text. Raises BadCode where it is none, or no Python."""
        self.path = path
        if not path.is_file():
            raise BadCode(f"no such file: {path}")
        if path.suffix != ".py":
            raise BadCode(f"{path} is no Python file (its name ends in .py)")
        try:
            data = path.read_bytes()
            self.text = data.decode("utf-8-sig")
            tree = ast.parse(self.text)
        except (SyntaxError, ValueError, RecursionError, MemoryError) as error:
            line = f":{error.lineno}" if isinstance(error, SyntaxError) else ""
            raise BadCode(f"{path}{line}: {type(error).__name__}: {error}") from error
        self.digest = hashlib.sha256(data).hexdigest()
        self._names = dict.fromkeys(_names_of(tree))

    def __getitem__(self, name: str) -> Function:
        if name not in self._names:
            raise KeyError(name)
        return lambda *arguments: self.loaded[name](*arguments)

    def __iter__(self) -> Iterator[str]:
        return iter(self._names)

    def __len__(self) -> int:
        return len(self._names)

    @property
    def is_approved(self) -> bool:
        """Whether the file, as it is now, may be run."""
        return self.digest in os.environ.get(_APPROVED, "").split() or self.digest in _remembered()

    def allow(self) -> None:
        """Let the file be run by this process and those that it starts."""
        os.environ[_APPROVED] = f"{os.environ.get(_APPROVED, '')} {self.digest}".strip()

    def approve(self) -> None:
        """Let the file be run, now and from now on, as long as it stays as it is."""
        self.allow()
        with suppress(OSError):  # it is remembered where that is possible
            file = _approved_file()
            file.parent.mkdir(parents=True, exist_ok=True)
            with file.open("a", encoding="utf-8") as out:
                out.write(f"{self.digest}  {self.path.name}\n")

    @cached_property
    def loaded(self) -> Mapping[str, Function]:
        """The functions themselves. Raises CodeNotApproved, BadCode."""
        if not self.is_approved:
            raise CodeNotApproved(str(self.path))
        module = ModuleType(f"wadi_code_{self.path.stem}")
        module.__file__ = str(self.path)
        try:
            # What was looked at is what is run: not the file as it is by now, nor what was compiled of it some time.
            exec(compile(self.text, str(self.path), "exec"), module.__dict__)
        except Exception as error:  # the analyst's code may raise anything
            # The last line of the file that the error passed through.
            trace, line = error.__traceback__, None
            while trace is not None:
                if trace.tb_frame.f_code.co_filename == str(self.path):
                    line = trace.tb_lineno
                trace = trace.tb_next
            raise BadCode(f"{self.path}{f':{line}' if line else ''}: {type(error).__name__}: {error}") from error
        return {name: value for name, value in vars(module).items() if callable(value) and not name.startswith("_")}


def _names_of(tree: ast.Module) -> Iterator[str]:
    """The names that the file's own lines define, outside functions and classes."""
    waiting: list[ast.stmt] = list(tree.body)
    while waiting:
        node = waiting.pop(0)
        found: list[str] = []
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef):
            found = [node.name]
        elif isinstance(node, ast.Import | ast.ImportFrom):
            found = [(alias.asname or alias.name).partition(".")[0] for alias in node.names]
        elif isinstance(node, ast.Assign):
            found = [target.id for target in node.targets if isinstance(target, ast.Name)]
        else:
            waiting[:0] = [child for child in ast.iter_child_nodes(node) if isinstance(child, ast.stmt)]
        yield from (name for name in found if not name.startswith("_"))


def _approved_file() -> Path:
    state = os.environ.get("XDG_STATE_HOME")  # XDG Base Directory Specification
    return (Path(state) if state else Path.home() / ".local" / "state") / "wadi" / "code"


def _remembered() -> set[str]:
    with suppress(OSError, RuntimeError):
        return {line.split()[0] for line in _approved_file().read_text("utf-8").splitlines() if line.strip()}
    return set()
