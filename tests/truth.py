"""What a right crawl of the sample site must bring, computed from the data and not from the pages."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from typing import Any

from wadi.demo import branches, gaugings, notebook, office, photos, printout, scripted
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
        {"code": level.spring.code, "level": level.level_m, "day": level.read_at.date().isoformat()}
        for level in office.levels()
    ]


def walks_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/walks.toml` and of `examples/walks-data.toml`."""
    return [{name: walk[name] for name in ("code", "title", "km", "district")} for walk in scripted.walks()]


def telephones_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/telephones.toml` and of `examples/telephones-data.toml`."""
    return scripted.telephones()


def hardness_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/hardness.toml` and of `examples/hardness-data.toml`."""
    return scripted.hardness()


def branches_rows(site: str, hosts: int = 1) -> list[dict[str, Any]]:
    """The table of `examples/branches.toml` where the site is served at so many hosts."""
    return [
        {
            "branch": branch,
            "code": spring.code,
            "name": spring.name,
            "altitude": spring.altitude_m,
            "temperature": spring.temperature_c,
        }
        for branch in range(1, hosts + 1)
        for spring in branches.springs_of(branch, hosts)
    ]


def tariffs_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/tariffs.toml`."""
    return [
        {"region": region, "service": service, "price": price, "per": per}
        for region in office.REGIONS
        for service, price, per in office.tariffs(region)
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


def _of(springs_: Iterable[Spring], *names: str) -> list[dict[str, Any]]:
    """One dict for each spring with its attributes of these names; `column=attribute` gives another name."""
    pairs = [(name.partition("=")[0], name.partition("=")[2] or name) for name in names]
    return [{column: getattr(spring, attribute) for column, attribute in pairs} for spring in springs_]


def archive_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/archive.toml`."""
    return [{"name": s.name, "code": s.code, "registered": s.registered.isoformat()} for s in gaugings.old_springs()]


def ledger_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/ledger.toml`."""
    return _of(office.wells(), "code", "depth=depth_m")


def fieldnotes_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/fieldnotes.toml`."""
    return _of([spring for spring in springs() if spring.note][:45], "code", "name", "note")


def search_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/search.toml`."""
    return [
        {"code": spring.code, "name": spring.name, "district": slug}
        for slug in ("saltholm", "ashwater")
        for spring in gaugings.chosen(slug, "well")
    ]


def catalogue_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/catalogue.toml`: every spring, in the order in which the parts are asked for."""
    found: list[Spring] = []
    for district in DISTRICTS:
        whole = gaugings.chosen(district.slug, None)
        parts = [whole] if len(whole) <= 60 else [gaugings.chosen(district.slug, kind) for kind in ("spring", "well")]
        found += [spring for part in parts for spring in part]
    return [{"code": s.code, "name": s.name, "district": s.district.name, "kind": s.kind} for s in found]


def sitemap_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/sitemap.toml`."""
    found = springs()[:100]
    return [{"code": s.code, "name": s.name, "altitude": s.altitude_m, "district": s.district.name} for s in found]


def notices_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/notices.toml`."""
    return [{"no": n.number, "title": n.title, "day": n.day.isoformat(), "text": n.text} for n in office.notices()]


def district_rows(site: str) -> list[dict[str, Any]]:
    """The table `springs` of `examples/gaugings.toml`."""
    return _of(springs_in(DISTRICTS[3]), "code", "name", "altitude=altitude_m")


def gaugings_rows(site: str) -> list[dict[str, Any]]:
    """The table `gaugings` of `examples/gaugings.toml`."""
    return [
        {"code": spring.code, "day": gauging.day.isoformat(), "flow": gauging.flow_lps}
        for spring in springs_in(DISTRICTS[3])
        for gauging in gaugings.gaugings(spring)
    ]


def duties_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/duties.toml`."""
    return [
        {
            "code": s.code,
            "altitude": s.altitude_m,
            "district": s.district.name,
            "district_size": len(springs_in(s.district)),
        }
        for s in springs()[:30]
    ]


def gallery_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/gallery.toml`."""
    rows = []
    for spring in gaugings.photographed():
        data = photos.photo(spring).encode()
        rows.append(
            {
                "code": spring.code,
                "district": spring.district.name,
                "photo": f"downloads/{spring.district.name}/{spring.code}.svg",
                "photo_url": f"{site}{spring.photo_path}",
                "photo_size": len(data),
                "photo_type": "image/svg+xml",
                "photo_sha256": hashlib.sha256(data).hexdigest(),
            }
        )
    return rows


def members_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/members.toml`."""
    return _of(springs()[:100], "code", "altitude=altitude_m")


def yearbook_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/yearbook.toml`."""
    return [
        {"district": y.district.name, "basin": y.basin, "spring": y.spring.code, "low": y.low_lps, "high": y.high_lps}
        for y in gaugings.yearbook()
    ]


def inspections_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/inspections.toml`."""
    return [
        {
            "district": inspection.spring.district.name,
            "code": inspection.spring.code,
            "day": inspection.day.isoformat(),
            "keeper": inspection.keeper,
            "remark": inspection.remark or None,
        }
        for inspection in gaugings.inspections()
    ]


def board_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/board.toml`."""
    return _of(springs()[:15], "code", "depth=depth_m")


def depths_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/depths.toml`."""
    return [
        {
            "code": s.code,
            "depth": s.depth_m,
            "district": s.district.name,
            "url": f"{site}{s.path}",
            "list": "Depths of wells",
        }
        for s in office.wells()
    ]


def atlas_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/atlas.toml`."""
    return [
        {"code": spring.code, "parish": gaugings.parish_name(slug)}
        for district in DISTRICTS
        for slug, own in gaugings.parishes(district).items()
        for spring in own
    ]


def walk_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/walk.toml`: the districts, each followed by its springs of even numbers."""
    rows = [{"title": "Districts", "url": f"{site}/districts"}]
    for district in DISTRICTS:
        rows.append({"title": district.name, "url": f"{site}/district/{district.slug}"})
        rows += [
            {"title": spring.name, "url": f"{site}{spring.path}"}
            for spring in springs_in(district)
            if spring.number % 2 == 0 and "hollow" not in spring.name.casefold()
        ]
    return rows


_NAMES = ("Yarrow Well at Nørby", "Ash Spring", "Golden Fountain")


def _found(name: str) -> list[Spring]:
    return [spring for spring in springs() if name.casefold() in spring.name.casefold()]


def lookup_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/lookup.toml`."""
    return [{"asked": name, "code": s.code, "name": s.name} for name in _NAMES for s in _found(name)]


def lookup_outcomes(site: str) -> list[dict[str, Any]]:
    """The table `outcomes` of `examples/lookup.toml`."""
    words = {0: "not found", 1: "found"}
    counts = [(name, len(_found(name))) for name in _NAMES]
    return [
        {"name": name, "outcome": words.get(count, "found"), "rows": count, "problem": None} for name, count in counts
    ]


def nested_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/nested.toml`."""
    return [
        {"code": spring.code, "flow": spring.flow_lps, "district": district.name, "since": 1900 + place}
        for place, district in enumerate(DISTRICTS)
        for spring in springs_in(district)[:4]
    ]


def bulletin_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/bulletin.toml`."""
    return [{"no": notice.number, "title": notice.title} for notice in office.notices()]


def stream_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/stream.toml`."""
    return _of(office.wells()[:30], "code", "depth=depth_m")


def opendata_rows(site: str) -> list[dict[str, Any]]:
    """The table `springs` of `examples/opendata.toml`; the others are below."""
    return _of(springs()[:40], "code", "name", "flow=flow_lps")


def _levels(site: str) -> list[dict[str, Any]]:
    return [{"code": level.spring.code, "level": level.level_m} for level in office.levels()]


def _workbook_rows(site: str) -> list[dict[str, Any]]:
    return [{"code": s.code, "depth": s.depth_m, "registered": s.registered.isoformat()} for s in office.wells()[:30]]


def printout_rows(site: str) -> list[dict[str, Any]]:
    """The table of `examples/printout.toml`."""
    return printout.rows()


TRUTHS = {
    "springs": register_rows,
    "gauges": gauges_rows,
    "readings": readings_rows,
    "wells": wells_rows,
    "dry": dry_rows,
    "tariffs": tariffs_rows,
    "walks": walks_rows,
    "walks-data": walks_rows,
    "telephones": telephones_rows,
    "telephones-data": telephones_rows,
    "branches": branches_rows,
    "hardness": hardness_rows,
    "hardness-data": hardness_rows,
    "keepers": keepers_rows,
    "places": places_rows,
    "archive": archive_rows,
    "ledger": ledger_rows,
    "fieldnotes": fieldnotes_rows,
    "search": search_rows,
    "catalogue": catalogue_rows,
    "sitemap": sitemap_rows,
    "notices": notices_rows,
    "gaugings": district_rows,
    "duties": duties_rows,
    "gallery": gallery_rows,
    "members": members_rows,
    "yearbook": yearbook_rows,
    "inspections": inspections_rows,
    "board": board_rows,
    "depths": depths_rows,
    "atlas": atlas_rows,
    "walk": walk_rows,
    "lookup": lookup_rows,
    "nested": nested_rows,
    "bulletin": bulletin_rows,
    "stream": stream_rows,
    "opendata": opendata_rows,
    "notebook": notebook.rows,
    "printout": printout_rows,
}
"""The truth of every example plan, by its name."""

FURTHER_TRUTHS = {
    ("gaugings", "gaugings"): gaugings_rows,
    ("lookup", "outcomes"): lookup_outcomes,
    ("opendata", "levels"): _levels,
    ("opendata", "wells"): _workbook_rows,
    ("opendata", "keepers"): keepers_rows,
}
"""The truth of further tables, by plan and table."""
