"""Profiles: the figures are those of pandas on the same data; files of every kind give the same; charts are drawn."""

from __future__ import annotations

import json
import sqlite3
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Program
from wadi.clean.types import TypeName
from wadi.plan.columns import Column
from wadi.problems import UsageError
from wadi.quality import figures
from wadi.quality.charts import bars, gap_map, histogram, scatter, write_charts
from wadi.quality.compare import compare
from wadi.quality.files import tables_in
from wadi.quality.measures import coarse_shape, measures_of
from wadi.quality.profile import TableProfile, profile_of, shape_of
from wadi.quality.tables import TableSource
from wadi.table.ledger import Ledger

ROWS = 12_000


def source(columns: dict[str, tuple[TypeName, list[Any]]]) -> TableSource:
    made = [Column(name, kind, False, None, False, ()) for name, (kind, _) in columns.items()]
    cells = [values for _, values in columns.values()]
    return TableSource("t", made, lambda: map(list, zip(*cells, strict=True)))


def register() -> pd.DataFrame:
    rng = np.random.default_rng(1847)
    flow = np.round(rng.lognormal(2.5, 1.4, ROWS), 2)
    flow[rng.random(ROWS) < 0.08] = np.nan
    depth = pd.array(rng.integers(2, 60, ROWS), dtype="Int64")
    depth[rng.random(ROWS) < 0.1] = pd.NA
    day = pd.Timestamp("1921-01-01") + pd.to_timedelta(rng.integers(0, 37_000, ROWS), "D")
    return pd.DataFrame(
        {
            "code": [f"MW-{number:06d}" for number in range(ROWS)],
            "district": rng.choice(["Saltholm", "Thornmere", "Upper Merrow"], ROWS),
            "flow": flow,
            "depth": depth,
            "registered": day.strftime("%Y-%m-%d"),
            "note": np.where(rng.random(ROWS) < 0.5, None, "Lined basin."),
        }
    )


def as_source(frame: pd.DataFrame) -> TableSource:
    kinds: dict[str, TypeName] = {"flow": "number", "depth": "integer", "registered": "date"}
    plain = frame.astype(object).where(frame.notna(), None)
    return source({name: (kinds.get(name, "string"), plain[name].tolist()) for name in frame})


@pytest.mark.parametrize("spilled", [False, True])
def test_figures_are_those_of_pandas(spilled: bool) -> None:
    frame = register()
    # What goes to disk, and texts too many to be counted on the way.
    few = {"most_counted": 500, "most_held": 1000} if spilled else {}
    found = profile_of(as_source(frame), **few)
    assert (found.rows, found.doubled) == (ROWS, int(frame.duplicated().sum()))
    for one in found.columns:
        column = frame[one.column.name]
        assert (one.filled, one.distinct) == (column.count(), column.nunique())
        counts = column.value_counts()
        if counts.iloc[0] > 1:
            assert [count for _, count in one.frequent] == counts.iloc[: len(one.frequent)].tolist()
            assert one.frequent[0][0] == counts.index[0] or counts.iloc[0] == counts.iloc[1]
    for name in ("flow", "depth"):
        one = next(column for column in found.columns if column.column.name == name)
        numbers, expected = one.numbers, frame[name].astype(float).describe()
        assert numbers is not None
        told = [
            numbers.mean,
            numbers.deviation,
            numbers.least,
            numbers.lower,
            numbers.median,
            numbers.upper,
            numbers.most,
        ]
        assert told == pytest.approx(expected.iloc[1:].tolist(), rel=1e-12)
        fence = 1.5 * (numbers.upper - numbers.lower)
        outside = (frame[name] < numbers.lower - fence) | (frame[name] > numbers.upper + fence)
        assert numbers.outliers == int(outside.sum())
        assert sum(count for _, _, count in numbers.bins) == one.filled
    registered = next(column for column in found.columns if column.column.name == "registered")
    assert (registered.first, registered.last) == (frame["registered"].min(), frame["registered"].max())


def test_gaps_that_go_together_are_told() -> None:
    every = list(range(200))
    flow = [None if n % 4 == 0 else n for n in every]
    unit = [None if n % 4 == 0 else "l/s" for n in every]
    dry = ["yes" if n % 4 == 0 else None for n in every]
    found = profile_of(source({"flow": ("integer", flow), "unit": ("string", unit), "dry": ("string", dry)}))
    assert found.gaps == (
        ("flow", "unit", pytest.approx(1.0)), ("flow", "dry", pytest.approx(-1.0)), ("unit", "dry", pytest.approx(-1.0)),
    )  # fmt: skip
    assert len(found.gap_map) == 3
    assert 0.2 < sum(found.gap_map[0]) / len(found.gap_map[0]) < 0.3


@given(st.lists(st.one_of(st.none(), st.integers(-(10**9), 10**9), st.floats(allow_nan=False)), max_size=60))
def test_any_numbers_have_a_profile(values: list[float | None]) -> None:
    found = profile_of(source({"x": ("number", values)})).columns[0]
    there = [value for value in values if value is not None]
    assert found.filled == len(there)
    assert json.dumps(found.as_dict())
    finite = [value for value in there if abs(value) < 1e150]
    assert (found.numbers is None) == (not finite)
    if found.numbers is not None:
        assert found.numbers.least == min(finite)
        assert found.numbers.median == pytest.approx(float(np.median(finite)))


@given(st.lists(st.one_of(st.none(), st.text(max_size=60)), max_size=40))
def test_any_texts_have_a_profile(values: list[str | None]) -> None:
    found = profile_of(source({"x": ("string", values)})).columns[0]
    there = [value for value in values if value]
    assert (found.filled, found.distinct) == (len(there), len(set(there)))
    assert dict(found.frequent).items() <= {value: there.count(value) for value in there}.items()


@given(st.lists(st.integers(0, 12), max_size=80), st.integers(0, 5))
def test_values_are_counted_as_one_by_one(values: list[int], most: int) -> None:
    expected = sorted(((value, values.count(value)) for value in set(values)), key=lambda one: (-one[1], one[0]))[:most]
    ordered = sorted(values)
    for held in (ordered, np.array(ordered, dtype=np.int64)):
        assert figures.counted(held, most) == (len(set(values)), expected)


@pytest.mark.parametrize(
    ("text", "shape", "coarse"),
    [
        ("MW-0141", "AA-9999", "a-9"),
        ("MW-01410", "AA-9+", "a-9"),
        ("Saltholm", "Aa+", "a"),
        ("12 °C", "99 °A", "9 °a"),
        ("Öster Dale", "Aaaaa Aaaa".replace("aaaaa", "aaaa"), "a a"),
        ("", "", ""),
    ],
)
def test_texts_have_shapes(text: str, shape: str, coarse: str) -> None:
    assert shape_of(text) == shape
    assert coarse_shape(shape) == coarse


def files(frame: pd.DataFrame, folder: Path) -> list[Path]:
    paths = [
        folder / f"springs{ending}"
        for ending in (".csv", ".tsv", ".csv.gz", ".jsonl", ".json", ".parquet", ".xlsx", ".db")
    ]
    frame.to_csv(paths[0], index=False)
    frame.to_csv(paths[1], index=False, sep="\t")
    frame.to_csv(paths[2], index=False)
    frame.to_json(paths[3], orient="records", lines=True)
    frame.to_json(paths[4], orient="records")
    frame.to_parquet(paths[5])
    frame.to_excel(paths[6], index=False)
    database = sqlite3.connect(paths[7])
    frame.to_sql("springs", database, index=False)
    database.close()
    return paths


def test_files_of_every_kind_give_the_same(tmp_path: Path) -> None:
    frame = register().head(300)
    told: list[TableProfile] = [profile_of(tables_in(path)[0]) for path in files(frame, tmp_path)]
    for found in told:
        assert [one.filled for one in found.columns] == frame.count().tolist()
        assert [one.distinct for one in found.columns] == frame.nunique().tolist()
        flow, depth = found.columns[2], found.columns[3]
        assert (flow.column.type, depth.column.type) == ("number", "integer")
        assert flow.numbers is not None
        assert flow.numbers.median == pytest.approx(float(frame["flow"].median()))


@pytest.mark.parametrize(
    ("name", "data", "told"),
    [
        ("a.csv", b"", "it is empty"),
        ("a.csv", b"a,b\n1,2\n3\n", "line 3 has 1 cells, the heading 2"),
        ("a.jsonl", b'{"a": 1}\n[1]\n', "line 2 is no record"),
        ("a.jsonl", b'{"a": 1}\n{"a": \n', "line 2"),
        ("a.json", b'{"a": 1}', "it is no list of records"),
        ("a.parquet", b"PAR1", "cannot be read"),
        ("a.xlsx", b"PK", "cannot be read"),
        ("a.db", b"no database at all, only text" * 9, "cannot be read"),
        ("a.txt", b"x", "no kind of table"),
    ],
)
def test_files_that_are_no_tables_are_refused(tmp_path: Path, name: str, data: bytes, told: str) -> None:
    path = tmp_path / name
    path.write_bytes(data)
    with pytest.raises(UsageError, match=told):
        [profile_of(one) for one in tables_in(path)]


CELLS = st.recursive(
    st.one_of(
        st.none(),
        st.booleans(),
        st.integers(-(2**53), 2**53),
        st.floats(allow_nan=False, allow_infinity=False),
        st.text(max_size=8),
    ),
    lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(st.text(max_size=3), inner, max_size=3)),
    max_leaves=4,
)
RECORDS = st.lists(st.dictionaries(st.sampled_from(["a", "b", "c"]), CELLS, max_size=3), max_size=8)


@given(RECORDS)
def test_any_records_are_a_table_that_can_be_looked_at(
    tmp_path_factory: pytest.TempPathFactory, records: list[dict[str, Any]]
) -> None:
    path = tmp_path_factory.getbasetemp() / "any.jsonl"
    path.write_text("".join(json.dumps(record) + "\n" for record in records))
    try:
        (table,) = tables_in(path)
    except UsageError:
        return
    found = profile_of(table)
    assert found.rows == len(records)
    for one in found.columns:
        there = [record[one.column.name] for record in records if record.get(one.column.name) not in (None, "", [])]
        assert one.filled == len(there)
    assert json.dumps(found.as_dict())
    assert measures_of([(found, Ledger())], {}).tables[table.name].rows == len(records)
    assert not compare(table, table).differs


@given(
    st.binary(max_size=200), st.sampled_from([".csv", ".tsv", ".jsonl", ".json", ".parquet", ".xlsx", ".db", ".csv.gz"])
)
def test_any_bytes_are_a_table_or_a_mistake_that_is_told(
    tmp_path_factory: pytest.TempPathFactory, data: bytes, ending: str
) -> None:
    path = tmp_path_factory.getbasetemp() / f"any{ending}"
    path.write_bytes(data)
    try:
        for one in tables_in(path):
            profile_of(one)
    except UsageError as error:
        assert "any" in str(error.problems[0])


@pytest.mark.parametrize(
    ("cells", "kind"),
    [
        (["1", "2", ""], "integer"),
        (["1", "2.5"], "number"),
        (["007", "008"], "string"),
        (["2026-11-02", "2026-11-03"], "date"),
        (["2026-11-02T10:00:00", "2026-11-03T10:00:00+01:00"], "datetime"),
        (["true", "false"], "boolean"),
        (["1", "true"], "string"),
        (["2026-11-02", "12"], "string"),
        (["1", "x"], "string"),
        (["", ""], "string"),
    ],
)
def test_columns_of_csv_have_the_type_that_all_texts_have(tmp_path: Path, cells: list[str], kind: str) -> None:
    path = tmp_path / "a.csv"
    path.write_text("x,y\n" + "".join(f"{cell},z\n" for cell in cells))
    assert tables_in(path)[0].columns[0].type == kind


def test_the_command_tells_figures_and_draws_charts(program: Program) -> None:
    frame = register().head(400)
    frame["longitude"], frame["latitude"] = 8 + frame["flow"] / 1000, 51 + frame["flow"] / 2000
    frame.to_csv(program.folder / "springs.csv", index=False)
    done = program.inside("profile", "springs.csv", "--charts", "charts")
    assert done.status == 0
    assert "springs: 400 rows, no row twice" in done.out
    assert "median" in done.out
    assert "shape AA-9+" in done.out
    names = {path.name for path in (program.folder / "charts").iterdir()}
    assert {"springs-flow.png", "springs-district.png", "springs-registered.png", "springs-missing.png"} <= names
    assert "springs-places.png" in names
    told = json.loads(program.inside("profile", "springs.csv", "--json", "--columns", "flow").out)
    assert told["tables"][0]["columns"][0]["numbers"]["median"] == pytest.approx(float(frame["flow"].median()))


@pytest.mark.parametrize(
    ("arguments", "code"),
    [
        (["springs.csv", "--columns", "flwo"], "unknown-column"),
        (["springs.csv", "--table", "wells"], "no-such-table"),
        (["nothing.csv"], "no-such-file"),
        (["nowhere"], "no-such-run"),
    ],
)
def test_what_is_not_there_is_said(program: Program, arguments: list[str], code: str) -> None:
    (program.folder / "springs.csv").write_text("code,flow\nMW-1,2\n")
    done = program.inside("profile", *arguments)
    assert (done.status, f"[{code}]" in done.err) == (2, True)


@pytest.mark.parametrize("name", ["$\\frac{", "青葉", "a/b:c", "<script>", "x" * 90, "_", "%s {0}"])
def test_charts_take_any_name_as_it_is(tmp_path: Path, name: str) -> None:
    table = source(
        {
            name: ("number", [1.0, 2.5, None, 4.0, 90.0] * 4),
            f"{name} 2": ("string", [name, name, "$x_1$", None, "b"] * 4),
            f"{name} 3": ("date", ["2026-01-01", "2026-02-01", "2026-02-03", None, "2026-05-09"] * 4),
        }
    )
    drawn = write_charts(profile_of(table), table, tmp_path / "charts")
    assert len(drawn) == 4
    assert all(path.parent == tmp_path / "charts" for path in drawn)
    assert all(path.read_bytes().startswith(b"\x89PNG") for path in drawn)


def test_charts_say_what_they_show() -> None:
    table = source({"flow": ("number", [1.0, 2.0, 2.0, 3.0, None])})
    column = profile_of(table).columns[0]
    axes = histogram(column).axes[0]
    assert (axes.get_xlabel(), axes.get_ylabel()) == ("flow", "rows")
    assert axes.get_title(loc="left") == "flow; 1 of 5 missing"
    assert [text.get_text() for text in axes.texts] == ["median 2"]
    counts = bars(profile_of(source({"kind": ("string", ["well"] * 3 + ["spring"] * 2)})).columns[0]).axes[0]
    assert [label.get_text() for label in counts.get_yticklabels()] == ["well", "spring"]
    assert [text.get_text() for text in counts.texts] == ["3", "2"]
    several = source({"a": ("number", [1.0, None]), "b": ("string", [None, "x"])})
    gaps = gap_map(profile_of(several)).axes[0]
    assert [label.get_text().split() for label in gaps.get_yticklabels()] == [["a", "50%"], ["b", "50%"]]


@pytest.mark.parametrize("rows", [100, 2_000, 9_000, 50_000, 123_457])
def test_the_map_of_gaps_is_even_however_long_the_table(rows: int) -> None:
    """The first third has no cell in one column, and every second one is missing in the other."""
    table = TableSource(
        "t",
        [Column(name, "integer", False, None, False, ()) for name in ("a", "b")],
        lambda: ([None if place < rows // 3 else 1, None if place % 2 else 1] for place in range(rows)),
    )
    found = profile_of(table)
    first, second = found.gap_map
    assert len(first) == 100
    assert [share for place, share in enumerate(first) if place < 32] == pytest.approx([1.0] * 32)
    assert [share for place, share in enumerate(first) if place > 34] == pytest.approx([0.0] * 65)
    assert sum(first) == pytest.approx(100 * (rows // 3) / rows, rel=1e-6)
    assert sum(second) == pytest.approx(50, rel=0.02)
    if rows > 9_000:
        assert all(0.4 < share < 0.6 for share in second)


@pytest.mark.parametrize("points", [[(8.0, 51.0), (8.1, 51.2)], [(0.0, 89.9)], [(-179.0, -89.0), (179.0, 89.0)]])
def test_places_are_drawn_wherever_they_are(points: list[tuple[float, float]]) -> None:
    axes = scatter("springs", points, len(points) + 1).axes[0]
    assert (axes.get_xlabel(), axes.get_ylabel()) == ("longitude (°)", "latitude (°)")
    assert f"{len(points)} of {len(points) + 1} rows" in axes.get_title(loc="left")


def test_moments_are_ordered_as_moments_whatever_their_offsets() -> None:
    column = Column("at", "datetime", False, None, False, ())
    moments = ["2026-05-01T10:00:00+02:00", "2026-05-01T09:00:00+00:00", "2026-05-01T08:30:00-03:00"]
    found = profile_of(TableSource("t", [column], lambda: iter([[moment] for moment in moments]))).columns[0]
    assert (found.first, found.last) == (moments[0], moments[2])


def test_rows_that_differ_in_their_hashes_alone_are_told_apart() -> None:
    columns = [Column("n", "integer", False, None, False, ()), Column("a", "string", False, None, False, ())]
    rows = [[n, "x"] for n in (-1, -2, 2**61 - 1, 0, -1)]
    found = profile_of(TableSource("t", columns, lambda: iter(rows)), most_held=2)
    assert (found.doubled, found.columns[0].distinct) == (1, 4)
