"""A run looked at: whether it has everything, what its plan wants, and what has changed since earlier runs."""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import Any

from wadi.actions.run import Run
from wadi.crawl.kinds import Kind, compile_kinds
from wadi.page.document import read_document
from wadi.plan.columns import OUTCOMES, table_plan
from wadi.plan.starts import ways_in_vain
from wadi.problems import WadiError
from wadi.quality.checks import Broken
from wadi.quality.damage import damage_of
from wadi.quality.drift import MOST_RUNS, drifts
from wadi.quality.measures import Measures, marks_in, measures_from, measures_of
from wadi.quality.plan_changes import PlanChange, change_between, comparable
from wadi.quality.profile import TableProfile
from wadi.quality.verdict import Facts, Rowless, TableFacts, Verdict, verdict_of
from wadi.quality.walk import TableWalk, Walks
from wadi.store.archive import DamagedRecord, read_reply
from wadi.store.folder import DATABASE, PAGES, PLAN, find_run, run_folders
from wadi.store.outcome import End, State
from wadi.store.state import RunState

_MARKED_PAGES = 3


@dataclass(frozen=True)
class Verified:
    """A run that was looked at: what is known of it, the verdict on that, and of all its tables, that of outcomes among them,
    the facts and the profiles."""

    facts: Facts
    verdict: Verdict
    tables: list[TableFacts]
    profiles: list[TableProfile]
    measures: Measures
    earlier: list[str]


def verify(run: Run, *, against: str | None = None, walks: Walks | None = None, deep: bool = False) -> Verified:
    """Look at a run: completeness, the plan's checks, drift against the plan's earlier runs, or one of them alone.

    Its measures are kept with it, for later runs. `walks` are those over its tables, where some were written. Raises RunError
    for a run to compare with that is not there. `deep` looks whether all that the run keeps is as it was written, as well.
    """
    if deep and (damage := list(damage_of(run))):
        return _of_damaged(run, damage)
    walks = walks or Walks(run)
    looked = [walks.walked(name) for name in run.tables]
    profiles = [walk.profile() for walk in looked]
    measures = _measures(run, looked, profiles)
    if run.end is End.COMPLETE and run.state.can_write:
        run.state.set_meta("measures", measures.as_dict())
    folders = [find_run(against, run.folder.parent.parent)] if against is not None else earlier_runs(run)
    past = {folder: measures_in(folder) for folder in folders} if run.end is End.COMPLETE else {}
    unread = [str(folder) for folder, found in past.items() if found is None]
    changes = {folder: _changed_since(run, folder) for folder, found in past.items() if found is not None}
    readable = [comparable(found, changes[folder]) for folder, found in past.items() if found is not None]
    compared = [str(folder) for folder in folders if str(folder) not in unread]
    tables = [
        TableFacts(profile.name, walk.source.columns, profile.rows, walk.ledger, walk.source.key)
        for profile, walk in zip(profiles, looked, strict=True)
    ]
    facts = _facts(run, tables, [broken for walk in looked for broken in walk.broken()], readable)
    changed = [change for change in changes.values() if change]
    facts = replace(facts, drifted=drifts(measures, readable), unread_runs=unread, changed=changed)
    return Verified(facts, verdict_of(facts), tables, profiles, measures, compared)


def _of_damaged(run: Run, damage: list[str]) -> Verified:
    """What there is to say of a run whose tables cannot be put together with trust."""
    facts = Facts(end=run.end, tables=(), main_kinds=frozenset(), damage=damage)
    return Verified(facts, verdict_of(facts), [], [], Measures({}, {}), [])


def _measures(run: Run, looked: Sequence[TableWalk], profiles: Sequence[TableProfile]) -> Measures:
    seen = [(profile, walk.ledger) for profile, walk in zip(profiles, looked, strict=True)]
    return measures_of([source for source in seen if source[0].name != OUTCOMES], marks_of(run), _hashed(run))


def _facts(run: Run, tables: Sequence[TableFacts], broken: Sequence[Broken], earlier: Sequence[Measures]) -> Facts:
    plan = run.loaded.plan
    main = run.tables[0] if run.tables else ""
    return Facts(
        end=run.end,
        tables=[table for table in tables if table.name != OUTCOMES] or tables,
        listings=run.state.listings(),
        failures=list(run.state.failures()),
        notes=list(run.state.notes()),
        pages=run.pages(),
        completing={name: kind.completes for name, kind in plan.page.items() if kind.completes},
        main_kinds=frozenset(name for name, kind in plan.page.items() if kind.table == main and kind.total is not None),
        broken=broken,
        earlier=len(earlier),
        filled_before=_filled_in(earlier),
        judged_shares={table.name: _with_share(run, table.name) for table in tables},
        rowless=rowless_kinds(run),
        unopened=unopened_kinds(run) if run.end is End.COMPLETE else {},
        may_be_empty={name for name in run.tables if _checks_rows(run, name)},
    )


def _changed_since(run: Run, folder: Path) -> PlanChange:
    """What the run's plan has otherwise than that of an earlier run."""
    with suppress(OSError, UnicodeDecodeError):
        return change_between((folder / PLAN).read_text("utf-8"), run.loaded.source)
    return PlanChange()


def _filled_in(earlier: Sequence[Measures]) -> dict[str, set[str]]:
    """The columns that had a value in some earlier run, by table."""
    found: dict[str, set[str]] = {}
    for measures in earlier:
        for name, table in measures.tables.items():
            found.setdefault(name, set()).update(
                column for column, measured in table.columns.items() if measured.filled
            )
    return found


def _with_share(run: Run, table: str) -> frozenset[str]:
    """The columns whose share of filled cells the plan's checks judge."""
    check = table_plan(run.loaded.plan, table).check
    renamed = table_plan(run.loaded.plan, table).rename
    named = [name for name, asked in check.columns.items() if asked.filled is not None] if check else []
    return frozenset([*named, *(renamed.get(name, name) for name in named)])


def _checks_rows(run: Run, table: str) -> bool:
    check = table_plan(run.loaded.plan, table).check
    return check is not None and check.rows is not None


def unopened_kinds(run: Run) -> dict[str, str]:
    """The page kinds that no page led to although pages that should lead there were read, with what should have led there."""
    plan, counts = run.loaded.plan, run.state.kind_counts()
    gave = {n for n, kind in plan.page.items() if (run.state.gave_rows(n) if kind.rows is not None else counts[n])}
    return ways_in_vain(plan, gave, counts.keys())


def rowless_kinds(run: Run) -> list[Rowless]:
    """The page kinds with first pages of listings that gave no rows, and did not say that there are none."""
    plan, found = run.loaded.plan, []
    noted = run.state.noted("rowless")
    if not noted:
        return []
    kinds = compile_kinds(plan, this_year=run.year, functions=run.loaded.functions)
    for kind, lacking in noted.items():
        gave_some = run.state.gave_rows(kind)
        # Among pages that lead to their like those that only lead on need no rows.
        may_lead_on = gave_some or run.end is not End.COMPLETE
        pages = [page for page in lacking if not (may_lead_on and run.state.opens_others(page[0]))]
        if not pages:
            continue
        said = plan.page[kind]
        is_listing = said.next is not None or kind == plan.start.page
        if said.call is not None:
            without, hints = f"a row from {said.call}()", []
        else:
            without = " or ".join(f'"{text}"' for text in said.rows or ())
            hints = _near_misses(run, pages[0][0], kinds[kind])
        urls = tuple(url for _, url in pages)
        found.append(Rowless(kind, without, urls, is_listing or not gave_some, tuple(hints)))
    return found


def _near_misses(run: Run, page: int, kind: Kind) -> list[str]:
    """What on a stored page is near to the expression that picks nothing there."""
    from wadi.learn.first_look.trying import near_misses

    with suppress(DamagedRecord, OSError, KeyError, ValueError, AssertionError):
        location = run.state.location(page)
        assert location is not None
        return near_misses(kind, read_reply(run.folder / PAGES, location))
    return []


def _hashed(run: Run) -> dict[str, list[str]]:
    """The columns with hashes, by table, as they are written."""
    plans = {name: table_plan(run.loaded.plan, name) for name in run.tables}
    return {name: [plan.rename.get(column, column) for column in plan.hash] for name, plan in plans.items()}


def earlier_runs(run: Run) -> list[Path]:
    """The folders of the plan's complete runs before this one with the same inputs, the oldest first, as many as drift looks
    at, and of those before it that cannot be opened. Addresses may be others: a site moves. A crawl whose pages were read again
    counts once."""
    began, asked = datetime.fromisoformat(str(run.state.meta("began"))), _asked_for(run.given_inputs)
    found: list[Path] = []
    crawls: set[str] = set()
    for folder in run_folders(run.folder.parent.parent, run.plan_name):
        try:
            with RunState.open(folder / DATABASE) as state:
                is_before = (
                    state.meta("end") == End.COMPLETE and datetime.fromisoformat(str(state.meta("began"))) < began
                )
                is_before = is_before and state.counts()[State.DONE] > 0
                # A crawl and what was read again of its pages are one: the newest of them counts.
                crawl = str(state.meta("as_of") or state.meta("began"))
                is_one = is_before and crawl not in crawls and _asked_for(state.meta("given") or {}) == asked
                crawls |= {crawl} if is_one else set()
        except (WadiError, sqlite3.Error):
            is_one = folder.name < run.folder.name
        if is_one:
            found.append(folder)
        if len(crawls) == MOST_RUNS:
            break
    return found[::-1]


def _asked_for(inputs: Mapping[str, Any]) -> dict[str, Any]:
    """The inputs that say what is asked for, and not where."""
    return {name: value for name, value in inputs.items() if not str(value).startswith(("http://", "https://"))}


def measures_in(folder: Path) -> Measures | None:
    """What is kept of a run, made now where it is not; None for a run that cannot be read."""
    try:
        with RunState.open(folder / DATABASE) as state:
            kept = state.meta("measures")
        if kept and (found := measures_from(kept)) is not None:
            return found
        with Run.open(folder) as run:
            walks = Walks(run)
            looked = [walks.walked(name) for name in run.tables if name != OUTCOMES]
            found = _measures(run, looked, [walk.profile() for walk in looked])
            with suppress(OSError, sqlite3.Error):  # a folder that is only read
                run.state.set_meta("measures", found.as_dict())
            return found
    except Exception:  # whatever an earlier run holds is no fault of this one: it is named and left out
        return None


def marks_of(run: Run) -> dict[str, set[str]]:
    """Names of elements with their classes, or keys of JSON, on the first stored pages of each kind."""
    found: dict[str, set[str]] = {}
    for name, kind in run.loaded.plan.page.items():
        for page in run.state.first_pages(name, _MARKED_PAGES):
            with suppress(DamagedRecord, OSError, KeyError, ValueError, AssertionError):
                location = run.state.location(page)
                assert location is not None
                reply = read_reply(run.folder / PAGES, location)
                document = read_document(reply.body, reply.url, reply.content_type, parse=kind.parse)
                found.setdefault(name, set()).update(marks_in(document))
    return found


_SIGNS = frozenset({"drift: filled", "blank", "rowless", "empty-table"})


def plan_to_mend(run: Run, verdict: Verdict) -> str:
    """The plan file that `wadi mend` may help: where a column or the rows went blank, or pages lack what they must have, and
    there is an earlier run to learn from. Else empty."""
    is_blank = any(finding.fails and finding.code in _SIGNS for finding in verdict.findings)
    lacks = any(failed.problem.get("code") == "not-the-page" for failed in run.state.failures())
    folders = [path.parent for path in run.folder.parent.glob(f"*/{DATABASE}")]
    if not (is_blank or lacks) or len(folders) < 2:
        return ""
    return str(run.plan_folder / f"{run.plan_name}.toml")
