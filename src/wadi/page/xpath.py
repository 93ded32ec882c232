"""XPath 1.0: compiled once for HTML and, where an XML document comes, for XML; what cannot be evaluated is told beforehand.

Both engines know functions beyond XPath 1.0, each others of them: a plan may use those of the standard (§4) alone, so that
an expression means the same on every page.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import TYPE_CHECKING, Any

import turbohtml

if TYPE_CHECKING:
    from lxml import etree

_MANY = 1_000
FUNCTIONS: dict[str, tuple[int, int]] = {
    "last": (0, 0), "position": (0, 0), "count": (1, 1), "id": (1, 1), "local-name": (0, 1), "namespace-uri": (0, 1),
    "name": (0, 1), "string": (0, 1), "concat": (2, _MANY), "starts-with": (2, 2), "contains": (2, 2),
    "substring-before": (2, 2), "substring-after": (2, 2), "substring": (2, 3), "string-length": (0, 1),
    "normalize-space": (0, 1), "translate": (3, 3), "boolean": (1, 1), "not": (1, 1), "true": (0, 0), "false": (0, 0),
    "lang": (1, 1), "number": (0, 1), "sum": (1, 1), "floor": (1, 1), "ceiling": (1, 1), "round": (1, 1),
}  # fmt: skip
"""The functions of XPath 1.0 §4, with the least and the most arguments that each takes."""
NODE_TESTS = frozenset({"text", "comment", "node", "processing-instruction"})
_OPERATORS = frozenset({"and", "or", "div", "mod"})
AXES = (
    "ancestor ancestor-or-self attribute child descendant descendant-or-self following following-sibling "
    "namespace parent preceding preceding-sibling self"
).split()
_STRINGS = re.compile(r"'[^']*'|\"[^\"]*\"")
_CALL = re.compile(r"(?<![\w.\-$:])([A-Za-z_][\w.\-]*(?::[A-Za-z_][\w.\-]*)?)\s*\(")
_VARIABLE = re.compile(r"\$\s*[\w.\-:]+")
_PREFIX = re.compile(r"(?<![\w.\-$])([A-Za-z_][\w.\-]*):(?!:)(?=[A-Za-z_*])")
_AT_OFFSET = re.compile(r"(?P<what>.*) at offset (?P<offset>\d+)", re.DOTALL)
_OPENING, _CLOSING = "([", ")]"


class BadXPath(ValueError):
    """An XPath that cannot be read or evaluated: what is wrong, where (characters from 0), what to do."""

    def __init__(self, what: str, offset: int | None, now: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.offset = offset
        self.now = now


def prefixes_of(text: str) -> tuple[str, ...]:
    """The prefixes of names in an XPath, each once."""
    return tuple(sorted(set(_PREFIX.findall(_without_strings(text))) - set(AXES)))


def check(text: str) -> None:
    """Say what cannot be read or evaluated, inside predicates and arguments too. Raises BadXPath."""
    bare = _without_strings(text)
    _compiled_html(text)
    if found := _VARIABLE.search(bare):
        raise BadXPath(f"there are no variables here: {found[0]}", found.start())
    for call in _CALL.finditer(bare):
        _check_call(call, bare)
    for start, part in [(0, text), *_inner_parts(text, bare)]:
        # Have a part evaluated by itself: an engine looks at a predicate only where something stands before it.
        prefixes = dict.fromkeys(prefixes_of(part), "urn:any")
        try:
            _probe().xpath(part, namespaces=prefixes or None)
        except (ValueError, TypeError) as error:
            raise BadXPath(str(error).removeprefix("xpath: "), start + (len(part) - len(part.lstrip()))) from error


def _without_strings(text: str) -> str:
    """The XPath with what stands in quotes blanked, so that every place stays."""
    return _STRINGS.sub(lambda found: found[0][0] + "_" * (len(found[0]) - 2) + found[0][0], text)


def _check_call(call: re.Match[str], bare: str) -> None:
    name = call[1]
    if name in NODE_TESTS or name in _OPERATORS:
        return
    if name not in FUNCTIONS:
        raise BadXPath(f"XPath 1.0 has no function {name}()", call.start(1), _instead(name))
    least, most = FUNCTIONS[name]
    start = call.end()
    depth, count, is_empty = 0, 1, True
    for character in bare[start:]:
        if character in _CLOSING and depth == 0:
            break
        depth += (character in _OPENING) - (character in _CLOSING)
        count += character == "," and depth == 0
        is_empty = is_empty and character.isspace()
    count = 0 if is_empty else count
    if not least <= count <= most:
        wanted = str(least) if least == most else f"{least} or more" if most == _MANY else f"{least} to {most}"
        raise BadXPath(f"{name}() takes {wanted} arguments, not {count}", call.start(1))


def _instead(name: str) -> str:
    known = {
        "lower-case": "translate(., 'ABC…', 'abc…')", "upper-case": "translate(., 'abc…', 'ABC…')",
        "matches": "find = '…' takes a regular expression", "ends-with": "substring(., string-length(.) - 2) = '…'",
        "replace": "clean takes steps", "string-join": "many with join", "tokenize": "split",
    }  # fmt: skip
    return known.get(name.rpartition(":")[2], "")


def _inner_parts(text: str, bare: str) -> Iterator[tuple[int, str]]:
    """What stands in brackets: predicates, and arguments of functions, each with its place."""
    starts: list[int] = []
    for at, character in enumerate(bare):
        if character in _OPENING:
            starts.append(at + 1)
        elif character == "," and starts:
            yield starts[-1], text[starts[-1] : at]
            starts[-1] = at + 1
        elif character in _CLOSING and starts:
            start = starts.pop()
            if text[start:at].strip():
                yield start, text[start:at]


@lru_cache(maxsize=1)
def _probe() -> Any:
    return turbohtml.parse("<p>1</p>").root


@lru_cache(maxsize=2048)
def _compiled_html(text: str) -> turbohtml.XPath:
    try:
        return turbohtml.XPath(text)
    except ValueError as error:
        said = _AT_OFFSET.match(str(error))
        what, offset = (said["what"], int(said["offset"])) if said else (str(error), len(text))
        raise BadXPath(what.removeprefix("xpath: "), offset) from error


def below_html(text: str, scope: turbohtml.Element) -> list[Any]:
    """What an XPath gives from an element of HTML: elements, texts (those of attributes and comments too), or one value."""
    found: Any = _compiled_html(text)(scope)
    return [_plain(node) for node in found] if isinstance(found, list) else [found]


def _plain(node: Any) -> Any:
    if isinstance(node, turbohtml.Element | str):
        return node
    if isinstance(node, turbohtml.Document):
        return node.root
    return str(getattr(node, "data", ""))


@lru_cache(maxsize=256)
def compiled_xml(text: str, namespaces: tuple[tuple[str, str], ...]) -> etree.XPath:
    """An XPath for XML documents with these prefixes. Raises BadXPath."""
    from lxml import etree

    try:
        return etree.XPath(text, namespaces=dict(namespaces) or None, smart_strings=False)
    except etree.XPathError as error:
        raise BadXPath(str(error).lower(), None) from error


def below_xml(text: str, scope: Any, namespaces: tuple[tuple[str, str], ...]) -> list[Any]:
    """The same from an element of XML. Raises BadXPath."""
    from lxml import etree

    from wadi.page.xml_tree import wrapped

    try:
        return wrapped(compiled_xml(text, namespaces)(scope.node))
    except etree.XPathError as error:
        raise BadXPath(str(error).lower(), None) from error
