"""Writes what the docs take from the code: the tables of docs/plan.md and all of docs/problems.md.

Run it after a change of the plan language, of a step or of a problem:  python docs/make.py
"""

from __future__ import annotations

from pathlib import Path
from typing import Any, get_args

from pydantic import BaseModel
from pydantic.fields import FieldInfo
from pydantic_core import PydanticUndefined

from wadi.clean.adjust import ADJUSTMENTS
from wadi.clean.arithmetic import FUNCTIONS
from wadi.clean.steps import STEPS
from wadi.plan import checks, model
from wadi.problems import MEANINGS

HERE = Path(__file__).parent
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


def plan_pieces() -> list[str]:
    """What stands between the marks of docs/plan.md."""
    return [keys(), steps(), adjustments(), functions()]


def main() -> None:
    """Rewrite the docs in place."""
    plan = HERE / "plan.md"
    plan.write_text(with_made(plan.read_text("utf-8"), plan_pieces()), "utf-8")
    (HERE / "problems.md").write_text(problems(), "utf-8")


if __name__ == "__main__":
    main()
