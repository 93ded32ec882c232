"""How a value says that it cannot be read, and how a setting says that it cannot be used."""

from __future__ import annotations


class NotReadable(ValueError):
    """A text that does not become the value wanted: a problem's code, what is wrong, and why, or which key would read it."""

    def __init__(self, code: str, what: str, why: str = "") -> None:
        super().__init__(what)
        self.code = code
        self.what = what
        self.why = why or _USUAL_WHY.get(code, "")


_USUAL_WHY = {
    "not-a-number": "find takes a number out of it,  map gives one for a word",
    "ambiguous-number": "find takes the number out,  clean puts a sign before it",
    "other-unit": "units = { UNIT = FACTOR }  turns another unit into the column's",
    "too-large-number": 'type = "string"  keeps it as it is written',
    "ambiguous-currency": "find takes one of them out,  currency says what a sign means",
    "not-a-date": 'find takes a date out of it,  type = "string"  keeps it as it is written',
    "not-a-time": 'find takes a time out of it,  type = "string"  keeps it as it is written',
    "not-a-duration": 'find takes a length out of it,  type = "string"  keeps it as it is written',
    "not-a-point": "such as  54.1, -2.3  or  54.1° N, 2.3° W;  find takes a point out of other text",
    "not-a-phone": 'find takes a number out of other text,  type = "string"  keeps it as it is written',
    "not-an-email": "find takes an address out of other text",
}
"""What is to be done about a text that cannot be read, where nothing else is said."""


class BadSetting(ValueError):
    """A locale, format, step or pattern of the plan that means nothing: code, what, what to do, offset in the text."""

    def __init__(self, code: str, what: str, now: str = "", offset: int | None = None) -> None:
        super().__init__(what)
        self.code = code
        self.what = what
        self.now = now
        self.offset = offset
