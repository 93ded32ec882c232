"""How well drafts do on the corpus: one command, `python tests/draft_figures.py`, gives the figures that docs/draft.md records.

    python tests/draft_figures.py              all listings and detail pages, without and with examples
    python tests/draft_figures.py cards table  some of them, with what is wrong and the plan

A listing counts as right when the table of all its pages, run by the drafted plan, has every column of the truth with its values, typed, in
reading order. With examples (two records, as a reader sees them) columns go by their names, without by their values alone.
"""

from __future__ import annotations

import argparse
import sys
import tempfile
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent))

import wadi
from conftest import serving
from corpus.details import DETAILS, Detail
from corpus.host import application, wrong_columns
from corpus.listings import LISTINGS, Listing
from wadi.store.page_cache import PageCache

_NO_WAITING = '\n[manners]\npause = "0s"\nslowest = "0s"\nfirst_wait = "0s"\nrest = "0s"\n'


def examples_of(shown: Sequence[dict[str, str | None]]) -> list[dict[str, str]]:
    """Two records as an analyst would name them: the first, and the first of the next that has what the first lacks."""
    first = {name: value for name, value in shown[0].items() if value is not None}
    others = [{name: value for name, value in row.items() if value is not None} for row in shown[1:8]]
    lacking = set(shown[0]) - set(first)
    return [first, next((row for row in others if lacking <= set(row)), others[0])]


def drafted(page: str, folder: Path, examples: Sequence[dict[str, str]] = ()) -> str:
    """The draft of a plan for a page."""
    from wadi.actions.open_page import open_page
    from wadi.learn.drafts.drafting import Asked, Means, draft_page

    cache = PageCache(folder / "cache")
    return draft_page(open_page(page, cache=cache), Asked(list(examples)), Means(cache=cache)).text


def table_of(text: str, folder: Path) -> dict[str, list[Any]]:
    """What a run of the plan gives: column → values as a table of text, numbers and ISO dates."""
    path = folder / "plan.toml"
    path.write_text(
        text.replace("\n[manners]", "\n[manners_]") + _NO_WAITING if "[manners]" not in text else _paced(text), "utf-8"
    )
    run = wadi.run(wadi.load_plan(path), runs=folder / "runs")
    table = run.read(None)
    return {column.name: [_plain(row[place]) for row in table.rows] for place, column in enumerate(table.columns)}


def _paced(text: str) -> str:
    before, _, after = text.partition("[manners]")
    kept = [line for line in after.split("\n") if not line.startswith(("pause", "slowest", "first_wait", "rest"))]
    return before.rstrip() + _NO_WAITING.rstrip() + "\n".join(kept)


def _plain(value: Any) -> Any:
    return value.isoformat() if hasattr(value, "isoformat") else float(value) if hasattr(value, "as_tuple") else value


def figures(host: str, names: Sequence[str], *, ways: Sequence[str]) -> Iterator[tuple[str, str, dict[str, str], str]]:
    """For each page and way: its name, the way, the wrong columns with why, and the plan."""
    for page in [*LISTINGS, *DETAILS]:
        if names and page.name not in names:
            continue
        for way in ways:
            with tempfile.TemporaryDirectory() as folder:
                yield page.name, way, *_figure(host, page, way, Path(folder))


def _figure(host: str, page: Listing | Detail, way: str, folder: Path) -> tuple[dict[str, str], str]:
    examples = examples_of(page.shown()) if way == "examples" else []
    text = ""
    try:
        if isinstance(page, Listing):
            text = drafted(host + page.address, folder, examples)
        else:
            text = drafted(host + page.addresses()[0], folder, examples[:1])
            others = ", ".join(f'"{host}{address}"' for address in page.addresses())
            text = text.replace(f'addresses = ["{host}{page.addresses()[0]}"]', f"addresses = [{others}]")
        table = table_of(text, folder)
    except Exception as error:  # whatever goes wrong is a miss
        return {"*": f"{type(error).__name__}: {str(error)[:300]}"}, text
    return wrong_columns(page.truth(host), table, by_name=bool(examples)), text


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("names", nargs="*", help="only these pages, with their plans")
    parser.add_argument("--only", choices=("none", "examples"), help="only this way")
    args = parser.parse_args()
    right: dict[tuple[str, str], list[str]] = {}
    wrong: dict[tuple[str, str], dict[str, dict[str, str]]] = {}
    of_details = {detail.name for detail in DETAILS}
    with serving(application()) as host:
        for name, way, lacks, text in figures(
            host, args.names, ways=[args.only] if args.only else ["none", "examples"]
        ):
            group = ("details" if name in of_details else "listings", way)
            if lacks:
                wrong.setdefault(group, {})[name] = lacks
            else:
                right.setdefault(group, []).append(name)
            if args.names:
                print(f"== {name}, {way}\n{text}\n{lacks or 'right'}\n")
    for group in sorted({*right, *wrong}):
        good, bad = right.get(group, []), wrong.get(group, {})
        print(f"{group[0]}, {group[1]}: {len(good)} of {len(good) + len(bad)} right")
        for name, lacks in bad.items():
            print(f"   {name:<24}{'; '.join(f'{column}: {why}' for column, why in lacks.items())[:150]}")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
