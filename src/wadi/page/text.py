"""The text of an element as a reader sees it: blocks and `<br>` on lines of their own, nothing hidden, blanks folded.

`<pre>` and `<textarea>` keep their lines and blanks, as a browser shows them.
"""

from __future__ import annotations

import re
from itertools import groupby
from typing import Any

from wadi.clean.text import shown, tidied, tidied_lines
from wadi.page.nodes import TEXTS, Element, HtmlText, ancestors, own_texts

UNSEEN = frozenset({"script", "style", "template", "noscript", "head", "title", "datalist"})
"""Elements whose text a reader never sees."""
# What the rendering section of the HTML Standard gives `display: block` or a table's or a list's box.
_BLOCKS = frozenset(
    (
        "address article aside blockquote body center dd details dialog dir div dl dt fieldset figcaption figure "
        "footer form h1 h2 h3 h4 h5 h6 header hgroup hr html legend li listing main menu nav ol optgroup option p "
        "plaintext pre search section summary table tbody tfoot thead tr ul xmp caption"
    ).split()
)
_CELLS = frozenset({"td", "th"})
_KEEPING = frozenset({"pre", "textarea", "listing", "plaintext", "xmp"})
_NOT_INLINE = UNSEEN | _BLOCKS | _CELLS | _KEEPING | {"br"}
_NOT_DISPLAYED = re.compile(r"(?:^|;)\s*(?:display\s*:\s*none|visibility\s*:\s*hidden)", re.IGNORECASE)
_SPACE = re.compile(r"[\t\n\r\f]")


class _Kept(str):
    """A piece of text whose lines and blanks stay."""

    __slots__ = ()


def text_of(element: Element) -> str:
    """What a reader sees of the element, one line for each block.

    The element itself was asked for and counts as shown; hidden parts inside it give nothing.
    """
    written = inline_text_of(element)
    if written is not None:
        return tidied(written)
    pieces: list[str] = []
    _gather(element, pieces, keeps=_keeps_lines(element))
    parts = []
    for is_kept, some in groupby(pieces, key=_is_kept):
        together = "".join(some)
        parts.append(_lines_kept(together) if is_kept else tidied_lines(together))
    return "\n".join(part for part in parts if part)


def inline_text_of(element: Element) -> str | None:
    """The text of an element as it is written, where a reader sees nothing but that, its blanks folded; None where there is
    more to it: blocks, hidden parts, lines that stay."""
    nodes = element.children
    if len(nodes) == 1 and nodes[0].__class__ is HtmlText:
        text = nodes[0].data
    elif _is_inline(element):
        text = element.text
    else:
        return None
    return text if "\n" not in text or not _keeps_lines(element) else None


def _is_inline(element: Element) -> bool:
    """Whether nothing but shown inline elements stand inside, as in most cells: then its text is all that there is."""
    for inner in element.iter_elements():
        if inner.tag in _NOT_INLINE or inner.attr("style") is not None or inner.attr("hidden") is not None:
            return False
    return True


def _keeps_lines(element: Element) -> bool:
    return element.tag in _KEEPING or next(ancestors(element, *_KEEPING), None) is not None


def _is_kept(piece: str) -> bool:
    return piece.__class__ is _Kept


def _lines_kept(text: str) -> str:
    """The lines as they stand, without what nobody sees: blanks at their ends, empty lines at the begin and the end."""
    return "\n".join(shown(line).rstrip() for line in text.split("\n")).strip("\n")


def direct_text_of(element: Element) -> str:
    """The text that stands in the element itself, not in elements inside it."""
    return tidied(" ".join(own_texts(element)))


def _gather(top: Element, pieces: list[str], *, keeps: bool) -> None:
    """Append the pieces of text below `top` in reading order; walked without recursion, since pages nest deeply."""
    stack: list[tuple[Any, Any, bool]] = [(top, iter(top.children), keeps)]
    while stack:
        element, nodes, keeps = stack[-1]
        node = next(nodes, None)
        if node is None:
            stack.pop()
            if element is not top and (edge := _edge(element.tag)):
                pieces.append(edge)
        elif isinstance(node, TEXTS):
            pieces.append(_Kept(node.data) if keeps else _SPACE.sub(" ", node.data))
        elif isinstance(node, Element) and not is_hidden(node):
            tag = node.tag
            if tag == "br":
                pieces.append(_Kept("\n") if keeps else "\n")
                continue
            if edge := _edge(tag):
                pieces.append(edge)
            stack.append((node, iter(node.children), keeps or tag in _KEEPING))


def _edge(tag: str) -> str:
    """What stands before and behind an element of a name, so that its text is apart from what is around it."""
    return "\n" if tag in _BLOCKS else " " if tag in _CELLS else ""


def is_hidden(element: Element) -> bool:
    """Whether an element is not shown: by its tag, `hidden`, or an inline style."""
    if element.tag in UNSEEN:
        # Other vocabularies have titles and heads too, and show them.
        return element.tag not in ("title", "head") or bool([element, *ancestors(element)][-1].tag == "html")
    if element.attr("hidden") is not None:
        return True
    style = element.attr("style")
    return style is not None and _NOT_DISPLAYED.search(style) is not None
