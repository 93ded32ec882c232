"""A plan drafted from what was found on a page: to be looked at line by line, rehearsed, and made one's own."""

from __future__ import annotations

import json
import re
import shlex
from collections.abc import Sequence
from itertools import islice
from urllib.parse import urlsplit, urlunsplit

from wadi.learn.fields import FieldGuess, as_key, quoted
from wadi.learn.look import Look, RowsFound
from wadi.learn.outline import JsonRows
from wadi.learn.selectors import expression_for
from wadi.page.nodes import parent
from wadi.problems import escaped_in_strings, shortened
from wadi.urls import NotAUrl, without_secret

_SAMPLE_LETTERS = 40
_LONGEST_LINE = 100
_IN_ROWS = "    # or  completes = …  with the table whose rows lead to such pages"
_NO_NAMES = frozenset({"index", "list", "default", "page", "search", "home", "view", "browse"})
_CODE = re.compile(r"(?:^|_)(?:id|code|key|no|nr|number|sku|slug|uuid|guid)$")


def draft(look: Look, name: str, parse: str | None = None, address: str = "") -> str:
    """The text of a plan for the page; empty where it has neither rows nor labels. `name` is the file it goes to, `parse` the way
    in which the page was read, where one was demanded; `address` how the plan names the page (default: its URL)."""
    parts = urlsplit(address or look.reply.request.url)
    # Without a password; braces would stand for inputs.
    address = urlunsplit(parts._replace(netloc=parts.netloc.rpartition("@")[2])).replace("{", "%7B").replace("}", "%7D")
    if look.kind.kind == "log-in" and parts.scheme in ("http", "https"):
        return _behind_login(name, address)
    kind, rows, fields = _chosen(look)
    if not fields:
        return ""
    table = _table_name(parts.path)
    lines = [
        f"# Drafted by  wadi inspect  from one page. Look at each line, then:  wadi preview {name}",
        "wadi  = 1",
        *([f"title = {_text(look.document.title)}"] if look.document.title else []),
        "",
        "[start]",
        f'page      = "{kind}"',
        f"addresses = [{_text(address)}]",
        "",
        f"[page.{kind}]",
        *([f'parse = "{parse}"'] if parse is not None else []),
        *_page_lines(look, rows, table),
        *_further(look, fields),
        "",
        f"[page.{kind}.fields]",
        *_field_lines(fields),
    ]
    if rows is not None and (key := _key(fields)):
        lines += ["", f"[table.{table}]", f"key = [{_text(key)}]    # no two rows of this page have the same"]
    return "\n".join(lines) + "\n"


def _behind_login(name: str, address: str) -> str:
    """A plan that logs in by the page and reads what stands behind it."""
    parts = urlsplit(address)
    return f"""\
# Drafted by  wadi inspect  from a log-in page: it logs in, and reads a page behind it. Name and password come from the
# environment, or are asked for. Put the address of what you want below; then draft its rows by
#   wadi inspect ADDRESS --with {name} --plan rows.toml
wadi = 1

[start]
page      = "behind"
addresses = [{_text(f"{parts.scheme}://{parts.netloc}/")}]    # what stands behind the log-in

[login]
address       = {_text(address)}
user_from     = "SITE_USER"
password_from = "SITE_PASSWORD"
# check = "…"    # what stands on a page only when the log-in worked: your name, a link to log out

[page.behind]
table = "behind"

[page.behind.fields]
title = "title"
"""


def _key(fields: Sequence[FieldGuess]) -> str:
    """The column that tells rows apart: a code, or an address. Names and figures may be the same by chance on another page."""
    unique = [field for field in fields if field.is_unique]
    codes = [field.name for field in unique if _CODE.search(field.name) or (field.attribute or "").startswith("data-")]
    return next(iter([*codes, *(field.name for field in unique if field.type.type == "url")]), "")


def _chosen(look: Look) -> tuple[str, RowsFound | JsonRows | None, Sequence[FieldGuess]]:
    """The page kind's name, its rows (None: the page is one), and the fields."""
    if look.fields:
        return "sheet", None, look.fields
    rows = next(iter(look.candidates), None)
    return "list", rows, rows.fields if rows is not None else []


def _page_lines(look: Look, rows: RowsFound | JsonRows | None, table: str) -> list[str]:
    """What stands under the page kind: its rows, what has to be there, how the listing goes on."""
    found: list[tuple[str, str]] = []
    if rows is not None:
        if isinstance(rows, RowsFound) and (around := _around(look, rows)):
            found.append(("expect", f"{quoted(around)}    # a page without it was blocked, and is not “no rows”"))
        found.append(("rows", quoted(rows.expression)))
    found.append(("table", f'"{table}"{_IN_ROWS if rows is None else ""}'))
    for key in ("total", "next") if rows is not None else ():
        plans = (way.plan.removeprefix(f"{key} = ") for way in look.paging if way.plan.startswith(f"{key} = "))
        found += [(key, plan) for plan in islice(plans, 1)]
    return _aligned(found)


def _further(look: Look, fields: Sequence[FieldGuess]) -> list[str]:
    """A comment about the pages that rows lead to."""
    link = next(
        (field for field in fields if field.is_unique and field.attribute == "href" and field.expression != "."), None
    )
    if link is None:
        return []
    try:
        target = shlex.quote(without_secret(look.document.resolve(link.samples[0])))
    except NotAUrl:
        return []
    return [f"# open.sheet = {quoted(link.expression)}    # a page for each row; its fields:  wadi inspect {target}"]


def _around(look: Look, found: RowsFound) -> str | None:
    """An expression for the one element around all rows."""
    parents = {parent(row) for row in found.rows.rows}
    around = parents.pop() if len(parents) == 1 else None
    if around is None or around.tag in ("html", "body") or look.document.kind != "html":
        return None
    return expression_for(look.document, [around], [])[0]


def _field_lines(fields: Sequence[FieldGuess]) -> list[str]:
    lines = _aligned([(as_key(field.name), field.as_plan()) for field in fields])
    samples = [
        shortened(" ".join(field.samples[0].split()), _SAMPLE_LETTERS) if field.samples else "" for field in fields
    ]
    samples = [
        f"{sample} ({note})".lstrip() if (note := field.type.note or field.remark) else sample
        for sample, field in zip(samples, fields, strict=True)
    ]
    width = max((len(line) for line in lines if len(line) <= _LONGEST_LINE), default=0)
    return [f"{line:<{width}}    # {sample}" if sample else line for line, sample in zip(lines, samples, strict=True)]


def _aligned(pairs: Sequence[tuple[str, str]]) -> list[str]:
    width = max(len(key) for key, _ in pairs)
    return [f"{key:<{width}} = {value}" for key, value in pairs]


def _table_name(path: str) -> str:
    """The last word of a path that says something, or "rows"."""
    words = [re.sub(r"\.\w+$", "", word).lower() for word in path.split("/")]
    telling = (word for word in reversed(words) if re.fullmatch(r"[a-z][a-z_]{2,29}", word) and word not in _NO_NAMES)
    return next(telling, "rows")


def _text(text: str) -> str:
    """A text as TOML's basic string, whose escapes are those of JSON."""
    return escaped_in_strings(json.dumps(" ".join(text.split()), ensure_ascii=False))
