"""Drift: over a hundred ordinary months hardly an alarm, of twenty planted changes nearly all; the methods by number of runs."""

from __future__ import annotations

import random
from collections.abc import Callable
from typing import Any

import pytest

from wadi.plan.columns import Column
from wadi.quality.drift import FLOORS, MOST_RUNS, distance, drifts, tolerance
from wadi.quality.measures import Measures, measures_from, measures_of
from wadi.quality.profile import profile_of
from wadi.quality.tables import TableSource
from wadi.table.ledger import Ledger

COLUMNS = {
    "code": "string", "district": "string", "flow": "number", "depth": "number", "temperature": "number",
    "registered": "date", "note": "string", "altitude": "integer",
}  # fmt: skip
DISTRICTS = ("Saltholm", "Thornmere", "Upper Merrow", "Ashwater", "Kestrel Down")
Row = dict[str, Any]
Table = list[Row]


def month(number: int, seed: int) -> tuple[Table, Ledger]:
    """A register as it stands in a month: it grows slowly, flows follow the season, some cells are missing, some unread."""
    rng = random.Random(seed * 1000 + number)
    season = 1 + 0.25 * ((number % 12) / 6 - 1)
    rows = []
    for place in range(320 + number // 2 + rng.randrange(-6, 7)):
        rows.append(
            {
                "code": f"MW-{place:04d}",
                "district": rng.choices(DISTRICTS, (30, 25, 20, 15, 10))[0],
                "flow": round(rng.lognormvariate(2.5, 1.4) * season, 1) if rng.random() < 0.93 else None,
                "depth": round(2 + 58 * rng.random(), 2) if rng.random() < 0.88 else None,
                "temperature": round(rng.gauss(8 + 2 * season, 2), 1) if rng.random() < 0.8 else None,
                "registered": f"{rng.randrange(1921, 2026)}-{rng.randrange(1, 13):02}-{rng.randrange(1, 29):02}",
                "note": rng.choice(("Lined basin.", "Iron-rich water.", "Closed.")) if rng.random() < 0.4 else None,
                "altitude": int(40 + 900 * rng.random()) if rng.random() < 0.95 else None,
            }
        )
    ledger = Ledger(duplicates=rng.randrange(0, 4), unread={"flow": rng.randrange(0, 3)})
    return rows, ledger


def measured(
    rows: Table, ledger: Ledger, marks: tuple[str, ...] = ("ol.register", "li", "h3", "a", "span.flow")
) -> Measures:
    names = list(dict.fromkeys(name for row in rows for name in row)) or list(COLUMNS)
    columns = [Column(name, COLUMNS[name], False, None, False, ()) for name in names]  # type: ignore[arg-type]
    source = TableSource("springs", columns, lambda: iter([[row.get(name) for name in names] for row in rows]))
    return measures_of([(profile_of(source), ledger)], {"register": marks})


def test_a_hundred_ordinary_runs_bring_at_most_one_alarm() -> None:
    alarms = []
    for seed in range(5):
        past: list[Measures] = []
        for number in range(21):
            now = measured(*month(number, seed))
            alarms += [(seed, number, one) for one in drifts(now, past)]
            past.append(now)
    assert len(alarms) <= 1, alarms


def cells(column: str, change: Callable[[Any, int], Any], *, every: int = 1) -> Callable[[Table, Ledger], None]:
    def planted(rows: Table, ledger: Ledger) -> None:
        for place, row in enumerate(rows):
            if place % every == 0 and row[column] is not None:
                row[column] = change(row[column], place)

    return planted


def doubled(rows: Table, ledger: Ledger) -> None:
    ledger.duplicates = 60


def unread(rows: Table, ledger: Ledger) -> None:
    ledger.unread["depth"] = 50
    cells("depth", lambda value, place: None, every=6)(rows, ledger)


def without_column(rows: Table, ledger: Ledger) -> None:
    for row in rows:
        del row["note"]


PLANTED: dict[str, tuple[Callable[[Table, Ledger], None], str]] = {
    "column blank": (cells("flow", lambda value, place: None), "flow is blank"),
    "seldom column blank": (cells("note", lambda value, place: None), "note is blank"),
    "half blank": (cells("depth", lambda value, place: None, every=2), "depth is filled"),
    "third blank": (cells("altitude", lambda value, place: None, every=3), "altitude is filled"),
    "listing short": (lambda rows, ledger: rows.__delitem__(slice(len(rows) * 2 // 3, None)), "much shorter"),
    "listing twice": (lambda rows, ledger: rows.extend([dict(row) for row in rows]), "much longer"),
    "nearly empty": (lambda rows, ledger: rows.__delitem__(slice(3, None)), "much shorter"),
    "litres a minute": (cells("flow", lambda value, place: value * 60), "flow"),
    "feet": (cells("altitude", lambda value, place: int(value * 3.281)), "altitude"),
    "fahrenheit": (cells("temperature", lambda value, place: round(value * 1.8 + 32, 1)), "temperature"),
    "decimal comma lost": (cells("temperature", lambda value, place: value * 10), "temperature"),
    "wrong unit in some": (cells("altitude", lambda value, place: value * 1000, every=30), "far outside"),
    "one value for all": (cells("depth", lambda value, place: 1.0), "depth"),
    "other column picked": (cells("depth", lambda value, place: 1900.0 + place % 100), "depth"),
    "new spellings": (cells("district", lambda value, place: value.upper()), "district"),
    "a value gone": (cells("district", lambda value, place: "Ashwater" if value == "Saltholm" else value), "Saltholm"),
    "code with a label": (cells("code", lambda value, place: f"Code: {value}"), "look otherwise"),
    "duplicates": (doubled, "are duplicates"),
    "cells unread": (unread, "depth"),
    "column gone": (without_column, "note is gone"),
}  # fmt: skip


@pytest.mark.parametrize("earlier", [1, 2, 5, 15])
def test_planted_changes_are_found_and_named(earlier: int) -> None:
    past = [measured(*month(number, 7)) for number in range(earlier)]
    missed = []
    for name, (plant, told) in PLANTED.items():
        rows, ledger = month(earlier, 7)
        plant(rows, ledger)
        found = [one.what for one in drifts(measured(rows, ledger), past)]
        if not any(told in what for what in found):
            missed.append((name, found))
    assert len(PLANTED) == 20
    assert len(missed) <= 2, missed


def test_what_is_untouched_is_not_named() -> None:
    past = [measured(*month(number, 3)) for number in range(6)]
    rows, ledger = month(6, 3)
    cells("flow", lambda value, place: None)(rows, ledger)
    assert [(one.column, one.measure) for one in drifts(measured(rows, ledger), past)] == [("flow", "filled")]


def test_a_listing_of_the_newest_has_other_rows_each_time_and_that_is_no_drift() -> None:
    kinds: dict[str, Any] = {"number": "integer", "title": "string", "day": "date", "url": "url", "kind": "string"}
    past: list[Measures] = []
    for month in range(12):
        rows = [
            {
                "number": 100 + month * 20 + place,
                "title": f"Notice of the {month * 31 + place}th {'moss sill pool keld'.split()[place % 4]}",
                "day": f"2026-{month + 1:02}-{place + 1:02}",
                "url": f"http://127.0.0.1:{8000 + month}/notices/{month * 20 + place}",
                "kind": ("path", "gauge", "water")[(month + place) % 3],
            }
            for place in range(20)
        ]
        columns = [Column(name, kind, False, None, False, ()) for name, kind in kinds.items()]
        source = TableSource("notices", columns, lambda rows=rows: iter([list(row.values()) for row in rows]))  # type: ignore[misc]
        now = measures_of([(profile_of(source), Ledger())], {})
        assert not drifts(now, past)
        past.append(now)
    blank = TableSource("notices", columns, lambda: iter([[*list(row.values())[:-1], None] for row in rows]))
    assert [one.what for one in drifts(measures_of([(profile_of(blank), Ledger())], {}), past)] == [
        "kind is blank in every row, 100 % filled before"
    ]


def test_hashes_are_others_in_each_run_and_that_is_no_drift() -> None:
    def hashed(run: int) -> Measures:
        rows = [[f"{(place % 5 + run) * 7919 % 65_537:08x}"] for place in range(60)]
        source = TableSource("t", [Column("keeper", "string", False, None, False, ())], lambda: iter(rows))
        return measures_of([(profile_of(source), Ledger())], {}, {"t": ["keeper"]})

    assert not drifts(hashed(9), [hashed(1)])


def test_pages_that_are_built_otherwise_are_named() -> None:
    past = [measured(*month(0, 1))]
    now = measured(*month(1, 1), marks=("div.list", "div.card", "p.title", "a", "span.value"))
    assert [one.measure for one in drifts(now, past)] == ["marks"]


def test_growth_and_what_has_become_usual_are_no_drift() -> None:
    rows = [100, 112, 125, 140, 157, 176, 197, 220]
    tables = [measured([{"code": f"A{n}", "note": "x"} for n in range(count)], Ledger()) for count in rows]
    for number in range(5, len(tables)):
        assert not drifts(tables[number], tables[:number])


@pytest.mark.parametrize(
    ("values", "value", "far"),
    [
        ([0.9], 0.75, False),
        ([0.9], 0.65, True),
        ([0.9, 0.8], 0.62, False),  # twice the interval of what was
        ([0.9, 0.9], 0.70, True),
        ([0.9, 0.91, 0.9, 0.89, 0.9], 0.82, False),
        ([0.9, 0.91, 0.9, 0.89, 0.9], 0.78, True),
        ([0.9, 0.9, 0.9, 0.9, 0.9, 0.5], 0.5, False),  # it was so the last time already
    ],
)
def test_the_tolerance_follows_the_number_of_earlier_runs(values: list[float], value: float, far: bool) -> None:
    assert (distance(value, values) > tolerance("filled", values)) is far


def test_measures_come_back_as_they_were_kept() -> None:
    import orjson

    now = measured(*month(4, 2))
    assert measures_from(orjson.loads(orjson.dumps(now.as_dict()))) == now
    assert measures_from({"form": 0}) is None
    assert len({len(floors) for floors in FLOORS.values()}) == 1
    assert MOST_RUNS == 12
