"""Inputs from files beside the plan: CSV and TSV with a header, whose columns stay together, or a text of one value a line."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping
from pathlib import Path

from wadi.page.decode import decoded
from wadi.plan.beside import NotBeside, read_beside
from wadi.plan.model import InputFile, InputRows, InputSecret, InputSequence, InputValue
from wadi.web.secrets import mark_of

_MOST_NUMBERS = 1_000_000
_SEPARATED = {".csv": ",;\t|", ".tsv": "\t"}


class BadInputFile(ValueError):
    """A file of inputs that cannot be read; `str()` says why."""


def resolved(inputs: Mapping[str, InputValue], name: str, folder: Path) -> InputValue:
    """The value of an input: that of its file, if it is one (relative to the plan's folder), and of a secret its mark.
    Raises BadInputFile."""
    value = inputs[name]
    if isinstance(value, InputSequence):
        return _sequence(value)
    if isinstance(value, InputSecret):
        return mark_of(name)
    return _values_in(folder, value.file) if isinstance(value, InputFile) else value


def _sequence(said: InputSequence) -> list[int]:
    """The numbers of a sequence. Raises BadInputFile for one that has none, or too many."""
    if said.step == 0 or (said.last - said.first) * said.step < 0:
        raise BadInputFile(f"no number leads from {said.first} to {said.last} in steps of {said.step}")
    if (count := abs((said.last - said.first) // said.step) + 1) > _MOST_NUMBERS:
        raise BadInputFile(f"{count:,} numbers are more than {_MOST_NUMBERS:,}")
    return list(range(said.first, said.last + (1 if said.step > 0 else -1), said.step))


def _values_in(folder: Path, name: str) -> InputRows | list[str]:
    """The rows of a CSV or TSV file as dicts of texts, or the lines of another file; empty ones are left out."""
    path = folder / name
    try:
        text, _ = decoded(read_beside(folder, name))
    except NotBeside as error:
        raise BadInputFile(f"{error}, or give its values by --input") from error
    except FileNotFoundError as error:
        raise BadInputFile(f"no such file: {path}") from error
    except OSError as error:
        raise BadInputFile(f"{path} cannot be read: {error.strerror}") from error
    separators = _SEPARATED.get(path.suffix.lower())
    if separators is None:
        values = [line.strip() for line in text.splitlines() if line.strip()]
    else:
        return _rows(path, text, separators)
    if not values:
        raise BadInputFile(f"{path} is empty")
    return values


def _rows(path: Path, text: str, separators: str) -> InputRows:
    header = text.partition("\n")[0]
    separator = max(separators, key=header.count)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=separator)
    names = [name.strip() for name in next(reader, [])]
    if not any(names) or len(set(names)) < len(names):
        raise BadInputFile(f"{path} wants a first line with a name for each column, each once")
    rows: InputRows = []
    for cells in reader:
        if not any(cell.strip() for cell in cells):
            continue
        if len(cells) != len(names):
            raise BadInputFile(
                f"{path}:{reader.line_num}: {len(cells)} cells, and the first line names {len(names)} columns"
            )
        rows.append({name: cell.strip() for name, cell in zip(names, cells, strict=True)})
    if not rows:
        raise BadInputFile(f"{path} has no rows below its first line")
    return rows
