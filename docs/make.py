"""Writes what the docs take from the code: the tables of docs/plan.md, all of docs/problems.md and docs/commands.md, and the
manual page.

Run it after a change of the plan language, of a step or of a problem:  python docs/make.py
"""

from __future__ import annotations

import importlib
import sys
import tomllib
from dataclasses import fields
from pathlib import Path
from typing import Any, get_args

from pydantic import BaseModel
from pydantic.fields import FieldInfo
from pydantic_core import PydanticUndefined

from wadi import __version__
from wadi.clean.adjust import ADJUSTMENTS
from wadi.clean.arithmetic import FUNCTIONS
from wadi.clean.steps import STEPS
from wadi.cli.completion import Option, words
from wadi.cli.main import COMMANDS
from wadi.cli.settings import VARIABLES
from wadi.cli.status import MEANINGS as STATUS_MEANINGS
from wadi.crawl import events
from wadi.plan import checks, model
from wadi.problems import MEANINGS

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE.parent / "tests"))
from truth import TRUTHS  # noqa: E402, what the examples bring is told by the tests

SITE = "http://127.0.0.1:8700"
_SHAPE_ROWS, _SHAPE_COLUMNS, _SHAPE_CELL = 3, 8, 40
BEGIN, END = "<!-- made by docs/make.py: begin -->", "<!-- made by docs/make.py: end -->"
PARTS: tuple[tuple[str, str, type[BaseModel]], ...] = (
    ("the plan", "", model.Plan),
    ("a file in `[inputs]`", "inputs", model.InputFile),
    ("a sequence in `[inputs]`", "sequence", model.InputSequence),
    ("a secret in `[inputs]`", "secret", model.InputSecret),
    ("`[start]`", "start", model.StartPlan),
    ("`[login]`", "login", model.LoginPlan),
    ("`[links]`", "links", model.LinksPlan),
    ("`[manners]`", "manners", model.MannersPlan),
    ("`[limits]`", "limits", model.LimitsPlan),
    ("`[page.NAME]`", "page", model.PagePlan),
    ("a field: `[page.NAME.fields]`, and `total`", "fields", model.FieldPlan),
    ("`[page.NAME.next]`", "next", model.NextPlan),
    ("`count` in `next`", "count", model.CountPlan),
    ("`[page.NAME.open]`, each target", "open", model.OpenPlan),
    ("`[page.NAME.lists.NAME]`", "lists", model.ListPlan),
    ("`[page.NAME.browser]`", "browser", model.BrowserPlan),
    ("`[table.NAME]`", "table", model.TablePlan),
    ("`derive`, each column", "derive", model.DerivePlan),
    ("`[table.NAME.check]`", "check", checks.CheckPlan),
    ("`[table.NAME.check.columns]`, each column", "check-columns", checks.ColumnCheckPlan),
    ("`minimum` and `maximum` of a figure", "bounds", checks.BoundsPlan),
)


def keys() -> str:
    """One table for each part of the plan: key, type, default, what it says."""
    pieces = []
    for title, anchor, part in PARTS:
        rows = [
            f"| `{info.alias or name}` | {_type(part, name)} | {_default(info)} | {info.description} |"
            for name, info in part.model_fields.items()
        ]
        pieces.append(
            f'<a id="{anchor}"></a>\n### {title[0].upper()}{title[1:]}\n\n| key | type | default | says |\n| --- | --- | --- | --- |\n'
            + "\n".join(rows)
        )
    return "\n\n".join(pieces)


def steps() -> str:
    """The verbs of `clean`."""
    rows = [f"| `{' '.join([name, *verb.arguments])}` | {verb.help} |" for name, verb in STEPS.items()]
    return "| step | gives |\n| --- | --- |\n" + "\n".join(rows)


def adjustments() -> str:
    """The verbs of `adjust`."""
    rows = [f"| `{name} {argument}` | {said} |" for name, (_, argument, said) in ADJUSTMENTS.items()]
    return "| step | gives |\n| --- | --- |\n" + "\n".join(rows)


def functions() -> str:
    """The functions of formulas."""
    return "\n".join(f"- `{said}`" for _, said in FUNCTIONS.values())


def problems() -> str:
    """All codes with their meaning."""
    rows = "\n".join(f"| `{code}` | {meaning} |" for code, meaning in MEANINGS.items())
    return (
        "# Problems\n\nEvery message ends with a code in brackets. The first line of a message says where, what and the code; the lines below\n"
        "it say why, and what can be done. With `--json` the same comes as an object: `code`, `what`, `place`, `why`, `now`.\n\n"
        f"| code | meaning |\n| --- | --- |\n{rows}\n"
    )


def commands() -> str:
    """Every command with its usage, its options and its examples."""
    parts = ["# Commands\n\nMade from the commands themselves; `wadi COMMAND --help` says the same in a terminal.\n"]
    for command in words():
        rows = "\n".join(f"| {_of_option(option)} | {_cell(option.help)} |" for option in command.options)
        argument = f" {command.argument}" if command.argument.isupper() else ""
        examples = importlib.import_module(COMMANDS[command.name][0]).EXAMPLES.strip()
        parts.append(
            f"## wadi {command.name}{argument}\n\n{command.summary[0].upper()}{command.summary[1:]}.\n\n"
            f"| option | |\n| --- | --- |\n{rows}\n\n```\n{examples}\n```\n"
        )
    return "\n".join(parts)


def _of_option(option: Option) -> str:
    choices = " or ".join(option.choices)
    value = f" {choices}" if choices else " …" if option.takes_value else ""
    return ", ".join(f"`{name}`" for name in option.names) + value


def _cell(text: str) -> str:
    return " ".join(text.split()).replace("|", "\\|").replace("<", "\\<")


def man_page() -> str:
    """The manual page (man(7)): the commands, the exit statuses, where to read on."""
    version = tomllib.loads((HERE.parent / "pyproject.toml").read_text("utf-8"))["project"].get("version", __version__)
    lines = [
        f'.TH WADI 1 "" "wadi {version}" "User Commands"',
        ".SH NAME", "wadi \\- tables from web sites, by short plan files",
        ".SH SYNOPSIS", ".B wadi", ".I COMMAND", "[options]",
        ".SH DESCRIPTION",
        "Write a crawler as a short, readable file, rehearse it, run it politely, and get clean tables that can be trusted.",
        ".SH COMMANDS",
    ]  # fmt: skip
    for command in words():
        lines += [".TP", f".B wadi {command.name}", _roff(f"{command.summary[0].upper()}{command.summary[1:]}.")]
        lines += [line for option in command.options for line in (".RS", ".TP", *_roff_option(option), ".RE")]
    lines += [".SH EXIT STATUS"]
    for status, what in STATUS_MEANINGS.items():
        lines += [".TP", f".B {status.value}", _roff(what)]
    lines += [".SH FILES", ".TP", ".I ~/.config/wadi/config.toml", "settings of a person: runs, contact, driver"]
    lines += [".SH ENVIRONMENT"]
    for variable, what in VARIABLES.values():
        lines += [".TP", f".B {variable}", _roff(what)]
    return "\n".join(lines) + "\n"


def _roff_option(option: Option) -> list[str]:
    return [".B " + _roff(", ".join(option.names)), _roff(" ".join(option.help.split()))]


def _roff(text: str) -> str:
    escaped = text.replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{escaped}" if escaped.startswith((".", "'")) else escaped


def with_made(text: str, made: list[str]) -> str:
    """A text with what stands between its marks replaced, mark by mark."""
    first, *rest = text.split(BEGIN)
    assert len(rest) == len(made), "as many marks as made pieces"
    return first + "".join(
        f"{BEGIN}\n{piece}\n{END}{old.partition(END)[2]}" for piece, old in zip(made, rest, strict=True)
    )


def _type(part: type[BaseModel], name: str) -> str:
    schema = part.model_json_schema(by_alias=False, mode="validation")
    # A part that names itself stands among the definitions.
    whole = schema if "properties" in schema else schema["$defs"][schema["$ref"].split("/")[-1]]
    return _words(whole["properties"][name])


def _words(schema: dict[str, Any]) -> str:
    if "const" in schema:
        return f"{schema['const']}"
    if "enum" in schema:
        return ", ".join(f"`{value}`" for value in schema["enum"])
    if "anyOf" in schema:
        return " or ".join(dict.fromkeys(_words(one) for one in schema["anyOf"] if one.get("type") != "null"))
    if "$ref" in schema:
        return {"FieldPlan": "field"}.get(schema["$ref"].split("/")[-1], "table")
    if schema.get("type") == "array":
        return f"list of {_words(schema['items'])}s" if "items" in schema else "list"
    return {
        "string": "text",
        "integer": "whole number",
        "number": "number",
        "boolean": "true/false",
        "object": "table",
    }[schema["type"]]


def _default(info: FieldInfo) -> str:
    if info.is_required():
        return "must be there"
    value = info.default
    if value is None or value is PydanticUndefined or value in ({}, [], ""):
        return ""
    if info.annotation is float or float in get_args(info.annotation):
        return f"{value:g} s"
    return (
        "`"
        + (
            str(value).lower()
            if isinstance(value, bool)
            else " ".join(map(repr, value))
            if isinstance(value, list)
            else str(value)
        )
        + "`"
    )


def statuses() -> str:
    """The exit statuses."""
    rows = [f"| {status.value} | {what} |" for status, what in STATUS_MEANINGS.items()]
    return "| status | means |\n| --- | --- |\n" + "\n".join(rows)


def heard() -> str:
    """The events that `report` hears of: what they say, and what they have."""
    rows = []
    for event in sorted(get_args(events.Event), key=lambda event: event.__name__):
        said = " ".join((event.__doc__ or "").split()).partition(". ")[0].rstrip(".")
        said = said.removeprefix("An event: ")
        rows.append(
            f"| `{event.__name__}` | {said[0].upper()}{said[1:]} | {', '.join(f'`{part.name}`' for part in fields(event))} |"
        )
    return "| event | says | has |\n| --- | --- | --- |\n" + "\n".join(rows)


def shapes() -> dict[str, str]:
    """A page for each shape of a crawl, by its name: what it is, the plan, the first rows that it gives (as the tests hold)."""
    return {name: _shape(name, truth(SITE)) for name, truth in sorted(TRUTHS.items())}


def _shape(name: str, rows: list[dict[str, Any]]) -> str:
    source = (HERE.parent / "examples" / f"{name}.toml").read_text("utf-8")
    about = []
    for line in source.splitlines():
        if not line.startswith("#"):
            break
        about.append(line.lstrip("# "))
    plan = tomllib.loads(source)
    code = (HERE.parent / "examples" / plan["code"]).read_text("utf-8").rstrip() if "code" in plan else ""
    columns = list(dict.fromkeys(column for row in rows for column in row))[:_SHAPE_COLUMNS]
    table = ["| " + " | ".join(columns) + " |", "|" + " --- |" * len(columns)]
    table += ["| " + " | ".join(_cell(row.get(column)) for column in columns) + " |" for row in rows[:_SHAPE_ROWS]]
    parts = [
        f"# {plan['title']}", *(["\n".join(about)] if about else []),
        f"The plan, [examples/{name}.toml](../../examples/{name}.toml), on the sample site (`wadi demo --serve --port 8700`):",
        f"```toml\n{source.rstrip()}\n```",
        *([f"Its functions, `{plan['code']}`:", f"```python\n{code}\n```"] if code else []),
        f"The first of {len(rows):,} rows:" if len(rows) > _SHAPE_ROWS else "Its rows:", "\n".join(table),
        "[All shapes](../shapes.md) · [all keys](../plan.md)",
    ]  # fmt: skip
    return "\n\n".join(parts) + "\n"


def _cell(value: Any) -> str:
    if value is None:
        return ""
    text = (
        "; ".join(map(str, value))
        if isinstance(value, list)
        else str(value).lower()
        if isinstance(value, bool)
        else str(value)
    )
    text = " ".join(text.split()).replace("|", "\\|").replace("<", "\\<")
    return text if len(text) <= _SHAPE_CELL else text[: _SHAPE_CELL - 1] + "…"


def plan_pieces() -> list[str]:
    """What stands between the marks of docs/plan.md."""
    return [keys(), steps(), adjustments(), functions()]


def main() -> None:
    """Rewrite the docs in place."""
    plan = HERE / "plan.md"
    plan.write_text(with_made(plan.read_text("utf-8"), plan_pieces()), "utf-8")
    for name, piece in (("shell.md", statuses()), ("python.md", heard())):
        (HERE / name).write_text(with_made((HERE / name).read_text("utf-8"), [piece]), "utf-8")
    for name, text in shapes().items():
        (HERE / "shapes" / f"{name}.md").write_text(text, "utf-8")
    (HERE / "problems.md").write_text(problems(), "utf-8")
    (HERE / "commands.md").write_text(commands(), "utf-8")
    (HERE / "wadi.1").write_text(man_page(), "utf-8")


if __name__ == "__main__":
    main()
