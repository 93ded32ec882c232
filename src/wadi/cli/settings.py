"""What a person sets once for all commands: in `config.toml`, over it in environment variables, over both on the command line
or in the plan."""

from __future__ import annotations

import os
from collections.abc import MutableMapping
from dataclasses import dataclass
from pathlib import Path

from wadi.problems import Place, Problem, UsageError, nearest

VARIABLES = {
    "runs": ("WADI_RUNS", "where runs are kept (--runs)"),
    "contact": ("WADI_CONTACT", "an address for the owners of sites (manners.contact)"),
    "driver": ("WADI_WEBDRIVER", "the WebDriver server of rendered pages (manners.driver)"),
}
"""The settings: the environment variable of each, and what it is, with what goes over both in brackets."""


_applied: dict[str, str] = {}
"""Where variables are from that this process set itself."""


@dataclass(frozen=True)
class Setting:
    """A setting that is made: its value, and where it is from."""

    name: str
    value: str
    source: str


def config_file(environment: MutableMapping[str, str] | None = None) -> Path:
    """Where settings are kept (XDG Base Directory Specification 0.8)."""
    known = os.environ if environment is None else environment
    home = known.get("XDG_CONFIG_HOME") or ""
    return (Path(home) if Path(home).is_absolute() else Path.home() / ".config") / "wadi" / "config.toml"


def settings(environment: MutableMapping[str, str] | None = None) -> list[Setting]:
    """The settings that are made. Raises UsageError for a file that cannot be read, or says something else."""
    known = os.environ if environment is None else environment
    file = config_file(known)
    kept = _read(file)
    found = []
    for name, (variable, _) in VARIABLES.items():
        if known.get(variable):
            found.append(Setting(name, known[variable], _applied.get(variable, variable)))
        elif name in kept:
            found.append(Setting(name, kept[name], str(file)))
    return found


def apply(environment: MutableMapping[str, str] | None = None) -> None:
    """Let settings of the file hold where the environment says nothing. Raises UsageError."""
    known = os.environ if environment is None else environment
    for setting in settings(known):
        variable = VARIABLES[setting.name][0]
        if not known.get(variable):
            known[variable] = setting.value
            _applied[variable] = setting.source


def _read(file: Path) -> dict[str, str]:
    if not file.exists():
        return {}
    import tomllib

    place = Place(str(file))
    try:
        data = tomllib.loads(file.read_text("utf-8"))
    except (OSError, UnicodeDecodeError) as error:
        raise UsageError(Problem("not-readable", f"cannot be read: {error}", place)) from error
    except tomllib.TOMLDecodeError as error:
        raise UsageError(Problem("bad-config", f"this is no TOML: {error}", place)) from error
    for name, value in data.items():
        if name not in VARIABLES:
            near = nearest(name, VARIABLES)
            now = f'did you mean "{near}"?' if near else f"settings: {', '.join(VARIABLES)}"
            raise UsageError(Problem("bad-config", f'there is no setting "{name}"', place, now=now))
        if not isinstance(value, str):
            raise UsageError(Problem("bad-config", f'"{name}" wants a text in quotes', place))
    return data
