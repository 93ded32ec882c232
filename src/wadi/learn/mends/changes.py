"""What is to change in a plan, and how sure that is: the values of a field on rows of which the last run knows them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from typing import Any, Literal

from wadi.clean.errors import BadSetting
from wadi.crawl.requests import source_of
from wadi.learn.examples.known_rows import is_same
from wadi.learn.examples.learned_fields import LearnedField
from wadi.learn.mends.plan_edit import Path, read
from wadi.page.cells import Notes, read_column
from wadi.page.document import Document
from wadi.page.expressions import BadExpression
from wadi.page.nodes import Element
from wadi.plan.fields import compile_field
from wadi.plan.model import FieldPlan
from wadi.problems import plural
from wadi.store.outcome import as_stored
from wadi.table.cells import is_missing
from wadi.table.words import html_table
from wadi.web.messages import Reply

Rating = Literal["sure", "likely", "a guess"]
SURE, LEAST_SURE = 0.9, 4
"""Which share of the values, and how many at least, make a change sure."""
_LIKELY = 0.6
PICKS = frozenset({"at", "from", "under", "label", "within", "attr", "take", "find", "inside", "then"})
"""The keys of a field that say where its value is."""
_WRITING = frozenset({"locale", "format", "unit"})


@dataclass(frozen=True)
class Change:
    """One proposed change: where, what stands there now and what should (None: nothing), as values of TOML; how sure it is,
    and why.

    For a column `before` is the share of rows that had it in the last run, `now` and `after` of those of the page, without
    and with the change; `equal` of `compared` values are those of the last run, `differing` some that are not (last,
    today)."""

    path: Path
    old: Any
    new: Any
    rating: Rating
    why: str
    before: float | None = None
    now: float | None = None
    after: float | None = None
    equal: int = 0
    compared: int = 0
    differing: tuple[tuple[Any, Any], ...] = ()


@dataclass(repr=False)
class Mending:
    """What was found: the changes, what is broken and could not be mended, how many of the last run's records are on the
    pages that were read, and the plan's text with all changes."""

    changes: list[Change] = field(default_factory=list)
    unmended: list[tuple[str, str]] = field(default_factory=list)
    records: int = 0
    pages: list[str] = field(default_factory=list)
    text: str = ""

    @property
    def is_broken(self) -> bool:
        """Whether anything was to be mended."""
        return bool(self.changes or self.unmended)

    def __repr__(self) -> str:
        if not self.is_broken:
            return f"<wadi mending: nothing to mend on {plural(len(self.pages), 'page')}>"
        said = ", ".join(f"{'.'.join(map(str, change.path))} ({change.rating})" for change in self.changes) or "none"
        unmended = f"; not mended: {', '.join(name for name, _ in self.unmended)}" if self.unmended else ""
        return f"<wadi mending: {plural(len(self.changes), 'change')}: {said}{unmended}>"

    def _repr_html_(self) -> str:
        """The changes in a notebook: where, what stands there now and what should, how sure that is, and why."""
        rows: list[tuple[Any, ...]] = [
            (".".join(map(str, one.path)), one.old, one.new, one.rating, one.why) for one in self.changes
        ]
        rows += [(name, "", "", "not mended", why) for name, why in self.unmended]
        return html_table(
            f"{plural(len(self.changes), 'change')}", ("where", "now", "proposed", "how sure", "why"), rows
        )


@dataclass(frozen=True)
class Evidence:
    """How a field does on rows whose earlier values are known: filled, equal, compared, and some that differ (last, today)."""

    filled: int
    equal: int
    compared: int
    differing: tuple[tuple[Any, Any], ...]


def rated(change: Change, evidence: Evidence) -> Change:
    """The change with what its values are like."""
    share = evidence.equal / evidence.compared if evidence.compared else 0.0
    rating: Rating = (
        "sure" if share >= SURE and evidence.equal >= LEAST_SURE else "likely" if share >= _LIKELY else "a guess"
    )
    return replace(
        change, rating=rating, after=evidence.filled / max(1, evidence.compared), equal=evidence.equal,
        compared=evidence.compared, differing=evidence.differing,
    )  # fmt: skip


def best_of(
    name: str,
    old: Any,
    learned: LearnedField,
    pairs: Sequence[tuple[Element, Document, Mapping[str, Any]]],
    reply: Reply,
) -> tuple[Any, Evidence] | None:
    """Of what the field may be now, the one that gives the most values of the last run; None where none gives half of them.

    Tried are the new place with all else as it was, without its map, and with what the texts look like now.
    """
    best: tuple[Any, Evidence] | None = None
    for guess in (learned.guess, *learned.others):
        new = read(guess.as_plan())
        for keep in (None, ("map", "clean"), ("map", "clean", *_WRITING)):
            tried = merged_field(old, new, keep=keep)
            evidence = evidence_of(name, tried, pairs, reply)
            if evidence is not None and (best is None or evidence.equal > best[1].equal):
                best = tried, evidence
    return best if best is not None and best[1].equal * 2 >= best[1].compared else None


def merged_field(old: Any, new: Any, *, keep: Sequence[str] | None) -> Any:
    """A field with its place from `new` and the rest as it was; with `keep`, these keys go, and how texts are written comes
    from `new`."""
    before, after = as_table(old), as_table(new)
    gone = set(keep or ())
    rest = {key: value for key, value in before.items() if key not in PICKS and key not in gone}
    picks = {key: value for key, value in after.items() if key in PICKS}
    writing = {key: value for key, value in after.items() if key in _WRITING} if keep and set(keep) & _WRITING else {}
    if "type" not in rest and writing and "type" in after:
        rest["type"] = after["type"]
    merged = {**picks, **rest, **writing}
    return merged["at"] if list(merged) == ["at"] else merged


def as_table(said: Any) -> dict[str, Any]:
    return dict(said) if isinstance(said, Mapping) else {"at": said}


def evidence_of(
    name: str, said: Any, pairs: Sequence[tuple[Element, Document, Mapping[str, Any]]], reply: Reply
) -> Evidence | None:
    filled, equal, compared = 0, 0, 0
    differing: list[tuple[Any, Any]] = []
    for row, document, record in pairs:
        value = cell_of(name, said, row, document, reply)
        filled += not is_missing(value)
        if is_missing(record.get(name)):
            continue
        compared += 1
        if is_same(record[name], value):
            equal += 1
        else:
            differing.append((record[name], value))
    return Evidence(filled, equal, compared, tuple(differing[:3])) if compared else None


def cell_of(name: str, said: Any, row: Element, document: Document, reply: Reply) -> Any:
    """The value of a field in a row, as a run stores it; None for what cannot be read."""
    try:
        spec = compile_field(name, FieldPlan.model_validate(as_table(said)), date.today().year)  # noqa: DTZ011
        (value,) = read_column(spec, [row], source_of(document, reply), Notes())
        return as_stored(value)
    except (BadExpression, BadSetting, ValueError):
        return None
