"""A page in the forms in which it is looked at: text, Markdown, HTML as it came or without what is active, the data that it
carries."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any, Literal

from wadi.page.document import Document
from wadi.page.expressions import BadExpression, compile_expression
from wadi.page.nodes import Element, JsonNode, Node, first, markup_of
from wadi.page.structured import structured
from wadi.page.text import text_of
from wadi.problems import Problem, UsageError

Form = Literal["text", "markdown", "html", "safe", "json"]


def shown_as(document: Document, form: Form, part: str | None = None, *, without: Collection[str] = ()) -> str | Any:
    """The page, or what an expression picks on it, in a form: a text, or for "json" a value; Markdown `without` some tags, such
    as links (a) and pictures (img). Raises LookupError where nothing is picked, UsageError for an expression or a form that does
    not fit the page."""
    if part is not None:
        try:
            found = compile_expression(part).nodes(document.scope, document)
        except BadExpression as error:
            raise UsageError(Problem("bad-expression", f"{part}: {error.what}", now=error.now)) from error
        if not found:
            raise LookupError(f"{part} picks nothing on this page")
        if form == "json":
            return [node.value if isinstance(node, JsonNode) else _as_text(node, "text") for node in found]
        return "\n".join(_as_text(node, form, without) for node in found)
    if form == "json":
        return document.data if document.kind == "json" else structured(document) if document.kind == "html" else {}
    if form == "html" or document.root is None:
        return document.text
    body = first(document.top, "body")
    return _element(body if body is not None else document.top, form, without)


def _as_text(node: Node, form: Form, without: Collection[str] = ()) -> str:
    return _element(node, form, without) if isinstance(node, Element) else str(node)


def _element(element: Element, form: Form, without: Collection[str]) -> str:
    from wadi.page.markup import clean_html, markdown_of

    if form == "markdown":
        return markdown_of(element, without=without)
    if form == "safe":
        return clean_html(element)
    return markup_of(element) if form == "html" else text_of(element)
