"""How long looking at a long page and learning from two of its records take:  python benchmarks/learn.py [ROWS]

By default 500 rows, a page of 0.9 MB.
"""

from __future__ import annotations

import sys
import time

from wadi.learn.examples.learned import learn
from wadi.learn.first_look.look import look_at
from wadi.page.document import read_document
from wadi.web.messages import Reply, Request

_NOTE = "Lined basin, overflow to the north; gauged every spring by the office. "


def _row(n: int) -> str:
    tags = "".join(f"<li>tag {n % 7}-{k}</li>" for k in range(6))
    day = f"{n % 28 + 1} May 20{n % 30:02d}"
    facts = f"<dt>Flow</dt><dd>{n * 1.3:.1f} l/s</dd><dt>Depth</dt><dd>{n} m</dd><dt>Day</dt><dd>{day}</dd>"
    head = f"<div class=head><h3><a href='/s/{n}'>Spring number {n}</a></h3><span class=code>MW-{n:04d}</span></div>"
    return f"<li class='spring {('even', 'odd')[n % 2]}'>{head}<dl>{facts}</dl><p class=note>{_NOTE * 20}</p><ul>{tags}</ul></li>"


def _page(rows: int) -> bytes:
    inner = "".join(_row(n) for n in range(rows))
    menu = "<li><a href=/>x</a></li>" * 30
    return f"<html><body><nav><ul>{menu}</ul></nav><main><ol class=register>{inner}</ol></main></body></html>".encode()


def main() -> None:
    """Look at the page, learn six fields from two records, and print the seconds."""
    rows = int(sys.argv[1]) if len(sys.argv) > 1 else 500
    body = _page(rows)
    document = read_document(body, "http://h/", "text/html")
    began = time.perf_counter()
    look_at(document, Reply(Request("http://h/"), "http://h/", 200, (), body, 0.0))
    looked = time.perf_counter()
    examples = [
        {
            "code": "MW-0001",
            "name": "Spring number 1",
            "flow": "1.3 l/s",
            "depth": "1 m",
            "day": "2 May 2001",
            "url": "/s/1",
        },
        {
            "code": "MW-0017",
            "name": "Spring number 17",
            "flow": "22.1",
            "depth": "17",
            "day": "2017-05-18",
            "url": "/s/17",
        },
    ]
    found = learn(document, examples)
    learned = time.perf_counter()
    assert found is not None
    assert found.rows is not None
    sure = sum(one.rating == "sure" for one in found.fields)
    print(
        f"{len(body) / 1e6:.2f} MB, {rows} rows: looked at in {looked - began:.2f} s, learned in {learned - looked:.2f} s"
    )
    print(f"{found.rows.expression}: {found.rows.count} rows, {len(found.fields)} fields, {sure} of them sure")


if __name__ == "__main__":
    main()
