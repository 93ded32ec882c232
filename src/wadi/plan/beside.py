"""Files that a plan names. They stand below its own folder, since a plan may be somebody else's, and send on what it reads."""

from __future__ import annotations

from pathlib import Path

_MOST_BYTES = 100_000_000


class NotBeside(ValueError):
    """A file that a plan may not name; `str()` says why."""


def is_below(folder: Path, path: Path) -> bool:
    """Whether a path lies below a folder when links are followed."""
    return path.resolve().is_relative_to(folder.resolve())


def read_beside(folder: Path, name: str) -> bytes:
    """What a file holds that a plan in `folder` names. Raises NotBeside for one elsewhere, for devices and pipes, which may never
    end, and for one of more than 100 MB; OSError where it is missing or cannot be read."""
    path = folder / name
    if not is_below(folder, path):
        raise NotBeside(f"{name} lies outside the plan's folder: copy it there")
    if path.exists() and not path.is_file():
        raise NotBeside(f"{path} is no plain file")
    if path.stat().st_size > _MOST_BYTES:
        raise NotBeside(f"{path} is larger than {_MOST_BYTES / 1e6:.0f} MB")
    return path.read_bytes()
