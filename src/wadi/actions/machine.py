"""What this machine has of what Wadi can use: Python, libraries, a browser with its driver, a PostgreSQL client, folders that
can be written."""

from __future__ import annotations

import os
import platform
import shutil
import subprocess
import tempfile
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from importlib.metadata import PackageNotFoundError, version
from pathlib import Path

_LIBRARIES = ("turbohtml", "lxml", "pycurl", "pydantic", "pandas", "openpyxl", "sqlalchemy")
_EXTRAS = {
    "pyarrow": ("parquet", "Parquet files"),
    "matplotlib": ("charts", "charts"),
    "distributed": ("cluster", "runs on many machines"),
    "psycopg": ("postgresql", "tables on a PostgreSQL server"),
}
"""What comes with an extra: the library, the extra, what it is for."""
_BROWSERS = ("chromium", "chromium-browser", "google-chrome", "firefox")
_WITHIN_S = 10
Run = Callable[[list[str]], str]
"""Runs a command and gives what it says; raises OSError where it cannot."""


@dataclass(frozen=True, slots=True)
class Part:
    """One thing that is there or not: what it is for, the version or place, and, where it is missing, what to do."""

    name: str
    is_there: bool
    what: str
    now: str = ""


def parts(environment: Mapping[str, str] | None = None, run: Run | None = None) -> Iterator[Part]:
    """Everything that is looked at, in the order in which it is told."""
    known = os.environ if environment is None else environment
    yield Part("Python", True, f"{platform.python_version()} on {platform.system()} {platform.machine()}")
    yield from map(_library, _LIBRARIES)
    yield from _browser(known, run or _said_by)
    yield from (_extra(name, *said) for name, said in _EXTRAS.items())
    yield from _folders(known)


def _library(name: str) -> Part:
    try:
        return Part(name, True, version(name))
    except PackageNotFoundError:
        return Part(name, False, "not installed", "pip install wadi  brings it")


def _browser(environment: Mapping[str, str], run: Run) -> Iterator[Part]:
    """A browser that prints reports and shows pages, and the WebDriver server by which it is spoken to."""
    from wadi.problems import UsageError
    from wadi.web.driver_process import driver_named

    browser = next((found for name in _BROWSERS if (found := shutil.which(name))), None)
    if browser is None:
        yield Part("browser", False, "none: no reports as PDF, no rendered pages", "Debian:  apt install chromium")
    else:
        yield Part("browser", True, f"{browser}, {_version_of(browser, run)}")
    try:
        driver = driver_named(None, environment)
    except UsageError as error:
        problem = error.problems[0]
        yield Part("WebDriver", False, "none: pages that scripts draw cannot be shown", problem.now)
    else:
        said = driver if driver.startswith("http") else f"{driver}, {_version_of(driver, run)}"
        yield Part("WebDriver", True, said)


def _version_of(program: str, run: Run) -> str:
    try:
        said = run([program, "--version"])
    except (OSError, subprocess.SubprocessError):
        return "which does not say its version"
    return next((word for word in said.split() if word[:1].isdigit()), said.strip()[:40])


def _said_by(command: list[str]) -> str:
    done = subprocess.run(command, capture_output=True, text=True, timeout=_WITHIN_S, check=True)
    return done.stdout


def _extra(name: str, extra: str, what: str) -> Part:
    try:
        return Part(f"{extra} extra", True, f"{name} {version(name)}")
    except PackageNotFoundError:
        return Part(f"{extra} extra", False, f"not installed: no {what}", f"pip install 'wadi[{extra}]'")


def _folders(environment: Mapping[str, str]) -> Iterator[Part]:
    from wadi.store.page_cache import cache_folder

    folders = {"this folder": Path.cwd(), "page cache": cache_folder(), "temporary files": Path(tempfile.gettempdir())}
    for name, folder in folders.items():
        there = next((upper for upper in (folder, *folder.parents) if upper.exists()), folder)
        can_write = os.access(there, os.W_OK)
        free = shutil.disk_usage(there).free / 1e9
        said = f"{folder}, {free:.1f} GB free" if can_write else f"{folder} cannot be written"
        yield Part(name, can_write, said, "" if can_write else "another folder, or its permissions")
