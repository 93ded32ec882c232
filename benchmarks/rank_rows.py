"""How often the first candidate for rows is the right one, over the labelled pages:  python benchmarks/rank_rows.py

Prints the score and every miss: what was wanted, what stood first, and at which place the right one came.
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from labelled.pages import PAGES
from wadi.learn.first_look.rows import row_candidates
from wadi.page.document import html_document
from wadi.page.expressions import compile_expression


def main() -> None:
    """Rank every page and count."""
    right = 0
    began = time.perf_counter()
    for name, html, label in PAGES:
        document = html_document(html.encode(), "http://127.0.0.1/register")
        wanted = set(compile_expression(label).nodes(document.scope, document))
        candidates = row_candidates(document)
        places = [place for place, one in enumerate(candidates, 1) if set(one.rows) == wanted]
        if places[:1] == [1]:
            right += 1
            continue
        first = f"{candidates[0].expression} ({candidates[0].count} rows)" if candidates else "nothing"
        print(f"miss: {name}: wanted {label}; first was {first}; right at {places or 'no place'}")
    took = (time.perf_counter() - began) / len(PAGES) * 1000
    print(f"{right} of {len(PAGES)} right, {took:.0f} ms a page")


if __name__ == "__main__":
    main()
