"""Photographs of springs, drawn: a small SVG landscape for each, always the same."""

from __future__ import annotations

import random

from wadi.demo.world import Spring

_SKIES = ("#cfe0e6", "#dbe4d8", "#e6dccb", "#d3d9e4")
_HILLS = ("#7d9a86", "#8aa08f", "#6f8c83", "#97a58a")


def photo(spring: Spring) -> str:
    """An SVG of 480 × 320."""
    rng = random.Random(spring.number)
    sky, hill = _SKIES[int(rng.random() * 4)], _HILLS[int(rng.random() * 4)]
    ridge = " ".join(f"L{x} {150 - rng.random() * 60:.0f}" for x in range(0, 481, 60))
    water = 225 + rng.random() * 30
    ripples = "".join(
        f'<ellipse cx="{240 + (rng.random() - 0.5) * 60:.0f}" cy="{water:.0f}" rx="{40 + 26 * i}" ry="{7 + 5 * i}"/>'
        for i in range(4)
    )
    return (
        '<svg xmlns="http://www.w3.org/2000/svg" width="480" height="320" viewBox="0 0 480 320">'
        f'<rect width="480" height="320" fill="{sky}"/>'
        f'<path d="M0 320 L0 160 {ridge} L480 320 Z" fill="{hill}"/>'
        f'<ellipse cx="240" cy="{water:.0f}" rx="150" ry="38" fill="#4f7f93"/>'
        f'<g fill="none" stroke="#d8e8ec" stroke-width="1.5">{ripples}</g></svg>\n'
    )
