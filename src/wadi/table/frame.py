"""A table as a pandas DataFrame with the types of its columns."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from wadi.plan.columns import Column

if TYPE_CHECKING:
    import pandas as pd

_DTYPES = {
    "integer": "Int64",
    "number": "Float64",
    "boolean": "boolean",
    "string": "string",
    "url": "string",
    "file": "string",
    "email": "string",
    "phone": "string",
    "percent": "Float64",
}


def frame(columns: list[Column], rows: Iterable[list[Any]]) -> pd.DataFrame:
    """One row for each row, in order, with a plain index. Missing cells are `pd.NA` (`NaT` in dates).

    Types: integer Int64, number Float64, boolean boolean, date datetime64[s], texts and URLs string; `many` columns
    hold lists. Units stand in `frame.attrs["units"]`, by column.
    """
    import pandas as pd

    held = list(rows)
    series = {column.name: _series(column, [row[place] for row in held]) for place, column in enumerate(columns)}
    table = pd.DataFrame(series)
    table.attrs["units"] = {column.name: column.unit for column in columns if column.unit}
    return table


def _series(column: Column, values: list[Any]) -> pd.Series[Any]:
    import pandas as pd

    if column.many:
        return pd.Series(values, dtype="object")
    if column.type == "date":
        return pd.to_datetime(pd.Series(values, dtype="object"), format="ISO8601").astype("datetime64[s]")
    return pd.Series(values, dtype=_DTYPES.get(column.type, "object"))
