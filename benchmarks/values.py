"""How long a value takes to be read, by its kind: processor time of one distinct text after the other, the best of some rounds.

python benchmarks/values.py [--count 4000] [--rounds 3]

In a crawl values that come again are remembered, so that most columns cost less.
"""

from __future__ import annotations

import argparse
import random
import time
from collections.abc import Callable
from contextlib import suppress
from datetime import date, timedelta

from babel.dates import format_date

from wadi.clean.errors import NotReadable
from wadi.clean.types import Setting, Where, converter

Make = Callable[[random.Random], str]
WHERE = Where("http://h/", 1.0)


def _day(chance: random.Random) -> date:
    return date(1990, 1, 1) + timedelta(days=chance.randrange(12_000))


def _three(chance: random.Random) -> int:
    return chance.randrange(100, 999)


def _clock(chance: random.Random) -> str:
    return f"{chance.randrange(24):02}:{chance.randrange(60):02}"


CASES: dict[str, tuple[Setting, Make]] = {
    "number 12.34": (Setting("number", "en"), lambda c: f"{c.random() * 1000:.2f}"),
    "number 1 472,5 l/s": (Setting("number", "fr", unit="l/s"), lambda c: f"{c.randrange(9)} {_three(c)},{c.randrange(9)} l/s"),
    "number 1,234.5": (Setting("number", "en"), lambda c: f"{c.randrange(1, 999)},{c.randrange(100, 999)}.{c.randrange(99)}"),
    "number ca. 12 m": (Setting("number", "en", unit="m"), lambda c: f"ca. {c.randrange(1, 99_999)} m"),
    "number 10–12 m": (Setting("number", "en", unit="m", range="low"), lambda c: f"{c.randrange(1, 99)}–{_three(c)} m"),
    "integer 12": (Setting("integer", "en"), lambda c: str(c.randrange(1, 99_999))),
    "money $12.50": (Setting("money", "en_US"), lambda c: f"${c.randrange(1, 9999)}.{c.randrange(10, 99)}"),
    "money 12,50 EUR": (Setting("money", "de"), lambda c: f"{c.randrange(1, 999)},{c.randrange(10, 99)} EUR"),
    "date 2024-03-05": (Setting("date"), lambda c: _day(c).isoformat()),
    "date March 5, 2024": (Setting("date", "en", this_year=2026), lambda c: format_date(_day(c), "long", locale="en")),
    "date 05.03.2024": (Setting("date", "de", this_year=2026), lambda c: format_date(_day(c), "medium", locale="de")),
    "date by d/M/y": (Setting("date", format="d/M/y"), lambda c: _day(c).strftime("%d/%m/%Y")),
    "datetime ISO 8601": (Setting("datetime"), lambda c: f"{_day(c).isoformat()}T{_clock(c)}:00Z"),
    "datetime 05.03.2024, 14:05": (Setting("datetime", "de", this_year=2026), lambda c: f"{_day(c):%d.%m.%Y}, {_clock(c)}"),
    "time 14:05": (Setting("time"), _clock),
    "duration 2 h 30 min": (Setting("duration"), lambda c: f"{c.randrange(24)} h {c.randrange(60):02} min"),
    "point 54.1, -2.3": (Setting("geopoint"), lambda c: f"{c.random() * 90:.5f}, {c.random() * 90:.5f}"),
    "phone 01632 960001": (Setting("phone"), lambda c: f"01632 {c.randrange(900_000, 999_999)}"),
}  # fmt: skip


def seconds_of(setting: Setting, texts: list[str], rounds: int) -> float:
    """Processor time for one text."""
    read = converter(setting)
    best = float("inf")
    for _ in range(rounds + 1):  # the first builds what is built once
        began = time.process_time()
        for text in texts:
            with suppress(NotReadable):
                read(text, WHERE)
        best = min(best, time.process_time() - began)
    return best / len(texts)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.partition("\n")[0])
    parser.add_argument("--count", type=int, default=4000)
    parser.add_argument("--rounds", type=int, default=3)
    given = parser.parse_args()
    for name, (setting, make) in CASES.items():
        chance = random.Random(1)
        texts = [make(chance) for _ in range(given.count)]
        print(f"{name:<28}{seconds_of(setting, texts, given.rounds) * 1e6:7.1f} µs")


if __name__ == "__main__":
    main()
