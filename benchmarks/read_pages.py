"""How long a page takes to be read, by what it is: processor time from bytes to rows.

python benchmarks/read_pages.py [--rounds 7]

The pages are a listing of 30 rows with 8 fields (HTML, 30 KB), a reply of 1,000 records with 6 fields (JSON, 600 KB), and a file
of 20,000 rows with 5 columns (CSV, 1.4 MB).
"""

from __future__ import annotations

import argparse
import hashlib
import random
import tempfile
import time
from pathlib import Path

import orjson
from whole_crawl import FIELDS, page_of

PLAN = """wadi = 1
[start]
page = "list"
addresses = ["http://127.0.0.1/list"]
[page.list]
rows = '{rows}'
table = "t"
[page.list.fields]
{fields}
"""
HTML = {
    "code": 'code = "td.code code"', "name": 'name = "td.name a"',
    "flow": 'flow = { at = "td.flow", type = "number", locale = "fr", unit = "l/s" }',
    "depth": 'depth = { at = "td.depth", type = "number", unit = "m" }',
    "day": 'day = { at = "td.day", type = "date", format = "dd.MM.yyyy" }',
}  # fmt: skip
JSON = """id = "$.id"
name = "$.name"
district = "$.district.name"
flow = { at = "$.flow.value", type = "number" }
day = { at = "$.day", type = "date" }
note = "$.note"
"""
CSV = """code = "$.code"
name = "$.name"
flow = { at = "$.flow", type = "number" }
day = { at = "$.day", type = "date" }
note = "$.note"
"""


def _record(chance: random.Random, number: int) -> dict[str, object]:
    return {
        "id": f"MW-{number:05}", "name": f"Ash Spring {number % 900}",
        "day": f"20{number % 20 + 10}-0{number % 9 + 1}-1{number % 10}",
        "district": {"no": number % 7, "name": chance.choice(("Saltholm", "Thornmere", "Upper Merrow"))},
        "flow": {"value": round(chance.random() * 900, 1), "unit": "l/s"},
        "note": "Moss on the sill; reading taken twice. " * 6,
    }  # fmt: skip


def pages() -> dict[str, tuple[str, str, list[bytes]]]:
    """The plan, the media type and the bodies of each kind of page."""
    chance = random.Random(1)
    fields = "\n".join(HTML.get(name, f'{name} = "td.{name}"') for name in FIELDS)
    listings = [page_of(chain, number, 50) for chain in range(10) for number in range(1, 21)]
    records = orjson.dumps({"data": {"records": [_record(chance, number) for number in range(1000)]}})
    lines = (
        f"MW-{n},Ash Spring {n % 900},{chance.random() * 900:.1f},20{n % 20 + 10}-0{n % 9 + 1}-05,Moss on the sill\n"
        for n in range(20_000)
    )
    return {
        "HTML": (PLAN.format(rows="table.list tbody tr.rec", fields=fields), "text/html; charset=utf-8", listings),
        "JSON": (PLAN.format(rows="$.data.records[*]", fields=JSON), "application/json", [records]),
        "CSV": (
            PLAN.format(rows="$[*]", fields=CSV),
            "text/csv",
            [f"code,name,flow,day,note\n{''.join(lines)}".encode()],
        ),
    }


def measure(rounds: int) -> dict[str, tuple[float, int, str]]:
    """Milliseconds for a page, the best of some rounds, cells of a page, and a digest of all rows, by kind of page."""
    from wadi.crawl.extract import extract
    from wadi.crawl.kinds import compile_kinds
    from wadi.plan.reader import load_plan
    from wadi.web.messages import Reply, Request

    found = {}
    for name, (plan, kind, bodies) in pages().items():
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "p.toml").write_text(plan)
            loaded = load_plan(Path(folder) / "p.toml")
        url = "http://127.0.0.1/list"
        replies = [Reply(Request(url), url, 200, (("Content-Type", kind),), body, 0.0) for body in bodies]
        best, digest, cells = float("inf"), hashlib.sha256(), 0
        for number in range(rounds):
            kinds = compile_kinds(loaded.plan, this_year=2026)  # what was read before is known to nobody
            began = time.process_time()
            extracts = [extract(reply, kinds["list"], kinds) for reply in replies]
            best = min(best, time.process_time() - began)
            if number == 0:
                digest.update(orjson.dumps([read.tables[0].rows for read in extracts]))
                cells = sum(len(row) for row in extracts[0].tables[0].rows)
        found[name] = best / len(replies) * 1e3, cells, digest.hexdigest()[:12]
    return found


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--rounds", type=int, default=7)
    found = measure(parser.parse_args().rounds)
    print("       ms a page   µs a cell   rows")
    for name, (ms, cells, digest) in found.items():
        print(f"{name:5} {ms:10.2f}   {ms / cells * 1e3:9.2f}   {digest}")


if __name__ == "__main__":
    main()
