"""The steps of `clean`: one-line sentences, `VERB ARGUMENT…`, quoted as in a shell, from text to text.

A new step is a function below, a line in STEPS, its cases and its line in docs/plan.md.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from urllib.parse import unquote

from wadi.clean.errors import BadSetting, NotReadable
from wadi.clean.patterns import BadPattern, pattern_of
from wadi.problems import listed, nearest

Step = Callable[[str], str]
Functions = Mapping[str, Callable[..., object]]
_QUOTES = "\"'“”„‟‘’‚‛«»‹›「」『』"
_PLAIN = {**dict.fromkeys(map(ord, "“”„‟«»"), '"'), **dict.fromkeys(map(ord, "‘’‚‛‹›"), "'")}


@dataclass(frozen=True, slots=True)
class Verb:
    """A kind of step: its function of the arguments, the words that stand for them, and what it does in one line."""

    make: Callable[..., Step]
    arguments: tuple[str, ...]
    optional: int
    help: str


def _after(mark: str) -> Step:
    return lambda text: text.partition(mark)[2].strip() if mark in text else text


def _before(mark: str) -> Step:
    return lambda text: text.partition(mark)[0].strip()


def _between(left: str, right: str) -> Step:
    def step(text: str) -> str:
        _, found, rest = text.partition(left)
        inside, closed, _ = rest.partition(right)
        return inside.strip() if found and closed else text

    return step


def _drop(part: str) -> Step:
    return lambda text: " ".join(text.replace(part, "").split(" ")).strip()


def _replace(old: str, new: str) -> Step:
    return lambda text: text.replace(old, new)


def _nth(number: int, separator: str | None = None) -> Step:
    def step(text: str) -> str:
        parts = [part.strip() for part in text.split(separator)]
        index = number - 1 if number > 0 else number
        return parts[index] if -len(parts) <= index < len(parts) else ""

    return step


def _line(number: int) -> Step:
    return _nth(number, "\n")


def _remove(pattern: str) -> Step:
    expression = _pattern(pattern)
    return lambda text: " ".join(expression.sub("", text).split(" ")).strip()


def _substitute(pattern: str, new: str) -> Step:
    expression = _pattern(pattern)
    return lambda text: expression.sub(new, text)


def _pattern(pattern: str) -> re.Pattern[str]:
    try:
        return pattern_of(pattern)
    except BadPattern as error:
        where = f" at position {error.offset}" if error.offset is not None else ""
        raise BadSetting("bad-step", f"regular expression {pattern[:60]!r}: {error.what}{where}") from error


def _count(symbol: str) -> Step:
    """How often a symbol stands there; a half star after whole ones counts a half."""
    return lambda text: f"{text.count(symbol) + 0.5 * (text.count('½') + text.count('⯨')):g}"


def _unquoted() -> Step:
    return lambda text: text.strip(_QUOTES + " ")


def _plain_quotes() -> Step:
    return lambda text: text.translate(_PLAIN)


def _title() -> Step:
    return lambda text: re.sub(
        r"[^\W\d_]+(?:['’][^\W\d_]+)*", lambda word: word[0][:1].upper() + word[0][1:].lower(), text
    )


def _cased(how: str) -> Callable[..., Step]:
    """Letters by the rules of a locale: Turkish and Azeri have two letters i, Lithuanian and Greek theirs."""

    def make(locale: str | None = None) -> Step:
        turkic = locale is not None and locale[:2].lower() in ("tr", "az")
        if how == "lower":
            return lambda text: (text.replace("İ", "i").replace("I", "ı") if turkic else text).lower()
        return lambda text: (text.replace("i", "İ").replace("ı", "I") if turkic else text).upper()

    return make


def _percent_decoded() -> Step:
    """Escapes of URLs undone (RFC 3986 §2.1), in UTF-8; what is no UTF-8 stays as it is."""

    def step(text: str) -> str:
        try:
            return unquote(text, errors="strict")
        except UnicodeDecodeError:
            return text

    return step


def _first(count: int) -> Step:
    return lambda text: text[:count] if count > 0 else text[count:]


def _append(more: str) -> Step:
    return lambda text: text + more if text else text


def _prepend(more: str) -> Step:
    return lambda text: more + text if text else text


def _entities() -> Step:
    from html import unescape

    return unescape


def _one_line() -> Step:
    return lambda text: " ".join(text.split())


def _no_accents() -> Step:
    from unicodedata import combining, normalize

    return lambda text: normalize("NFC", "".join(c for c in normalize("NFD", text) if not combining(c)))


STEPS: dict[str, Verb] = {
    "after": Verb(_after, ("TEXT",), 0, "what comes after the first TEXT; all of it where there is none"),
    "before": Verb(_before, ("TEXT",), 0, "what comes before the first TEXT; all of it where there is none"),
    "between": Verb(_between, ("LEFT", "RIGHT"), 0, "what is between the first LEFT and the next RIGHT"),
    "percent-decode": Verb(_percent_decoded, (), 0, "escapes of addresses undone: %C3%A9 becomes é"),
    "drop": Verb(_drop, ("TEXT",), 0, "every TEXT taken out"),
    "drop-match": Verb(_remove, ("PATTERN",), 0, "everything that a regular expression matches taken out"),
    "replace": Verb(_replace, ("OLD", "NEW"), 0, "every OLD turned into NEW"),
    "replace-match": Verb(
        _substitute, ("PATTERN", "NEW"), 0, "what a regular expression matches turned into NEW (\\1 is its first group)"
    ),
    "lower": Verb(_cased("lower"), ("LOCALE",), 1, "in small letters, by the rules of a locale (default: none)"),
    "upper": Verb(_cased("upper"), ("LOCALE",), 1, "in capital letters, by the rules of a locale (default: none)"),
    "title": Verb(_title, (), 0, "each word with a capital letter"),
    "nth": Verb(
        _nth, ("NUMBER", "SEPARATOR"), 1, "part NUMBER of the text split at SEPARATOR (blanks); -1 is the last"
    ),
    "line": Verb(_line, ("NUMBER",), 0, "line NUMBER of the text; -1 is the last"),
    "first": Verb(_first, ("NUMBER",), 0, "the first NUMBER characters; the last ones of a negative NUMBER"),
    "count": Verb(_count, ("SYMBOL",), 0, "how often SYMBOL is there: stars as a number, ½ counts a half"),
    "put-behind": Verb(_append, ("TEXT",), 0, "TEXT put behind it"),
    "put-before": Verb(_prepend, ("TEXT",), 0, "TEXT put in front of it"),
    "no-quotes": Verb(_unquoted, (), 0, "quotation marks around it gone"),
    "plain-quotes": Verb(_plain_quotes, (), 0, "curly and angled quotation marks turned into ' and \""),
    "entities": Verb(_entities, (), 0, "HTML entities that the page shows as text decoded once"),
    "one-line": Verb(_one_line, (), 0, "line ends turned into blanks"),
    "no-accents": Verb(_no_accents, (), 0, "letters without their accents"),
    "call": Verb(
        lambda name: _not_here, ("FUNCTION",), 0, "what a function of the plan's code makes of it; None: no value"
    ),
}


def _not_here(text: str) -> str:
    raise AssertionError("functions are put in by step_of")


def step_of(sentence: str, functions: Functions | None = None) -> Step:
    """The function that a sentence stands for; `functions` are those that `call` finds. Raises BadSetting with what was meant."""
    try:
        words = shlex.split(sentence)
    except ValueError as error:
        raise BadSetting("bad-step", f"step {sentence!r} has a quote that is not closed") from error
    if not words:
        raise BadSetting("bad-step", "a step is empty", f"verbs: {listed(STEPS, 99)}")
    name, *arguments = words
    verb = STEPS.get(name)
    if verb is None:
        near = nearest(name, STEPS)
        now = f'did you mean "{near}"?' if near else f"verbs: {listed(STEPS, 99)}"
        raise BadSetting("bad-step", f'step {sentence!r}: there is no verb "{name}"', now, offset=0)
    least = len(verb.arguments) - verb.optional
    if not least <= len(arguments) <= len(verb.arguments):
        wanted = " ".join([name, *verb.arguments])
        raise BadSetting(
            "bad-step", f"step {sentence!r} has {len(arguments)} arguments", f"write:  {wanted}   (quote blanks: '…')"
        )
    typed = [_argument(word, kind, sentence) for word, kind in zip(arguments, verb.arguments, strict=False)]
    return _called(str(typed[0]), functions) if name == "call" else verb.make(*typed)


def _called(name: str, functions: Functions | None) -> Step:
    """A function of the analyst's as a step: its exception is the problem of the one cell."""
    function = called(name, functions)

    def step(text: str) -> str:
        value = function(text)
        return "" if value is None else str(value)

    return step


def called(name: str, functions: Functions | None) -> Callable[..., object]:
    """A function of the plan's code whose exceptions become NotReadable, with the line. Raises BadSetting when there is none."""
    if functions is None:
        return lambda *values: values[0]
    if name not in functions:
        near = nearest(name, functions)
        now = (
            f'did you mean "{near}"?'
            if near
            else f"functions: {listed(functions)}"
            if functions
            else 'code = "FILE.py"'
        )
        raise BadSetting("bad-code", f'the plan\'s code has no function "{name}"', now)
    function = functions[name]

    def call(*values: object) -> object:
        try:
            return function(*values)
        except Exception as error:  # the analyst's code may raise anything: one cell is lost, not the run
            raise NotReadable("code-failed", f"{name}({values[0]!r}), {where_it_failed(error)}") from error

    return call


def where_it_failed(error: BaseException) -> str:
    """The line of the analyst's code that raised, the exception and what it says."""
    trace = error.__traceback__
    while trace is not None and trace.tb_next is not None:
        trace = trace.tb_next
    line = f"line {trace.tb_lineno}: " if trace is not None else ""
    return f"{line}{type(error).__name__}: {error}"


def _argument(word: str, kind: str, sentence: str) -> str | int:
    if kind != "NUMBER":
        return word
    try:
        number = int(word)
    except ValueError:
        number = 0
    if number == 0:
        raise BadSetting(
            "bad-step", f"step {sentence!r}: {word!r} is no number of a part", "1 is the first, -1 the last"
        )
    return number
