"""The plan's checks on a table: each rule a function in a dict by name; rows are walked once for all of them."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from wadi.clean.arithmetic import Formula
from wadi.clean.errors import NotReadable
from wadi.clean.patterns import pattern_of
from wadi.plan.checks import BoundsPlan, CheckPlan, ColumnCheckPlan
from wadi.quality.tables import TableSource
from wadi.table.cells import flat, is_missing, moment_of
from wadi.table.keys import SeenKeys, keys_of

EXAMPLES = 3
_LENGTH_OF_DAY = len("2024-05-03")


@dataclass(frozen=True)
class Broken:
    """A check that does not hold: what was wanted and what is; of checks on cells how many break it, with the first rows
    (number from 1, key, value)."""

    table: str
    column: str
    rule: str
    what: str
    count: int = 0
    examples: tuple[tuple[int, str, str], ...] = ()


Breaks = Callable[[Any], bool]
"""Whether a cell breaks a rule."""


@dataclass(frozen=True)
class Context:
    """What rules know beside the column: the day of the run as ISO 8601, and the values of columns that are referred to."""

    day: str
    values: Callable[[str], set[Any]]


def _minimum(check: ColumnCheckPlan, context: Context) -> Breaks | None:
    bound = check.minimum
    return None if bound is None else lambda value: _is_before(value, bound)


def _maximum(check: ColumnCheckPlan, context: Context) -> Breaks | None:
    bound = check.maximum
    return None if bound is None else lambda value: _is_before(bound, value)


def _is_before(one: Any, other: Any) -> bool:
    """Whether a value is less than another: moments as moments, of whatever offset; what cannot be compared is not."""
    if isinstance(one, str) != isinstance(other, str):
        return False
    if isinstance(one, str) and max(len(one), len(other)) > _LENGTH_OF_DAY:
        first, second = moment_of(one), moment_of(other)
        if first is not None and second is not None:
            return first < second
    return bool(one < other)


def _min_length(check: ColumnCheckPlan, context: Context) -> Breaks | None:
    least = check.min_length
    return None if least is None else lambda value: len(_sized(value)) < least


def _max_length(check: ColumnCheckPlan, context: Context) -> Breaks | None:
    most = check.max_length
    return None if most is None else lambda value: len(_sized(value)) > most


def _sized(value: Any) -> Any:
    return value if isinstance(value, str | list) else str(value)


def _pattern(check: ColumnCheckPlan, context: Context) -> Breaks | None:
    if check.pattern is None:
        return None
    matches = pattern_of(check.pattern).fullmatch
    return lambda value: any(matches(str(flat(member))) is None for member in _each(value))


def _enum(check: ColumnCheckPlan, context: Context) -> Breaks | None:
    if check.enum is None:
        return None
    known = {(type(allowed) is bool, allowed) for allowed in check.enum}
    return lambda value: any((type(member) is bool, member) not in known for member in _each(value))


def _past(check: ColumnCheckPlan, context: Context) -> Breaks | None:
    return (lambda value: str(value)[:10] > context.day) if check.past else None


def _refers_to(check: ColumnCheckPlan, context: Context) -> Breaks | None:
    if check.refers_to is None:
        return None
    known = context.values(check.refers_to)
    return lambda value: any(flat(member) not in known for member in _each(value))


def _each(value: Any) -> list[Any]:
    return value if isinstance(value, list) else [value]


CELL_RULES: dict[str, tuple[Callable[[ColumnCheckPlan, Context], Breaks | None], Callable[[ColumnCheckPlan], str]]] = {
    "unique": (lambda check, context: None, lambda check: "was there before"),  # looked at in batches
    "minimum": (_minimum, lambda check: f"is below {check.minimum}"),
    "maximum": (_maximum, lambda check: f"is above {check.maximum}"),
    "minLength": (_min_length, lambda check: f"is shorter than {check.min_length}"),
    "maxLength": (_max_length, lambda check: f"is longer than {check.max_length}"),
    "pattern": (_pattern, lambda check: f"does not match {check.pattern}"),
    "enum": (_enum, lambda check: "is not among the values of enum"),
    "past": (_past, lambda check: "lies in the future"),
    "refers_to": (_refers_to, lambda check: f"is not in {check.refers_to}"),
}
"""Rules of cells by name: what makes the test, and what is said of a cell that breaks it."""


@dataclass
class Figures:
    """What figures of a column are made of."""

    rows: int = 0
    filled: int = 0
    total: float = 0.0
    numbers: int = 0
    different: int = 0


FIGURES: dict[str, Callable[[Figures], float | None]] = {
    "filled": lambda seen: seen.filled / seen.rows if seen.rows else None,
    "distinct": lambda seen: seen.different / seen.filled if seen.filled else None,
    "total": lambda seen: seen.total,
    "mean": lambda seen: seen.total / seen.numbers if seen.numbers else None,
}
"""Rules of whole columns by name: the figure, which lies between bounds."""
_SHARES = ("filled", "distinct")


class _Column:
    """The rules of one column on the walk."""

    def __init__(self, name: str, check: ColumnCheckPlan, context: Context) -> None:
        self.name, self.check = name, check
        made = {rule: make(check, context) for rule, (make, _) in CELL_RULES.items()}
        self.cell_rules = {rule: breaks for rule, breaks in made.items() if breaks is not None}
        self.found: dict[str, tuple[int, list[tuple[int, str, str]]]] = {}
        self.figures = Figures()
        self.seen = SeenKeys() if check.unique or check.distinct is not None else None

    def repeated(self, values: list[Any]) -> Collection[int]:
        """The places of the values that were there before, where somebody asks."""
        if self.seen is None:
            return ()
        return self.seen.stood(keys_of([(value,) for value in values], [0]), 0)

    def take(self, number: int, key: str, value: Any, *, is_repeated: bool) -> None:
        self.figures.rows += 1
        if is_missing(value):
            if self.check.required:
                self._note("required", number, key, "")
            return
        self.figures.filled += 1
        if isinstance(value, int | float):
            self.figures.total += value
            self.figures.numbers += 1
        if is_repeated and self.check.unique:
            self._note("unique", number, key, str(flat(value)))
        for rule, breaks in self.cell_rules.items():
            if breaks(value):
                self._note(rule, number, key, str(flat(value)))

    def _note(self, rule: str, number: int, key: str, value: str) -> None:
        count, examples = self.found.get(rule, (0, []))
        if len(examples) < EXAMPLES:
            examples.append((number, key, value))
        self.found[rule] = (count + 1, examples)

    def broken(self, table: str) -> Iterator[Broken]:
        self.figures.different = len(self.seen) if self.seen is not None else 0
        for rule, (count, examples) in self.found.items():
            said = "is missing" if rule == "required" else CELL_RULES[rule][1](self.check)
            yield Broken(table, self.name, rule, f"{self.name} {said}", count, tuple(examples))
        for rule, figure in FIGURES.items():
            bounds = getattr(self.check, rule)
            value = figure(self.figures)
            if bounds is not None and value is not None and (said := beyond(value, bounds, is_share=rule in _SHARES)):
                what = {"filled": "share filled", "distinct": "share of different values", "total": "sum"}.get(
                    rule, rule
                )
                yield Broken(table, self.name, rule, f"{what} of {self.name} is {said}")


def beyond(value: float, bounds: BoundsPlan, *, is_share: bool = False) -> str:
    """What is wrong with a figure, in words; empty where it lies between its bounds."""

    def shown(asked: float) -> str:
        return f"{100 * asked:.4g} %" if is_share else f"{asked:,.10g}"

    if bounds.minimum is not None and value < bounds.minimum:
        return f"{shown(value)}, at least {shown(bounds.minimum)} is wanted"
    if bounds.maximum is not None and value > bounds.maximum:
        return f"{shown(value)}, at most {shown(bounds.maximum)} is wanted"
    return ""


class Checking:
    """The checks of a table on the way: rows are taken in batches, and what does not hold is asked for at the end."""

    def __init__(self, source: TableSource, check: CheckPlan, context: Context) -> None:
        self._name, self._names, self._check = source.name, source.names, check
        columns = [_Column(name, asked, context) for name, asked in check.columns.items()]
        self._columns = [(column, self._names.index(column.name)) for column in columns]
        self._keys = [self._names.index(name) for name in source.key if name in self._names]
        self._conditions = [(text, Formula(text)) for text in check.where]
        self._unmet: dict[str, tuple[int, list[tuple[int, str, str]]]] = {}
        self._rows = 0

    def take(self, batch: Sequence[Sequence[Any]]) -> None:
        """Take some rows, in their order."""
        columns = [(column, at, column.repeated([row[at] for row in batch])) for column, at in self._columns]
        for place, row in enumerate(batch):
            self._rows += 1
            key = " ".join(str(row[place]) for place in self._keys)
            for column, at, repeated in columns:
                column.take(self._rows, key, row[at], is_repeated=place in repeated)
            if self._conditions:
                self._take_conditions(key, dict(zip(self._names, row, strict=True)))

    def _take_conditions(self, key: str, cells: Mapping[str, Any]) -> None:
        for text, formula in self._conditions:
            if _is_unmet(formula, cells):
                count, examples = self._unmet.get(text, (0, []))
                if len(examples) < EXAMPLES:
                    examples.append((self._rows, key, ", ".join(f"{n} {cells[n]}" for n in sorted(formula.names))))
                self._unmet[text] = (count + 1, examples)

    def broken(self, duplicates: int) -> list[Broken]:
        """The checks that do not hold. `duplicates` is how many rows were left out as such."""
        found = list(_of_table(self._name, self._check, self._rows, duplicates))
        unmet = self._unmet.items()
        found += [Broken(self._name, "", "where", f"not {text}", n, tuple(seen)) for text, (n, seen) in unmet]
        return found + [broken for column, _ in self._columns for broken in column.broken(self._name)]


def _of_table(table: str, check: CheckPlan, rows: int, duplicates: int) -> Iterator[Broken]:
    for rule, bounds, figure in (("rows", check.rows, rows), ("duplicates", check.duplicates, duplicates)):
        if bounds is not None and (said := beyond(figure, bounds)):
            yield Broken(table, "", rule, f"number of {rule} is {said}")


def _is_unmet(formula: Formula, cells: Mapping[str, Any]) -> bool:
    """Whether a condition is plainly not met; what cannot be compared is."""
    try:
        return formula.value({name: cells.get(name) for name in formula.names}) is False
    except NotReadable:
        return True
