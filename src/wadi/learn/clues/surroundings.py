"""What stands around the content of a page: navigation, footers, side lists; and its main part."""

from __future__ import annotations

import re

from wadi.page.document import Document
from wadi.page.nodes import Element, ancestors, elements, first

_ASIDE_TAGS = frozenset({"nav", "footer", "aside"})
_ASIDE_ROLES = frozenset({"navigation", "contentinfo", "complementary", "banner", "search"})
_PART = r"(?:(?!not-|no-|has-|with-)[a-z]+-)?(?:{})(?:-[a-z]+)?"
_ASIDE_WORDS = (
    "nav|navbar|navigation|menu|footer|foot|sidebar|side|breadcrumbs?|crumbs|pager|pagination"
    "|pages|facets?|social|share"
)
_ASIDE = re.compile(_PART.format(_ASIDE_WORDS))
_NAVIGATING = re.compile(
    _PART.format(
        f"{_ASIDE_WORDS}|menubar|paging|aside|filters?|tags?|tagcloud|toolbar|tabs?|related|skip|toc|langs?|languages?"
    )
)
_MAIN = re.compile(r"main|content|main-?content|page-?content|article")
_LEAST_OF_TEXT = 0.2


def is_aside(element: Element) -> bool:
    """Whether an element stands in navigation, a footer or a side list, as its own or outer elements say."""
    return any(_says_aside(upper) for upper in [element, *ancestors(element)])


def _says_aside(element: Element) -> bool:
    if element.tag in _ASIDE_TAGS or element.attr("role") in _ASIDE_ROLES:
        return True
    words = _words(element)
    return element.tag not in ("body", "html") and "main" not in words and any(map(_ASIDE.fullmatch, words))


def is_called_navigation(element: Element) -> bool:
    """Whether an element is called as what leads elsewhere: menus, tags, filters, footers, by class, id or role."""
    return any(map(_NAVIGATING.fullmatch, _words(element)))


def _words(element: Element) -> list[str]:
    said = (element.attr(name) or "" for name in ("class", "id", "role"))
    return " ".join(said).replace("_", "-").lower().split()


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
