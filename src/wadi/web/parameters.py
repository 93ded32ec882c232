"""Parameters of requests: in the query, in a form's body, in a JSON body. Set, left out, sorted; nothing is fetched."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import TYPE_CHECKING, Any, Literal
from urllib.parse import parse_qsl, quote, quote_plus, urlsplit, urlunsplit

import orjson

from wadi.web.messages import Request

if TYPE_CHECKING:
    import uritemplate

Post = Literal["form", "json"]
Pairs = Sequence[tuple[str, str]]
_TYPES: dict[Post, str] = {"form": "application/x-www-form-urlencoded", "json": "application/json"}
_PLACEHOLDER = re.compile(r"\{\+?([\w.]+)\}")


@dataclass(frozen=True, slots=True)
class LinkRules:
    """What the plan does to addresses of links: parameters left out (patterns), of the query and of the path, and whether the
    others of the query are sorted."""

    drop: tuple[str, ...] = ()
    sort: bool = False

    def applied(self, url: str) -> str:
        """The address as it is asked for: without its fragment, its parameters as the plan wants them."""
        url = url.partition("#")[0]
        return _ruled(url, self.drop, self.sort) if (self.drop or self.sort) and ("?" in url or ";" in url) else url


@lru_cache(maxsize=4096)
def _ruled(url: str, drop: tuple[str, ...], sort: bool) -> str:
    parts = urlsplit(url)
    between = _between(parts.query)
    pieces = [piece for piece in parts.query.split(between) if not _is_dropped(name_of(piece), drop)]
    if sort:
        pieces.sort()
    path = "/".join(_segment(segment, drop) for segment in parts.path.split("/")) if ";" in parts.path else parts.path
    return urlunsplit(parts._replace(path=path, query=between.join(pieces)))


def _segment(segment: str, drop: tuple[str, ...]) -> str:
    """A segment of a path without the parameters that are left out (RFC 3986 §3.3): `list;session=…`."""
    name, *own = segment.split(";")
    return ";".join([name, *(parameter for parameter in own if not _is_dropped(name_of(parameter), drop))])


def _between(query: str) -> str:
    """What stands between the parameters of a query: `;` where some sites write it so, else `&`."""
    return ";" if ";" in query and "&" not in query and all("=" in piece for piece in query.split(";")) else "&"


def _is_dropped(name: str, drop: tuple[str, ...]) -> bool:
    return any(fnmatch.fnmatchcase(name, pattern) for pattern in drop)


def name_of(piece: str) -> str:
    """The name of a parameter as it stands in a query, unescaped."""
    ((name, _),) = parse_qsl(piece, keep_blank_values=True) or [("", "")]
    return name


def with_parameters(url: str, values: Mapping[str, Any]) -> str:
    """The URL with parameters of its query set: those that are there in their places, others at the end."""
    parts = urlsplit(url)
    return urlunsplit(parts._replace(query=_set(parts.query, values, _escaped), fragment=""))


def _set(query: str, values: Mapping[str, Any], escape: Callable[[str, str], str]) -> str:
    """A query with values set: in the place of the first of their name, others of it gone; at the end where there is none."""
    pieces: list[str] = []
    left = {name: [escape(name, text) for text in _texts(value)] for name, value in values.items()}
    between = _between(query)
    for piece in query.split(between) if query else []:
        name = name_of(piece)
        if name not in values:
            pieces.append(piece)
        else:
            pieces += left.pop(name, [])
    return between.join([*pieces, *(piece for made in left.values() for piece in made)])


def _escaped(name: str, text: str) -> str:
    return f"{quote(name, safe='[]@')}={quote(text, safe='')}"


def _form_pair(name: str, text: str) -> str:
    return form_encoded([(name, text)])


def _texts(value: Any) -> list[str]:
    """What is sent for a value: once for each of a list."""
    return [written(member) for member in value] if isinstance(value, list) else [written(value)]


def form_encoded(pairs: Pairs) -> str:
    """Names and values as `application/x-www-form-urlencoded` (WHATWG URL Standard §5.2)."""
    return "&".join(f"{quote_plus(name, safe='*')}={quote_plus(value, safe='*')}" for name, value in pairs)


def with_body(request: Request, post: Post, values: Mapping[str, Any]) -> Request:
    """The request as a POST whose body has these values; what its body held already stays, in its place."""
    keeps = request.method == "POST" and dict(request.headers).get("Content-Type") == _TYPES[post]
    old = request.body if keeps else b""
    if post == "form":
        body = _set(old.decode("utf-8", "replace"), values, _form_pair).encode()
    else:
        data = orjson.loads(old) if old else {}
        for name, value in values.items():
            _put(data, name.split("."), value)
        body = orjson.dumps(data)
    others = tuple((name, value) for name, value in request.headers if name.lower() != "content-type")
    return replace(request, method="POST", body=body, headers=(*others, ("Content-Type", _TYPES[post])))


def _put(data: dict[str, Any], steps: list[str], value: Any) -> None:
    *way, last = steps
    for step in way:
        inner = data.get(step)
        if not isinstance(inner, dict):
            inner = data[step] = {}
        data = inner
    data[last] = value


def sent_parameter(request: Request, name: str) -> str | None:
    """The value that a request sends for a parameter, in its query or its body; None when it sends none."""
    if request.body[:1] == b"{":
        value: Any = orjson.loads(request.body)
        for step in name.split("."):
            value = value.get(step) if isinstance(value, dict) else None
        return None if value is None else str(value)
    text = request.body.decode("utf-8", "replace") if request.body else urlsplit(request.url).query
    return dict(parse_qsl(text, keep_blank_values=True, separator=_between(text))).get(name)


def written(value: object) -> str:
    """A value of a plan as a parameter's text; what has structure as JSON."""
    if isinstance(value, dict | list):
        return orjson.dumps(value).decode()
    return str(value).lower() if isinstance(value, bool) else "" if value is None else str(value)


def filled(value: Any, names: Mapping[str, Any]) -> Any:
    """A value of a plan with `{NAME}` in its texts replaced; a text that is nothing but one name keeps that value's type."""
    if isinstance(value, dict):
        return {key: filled(inner, names) for key, inner in value.items()}
    if isinstance(value, list):
        return [filled(inner, names) for inner in value]
    if not isinstance(value, str):
        return value
    whole = _PLACEHOLDER.fullmatch(value)
    if whole and whole[1] in names:
        return names[whole[1]]
    return _PLACEHOLDER.sub(lambda found: written(names[found[1]]) if found[1] in names else found[0], value)


def expanded(template: str, values: Mapping[str, Any]) -> str:
    """A URI Template (RFC 6570) filled in; names without a value are left out."""
    return str(_template(template).expand({name: written(value) for name, value in values.items()}))


@lru_cache(maxsize=256)
def _template(template: str) -> uritemplate.URITemplate:
    import uritemplate

    return uritemplate.URITemplate(template)


def names_in(value: Any) -> set[str]:
    """The names that the texts of a plan's value hold in braces."""
    if isinstance(value, dict):
        return {name for inner in value.values() for name in names_in(inner)}
    if isinstance(value, list):
        return {name for inner in value for name in names_in(inner)}
    return set(_PLACEHOLDER.findall(value)) if isinstance(value, str) else set()
