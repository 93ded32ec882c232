"""Requests made from a page: an address, parameters picked from the page or said by the plan, and how they are sent."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, NamedTuple
from urllib.parse import urlsplit, urlunsplit

from wadi.clean.types import Where
from wadi.crawl.kinds import RequestSpec
from wadi.page.cells import Notes, read_column
from wadi.page.document import Document
from wadi.page.field import Field, Source
from wadi.page.nodes import Scope
from wadi.plan.starts import variables_of
from wadi.problems import Place, Problem
from wadi.urls import host_of, resolve
from wadi.web.messages import Headers, Reply, Request
from wadi.web.parameters import expanded, filled, names_in, with_body, with_parameters, written

_NOTHING = ("", "false", "null")
"""Texts by which services say that there is nothing to send."""


class SentValues(NamedTuple):
    """The values that are picked to be sent, by name, the name of the first that there is none for, and those of which several
    were picked: the first is sent."""

    values: dict[str, str]
    lacking: str | None
    several: list[str]


def sent_values(fields: Sequence[Field], scope: Scope, document: Document, reply: Reply) -> SentValues:
    """What is picked on a page to be sent."""
    values: dict[str, str] = {}
    lacking = None
    notes = Notes()
    for field in fields:
        (value,) = read_column(field, [scope], source_of(document, reply), notes)
        if value is None or value in _NOTHING:
            lacking = lacking or field.name
        else:
            values[field.name] = written(value)
    return SentValues(values, lacking, list(notes.several))


def several_sent(name: str, document: Document, times: int = 1) -> Problem:
    """What is to be told of a value to be sent of which several were picked."""
    often = f" ({times} times)" if times > 1 else ""
    what = f'"{name}" picks several values, and the first was sent{often}'
    return Problem("several-sent", what, Place(document.url), now="an expression that picks one, or join = …")


def source_of(document: Document, reply: Reply) -> Source:
    """What cells of a page are read from."""
    return Source(document, Where(document.base, reply.started_at, document.encoding.name), reply)


def headers_of(asking: RequestSpec) -> Headers:
    """The header fields that go with a link's request."""
    return tuple((name, written(filled(text, asking.fixed))) for name, text in asking.headers)


def going_on(before: Request, url: str, headers: Headers) -> Headers:
    """The header fields of a listing's next request: those of the page before it, which may hold a token, and those that are set
    anew. Nothing goes on to another host."""
    if host_of(url) != before.host:
        return headers
    anew = {name.lower() for name, _ in headers} | {"content-type", "referer"}
    return (*((name, value) for name, value in before.headers if name.lower() not in anew), *headers)


def with_referer(request: Request, page_url: str) -> Request:
    """The request with the page that led to it in its header: to another host the site alone, from an encrypted page to one that
    is not encrypted nothing (RFC 9110 §10.1.3 and §17.9)."""
    parts = urlsplit(page_url)
    if parts.scheme == "https" and not request.url.startswith("https:"):
        return request
    host = parts.netloc.rpartition("@")[2]
    is_near = (parts.scheme, host_of(page_url)) == (request.url.partition(":")[0], request.host)
    said = urlunsplit(
        (parts.scheme, host, parts.path, parts.query, "") if is_near else (parts.scheme, host, "/", "", "")
    )
    others = tuple((name, value) for name, value in request.headers if name.lower() != "referer")
    return replace(request, headers=(*others, ("Referer", said)))


def asked(
    base: str,
    asking: RequestSpec,
    picked_values: Mapping[str, Any],
    constant: Mapping[str, Any],
    *,
    inputs: Mapping[str, Any] | None = None,
    continued: Request | None = None,
) -> Request:
    """The request. A value that the address or a header names stands there; all others are parameters.

    `inputs` can be named there, too.

    `continued` is the request of the page before: its address, body and header fields are kept but for what is set anew.
    Raises NotAUrl.
    """
    form = continued or Request(base)
    url = form.url
    names = {**asking.fixed, **(inputs or {}), **picked_values}
    placed = {name for _, text in asking.headers for name in names_in(text)}
    if asking.address is not None:
        url = resolve(base, expanded(asking.address, names))
        placed |= variables_of(asking.address)
    parameters = {**constant, **{name: value for name, value in picked_values.items() if name not in placed}}
    headers = tuple((name, written(filled(text, names))) for name, text in asking.headers)
    if continued is not None:
        headers = going_on(continued, url, headers)
    if asking.post:
        kept = form if form.method == "POST" else Request(url)
        request = with_body(replace(kept, url=url), asking.post, parameters)
        return replace(request, headers=(*headers, ("Content-Type", dict(request.headers)["Content-Type"])))
    return Request(with_parameters(url, parameters) if parameters else url.partition("#")[0], headers=headers)
