"""CSS Selectors Level 4, relative to where they are searched from: an engine in C for HTML, a translation to XPath for XML.

`h3 a` in a row is an `a` in an `h3` in the row, as people read it; the DOM would take an `h3` around the row as well. A
selector that begins with `>`, `+` or `~` goes on from the row, as in `:has()`.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from itertools import islice
from typing import TYPE_CHECKING, Any

import turbohtml

from wadi.page.nodes import following, parent, preceding

if TYPE_CHECKING:
    from lxml import etree

    from wadi.page.xml_tree import XmlElement

_SAID = re.compile(r'.*": (?P<what>.*) at position (?P<offset>\d+)\Z', re.DOTALL)
_SCOPE = re.compile(r":scope(?![\w-])", re.IGNORECASE)
_SCOPE_SIBLING = re.compile(r":scope\s*([+~].*)", re.IGNORECASE | re.DOTALL)
_COMBINED = re.compile(r"[\s>+~(\[\\\"']")
_ENDS_NAME = re.compile(r"[^\s*,>+~(\[|]\Z")
_BEFORE_BODY = ":scope "
_OPENING, _CLOSING = "([", ")]"
_NO_ELEMENT = re.compile(r"::?(before|after|first-line|first-letter|text|attr)\b|::(\w[\w-]*)")
_LAST_PSEUDO = re.compile(r":([\w-]+)\(?[^:]*\Z")
_ATTRIBUTE_NOW, _TEXT_NOW = 'attr = "…" takes an attribute', "the element itself gives its text"


class BadSelector(ValueError):
    """A selector that cannot be read: what is wrong, where (characters from 0), what to do."""

    def __init__(self, what: str, offset: int, now: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.offset = offset
        self.now = now


@dataclass(frozen=True, slots=True)
class Selector:
    """A list of selectors, ready to be asked. `page` is as it was written, for a whole page; `inside` what it finds in a
    row; `siblings` what it finds behind a row, each from its `+` or `~` on. Either may be empty."""

    page: str
    inside: str
    siblings: tuple[str, ...]

    def below(self, scope: turbohtml.Element) -> list[Any]:
        """What the selectors find from a row of HTML, in reading order."""
        found = scope.select(self.inside) if self.inside else []
        return found + self._behind(scope) if self.siblings else found

    def _behind(self, row: turbohtml.Element) -> list[Any]:
        """What stands behind the row."""
        if len(self.siblings) == 1 and (compound := self.siblings[0][1:].strip()) and not _COMBINED.search(compound):
            # Most are like `+ tr`: the siblings themselves are asked.
            behind = islice(following(row), 1 if self.siblings[0][0] == "+" else None)
            return [node for node in behind if node.matches(compound)]
        above = parent(row)
        if above is None:
            return []
        # From the parent, in which the row is the n-th child.
        number = 1 + sum(1 for _ in preceding(row))
        return list(above.select(", ".join(f":scope > :nth-child({number}) {part}" for part in self.siblings)))


def selector_of(text: str) -> Selector:
    """The selectors of a text. Raises BadSelector."""
    pieces = list(pieces_of(text))
    for start, piece in pieces:
        _check(piece, start)
    inside, siblings, page = [], [], []
    for _, piece in pieces:
        part = piece.strip()
        behind = part if part[0] in "+~" else found[1] if (found := _SCOPE_SIBLING.match(part)) else ""
        whole = f":scope {part}" if part[0] in ">+~" else part
        page.append(whole)
        if behind:
            siblings.append(behind)
        else:
            # One element alone is looked for in the row anyway.
            inside.append(whole if _has_scope(whole) or not _COMBINED.search(part) else f":scope {part}")
    return Selector(", ".join(page), ", ".join(inside), tuple(siblings))


def pieces_of(text: str) -> list[tuple[int, str]]:
    """The selectors between the commas of a list, each with the offset at which it begins."""
    pieces, start, depth = [], 0, 0
    for at, character in _bare(text):
        if character in _OPENING:
            depth += 1
        elif character in _CLOSING:
            depth -= 1
        elif character == "," and depth == 0:
            pieces.append((start, text[start:at]))
            start = at + 1
    return [*pieces, (start, text[start:])]


def _bare(text: str) -> list[tuple[int, str]]:
    """The characters that are neither quoted nor escaped nor in a comment, with their places."""
    found, at, quote = [], 0, ""
    while at < len(text):
        character = text[at]
        if character == "\\":
            at += 2
            continue
        if quote:
            quote = "" if character == quote else quote
        elif character in "\"'":
            quote = character
        elif text.startswith("/*", at):
            end = text.find("*/", at + 2)
            at = len(text) if end < 0 else end + 2
            continue
        else:
            found.append((at, character))
        at += 1
    return found


def _has_scope(selector: str) -> bool:
    """Whether a selector says itself where its scope stands, outside of brackets."""
    depth, bare = 0, []
    for _, character in _bare(selector):
        depth += (character in _OPENING) - (character in _CLOSING)
        bare.append(character if depth == 0 else "(")
    return _SCOPE.search("".join(bare)) is not None


def _check(piece: str, start: int) -> None:
    """Have the engine read one selector; what it does not know is refused with its place in the whole text."""
    blanks = len(piece) - len(piece.lstrip())
    for at, character in _bare(piece):
        if character == "|" and piece[at + 1 : at + 2] not in ("=", "|") and _ENDS_NAME.search(piece[:at]):
            raise BadSelector("namespaces have no prefixes here", start + at, "a name matches in any namespace")
    before = _BEFORE_BODY if piece.strip()[:1] in (">", "+", "~") else ""
    try:
        _probe().select(before + piece.strip())
    except ValueError as error:
        said = _SAID.match(str(error))
        at = min(max(int(said["offset"]) - len(before), 0), len(piece.strip())) if said else 0
        what, at, now = _explained(piece.strip(), said["what"] if said else str(error), at)
        raise BadSelector(what, start + blanks + at, now) from error


def _explained(piece: str, what: str, at: int) -> tuple[str, int, str]:
    """What is wrong with a selector, where, and what to do, by what the engine says of it at a place."""
    if not piece:
        return "expected a selector, found the end", at, ""
    if (pseudo := _NO_ELEMENT.search(piece)) and pseudo.start() <= at <= pseudo.end():
        now = _ATTRIBUTE_NOW if "attr" in pseudo[0] else _TEXT_NOW if "text" in pseudo[0] else ""
        return f'"{pseudo[0]}" is no element of the page', pseudo.start(), now
    if what == "unknown pseudo-class" and (name := _LAST_PSEUDO.search(piece[:at])):
        now = "XPath asks for texts:  //a[contains(., '…')]" if name[1] in ("contains", "has-text") else ""
        return f'there is no pseudo-class ":{name[1]}"', name.start(), now
    if piece[at - 1 : at + 1] == "||" or piece[at : at + 2] == "||" or piece[at - 2 : at] == "||":
        return "the column combinator || is not known", piece.index("||"), "a field's under picks by heading"
    return f"{what}, found {repr(piece[at]) if at < len(piece) else 'the end'}", at, ""


@lru_cache(maxsize=1)
def _probe() -> turbohtml.Document:
    return turbohtml.parse("<p></p>")


XmlSelect = Callable[["etree._Element"], list[Any]]


@lru_cache(maxsize=256)
def xml_select(text: str, *, is_page: bool) -> XmlSelect:
    """What finds the selectors' nodes below a node of XML, where a name matches in any namespace. Raises BadSelector.

    The translation knows less than the engine for HTML: lists in `:not()` and `of` in `:nth-child()` are refused.
    """
    from lxml import etree

    paths = [_translated(piece, start, is_page=is_page) for start, piece in pieces_of(text)]
    path = etree.XPath(" | ".join(paths))
    return lambda node: list(path(node))  # type: ignore[arg-type]


_STATES = frozenset({"link", "visited", "enabled", "disabled", "checked"})


class _Translated:
    """A selector that is translated already."""

    def __init__(self, found: Any) -> None:
        self.found = found


_AXES = {">": "child::", "+": "following-sibling::*[1]/self::", "~": "following-sibling::"}


def _translated(piece: str, start: int, *, is_page: bool) -> str:
    from cssselect import GenericTranslator, SelectorError
    from cssselect.xpath import XPathExpr

    class AnyNamespace(GenericTranslator):
        """Names of elements match in any namespace; states of forms and links there are none in XML."""

        def xpath_element(self, selector: Any) -> XPathExpr:
            found = self.xpathexpr_cls(element="*")
            found.local_name = selector.element  # type: ignore[attr-defined]
            return found.add_condition(f"local-name() = '{selector.element}'") if selector.element else found

        def xpath_pseudo(self, pseudo: Any) -> XPathExpr:
            if pseudo.ident in _STATES:
                raise SelectorError(f":{pseudo.ident} is for pages of HTML")
            return self._of_type(super().xpath_pseudo, pseudo)

        def xpath_function(self, function: Any) -> XPathExpr:
            return self._of_type(super().xpath_function, function)

        def _of_type(self, translate: Callable[[Any], XPathExpr], selector: Any) -> XPathExpr:
            """With the element's name for a moment: of which type the others are that count."""
            name = getattr(selector, "ident", None) or selector.name
            if not name.endswith("of-type"):
                return translate(selector)
            inner = self.xpath(selector.selector)
            if (local_name := getattr(inner, "local_name", None)) is None:
                raise SelectorError(f":{name} needs the name of an element before it")
            inner.element = f"*[local-name() = '{local_name}']"
            selector.selector = _Translated(inner)
            found = translate(selector)
            found.element = "*"
            return found

        def xpath(self, parsed_selector: Any) -> XPathExpr:
            return parsed_selector.found if isinstance(parsed_selector, _Translated) else super().xpath(parsed_selector)

    part = _SCOPE.sub("", piece.strip(), count=1).strip() if _SCOPE.match(piece.strip()) else piece.strip()
    axis = _AXES.get(part[:1])
    try:
        prefix = axis or ("descendant-or-self::" if is_page else "descendant::")
        return str(AnyNamespace().css_to_xpath(part[1:] if axis else part, prefix=prefix))
    except SelectorError as error:
        raise BadSelector(f"not known for XML: {error}", start, "XPath knows more:  .//…") from error


def below_xml(text: str, scope: XmlElement, *, is_page: bool) -> list[Any]:
    """What the selectors find from an element of XML."""
    from wadi.page.xml_tree import wrapped

    return wrapped(xml_select(text, is_page=is_page)(scope.node))
