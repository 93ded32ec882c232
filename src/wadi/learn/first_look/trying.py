"""Trying an expression on a page: what it picks and where, and, when it picks nothing, which step of it stops matching."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from wadi.clean.stages import Unread
from wadi.crawl.kinds import Kind
from wadi.page.cells import Notes, read_column, value_of_texts
from wadi.page.document import Document, read_document
from wadi.page.expressions import CARRIED, BadExpression, compile_expression
from wadi.page.field import Field, Picked, Source, Steps, taken
from wadi.page.jsonpath import pointed
from wadi.page.nodes import Element, JsonNode, Node, Scope, attributes, elements, line_of, markup_of, path_of
from wadi.page.structured import data_scope
from wadi.problems import listed
from wadi.web.messages import Reply

_SNIPPET = 300
_NEAR = 4
_CSS_PIECE = re.compile(
    r"\s*[>+~\s]\s*(?:[\w*|-]+)?(?=[\s.#:\[>+~]|$)|\*|[\w-]+|[.#][\w-]+|\[[^\]]*\]"
    r"|::?[\w-]+(?:\((?:[^()]|\([^()]*\))*\))?"
)


@dataclass(frozen=True, slots=True)
class Match:
    """One thing that was picked: the texts taken of it, their values after the later stages, and where it stands.

    `problem` says why a value could not be read. `snippet` is the source around it, `marked` the part of it that matched.
    """

    texts: tuple[str, ...]
    values: tuple[Any, ...]
    problem: str
    attributes: dict[str, str]
    line: int | None
    path: str
    snippet: str
    marked: str


@dataclass(frozen=True, slots=True)
class Tried:
    """What a field came to on a document or in one row: `value` as a table would have it, `problem` why there is none.

    `count` is how many it picked, `matches` are all or the first of them looked at one by one.
    """

    expression: str
    matches: tuple[Match, ...]
    count: int
    value: Any = None
    problem: str = ""


@dataclass(frozen=True, slots=True)
class NoMatchHelp:
    """Why nothing matched: each step of the expression with how many it picks, and hints in words."""

    steps: tuple[tuple[str, int], ...] = ()
    hints: tuple[str, ...] = field(default=())


def try_on(name: str, spec: Field, scope: Scope, source: Source, *, places: int = 0, most: int | None = None) -> Tried:
    """What a field picks from a scope, through all its stages: the first `most` matches, the first `places` with place."""
    steps: Steps = []
    notes = Notes()
    (value,) = read_column(spec, [scope], source, notes, steps)
    document = source.document
    assert document is not None
    picked = next((step.nodes for step in steps if isinstance(step, Picked)), None)
    last = next((step.nodes for step in reversed(steps) if isinstance(step, Picked)), None)
    nodes: list[Node] = (picked if last is picked or last is None else last) or []
    if picked is None and value not in (None, []):
        nodes = [str(value)]
    found = (
        _match(node, spec, source, document, with_place=number < places) for number, node in enumerate(nodes[:most])
    )
    return Tried(name, tuple(found), len(nodes), value, "; ".join(_words(unread) for *_, unread in notes.unread))


def _words(unread: Unread) -> str:
    return f"{unread.what} [{unread.code}]" + (f"; {unread.why}" if unread.why else "")


def _match(node: Node, spec: Field, source: Source, document: Document, *, with_place: bool) -> Match:
    texts = tuple(text for text in taken(node, spec))
    each = replace(spec, many=True, join=None, split=None)
    values: list[Any] = []
    notes = Notes()
    for text in texts:
        values.append(next(iter(value_of_texts(each, [text], source.where, notes)), None))
    problem = "; ".join(_words(unread) for *_, unread in notes.unread)
    found = _place(node, document) if with_place else ({}, None, "", "")
    return Match(texts, tuple(values), problem, *found, texts[0] if texts else "")


def _place(node: Node, document: Document) -> tuple[dict[str, str], int | None, str, str]:
    if isinstance(node, JsonNode):
        return {}, None, pointed(node.path), ""
    if isinstance(node, Element):
        snippet = " ".join(markup_of(node).split())[:_SNIPPET]
        return attributes(node), line_of(node), path_of(node), snippet
    if isinstance(node, str) and node and (at := document.text.find(node)) >= 0:
        line = document.text.count("\n", 0, at) + 1
        around = document.text[max(0, at - 60) : at + len(node) + 60]
        return {}, line, "", " ".join(around.split())[:_SNIPPET]
    return {}, None, "", ""


def why_nothing(document: Document, scope: Scope, text: str) -> NoMatchHelp:
    """Which step of an expression stops matching, and what on the page is near to it."""
    expression = compile_expression(text)
    if document.kind == "json" and expression.language in ("css", "xpath"):
        return NoMatchHelp(hints=("the page is JSON; it is read with JSONPath:  $.…",))
    if document.kind == "xml" and expression.language == "json":
        return NoMatchHelp(hints=("the page is XML; it is read with CSS or XPath",))
    if (
        document.kind == "html"
        and expression.language == "json"
        and scope is document.root
        and not expression.is_of_carried
    ):
        places = ", ".join(f"$.{name}" for name in CARRIED)
        return NoMatchHelp(hints=(f"the page is HTML: the data that it carries are under {places}",))
    steps = []
    for prefix in _prefixes(text, expression.language):
        try:
            steps.append((prefix, len(compile_expression(prefix).nodes(scope, document))))
        except BadExpression:
            continue
        if steps[-1][1] == 0:
            break
    hints = list(dict.fromkeys(_hints(document, text, expression.language, steps)))
    return NoMatchHelp(tuple(steps), tuple(hints[:_NEAR]))


def _prefixes(text: str, language: str) -> list[str]:
    """The expression cut after each of its steps, the shortest first."""
    body = re.sub(r"^(?:css|xpath|json):\s*", "", text.strip())
    pieces = {"css": _css_pieces, "xpath": _xpath_pieces, "json": _json_pieces}.get(language)
    if pieces is None:
        return [text]
    found, prefixes = "", []
    for piece in pieces(body):
        found += piece
        cut = found.strip()
        if cut and cut not in ("/", "//", ".", "./", ".//", ">", "$"):
            prefixes.append(f"{language}:{cut}" if language != "json" else cut)
    return [re.sub(r"^(?:css|xpath):", "", prefix) if _speaks(prefix, language) else prefix for prefix in prefixes]


def _speaks(prefix: str, language: str) -> bool:
    """Whether an expression keeps its language without the prefix."""
    from wadi.page.expressions import language_of

    return language_of(re.sub(r"^(?:css|xpath):", "", prefix))[0] == language


def _css_pieces(body: str) -> list[str]:
    """`ol.register > li.x` → `ol`, `.register`, ` > li`, `.x`: simple selectors, each with the combinator before it."""
    first = body.split(",")[0]
    return [piece for piece in _CSS_PIECE.findall(first) if piece.strip()]


def _xpath_pieces(body: str) -> list[str]:
    """Steps, then each predicate by itself."""
    pieces: list[str] = []
    current, depth, quote = "", 0, ""
    for character in body:
        if not quote and depth == 0 and ((character == "/" and current.strip("./") != "") or character == "["):
            pieces.append(current)
            current = ""
        if quote:
            quote = "" if character == quote else quote
        elif character in "\"'":
            quote = character
        elif character in "[(":
            depth += 1
        elif character in "])":
            depth -= 1
        current += character
    pieces.append(current)
    return pieces


def _json_pieces(body: str) -> list[str]:
    return re.findall(r"\$|\.\.?(?:\*|[^.\[\]]+)|\[(?:[^\[\]]|\[[^\]]*\])*\]|\.\.", body)


def _hints(document: Document, text: str, language: str, steps: Sequence[tuple[str, int]]) -> Iterator[str]:
    failing = steps[-1][0] if steps and steps[-1][1] == 0 else text
    if language == "json":
        yield from _json_hints(document, failing)
        yield from _keys_there(document, steps)
        return
    names = re.findall(
        r"(?<![\w.#@:\-'\"=])([A-Za-z][\w-]*)(?![\w-]*\()",
        re.sub(r"\[[^\]]*\]|'[^']*'|\"[^\"]*\"|:[\w-]+(?:\([^)]*\))?|[.#][\w-]+", " ", failing),
    )
    tags = {element.tag for element in elements(document.top)}
    locals_ = {str(tag).rpartition("}")[2] for tag in tags}
    for name in names:
        if name in tags or name in ("and", "or", "div", "mod", "css", "xpath"):
            continue
        lower = name.lower()
        if lower in locals_ and document.kind == "html" and lower != name:
            yield f'HTML names are in small letters: "{lower}", not "{name}"'
        elif name == "tbody":
            yield "there is no tbody in this tree: leave the step out"
        elif name in locals_:
            yield f'"{name}" is in a namespace of its own: with the prefix of the document, or  *[local-name()="{name}"]'
        else:
            yield from (
                f'there is no "{name}", but "{near}"'
                for near in difflib.get_close_matches(name, [str(t) for t in tags], 2, 0.6)
            )
    yield from _class_hints(document, failing)
    if language == "xpath" and re.match(r"/html\b|/[a-z]", text):
        yield "a path from the root breaks with the smallest change of the page: try  //…  with a class or an id"
    if language == "css" and re.search(r"\s>\s", failing):
        loose = re.sub(r"\s*>\s*", " ", failing)
        count = _count(document, loose)
        if count:
            yield f'without ">" it matches {count}: {loose}'


def _class_hints(document: Document, failing: str) -> Iterator[str]:
    """Classes and ids that the expression names and the page does not have, with the nearest that it has."""
    wanted = re.findall(r"([.#])([A-Za-z_][\w-]*)", failing) if not failing.lstrip().startswith(("/", "(")) else []
    wanted += [
        ("." if kind == "class" else "#", name)
        for kind, name in re.findall(r"@(class|id)[^'\"]*['\"]([\w-]+)['\"]", failing)
    ]
    for mark, name in wanted:
        attribute = "class" if mark == "." else "id"
        known = {token for element in elements(document.top) for token in (element.attr(attribute) or "").split()}
        if name in known:
            continue
        same = [token for token in known if token.lower() == name.lower()]
        for near in same or difflib.get_close_matches(name, sorted(known), 2, 0.6):
            count = _count(document, f'[{attribute}~="{near}"]')
            yield f'no element has the {attribute} "{name}", but {count} have "{near}"'


def _json_hints(document: Document, failing: str) -> Iterator[str]:
    wanted = re.findall(r"[.'\"]([A-Za-z_][\w-]*)", failing)
    known: set[str] = set()
    _keys(document.data if document.kind == "json" else data_scope(document).value, known, 0)
    for name in wanted:
        if name not in known:
            yield from (
                f'no object has the key "{name}", but some have "{near}"'
                for near in difflib.get_close_matches(name, sorted(known), 2, 0.5)
            )
    if isinstance(document.data, list) and failing.startswith("$."):
        yield "the document is a list:  $[*]  are its members"


def _keys_there(document: Document, steps: Sequence[tuple[str, int]]) -> Iterator[str]:
    """The keys of the objects that the last step with a match picks."""
    last = next((step for step, count in reversed(steps) if count), None)
    nodes = compile_expression(last).nodes(document.scope, document) if last else []
    keys = dict.fromkeys(
        k for n in nodes[:50] if isinstance(n, JsonNode) and isinstance(n.value, dict) for k in n.value
    )
    if keys:
        yield f"keys there: {listed(keys)}"


def _keys(value: Any, known: set[str], depth: int) -> None:
    if depth > 8:
        return
    if isinstance(value, dict):
        known.update(value)
        for inner in value.values():
            _keys(inner, known, depth + 1)
    elif isinstance(value, list):
        for inner in value[:50]:
            _keys(inner, known, depth + 1)


def _count(document: Document, expression: str) -> int:
    try:
        return len(compile_expression(expression).nodes(document.scope, document))
    except BadExpression:
        return 0


MOST_HINTS = 2


def near_misses(kind: Kind, reply: Reply) -> list[str]:
    """What on a page without rows is near to the expression that picks none there."""
    document = read_document(
        reply.body, reply.url, reply.content_type, parse=kind.parse, sheet=kind.sheet, header=kind.heading_line
    )
    hints = [hint for rows in kind.rows for hint in why_nothing(document, document.scope, rows.text).hints]
    return list(dict.fromkeys(hints))[:MOST_HINTS]
