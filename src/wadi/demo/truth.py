"""What a right crawl of the sample site must bring, computed from the data and not from the pages."""

from __future__ import annotations

from typing import Any

from wadi.demo.world import Spring, springs


def register_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/springs.toml`, in order: one dict for each spring, missing cells None."""
    return [_row(spring, site) for spring in springs()]


def _row(spring: Spring, site: str) -> dict[str, Any]:
    return {
        "code": spring.code,
        "name": spring.name,
        "kind": spring.kind,
        "district": spring.district.name,
        "status": spring.status,
        "flow": spring.flow_lps,
        "depth": spring.depth_m,
        "registered": spring.registered.isoformat(),
        "url": f"{site}{spring.path}",
        "altitude": spring.altitude_m,
        "temperature": spring.temperature_c,
        "keepers": list(spring.keepers),
        "note": spring.note,
        "photo": f"{site}{spring.photo_path}" if spring.photo_path else None,
    }
