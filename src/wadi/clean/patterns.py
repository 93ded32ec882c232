"""Regular expressions of plans, compiled: whatever is wrong with one is told in the same way."""

from __future__ import annotations

import re
import warnings
from functools import lru_cache

from wadi.clean.errors import BadSetting

_LONGEST = 10_000


class BadPattern(BadSetting):
    """A regular expression that cannot be read: what is wrong, and where in it, if that is known."""

    def __init__(self, what: str, position: int | None = None) -> None:
        super().__init__("bad-regex", what, offset=position)


@lru_cache(maxsize=1024)
def pattern_of(text: str) -> re.Pattern[str]:
    """The expression compiled. Raises BadPattern."""
    if len(text) > _LONGEST:
        raise BadPattern(f"it has more than {_LONGEST:,} characters")
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", FutureWarning)  # of what may mean something else in a later Python
            return re.compile(text)
    except re.error as error:
        raise BadPattern(error.msg, error.pos) from error
    except (RecursionError, OverflowError, MemoryError) as error:
        raise BadPattern("it is nested too deeply, or repeats too often") from error
