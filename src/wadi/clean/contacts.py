"""Mail addresses from text (RFC 5321, RFC 6531)."""

from __future__ import annotations

import re

from wadi.clean.errors import NotReadable

# Small letters without brackets are words: meet at noon dot com.
_AT = re.compile(r"\s*(?:@|(?i:\(at\)|\[at\]|\{at\})|\s+AT\s+)\s*")
_DOT = re.compile(r"\s*(?:(?i:\(dot\)|\[dot\]|\{dot\})|\s+DOT\s+)\s*")
# The form of RFC 5321 §4.1.2 without quotes and address literals, with letters of all scripts (RFC 6531).
_MAIL = re.compile(r"[^\s@()<>,;:\"\[\]\\]{1,64}@(?:[^\W_](?:[\w-]{0,61}[^\W_])?\.)+[^\W\d_](?:[\w-]{0,61}[^\W_])?")


def read_email(text: str) -> str:
    """A mail address, its domain in small letters; `mailto:` and names around it go, `(at)` and `(dot)` are read."""
    plain = text.strip().removeprefix("mailto:").partition("?")[0]
    if "@" not in plain:
        plain = _DOT.sub(".", _AT.sub("@", plain, count=1))
    found = _MAIL.findall(plain)
    if len(found) != 1:
        raise NotReadable(
            "not-an-email", f"{text!r} is {'no mail address' if not found else 'more than one mail address'}"
        )
    name, _, domain = found[0].rpartition("@")
    return f"{name}@{domain.lower()}"
