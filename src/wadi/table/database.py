"""Tables in databases: SQLite files and what SQLAlchemy reaches, such as PostgreSQL; made new, appended to, merged by key."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any
from uuid import uuid4

from wadi.plan.columns import Column
from wadi.problems import CrawlError, Place, Problem, UsageError
from wadi.store.faults import disk_problem
from wadi.table.cells import at_utc, coded, typed
from wadi.table.writers import batches

if TYPE_CHECKING:
    from sqlalchemy import Connection, Engine, Table

_ROWS_A_STATEMENT = 500
_SHORT = 190
"""Longest text of a key in databases that index only so much."""


def database_tables(
    url: str,
    tables: Iterable[tuple[str, Sequence[Column], Sequence[str], Iterable[list[Any]]]],
    into: str = "replace",
    unkeyed: Callable[[str, str], None] = lambda table, why: None,
) -> dict[str, int]:
    """Write tables (name, columns, key, rows) in one transaction; returns rows by table.

    `into` is "replace" (the table is made anew), "append", or "upsert" (rows with the same key are replaced). A new table whose
    rows do not all have a key of their own is written without a primary key: `unkeyed` hears its name, and why.
    Raises UsageError for what the database refuses; then nothing has changed.
    """
    from sqlalchemy.exc import SQLAlchemyError

    engine = _engine(url)
    shown = engine.url.render_as_string(hide_password=True)
    counts: dict[str, int] = {}
    try:
        with engine.begin() as connection:
            for name, columns, key, rows in tables:
                counts[name] = _write_table(connection, name, columns, key, rows, into, unkeyed)
    except SQLAlchemyError as error:
        said = getattr(error, "orig", None) or error
        problem = _no_room(said, Path(shown.removeprefix("sqlite:///"))) if engine.dialect.name == "sqlite" else None
        if problem is not None:
            raise CrawlError(problem) from error
        what = f"the database refuses the table: {str(said).splitlines()[0]}"
        raise UsageError(Problem("not-writable", what, Place(shown), now="nothing was changed there")) from error
    finally:
        engine.dispose()
    return counts


def _no_room(error: BaseException, path: Path) -> Problem | None:
    """The problem of a database that cannot be written for want of room; None for any other error."""
    problem = disk_problem(error, path)
    if problem is None or problem.code != "disk-full":
        return None
    return replace(
        problem,
        what=f"no room is left for it: {error}",
        now="make room, or write it elsewhere; nothing was changed there",
    )


def _engine(url: str) -> Engine:
    from sqlalchemy import create_engine
    from sqlalchemy.exc import SQLAlchemyError

    named = url.replace("postgresql://", "postgresql+psycopg://", 1).replace("postgres://", "postgresql+psycopg://", 1)
    try:
        engine = create_engine(named)
        if engine.dialect.name == "sqlite":
            _begin_outright(engine)
        return engine
    except (SQLAlchemyError, ImportError, ValueError) as error:
        what = f"no database can be reached by it: {error}"
        raise UsageError(Problem("bad-option", what, Place(url.partition("@")[2] or url))) from error


def _begin_outright(engine: Engine) -> None:
    """Have SQLite's transactions hold for making and dropping tables, too: Python's driver would commit before these."""
    from sqlalchemy import event

    @event.listens_for(engine, "connect")
    def _connected(connection: Any, record: object) -> None:
        connection.isolation_level = None

    @event.listens_for(engine, "begin")
    def _begun(connection: Connection) -> None:
        connection.exec_driver_sql("BEGIN IMMEDIATE")


def _write_table(
    connection: Connection,
    name: str,
    columns: Sequence[Column],
    key: Sequence[str],
    rows: Iterable[list[Any]],
    into: str,
    unkeyed: Callable[[str, str], None],
) -> int:
    from sqlalchemy import inspect
    from sqlalchemy.exc import IntegrityError

    is_there = inspect(connection).has_table(name)
    table = _table(name, columns, key)
    is_ours = bool(key) and into != "upsert" and (not is_there or into == "replace")
    if is_there and into == "replace":
        table.drop(connection)
    if not is_there or into == "replace":
        table.create(connection)
    elif missing := _missing(connection, name, columns):
        what = f'table "{name}" is there without the column {missing[0]!r}'
        raise UsageError(Problem("not-writable", what, now="--into replace  makes it anew"))
    readers = [typed(column) for column in columns]
    names = [column.name for column in columns]
    statement = _statement(connection, table, key, into)
    count = 0
    for batch in batches(rows, _ROWS_A_STATEMENT):
        values = [dict(zip(names, _cells(row, readers), strict=True)) for row in batch]
        try:
            with connection.begin_nested():
                connection.execute(statement, values)
        except IntegrityError:
            lacking = [column for column in key if any(row[column] is None for row in values)]
            if not is_ours and lacking:
                what = f'a row of table "{name}" has no {lacking[0]}, by which its rows are told apart there'
                raise UsageError(Problem("not-writable", what, now="--into replace  makes the table anew")) from None
            if not is_ours:
                raise
            is_ours, table = False, _without_key(connection, table, columns)
            statement = _statement(connection, table, (), into)
            connection.execute(statement, values)
            unkeyed(name, f"rows have no {lacking[0]}" if lacking else f"rows share their {' and '.join(key)}")
        count += len(batch)
    return count


def _without_key(connection: Connection, table: Table, columns: Sequence[Column]) -> Table:
    """The table made anew without a primary key, with the rows that it has."""
    import sqlalchemy as sa

    spare = _table(f"{table.name}_{uuid4().hex[:8]}", columns, ())
    spare.create(connection)
    connection.execute(sa.insert(spare).from_select([column.name for column in table.columns], sa.select(table)))
    table.drop(connection)
    quoted = connection.dialect.identifier_preparer.quote
    connection.exec_driver_sql(f"ALTER TABLE {quoted(spare.name)} RENAME TO {quoted(table.name)}")
    return _table(table.name, columns, ())


def _missing(connection: Connection, name: str, columns: Sequence[Column]) -> list[str]:
    from sqlalchemy import inspect

    there = {column["name"] for column in inspect(connection).get_columns(name)}
    return [column.name for column in columns if column.name not in there]


def _cells(row: list[Any], readers: Sequence[Any]) -> list[Any]:
    return [
        (
            at_utc(read(value))
            if read is not None and value is not None
            else coded(value)
            if isinstance(value, list | dict)
            else value
        )
        for value, read in zip(row, readers, strict=True)
    ]


def _key_text() -> Any:
    """A text that is in a key: of any length, but where a database wants to know how long it may be."""
    import sqlalchemy as sa

    return sa.Text().with_variant(sa.String(_SHORT), "mysql", "mariadb", "mssql", "oracle")


def _table(name: str, columns: Sequence[Column], key: Sequence[str]) -> Table:
    import sqlalchemy as sa

    kinds: dict[str, Any] = {
        "integer": sa.BigInteger(), "year": sa.Integer(), "number": sa.Double(), "money": sa.Double(), "percent": sa.Double(),
        "boolean": sa.Boolean(), "date": sa.Date(), "time": sa.Time(), "datetime": sa.DateTime(timezone=True),
    }  # fmt: skip
    made = []
    for column in columns:
        kind = sa.Text() if column.many else kinds.get(column.type, sa.Text())
        in_key = column.name in key
        made.append(
            sa.Column(column.name, _key_text() if in_key and isinstance(kind, sa.Text) else kind, primary_key=in_key,
                      autoincrement=False, nullable=not in_key, comment=column.unit)
        )  # fmt: skip
    return sa.Table(name, sa.MetaData(), *made)


def _statement(connection: Connection, table: Table, key: Sequence[str], into: str) -> Any:
    import sqlalchemy as sa

    if into != "upsert":
        return sa.insert(table)
    if not key:
        what = f'table "{table.name}" has no key to find rows by'
        raise UsageError(Problem("bad-option", what, now=f'[table.{table.name}] key = ["…"]'))
    others = [column.name for column in table.columns if column.name not in key]
    if connection.dialect.name in ("sqlite", "postgresql"):
        from sqlalchemy.dialects import postgresql, sqlite

        insert = (sqlite if connection.dialect.name == "sqlite" else postgresql).insert(table)
        changed = {name: insert.excluded[name] for name in others}
        if not changed:
            return insert.on_conflict_do_nothing(index_elements=list(key))
        return insert.on_conflict_do_update(index_elements=list(key), set_=changed)
    what = f"rows cannot be merged by key in {connection.dialect.name}"
    raise UsageError(Problem("bad-option", what, now="SQLite and PostgreSQL do; --into replace or append elsewhere"))
