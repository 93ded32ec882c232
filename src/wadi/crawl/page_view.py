"""A page as code of the analyst's own sees it: texts, values and rows by the expressions and fields of plans."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from datetime import date
from typing import Any

from wadi.crawl.requests import source_of
from wadi.page.cells import Notes, read_column
from wadi.page.document import Document
from wadi.page.expressions import BadExpression, Expression, compile_expression
from wadi.page.field import Field
from wadi.page.json_values import text_of_value
from wadi.page.nodes import Element, JsonNode, Scope, markup_of
from wadi.page.text import text_of
from wadi.problems import Problem, UsageError, shortened
from wadi.store.outcome import as_stored
from wadi.urls import without_secret
from wadi.web.messages import Reply

Said = str | dict[str, Any]
"""A field: an expression, or the keys that it has in a plan."""


class Readable(ABC):
    """What is read by expressions: a page, or a part of one. A field is an expression, or the keys that it has in a plan.

    What cannot be read is None, as what is missing. Raises UsageError for an expression or a field that means nothing.
    """

    document: Document
    reply: Reply

    @property
    @abstractmethod
    def scope(self) -> Scope:
        """What expressions start from."""

    @property
    def text(self) -> str:
        """The text as a reader sees it; of JSON its text."""
        return text_of(self.scope) if isinstance(self.scope, Element) else text_of_value(self.scope.value)

    @property
    def data(self) -> Any:
        """The value of JSON; None of an element."""
        return self.scope.value if isinstance(self.scope, JsonNode) else None

    def select(self, expression: str) -> list[PagePart]:
        """The elements, or the values of JSON, that an expression picks."""
        nodes = expression_of(expression).nodes(self.scope, self.document)
        return [PagePart(self.document, self.reply, node) for node in nodes if isinstance(node, Element | JsonNode)]

    def value(self, at: Said, **keys: Any) -> Any:
        """The value of a field: `value("h1")`, `value("b", type="number")`; None where there is none."""
        return _read(self, field_of("value", _with(at, keys)))

    def values(self, at: Said, **keys: Any) -> list[Any]:
        """Every value of a field."""
        found = _read(self, field_of("value", {"many": True} | _with(at, keys)))
        return found if isinstance(found, list) else [found]

    def records(self, rows: str, **fields: Said) -> list[dict[str, Any]]:
        """The rows that an expression picks, each with its fields: `records("li", name="h3 a", flow={"at": "b"})`."""
        compiled = {name: field_of(name, said) for name, said in fields.items()}
        return [{name: _read(row, spec) for name, spec in compiled.items()} for row in self.select(rows)]


@dataclass(frozen=True, repr=False)
class PagePart(Readable):
    """A part of a page: an element, or a value of JSON."""

    document: Document
    reply: Reply
    node: Scope

    def __repr__(self) -> str:
        return f"<part of a page: {self.markup[:80] if isinstance(self.node, Element) else self.text[:80]}>"

    @property
    def scope(self) -> Scope:
        return self.node

    @property
    def markup(self) -> str:
        """The element as HTML; of JSON its text."""
        return markup_of(self.node) if isinstance(self.node, Element) else self.text

    def attr(self, name: str) -> str | None:
        """An attribute of the element as it is written; None where it has none."""
        found = self.node.attr(name) if isinstance(self.node, Element) else None
        return None if found is None else str(found)


@dataclass(frozen=True, repr=False)
class Page(Readable):
    """A page with the reply that it came in."""

    document: Document
    reply: Reply

    def __repr__(self) -> str:
        document = self.document
        title = f' "{shortened(document.title, 60)}"' if document.root is not None and document.title else ""
        return (
            f"<wadi page {without_secret(self.reply.url)}{title}: {document.parsed_as}, {len(self.reply.body):,} bytes>"
        )

    @property
    def scope(self) -> Scope:
        return self.document.scope

    @property
    def url(self) -> str:
        """The URL that the page came from, after redirects."""
        return self.reply.url

    @property
    def status(self) -> int:
        return self.reply.status

    @property
    def title(self) -> str:
        return self.document.title

    @property
    def body(self) -> bytes:
        """What came, byte by byte."""
        return self.reply.body

    @property
    def markup(self) -> str:
        """The page's source, decoded."""
        return self.document.text

    def header(self, name: str) -> str:
        """A header field of the reply; empty where there is none."""
        return self.reply.header(name)

    def resolve(self, reference: str) -> str:
        """The absolute URL of a reference on the page. Raises ValueError."""
        return self.document.resolve(reference)


def expression_of(text: str) -> Expression:
    """The expression. Raises UsageError."""
    try:
        return compile_expression(text)
    except BadExpression as error:
        raise UsageError(Problem("bad-expression", f"{text}: {error.what}", now=error.now)) from error


def field_of(name: str, said: Said) -> Field:
    """The field that an expression or a plan's keys say. Raises UsageError."""
    from pydantic import ValidationError

    from wadi.clean.errors import BadSetting
    from wadi.plan import fields

    this_year = date.today().year  # noqa: DTZ011
    try:
        if isinstance(said, str):
            return fields.field_of(said, {}, this_year)[1]
        return fields.field_of(None, said, this_year)[1]
    except BadExpression as error:
        raise UsageError(Problem("bad-expression", f"{name}: {error.text}: {error.what}", now=error.now)) from error
    except BadSetting as error:
        raise UsageError(Problem("bad-expression", f"{name}: {error.what}", now=error.now)) from error
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        what = f"{name}: {'.'.join(map(str, first['loc']))}: {first['msg']}"
        raise UsageError(Problem("wrong-value", what)) from error


def _with(at: Said, keys: dict[str, Any]) -> dict[str, Any]:
    return {"at": at, **keys} if isinstance(at, str) else {**at, **keys}


def _read(where: Readable, spec: Field) -> Any:
    (value,) = read_column(spec, [where.scope], source_of(where.document, where.reply), Notes())
    return as_stored(value)
