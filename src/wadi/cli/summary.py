"""What a crawl came to, for people and as JSON: rows, filled columns, failures, duplicates, files."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from shlex import quote
from typing import TYPE_CHECKING, Any

from wadi.cli.show import plain
from wadi.cli.verify import in_short, is_in_short, mend_hint
from wadi.plan.columns import OUTCOMES
from wadi.problems import listed, plural, shortened
from wadi.quality.verify_run import plan_to_mend
from wadi.store.outcome import End, State, StatedTotal
from wadi.table.words import percent

if TYPE_CHECKING:
    from rich.console import RenderableType

    from wadi.actions.run import Run
    from wadi.plan.columns import Column
    from wadi.quality.verdict import Facts, TableFacts, Verdict
    from wadi.quality.verify_run import Verified
    from wadi.table.ledger import Ledger

_OF_PLAN = {End.ENOUGH_ROWS: "rows", End.ENOUGH_DEPTH: "depth"}
"""Ends behind which nothing is to be asked for, unless the command line gave the limit: the end, and the limit's name."""
_SHOWN_FAILURES = 5
_MOST_UNCUT = 2000


@dataclass(frozen=True)
class Summary:
    """A run's summary: a view of what `verify` knows of it, and of what the sitting took and wrote."""

    run: Run
    verified: Verified
    written: list[tuple[str, int]]
    interrupted: bool = False
    held_back: tuple[str, ...] = ()
    """Targets that were not written, since the crawl did not go to its end."""

    @property
    def facts(self) -> Facts:
        return self.verified.facts

    @property
    def verdict(self) -> Verdict:
        return self.verified.verdict

    @property
    def plan(self) -> str:
        return self.run.plan_name

    @property
    def folder(self) -> str:
        return str(self.run.folder)

    @cached_property
    def spent(self) -> dict[str, Any]:
        """What the last sitting took."""
        return self.run.state.meta("spent") or {}

    @property
    def goes_on(self) -> bool:
        """Whether `wadi resume` would ask for more: not where a limit of rows or depth, which the plan itself has, ended it."""
        given = self.run.state.meta("given_limits") or {}
        if self.facts.end in _OF_PLAN and _OF_PLAN[self.facts.end] not in given:
            return False
        return self.interrupted or self.facts.end is None or bool(self.facts.pages[State.WAITING])

    @property
    def pages_done(self) -> int:
        return self.facts.pages[State.DONE]

    @property
    def unreachable(self) -> bool:
        return self.facts.end is None or self.facts.end.is_stopped

    @property
    def limit_reached(self) -> bool:
        return self.facts.end is not None and self.facts.end.is_limit

    @property
    def short(self) -> list[StatedTotal]:
        """The listings that gave other than the stated number of rows, when the crawl came to its end."""
        if self.facts.end is not End.COMPLETE:
            return []
        return [listing for listing in self.verdict.listings if listing.stated != listing.rows]

    @property
    def rows_missing(self) -> bool:
        """Whether a listing gave fewer rows than it states."""
        return any(rows < total for _, _, total, rows in self.short)

    def as_dict(self) -> dict[str, Any]:
        """The summary for programs."""
        return {
            "plan": self.plan,
            "run": self.folder,
            "end": End.INTERRUPTED if self.interrupted else self.facts.end,
            "pages": {state.name.lower(): count for state, count in self.facts.pages.items()},
            "spent": self.spent,
            "stated_total": self.verdict.stated,
            "listings": [listing._asdict() for listing in self.verdict.listings],
            "tables": [_table_dict(table.name, table.columns, table.ledger) for table in self.verified.tables],
            "failures": [
                {"kind": failure.kind, "url": failure.url, "problem": failure.problem}
                for failure in self.facts.failures
            ],
            "notes": [{"url": url, "problem": note} for url, note in self.facts.notes],
            "files": [{"path": path, "rows": rows} for path, rows in self.written],
            "held_back": list(self.held_back),
            "verdict": self.verdict.as_dict(),
        }

    def view(self, *, verbose: bool = False, cuts: bool = True) -> RenderableType:
        """The summary for people; `cuts` for a terminal: a file has room, and the cause at the end of a line."""
        from rich.console import Group

        parts: list[RenderableType] = []
        for number, table in enumerate(self.verified.tables):
            if table.name == OUTCOMES:
                parts += [plain(line) for line in self._outcome_lines()]
                continue
            parts.append(plain(self._headline(table, main=number == 0), "bold"))
            parts += [
                _columns_view(table.columns, table.ledger, cuts=cuts),
                *(plain(line) for line in _ledger_lines(table.columns, table.ledger, cuts=cuts)),
                plain(""),
            ]
        parts += [plain(line) for line in self._page_lines(verbose, cuts=cuts)]
        parts += [plain(line, "red") for line in in_short(self.verdict, self.folder)]
        if to_mend := plan_to_mend(self.run, self.verdict):
            parts.append(plain(mend_hint(to_mend)))
        parts += [plain(line) for line in self._file_lines()]
        return Group(*parts)

    def line(self) -> str:
        """The summary in one line, for those who want to hear of problems alone."""
        parts = [self.verdict.sentence.removesuffix(".")]
        parts += [f"{listed(self.held_back)} left as before"] if self.held_back else []
        return f"{self.plan}: {'; '.join(parts)}  ({self.folder})"

    def _outcome_lines(self) -> list[str]:
        """What became of the lines that went in."""
        profile = next(profile for profile in self.verified.profiles if profile.name == OUTCOMES)
        if self.run.tables[0] == OUTCOMES:
            return []
        outcomes = next(column for column in profile.columns if column.column.name == "outcome").every
        counts = ", ".join(f"{count:,} {word}" for word, count in sorted(outcomes, key=lambda pair: -pair[1]))
        return [f"inputs    {plural(profile.rows, 'line')}: {counts}  (table {OUTCOMES})"]

    def _headline(self, table: TableFacts, *, main: bool) -> str:
        line = f"{table.name}: {plural(table.ledger.accepted, 'row')}"
        if main and self.verdict.stated is not None:
            line += f" of {self.verdict.stated:,} that the site states"
        return line + (f" ({self._why_not_all()})" if self.facts.end is not End.COMPLETE else "")

    def _why_not_all(self) -> str:
        if self.interrupted:
            return "interrupted"
        return f"ended by the {self.facts.end}" if self.limit_reached else str(self.facts.end or "not finished")

    def _page_lines(self, verbose: bool, *, cuts: bool) -> list[str]:
        failures, failed = self.facts.failures, self.facts.pages[State.FAILED]
        counts = [f"{self.pages_done:,} read"]
        counts += [f"{failed:,} failed"] if failed else []
        waiting = self.facts.pages[State.WAITING]
        counts += [f"{waiting:,} known but not asked for"] if waiting else []
        # What of the plan's limits the last sitting used, and what is left.
        limits, spent, parts = self.run.loaded.plan.limits, self.spent, []
        if limits.requests is not None and "requests" in spent:
            left = max(0, limits.requests - int(spent["requests"]))
            parts.append(f"{spent['requests']:,} of {limits.requests:,} requests used, {left:,} left")
        if limits.time is not None and "seconds" in spent:
            parts.append(f"{spent['seconds'] / 60:.1f} of {limits.time / 60:.1f} min used")
        lines = [
            f"pages     {', '.join(counts)}",
            *([f"budget    {'; '.join(parts)}"] if parts else []),
            *self._sitting_lines(),
            *self._pace_lines(),
            *self._total_lines(verbose, cuts=cuts),
        ]
        most = len(failures) if verbose else _SHOWN_FAILURES
        for failure in failures[:most]:
            what = failure.problem["what"]
            where = "" if failure.url in what else f"{failure.url}: "
            lines.append(f"  failed  {failure.kind}  {_cut(where + what, 400, cuts)} [{failure.problem['code']}]")
        if len(failures) > most:
            causes = Counter(failure.problem["code"] for failure in failures[most:])
            rest = ", ".join(f"{count} {code}" for code, count in causes.most_common())
            lines.append(f"  … and {len(failures) - most} more ({rest}); -v lists them")
        in_verdict = {finding.code for finding in self.verdict.findings if finding.fails and is_in_short(finding.code)}
        # Pages without rows are counted with their table.
        notes = [note for note in self.facts.notes if note[1]["code"] not in {*in_verdict, "rowless"}]
        for code, (count, url, example) in _grouped(notes).items():
            lines.append(
                f"  note    {count} × {code}: {_cut(example if url in example else f'{url}: {example}', 160, cuts)}"
            )
        return lines

    def _sitting_lines(self) -> list[str]:
        """What else is to be said of the last sitting: pages that were taken from an earlier run, sessions that ended."""
        unchanged, log_ins = self.spent.get("unchanged"), self.spent.get("log_ins") or 0
        lines = []
        if unchanged is not None:
            asked = self.pages_done + self.facts.pages[State.FAILED]
            lines.append(
                f"unchanged {unchanged:,} of {plural(asked, 'page')}, as the site says: taken from the earlier run"
            )
        if log_ins > 1:
            lines.append(f"log-in    {log_ins} times: the session ended meanwhile")
        return lines

    def _pace_lines(self) -> list[str]:
        """Which hosts were asked more slowly than the plan allows, and why."""
        slowed: list[dict[str, Any]] = self.spent.get("slowed") or []
        lines = [
            f"pace      {host['host']}: up to {host['slowest_s']:.1f} s between requests ({host['why']}), in all"
            f" {host['longer_s']:.0f} s longer than at the plan's pace"
            for host in slowed[:_SHOWN_FAILURES]
        ]
        more = len(slowed) - len(lines)
        return [*lines, *([f"pace      {plural(more, 'more host')} asked more slowly"] if more > 0 else [])]

    def _total_lines(self, verbose: bool, *, cuts: bool) -> list[str]:
        """Where what came differs from what the site states, listing by listing."""
        short, listings = self.short, self.verdict.listings
        if not short:
            return []
        stated = sum(listing.stated for listing in listings)
        whole = f"{sum(listing.rows for listing in listings):,} rows where the site states {stated:,}"
        lines = [f"totals    {len(short)} of {plural(len(listings), 'listing')} differ: {whole}"]
        most = len(short) if verbose else _SHOWN_FAILURES
        lines += [f"  {rows:,} of {total:,}  {kind}  {_cut(url, 100, cuts)}" for kind, url, total, rows in short[:most]]
        return lines + ([f"  … and {len(short) - most} more; -v lists them"] if len(short) > most else [])

    def _file_lines(self) -> list[str]:
        lines = [f"files     {path}: {plural(rows, 'row')}" for path, rows in self.written if path != "-"]
        if self.held_back:
            lines.append(f"files     {listed(self.held_back)}: left as before, since the crawl did not go to its end")
        lines.append(f"run       {self.folder}")
        if self.goes_on:
            lines.append(f"  go on:     wadi resume {quote(self.folder)}")
        if self.held_back:
            lines.append(f"  its part:  wadi export {quote(self.folder)} -o {quote(self.held_back[0])}")
        elif not self.written:
            lines.append(f"  write it:  wadi export {quote(self.folder)} -o {quote(self.plan)}.csv")
        return lines


def _columns_view(columns: Sequence[Column], ledger: Ledger, *, cuts: bool) -> RenderableType:
    """One line for each column: type, filled, and what is odd about it."""
    from rich.table import Table

    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim", pad_edge=False)
    table.add_column("  column")
    table.add_column("type")
    table.add_column("filled", justify="right")
    table.add_column("", justify="right")
    odd = ledger.unread or ledger.several
    table.add_column("remarks" if odd else "")
    for column in columns:
        filled = ledger.filled.get(column.name, 0)
        kind = f"{column.type}{' list' if column.many else ''}{f', {column.unit}' if column.unit else ''}"
        style = "red" if ledger.accepted and not filled else ""
        remarks = plain(_remarks(column.name, ledger, cuts=cuts), "yellow")
        share = plain(percent(filled, ledger.accepted), style)
        table.add_row(plain(f"  {column.name}"), plain(kind, "dim"), plain(f"{filled:,}", style), share, remarks)
    return table


def _remarks(name: str, ledger: Ledger, *, cuts: bool) -> str:
    remarks = []
    if name in ledger.unread:
        url, problem = ledger.unread_examples[name]
        counted = "times" if problem.code == "unknown-column" else "not readable, first:"
        remarks.append(f"{ledger.unread[name]} {counted} {_cut(problem.what, 70, cuts)} ({_cut(url, 60, cuts)})")
    if name in ledger.several:
        remarks.append(f"several matches in {plural(ledger.several[name], 'row')}, the first was taken")
    return "; ".join(remarks)


def _cut(text: str, most: int, cuts: bool) -> str:
    return shortened(text, most if cuts else _MOST_UNCUT)


def _ledger_lines(columns: Sequence[Column], ledger: Ledger, *, cuts: bool) -> list[str]:
    lines = []
    shown = {column.name for column in columns}
    for name in [name for name in (*ledger.unread, *ledger.several) if name not in shown]:
        lines.append(f"not written  {_cut(name, 40, cuts)}: {_remarks(name, ledger, cuts=cuts)}")
    if ledger.duplicates:
        lines.append(f"duplicates  {plural(ledger.duplicates, 'row')} of {ledger.given:,} left out")
        for way, found in sorted(ledger.duplicate_ways.items(), key=lambda item: -item[1].count):
            lines.append(f"  {found.count:,} {way}")
            lines += [
                f"    {_cut(key, 40, cuts)}: {_cut(first, 80, cuts)}"
                + (f" and {_cut(url, 80, cuts)}" if url != first else "")
                for key, first, url in found.examples
            ]
    for rejected in ledger.reject_ways.values():
        said = f"{rejected.count:,} of {plural(ledger.given, 'row')}: {_cut(rejected.why, 120, cuts)}"
        lines.append(f"rejects   {said} (first on {_cut(rejected.url, 70, cuts)})")
    if ledger.incomplete:
        lines.append(f"details   {plural(ledger.incomplete, 'row')} without the detail page's columns")
    if ledger.earlier:
        lines.append(f"earlier   {plural(ledger.earlier, 'row')} that only earlier runs have, at the end of the table")
    if ledger.empty_pages:
        lines.append(f"empty     {plural(ledger.empty_pages, 'page')} gave no rows")
    return lines


def _grouped(notes: Sequence[tuple[str, Mapping[str, Any]]]) -> dict[str, tuple[int, str, str]]:
    """Notes by code: how many, and the first one."""
    groups: dict[str, tuple[int, str, str]] = {}
    for url, note in notes:
        count, first_url, first = groups.get(note["code"], (0, url, note["what"]))
        groups[note["code"]] = (count + 1, first_url, first)
    return groups


def _table_dict(name: str, columns: Sequence[Column], ledger: Ledger) -> dict[str, Any]:
    return {
        "name": name,
        "rows": ledger.accepted,
        "duplicates": ledger.duplicates,
        "duplicate_ways": {
            way: {
                "count": found.count,
                "examples": [dict(zip(("key", "first", "again"), e, strict=True)) for e in found.examples],
            }
            for way, found in ledger.duplicate_ways.items()
        },
        "rejected": ledger.rejected,
        "incomplete": ledger.incomplete,
        "earlier": ledger.earlier,
        "columns": [
            {
                "name": column.name,
                "type": column.type,
                "many": column.many,
                "unit": column.unit,
                "filled": ledger.filled.get(column.name, 0),
                "unread": ledger.unread.get(column.name, 0),
                "several": ledger.several.get(column.name, 0),
            }
            for column in columns
        ],
    }
