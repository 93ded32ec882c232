"""A report as an old machine prints it: gaugings of springs in lines and columns of text, over several parts."""

from __future__ import annotations

from typing import Any

from aiohttp import web

from wadi.demo.gaugings import gaugings
from wadi.demo.pages import html, missing
from wadi.demo.world import DISTRICTS, springs_in

_PARTS = [DISTRICTS[0:2], DISTRICTS[2:4], DISTRICTS[4:6]]
_SPRINGS = 6
_BESIDE = 3
"""How many gaugings stand in one line."""


async def show(request: web.Request) -> web.Response:
    """A part of the report, by its number from 1."""
    said = request.query.get("part", "1")
    number = int(said) if said.isdecimal() and len(said) < 3 else 0
    if not 1 <= number <= len(_PARTS):
        return missing()
    text = "\n".join(_lines(number))
    title = f"Flows as gauged, part {number}"
    return html(f"<!doctype html><title>{title}</title><h1>{title}</h1><pre>\n{text}\n</pre>")


def _lines(number: int) -> list[str]:
    lines = [f"{'MERROWDALE WATER OFFICE':<50}PART {number} OF {len(_PARTS)}", ""]
    for district in _PARTS[number - 1]:
        lines += [f"DISTRICT  {district.name}", ""]
        for spring in springs_in(district)[:_SPRINGS]:
            lines.append(f"  {spring.code}  {spring.name}")
            found = [f"{gauging.day:%d.%m.%Y} {gauging.flow_lps:>7.1f}" for gauging in gaugings(spring)]
            told = [found[place : place + _BESIDE] for place in range(0, len(found), _BESIDE)] or [["not gauged"]]
            lines += ["      " + "    ".join(beside) for beside in told]
        lines.append("")
    if number < len(_PARTS):
        lines.append(f"{'':<50}CONTINUED ON PART {number + 1}")
    return lines


def rows() -> list[dict[str, Any]]:
    """What stands in the report: a row for each gauging."""
    return [
        {
            "district": district.name,
            "code": spring.code,
            "name": spring.name,
            "day": gauging.day.isoformat(),
            "flow": gauging.flow_lps,
        }
        for part in _PARTS
        for district in part
        for spring in springs_in(district)[:_SPRINGS]
        for gauging in gaugings(spring)
    ]
