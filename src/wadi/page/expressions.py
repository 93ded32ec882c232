"""Expressions: one string whose form says its language, compiled once, evaluated on a document or a row.

CSS Selectors (Level 4) are matched by `selectors`; XPath 1.0 is lxml's; JSONPath is RFC 9535's; `re:` searches the page's
source. What is not known is refused by name, never answered wrongly.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import TYPE_CHECKING, Any, Literal

from lxml import etree

from wadi.page.jsonpath import BadPath, JsonNode, compile_path
from wadi.page.selectors.index import Index
from wadi.page.selectors.match import Matcher
from wadi.page.selectors.parse import BadSelector, parse_selectors

if TYPE_CHECKING:
    from wadi.page.document import Document

Language = Literal["css", "xpath", "json", "re"]
Node = etree._Element | str | float | bool | JsonNode
"""An element, a JSON value in its place, or what an XPath gives else: a string, a number, a truth value."""
Scope = etree._Element | JsonNode
"""What an expression starts from: the page's root or value, or a row."""

CARRIED = ("state", "jsonld", "microdata", "rdfa", "meta")
"""What pages of HTML carry for machines, by the first key that JSONPath finds it under (`structured`)."""
_OF_CARRIED = re.compile(rf"""\$(?:\.|\[['"])(?:{"|".join(CARRIED)})\b""")
_PREFIX = re.compile(r"(css|xpath|json|re):(?!:)\s*", re.IGNORECASE)
_AXES = (
    "ancestor ancestor-or-self attribute child descendant descendant-or-self following following-sibling "
    "namespace parent preceding preceding-sibling self"
).split()
_FUNCTIONS = (
    "boolean ceiling comment concat contains count false floor id lang last local-name name namespace-uri node "
    "normalize-space not number position processing-instruction round starts-with string string-length "
    "substring substring-after substring-before sum text translate true"
).split()
_XPATH = re.compile(
    rf"(?:[/(@]|\.\.?$|\.\.?/|(?:{'|'.join(_AXES)})\s*::|(?:{'|'.join(_FUNCTIONS)})\s*\()",
)
_NAME_PREFIX = re.compile(r"(?<![\w.\-])([A-Za-z_][\w.\-]*):(?!:)(?=[A-Za-z_*])")
_STRINGS = re.compile(r"'[^']*'|\"[^\"]*\"")
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
    """A compiled expression. `whole_document` tells that it searches from the document's root, wherever it is applied."""

    text: str
    language: Language
    pick: Callable[[Any, Document], list[Node]] = field(repr=False)
    whole_document: bool = False
    matcher: Matcher | None = field(default=None, repr=False, compare=False)
    """Of CSS: what matches in HTML."""

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

        On a page of HTML, JSONPath searches the data that the page carries.
        """
        if self.language == "json" and scope is document.root and document.kind == "html":
            from wadi.page.structured import data_scope

            scope = data_scope(document)
        if isinstance(scope, JsonNode) != (self.language == "json") and self.language != "re":
            return []
        return self.pick(scope, document)

    def stands(self, scope: Scope, document: Document) -> bool:
        """Whether it picks anything; of a selector the first that matches is enough."""
        if self.matcher is not None and document.kind == "html":
            return self.matcher.stands_below(scope)  # type: ignore[arg-type]
        return bool(self.nodes(scope, document))


def language_of(text: str) -> tuple[str, str]:
    """The language of an expression and the expression without its prefix: ("css", "h3 a")."""
    stripped = text.strip()
    prefix = _PREFIX.match(stripped)
    if prefix:
        return prefix[1].lower(), stripped[prefix.end() :]
    if stripped.startswith("$"):
        return "json", stripped
    return ("xpath" if _XPATH.match(stripped) else "css"), stripped


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


def first_of(expressions: Sequence[Expression], scope: Scope, document: Document) -> list[Node]:
    """The nodes of the first expression that picks something."""
    for expression in expressions:
        found = expression.nodes(scope, document)
        if found:
            return found
    return []


def _xpath_expression(text: str, body: str) -> Expression:
    prefixes = sorted(set(_NAME_PREFIX.findall(_STRINGS.sub("''", body))) - set(_AXES))
    path = _xpath(body, dict.fromkeys(prefixes, "urn:any"))

    def pick(scope: etree._Element, document: Document) -> list[Node]:
        if not prefixes:
            return _as_list(path(scope))
        known = document.namespaces
        if not all(prefix in known for prefix in prefixes):
            return []
        return _as_list(_xpath_with(body, tuple((prefix, known[prefix]) for prefix in prefixes))(scope))

    return Expression(text, "xpath", pick, bool(_WHOLE_DOCUMENT.match(body)))


@lru_cache(maxsize=256)
def _xpath_with(body: str, namespaces: tuple[tuple[str, str], ...]) -> etree.XPath:
    return _xpath(body, dict(namespaces))


def _css_expression(text: str, body: str) -> Expression:
    try:
        selectors = parse_selectors(body)
    except BadSelector as error:
        raise BadExpression(body, f"CSS: {error.what}", error.offset, error.now) from error
    for_html, for_xml = Matcher(selectors, html=True), Matcher(selectors, html=False)

    def pick(scope: etree._Element, document: Document) -> list[Node]:
        if document.kind == "xml":
            return list(for_xml.select(scope))
        return list(for_html.select(scope, index_of(scope, document)))

    return Expression(text, "css", pick, matcher=for_html)


def index_of(scope: etree._Element, document: Document) -> Index | None:
    """The index of a row, made when it is first asked and kept until another row is. The whole page is walked by tag in C,
    which is faster than an index for the few expressions that ask it."""
    if scope is document.root:
        return None
    index: Index | None = document.__dict__.get("_index")
    if index is None or index.scope is not scope:
        index = document.__dict__["_index"] = Index(scope)
    return index


def _json_expression(text: str, body: str) -> Expression:
    try:
        query = compile_path(body)
    except BadPath as error:
        raise BadExpression(body, f"JSONPath: {error}", error.offset) from error

    def pick(scope: JsonNode, document: Document) -> list[Node]:
        return [JsonNode(node.value, scope.path + node.path) for node in query(scope.value)]

    return Expression(text, "json", pick)


def _regex_expression(text: str, body: str) -> Expression:
    try:
        pattern = re.compile(body)
    except re.error as error:
        raise BadExpression(body, f"regular expression: {error.msg}", error.pos) from error
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


def _as_list(result: object) -> list[Node]:
    if isinstance(result, list):
        return result
    assert isinstance(result, str | float | bool)
    return [result]


def _xpath(body: str, namespaces: Mapping[str, str]) -> etree.XPath:
    try:
        path = etree.XPath(body, namespaces=dict(namespaces) or None, smart_strings=False)
    except etree.XPathSyntaxError as error:
        offset = error.error_log[0].column if len(error.error_log) else None
        raise BadExpression(body, f"XPath: {str(error).lower()}", offset) from error
    try:
        # Unknown functions and prefixes show only when the expression is run.
        path(etree.Element("html"))
    except etree.XPathEvalError as error:
        what = str(error).lower()
        now = "XPath 1.0 has no such function" if "function" in what else ""
        raise BadExpression(body, f"XPath: {what}", None, now) from error
    return path
