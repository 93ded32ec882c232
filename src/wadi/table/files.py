"""Downloaded files in tables: the columns that tell about them, and their names made of the row."""

from __future__ import annotations

import os
import re
from collections.abc import Mapping, Sequence
from pathlib import Path, PurePosixPath
from typing import Any

from wadi.plan.columns import FILE_PARTS, Column, fields_giving
from wadi.plan.model import Plan
from wadi.plan.starts import FILE, file_request
from wadi.store.folder import DOWNLOADS
from wadi.store.outcome import StoredFile
from wadi.store.view import RunView
from wadi.store.whole_files import copied
from wadi.web.parameters import filled, written

_NOT_IN_NAMES = re.compile(r"[\x00-\x1f\x7f<>:\"|?*\\]")
_LONGEST = 120
Cells = list[Any]


class FileCells:
    """Turns the addresses in columns of type file into what was downloaded. Names are given out once, in reading order."""

    def __init__(self, state: RunView, plan: Plan, table: str, columns: Sequence[Column]) -> None:
        self._state = state
        self._places = {column.name: place for place, column in enumerate(columns)}
        self._columns = [column for column in columns if column.type == "file"]
        giving = {column.name: fields_giving(plan, table, column.name) for column in self._columns}
        self._patterns = {name: fields[0][1].name if fields else None for name, fields in giving.items()}
        self._taken: dict[str, str] = {}
        self.renamed: dict[str, str] = {}
        """Names made of rows → the paths under which the files are kept."""

    @property
    def is_idle(self) -> bool:
        """Whether the table has no files."""
        return not self._columns

    @property
    def has_names(self) -> bool:
        return any(self._patterns.values())

    def put(self, cells: Cells) -> None:
        """Fill in path, address, size, type and checksum of each file in a row."""
        if not self._columns:
            return
        values = {name: cells[place] for name, place in self._places.items()}
        for column in self._columns:
            given = cells[self._places[column.name]]
            urls = given if isinstance(given, list) else [given] if given else []
            stored = [self._stored(url) for url in urls]
            paths = [self._path(column.name, values, file) if file else None for file in stored]
            parts: dict[str, list[Any]] = {
                "": paths,
                "url": urls,
                "size": [file.size_bytes if file else None for file in stored],
                "type": [file.type if file else None for file in stored],
                "sha256": [file.sha256 if file else None for file in stored],
            }
            for part in ("", *FILE_PARTS):
                place = self._places.get(f"{column.name}_{part}" if part else column.name)
                if place is not None:
                    cells[place] = parts[part] if column.many else next(iter(parts[part]), None)

    def _stored(self, url: str) -> StoredFile | None:
        found = self._state.file_of(FILE, file_request(url))
        return found[1] if found else None

    def _path(self, column: str, values: Mapping[str, Any], stored: StoredFile) -> str:
        pattern = self._patterns[column]
        if pattern is None:
            return stored.path
        wanted = named(pattern, values, stored.path)
        name, again = wanted, 2
        while self._taken.get(name.casefold(), stored.sha256) != stored.sha256:
            path = PurePosixPath(wanted)
            name, again = str(path.with_name(f"{path.stem}-{again}{path.suffix}")), again + 1
        self._taken[name.casefold()] = stored.sha256
        self.renamed[name] = stored.path
        return name


def give_names(folder: Path, renamed: Mapping[str, str]) -> None:
    """Put files under the names made of rows, beside what they are kept as; no bytes are copied where links can be made."""
    for name, stored in renamed.items():
        target, source = folder / name, folder / stored
        if target.exists() or not source.exists():
            continue
        target.parent.mkdir(parents=True, exist_ok=True)
        try:
            os.link(source, target)
        except OSError:
            copied(source, target)


def named(pattern: str, values: Mapping[str, Any], stored: str) -> str:
    """The name that a pattern gives to a stored file: below `files`, whatever the values hold, with the file's ending."""
    clean = {name: re.sub(r"[/\\]", "_", written(value)) for name, value in values.items()}
    segments = [_NOT_IN_NAMES.sub("_", part).strip(" .")[:_LONGEST] for part in str(filled(pattern, clean)).split("/")]
    name = "/".join(part for part in segments if part) or "file"
    ending = PurePosixPath(stored).suffix
    return f"{DOWNLOADS}/{name}" if ending and name.lower().endswith(ending) else f"{DOWNLOADS}/{name}{ending}"
