"""What class names are worth as marks of a place: names that people gave, words of layout, and what machines made.

What says what an element is (`price`, `spring-card__code`) survives a redesign sooner than how it looks (`px-4`, `text-sm`);
names that a build made (`css-1q2w3e`, `_card_1x9fz_23`) change with the next one.
"""

from __future__ import annotations

import re
from enum import IntEnum

from wadi.page.nodes import Element

PLAIN_NAME = re.compile(r"-?[^\W\d][\w-]*\Z")
"""A name that a selector takes without an escape."""
_CHUNKS = re.compile(r"[A-Z]?[a-z]+|[A-Z]+|\d+")
_MADE = re.compile(r"(?:css|sc|jss|emotion|styled)-\w{4,}\Z|[0-9a-f]{8,}\Z|ember\d+\Z")
_MIXED = re.compile(r"[a-z]\d+[a-z]|\A\d\w*[a-z]", re.IGNORECASE)
_LAYOUT = re.compile(
    r"(?:[a-z]+:)?-?(?:[mp][trblxy]?|[wh]|gap|space|min|max|top|left|right|bottom|inset|z|cols?|row|grid|flex|basis|grow|shrink|items"
    r"|justify|self|place|text|font|leading|tracking|bg|border|rounded|shadow|opacity|ring|divide|overflow|align|cursor|transition"
    r"|hover|focus|sm|md|lg|xl|d|float|order|col-(?:xs|sm|md|lg))[-:/].*"
    r"|flex|grid|block|inline|hidden|underline|truncate|uppercase|italic|clearfix|container|wrapper|wrap|row|col|odd|even|first|last"
    r"|active|on|off|left|right|center|wide|small|large|big|up|down|num|grey|gray|red|green|border|rounded|shadow"
)
_WITH_HASH = re.compile(r"(_?[A-Za-z][A-Za-z-]*(?:_[A-Za-z][A-Za-z-]*)*_)_?(?=[\w-]*\d)[\w-]{4,}\Z")


class Worth(IntEnum):
    """How well a class name marks a place; the lower the better."""

    NAMED = 0
    LAYOUT = 1
    MADE = 2


def worth(token: str) -> Worth:
    """What a class name is worth. Method: words of layout by a list; made ones by digits among letters, or by many short
    chunks of changing case, in one of the parts between hyphens and underscores."""
    if _MADE.match(token) or any(map(_is_made, re.split(r"[-_]+", token))):
        return Worth.MADE
    return Worth.LAYOUT if _LAYOUT.fullmatch(token) or not PLAIN_NAME.match(token) else Worth.NAMED


def _is_made(part: str) -> bool:
    if len(part) >= 4 and _MIXED.search(part):
        return True
    chunks = _CHUNKS.findall(part)
    return len(part) > 4 and len(chunks) > 2 and len(part) / len(chunks) < 2.6 and not part.isdecimal()


def stem(token: str) -> str:
    """The part of a made name that a person gave, with the underscore behind it (`_card_1x9fz_23` → `_card_`); "" without one."""
    found = _WITH_HASH.match(token)
    return found[1] if found is not None and worth(token) is Worth.MADE else ""


def tokens(element: Element) -> list[str]:
    """The class names of an element."""
    return (element.attr("class") or "").split()


def names(element: Element, of: Worth = Worth.NAMED) -> list[str]:
    """The class names of an element that are worth so much, and that a selector takes as they are."""
    return [token for token in tokens(element) if worth(token) is of and PLAIN_NAME.match(token)]
