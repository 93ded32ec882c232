"""What stands beside a number and may give it another value: arrows, words of direction, dozens, eras.

A number's neighbours are its sign, its scale, its unit, its currency, and words. What is none of the first four is a word, which
may stand there where the column says so; words that could make it another number are refused.
"""

from __future__ import annotations

import re
from functools import cache

from wadi.clean.errors import NotReadable

TAKE_OUT = "find takes the number out,  clean puts a sign before it"
_DOWN, _UP = "▼▽🔻↓⬇⇩⇓↘⤵📉", "▲△🔺↑⬆⇧⇑↗⤴📈"
ARROW = re.compile(f"[{_DOWN}{_UP}▾▿▴▵][\ufe0e\ufe0f]?")
_NEAR_WORDS = 3
_IDEOGRAPH_OR_KANA = re.compile("[\u3040-\u30ff\u3400-\u9fff]")
_COUNTS = re.compile(
    r"(?:dozen|hundreds?|score|gross|pairs?|dutzend|hundert|paar|douzaines?|centaines?|docenas?|dozzin[ae]|dúzias?|dozijn|dussin|dusin|"
    r"дюжин\w*|сотн\w*|tucet\w*|tuzin\w*|grand|(?-i:[CD][Rr]))(?![^\W\d_])",
    re.IGNORECASE,
)
_ERA = re.compile(
    r"(?:(?-i:B\.?\s?C\.?(?:\s?E\.?)?|A\.?D\.?)|v\.\s?chr|n\.\s?chr|av\.\s?j|до\s?н|н\.\s?э)(?![^\W\d_])", re.IGNORECASE
)
TO_NOW = re.compile(
    r"\s*[-–—]\s*(?:present|now|today|date|heute|jetzt|aujourd|présent|presente|hoy|oggi|ora|heden|nu|idag)\b",
    re.IGNORECASE,
)
"""What stands behind the beginning of a time that has no end yet."""
_MILLIONS = re.compile(r"[mb](?:\s+[^\W\d_]|$)")


@cache
def _direction() -> re.Pattern[str]:
    """Words that say in which direction a number goes: whether it is negative then is a person's to tell."""
    return re.compile(
        r"\b(?:down|fell|fallen|dropp?(?:ed|s)?|loss(?:es)?|lost|loses?|decline[ds]?|decreased?|decreases|below|under|"
        r"(?<=· )lower|(?:lower|short|reduced|reduction)\s+(?:by|of)|less|fewer|deficit|negative|neg|"
        r"gefallen|fällt|fiel|gesunken|sank|sinkt|verlust\w*|rückgang|unter|unterhalb|weniger|baisse|perte|recul|chute|dessous|sous|"
        r"baja|bajó|cayó|pérdida|descenso|caída|debajo|bajo|calo|perdita|ribasso|sotto|queda|caiu|perda|baixa|abaixo|daling|daalde|"
        r"verlies|onder|gedaald|снижение|упал[аи]?|убыток|потер[яи]|ниже|падение|spadek|spadł[ay]?|strata|"
        r"poniżej|förlust|minskning|nedgång|fald|ztráta|pokles|düştü|kayıp|altında)\b|下落|下跌|減少|减少|亏损|損失|하락|감소|손실",
        re.IGNORECASE,
    )


def check_neighbours(plain: str, start: int, before: str, after: str) -> None:
    """Raise NotReadable for a number, which begins at a place of a text, where a word beside it may give it another value."""
    near = f"{' '.join(before.split()[-_NEAR_WORDS:])} · {_first_word(after)}"
    word = _direction().search(near) or _direction().search(" ".join(after.split()[:_NEAR_WORDS]))
    if word is not None and (word[0].casefold() not in _PLACES or _direction().search(near) is not None):
        what = f"{word[0]!r} could say that it is negative"
    elif start and re.fullmatch("[A-Za-z]", plain[start - 1]) and re.search(r"[A-Za-z][0-9]", after):
        what = "several codes"  # M25 J10
    elif _COUNTS.match(after) is not None:
        what = f"{after.split()[0]!r} counts several"
    elif _ERA.match(after) is not None:
        what = "a year of an era"
    elif TO_NOW.match(after) is not None:
        what = "from then to now"
    elif _MILLIONS.match(after) is not None and plain[: plain.rindex(after)][-1:].isdecimal():
        what = f"{after[0]!r} may be millions, or a unit (unit = {after[0]!r})"
    else:
        return
    raise NotReadable("ambiguous-number", f"{plain[:60]!r}: {what}", TAKE_OUT)


_PLACES = frozenset(
    "below under unter unterhalb dessous sous debajo bajo sotto abaixo onder ниже poniżej altında".split()
)
"""Words that behind a unit tell a place and no direction: 12 m below ground."""


def _first_word(after: str) -> str:
    """The word at a number, behind a sign of its unit; behind a unit of letters the text is about something else."""
    found = re.match(r"[^\w]*(\w*)", after)
    return found[1] if found is not None else ""


def without_arrow(plain: str, head: str, after: str) -> tuple[str, str, bool | None]:
    """What stands before and after a numeral without an arrow or a triangle at it, and whether that points down; None without
    one. Raises NotReadable where it may be no sign."""
    found = [*ARROW.findall(head), *ARROW.findall(after)]
    if not found:
        return head, after, None
    is_doubtful = len(found) > 1 or found[0][0] in "▾▿▴▵"
    if is_doubtful or (found[0][0] in "▲△" and _IDEOGRAPH_OR_KANA.search(plain)):  # Japanese accounts write ▲ for minus
        raise NotReadable("ambiguous-number", f"{plain[:60]!r}: {found[0]!r} may be a sign, or none", TAKE_OUT)
    return ARROW.sub("", head), ARROW.sub("", after).strip(), found[0][0] in _DOWN
