"""Form controls as a reader sees them: what they hold (HTML Standard §4.10)."""

from __future__ import annotations

from collections.abc import Sequence

from wadi.page.nodes import Element, elements

CONTROLS = ("input", "select", "textarea", "output", "meter", "progress")
"""The elements that have a label (§4.10.2) and hold a value."""
_HOLD_NOTHING = frozenset({"hidden", "submit", "button", "reset", "image", "file", "password"})


def held_by(control: Element) -> Sequence[Element | str] | None:
    """What a control holds, elements or texts: the options that are chosen, `true` or `false` of what can be ticked; None of
    buttons, and of what is not shown."""
    if control.tag == "select":
        return chosen_options(control)
    if control.tag != "input":
        return [control]
    kind = (control.attr("type") or "text").lower()
    if kind in _HOLD_NOTHING:
        return None
    if kind in ("checkbox", "radio"):
        return ["true" if control.attr("checked") is not None else "false"]
    return [control.attr("value") or ""]


def chosen_options(select: Element) -> list[Element]:
    """The options that are chosen as the page stands: of a list of one the last that is marked, else the first (§4.10.7)."""
    options = [option for option in elements(select, "option") if option.attr("disabled") is None]
    chosen = [option for option in options if option.attr("selected") is not None]
    return chosen if select.attr("multiple") is not None else chosen[-1:] or options[:1]
