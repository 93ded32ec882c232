"""How a value says that it cannot be read, and how a setting says that it cannot be used."""

from __future__ import annotations


class NotReadable(ValueError):
    """A text that does not become the value wanted: a problem's code, what is wrong, and why."""

    def __init__(self, code: str, what: str, why: str = "") -> None:
        super().__init__(what)
        self.code = code
        self.what = what
        self.why = why


class BadSetting(ValueError):
    """A locale, format, step or pattern of the plan that means nothing: code, what, what to do, offset in the text."""

    def __init__(self, code: str, what: str, now: str = "", offset: int | None = None) -> None:
        super().__init__(what)
        self.code = code
        self.what = what
        self.now = now
        self.offset = offset
