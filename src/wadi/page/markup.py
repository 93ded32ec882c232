"""Pieces of pages as markup: HTML without what is not text's form, and Markdown (CommonMark)."""

from __future__ import annotations

import re
from collections.abc import Collection
from html import escape
from typing import Any

import turbohtml

from wadi.page.nodes import TEXTS, Element, attributes

_KEPT_TAGS = frozenset(
    "a abbr b blockquote br caption cite code dd del dfn div dl dt em figcaption figure h1 h2 h3 h4 h5 h6 hr i img ins kbd "
    "li mark ol p pre q s samp small span strong sub sup table tbody td tfoot th thead tr u ul var".split()
)
_DROPPED_TAGS = frozenset(
    "script style noscript template iframe object embed form input button select textarea svg math head link meta".split()
)
_KEPT_ATTRIBUTES = frozenset({"href", "src", "alt", "title", "colspan", "rowspan", "lang", "dir"})
_VOID = frozenset({"br", "hr", "img"})
# What browsers leave out of a scheme: blanks and controls before it, tabs and line ends in it (URL Standard §4.4).
_SCRIPT_URL = re.compile(r"(?:javascript|vbscript|data):", re.IGNORECASE)
_NOT_IN_SCHEMES = re.compile(r"[\x00-\x20]")


def clean_html(element: Element) -> str:
    """The markup inside an element without scripts, styles, handlers and forms: what carries the text's form stays."""
    return " ".join(_cleaned(element).split())


def markdown_of(element: Element, *, without: Collection[str] = ()) -> str:
    """What is inside an element as Markdown (CommonMark): headings, lists, links, emphasis, tables; `without` some tags, whose
    content stays."""
    text = turbohtml.parse_fragment(_cleaned(element, _KEPT_TAGS - frozenset(without))).to_markdown()
    return re.sub(r"\n{3,}", "\n\n", "\n".join(_without_blanks_behind(line) for line in text.split("\n"))).strip()


def _without_blanks_behind(line: str) -> str:
    """The line without blanks at its end, but for the two that break it."""
    bare = line.rstrip()
    return f"{bare}  " if line.endswith("  ") and bare.strip("> ") else bare


def _cleaned(top: Element, kept: Collection[str] = _KEPT_TAGS) -> str:
    """The markup inside, walked without recursion, since pages nest deeply."""
    out: list[str] = []
    stack: list[tuple[str, Any]] = [("", iter(top.children))]
    while stack:
        end, nodes = stack[-1]
        node = next(nodes, None)
        if node is None:
            stack.pop()
            out.append(end)
        elif isinstance(node, TEXTS):
            out.append(escape(node.data, quote=False))
        elif isinstance(node, Element) and node.tag not in _DROPPED_TAGS:
            is_kept = node.tag in kept
            out.append(_start_tag(node) if is_kept else "")
            stack.append((f"</{node.tag}>" if is_kept and node.tag not in _VOID else "", iter(node.children)))
    return "".join(out)


def _start_tag(element: Element) -> str:
    kept = [(name, value) for name, value in attributes(element).items() if name in _KEPT_ATTRIBUTES]
    harmless = [(name, value) for name, value in kept if not _SCRIPT_URL.match(_NOT_IN_SCHEMES.sub("", value))]
    written = "".join(f' {name}="{escape(value)}"' for name, value in harmless)
    return f"<{element.tag}{written}>"
