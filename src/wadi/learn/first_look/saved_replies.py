"""The replies of a saved HTTP Archive as sources of data: ranked, with what a plan has to send for them."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import count
from typing import Any, Literal
from urllib.parse import parse_qsl, urlsplit, urlunsplit

from wadi.learn.clues.toml_text import as_key, exact, text_in_quotes
from wadi.learn.first_look.look import Look, RowsFound, look_at
from wadi.learn.first_look.outline import JsonRows
from wadi.learn.first_look.paging import Paging
from wadi.page.document import NotADocument, read_document
from wadi.plan.lint.secrets import SECRET_FIELD, SECRET_NAME
from wadi.web.messages import Headers, Reply, Request

_JSON_COUNTS = 2
"""Cells of JSON count so often: what is made for programs changes less."""
_SENT_ANYWAY = re.compile(
    r"host|connection|content-(?:type|length)|user-agent|accept-(?:encoding|language)|origin|referer|priority|pragma|te|dnt"
    r"|cache-control|upgrade-insecure-requests|if-.*|sec-.*|cookie2?|keep-alive",
    re.IGNORECASE,
)
_SENT = re.compile(r'(next = \{ send = \{ )[\w"-]+(?= = "\$)')
_TOKEN = re.compile(r"(?:bearer |basic |eyj)", re.IGNORECASE)
_IS_SECRET = re.compile(r".*(?:csrf|xsrf|session|signature|jwt|token).*", re.IGNORECASE)


@dataclass(frozen=True)
class SavedSource:
    """A reply with rows: the first of those that differ in the values of their parameters alone, which are `varied`."""

    reply: Reply
    look: Look
    rows: JsonRows | RowsFound
    times: int = 1
    varied: Mapping[str, tuple[str, ...]] | None = None

    @property
    def address(self) -> str:
        """Where it came from, without secrets."""
        return _address(self.reply.request, _Secrets(False))

    @property
    def count(self) -> int:
        """How many rows."""
        return self.rows.count if isinstance(self.rows, JsonRows) else self.rows.rows.count


@dataclass(frozen=True)
class Sending:
    """What a plan sends for a saved request: its address, the lines of `[start]` and of `[inputs]`, and the names of the secrets
    that are left out, or come from the environment."""

    address: str
    start: tuple[str, ...] = ()
    inputs: tuple[str, ...] = ()
    secrets: tuple[str, ...] = ()


class CannotBeSent(ValueError):
    """A request is none that a plan makes; says why."""


def saved_sources(replies: Sequence[Reply]) -> list[SavedSource]:
    """The replies with rows, the likeliest source first: by their cells, those of JSON twice."""
    groups: dict[tuple[Any, ...], list[Reply]] = {}
    for reply in replies:
        if reply.status < 300:
            groups.setdefault(_kind_of(reply.request), []).append(reply)
    found = [source for group in groups.values() if (source := _source(group)) is not None]
    return sorted(found, key=_weight, reverse=True)


def _kind_of(request: Request) -> tuple[Any, ...]:
    """What requests for pages of one listing have in common."""
    parts = urlsplit(request.url)
    names = tuple(sorted(name for name, _ in parse_qsl(parts.query, keep_blank_values=True)))
    return request.method, parts.netloc, parts.path, names, tuple(sorted(_values_sent(request)))


def _source(group: Sequence[Reply]) -> SavedSource | None:
    reply = group[0]
    try:
        look = look_at(read_document(reply.body, reply.url, reply.content_type), reply)
    except NotADocument:
        return None
    rows: JsonRows | RowsFound | None = next(iter(look.json_rows), None)
    rows = rows or look.main_rows
    if rows is None:
        return None
    # Parameters with several values, in the order in which they were sent.
    requests = [one.request for one in group]
    values: dict[str, dict[str, None]] = {}
    for request in requests:
        sent = {**dict(parse_qsl(urlsplit(request.url).query, keep_blank_values=True)), **_values_sent(request)}
        for name, value in sent.items():
            values.setdefault(name, {})[str(value)] = None
    varied = {name: tuple(seen) for name, seen in values.items() if len(seen) > 1 and not _is_secret(name, "")}
    look = replace(look, paging=[_named_as_sent(way, varied) for way in look.paging])
    return SavedSource(reply, look, rows, len(group), varied)


def _named_as_sent(way: Paging, varied: Mapping[str, tuple[str, ...]]) -> Paging:
    """A way to go on with the parameter in which the site's own script sent what the page said."""
    name = next((name for name, values in varied.items() if way.value in values[1:]), None)
    if name is None or not (said := _SENT.match(way.plan)):
        return way
    return replace(way, plan=said[1] + as_key(name) + way.plan[said.end() :])


def _weight(source: SavedSource) -> int:
    times = _JSON_COUNTS if isinstance(source.rows, JsonRows) else 1
    return times * source.count * len(source.rows.fields)


def _values_sent(request: Request) -> dict[str, Any]:
    """The values of a request's body; none where it has no names."""
    try:
        return _body_of(request)[1]
    except CannotBeSent:
        return {}


def _body_of(request: Request) -> tuple[Literal["json", "form"], dict[str, Any]]:
    """How a body is written, and its values. Raises CannotBeSent."""
    text = request.body.decode("utf-8", "replace")
    if text.lstrip().startswith("{"):
        try:
            values = dict(json.loads(text))
            json.dumps(values, ensure_ascii=False).encode()
        except UnicodeEncodeError as error:
            raise CannotBeSent("its body has half a character") from error
        except (ValueError, RecursionError) as error:
            raise CannotBeSent("its body is no JSON") from error
        return "json", values
    pairs = parse_qsl(text, keep_blank_values=True)
    if text and (not pairs or len(dict(pairs)) != len(pairs)):
        raise CannotBeSent("its body is neither a JSON object nor a form with each name once")
    return "form", dict(pairs)


def sending_of(request: Request, *, with_secrets: bool = False) -> Sending:
    """What a plan sends for a saved request. Cookies and tokens are left out, or, `with_secrets`, taken from the environment.
    Raises CannotBeSent."""
    if request.method not in ("GET", "POST"):
        raise CannotBeSent(f"a plan sends GET and POST, and this is {request.method}")
    secrets = _Secrets(with_secrets)
    address = _address(request, secrets)
    lines = _post_lines(request, secrets) if request.method == "POST" else []
    headers = _combined(request.headers)
    fields = [
        f"{as_key(name)} = {text_in_quotes(value)}"
        for name, value in headers
        if not _SENT_ANYWAY.fullmatch(name)
        and not _is_secret(name, value)
        and (name.lower(), value) != ("accept", "*/*")
    ]
    for name, value in headers:
        if _is_secret(name, value):
            fields += [f'{as_key(name)} = "{{{made}}}"' for made in secrets.of(name)]
    if fields:
        lines.append(f"headers   = {{ {', '.join(fields)} }}")
    return Sending(address, tuple(lines), secrets.inputs, secrets.names)


def _combined(headers: Headers) -> Headers:
    """Header fields, each name once (RFC 9110 §5.3)."""
    found: dict[str, tuple[str, str]] = {}
    for name, value in headers:
        known = found.get(name.lower())
        found[name.lower()] = (name, value) if known is None else (known[0], f"{known[1]}, {value}")
    return tuple(found.values())


def _address(request: Request, secrets: _Secrets) -> str:
    """The address as a plan names it: braces stand for inputs alone."""
    parts = urlsplit(request.url)
    pairs = []
    for pair in filter(None, parts.query.split("&")):
        name, _, value = pair.partition("=")
        if _is_secret(name, value):
            pairs += [f"{name}={{{made}}}" for made in secrets.of(name)]
        else:
            pairs.append(_without_braces(pair))
    host = parts.netloc.rpartition("@")[2]
    return urlunsplit((parts.scheme, host, _without_braces(parts.path), "&".join(pairs), ""))


def _without_braces(text: str) -> str:
    return text.replace("{", "%7B").replace("}", "%7D")


def _is_secret(name: str, value: str) -> bool:
    name = " ".join(name.split())
    return any(known.fullmatch(name) for known in (SECRET_FIELD, SECRET_NAME, _IS_SECRET)) or bool(_TOKEN.match(value))


class _Secrets:
    """The secrets of a request, by the names that they had there."""

    def __init__(self, are_wanted: bool) -> None:
        self._are_wanted = are_wanted
        self._inputs: dict[str, str] = {}

    @property
    def names(self) -> tuple[str, ...]:
        """As the request calls them."""
        return tuple(self._inputs)

    @property
    def inputs(self) -> tuple[str, ...]:
        """The lines of `[inputs]`; none where secrets are left out."""
        inputs = self._inputs.values() if self._are_wanted else ()
        return tuple(f'{made} = {{ secret_from = "SITE_{made.upper()}" }}' for made in inputs)

    def of(self, name: str) -> list[str]:
        """The name of the input that a secret becomes; none where secrets are left out."""
        if name not in self._inputs:
            made = re.sub(r"[^a-z0-9_]+", "_", name.lower()).strip("_") or "secret"
            made = made if made[0].isalpha() else f"secret_{made}"
            others = set(self._inputs.values())
            numbered = (f"{made}_{number}" for number in count(2))
            self._inputs[name] = made if made not in others else next(free for free in numbered if free not in others)
        return [self._inputs[name]] if self._are_wanted else []


def _post_lines(request: Request, secrets: _Secrets) -> list[str]:
    """How a body is posted: the lines of `[start]`."""
    how, values = _body_of(request)
    lines = [f'post      = "{how}"']
    pairs = _pairs(values, secrets)
    null = [".".join(path) for path in _nulls(values)]
    if pairs:
        lines.append(f"values    = {{ {', '.join(pairs)} }}")
    if null:
        lines.append(f"null      = [{', '.join(map(exact, null))}]")
    return lines


def _pairs(values: Mapping[str, Any], secrets: _Secrets) -> list[str]:
    """Names and values of a body, without its nulls. Raises CannotBeSent."""
    pairs = []
    for name, value in values.items():
        if value is None:
            continue
        if _is_secret(name, value if isinstance(value, str) else ""):
            pairs += [f'{as_key(name)} = "{{{made}}}"' for made in secrets.of(name)]
        else:
            pairs.append(f"{as_key(name)} = {_inline(value, secrets)}")
    return pairs


def _nulls(values: Mapping[str, Any], path: tuple[str, ...] = ()) -> Iterator[tuple[str, ...]]:
    """The paths of values that are null. Raises CannotBeSent for a name with a dot."""
    for name, value in values.items():
        if value is None and "." in name:
            raise CannotBeSent(f"its body has a null by the name {name}, and a dot leads one level down in a plan")
        if value is None:
            yield (*path, name)
        elif isinstance(value, dict):
            yield from _nulls(value, (*path, name))


def _inline(value: Any, secrets: _Secrets) -> str:
    """A value of JSON as TOML in one line. Raises CannotBeSent for a null in a list."""
    if isinstance(value, dict):
        return "{ " + ", ".join(_pairs(value, secrets)) + " }"
    if isinstance(value, list):
        return "[" + ", ".join(_inline(inner, secrets) for inner in value) + "]"
    if value is None:
        raise CannotBeSent("its body has a null in a list")
    if isinstance(value, str):
        return exact(value)
    return str(value).lower()  # numbers and truth values, and what TOML calls inf and nan
