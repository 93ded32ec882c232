"""Everything that `wadi inspect` knows about a page, as one value: the reply, the kind of page, rows, paging, data."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass, field
from itertools import product
from string import ascii_uppercase
from typing import Any

from wadi.learn.clues.field_guess import FieldGuess
from wadi.learn.clues.surroundings import is_aside
from wadi.learn.clues.tables import LabelsFound, TableFound, definition_lists, html_tables
from wadi.learn.first_look.fields import field_candidates
from wadi.learn.first_look.kind import KindGuess, page_kind
from wadi.learn.first_look.outline import JsonRows, PathFound, json_rows, outline
from wadi.learn.first_look.page_fields import page_fields
from wadi.learn.first_look.paging import Paging, paging_of
from wadi.learn.first_look.rows import RowsGuess, row_candidates
from wadi.learn.first_look.sources import Source, data_sources
from wadi.page.document import Document
from wadi.page.nodes import attributes, elements
from wadi.page.structured import structured
from wadi.page.text import text_of
from wadi.web.messages import Reply

_CACHING = ("cache-control", "etag", "last-modified", "expires", "age", "vary")


@dataclass(frozen=True)
class RowsFound:
    """A candidate for rows with its candidate fields."""

    rows: RowsGuess
    fields: list[FieldGuess]

    @property
    def expression(self) -> str:
        return self.rows.expression


@dataclass(frozen=True)
class Group:
    """What one mark stands for: a candidate for rows, or (None) the page itself where it shows one thing; with its fields."""

    mark: str
    rows: JsonRows | RowsFound | None
    fields: Sequence[FieldGuess]

    @property
    def marks(self) -> list[str]:
        """The marks of the fields: A1, A2, …"""
        return [f"{self.mark}{number}" for number in range(1, len(self.fields) + 1)]


@dataclass(frozen=True)
class Look:
    """What was found. For JSON `json_rows` and `paths` are filled, for HTML the others; `fields` are those of a page that shows
    one thing."""

    document: Document
    reply: Reply
    kind: KindGuess
    rows: list[RowsFound] = field(default_factory=list)
    fields: list[FieldGuess] = field(default_factory=list)
    json_rows: list[JsonRows] = field(default_factory=list)
    paths: list[PathFound] = field(default_factory=list)
    tables: list[TableFound] = field(default_factory=list)
    labels: list[LabelsFound] = field(default_factory=list)
    paging: list[Paging] = field(default_factory=list)
    data: dict[str, Any] = field(default_factory=dict)
    data_rows: list[JsonRows] = field(default_factory=list)
    attributes: list[tuple[str, int, str]] = field(default_factory=list)
    sources: list[Source] = field(default_factory=list)

    @property
    def candidates(self) -> list[JsonRows | RowsFound]:
        """All candidates for rows, the likeliest first. Data that the page carries comes before its text where scripts make
        that of it, and where it holds the same records, with as many fields: it changes less."""
        first = self.rows[0] if self.rows else None
        is_filled = self.kind.kind == "script shell"
        of_data = [rows for rows in self.data_rows if is_filled or (first is not None and are_the_same(rows, first))]
        return [*self.json_rows, *of_data, *self.rows]

    @property
    def main_rows(self) -> RowsFound | None:
        """The likeliest rows of HTML that stand in no navigation, footer or side list."""
        return next((found for found in self.rows if not is_aside(found.rows.rows[0])), None)

    @property
    def groups(self) -> list[Group]:
        """What can be drafted from, by marks: the page where it shows one thing, then the candidates for rows."""
        found: list[tuple[JsonRows | RowsFound | None, Sequence[FieldGuess]]] = (
            [(None, self.fields)] if self.fields else []
        )
        found += [(rows, rows.fields) for rows in self.candidates]
        return [Group(mark, rows, fields) for mark, (rows, fields) in zip(_letters(), found, strict=False)]


def look_at(document: Document, reply: Reply, *, most_rows: int = 4) -> Look:
    """Look at a page in every way. Nothing is fetched."""
    if document.kind == "json":
        kind = page_kind(document, [], [], reply.status)
        return Look(
            document, reply, kind,
            json_rows=json_rows(document.data), paths=outline(document.data), paging=paging_of(document, reply),
        )  # fmt: skip
    if document.kind == "xml":
        rows = [
            RowsFound(candidate, field_candidates(document, candidate.rows))
            for candidate in row_candidates(document, most_rows)
        ]
        kind = page_kind(document, [], [], reply.status)
        return Look(document, reply, kind, rows, paging=paging_of(document, reply))
    candidates = row_candidates(document, most_rows)
    sources = data_sources(document)
    data = structured(document)
    kind = page_kind(document, candidates, sources, reply.status)
    language = language_of_page(document, reply)
    return Look(
        document,
        reply,
        kind,
        [
            RowsFound(candidate, field_candidates(document, candidate.rows, language, candidate.behind))
            for candidate in candidates
        ],
        page_fields(document, language) if kind.kind == "single page" else [],
        tables=html_tables(document),
        labels=definition_lists(document),
        paging=paging_of(document, reply, candidates[0].rows if candidates else ()),
        data=data,
        data_rows=[row for row in json_rows(data, 3) if row.count > 2],
        attributes=_data_attributes(document),
        sources=sources,
    )


def _letters() -> Iterator[str]:
    """A, B, …, Z, AA, AB, …"""
    for length in (1, 2):
        yield from ("".join(letters) for letters in product(ascii_uppercase, repeat=length))


def are_the_same(of_data: JsonRows, found: RowsFound) -> bool:
    """Whether data has the records of rows: as many, with as many fields or more, and rows that say what the data does."""
    if of_data.count != found.rows.count or len(of_data.fields) < len(found.fields):
        return False
    samples = [sample for field in of_data.fields if field.type.type == "string" for sample in field.samples[:1]]
    shown = text_of(found.rows.rows[0])
    return any(sample in shown for sample in samples if len(sample) > 3)


def _data_attributes(document: Document) -> list[tuple[str, int, str]]:
    """`data-*` attributes: name, how many elements bear it, the first value."""
    found: dict[str, tuple[int, str]] = {}
    for element in elements(document.top):
        for name, value in attributes(element).items():
            if name.startswith("data-"):
                count, example = found.get(name, (0, value))
                found[name] = (count + 1, example)
    return [(name, count, first) for name, (count, first) in sorted(found.items(), key=lambda item: -item[1][0])][:12]


def cookies_set(reply: Reply) -> list[str]:
    """The names of the cookies that a reply sets; values are nobody's business."""
    names: list[str] = []
    for name, value in reply.headers:
        if name.lower() == "set-cookie":
            names.append(value.partition("=")[0].strip())
    return names


def caching_of(reply: Reply) -> dict[str, str]:
    """The header fields that say how long a reply holds."""
    return {name: value for name in _CACHING if (value := reply.header(name))}


def language_of_page(document: Document, reply: Reply) -> str:
    """The language that the page or its reply names; empty when neither does."""
    language = (document.root.attr("lang") or "") if document.root is not None else ""
    return language or reply.header("content-language")


def as_dict(look: Look) -> dict[str, Any]:
    """The look for `--json`."""
    document, reply = look.document, look.reply
    return {
        "reply": {
            "url": reply.url,
            "asked": reply.request.url,
            "redirects": [asdict(hop) for hop in reply.hops],
            "status": reply.status,
            "content_type": reply.content_type,
            "size_bytes": len(reply.body),
            "encoding": asdict(document.encoding),
            "language": language_of_page(document, reply),
            "caching": caching_of(reply),
            "cookies": cookies_set(reply),
            "read_as": document.kind,
            "parsed_as": document.parsed_as,
            "cut_off": document.cut_off,
        },
        "kind": asdict(look.kind),
        "rows": [
            {
                "expression": row.rows.expression,
                "count": row.rows.count,
                "left_out": row.rows.left_out,
                "score": round(row.rows.score, 2),
                "fields": [asdict(guess) for guess in row.fields],
            }
            for row in look.rows
        ],
        "fields": [asdict(guess) for guess in look.fields],
        "json_rows": [asdict(row) for row in look.json_rows],
        "paths": [{**asdict(path), "types": dict(path.types)} for path in look.paths],
        "tables": [asdict(table) for table in look.tables],
        "definition_lists": [asdict(label) for label in look.labels],
        "paging": [asdict(way) for way in look.paging],
        "structured": look.data,
        "structured_rows": [asdict(row) for row in look.data_rows],
        "data_attributes": [{"name": name, "count": count, "first": first} for name, count, first in look.attributes],
        "sources": [asdict(source) for source in look.sources],
    }
