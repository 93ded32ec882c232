"""Every example plan, run by the installed program against the sample site, gives the truth."""

from __future__ import annotations

import json

import pytest

from conftest import EXAMPLES, Program
from wadi.demo.truth import TRUTHS


def test_every_example_has_its_truth() -> None:
    assert {path.stem for path in EXAMPLES.glob("*.toml")} == set(TRUTHS)


@pytest.mark.parametrize("name", [name for name in TRUTHS if name != "springs"])
def test_an_example_gives_the_truth(program: Program, site: str, name: str) -> None:
    done = program("run", EXAMPLES / f"{name}.toml", "-i", f"site={site}", "-o", "out.jsonl")
    assert done.status == 0, done.err
    rows = [json.loads(line) for line in (program.folder / "out.jsonl").read_text("utf-8").splitlines()]
    assert rows == TRUTHS[name](site)


def test_a_listing_that_repeats_its_last_page_ends_with_a_note(program: Program, site: str) -> None:
    done = program("run", EXAMPLES / "keepers.toml", "-i", f"site={site}")
    assert "note    1 × rows-again" in done.err
    assert "the same rows again: it ends here" in done.err
