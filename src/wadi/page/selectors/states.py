"""What elements are: empty, links, checked, disabled, writable (HTML Living Standard, "Pseudo-classes")."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from lxml import etree

Element = etree._Element
Test = Callable[[Element, "Round"], bool]

_FORM_FIELDS = frozenset({"button", "input", "select", "textarea"})
_DISABLING = _FORM_FIELDS | {"option", "optgroup", "fieldset"}
_NOT_TYPED = frozenset({"hidden", "range", "color", "checkbox", "radio", "file", "submit", "image", "reset", "button"})


@dataclass(slots=True)
class Round:
    """One round of matching: the element that is searched from, and what was counted on the way."""

    scope: Element | None
    positions: dict[tuple[Element, object], dict[Element, int]] = field(default_factory=dict)


def _is_empty(element: Element, round_: Round) -> bool:
    """No child but comments, no text: white space is text (as in Selectors 3; browsers do the same)."""
    if element.text:
        return False
    return all(not isinstance(child.tag, str) and not child.tail for child in element)


def _is_link(element: Element, round_: Round) -> bool:
    return element.tag in ("a", "area") and element.get("href") is not None


def _is_checked(element: Element, round_: Round) -> bool:
    if element.tag == "option":
        return element.get("selected") is not None
    is_box = element.tag == "input" and (element.get("type") or "").lower() in ("checkbox", "radio")
    return is_box and element.get("checked") is not None


def _is_disabled(element: Element, round_: Round) -> bool:
    """By its own attribute, an optgroup's, or a fieldset's (but in the first legend of that)."""
    if element.tag not in _DISABLING:
        return False
    if element.get("disabled") is not None:
        return True
    if element.tag == "option":
        parent = element.getparent()
        return parent is not None and parent.tag == "optgroup" and parent.get("disabled") is not None
    if element.tag == "optgroup":
        return False
    below: Element = element
    for around in element.iterancestors():
        if around.tag == "fieldset" and around.get("disabled") is not None:
            legend = next(around.iterchildren("legend"), None)
            return below is not legend
        below = around
    return False


def _is_writable(element: Element, round_: Round) -> bool:
    if element.get("contenteditable") in ("", "true"):
        return True
    is_text = element.tag == "textarea" or (
        element.tag == "input" and (element.get("type") or "text").lower() not in _NOT_TYPED
    )
    return is_text and element.get("readonly") is None and not _is_disabled(element, round_)


def _is_default(element: Element, round_: Round) -> bool:
    if _is_checked(element, round_):
        return True
    is_button = element.tag == "button" and (element.get("type") or "submit").lower() == "submit"
    is_button = is_button or (element.tag == "input" and (element.get("type") or "").lower() in ("submit", "image"))
    form = next(element.iterancestors("form"), None) if is_button else None
    if form is None:
        return False
    buttons = (
        one for one in form.iter("button", "input") if one.tag == "button" or one.get("type") in ("submit", "image")
    )
    return next(buttons, None) is element


STATES: dict[str, Test] = {
    "root": lambda element, round_: element.getparent() is None,
    "scope": lambda element, round_: element is round_.scope,
    "empty": _is_empty,
    "any-link": _is_link,
    "link": _is_link,
    "checked": _is_checked,
    "disabled": _is_disabled,
    "enabled": lambda element, round_: element.tag in _DISABLING and not _is_disabled(element, round_),
    "required": lambda element, round_: element.tag in _FORM_FIELDS and element.get("required") is not None,
    "optional": lambda element, round_: (
        element.tag in ("input", "select", "textarea") and element.get("required") is None
    ),
    "read-write": _is_writable,
    "read-only": lambda element, round_: not _is_writable(element, round_),
    "default": _is_default,
    "indeterminate": lambda element, round_: element.tag == "progress" and element.get("value") is None,
    "placeholder-shown": lambda element, round_: (
        element.tag in ("input", "textarea")
        and bool(element.get("placeholder"))
        and not element.get("value")
        and not element.text
    ),
}
