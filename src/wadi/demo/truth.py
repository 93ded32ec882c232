"""What a right crawl of the sample site must bring, computed from the data and not from the pages."""

from __future__ import annotations

from typing import Any

from wadi.demo import office
from wadi.demo.world import DISTRICTS, Spring, springs, springs_in


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


def gauges_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/gauges.toml`."""
    return [
        {
            "code": spring.code,
            "name": spring.name,
            "district": spring.district.slug,
            "flow": spring.flow_lps,
            "temperature": spring.temperature_c,
            "keepers": list(spring.keepers),
        }
        for spring in office.gauged()
    ]


def readings_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/readings.toml`."""
    return [
        {"code": one.spring.code, "level": one.level_m, "day": one.read_at.date().isoformat()}
        for one in office.levels()
    ]


def wells_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/wells.toml`."""
    return [{"code": spring.code, "name": spring.name, "depth": spring.depth_m} for spring in office.wells()]


def dry_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/dry.toml`."""
    return [{"code": spring.code, "name": spring.name, "district": spring.district.name} for spring in office.dry()]


def keepers_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/keepers.toml`."""
    return [{"name": name, "springs": count} for name, count in office.keepers()]


_PLACES = (
    ("saltholm", "Hall of Saltholm", 1921),
    ("ashwater", "Ashwater Mill", 1934),
    ("thornmere", "Thornmere Rectory", 1950),
)


def places_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/places.toml` with `examples/places.csv`."""
    districts = {district.slug: district for district in DISTRICTS}
    return [
        {"code": spring.code, "name": spring.name, "office": office_name, "since": since}
        for slug, office_name, since in _PLACES
        for spring in springs_in(districts[slug])
    ]


TRUTHS = {
    "springs": register_rows,
    "gauges": gauges_rows,
    "readings": readings_rows,
    "wells": wells_rows,
    "dry": dry_rows,
    "keepers": keepers_rows,
    "places": places_rows,
}
"""The truth of every example plan, by its name."""
