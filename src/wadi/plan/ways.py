"""The ways by which pages lead to others."""

from __future__ import annotations

from collections.abc import Set

from wadi.plan.model import Plan


def ways_in_vain(plan: Plan, gave: Set[str], known: Set[str]) -> dict[str, str]:
    """The page kinds that are not among the known ones although kinds that `gave` something open them, with the ways to them."""
    ways: dict[str, list[str]] = {}
    for name in gave & plan.page.keys():
        for target, link in plan.page[name].open.items():
            if target != plan.start.page and target not in known:
                said = link.at or link.form or ([link.address] if link.address else [])
                ways.setdefault(target, []).extend(f'"{way}"' for way in said)
    return {target: " or ".join(dict.fromkeys(said)) for target, said in ways.items()}
