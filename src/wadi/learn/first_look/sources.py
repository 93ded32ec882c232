"""Where a page's data may come from instead: JSON and XML addresses in scripts and attributes, feeds, a sitemap."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, replace

from wadi.page.document import Document
from wadi.page.nodes import attributes, elements, raw_text_of
from wadi.urls import NotAUrl, normalised

ASKED_FOR = "a script asks for it"
_MOST = 20
_MANY = 3
_FEED_TYPES = (
    "application/rss+xml",
    "application/atom+xml",
    "application/feed+json",
    "application/json",
    "application/xml",
)
_QUOTED = re.compile(
    r"[\"'`]((?:https?:)?//[^\"'`\s<>]{4,200}|/[^\"'`\s<>/][^\"'`\s<>]{1,200}|[\w\-./]+\.(?:json|xml|csv)(?:\?[^\"'`\s<>]*)?)[\"'`]"
)
_FETCHED = re.compile(
    r"(?:fetch|axios(?:\.\w+)?|open|get|getJSON|ajax|load|request|EventSource|url\s*:)\s*\(?\s*(?:[\"'](?:GET|POST)[\"']\s*,\s*)?[\"'`]([^\"'`\s]{2,300})[\"'`]"
)
_DATA = re.compile(
    r"\.(?:json|xml|csv|tsv|geojson|rss|atom|ndjson)(?:$|[?#])|/(?:api|ajax|json|rest|graphql|feed|data|services?|v\d+)(?:/|\?|$)|[?&](?:format|output|callback)=",
    re.IGNORECASE,
)
_NO_DATA = re.compile(
    r"\.(?:js|mjs|css|png|jpe?g|gif|svg|ico|webp|woff2?|ttf|map|mp4|pdf|html?)(?:$|[?#])|\bmanifest\.|opensearch",
    re.IGNORECASE,
)


@dataclass(frozen=True, slots=True)
class Source:
    """An address that may hold the data: what it is, and where on the page it is named. `alike` others differ from it in
    numbers alone, and are left out."""

    url: str
    what: str
    where: str
    alike: int = 0


def data_sources(document: Document) -> list[Source]:
    """The likeliest addresses first: those that scripts fetch, then those in attributes and links; at most 20."""
    if document.kind != "html":
        return []
    found: dict[str, Source] = {}
    for source in [*_fetched(document), *_attributes(document), *_linked(document), *_quoted(document)]:
        found.setdefault(normalised(source.url) if "://" in source.url else source.url, source)
    return _without_alike(list(found.values()))[:_MOST]


def _without_alike(sources: list[Source]) -> list[Source]:
    """The first of those that differ in numbers alone, where they are many: the addresses of records, not of their list."""
    groups: dict[tuple[str, str], list[Source]] = {}
    for source in sources:
        groups.setdefault(_likeness(source), []).append(source)
    kept: list[Source] = []
    for source in sources:
        group = groups[_likeness(source)]
        if len(group) < _MANY:
            kept.append(source)
        elif source is group[0]:
            kept.append(replace(source, alike=len(group) - 1))
    return kept


def _likeness(source: Source) -> tuple[str, str]:
    return source.what, re.sub(r"\d+", "0", source.url)


def _script_texts(document: Document) -> Iterator[tuple[int, str]]:
    for number, script in enumerate(elements(document.top, "script"), 1):
        kind = (script.attr("type") or "text/javascript").lower()
        if kind in ("text/javascript", "module", "application/javascript"):
            yield number, raw_text_of(script)[:2_000_000]


def _fetched(document: Document) -> Iterator[Source]:
    for number, text in _script_texts(document):
        for found in _FETCHED.finditer(text):
            if not _NO_DATA.search(found[1]) and re.search(r"[/.?]", found[1]):
                yield from _source(document, found[1], ASKED_FOR, f"script {number}")


def _quoted(document: Document) -> Iterator[Source]:
    for number, text in _script_texts(document):
        for found in _QUOTED.finditer(text):
            if _DATA.search(found[1]) and not _NO_DATA.search(found[1]):
                yield from _source(document, found[1], "a script names it", f"script {number}")


def _attributes(document: Document) -> Iterator[Source]:
    for element in elements(document.top):
        for key, text in attributes(element).items():
            if (
                key.startswith(("data-", "hx-"))
                and re.match(r"https?://|/[^/]|[\w./-]+\.(?:json|xml|csv)", text)
                and len(text) < 300
            ):
                likely = _DATA.search(text) or re.search(r"url|src|source|endpoint|api|href|get", key)
                if likely and not _NO_DATA.search(text):
                    yield from _source(document, text, "an attribute names it", f"{element.tag}[{key}]")


def _linked(document: Document) -> Iterator[Source]:
    for link in elements(document.top, "link", "a"):
        href, kind, rel = link.attr("href"), (link.attr("type") or "").lower(), (link.attr("rel") or "").lower()
        if not href:
            continue
        if "alternate" in rel and kind in _FEED_TYPES:
            yield from _source(
                document, href, "feed" if "xml" in kind or "feed" in kind else "the same as JSON", f"link[type={kind}]"
            )
        elif re.search(r"sitemap[^/]*\.xml|rel=sitemap", href + rel):
            yield from _source(document, href, "sitemap", link.tag)
        elif link.tag == "a" and re.search(r"\.(?:csv|json|xml|xlsx|rss|atom|tsv)(?:$|[?#])", href, re.IGNORECASE):
            yield from _source(document, href, "a link to data", "a")


def _source(document: Document, reference: str, what: str, where: str) -> Iterator[Source]:
    if "${" in reference or "{{" in reference:
        return
    try:
        yield Source(document.resolve(reference.replace("\\/", "/")), what, where)
    except NotAUrl:
        if document.url.startswith("file:") and not reference.startswith(("javascript:", "mailto:", "data:", "tel:")):
            yield Source(reference, what, where)
