"""A million rows profiled: seconds for each column and peak memory, beside a tenth of the rows; the figures against pandas'.

python benchmarks/profile_rows.py [--rows 1000000]
"""

from __future__ import annotations

import argparse
import csv
import json
import random
import subprocess
import sys
import tempfile
import time
from pathlib import Path


def write(path: Path, rows: int) -> None:
    """A register of so many springs as CSV."""
    rng = random.Random(1847)
    districts = ("Saltholm", "Thornmere", "Upper Merrow", "Ashwater")
    with path.open("w", newline="") as file:
        writer = csv.writer(file)
        writer.writerow(["code", "name", "district", "flow", "depth", "registered", "altitude", "note"])
        for number in range(rows):
            flow = f"{rng.lognormvariate(2.5, 1.4):.2f}" if rng.random() < 0.9 else ""
            day = f"{rng.randrange(1921, 2026)}-{rng.randrange(1, 13):02}-{rng.randrange(1, 29):02}"
            name = f"Ash Spring {rng.randrange(400_000)}"
            note = "Lined basin, overflow to the north." if rng.random() < 0.5 else ""
            depth, altitude = f"{rng.random() * 60:.2f}", rng.randrange(40, 940)
            writer.writerow([f"MW-{number:07}", name, rng.choice(districts), flow, depth, day, altitude, note])


def peak_mb() -> float:
    """The peak of this process alone: what `getrusage` tells begins with that of the process that started it."""
    status = Path("/proc/self/status").read_text()
    return int(status.partition("VmHWM:")[2].split()[0]) / 1024


def one(path: Path) -> None:
    """Profile a file in this process; what it cost is printed as JSON."""
    from wadi.quality.files import tables_in
    from wadi.quality.profile import profile_of

    began = time.perf_counter()
    (source,) = tables_in(path)
    opened = time.perf_counter()
    profile = profile_of(source)
    done = time.perf_counter()
    told = {
        "types_s": opened - began, "profile_s": done - opened, "columns": len(profile.columns),
        "rss": peak_mb(),
        "figures": {c.column.name: [c.filled, c.distinct, c.numbers and [c.numbers.median, c.numbers.mean, c.numbers.deviation]]
                    for c in profile.columns if c.first is None},
    }  # fmt: skip
    print(json.dumps(told))


def check(path: Path, figures: dict[str, list[object]]) -> None:
    """Compare the figures with those of pandas."""
    import pandas as pd

    frame = pd.read_csv(path)
    for name, (filled, distinct, numbers) in figures.items():
        column = frame[name]
        assert [filled, distinct] == [column.count(), column.nunique()], name
        if numbers:
            expected = [column.median(), column.mean(), column.std()]
            assert all(abs(a - b) <= 1e-9 * abs(b) for a, b in zip(numbers, expected, strict=True)), name  # type: ignore[operator,call-overload]


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--one", type=Path)
    args = parser.parse_args()
    if args.one:
        one(args.one)
        return
    with tempfile.TemporaryDirectory() as folder:
        for rows in (args.rows // 10, args.rows):
            path = Path(folder) / "springs.csv"
            write(path, rows)
            done = subprocess.run(
                [sys.executable, __file__, "--one", str(path)], capture_output=True, text=True, check=True
            )
            told = json.loads(done.stdout)
            check(path, told["figures"])
            each = (told["types_s"] + told["profile_s"]) / told["columns"]
            print(
                f"{rows:>9,} rows: types {told['types_s']:.1f} s, profile {told['profile_s']:.1f} s, {each:.1f} s a column,"
                f" peak {told['rss']:.0f} MB; the figures are pandas'"
            )


if __name__ == "__main__":
    main()
