"""A plan mended after a redesign: the rows of the last good run are looked for on today's pages, and what finds them is
learned anew.

Method. Of each kind of page the first is read with the plan as it is: what it needs and does not find is broken, and so is a
field that was filled and is blank now. The records of the last run that stand on the page are the examples (`learned_rows`,
`learned_fields`); since values change, a field need not give all of them. What is proposed is tried on the page and compared,
record by record, with the last run: the rating is the share of values that are the same. A field that is gone from the
listing is looked for on the pages that its rows lead to.
"""

from __future__ import annotations

import tomllib
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import Any

from wadi.crawl.extract import Extract, extract
from wadi.crawl.kinds import Kind, compile_kinds
from wadi.crawl.rows import row_scopes as scopes_of
from wadi.learn.clues.class_names import names as names_of
from wadi.learn.clues.selectors import expression_for
from wadi.learn.clues.ways import ways_to
from wadi.learn.examples.known_rows import KnownRows, as_seen
from wadi.learn.examples.learned_fields import Scopes, Wanted, learned_field, many_field, wanted_in
from wadi.learn.examples.learned_json import learn_json
from wadi.learn.examples.learned_rows import Example, Seen, fit_into, learned_rows
from wadi.learn.examples.sightings import Sighting, sightings_of
from wadi.learn.first_look.look import language_of_page, look_at
from wadi.learn.first_look.rows import RowsGuess
from wadi.learn.mends.changes import (
    LEAST_SURE,
    PICKS,
    SURE,
    Change,
    Evidence,
    Mending,
    Rating,
    as_table,
    best_of,
    cell_of,
    merged_field,
    rated,
)
from wadi.learn.mends.plan_edit import read, with_changes
from wadi.page.document import Document, NotADocument, read_document
from wadi.page.expressions import first_of
from wadi.page.nodes import Element, ancestors, elements, parent
from wadi.plan.fields import compiled
from wadi.plan.reader import LoadedPlan, parse_plan
from wadi.problems import PlanError
from wadi.store.outcome import Role
from wadi.table.cells import is_missing
from wadi.web.messages import FetchFailed, Reply, Request

Ask = Callable[[Request], Reply]
Shows = Callable[[Document, int], list[Mapping[str, Any]]]
"""Which records of the last run a page shows, so many at most."""
_MOST_EXAMPLES, _MOST_DETAILS = 12, 5
_BLANK, _LEAST_BEFORE = 0.3, 0.1
_LEAST_OF_EXAMPLES = 0.6


@dataclass(frozen=True)
class _PageRead:
    """A page of today with the records of the last run that it shows."""

    reply: Reply
    document: Document
    known: Sequence[Mapping[str, Any]]


class NotMended(ValueError):
    """Nothing can be learned: why."""


def mend(loaded: LoadedPlan, known: KnownRows, start: Request, ask: Ask) -> Mending:
    """What has to change in a plan so that it reads today's pages as it read those of its last run. Raises NotMended where
    the pages and the run have nothing in common, FetchFailed and CrawlError of `ask`."""
    work = _Work(loaded, known, ask)
    kind = loaded.plan.start.page
    if (called := loaded.plan.page[kind].call) is not None:
        raise NotMended(f'{called}() in {loaded.plan.code} reads page "{kind}": it is yours to change')
    page = work.opened(kind, start, known.on_page)
    if not page.known and work.broken(kind, page):
        raise NotMended("none of the last run's records is on the first page of today: there is nothing to learn from")
    work.mend_listing(kind, page)
    for detail in loaded.plan.page[kind].open:
        opened = loaded.plan.page.get(detail)
        if opened is not None and opened.completes and opened.call is None:
            work.mend_details(kind, detail, page)
    work.settle()
    return work.mending


class _Work:
    """A plan while it is mended: each change is put into its text, so that what follows stands on it."""

    def __init__(self, loaded: LoadedPlan, known: KnownRows, ask: Ask) -> None:
        self.known = known
        self.mending = Mending(text=loaded.source)
        self._loaded = loaded
        self._ask = ask
        self._missing: dict[str, tuple[str, str]] = {}
        """Columns that are gone from their kind of page, with the kind and why."""

    @property
    def loaded(self) -> LoadedPlan:
        """The plan as far as it is mended."""
        return parse_plan(self.mending.text, self._loaded.text.path, dict(self._loaded.given))

    @property
    def said(self) -> dict[str, Any]:
        return tomllib.loads(self.mending.text)

    def opened(self, kind: str, request: Request, shows: Shows) -> _PageRead:
        """A page of a kind, with the records that it shows. Raises FetchFailed, NotADocument."""
        reply = self._ask(self.kinds()[kind].shown(request))
        document = read_document(reply.body, reply.url, reply.content_type)
        self.mending.pages.append(reply.url)
        found = shows(document, _MOST_EXAMPLES)
        return _PageRead(reply, document, found)

    def kinds(self) -> dict[str, Kind]:
        loaded, year = self.loaded, date.today().year  # noqa: DTZ011
        return compile_kinds(loaded.plan, this_year=year, functions=loaded.functions)

    def extract(self, kind: str, page: _PageRead) -> Extract:
        kinds = self.kinds()
        return extract(page.reply, kinds[kind], kinds)

    def broken(self, kind: str, page: _PageRead) -> list[str]:
        """The columns of a kind that were filled and are blank on the page; all where the page gives no rows."""
        found = self.extract(kind, page)
        columns = [name for name in self.loaded.plan.page[kind].fields if name in self.known.filled]
        usual = [name for name in columns if self.known.filled[name] >= _LEAST_BEFORE]
        if found.failure is not None or not found.tables or not found.tables[0].rows:
            return usual
        shares = _shares(found)
        return [name for name in usual if shares.get(name, 0.0) <= self.known.filled[name] * _BLANK]

    def change(self, *changes: Change) -> bool:
        """Take changes into the plan, all or none: what stands there already is none, and what makes the plan a wrong one is
        not taken."""
        real = [change for change in changes if change.old != change.new]
        text = with_changes(self.mending.text, [(change.path, change.new) for change in real])
        try:
            parse_plan(text, self._loaded.text.path, dict(self._loaded.given))
        except PlanError as error:
            why = f"the plan would not be right with it: {error.problems[0].what}"
            self.mending.unmended.append((".".join(changes[-1].path[1:]), why))
            return False
        self.mending.text = text
        self.mending.changes += real
        return True

    # -- listings

    def mend_listing(self, kind: str, page: _PageRead) -> None:
        """The rows of a listing, its fields, and how it goes on."""
        broken = self.broken(kind, page)
        plan = self.loaded.plan.page[kind]
        has_rows = bool(plan.rows) and bool(scopes_of(page.document, compiled(plan.rows)))
        if page.document.kind == "json":
            self._mend_json(kind, page, broken, has_rows=has_rows)
        elif plan.rows:
            self._mend_rows(kind, page, broken, has_rows=has_rows)
        self._mend_surroundings(kind, page)

    def _mend_rows(self, kind: str, page: _PageRead, broken: Sequence[str], *, has_rows: bool) -> None:
        language = language_of_page(page.document, page.reply)
        examples, seen = self._examples(kind, page, language)
        rows = self._rows(kind, page, examples, seen, has_rows=has_rows)
        if rows is None:
            self.mending.unmended.append(("rows", "no set of alike elements holds the records of the last run"))
            return
        fit = fit_into(list(rows.rows), examples, seen)
        scopes = Scopes(list(rows.rows), [page.document] * len(rows.rows), rows.behind, language)
        held = [(row, record) for row, record in zip(fit.rows, page.known, strict=True) if row is not None]
        self.mending.records = len(held)
        for name in broken:
            wanted = [
                wanted_in(scopes, scopes.elements.index(row), text, seen[text])
                for row, example in zip(fit.rows, examples, strict=True)
                if row is not None and (text := example.get(name)) is not None
            ]
            self._mend_field(kind, name, wanted, scopes, page, held)

    def _rows(
        self, kind: str, page: _PageRead, examples: Sequence[Example], seen: Seen, *, has_rows: bool
    ) -> RowsGuess | None:
        """The rows as the plan picks them, or, where it picks none, those that hold the records of the last run."""
        plan = self.loaded.plan.page[kind]
        if has_rows:
            own = [row for row in scopes_of(page.document, compiled(plan.rows)) if isinstance(row, Element)]
            held = sum(row is not None for row in fit_into(own, examples, seen).rows)
            if held * 2 > len(examples) or not examples:
                return RowsGuess((plan.rows or [""])[0], tuple(own), 0.0)
        for rows, fit in learned_rows(page.document, examples, seen):
            held = sum(row is not None for row in fit.rows)
            if held * 2 > len(examples):
                rating: Rating = "sure" if held == len(examples) >= LEAST_SURE else "likely"
                why = f"{rows.count} rows; {held} of {len(examples)} records of the last run are in one each"
                old = self.said["page"][kind].get("rows")
                change = Change(("page", kind, "rows"), old, rows.expression, rating, why)
                return rows if self.change(change) else None
        return None

    def _examples(
        self, kind: str, page: _PageRead, language: str
    ) -> tuple[list[dict[str, str]], Mapping[str, list[Sighting]]]:
        """The records of the last run as examples, and where their values stand; of a field with a `map` what the page said
        for them, where the values themselves are nowhere."""
        names, maps = list(self.loaded.plan.page[kind].fields), self._maps(kind)
        examples = [_example(row, names) for row in page.known]
        texts = [text for example in examples for text in example.values()]
        seen = sightings_of(
            page.document, [*texts, *(text for said in maps.values() for text in said.values())], language
        )
        for name, said in maps.items():
            if not any(seen.get(example.get(name, "")) for example in examples):
                examples = [{**e, name: said.get(e[name], e[name])} if name in e else e for e in examples]
                seen |= {text: seen.get(text, []) for example in examples if (text := example.get(name))}
        return examples, seen

    def _maps(self, kind: str) -> dict[str, dict[str, str]]:
        """Of fields with a `map` what a page may say for each value."""
        fields = self.loaded.plan.page[kind].fields
        return {name: {value: text for text, value in plan.map.items()} for name, plan in fields.items() if plan.map}

    def _mend_field(
        self,
        kind: str,
        name: str,
        wanted: Sequence[Wanted],
        scopes: Scopes,
        page: _PageRead,
        held: Sequence[tuple[Element, Mapping[str, Any]]],
        *,
        moved_from: str = "",
    ) -> bool:
        """One field learned anew, from the values of the last run that stand in their rows."""
        there = [one for one in wanted if one.sightings]
        learned = None
        if len(there) >= max(1, min(2, len(wanted))):
            learned = learned_field(name, there, scopes, least=_LEAST_OF_EXAMPLES)
        if learned is None:
            seen = f"{len(there)} of {len(wanted)} values of the last run are in their rows"
            self._missing.setdefault(name, (kind, seen))
            return False
        old = self.said["page"][moved_from or kind]["fields"][name]
        pairs = [(row, scopes.documents[scopes.elements.index(row)], record) for row, record in held]
        best = best_of(name, old, learned, pairs, page.reply)
        if best is None:
            self._missing.setdefault(name, (kind, "what was learned gives other values than the last run"))
            return False
        new, evidence = best
        change = rated(
            Change(("page", kind, "fields", name), None if moved_from else old, new, "a guess", learned.why), evidence
        )
        change = replace(change, before=self.known.filled.get(name), now=0.0)
        if moved_from:
            gone = Change(
                ("page", moved_from, "fields", name), old, None, change.rating, f"moved to the pages of kind {kind}"
            )
            return self.change(gone, change)
        return self.change(change)

    def _mend_json(self, kind: str, page: _PageRead, broken: Sequence[str], *, has_rows: bool) -> None:
        """The rows and fields of a JSON document."""
        names = list(broken)
        examples = [example for row in page.known if (example := _example(row, names))]
        found = learn_json(page.document.data, examples[:3]) if examples else None
        if found is None:
            if broken:
                self.mending.unmended.append(("rows", "no list of the document holds the records of the last run"))
            return
        rows, fields = found
        self.mending.records = len(page.known)
        if not has_rows:
            why = f"{rows.count} members; the records of the last run are in them"
            old = self.said["page"][kind].get("rows")
            self.change(Change(("page", kind, "rows"), old, rows.expression, "likely", why))
        for one in fields:
            old = self.said["page"][kind]["fields"][one.guess.name]
            new = merged_field(old, read(one.guess.as_plan()), keep=())
            self.change(Change(("page", kind, "fields", one.guess.name), old, new, "likely", one.why, now=0.0))

    # -- what stands around the rows

    def _mend_surroundings(self, kind: str, page: _PageRead) -> None:
        """What must stand on the page, the stated total, the links that are opened, how the listing goes on."""
        self._mend_expect(kind, page)
        look = look_at(page.document, page.reply)
        plan, said = self.loaded.plan.page[kind], self.said["page"][kind]
        ways = {
            key: [w.plan.removeprefix(f"{key} = ") for w in look.paging if w.plan.startswith(f"{key} = ")]
            for key in ("total", "next")
        }
        found = self.extract(kind, page)
        if plan.total is not None and found.total is None and ways["total"]:
            self.change(
                Change(
                    ("page", kind, "total"), said["total"], read(ways["total"][0]), "likely", "the page states it there"
                )
            )
        has_next = any(link.role is Role.NEXT for link in found.links)
        went_on = len(self.known.urls.get(kind, ())) > 1
        if plan.next is not None and not has_next and went_on:
            self._mend_next(kind, page, ways["next"])
        for target in plan.open:
            if not any(link.role is Role.OPEN and link.kind == target for link in found.links):
                self._mend_open(kind, target, page)

    def _mend_expect(self, kind: str, page: _PageRead) -> None:
        plan = self.loaded.plan.page[kind]
        if not plan.expect or first_of(compiled(plan.expect), page.document.scope, page.document) or not plan.rows:
            return
        rows = [row for row in scopes_of(page.document, compiled(plan.rows)) if isinstance(row, Element)]
        around = {parent(row) for row in rows}
        holder = around.pop() if len(around) == 1 else None
        new = (
            expression_for(page.document, [holder], [])[0]
            if holder is not None and holder.tag not in ("body", "html")
            else None
        )
        old = self.said["page"][kind]["expect"]
        self.change(Change(("page", kind, "expect"), old, new or plan.rows[0], "likely", "what holds the rows now"))

    def _mend_next(self, kind: str, page: _PageRead, plans: Sequence[str]) -> None:
        """The first way to go on that leads to a page with rows of its own."""
        old = self.said["page"][kind]["next"]
        for plan in plans:
            new = read(plan)
            before = self.mending.text
            self.mending.text = with_changes(before, [(("page", kind, "next"), new)])
            first = self.extract(kind, page)
            link = next((link for link in first.links if link.role is Role.NEXT), None)
            second = self._second(kind, link.request) if link is not None else None
            self.mending.text = before
            if second is not None and first.tables and second.tables and second.tables[0].rows:
                repeated = [row for row in second.tables[0].rows if row in first.tables[0].rows]
                if len(repeated) * 2 < len(second.tables[0].rows):
                    why = f"page 2 has {len(second.tables[0].rows)} more rows"
                    self.change(Change(("page", kind, "next"), old, new, "sure", why))
                    return
        self.mending.unmended.append(("next", "nothing on the page leads on to other rows"))

    def _second(self, kind: str, request: Request) -> Extract | None:
        kinds = self.kinds()
        try:
            reply = self._ask(kinds[kind].shown(request))
        except FetchFailed:
            return None
        self.mending.pages.append(reply.url)
        return extract(reply, kinds[kind], kinds, number=1)

    def _mend_open(self, kind: str, target: str, page: _PageRead) -> None:
        """The link in each row that leads to pages of this kind: of those in the rows the one that the last run opened."""
        plan = self.loaded.plan.page[kind]
        rows = (
            [row for row in scopes_of(page.document, compiled(plan.rows)) if isinstance(row, Element)]
            if plan.rows
            else []
        )
        known = self.known.urls.get(target, frozenset())
        scopes = Scopes(rows, [page.document] * len(rows), language=language_of_page(page.document, page.reply))
        for link in [a for row in rows[:3] for a in elements(row, "a") if a.attr("href")]:
            if _address(page.document, link) in known:
                row = next(upper for upper in [link, *ancestors(link)] if upper in rows)
                at = _link_in(rows, row, link, scopes)
                if at:
                    leads = sum(
                        _address(page.document, a) in known for r in rows for a in _picked(at, r, page.document)[:1]
                    )
                    old = self.said["page"][kind]["open"][target]
                    new = {**old, "at": at} if isinstance(old, dict) else at
                    why = f"{leads} of {len(rows)} lead to pages that the last run opened"
                    rating: Rating = "sure" if leads >= len(rows) * SURE else "likely"
                    self.change(Change(("page", kind, "open", target), old, new, rating, why))
                    return
        self.mending.unmended.append((f"open.{target}", "no link in the rows leads to a page that the last run opened"))

    # -- pages behind rows

    def mend_details(self, listing: str, kind: str, page: _PageRead) -> None:
        """The fields of the pages that rows lead to, and those that have moved there."""
        pages = list(self._details(listing, kind, page))
        if len(pages) < 2:
            return
        plan = self.loaded.plan.page[kind]
        own = [name for name in plan.fields if name in self.known.filled and self._is_blank(kind, name, pages)]
        moved = [name for name, (where, _) in self._missing.items() if where == listing]
        if not own and not moved:
            return
        tops = [one.document.top for one in pages]
        scopes = Scopes(
            tops, [one.document for one in pages], language=language_of_page(pages[0].document, pages[0].reply)
        )
        held = [(one.document.top, one.known[0]) for one in pages]
        if plan.expect and not any(first_of(compiled(plan.expect), one.document.scope, one.document) for one in pages):
            self._mend_expect_of_pages(kind, own, scopes, pages)
        for name in (*own, *moved):
            self._missing.pop(name, None)
            where = listing if name in moved else ""
            if isinstance(next((r[name] for _, r in held if not is_missing(r.get(name))), None), list):
                self._mend_many(kind, name, scopes, pages)
                continue
            wanted = []
            for place, one in enumerate(pages):
                text = as_seen(one.known[0].get(name))
                if text is not None:
                    seen = sightings_of(one.document, [text], scopes.language)
                    wanted.append(wanted_in(scopes, place, text, seen[text]))
            filled = [(top, record) for top, record in held if not is_missing(record.get(name))]
            if (
                wanted
                and not self._mend_field(kind, name, wanted, scopes, pages[0], filled, moved_from=where)
                and where
            ):
                self._missing[name] = (where, "it is neither in the rows nor on the pages that they lead to")

    def _details(self, listing: str, kind: str, page: _PageRead) -> Iterator[_PageRead]:
        """Some pages that rows of the listing lead to, whose records the last run has; those first that had the most."""
        found = self.extract(listing, page)
        if not found.tables:
            return
        columns = found.tables[0].columns
        rows = [dict(zip(columns, row, strict=True)) for row in found.tables[0].rows]
        links = {link.row: link for link in reversed(found.links) if link.kind == kind and link.row is not None}
        wanted = [*self.loaded.plan.page[kind].fields, *self._missing]
        pairs = [
            (links[n].request, same)
            for n, row in enumerate(rows)
            if n in links and (same := self.known.same(row)) is not None
        ]
        pairs.sort(key=lambda pair: -sum(not is_missing(pair[1].get(name)) for name in wanted))
        for request, record in pairs[:_MOST_DETAILS]:
            try:
                yield self.opened(kind, request, lambda document, most, record=record: [record])  # type: ignore[misc]
            except (FetchFailed, NotADocument):
                continue

    def _mend_expect_of_pages(
        self, kind: str, names: Sequence[str], scopes: Scopes, pages: Sequence[_PageRead]
    ) -> None:
        """What holds a value of the last run on all pages: the innermost element of a name that stands on each of them once."""
        old = self.said["page"][kind]["expect"]
        for name in names:
            text = next((text for text in [as_seen(pages[0].known[0].get(name))] if text), None)
            seen = sightings_of(pages[0].document, [text], scopes.language)[text] if text else []
            for upper in (upper for one in seen for upper in ancestors(one.element)):
                for token in names_of(upper):
                    expression = f"{upper.tag}.{token}"
                    if all(len(_picked(expression, one.document.top, one.document)) == 1 for one in pages):
                        why = f"it holds the values on {len(pages)} of {len(pages)} pages"
                        self.change(Change(("page", kind, "expect"), old, expression, "likely", why))
                        return
        self.change(Change(("page", kind, "expect"), old, None, "likely", "it is on none of these pages any more"))

    def _is_blank(self, kind: str, name: str, pages: Sequence[_PageRead]) -> bool:
        """Whether a field was filled for the records of these pages and is blank on all of them."""
        had = [one for one in pages if not is_missing(one.known[0].get(name))]
        return bool(had) and not any(_filled_on(self.extract(kind, one), name) for one in had)

    def _mend_many(self, kind: str, name: str, scopes: Scopes, pages: Sequence[_PageRead]) -> None:
        """A field of several values."""
        wanted = [(n, list(map(str, value))) for n, one in enumerate(pages) if (value := one.known[0].get(name))]
        seen = sightings_of(pages[wanted[0][0]].document, wanted[0][1], scopes.language)
        way = many_field(name, wanted, scopes, seen)
        if way is None or not way.expression:
            self._missing[name] = (kind, "its values are in no elements of their own")
            return
        old = self.said["page"][kind]["fields"][name]
        new = {
            **{key: value for key, value in as_table(old).items() if key not in PICKS},
            "at": way.expression,
            "many": True,
        }
        good = sum(
            list(map(str, cells)) == texts
            for n, texts in wanted
            if isinstance(cells := cell_of(name, new, scopes.elements[n], scopes.documents[n], pages[n].reply), list)
        )
        change = Change(("page", kind, "fields", name), old, {"at": new.pop("at"), **new}, "a guess", f"by {way.by}")
        self.change(rated(change, Evidence(len(wanted), good, len(wanted), ())))

    def settle(self) -> None:
        """What is broken and was not mended, by column."""
        self.mending.unmended += [(name, why) for name, (_, why) in self._missing.items()]


def _example(row: Mapping[str, Any], names: Sequence[str]) -> dict[str, str]:
    """A record of the last run as an example: columns with a single value, as a page may show them."""
    found = {}
    for name in names:
        text = as_seen(row.get(name))
        if text is not None:
            found[name] = text
    return found


def _shares(found: Extract) -> dict[str, float]:
    """Column → share of the page's rows that have it."""
    table = found.tables[0]
    return {
        name: sum(not is_missing(row[place]) for row in table.rows) / len(table.rows)
        for place, name in enumerate(table.columns)
    }


def _filled_on(found: Extract, name: str) -> bool:
    return any(
        not is_missing(row[table.columns.index(name)])
        for table in found.tables
        if name in table.columns
        for row in table.rows
    )


def _address(document: Document, link: Element) -> str:
    try:
        return document.resolve(link.attr("href") or "")
    except ValueError:
        return ""


def _picked(at: str, row: Element, document: Document) -> list[Element]:
    return [node for node in first_of(compiled([at]), row, document) if isinstance(node, Element)]


def _link_in(rows: Sequence[Element], row: Element, link: Element, scopes: Scopes) -> str:
    """The surest way from a row to its link that leads to one in every row; ways that pick several come last."""
    found = []
    for way in ways_to(link, row, rows):
        if way.expression and not way.under and not way.label:
            own = [_picked(way.expression, one, scopes.documents[0]) for one in rows]
            if all(links and links[0].attr("href") for links in own) and own[list(rows).index(row)][0] == link:
                found.append((any(len(links) > 1 for links in own), way.cost, way.expression))
    return min(found)[2] if found else ""
