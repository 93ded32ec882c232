"""Whether a run's tables are all there, once, in the right types: findings, and a verdict in a sentence or two.

Each rule is a function that takes the facts of a run and yields its findings; a new one is a function and a line in RULES.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence, Set
from dataclasses import asdict, dataclass, field
from html import escape
from typing import Any

from wadi.plan.columns import Column
from wadi.problems import listed, shortened
from wadi.quality.checks import Broken
from wadi.quality.drift import Drift
from wadi.quality.plan_changes import PlanChange
from wadi.store.outcome import End, FailedPage, State, StatedTotal
from wadi.table.ledger import Ledger
from wadi.table.words import html_table

UNREAD_SHARE = 0.01
"""So many cells of a column may be unreadable before it counts as a failure; they are in the problems either way."""
_LACKS_ROWS = {
    "listing-shifted": "shifted while they were read",
    "part-too-long": "are longer than the site shows",
    "listing-too-long": "have more pages than the plan allows",
    "cut-off": "were not read to their end",
    "no-rows-again": "were left after pages without rows",
}
"""Notes that mean that rows may be missing, with what is said of the listings or pages."""
_TOLD_APART = frozenset({"rowless", "no-total", "unread-total"})
"""Notes that rules of their own tell."""
_EXAMPLES = 5
_SOME_ROWS = 3
_LONG = 1000
"""What is longer is cut: the cause of a failure stands at the end."""


@dataclass(frozen=True)
class Finding:
    """Something that was found: a code, the table and column where there is one, what it is in words, examples, and whether
    it means that something does not hold."""

    code: str
    what: str
    fails: bool = True
    table: str = ""
    column: str = ""
    examples: tuple[str, ...] = ()


@dataclass(frozen=True)
class TableFacts:
    """A table: its columns, how many rows it has, and what became of those that pages gave."""

    name: str
    columns: Sequence[Column]
    rows: int
    ledger: Ledger
    key: Sequence[str] = ()


@dataclass(frozen=True)
class Rowless:
    """A page kind whose first pages of listings gave no rows and did not say that there are none: what its rows are, those pages,
    pages, whether that means that something does not hold, and what on the page is near to what was looked for."""

    kind: str
    without: str
    urls: tuple[str, ...]
    fails: bool
    hints: tuple[str, ...] = ()


@dataclass(frozen=True)
class Facts:
    """What is known of a run.

    `listings` are those that state a total. `completing` are the page kinds that complete rows, with the
    table; `notes` are URL and problem. `unread_runs` are the earlier runs that cannot be read; `filled_before` are the columns
    that had values in some earlier run, `judged_shares` those whose share of filled cells the plan's checks judge, by table.
    `unopened` are page kinds that no page led to, with what should have led there; `may_be_empty` the tables whose number of rows
    the plan's checks judge.
    """

    end: End | None
    tables: Sequence[TableFacts]
    listings: Sequence[StatedTotal] = ()
    failures: Sequence[FailedPage] = ()
    notes: Sequence[tuple[str, Mapping[str, Any]]] = ()
    pages: Mapping[State, int] = field(default_factory=dict)
    completing: Mapping[str, str] = field(default_factory=dict)
    main_kinds: frozenset[str] = frozenset()
    broken: Sequence[Broken] = ()
    drifted: Sequence[Drift] = ()
    earlier: int = 0
    unread_runs: Sequence[str] = ()
    filled_before: Mapping[str, Set[str]] = field(default_factory=dict)
    judged_shares: Mapping[str, Set[str]] = field(default_factory=dict)
    rowless: Sequence[Rowless] = ()
    changed: Sequence[PlanChange] = ()
    unopened: Mapping[str, str] = field(default_factory=dict)
    may_be_empty: Set[str] = frozenset()
    damage: Sequence[str] = ()


@dataclass(frozen=True)
class Verdict:
    """The findings of a run. `stated` is what the site says of the main table, `earlier` how many runs it was compared with."""

    main: str
    rows: int
    stated: int | None
    findings: tuple[Finding, ...]
    earlier: int
    listings: tuple[StatedTotal, ...] = ()
    """Those that state a total: kind, URL, stated, came, without rows that stand twice in the only one."""
    is_complete: bool = True

    def __repr__(self) -> str:
        return f"<wadi verdict: {self.sentence}>"

    def _repr_html_(self) -> str:
        """The verdict in a notebook: its sentence, and what was found."""
        found = [(f.code, f.table, f.column, f.what, "; ".join(f.examples[:3])) for f in self.findings]
        said = f"<p>{escape(self.sentence)}</p>"
        return said + (html_table("findings", ("code", "table", "column", "what", "examples"), found) if found else "")

    @property
    def compared(self) -> str:
        """What the run was compared with, or why with nothing."""
        if self.earlier:
            return (
                f"Compared with {'1 earlier run' if self.earlier == 1 else f'{self.earlier} earlier runs'} of the plan."
            )
        why = (
            "there is no complete one with the same inputs" if self.is_complete else "this one did not come to its end"
        )
        return f"Compared with no earlier run: {why}."

    @property
    def holds(self) -> bool:
        """Whether nothing was found that fails."""
        return not any(finding.fails for finding in self.findings)

    @property
    def sentence(self) -> str:
        """The verdict in a sentence or two."""
        of = f" of {self.stated:,}" if self.stated is not None else ""
        head = f"{self.rows:,}{of} {'row' if self.rows == 1 and not of else 'rows'} in {self.main}"
        fails = [finding.what for finding in self.findings if finding.fails]
        if not fails:
            compared = f", and nothing drifted against {_runs(self.earlier)}" if self.earlier else ""
            return f"{head}; every check holds{compared}."
        more = f"; and {len(fails) - 3} more" if len(fails) > 3 else ""
        return f"{head}; {'; '.join(shortened(what, _LONG) for what in fails[:3])}{more}."

    def as_dict(self) -> dict[str, Any]:
        """The verdict for programs."""
        return {
            "holds": self.holds,
            "verdict": self.sentence,
            "rows": self.rows,
            "stated": self.stated,
            "compared_with": self.earlier,
            "findings": [asdict(finding) for finding in self.findings],
        }


def _runs(count: int) -> str:
    return "the run before" if count == 1 else f"{count} earlier runs"


def verdict_of(facts: Facts) -> Verdict:
    """Everything that the rules find in a run, what fails first."""
    found = [finding for rule in RULES for finding in rule(facts)]
    found.sort(key=lambda finding: not finding.fails)
    totals = [listing.stated for listing in facts.listings if listing.kind in facts.main_kinds]
    main = facts.tables[0] if facts.tables else None
    rows = main.rows if main else 0
    return Verdict(
        main.name if main else "rows",
        rows,
        sum(totals) if totals else None,
        tuple(found),
        facts.earlier,
        tuple(_without_duplicates(facts)),
        is_complete=facts.end is End.COMPLETE,
    )


# -- completeness


def _end(facts: Facts) -> Iterator[Finding]:
    waiting = facts.pages.get(State.WAITING, 0)
    left = f", {waiting:,} pages known but not asked for" if waiting else ""
    if facts.end is None:
        yield Finding("not-finished", f"the crawl did not come to its end{left}: wadi resume goes on")
    elif facts.end.is_limit:
        yield Finding("limit", f"the {facts.end} ended the crawl{left}", fails=False)
    elif facts.end is not End.COMPLETE:
        yield Finding("not-finished", f"the crawl ended early ({facts.end}){left}")
    elif waiting:
        yield Finding("not-followed", f"{waiting:,} pages are known but were not asked for", fails=False)


def _without_duplicates(facts: Facts) -> list[StatedTotal]:
    """The listings; of a single one the rows without those that stand twice in it."""
    listings = list(facts.listings)
    if len(listings) != 1 or not facts.tables or listings[0].kind not in facts.main_kinds:
        return listings
    return [listings[0]._replace(rows=listings[0].rows - facts.tables[0].ledger.duplicates)]


def _listings(facts: Facts) -> Iterator[Finding]:
    if facts.end is not End.COMPLETE:
        return
    listings = _without_duplicates(facts)
    short = [listing for listing in listings if listing.rows < listing.stated]
    long = [listing for listing in listings if listing.rows > listing.stated]
    for code, which, word in (("rows-missing", short, "fewer"), ("rows-beyond", long, "more")):
        if which:
            stated, rows = sum(listing.stated for listing in which), sum(listing.rows for listing in which)
            what = f"{len(which)} of {len(facts.listings)} listings gave {word} rows than they state"
            if len(facts.listings) == 1:
                what = f"the listing gave {word} rows than it states"
            examples = tuple(f"{listing.rows:,} of {listing.stated:,}: {listing.url}" for listing in which[:_EXAMPLES])
            yield Finding(code, f"{what}: {rows:,} of {stated:,}", examples=examples)


def _failures(facts: Facts) -> Iterator[Finding]:
    by_kind: dict[tuple[str, str], list[str]] = {}
    for failed in facts.failures:
        by_kind.setdefault((failed.kind, cause_of(failed.status, failed.problem)), []).append(failed.url)
    for (kind, cause), urls in by_kind.items():
        table = facts.completing.get(kind)
        what = f"{len(urls):,} {kind} page{'s' if len(urls) > 1 else ''} missing ({cause})"
        completed = next((seen for seen in facts.tables if seen.name == table), None)
        if completed is not None and completed.ledger.incomplete_rows:
            numbers = completed.ledger.incomplete_rows
            lacks = "lacks" if completed.ledger.incomplete == 1 else "lack"
            more = " …" if completed.ledger.incomplete > len(numbers) else ""
            rows = f"row{'' if len(numbers) == 1 else 's'} {', '.join(map(str, numbers))}{more}"
            columns = listed([column.name for column in completed.columns if kind in column.pages], 4)
            what += f": {rows} {lacks} {columns}"
        code = "blocked" if cause == "blocked" else "pages-failed"
        yield Finding(code, what, table=table or "", examples=tuple(urls[:_EXAMPLES]))


def cause_of(status: int | None, problem: Mapping[str, Any]) -> str:
    """Why a page failed, in a word: its status, or the problem's code."""
    code = str(problem["code"])
    return str(status) if code == "http-status" and status is not None else code


def _notes(facts: Facts) -> Iterator[Finding]:
    codes = Counter(str(note["code"]) for _, note in facts.notes)
    for code, count in codes.items():
        if code in _TOLD_APART:
            continue
        urls = tuple(dict.fromkeys(url for url, note in facts.notes if note["code"] == code))
        if code in _LACKS_ROWS:
            what = f"{count:,} listings or pages {_LACKS_ROWS[code]}: rows may be missing"
            yield Finding(code, what, examples=urls[:_EXAMPLES])
        else:
            example = next(str(note["what"]) for _, note in facts.notes if note["code"] == code)
            yield Finding(code, f"{count:,} × {shortened(example, _LONG)}", fails=False, examples=urls[:_EXAMPLES])


def _totals(facts: Facts) -> Iterator[Finding]:
    """Totals that the plan asks for and that were not had: without any of them nobody knows whether a listing is whole."""
    for code, word in (("no-total", "state no total"), ("unread-total", "state a total that cannot be read")):
        noted = [(url, str(note["what"])) for url, note in facts.notes if note["code"] == code]
        if noted:
            fails = code == "unread-total" or not facts.listings
            what = noted[0][1] if len(noted) == 1 else f"{len(noted):,} listings {word}: {noted[0][1]}"
            yield Finding(code, what, fails, examples=tuple(url for url, _ in noted[:_EXAMPLES]))


def _rowless(facts: Facts) -> Iterator[Finding]:
    for kind in facts.rowless:
        pages = "a page" if len(kind.urls) == 1 else f"{len(kind.urls):,} pages"
        near = f": {'; '.join(kind.hints)}" if kind.hints else ""
        what = f'page "{kind.kind}": no rows on {pages} without {kind.without}{near}'
        yield Finding("rowless", what, kind.fails, examples=kind.urls[:_EXAMPLES])


def _unopened(facts: Facts) -> Iterator[Finding]:
    for kind, way in facts.unopened.items():
        yield Finding("unopened", f'page "{kind}" was never opened: {way} led nowhere on any page')


def _empty_tables(facts: Facts) -> Iterator[Finding]:
    """Tables beside the main one without a row, where that has some."""
    has_rows = bool(facts.tables) and facts.tables[0].rows >= _SOME_ROWS
    for table in facts.tables[1:] if has_rows and facts.end is End.COMPLETE else ():
        if not table.rows and table.name not in facts.may_be_empty:
            yield Finding("empty-table", f"table {table.name} has no rows", table=table.name)


def _rejects(facts: Facts) -> Iterator[Finding]:
    for table in facts.tables:
        for way in table.ledger.reject_ways.values():
            what = f"{way.count:,} of {table.ledger.given:,} rows of {table.name} are among the rejects: {way.why}"
            yield Finding("rejects", what, table=table.name, examples=(way.url,))


def _unread_runs(facts: Facts) -> Iterator[Finding]:
    if count := len(facts.unread_runs):
        which = (
            "1 earlier run that cannot be read was" if count == 1 else f"{count} earlier runs that cannot be read were"
        )
        yield Finding(
            "earlier-unreadable", f"{which} left out", fails=False, examples=tuple(facts.unread_runs[:_EXAMPLES])
        )


def _changed(facts: Facts) -> Iterator[Finding]:
    """What of the plan is other than in earlier runs: it is not compared with those."""
    if not facts.changed:
        return
    tables = sorted({name for change in facts.changed for name in change.tables})
    columns = sorted({column for change in facts.changed for _, column in change.columns})
    parts = [f"the rows of {listed(tables, 4)}"] if tables else []
    parts += [f"the columns {listed(columns, 6)}"] if columns else []
    since = f"{len(facts.changed)} of {_runs(facts.earlier)}" if facts.earlier > 1 else "the run before"
    what = f"the plan has changed since {since}: {' and '.join(parts)} are not compared"
    yield Finding("plan-changed", what, fails=False)


def _unread(facts: Facts) -> Iterator[Finding]:
    for table in facts.tables:
        for column, count in table.ledger.unread.items():
            url, problem = table.ledger.unread_examples[column]
            fails = count > UNREAD_SHARE * max(1, table.rows)
            is_known = problem.code != "unknown-column"
            what = (
                f"{column}: {count:,} value{'s' if count > 1 else ''} not parsed"
                if is_known
                else f"{count:,} × {shortened(problem.what, _LONG)}"
            )
            yield Finding("unread", what, fails, table.name, column, (f"{shortened(problem.what, _LONG)}: {url}",))


def _blank(facts: Facts) -> Iterator[Finding]:
    """Columns without a single value in a whole run. Where an earlier run had values drift tells; a share that the plan asks for
    is looked at by its checks."""
    for table in facts.tables if facts.end is End.COMPLETE else ():
        others = {*facts.filled_before.get(table.name, ()), *facts.judged_shares.get(table.name, ())}
        for column in table.columns if table.rows >= _SOME_ROWS else ():
            is_blank = not table.ledger.filled.get(column.name) and not column.part_of and column.pages
            if is_blank and column.name not in others:
                yield Finding("blank", f"{column.name} is blank in every row", table=table.name, column=column.name)


def _blank_rows(facts: Facts) -> Iterator[Finding]:
    """Rows without a single value that is picked in them: what `rows` picks is no record there, or the columns moved. Where one
    column alone is picked that is a missing cell as well, and no more than said."""
    for table in facts.tables:
        if count := table.ledger.blank:
            what = f"{count:,} of {table.rows:,} rows of {table.name} have no value in any column that is picked in the row"
            yield Finding("blank-rows", what, fails=table.ledger.picked > 1, table=table.name)


def _duplicates(facts: Facts) -> Iterator[Finding]:
    for table in facts.tables:
        if table.ledger.duplicates:
            ways = sorted(table.ledger.duplicate_ways.items(), key=lambda item: -item[1].count)
            examples = tuple(f"{found.count:,} {way}" for way, found in ways[:_EXAMPLES])
            what = f"{table.ledger.duplicates:,} of {table.ledger.given:,} rows of {table.name} came twice and were left out"
            yield Finding("duplicates", what, fails=False, table=table.name, examples=examples)


def _keys(facts: Facts) -> Iterator[Finding]:
    """Rows that lack a part of their key: nothing tells them from others, and none is a duplicate."""
    for table in facts.tables:
        for column in table.key:
            lacking = table.rows - table.ledger.filled.get(column, 0)
            if lacking > 0 and table.rows:
                what = f"{lacking:,} of {table.rows:,} rows of {table.name} have no {column}, by which records are told apart"
                yield Finding("key-missing", what, fails=False, table=table.name, column=column)


def _checks(facts: Facts) -> Iterator[Finding]:
    for check in facts.broken:
        examples = tuple(
            f"row {number}{f' ({key})' if key else ''}{f': {shortened(value, 60)}' if value else ''}"
            for number, key, value in check.examples
        )
        what = f"{check.what} in {check.count:,} row{'s' if check.count != 1 else ''}" if check.count else check.what
        yield Finding(f"check: {check.rule}", what, table=check.table, column=check.column, examples=examples)


def _drift(facts: Facts) -> Iterator[Finding]:
    for drift in facts.drifted:
        yield Finding(f"drift: {drift.measure}", drift.what, table=drift.table, column=drift.column)


def _damage(facts: Facts) -> Iterator[Finding]:
    if facts.damage:
        count = len(facts.damage)
        what = f"{count:,} part{'s' if count > 1 else ''} of the run {'are' if count > 1 else 'is'} not as they were written"
        yield Finding("damaged", what, examples=tuple(facts.damage))


RULES: tuple[Callable[[Facts], Iterator[Finding]], ...] = (
    _damage,
    _end,
    _listings,
    _failures,
    _rowless,
    _unopened,
    _empty_tables,
    _totals,
    _blank,
    _blank_rows,
    _checks,
    _drift,
    _changed,
    _unread_runs,
    _rejects,
    _unread,
    _notes,
    _keys,
    _duplicates,
)
