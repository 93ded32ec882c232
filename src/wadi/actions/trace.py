"""From a cell of a finished table back to the stored page: which element, which stages, which rules of the table made it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import UTC, datetime
from functools import lru_cache
from hashlib import sha256
from typing import Any

from wadi.actions.run import Run
from wadi.clean.arithmetic import Formula
from wadi.clean.errors import NotReadable
from wadi.clean.stages import Step
from wadi.crawl.documents import document_of
from wadi.crawl.kinds import Kind, compile_kinds
from wadi.crawl.page_calls import rows_given, with_page_data
from wadi.crawl.trace import Retraced, list_scope, retrace, retrace_route, scope_of
from wadi.page.document import Document, NotADocument
from wadi.page.field import Field
from wadi.page.nodes import JsonNode, Scope
from wadi.plan.code import CodeFailed
from wadi.plan.columns import COMPANIONS, SEEN_COLUMNS, table_plan, tables_of
from wadi.plan.starts import FILE, file_request
from wadi.problems import Place, Problem, RunError, UsageError, listed, nearest
from wadi.store.archive import DamagedRecord, read_reply
from wadi.store.folder import PAGES
from wadi.store.outcome import as_stored
from wadi.table.assemble import Assembly
from wadi.table.derived import hashed
from wadi.table.located import LocatedRow, source_of_visit
from wadi.web.messages import Reply

_PAGES_HELD = 16
_FILE_PARTS_DONE_AGAIN = ("url", "size", "sha256")
_NOT_REPLAYED = " (as the table has it, not done again)"


@dataclass(frozen=True)
class CellLocation:
    """Where a value stands: the page with its number in the run, its URL, when it came, its status, and the row on it."""

    page: int
    kind: str
    url: str
    method: str
    at: float | None
    status: int | None
    row: int


@dataclass(frozen=True, repr=False)
class CellTrace:
    """The way of one cell. `value` is what the steps come to, `final` what the table has; they are the same."""

    column: str
    location: CellLocation | None
    expression: str
    markup: str
    steps: tuple[Step, ...]
    value: Any
    final: Any

    def __repr__(self) -> str:
        where = f" on page {self.location.page} ({self.location.url})" if self.location is not None else ""
        way = " → ".join(f"{step.name}: {step.value!r:.60}" for step in self.steps)
        return f"<{self.column} = {self.final!r}: {self.expression}{where}; {way}>"


def _retraced(kind: Kind, field: Field, scope: Scope, document: Document, reply: Reply) -> Retraced:
    """The way of a cell on its page; where a function gave its row, that is the first step."""
    found = retrace(field, scope, document, reply)
    if kind.call is None or field.source:
        return found
    rows = [scope.value] if kind.rows and isinstance(scope, JsonNode) else rows_given(document)
    row = rows[0] if rows else None
    return replace(found, steps=(Step(f"call: {kind.call.name}", row), *found.steps))


class Tracer:
    """Follows cells of a run."""

    def __init__(self, run: Run) -> None:
        run.loaded.require_code()
        self._run = run
        self._plan = run.loaded.plan
        self._kinds = compile_kinds(self._plan, this_year=run.year, functions=run.loaded.functions)
        self._document = lru_cache(_PAGES_HELD)(self._read)

    def row(self, table: str | None, which: str) -> tuple[str, Assembly, LocatedRow]:
        """A row by its number in the table (from 1), or by its key (`MW-0141`, or `code=MW-0141`). Raises UsageError."""
        assembly = self._run.assembly(table)
        name = table or self._run.tables[0]
        if not isinstance(assembly, Assembly):
            what = f'table "{name}" is generated; trace a row of: {", ".join(tables_of(self._plan))}'
            raise UsageError(Problem("no-such-table", what))
        column, _, value = which.rpartition("=")
        names = [known.name for known in assembly.columns]
        if column and column not in names:
            raise UsageError(Problem("unknown-column", f'table "{name}" has no column "{column}"'))
        places = [names.index(column)] if column else assembly.key
        for number, placed in enumerate(assembly.placed(), 1):
            by_number = not column and which.isdecimal() and number == int(which)
            if by_number or (places and " ".join(str(placed.cells[place]) for place in places) == value):
                return name, assembly, placed
        raise UsageError(
            Problem("no-such-row", f'table "{name}" has no row {which}', now="a number from 1, a key, or COLUMN=VALUE")
        )

    def cell(self, table: str, assembly: Assembly, placed: LocatedRow, place: int) -> CellTrace:
        """The way of the cell in a row's column."""
        rules = table_plan(self._plan, table)
        column = assembly.plain_columns[place]
        final = placed.cells[place]
        if column.name in rules.derive:
            return self._derived(assembly, placed, column.name, rules.derive[column.name].formula, final)
        if column.name.startswith("origin_") and column.name.removeprefix("origin_") in rules.origin:
            return self._from_origin(column.name, placed, final)
        made = self._made(column.name, rules, final)
        if made is not None:
            return CellTrace(column.name, None, "", "", (made,), made.value, final)
        base, part = column.name, None
        if column.part_of is not None:
            base, part = column.part_of, column.name.removeprefix(f"{column.part_of}_")
        location, retraced = self._picked(table, assembly, placed, base, rules.prefer)
        if location is None and placed.parent is not None:
            carried = self._carried(placed, base)
            if carried is not None:
                return replace(carried, column=column.name, final=final)
        value = as_stored(retraced.value) if retraced else None
        steps = list(retraced.steps) if retraced else []
        kind = next((held.type for held in assembly.plain_columns if held.name == base), "string")
        if kind in COMPANIONS and value is not None and value != []:
            value = self._taken_apart(kind, part, value, column.many, final)
            steps.append(
                Step(
                    f"table: {part or kind}"
                    + ("" if kind != "file" or part in _FILE_PARTS_DONE_AGAIN else _NOT_REPLAYED),
                    value,
                )
            )
        is_hashed = column.name in rules.hash and value is not None
        ended = hashed(value, self._run.context.hash_key) if is_hashed else value
        if rules.call is not None and ended != final:
            ended = final
            steps.append(Step(f"call: {rules.call}{_NOT_REPLAYED}", final))
        elif column.name in rules.collect and ended != final:
            ended = final
            steps.append(Step(f"collect{_NOT_REPLAYED}", final))
        elif is_hashed:
            steps.append(Step("hash", ended))
        return CellTrace(
            column.name, location, retraced.expression if retraced else "", retraced.markup if retraced else "",
            tuple(steps), ended, final,
        )  # fmt: skip

    def _made(self, name: str, rules: Any, final: Any) -> Step | None:
        if name in rules.constant:
            return Step("constant", rules.constant[name])
        if name == rules.occurrences:
            return Step(f"occurrences{_NOT_REPLAYED}", final)
        if rules.history and name in SEEN_COLUMNS:
            return Step(f"seen{_NOT_REPLAYED}", final)
        return None

    def _from_origin(self, name: str, placed: LocatedRow, final: Any) -> CellTrace:
        """A column that says where a row is from, as the stored reply has it."""
        found = self._document(placed.visit.page)
        value: Any = None
        if name == "origin_place":
            value = placed.number + 1
        elif found is not None:
            reply = found[1]
            at = datetime.fromtimestamp(reply.started_at, UTC).isoformat(timespec="seconds")
            value = reply.url if name == "origin_url" else at
        location = self._location_of(placed.visit.page, self._run.state.kind_of(placed.visit.page), placed.number)
        return CellTrace(name, location, "", "", (Step("origin", value),), value, final)

    def _derived(self, assembly: Assembly, placed: LocatedRow, name: str, formula: str, final: Any) -> CellTrace:
        row = {column.name: cell for column, cell in zip(assembly.plain_columns, placed.cells, strict=True)}
        parsed = Formula(formula)
        try:
            value = parsed.value(row)
        except NotReadable:
            value = None
        steps = [Step(used, row[used]) for used in sorted(parsed.names)]
        return CellTrace(name, None, formula, "", (*steps, Step(f"derive: {formula}", value)), value, final)

    def _taken_apart(self, kind: str, part: str | None, value: Any, many: bool, final: Any) -> Any:
        """What the table makes of a value that fills several columns."""
        values = value if many else [value]
        if kind == "file":
            if part not in _FILE_PARTS_DONE_AGAIN:
                return final
            files = [self._of_file(part, url) for url in values]
            return files if many else files[0]
        place = {"money": (None, "currency"), "geopoint": ("longitude", "latitude")}[kind]
        if part is None:
            parts = [held[0] if kind == "money" else f"{held[0]},{held[1]}" for held in values]
        else:
            parts = [held[place.index(part)] for held in values]
        return parts if many else parts[0]

    def _of_file(self, part: str, url: str) -> Any:
        """What the table says of the file that was downloaded from an address, made of the file itself."""
        if part == "url":
            return url
        found = self._run.state.file_of(FILE, file_request(url))
        if found is None or found[1] is None:
            return None
        path = self._run.folder / found[1].path
        try:
            data = path.read_bytes()
        except OSError as error:
            what = f"the downloaded file cannot be read: {error.strerror}"
            raise RunError(Problem("damaged-run", what, Place(str(path)))) from error
        return sha256(data).hexdigest() if part == "sha256" else len(data)

    def _carried(self, placed: LocatedRow, name: str) -> CellTrace | None:
        from wadi.plan.columns import parent_table

        for table in self._run.tables:
            assembly = self._run.assembly(table)
            if isinstance(assembly, Assembly) and placed.parent is not None:
                names = [column.name for column in assembly.plain_columns]
                if name in names and len(names) == len(placed.parent.cells) and parent_table(self._plan, table) is None:
                    return self.cell(table, assembly, placed.parent, names.index(name))
        return None

    def _picked(
        self, table: str, assembly: Assembly, placed: LocatedRow, name: str, prefer: str | None
    ) -> tuple[CellLocation | None, Retraced | None]:
        """The field that gave a column of a row: on its own page, on those that complete it, in duplicates merged into it."""
        kind = self._run.state.kind_of(placed.visit.page)
        location, retraced = self._on_page(table, kind, placed, name)
        found = (location, retraced)
        for detail in assembly.details_of(placed) if placed.parent is None else ():
            other = self._run.state.kind_of(detail)
            field = next((spec for spec in self._kinds[other].fields if spec.name == name), None)
            if field is None:
                continue
            if field.by_route:
                more = retrace_route(field, source_of_visit(assembly.visit_of(placed, detail), field, self._run.state))
            else:
                document = self._document(detail)
                scope = scope_of(self._kinds[other], document[0], 0) if document is not None else None
                if document is None or scope is None:
                    continue
                more = _retraced(self._kinds[other], field, scope, *document)
            has_none = found[1] is None or found[1].value is None
            if (more.value is not None and (has_none or prefer == other)) or (found[1] is None):
                found = (self._location_of(detail, other, 0), more)
        if found[1] is None or found[1].value is None:
            for merged in placed.others:
                location, retraced = self._picked(table, assembly, merged, name, prefer)
                if retraced is not None and retraced.value is not None:
                    return location, retraced
        return found

    def _on_page(
        self, table: str, kind: str, placed: LocatedRow, name: str
    ) -> tuple[CellLocation | None, Retraced | None]:
        compiled = self._kinds[kind]
        child = next((inner for inner in compiled.lists if inner.table == table), None)
        fields: tuple[Field, ...] = child.fields if child is not None and compiled.table != table else compiled.fields
        field = next((spec for spec in fields if spec.name == name), None)
        if field is None:
            return None, None
        location = self._location_of(placed.visit.page, kind, placed.number)
        if field.by_route:
            return location, retrace_route(field, source_of_visit(placed.visit, field, self._run.state))
        found = self._document(placed.visit.page)
        if found is None:
            return location, None
        document, reply = found
        if compiled.side_by_side:
            return location, retrace(field, document.scope, document, reply, beside=placed.number)
        is_list = child is not None and compiled.table != table
        scope = (
            list_scope(compiled, document, table, placed.number)
            if is_list
            else scope_of(compiled, document, placed.number)
        )
        return location, _retraced(compiled, field, scope, document, reply) if scope is not None else None

    def _location_of(self, page: int, kind: str, row: int) -> CellLocation:
        known = self._run.state.page(page)
        method = known.request.method if known else "GET"
        found = self._document(page)
        status = found[1].status if found else None
        return CellLocation(
            page, kind, self._run.state.url_of(page), method, self._run.state.came_at(page), status, row
        )

    def _read(self, page: int) -> tuple[Document, Reply] | None:
        location, known = self._run.state.location(page), self._run.state.page(page)
        if location is None or known is None:
            return None
        try:
            reply = replace(read_reply(self._run.folder / PAGES, location), request=known.request)
        except (DamagedRecord, OSError) as error:
            what = f"the stored page cannot be read: {error}"
            raise RunError(Problem("damaged-run", what, Place(str(self._run.folder)))) from error
        kind: Kind = self._kinds[known.kind]
        try:
            return with_page_data(document_of(reply, kind), reply, kind), reply
        except (NotADocument, CodeFailed):  # a page that failed gave nothing
            return None


def traced(run: Run, table: str | None, row: str, column: str | None = None) -> list[CellTrace]:
    """The ways of the cells of a row (its number from 1, its key, or COLUMN=VALUE), or of one column. Raises UsageError."""
    tracer = Tracer(run)
    name, assembly, placed = tracer.row(table, row)
    names = [known.name for known in assembly.columns]
    if column is not None and column not in names:
        near = nearest(column, names)
        now = f'did you mean "{near}"?' if near else f"columns: {listed(names, 30)}"
        raise UsageError(Problem("unknown-column", f'table "{name}" has no column "{column}"', now=now))
    places = [names.index(column)] if column is not None else range(len(names))
    return [tracer.cell(name, assembly, placed, place) for place in places]
