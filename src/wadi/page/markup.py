"""Pieces of pages as markup for people: cleaned HTML, and Markdown."""

from __future__ import annotations

import re
from copy import deepcopy

from lxml import etree

_KEPT_TAGS = frozenset(
    "a abbr b blockquote br caption cite code dd del dfn div dl dt em figcaption figure h1 h2 h3 h4 h5 h6 hr i img ins kbd "
    "li mark ol p pre q s samp small span strong sub sup table tbody td tfoot th thead tr u ul var".split()
)
_DROPPED_TAGS = frozenset(
    "script style noscript template iframe object embed form input button select textarea svg math head link meta".split()
)
_KEPT_ATTRIBUTES = frozenset({"href", "src", "alt", "title", "colspan", "rowspan", "lang", "dir"})
_SCRIPT_URL = re.compile(r"\s*(?:javascript|vbscript|data)\s*:", re.IGNORECASE)


def clean_html(element: etree._Element) -> str:
    """The markup inside an element without scripts, styles, handlers and forms: what carries the text's form stays."""
    return " ".join(_inner(_cleaned(element)).split())


def markdown_of(element: etree._Element) -> str:
    """What is inside an element as Markdown (CommonMark): headings, lists, links, emphasis, tables."""
    from markdownify import markdownify

    text = str(markdownify(_inner(_cleaned(element)), heading_style="ATX", bullets="-"))
    return re.sub(r"\n{3,}", "\n\n", "\n".join(line.rstrip() for line in text.split("\n"))).strip()


def _cleaned(element: etree._Element) -> etree._Element:
    copy = deepcopy(element)
    copy.tail = None
    for one in list(copy.iter()):
        if one is copy:
            continue
        if not isinstance(one.tag, str) or one.tag in _DROPPED_TAGS:
            _taken_out(one, with_content=True)
        elif one.tag not in _KEPT_TAGS:
            _taken_out(one, with_content=False)
        else:
            for name, value in list(one.attrib.items()):
                if str(name) not in _KEPT_ATTRIBUTES or _SCRIPT_URL.match(str(value)):
                    del one.attrib[name]
    return copy


def _taken_out(element: etree._Element, *, with_content: bool) -> None:
    """Take an element out of its tree; its tail stays, and without `with_content` what is inside it."""
    parent = element.getparent()
    if parent is None:
        return
    place = parent.index(element)
    children = [] if with_content else list(element)
    text = (element.text or "") if not with_content and isinstance(element.tag, str) else ""
    parent.remove(element)
    for offset, child in enumerate(children):
        parent.insert(place + offset, child)
    _put_text(parent, place, text)
    _put_text(parent, place + len(children), element.tail or "")


def _put_text(parent: etree._Element, place: int, text: str) -> None:
    if not text:
        return
    if place == 0:
        parent.text = (parent.text or "") + text
    else:
        before = parent[place - 1]
        before.tail = (before.tail or "") + text


def _inner(element: etree._Element) -> str:
    inner = "".join(str(etree.tostring(child, encoding="unicode", method="html")) for child in element)
    return _escaped(element.text or "") + inner


def _escaped(text: str) -> str:
    return text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
