"""HTML forms: the fields that a browser would send, values put over them, and the request that comes of it.

Follows the HTML Standard §4.10.21: constructing the entry list and submitting.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote_plus, urlsplit, urlunsplit

from wadi.page.controls import chosen_options
from wadi.page.document import Document
from wadi.page.nodes import Element, ancestors, elements, first, raw_text_of
from wadi.page.text import text_of
from wadi.web.messages import Request
from wadi.web.parameters import written

_NOT_SENT = frozenset({"submit", "button", "reset", "image", "file"})
Pairs = list[tuple[str, str]]


@dataclass(frozen=True, slots=True)
class Form:
    """A form read: where it is sent and how, the names and values of its fields as they stand, and all names it has."""

    action: str
    method: str
    coding: str
    encoding: str
    entries: tuple[tuple[str, str], ...]
    names: tuple[str, ...]

    def request(self, values: Mapping[str, Any]) -> Request:
        """What is sent when these values are filled in; lists give a name several times."""
        pairs = _with_values(list(self.entries), values)
        if self.method != "post":
            parts = urlsplit(self.action)
            return Request(urlunsplit(parts._replace(query=self._encoded(pairs), fragment="")))
        if self.coding == "multipart/form-data":
            body, content_type = _multipart(pairs, self.encoding)
        else:
            body, content_type = self._encoded(pairs).encode(), "application/x-www-form-urlencoded"
        return Request(self.action.partition("#")[0], "POST", (("Content-Type", content_type),), body)

    def _encoded(self, pairs: Pairs) -> str:
        """Names and values percent-encoded in the page's own encoding, as browsers do it."""
        return "&".join(f"{self._quoted(name)}={self._quoted(value)}" for name, value in pairs)

    def _quoted(self, text: str) -> str:
        return quote_plus(text.encode(self.encoding, "xmlcharrefreplace"), safe="*")

    def unknown(self, values: Mapping[str, Any]) -> list[str]:
        """Which values the form has no field for."""
        return [name for name in values if name not in self.names]


def form_of(element: Element, document: Document) -> Form:
    """The form in an element: itself, the first one inside it, or the one around it. Raises ValueError, NotAUrl."""
    form = element if element.tag == "form" else first(element, "form")
    if form is None:
        form = next(ancestors(element, "form"), None)
    if form is None:
        raise ValueError("there is no form in it")
    controls = _controls(form, document)
    entries: Pairs = []
    for control in controls:
        entries += _entries(control)
    return Form(
        document.resolve(form.attr("action") or document.url),
        (form.attr("method") or "get").strip().lower(),
        (form.attr("enctype") or "").strip().lower(),
        _encoding(form, document),
        (*entries, *_default_button(controls)),
        tuple(dict.fromkeys(name for control in controls if (name := control.attr("name")))),
    )


def password_form(document: Document) -> Element | None:
    """The first form with a field for a password."""
    return next(
        (form for form in elements(document.top, "form") if any(map(_is_password, elements(form, "input")))), None
    )


def _is_password(control: Element) -> bool:
    return (control.attr("type") or "").lower() == "password"


def credentials_names(form: Element) -> tuple[str | None, str | None]:
    """The names of the fields for user name and password: the password's, and the last text field before it."""
    user: str | None = None
    for control in elements(form, "input"):
        kind = (control.attr("type") or "text").lower()
        if kind == "password":
            return user, control.attr("name")
        if kind in ("text", "email", "tel", "search") and control.attr("name"):
            user = control.attr("name")
    return user, None


def _controls(form: Element, document: Document) -> list[Element]:
    """The form's controls in tree order, those that belong to it by its id included."""
    name = form.attr("id")
    found = []
    for control in elements(document.top, "input", "select", "textarea", "button"):
        owner = control.attr("form")
        if owner is not None:
            belongs = owner == name
        else:
            belongs = form in ancestors(control, "form")
        if belongs and control.attr("disabled") is None and not _in_disabled_set(control):
            found.append(control)
    return found


def _in_disabled_set(control: Element) -> bool:
    return any(above.attr("disabled") is not None for above in ancestors(control, "fieldset"))


def _entries(control: Element) -> Pairs:
    name = control.attr("name")
    if not name or control.tag == "button":
        return []
    if control.tag == "select":
        chosen = chosen_options(control)
        return [(name, value if (value := option.attr("value")) is not None else text_of(option)) for option in chosen]
    if control.tag == "textarea":
        return [(name, raw_text_of(control))]
    kind = (control.attr("type") or "text").lower()
    if kind in _NOT_SENT:
        return []
    if kind in ("checkbox", "radio"):
        return [(name, control.attr("value") or "on")] if control.attr("checked") is not None else []
    return [(name, control.attr("value") or "")]


def _default_button(controls: list[Element]) -> Pairs:
    """What the form's first submit button sends along, if it has a name."""
    for control in controls:
        kind = (control.attr("type") or ("submit" if control.tag == "button" else "text")).lower()
        if kind in ("submit", "image") and control.tag in ("button", "input"):
            name = control.attr("name")
            return [(name, control.attr("value") or "")] if name and kind == "submit" else []
    return []


def _with_values(entries: Pairs, values: Mapping[str, Any]) -> Pairs:
    """The entries with values put in: in the place of the first of a name, new names at the end."""
    pairs: Pairs = []
    done: set[str] = set()
    for name, value in entries:
        if name not in values:
            pairs.append((name, value))
        elif name not in done:
            done.add(name)
            pairs += [(name, text) for text in _texts(values[name])]
    pairs += [(name, text) for name, value in values.items() if name not in done for text in _texts(value)]
    return pairs


def _texts(value: Any) -> list[str]:
    return [written(member) for member in value] if isinstance(value, list) else [written(value)]


def _encoding(form: Element, document: Document) -> str:
    """The encoding that form data is sent in: the form's own, else the page's; UTF-16 becomes UTF-8."""
    import webencodings

    for label in [*(form.attr("accept-charset") or "").replace(",", " ").split(), document.encoding.name]:
        known = webencodings.lookup(label)
        if known is not None and not known.name.startswith("utf-16"):
            return str(known.codec_info.name)
    return "utf-8"


def _multipart(pairs: Pairs, encoding: str) -> tuple[bytes, str]:
    """A body of `multipart/form-data` (RFC 7578); the boundary follows from the content, so that it is the same again."""
    digest = hashlib.sha256(repr(pairs).encode()).hexdigest()[:24]
    boundary = f"----form-{digest}"
    parts = []
    for name, value in pairs:
        quoted = name.replace("\\", "\\\\").replace('"', "%22")
        parts.append(f'--{boundary}\r\nContent-Disposition: form-data; name="{quoted}"\r\n\r\n{value}\r\n')
    body = ("".join(parts) + f"--{boundary}--\r\n").encode(encoding, "xmlcharrefreplace")
    return body, f"multipart/form-data; boundary={boundary}"
