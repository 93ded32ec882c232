"""What kind of page it is: rows in the HTML, a table, JSON, XML, a shell that scripts fill, a block, a log-in page."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

from wadi.learn.clues.labels import are_labels_and_values
from wadi.learn.clues.surroundings import is_aside
from wadi.learn.first_look.rows import RowsGuess
from wadi.learn.first_look.sources import ASKED_FOR, Source
from wadi.page.document import Document
from wadi.page.nodes import elements, first, has_children
from wadi.page.text import text_of

PageKind = Literal[
    "listing",
    "table",
    "single page",
    "JSON document",
    "file of columns",
    "feed",
    "sitemap",
    "XML document",
    "script shell",
    "block",
    "log-in",
    "error",
]
_MOUNTS = re.compile(r"^(?:root|app|__next|main-app|application|mount|react-root|ember\d*|svelte)$")
_CHALLENGE = re.compile(
    r"captcha|are you (?:a )?human|not a robot|unusual traffic|access denied|just a moment|please wait|checking your browser"
    r"|verify(?:ing)? (?:that )?you|too many requests|rate limit|request blocked|bot detection|enable javascript and cookies",
    re.IGNORECASE,
)
_SCRIPT_WORDS = re.compile(
    r"(?:enable|activate|requires?|turn on)\s+java ?script|loading\b|bitte warten|chargement|cargando", re.IGNORECASE
)
_LITTLE_TEXT = 400
# Found on the labelled pages, the sample site and manuals: listings of four rows or more score above 1.5, smaller sets that
# are rows above 4.8; navigation and what repeats by chance below 1.
_RICH = 4.8
_RICH_OF_SEVERAL = 1.2
_SEVERAL = 4


@dataclass(frozen=True, slots=True)
class KindGuess:
    """The kind of page and the reasons for it, in words."""

    kind: PageKind
    reasons: tuple[str, ...]


def page_kind(document: Document, candidates: list[RowsGuess], sources: list[Source], status: int = 200) -> KindGuess:
    """The kind of a page. Blocks and log-ins are told by what is missing as much as by words: there is little else on them."""
    if document.parsed_as in ("csv", "excel"):
        lines = len(document.data) if isinstance(document.data, list) else 0
        name = "CSV" if document.parsed_as == "csv" else "a workbook"
        return KindGuess("file of columns", (f"the reply is {name} of {lines:,} lines",))
    if document.kind == "json":
        return KindGuess(
            "JSON document", (f"the reply is JSON ({type(document.data).__name__.replace('dict', 'object')})",)
        )
    if document.kind == "xml":
        return _xml_kind(document)
    return (
        _refused(document, candidates, status)
        or _shell(document, candidates, sources)
        or _listing(document, candidates)
    )


def _xml_kind(document: Document) -> KindGuess:
    name = document.top.tag.rpartition("}")[2]
    if name in ("rss", "feed", "RDF"):
        return KindGuess("feed", (f"its root element is <{name}>",))
    if name in ("urlset", "sitemapindex"):
        return KindGuess("sitemap", (f"its root element is <{name}>",))
    return KindGuess("XML document", (f"its root element is <{name}>",))


def _refused(document: Document, candidates: list[RowsGuess], status: int) -> KindGuess | None:
    """A page that stands in place of the one that was asked for: a block, a log-in, an error."""
    body = first(document.top, "body")
    text = text_of(body) if body is not None else ""
    little = len(text) < _LITTLE_TEXT * 2
    passwords = [field for field in elements(document.top, "input") if (field.attr("type") or "").lower() == "password"]
    if passwords and not _rich(candidates):
        return KindGuess("log-in", ("it has a password field, and little else",))
    said = _CHALLENGE.search(f"{document.title}\n{text}" if little else document.title)
    if said and not _rich(candidates):
        reasons = [f"it says {said[0]!r}", f"it has only {len(text)} characters of text and no list of rows"]
        if status >= 400:
            reasons.append(f"its status is {status}")
        return KindGuess("block", tuple(reasons))
    if status >= 400:
        return KindGuess("error", (f"its status is {status}",))
    return None


def _rich(candidates: list[RowsGuess]) -> bool:
    """Whether the first candidate is a listing and no accident, or a part of the navigation."""
    if not candidates:
        return False
    first = candidates[0]
    if is_aside(first.rows[0]) and not all(map(is_aside, (one.rows[0] for one in candidates))):
        return _rich(candidates[1:])
    if is_aside(first.rows[0]):
        return False
    return first.score > (_RICH_OF_SEVERAL if first.count >= _SEVERAL else _RICH)


def _shell(document: Document, candidates: list[RowsGuess], sources: list[Source]) -> KindGuess | None:
    """A page that scripts fill: hardly any text, and an empty element for the rows or scripts that fetch them."""
    body = first(document.top, "body")
    text = text_of(body) if body is not None else ""
    reasons = []
    mounts = [
        e
        for e in elements(document.top, "div", "main", "section")
        if _MOUNTS.match(e.attr("id") or "") and not text_of(e)
    ]
    empty = [e for e in elements(document.top, "tbody", "ul", "ol") if not has_children(e) and not text_of(e)]
    if mounts:
        reasons.append(f'<{mounts[0].tag} id="{mounts[0].attr("id")}"> is empty')
    if empty:
        name = empty[0].attr("id") or empty[0].attr("class") or ""
        reasons.append(f"<{empty[0].tag}{f' {name!r}' if name else ''}> is empty")
    if _SCRIPT_WORDS.search(text) and len(text) < _LITTLE_TEXT * 2:
        reasons.append(f"it says {_SCRIPT_WORDS.search(text)[0]!r}")  # type: ignore[index]
    noscript = [e for e in elements(document.top, "noscript") if re.search(r"java ?script", text_of(e), re.IGNORECASE)]
    if noscript:
        reasons.append("a noscript element asks for JavaScript")
    fetched = [source for source in sources if source.what == ASKED_FOR]
    if fetched:
        reasons.append(f"a script asks for {fetched[0].url}")
    if (
        _rich(candidates)
        or len(text) > _LITTLE_TEXT * 4
        or not (mounts or empty or (noscript and len(text) < _LITTLE_TEXT))
    ):
        return None
    return KindGuess("script shell", (*reasons, f"{len(text)} characters of text are in the HTML itself"))


def _listing(document: Document, candidates: list[RowsGuess]) -> KindGuess:
    if candidates and are_labels_and_values(candidates[0].rows):
        return KindGuess("single page", (f"the rows of its table are labels and values: {candidates[0].expression}",))
    if candidates and _rich(candidates):
        first = candidates[0]
        rows = f"{first.count} rows are in the HTML itself: {first.expression}"
        is_table = first.rows[0].tag == "tr"
        return KindGuess("table" if is_table else "listing", (rows,))
    return KindGuess("single page", ("nothing in it repeats enough to be rows",))
