"""What stands around the content of a page: navigation, footers, side lists; and its main part."""

from __future__ import annotations

import re

from wadi.page.document import Document
from wadi.page.nodes import Element, ancestors, elements, first

_ASIDE_TAGS = frozenset({"nav", "footer", "aside"})
_ASIDE_ROLES = frozenset({"navigation", "contentinfo", "complementary", "banner", "search"})
_ASIDE = re.compile(
    r"\b(?:nav|navbar|navigation|menu|footer|foot|sidebar|side|breadcrumbs?|crumbs|pager|pagination|pages|facets?|social|share)\b"
)
_MAIN = re.compile(r"main|content|main-?content|page-?content|article")
_LEAST_OF_TEXT = 0.2


def is_aside(element: Element) -> bool:
    """Whether an element stands in navigation, a footer or a side list, as its own or outer elements say."""
    return any(_says_aside(upper) for upper in [element, *ancestors(element)])


def _says_aside(element: Element) -> bool:
    if element.tag in _ASIDE_TAGS or element.attr("role") in _ASIDE_ROLES:
        return True
    words = f"{element.attr('class') or ''} {element.attr('id') or ''}".replace("_", " ").lower()
    return element.tag not in ("body", "html") and bool(_ASIDE.search(words)) and "main" not in words.split()


def main_part(document: Document) -> Element:
    """The part of a page that it is about: `main`, a single `article`, or what is called so; else its body."""
    body: Element = first(document.top, "body") or document.top
    named: list[Element] = [e for e in elements(body) if e.tag == "main" or e.attr("role") == "main"]
    articles: list[Element] = list(elements(body, "article"))
    if len(named) == 1:
        return articles[0] if len(articles) == 1 and articles[0] in elements(named[0]) else named[0]
    if len(articles) == 1:
        return articles[0]
    letters = max(1, len(body.text))
    element: Element
    for element in elements(body, "div", "section", "td"):
        words = [element.attr("id") or "", *(element.attr("class") or "").split()]
        if any(_MAIN.fullmatch(word.lower()) for word in words) and len(element.text) >= letters * _LEAST_OF_TEXT:
            return element
    return body
