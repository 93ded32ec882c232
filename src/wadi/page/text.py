"""The text of an element as a reader sees it: blocks and `<br>` on lines of their own, nothing hidden, blanks folded."""

from __future__ import annotations

import re

from lxml import etree

from wadi.clean.text import tidied, tidied_lines

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
# What stands in the tree for comments and the like is no element with a text.
NOT_INLINE = UNSEEN | _BLOCKS | _CELLS | {"br", etree.Comment, etree.ProcessingInstruction, etree.Entity}
_NOT_DISPLAYED = re.compile(r"(?:^|;)\s*(?:display\s*:\s*none|visibility\s*:\s*hidden)", re.IGNORECASE)
_SPACE = re.compile(r"[\t\n\r\f]")


def text_of(element: etree._Element) -> str:
    """What a reader sees of the element, one line for each block.

    The element itself was asked for and counts as shown; hidden parts inside it give nothing.
    """
    if not len(element):
        text = element.text
        return tidied(text) if text else ""
    plain = _inline_text(element)
    if plain is not None:
        return plain
    pieces: list[str] = []
    _gather(element, pieces)
    return tidied_lines("".join(pieces))


def _inline_text(element: etree._Element) -> str | None:
    """The text where nothing but shown inline elements without children stand inside, as in most cells: a third of the time."""
    pieces = [element.text or ""]
    for child in element:
        is_plain = not len(child) and child.tag not in NOT_INLINE
        if not is_plain or child.get("hidden") is not None or child.get("style") is not None:
            return None
        pieces += (child.text or "", child.tail or "")
    return tidied("".join(pieces))


def direct_text_of(element: etree._Element) -> str:
    """The text that stands in the element itself, not in elements inside it."""
    return tidied(" ".join([element.text or "", *(child.tail or "" for child in element)]))


def _gather(top: etree._Element, pieces: list[str]) -> None:
    """Append the pieces of text below `top` in reading order; walked without recursion, since pages nest deeply."""
    pieces.append(_SPACE.sub(" ", top.text or ""))
    stack = [(top, iter(top))]
    while stack:
        parent, children = stack[-1]
        child = next(children, None)
        if child is None:
            stack.pop()
            if parent is not top:
                _close(parent, pieces)
        elif not isinstance(child.tag, str) or is_hidden(child):
            _tail(child, pieces)
        else:
            _open(child, pieces)
            stack.append((child, iter(child)))


def _open(element: etree._Element, pieces: list[str]) -> None:
    tag = element.tag
    if tag in _BLOCKS or tag == "br":
        pieces.append("\n")
    elif tag in _CELLS:
        pieces.append(" ")
    if element.text:
        pieces.append(_SPACE.sub(" ", element.text))


def _close(element: etree._Element, pieces: list[str]) -> None:
    if element.tag in _BLOCKS:
        pieces.append("\n")
    elif element.tag in _CELLS:
        pieces.append(" ")
    _tail(element, pieces)


def _tail(element: etree._Element, pieces: list[str]) -> None:
    if element.tail:
        pieces.append(_SPACE.sub(" ", element.tail))


def is_hidden(element: etree._Element) -> bool:
    """Whether an element is not shown: by its tag, `hidden`, or an inline style."""
    if element.tag in UNSEEN:
        # Other vocabularies have titles and heads too, and show them.
        return element.tag not in ("title", "head") or element.getroottree().getroot().tag == "html"
    attributes = element.attrib
    if not attributes:
        return False
    return "hidden" in attributes or ("style" in attributes and bool(_NOT_DISPLAYED.search(str(attributes["style"]))))
