"""Trying an expression on a page: what it picks and where, and, when it picks nothing, which step of it stops matching."""

from __future__ import annotations

import difflib
import re
import time
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

from lxml import etree

from wadi.clean.stages import Unread
from wadi.clean.types import Where
from wadi.crawl.kinds import Field, compile_field
from wadi.crawl.picking import taken
from wadi.learn.places import line_of, path_of
from wadi.page.document import Document
from wadi.page.expressions import CARRIED, BadExpression, Expression, Node, Scope, compile_expression
from wadi.page.jsonpath import JsonNode, pointed
from wadi.page.structured import data_scope
from wadi.page.text import text_of
from wadi.plan.model import FieldPlan
from wadi.problems import listed

_SNIPPET = 300
_NEAR = 4
_CSS_PIECE = re.compile(
    r"\s*[>+~\s]\s*(?:[\w*|-]+)?(?=[\s.#:\[>+~]|$)|\*|[\w-]+|[.#][\w-]+|\[[^\]]*\]"
    r"|::?[\w-]+(?:\((?:[^()]|\([^()]*\))*\))?"
)


@dataclass(frozen=True, slots=True)
class Match:
    """One thing that was picked: its text after `attr` or `take`, the value after the later stages, and where it stands.

    `problem` says why the value could not be read. `snippet` is the source around it, `marked` the part of it that matched.
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
    """What an expression came to on a document or in one row: `count` matches, all or the first of them looked at."""

    expression: str
    matches: tuple[Match, ...]
    count: int


@dataclass(frozen=True, slots=True)
class NoMatchHelp:
    """Why nothing matched: each step of the expression with how many it picks, and hints in words."""

    steps: tuple[tuple[str, int], ...] = ()
    hints: tuple[str, ...] = field(default=())


def field_of(expression: str, stages: dict[str, Any], this_year: int) -> Field:
    """A field of a plan made from an expression and the later stages' keys. Raises BadExpression, BadSetting."""
    plan = FieldPlan.model_validate({"at": [expression], **stages})
    return compile_field("value", plan, this_year)


def try_on(document: Document, scope: Scope, one: Field, *, places: int = 0, most: int | None = None) -> Tried:
    """What a field's expression picks from a scope, through all its stages: the first `most`, the first `places` with place."""
    (expression,) = one.expressions
    nodes = expression.nodes(scope, document)
    found = (_match(node, one, document, with_place=number < places) for number, node in enumerate(nodes[:most]))
    return Tried(expression.text, tuple(found), len(nodes))


def _match(node: Node, one: Field, document: Document, *, with_place: bool) -> Match:
    texts = tuple(taken(node, one))
    values: list[Any] = []
    problems: list[str] = []
    for text in texts:
        value = one.stages.value_of(text, Where(document.base, time.time()))
        if isinstance(value, Unread):
            problems.append(f"{value.what} [{value.code}]" + (f"; {value.why}" if value.why else ""))
            values.append(None)
        else:
            values.append(value)
    attributes, line, path, snippet = _place(node, document) if with_place else ({}, None, "", "")
    marked = texts[0] if texts else ""
    return Match(texts, tuple(values), "; ".join(problems), attributes, line, path, snippet, marked)


def _place(node: Node, document: Document) -> tuple[dict[str, str], int | None, str, str]:
    if isinstance(node, JsonNode):
        return {}, None, pointed(node.path), ""
    if isinstance(node, etree._Element):
        attributes = {str(n): str(v) for n, v in node.attrib.items()} if isinstance(node.tag, str) else {}
        source = str(
            etree.tostring(
                node, encoding="unicode", method="html" if document.kind == "html" else "xml", with_tail=False
            )
        )
        return attributes, line_of(node, document), path_of(node), " ".join(source.split())[:_SNIPPET]
    if isinstance(node, str) and node and (at := document.text.find(node)) >= 0:
        line = document.text.count("\n", 0, at) + 1
        around = document.text[max(0, at - 60) : at + len(node) + 60]
        return {}, line, "", " ".join(around.split())[:_SNIPPET]
    return {}, None, "", ""


def scopes_of(document: Document, rows: Expression | None) -> list[Scope]:
    """The rows that an expression picks, or the whole document."""
    if rows is None:
        return [document.scope]
    return [node for node in rows.nodes(document.scope, document) if isinstance(node, etree._Element | JsonNode)]


def texts_of(nodes: Iterable[Node]) -> Iterator[str]:
    """The plain texts of nodes."""
    for node in nodes:
        if isinstance(node, etree._Element):
            yield text_of(node)
        else:
            value = node.value if isinstance(node, JsonNode) else node
            if value is not None:
                yield str(value)


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
        return NoMatchHelp(hints=(f"the page is HTML: the data that it carries stand under {places}",))
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
    tags = {element.tag for element in document.tree.iter(etree.Element)}
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
        known = {
            token
            for element in document.tree.iterfind(f".//*[@{attribute}]")
            for token in (element.get(attribute) or "").split()
        }
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
