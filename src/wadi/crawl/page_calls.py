"""Page kinds written in Python: a function of the plan's code gets a page, and gives its rows, its links and its next page.

What it gives becomes the page's data. From there it goes the way of any page: fields are read from it by JSONPath, so that it is
typed, checked, stored, traced and read again as any other.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date, datetime, time
from decimal import Decimal
from math import isfinite, isnan
from typing import Any

from wadi.crawl.kinds import Call, Kind
from wadi.crawl.page_view import Page
from wadi.page.document import Document
from wadi.page.json_values import LongFloat
from wadi.plan.code import CodeFailed, guarded
from wadi.web.messages import Reply

_DEEPEST = 50


@dataclass(frozen=True)
class PageData:
    """What a page kind written in Python gives of a page.

    `rows` are mappings, column → value: text, number, true or false, None, date, or lists and mappings of these. `links` are
    URLs by the kind of page that they lead to, `next` is the URL of the listing's next page; both may be relative to the page.
    `total` is how many rows the site says there are.
    """

    rows: Iterable[Mapping[str, Any]] = ()
    links: Mapping[str, str | Iterable[str]] = field(default_factory=dict)
    next: str | None = None
    total: int | None = None


def with_page_data(document: Document, reply: Reply, kind: Kind) -> Document:
    """The document, of a kind that is written in Python with what its function gives in place of the data that it carries.
    Raises CodeFailed."""
    if kind.call is None:
        return document
    call = kind.call
    # What is given may be made while it is looked through, and fail only then.
    data = guarded(call.name, lambda: _data_of(call, call.function(Page(document, reply))))()
    return replace(document, beside=(data,)) if document.kind != "json" else replace(document, data=data)


def never_given(document: Document, kind: Kind) -> str:
    """What is to be told of keys: a field whose key no row has, while rows have one that is no field. Empty where there is
    nothing to tell."""
    if kind.call is None or kind.call.keys is None:
        return ""
    given = dict.fromkeys(key for row in rows_given(document) for key in row)
    lacking = [name for name in kind.columns if name in kind.call.keys and name not in given]
    unknown = [name for name in given if name not in kind.call.keys]
    if not lacking or not unknown:
        return ""
    return f'{kind.call.name}() gives no "{lacking[0]}", but "{unknown[0]}", which is no field'


def rows_given(document: Document) -> list[Any]:
    """The rows that a function gave, of a document with its data."""
    data = document.data if document.beside is None else document.beside[0]
    return list(data["rows"])


def _data_of(call: Call, given: Any) -> dict[str, Any]:
    """What a function gave as a value of JSON."""
    if not isinstance(given, PageData):
        raise CodeFailed(f"{call.name}() gives {_kind(given)}: wadi.PageData(rows=…, links=…, next=…) is wanted")
    rows: list[Any] = []
    for number, row in enumerate(_listed(call, "rows", given.rows), 1):
        if not isinstance(row, Mapping):
            raise CodeFailed(f"{call.name}(): row {number} is {_kind(row)}: a dict is wanted, column → value")
        rows.append(_value(row, f"{call.name}(): row {number}"))
    if call.completes and (len(rows) > 1 or given.next is not None):
        more = f"{len(rows)} rows" if len(rows) > 1 else "a next page"
        raise CodeFailed(f"{call.name}() gives {more} of a page that completes one row")
    if not isinstance(given.links, Mapping):
        raise CodeFailed(f"{call.name}(): links are {_kind(given.links)}: a dict is wanted, page kind → URLs")
    data: dict[str, Any] = {"rows": rows, "links": _links(call, given.links)}
    if given.next is not None:
        data["next"] = _text(call, "next", given.next)
    if given.total is not None:
        data["total"] = _value(given.total, f"{call.name}(): total")
    return data


def _links(call: Call, links: Mapping[str, Any]) -> dict[str, list[str]]:
    found = {}
    for target, urls in links.items():
        if target in call.opened_from_rows:
            what = f'{call.name}(): pages "{target}" complete the rows: each row has its URL as "{target}"'
            raise CodeFailed(what)
        if target not in call.opened:
            raise CodeFailed(f'{call.name}(): links to "{target}", which the page kind does not open')
        every = [urls] if isinstance(urls, str) else _listed(call, f"links to {target}", urls)
        found[target] = [_text(call, f"a link to {target}", url) for url in every]
    return found


def _listed(call: Call, what: str, given: Any) -> list[Any]:
    if isinstance(given, str | bytes | Mapping) or not isinstance(given, Iterable):
        raise CodeFailed(f"{call.name}(): {what}: {_kind(given)} is no list")
    return list(given)


def _text(call: Call, what: str, given: Any) -> str:
    if not isinstance(given, str):
        raise CodeFailed(f"{call.name}(): {what} is {_kind(given)}: a URL is wanted")
    return given


def _value(given: Any, where: str, depth: int = 0) -> Any:
    """A value as JSON has it. Raises CodeFailed."""
    if given is None or isinstance(given, str | bool):
        return given
    if isinstance(given, int):
        return int(given)
    if isinstance(given, float):
        if isnan(given):
            return None
        if isfinite(given):
            return given
    elif isinstance(given, Decimal):
        if given.is_nan():
            return None
        if given.is_finite():
            return LongFloat(f"{given:f}")
    elif isinstance(given, date | datetime | time):
        return given.isoformat()
    elif depth > _DEEPEST:
        raise CodeFailed(f"{where}: nested too deeply")
    elif isinstance(given, Mapping):
        return {str(name): _value(value, f"{where}, {name}", depth + 1) for name, value in given.items()}
    elif isinstance(given, Sequence | set | frozenset) and not isinstance(given, bytes | bytearray | memoryview):
        return [_value(value, where, depth + 1) for value in given]
    raise CodeFailed(f"{where}: {_kind(given)} is no value of a table")


def _kind(given: Any) -> str:
    name = type(given).__name__
    if given is None or isinstance(given, float):
        return f"{given!r:.40}"
    return f"{'an' if name[0] in 'aeiouAEIOU' else 'a'} {name}"
