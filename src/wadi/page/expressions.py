"""Expressions: one string whose form says its language, compiled once, evaluated on a document or a row.

CSS Selectors (Level 4), XPath 1.0, JSONPath (RFC 9535), and `re:` for what is searched in the page's source. What is not
known is refused by name and with its place, never answered wrongly.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import TYPE_CHECKING, Any, Literal

from wadi.clean.patterns import BadPattern, pattern_of
from wadi.page import css, xpath
from wadi.page.jsonpath import BadPath, compile_path, steps_of
from wadi.page.nodes import HtmlElement, JsonNode, Node, Scope

if TYPE_CHECKING:
    from wadi.page.document import Document

Language = Literal["css", "xpath", "json", "re"]

CARRIED = ("state", "jsonld", "microdata", "rdfa", "meta")
"""What pages of HTML carry for machines, by the first key that JSONPath finds it under (`structured`)."""
_OF_CARRIED = re.compile(rf"""\$(?:\.|\[['"])(?:{"|".join(CARRIED)})\b""")
_PREFIX = re.compile(r"(css|xpath|json|re):(?!:)\s*", re.IGNORECASE)
_XPATH = re.compile(
    rf"(?:[/(@]|\.\.?$|\.\.?/|(?:{'|'.join(xpath.AXES)})\s*::|(?:{'|'.join([*xpath.FUNCTIONS, *xpath.NODE_TESTS])})\s*\()",
)
_WHOLE_DOCUMENT = re.compile(r"\(*\s*/")


class BadExpression(ValueError):
    """An expression that cannot be read. `offset` counts characters in the text as it was written, from 0."""

    def __init__(self, text: str, what: str, offset: int | None = None, now: str = "") -> None:
        super().__init__(what)
        self.text = text
        self.what = what
        self.offset = offset
        self.now = now


@dataclass(frozen=True)
class Expression:
    """A compiled expression. `whole_document` tells that it searches from the document's root, wherever it is applied.
    `selector` is that of CSS, `steps` are those of a JSONPath that leads to one value at most."""

    text: str
    language: Language
    pick: Callable[[Any, Document], list[Node]] = field(repr=False, compare=False)
    whole_document: bool = False
    selector: css.Selector | None = field(default=None, repr=False, compare=False)
    steps: tuple[str | int, ...] | None = None

    @property
    def reads(self) -> str:
        """The kind of document that the expression reads: "tree", "json", or "any"."""
        return {"css": "tree", "xpath": "tree", "json": "json", "re": "any"}[self.language]

    @property
    def is_of_carried(self) -> bool:
        """Whether it is a JSONPath into the data that pages of HTML carry."""
        return self.language == "json" and _OF_CARRIED.match(language_of(self.text)[1]) is not None

    def nodes(self, scope: Scope, document: Document) -> list[Node]:
        """What the expression picks below `scope`, in document order; empty when it picks nothing or cannot read it.

        On a page of HTML, JSONPath searches the data that the page carries. Raises BadExpression where an XML document
        cannot be asked so.
        """
        return self.pick(scope, document)

    def stands(self, scope: Scope, document: Document) -> bool:
        """Whether it picks anything."""
        return bool(self.pick(scope, document))


def language_of(text: str) -> tuple[str, str]:
    """The language of an expression and the expression without its prefix: ("css", "h3 a")."""
    stripped = text.strip()
    prefix = _PREFIX.match(stripped)
    if prefix:
        return prefix[1].lower(), stripped[prefix.end() :]
    if stripped.startswith("$"):
        return "json", stripped
    return ("xpath" if _XPATH.match(stripped) else "css"), stripped


def for_browser(text: str) -> str:
    """A CSS or XPath expression without our prefix; an XPath begins with "/", "(" or "./" then, or is ".". Raises BadExpression
    for another language."""
    language, body = language_of(text)
    if language not in ("css", "xpath") or not body:
        raise BadExpression(text, "a browser finds elements by CSS or XPath", 0)
    return body if language == "css" or body == "." or body.startswith(("/", "(", "./")) else f"({body})"


@lru_cache(maxsize=2048)
def compile_expression(text: str) -> Expression:
    """The expression compiled. Raises BadExpression with the offset of the mistake where the language tells it."""
    language, body = language_of(text)
    if not body:
        raise BadExpression(text, "the expression is empty", 0)
    start = text.find(body)
    try:
        return _COMPILERS[language](text, body)
    except BadExpression as error:
        offset = None if error.offset is None else error.offset + start
        raise BadExpression(text, error.what, offset, error.now) from error
    except RecursionError as error:
        raise BadExpression(text, "it is nested too deeply", 0) from error


def first_of(expressions: Sequence[Expression], scope: Scope, document: Document) -> list[Node]:
    """The nodes of the first expression that picks something."""
    for expression in expressions:
        found = expression.pick(scope, document)
        if found:
            return found
    return []


def _css_expression(text: str, body: str) -> Expression:
    try:
        selector = css.selector_of(body)
    except css.BadSelector as error:
        raise BadExpression(body, f"CSS: {error.what}", error.offset, error.now) from error
    inside, only_inside = selector.inside, not selector.siblings

    def pick(scope: Any, document: Document) -> list[Node]:
        if scope.__class__ is HtmlElement:
            if scope is document.root:
                return document.tree.select(selector.page)  # type: ignore[return-value]
            return scope.select(inside) if only_inside else selector.below(scope)  # type: ignore[return-value]
        if document.kind != "xml" or isinstance(scope, JsonNode):
            return []
        try:
            return css.below_xml(body, scope, is_page=scope is document.root)
        except css.BadSelector as error:
            raise BadExpression(text, f"CSS: {error.what}", error.offset, error.now) from error

    return Expression(text, "css", pick, selector=selector)


def _xpath_expression(text: str, body: str) -> Expression:
    try:
        xpath.check(body)
    except xpath.BadXPath as error:
        raise BadExpression(body, f"XPath: {error.what}", error.offset, error.now) from error
    prefixes = xpath.prefixes_of(body)

    def pick(scope: Any, document: Document) -> list[Node]:
        if document.kind == "json" or isinstance(scope, JsonNode):
            return []
        if not all(prefix in document.namespaces for prefix in prefixes):
            return []
        return _found_by_xpath(body, scope, document, prefixes)

    return Expression(text, "xpath", pick, bool(_WHOLE_DOCUMENT.match(body)))


def _found_by_xpath(body: str, scope: Any, document: Document, prefixes: Sequence[str]) -> list[Node]:
    try:
        if document.kind == "html":
            return xpath.below_html(body, scope)
        known = document.namespaces
        return xpath.below_xml(body, scope, tuple((prefix, known[prefix]) for prefix in prefixes))
    except (xpath.BadXPath, ValueError, TypeError) as error:
        raise BadExpression(body, f"XPath: {error}") from error


def _json_expression(text: str, body: str) -> Expression:
    try:
        query, steps = compile_path(body), steps_of(body)
    except BadPath as error:
        raise BadExpression(body, f"JSONPath: {error}", error.offset) from error

    def pick(scope: Any, document: Document) -> list[Node]:
        if document.beside is not None and (scope is document.root or _is_beside(scope, document)):
            return [
                JsonNode(node.value, (place, *node.path))
                for place, value in enumerate(document.beside)
                for node in query(value)
            ]
        if document.kind == "html" and scope is document.root:
            from wadi.page.structured import data_scope

            scope = data_scope(document)
        if not isinstance(scope, JsonNode):
            return []
        return [JsonNode(node.value, scope.path + node.path) for node in query(scope.value)]

    return Expression(text, "json", pick, steps=steps)


def _is_beside(scope: Any, document: Document) -> bool:
    return isinstance(scope, JsonNode) and scope.value is document.beside


def _regex_expression(text: str, body: str) -> Expression:
    try:
        pattern = pattern_of(body)
    except BadPattern as error:
        raise BadExpression(body, f"regular expression: {error.what}", error.offset) from error
    group = 1 if pattern.groups else 0

    def pick(scope: Any, document: Document) -> list[Node]:
        return [match[group] or "" for match in pattern.finditer(document.text)]

    return Expression(text, "re", pick, whole_document=True)


_COMPILERS: Mapping[str, Callable[[str, str], Expression]] = {
    "css": _css_expression,
    "xpath": _xpath_expression,
    "json": _json_expression,
    "re": _regex_expression,
}
