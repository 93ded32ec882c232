"""Tables as Apache Parquet: typed columns, lists as lists, units and descriptions in the fields' metadata."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any, BinaryIO

import orjson

from wadi.plan.columns import Column
from wadi.table.cells import at_utc, typed
from wadi.table.writers import PLAIN, Style, batches

if TYPE_CHECKING:
    import pyarrow as pa

_ROWS_A_GROUP = 50_000


def parquet_file(out: BinaryIO, columns: Sequence[Column], rows: Iterable[list[Any]], style: Style = PLAIN) -> int:
    """One row group for each 50,000 rows, so that memory stays flat."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    schema = pa.schema([_field(column) for column in columns])
    readers = [typed(column) or (_as_json if column.type in ("array", "object") else None) for column in columns]
    count = 0
    with pq.ParquetWriter(out, schema, compression="zstd") as writer:
        for batch in batches(rows, _ROWS_A_GROUP):
            arrays = []
            for place, read in enumerate(readers):
                cells = [row[place] for row in batch]
                if read is not None:
                    cells = [None if cell is None else at_utc(read(cell)) for cell in cells]
                arrays.append(
                    pa.array(
                        _duplicates(cells) if columns[place].type in _DOUBLE else cells, type=schema.field(place).type
                    )
                )
            writer.write_table(pa.Table.from_arrays(arrays, schema=schema))
            count += len(batch)
    return count


_DOUBLE = frozenset({"number", "money", "percent"})


def _duplicates(cells: list[Any]) -> list[Any]:
    """The numbers of a column as floats, since whole ones beyond 2^53 may stand among them."""
    return [
        float(cell) if cell.__class__ is int else _duplicates(cell) if isinstance(cell, list) else cell
        for cell in cells
    ]


def _field(column: Column) -> pa.Field:
    import pyarrow as pa

    kinds = {
        "integer": pa.int64(), "year": pa.int64(), "number": pa.float64(), "money": pa.float64(), "percent": pa.float64(),
        "boolean": pa.bool_(), "date": pa.date32(), "time": pa.time64("us"), "datetime": pa.string(),
    }  # fmt: skip
    kind = kinds.get(column.type, pa.string())
    if column.many:
        # Dates in lists stay ISO 8601 texts, as they are kept.
        inner = kind if column.type in ("integer", "year", "number", "money", "percent", "boolean") else pa.string()
        kind = pa.list_(inner)
    elif column.type == "datetime":
        kind = pa.timestamp("us", tz="UTC")
    metadata = {"unit": column.unit} if column.unit else None
    return pa.field(column.name, kind, metadata=metadata)


def _as_json(value: Any) -> str:
    return orjson.dumps(value).decode()
