"""Values beside their labels: in definition lists, tables of two columns, lines such as "Depth: 12 m"."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from lxml import etree

from wadi.page.text import text_of

Labelled = etree._Element | str
_LABEL_ENDS = " :：\u00a0"
_LONG = 2000
"""What is longer is no label, and hardly a line with one."""


def labelled(scope: etree._Element, labels: Sequence[str]) -> list[Labelled]:
    """What stands beside the first of `labels` that is in `scope`: elements, or a text where no element holds it alone.

    Several `dd` of one `dt` are several values. Case, blanks and a colon at the end of a label do not count.
    """
    for label in labels:
        wanted = folded(label)
        for find in (_in_definitions, _in_tables, _beside, _in_lines):
            found = find(scope, wanted)
            if found:
                return found
    return []


def folded(text: str) -> str:
    """A label as it is compared: without case, blanks and a colon at its end."""
    return " ".join(text.split()).rstrip(_LABEL_ENDS).casefold()


def _in_definitions(scope: etree._Element, wanted: str) -> list[Labelled]:
    for term in scope.iter("dt"):
        if folded(text_of(term)) != wanted:
            continue
        values: list[Labelled] = []
        for after in _after(term):
            if after.tag == "dt" and values:
                break
            if after.tag == "dd":
                values.append(after)
        return values
    return []


def _in_tables(scope: etree._Element, wanted: str) -> list[Labelled]:
    for row in scope.iter("tr"):
        cells = [cell for cell in row if cell.tag in ("td", "th")]
        for place in range(0, len(cells) - 1, 2):
            if folded(text_of(cells[place])) == wanted:
                return [cells[place + 1]]
    return []


def _beside(scope: etree._Element, wanted: str) -> list[Labelled]:
    """An element that holds the label alone, and the element or the text behind it."""
    for element in scope.iter():
        if not isinstance(element.tag, str) or element is scope or is_long(element):
            continue
        if folded(text_of(element)) != wanted:
            continue
        tail = (element.tail or "").strip().lstrip(_LABEL_ENDS).strip()
        following = element.getnext()
        if tail:
            return [tail]
        if following is not None and isinstance(following.tag, str):
            return [following]
    return []


def _in_lines(scope: etree._Element, wanted: str) -> list[Labelled]:
    for line in _lines(scope):
        label, colon, value = line.replace("：", ":").partition(":")
        if colon and folded(label) == wanted and value.strip():
            return [value.strip()]
    return []


def _lines(scope: etree._Element) -> Iterator[str]:
    """The lines of the elements that hold text themselves, the innermost first."""
    holders = [e for e in scope.iter() if isinstance(e.tag, str) and (len(e) == 0 or (e.text or "").strip())]
    long_ones = {e for e in holders if is_long(e)}
    # Long ones hold others, mostly; to read them all takes long where they nest deeply.
    for some in ([e for e in holders if e not in long_ones], [e for e in holders if e in long_ones]):
        yield from (line for text in sorted(map(text_of, some), key=len) for line in text.split("\n"))


def is_long(element: etree._Element) -> bool:
    """Whether an element holds too much for a line, what is not shown counted."""
    if not len(element):
        return len(element.text or "") > _LONG
    letters = _LONG
    for piece in element.itertext():
        letters -= len(piece.strip())
        if letters < 0:
            return True
    return False


def _after(element: etree._Element) -> Iterable[etree._Element]:
    """The elements behind a `dt`: also those of the next `div` where pairs are wrapped."""
    following = list(element.itersiblings())
    if following or element.getparent() is None:
        return following
    return [inner for wrapper in element.getparent().itersiblings() for inner in wrapper]  # type: ignore[union-attr]
