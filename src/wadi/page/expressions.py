"""Expressions: one string whose form says its language, compiled once, evaluated on a document or a row.

CSS Selectors go through their translation to XPath; XPath 1.0 is lxml's. What the translation does not know is
refused by name, never answered wrongly.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Literal

from lxml import etree

Language = Literal["css", "xpath"]
Node = etree._Element | str | float | bool
"""An element, or what an XPath gives else: an attribute's or text node's string, a number, a truth value."""

_PREFIX = re.compile(r"(css|xpath|json|re):\s*", re.IGNORECASE)
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
_WHOLE_DOCUMENT = re.compile(r"\(*\s*/")
_LEADING = re.compile(r"\s*(?::scope\s*)?([>+~])\s*|\s*:scope\s+(?=[^\s>+~,)])")
_AXIS_OF = {
    None: "descendant::",
    ">": "child::",
    "+": "following-sibling::*[1]/self::",
    "~": "following-sibling::",
}
_NOT_TRANSLATED = (
    (re.compile(r":(?:not|is|where|has)\([^()]*,"), "a list inside :not(), :is(), :where() or :has()"),
    (re.compile(r":nth-(?:last-)?child\([^()]*\bof\b"), ":nth-child(… of …)"),
    (re.compile(r":(?:contains|any-link|open|defined|read-only|read-write)\b"), "this pseudo-class"),
)


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
    paths: tuple[etree.XPath, ...]
    whole_document: bool = False

    def nodes(self, scope: etree._Element) -> list[Node]:
        """What the expression picks below `scope`, in document order; empty when it picks nothing."""
        if len(self.paths) == 1:
            return _as_list(self.paths[0](scope))
        return _in_document_order([_as_list(path(scope)) for path in self.paths])


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
        if language == "xpath":
            return Expression(text, "xpath", (_xpath(body),), bool(_WHOLE_DOCUMENT.match(body)))
        if language == "css":
            return Expression(text, "css", tuple(_css(part, at) for part, at in _selectors(body)))
    except BadExpression as error:
        offset = None if error.offset is None else error.offset + start
        raise BadExpression(text, error.what, offset, error.now) from error
    raise BadExpression(text, f'"{language}:" expressions are read in JSON and text, which this page kind is not', 0)


def first_of(expressions: Sequence[Expression], scope: etree._Element) -> list[Node]:
    """The nodes of the first expression that picks something."""
    for expression in expressions:
        found = expression.nodes(scope)
        if found:
            return found
    return []


def _as_list(result: object) -> list[Node]:
    if isinstance(result, list):
        return result
    assert isinstance(result, str | float | bool)
    return [result]


def _in_document_order(found: list[list[Node]]) -> list[Node]:
    """Several selectors' elements, each once, as they stand in the document."""
    elements = {id(node): node for nodes in found for node in nodes if isinstance(node, etree._Element)}
    if len(elements) < 2:
        return list(elements.values())
    first = next(iter(elements.values()))
    return [node for node in first.getroottree().getroot().iter() if id(node) in elements]


def _xpath(body: str) -> etree.XPath:
    try:
        path = etree.XPath(body, smart_strings=False)
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


def _selectors(body: str) -> list[tuple[str, int]]:
    """The selectors of a list with their offsets, split at commas outside brackets, parentheses and strings."""
    parts: list[tuple[str, int]] = []
    depth, start, quote = 0, 0, ""
    for index, character in enumerate(body):
        if quote:
            quote = "" if character == quote and body[index - 1] != "\\" else quote
        elif character in "\"'":
            quote = character
        elif character in "([":
            depth += 1
        elif character in ")]":
            depth -= 1
        elif character == "," and depth == 0:
            parts.append((body[start:index], start))
            start = index + 1
    parts.append((body[start:], start))
    return parts


def _css(selector: str, start: int) -> etree.XPath:
    from cssselect import HTMLTranslator, SelectorError
    from cssselect.parser import parse

    leading = _LEADING.match(selector)
    combinator = leading[1] if leading else None
    cut = leading.end() if leading else 0
    rest = selector[cut:]
    _refuse_untranslated(rest, start + cut)
    try:
        (tree,) = parse(rest)
        if tree.pseudo_element:
            raise BadExpression(
                selector,
                f'CSS: "::{tree.pseudo_element}" is no element of the page',
                start + cut + max(rest.find("::"), 0),
                'text is what a field takes anyway; an attribute is taken with  attr = "…"',
            )
        path = HTMLTranslator().selector_to_xpath(tree, prefix=_AXIS_OF[combinator])
        return etree.XPath(path, smart_strings=False)
    except SelectorError as error:
        what, offset = _css_mistake(str(error))
        raise BadExpression(selector, f"CSS: {what}", None if offset is None else start + cut + offset) from error


def _refuse_untranslated(selector: str, start: int) -> None:
    for pattern, what in _NOT_TRANSLATED:
        found = pattern.search(selector)
        if found:
            raise BadExpression(
                selector,
                f"CSS: {what} is not supported yet",
                start + found.start(),
                "write it as XPath, or as two selectors",
            )
    inner_scope = selector.find(":scope")
    if inner_scope >= 0:
        raise BadExpression(selector, "CSS: :scope stands only at the beginning of a selector", start + inner_scope)


def _css_mistake(message: str) -> tuple[str, int | None]:
    """The translation library's message in few words, and the offset that it names."""
    found = re.search(r"got <(.*) at (\d+)>", message)
    if not found:
        return message.rstrip(".").lower(), None
    token = found[1]
    unexpected = "the end" if token == "EOF" else token.split(" ", 1)[-1]
    expected = message.split(",")[0].replace("Expected ", "")
    return f"expected {expected}, found {unexpected}", int(found[2])
