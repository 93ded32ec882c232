"""Where a node stands: the line of the page's source, and a path that a person can follow."""

from __future__ import annotations

import re

from lxml import etree

from wadi.page.document import Document

_SKIPPED = re.compile(rb"<!--.*?-->|<(script|style|textarea|title)\b[^>]*>.*?</\1\s*>", re.DOTALL | re.IGNORECASE)


def path_of(element: etree._Element) -> str:
    """The way from the root to an element: `html > body > ol.register > li:nth-of-type(2) > a`."""
    steps: list[str] = []
    for one in [element, *element.iterancestors()]:
        tag = one.tag if isinstance(one.tag, str) else "comment()"
        alike = [sibling for sibling in one.itersiblings(preceding=True) if sibling.tag == one.tag]
        after = next((s for s in one.itersiblings() if s.tag == one.tag), None)
        token = next(iter((one.get("class") or "").split()), "") if isinstance(one.tag, str) else ""
        name = f"#{one.get('id')}" if isinstance(one.tag, str) and one.get("id") else f".{token}" if token else ""
        place = f":nth-of-type({len(alike) + 1})" if alike or after is not None else ""
        steps.append(f"{tag}{name}{place}")
    return " > ".join(reversed(steps))


def line_of(element: etree._Element, document: Document) -> int | None:
    """The line of the source in which the element begins, from 1; None for elements that the source does not have.

    A tree that was built strictly knows no lines of its own: the n-th element of a name is the n-th start tag of it.
    """
    if not isinstance(element.tag, str):
        return None
    if document.way != "strict":
        line = element.sourceline
        return line if isinstance(line, int) else None
    starts = _starts(document, element.tag)
    elements = list(document.tree.iter(element.tag))
    if len(starts) != len(elements):
        return None
    return starts[elements.index(element)]


def _starts(document: Document, tag: str) -> list[int]:
    """The lines of the start tags of a name in the source, outside comments and scripts."""
    kept: dict[str, list[int]] = document.__dict__.setdefault("_starts", {})
    if tag not in kept:
        source = document.source
        if tag not in ("script", "style", "textarea", "title"):
            source = document.__dict__.setdefault("_without_scripts", _SKIPPED.sub(_same_lines, source))
        pattern = re.compile(rb"<" + re.escape(tag.encode()) + rb"(?=[\s/>])", re.IGNORECASE)
        lines, line, last = [], 1, 0
        for found in pattern.finditer(source):
            line += source.count(b"\n", last, found.start())
            last = found.start()
            lines.append(line)
        kept[tag] = lines
    return kept[tag]


def _same_lines(found: re.Match[bytes]) -> bytes:
    return b"\n" * found[0].count(b"\n")
