"""What tables are, for those who get them: a Data Package with Table Schema, and a codebook.

Data Package and Table Schema: the open standards at datapackage.org (version 1).
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from wadi.plan.columns import Column, fields_giving, table_plan
from wadi.plan.model import FieldPlan, PartOf, Plan
from wadi.table.cells import flat

_SCHEMA_TYPES: dict[str, tuple[str, str | None]] = {
    "url": ("string", "uri"),
    "email": ("string", "email"),
    "phone": ("string", None),
    "file": ("string", None),
    "money": ("number", None),
    "percent": ("number", None),
}
_MEDIA = {".csv": "text/csv", ".tsv": "text/tab-separated-values", ".json": "application/json", ".jsonl": "application/jsonl",
          ".xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
          ".parquet": "application/vnd.apache.parquet"}  # fmt: skip
_EXAMPLES = 3
_DISTINCT = 1000


@dataclass
class ColumnSeen:
    """What the cells of a column are like."""

    filled: int = 0
    examples: list[str] = field(default_factory=list)
    distinct: set[Any] = field(default_factory=set)
    least: Any = None
    most: Any = None


@dataclass
class Seen:
    """What the rows of a table are like."""

    columns: Sequence[Column]
    rows: int = 0
    by_column: list[ColumnSeen] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.by_column = [ColumnSeen() for _ in self.columns]

    def take(self, row: list[Any]) -> None:
        """Count a row in."""
        self.rows += 1
        for facts, value in zip(self.by_column, row, strict=True):
            if value is None or value == []:
                continue
            facts.filled += 1
            plain = flat(value)
            if len(facts.distinct) < _DISTINCT:
                facts.distinct.add(plain)
            if len(facts.examples) < _EXAMPLES and str(plain) not in facts.examples:
                facts.examples.append(str(plain))
            if isinstance(value, int | float) and not isinstance(value, bool):
                facts.least = value if facts.least is None else min(facts.least, value)
                facts.most = value if facts.most is None else max(facts.most, value)


def data_package(
    name: str,
    plan: Plan,
    tables: Mapping[str, Sequence[Column]],
    files: Sequence[tuple[Path, str]],
    created: str,
    delimiter: str = ",",
) -> dict[str, Any]:
    """The descriptor of written files: `files` are paths with the table that each holds. Names are told apart by endings."""
    resources: list[dict[str, Any]] = []
    stems = [_resource_name(path.stem) for path, _ in files]
    for path, table in files:
        data = path.read_bytes()
        suffixes = [suffix.lower() for suffix in path.suffixes]
        form = next((suffix for suffix in suffixes if suffix in _MEDIA), "")
        resource: dict[str, Any] = {
            "name": stems[0] if len(files) == 1 else _unique_name(path, stems, resources),
            "path": path.name,
            "bytes": len(data),
            "hash": f"sha256:{hashlib.sha256(data).hexdigest()}",
        }
        if form:
            resource |= {"format": form[1:], "mediatype": _MEDIA[form]}
        if form in (".csv", ".tsv"):
            resource |= {"profile": "tabular-data-resource", "encoding": "utf-8"}
            resource["dialect"] = {"delimiter": "\t" if form == ".tsv" else delimiter, "header": True}
        if suffixes and suffixes[-1] not in _MEDIA and form:
            resource["compression"] = suffixes[-1][1:]
        resource["schema"] = table_schema(plan, table, tables[table])
        resources.append(resource)
    return {
        "profile": "data-package",
        "name": name.lower(),
        "title": plan.title or name,
        "created": created,
        "resources": resources,
    }


def _resource_name(stem: str) -> str:
    return "".join(c if c.isalnum() or c in "-_." else "-" for c in stem.lower())


def _unique_name(path: Path, stems: list[str], before: Sequence[Mapping[str, Any]]) -> str:
    """The name of a resource, which none before it has: with its ending where several files have the same name."""
    stem = _resource_name(path.stem)
    name = stem if stems.count(stem) == 1 else _resource_name(path.name)
    taken = {resource["name"] for resource in before}
    numbered = (f"{name}-{number}" for number in range(2, len(taken) + 3))
    return name if name not in taken else next(column for column in numbered if column not in taken)


def table_schema(plan: Plan, table: str, columns: Sequence[Column]) -> dict[str, Any]:
    """The Table Schema of a table: types, units, descriptions, constraints, key."""
    rules = table_plan(plan, table)
    key = [rules.rename.get(name, name) for name in rules.key]
    fields = [_schema_field(plan, table, column, unique=key == [column.name]) for column in columns]
    schema: dict[str, Any] = {"fields": fields, "missingValues": [""]}
    if key and all(name in {column.name for column in columns} for name in key):
        schema["primaryKey"] = key if len(key) > 1 else key[0]
    return schema


def _schema_field(plan: Plan, table: str, column: Column, *, unique: bool) -> dict[str, Any]:
    kind, form = _SCHEMA_TYPES.get(column.type, (column.type, None))
    found: dict[str, Any] = {"name": column.name, "type": "array" if column.many else kind}
    if form and not column.many:
        found["format"] = form
    if column.unit:
        found["unit"] = column.unit
    giving = fields_giving(plan, table, _plain_name(plan, table, column.name))
    about = next((spec.about for _, spec in giving if spec.about), "")
    if about:
        found["description"] = about
    if column.many:
        found["itemType"] = kind
    constraints: dict[str, Any] = {"required": True} if column.required else {}
    if unique and table_plan(plan, table).duplicates != "all":
        constraints["unique"] = True
    if constraints:
        found["constraints"] = constraints
    return found


def _plain_name(plan: Plan, table: str, name: str) -> str:
    back = {new: old for old, new in table_plan(plan, table).rename.items()}
    return back.get(name, name)


def codebook(plan: Plan, name: str, tables: Sequence[tuple[str, Seen]], source: str) -> str:
    """A codebook in Markdown: for each column what it is, where it is from, how much is filled, examples."""
    lines = [f"# Codebook: {plan.title or name}", "", source, ""]
    for table, seen in tables:
        rules = table_plan(plan, table)
        lines += [
            f"## {table}",
            "",
            f"{seen.rows:,} rows" + (f", one for each {' and '.join(rules.key)}" if rules.key else "") + ".",
            "",
        ]
        lines += [
            "| column | type | filled | distinct | values | what it is, and where it is from |",
            "| --- | --- | --: | --: | --- | --- |",
        ]
        for column, facts in zip(seen.columns, seen.by_column, strict=True):
            kind = f"{column.type}{' list' if column.many else ''}{f', {column.unit}' if column.unit else ''}"
            share = f"{facts.filled / seen.rows:.0%}" if seen.rows else ""
            distinct = f"{len(facts.distinct):,}" + ("+" if len(facts.distinct) >= _DISTINCT else "")
            values = (
                f"{facts.least:g} to {facts.most:g}"
                if facts.least is not None
                else "; ".join((e if len(e) <= 40 else e[:39] + "…") for e in facts.examples)
            )
            origin = _escaped(_origin(plan, table, _plain_name(plan, table, column.name), column.part_of))
            lines.append(f"| `{column.name}` | {kind} | {share} | {distinct} | {_escaped(values)} | {origin} |")
        lines.append("")
    return "\n".join(lines)


def _origin(plan: Plan, table: str, name: str, beside: str | None) -> str:
    """Where a column is from, in words."""
    rules = table_plan(plan, table)
    if name in rules.derive:
        return f"computed: {rules.derive[name].formula}"
    if name in rules.constant:
        return "the same in every row"
    giving = fields_giving(plan, table, name)
    if not giving:
        return f"comes with {beside}" if beside else "made by the table"
    parts = [spec.about for _, spec in giving if spec.about][:1]
    for page, spec in giving:
        parts.append(f"page {page}: {_picking(spec)}")
    if name in rules.hash:
        parts.append("hashed")
    return "; ".join(parts)


def _picking(field: FieldPlan) -> str:
    where = (
        " or ".join(field.at)
        if field.at
        else f'beside "{field.label[0]}"'
        if field.label
        else f"from {field.source}"
        if field.source
        else f"under {field.under}"
    )
    more = [
        f"@{field.attr}" if field.attr else "",
        f"group {field.of} of {field.group[0]}" if isinstance(field, PartOf) else "",
    ]
    more += [f"find {field.find}" if field.find else "", *field.clean, *field.adjust]
    return ", ".join([where, *(part for part in more if part)])


def _escaped(text: str) -> str:
    return text.replace("|", "\\|").replace("\n", " ").replace("<", "\\<")
