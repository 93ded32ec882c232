"""What a plan says a table must hold, to be looked at after a run: `[table.NAME.check]`.

The constraints of columns are those of the Table Schema standard (required, unique, minimum, maximum, minLength, maxLength,
pattern, enum) and further ones of ours.
"""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field


class Part(BaseModel):
    """A part of the plan: unknown keys are refused, values keep the type that they are written in."""

    model_config = ConfigDict(extra="forbid", strict=True, frozen=True, populate_by_name=True, defer_build=True)


Bound = int | float


class BoundsPlan(Part):
    """Between what a figure must lie."""

    minimum: Bound | None = Field(None, description="not less than this")
    maximum: Bound | None = Field(None, description="not more than this")


def _as_share(value: object) -> object:
    return {"minimum": value} if isinstance(value, int | float) else value


Share = Annotated[BoundsPlan, BeforeValidator(_as_share, json_schema_input_type=float | BoundsPlan)]


class ColumnCheckPlan(Part):
    """What the cells of a column must be; a missing cell breaks `required` alone."""

    required: bool = Field(False, description="no cell is missing")
    unique: bool = Field(False, description="no value is there twice")
    minimum: Bound | str | None = Field(None, description='least value; of dates as text: "1900-01-01"')
    maximum: Bound | str | None = Field(None, description="greatest value")
    min_length: int | None = Field(None, alias="minLength", ge=0, description="least number of characters, or of items")
    max_length: int | None = Field(
        None, alias="maxLength", ge=0, description="greatest number of characters, or of items"
    )
    pattern: str | None = Field(None, description="regular expression that the whole text matches")
    enum: list[str | int | float | bool] | None = Field(None, min_length=1, description="the values that there are")
    past: bool = Field(False, description="no date or time lies after the run")
    refers_to: str | None = Field(None, description='column of another table, "TABLE.COLUMN", that has every value')
    filled: Share | None = Field(
        None, description="share of cells that are not missing: 0.9 or { minimum = …, maximum = … }"
    )
    distinct: Share | None = Field(
        None, description="share of different values among those that are filled: 0.9 or { minimum = …, maximum = … }"
    )
    total: BoundsPlan | None = Field(None, description="sum of the numbers: { minimum = …, maximum = … }")
    mean: BoundsPlan | None = Field(None, description="mean of the numbers: { minimum = …, maximum = … }")


def _as_list(value: object) -> object:
    return [value] if isinstance(value, str) else value


class CheckPlan(Part):
    """What a table must hold."""

    rows: BoundsPlan | None = Field(None, description="number of rows: { minimum = 300, maximum = 400 }")
    duplicates: BoundsPlan | None = Field(None, description="number of rows left out as duplicates: { maximum = 10 }")
    where: Annotated[list[str], BeforeValidator(_as_list, json_schema_input_type=str | list[str])] = Field(
        [], description='conditions that every row meets: "flow <= capacity"; one with a missing value counts as met'
    )
    columns: dict[str, ColumnCheckPlan] = Field({}, description="column → what its cells must be")
