"""Local files as starts: which addresses are of files, and which files those are."""

from __future__ import annotations

import re
from pathlib import Path, PurePosixPath
from urllib.parse import unquote

from wadi.plan.beside import is_below

_SCHEME = re.compile(r"[A-Za-z][A-Za-z0-9+.-]*:|\{[+]?[^}]*\}/*")
_ENDINGS = frozenset(
    ".html .htm .xhtml .xml .json .jsonl .ndjson .csv .tsv .txt .xlsx .xls .zip .gz .bz2 .xz .rss .atom .svg".split()
)
"""What pages, and files of columns, end with."""


class NoSuchFiles(ValueError):
    """An address of local files that none fits; `str()` says what was looked for, and where."""


def is_of_files(address: str) -> bool:
    """Whether a start's address is the path of files and no URL: it has no scheme and begins as paths do, has a `*`, or ends as
    files and folders do."""
    if _SCHEME.match(address):
        return False
    begins = address.startswith(("/", "./", "../"))
    return begins or "*" in address or address.endswith("/") or PurePosixPath(address).suffix.lower() in _ENDINGS


def files_of(folder: Path, address: str) -> list[Path]:
    """The files that an address names, relative to the plan's folder: one, those that a pattern of `*`, `?`, `[…]` and `**`
    fits, or those of a folder; `page-2` before `page-10`. Raises NoSuchFiles."""
    name = unquote(address)
    path = folder / name
    if path.is_file():
        return [_below(folder, path, name)]
    found = path.iterdir() if path.is_dir() else _fitting(folder, name)
    files = [entry for entry in found if entry.is_file() and not entry.name.startswith(".")]
    if not files:
        what = "holds no files" if path.is_dir() else "there is no such file" if "*" not in name else "no file fits"
        raise NoSuchFiles(f'"{name}": {what} (below {folder.resolve()})')
    return sorted((_below(folder, file, name) for file in files), key=_in_order)


def _below(folder: Path, path: Path, name: str) -> Path:
    """The path without links, if it lies below the plan's folder. Raises NoSuchFiles."""
    if not is_below(folder, path):
        raise NoSuchFiles(f'"{name}" lies outside the plan\'s folder: put the plan beside the files, or above them')
    return path.resolve()


def _fitting(folder: Path, pattern: str) -> list[Path]:
    start = PurePosixPath(pattern)
    if start.is_absolute() or ".." in start.parts:
        raise NoSuchFiles(f'"{pattern}" leads out of the plan\'s folder: put the plan beside the files, or above them')
    return list(folder.glob(str(start))) if start.parts else []


def _in_order(path: Path) -> list[tuple[int, int, str]]:
    """The order in which people count: digits as numbers."""
    pieces = re.split(r"(\d+)", str(path))
    return [(1, int(piece), "") if piece.isdigit() else (0, 0, piece.casefold()) for piece in pieces]
