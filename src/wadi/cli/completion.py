"""`wadi completion`: what a shell completes after `wadi`: commands, options, their choices, plans, runs."""

from __future__ import annotations

import argparse
import importlib
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TextIO

from wadi.cli.status import Status

EXAMPLES = """examples:
  wadi completion bash > ~/.local/share/bash-completion/completions/wadi
  wadi completion zsh  > ~/.local/share/zsh/site-functions/_wadi
  wadi completion fish > ~/.config/fish/completions/wadi.fish
"""


@dataclass(frozen=True)
class Option:
    """An option of a command: its long and short names, its help, whether a value follows, and what values there are."""

    names: tuple[str, ...]
    help: str
    takes_value: bool
    choices: tuple[str, ...] = ()


@dataclass(frozen=True)
class CommandWords:
    """A command: its summary, its options, and what its first argument is (PLAN, RUN, PAGE or something else)."""

    name: str
    summary: str
    options: tuple[Option, ...]
    argument: str


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("shell", choices=sorted(_WRITERS), help="for which shell")


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    out.write(_WRITERS[args.shell](list(words())))
    return Status.DONE


def words() -> Iterator[CommandWords]:
    """Every command with what can follow it."""
    from wadi.cli.main import COMMANDS, command_parser

    for name, (module, summary) in COMMANDS.items():
        parser = command_parser(name, importlib.import_module(module))  # type: ignore[arg-type]
        options = tuple(
            Option(
                tuple(action.option_strings),
                (action.help or "").replace("%%", "%"),
                action.nargs != 0,
                tuple(map(str, action.choices or ())),
            )
            for action in parser._actions
            if action.option_strings and action.help != argparse.SUPPRESS
        )
        first = next((action for action in parser._actions if not action.option_strings), None)
        metavar = first.metavar if first is not None and isinstance(first.metavar, str) else ""
        yield CommandWords(
            name, summary, options, metavar or (" ".join(map(str, first.choices or ())) if first else "")
        )


def _bash(commands: list[CommandWords]) -> str:
    cases = []
    for command in commands:
        names = " ".join(name for option in command.options for name in option.names)
        values = "".join(
            f"        {'|'.join(option.names)}) COMPREPLY=($(compgen -W '{' '.join(option.choices)}' -- \"$word\")); return ;;\n"
            for option in command.options
            if option.choices
        )
        by_value = f"      case $before in\n{values}      esac\n" if values else ""
        cases.append(
            f"    {command.name})\n{by_value}"
            f"      if [[ $word == -* ]]; then COMPREPLY=($(compgen -W '{names}' -- \"$word\"));\n"
            f"      else {_BASH_ARGUMENTS.get(command.argument, _files(command.argument))}; fi ;;\n"
        )
    every = " ".join(command.name for command in commands)
    return (
        "# What bash completes after wadi; written by: wadi completion bash\n"
        "_wadi() {\n"
        "  local word=${COMP_WORDS[COMP_CWORD]} before=${COMP_WORDS[COMP_CWORD-1]}\n"
        "  COMPREPLY=()\n"
        f"  if [[ $COMP_CWORD -eq 1 ]]; then COMPREPLY=($(compgen -W '{every}' -- \"$word\")); return; fi\n"
        "  case ${COMP_WORDS[1]} in\n" + "".join(cases) + "  esac\n}\n"
        "complete -o filenames -F _wadi wadi\n"
    )


_BASH_ARGUMENTS = {
    "PLAN": 'COMPREPLY=($(compgen -f -X \'!*.toml\' -- "$word") $(compgen -d -- "$word"))',
    "RUN": 'COMPREPLY=($(compgen -W "$(ls runs 2> /dev/null)" -- "$word") $(compgen -d -- "$word"))',
}


def _files(argument: str) -> str:
    choices = argument if argument and argument.islower() else ""
    return f"COMPREPLY=($(compgen -W '{choices}' -- \"$word\"))" if choices else 'COMPREPLY=($(compgen -f -- "$word"))'


def _zsh(commands: list[CommandWords]) -> str:
    summaries = "\n".join(f"    '{command.name}:{_zsh_text(command.summary)}'" for command in commands)
    cases = []
    for command in commands:
        lines = [
            f"'({' '.join(option.names)})'{_names(option)}'[{_zsh_text(option.help)}]{_zsh_value(option)}'"
            for option in command.options
        ]
        lines.append(f"'*:{command.argument or 'file'}:{_ZSH_ARGUMENTS.get(command.argument, '_files')}'")
        cases.append(f"    {command.name}) _arguments \\\n      " + " \\\n      ".join(lines) + " ;;\n")
    return (
        "#compdef wadi\n# What zsh completes after wadi; written by: wadi completion zsh\n"
        "_wadi() {\n  local -a commands=(\n" + summaries + "\n  )\n"
        "  if (( CURRENT == 2 )); then _describe command commands; return; fi\n"
        "  local command=$words[2]\n  shift words; (( CURRENT-- ))\n"
        "  case $command in\n" + "".join(cases) + '  esac\n}\n_wadi "$@"\n'
    )


_ZSH_ARGUMENTS = {"PLAN": '_files -g "*.toml"', "RUN": "_files -W runs"}


def _names(option: Option) -> str:
    return "{" + ",".join(option.names) + "}" if len(option.names) > 1 else option.names[0]


def _zsh_text(text: str) -> str:
    return " ".join(text.split()).replace("'", "’").replace("[", "(").replace("]", ")").replace(":", " -")


def _zsh_value(option: Option) -> str:
    if not option.takes_value:
        return ""
    return f":value:({' '.join(option.choices)})" if option.choices else ":value:_files"


def _fish(commands: list[CommandWords]) -> str:
    lines = ["# What fish completes after wadi; written by: wadi completion fish", "complete -c wadi -f"]
    for command in commands:
        summary = _fish_text(command.summary)
        lines.append(f"complete -c wadi -n __fish_use_subcommand -a {command.name} -d '{summary}'")
        seen = f"'__fish_seen_subcommand_from {command.name}'"
        if command.argument:
            what = _FISH_ARGUMENTS.get(
                command.argument, f"-a '{command.argument}'" if command.argument.islower() else "-F"
            )
            lines.append(f"complete -c wadi -n {seen} {what}")
        for option in command.options:
            names = " ".join(f"-l {n[2:]}" if n.startswith("--") else f"-s {n[1:]}" for n in option.names)
            value = f" -x -a '{' '.join(option.choices)}'" if option.choices else " -r -F" if option.takes_value else ""
            lines.append(f"complete -c wadi -n {seen} {names}{value} -d '{_fish_text(option.help)}'")
    return "\n".join(lines) + "\n"


_FISH_ARGUMENTS = {"PLAN": "-a '(__fish_complete_suffix .toml)'", "RUN": "-a '(command ls runs 2> /dev/null)'"}


def _fish_text(text: str) -> str:
    return " ".join(text.split()).replace("\\", "\\\\").replace("'", "\\'")


_WRITERS = {"bash": _bash, "zsh": _zsh, "fish": _fish}
