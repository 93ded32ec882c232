"""Export of a million rows to CSV, against pandas writing the same frame: time and peak memory, each in a process of its own.

python benchmarks/export_rows.py [ROWS]     writes a run of that many rows by itself, without crawling
"""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

from wadi.actions.begin import begin
from wadi.actions.export import export

ROWS_A_PAGE = 100
PLAN = """wadi = 1
[start]
page = "list"
addresses = ["http://127.0.0.1:9/l"]
[page.list]
rows = "li"
table = "t"
[page.list.fields]
code = "a"
name = "b"
district = "c"
flow = { at = "d", type = "number", unit = "l/s" }
depth = { at = "e", type = "number", unit = "m" }
basins = { at = "f", type = "integer" }
day = { at = "g", type = "date" }
note = "h"
[page.list.next]
at = "a.next"
[table.t]
key = "code"
"""


def _row(number: int) -> list[object]:
    day = f"20{number % 25:02d}-05-{number % 28 + 1:02d}"
    note = "Moss on the sill, reading taken twice." if number % 3 else None
    flow, depth = number % 9973 / 10, number % 613 / 7
    return [f"MW-{number:07d}", f"Ash Spring {number % 977}", "Upper Merrow", flow, depth, number % 7, day, note]


def make(folder: Path, rows: int) -> Path:
    """A finished run with so many rows."""
    from wadi.plan.reader import load_plan
    from wadi.store.outcome import Link, Outcome, Role, TableRows
    from wadi.web.messages import Reply, Request

    path = folder / "bench.toml"
    path.write_text(PLAN)
    names = ("code", "name", "district", "flow", "depth", "basins", "day", "note")
    with begin(load_plan(path), folder / "runs") as run:
        for page in range(1, rows // ROWS_A_PAGE + 1):
            cells = [_row(number) for number in range((page - 1) * ROWS_A_PAGE, page * ROWS_A_PAGE)]
            request = Request(f"http://127.0.0.1:9/l?p={page}")
            reply = Reply(request, request.url, 200, (), b"", 0.0)
            following = (Link(Role.NEXT, 0, "list", Request(f"http://127.0.0.1:9/l?p={page + 1}")),)
            run.state.commit(
                [Outcome(page, reply, tables=(TableRows("t", names, cells),), links=following, rows=ROWS_A_PAGE)]
            )
        run.state.set_meta("end", "complete")
        return run.folder


def by_wadi(folder: Path) -> float:
    from wadi.actions.run import Run

    with Run.open(folder) as run:
        began = time.perf_counter()
        export(run, folder / "wadi.csv")
        return time.perf_counter() - began


def by_pandas(folder: Path) -> float:
    from wadi.actions.run import Run

    with Run.open(folder) as run:
        frame = run.table()
    began = time.perf_counter()
    frame.to_csv(folder / "pandas.csv", index=False)
    return time.perf_counter() - began


def main() -> None:
    if len(sys.argv) > 2:
        which = {"wadi": by_wadi, "pandas": by_pandas}[sys.argv[1]]
        seconds = which(Path(sys.argv[2]))
        print(seconds, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)
        return
    rows = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000
    with tempfile.TemporaryDirectory() as name:
        folder = make(Path(name), rows)
        found: dict[str, list[tuple[float, float]]] = {"wadi": [], "pandas": []}
        for _ in range(3):
            for which, taken in found.items():
                done = subprocess.run(
                    [sys.executable, __file__, which, str(folder)], capture_output=True, text=True, check=True
                )
                seconds, peak = map(float, done.stdout.split())
                taken.append((seconds, peak))
        for which, taken in found.items():
            print(f"{which:8} {median(t for t, _ in taken):6.1f} s   peak {median(p for _, p in taken):6.0f} MB")
        ratio = median(t for t, _ in found["wadi"]) / median(t for t, _ in found["pandas"])
        print(
            f"{rows:,} rows: wadi needs {ratio:.2f} times what pandas alone needs to write the frame that it has in memory"
        )


if __name__ == "__main__":
    main()
