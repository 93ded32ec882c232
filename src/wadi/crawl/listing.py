"""How a listing ends: rules that are asked one after the other when a page of it was read and leads to a next one.

A new rule is a function and a line in ENDS.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from wadi.crawl.extract import Extract
from wadi.crawl.kinds import Next
from wadi.crawl.paging import own_number
from wadi.problems import Place, Problem
from wadi.store.outcome import Link
from wadi.store.pages import Page, number_in_listing
from wadi.store.view import RunView

_DRY_PAGES = 5


@dataclass(frozen=True)
class ListingPage:
    """A page of a listing as it was read: what stands on it, the link to the next one, what tells its rows (`digests`), and what
    the run knows so far."""

    page: Page
    next: Next
    found: Extract
    following: Link
    digests: tuple[bytes, ...]
    known: RunView
    url: str

    @property
    def number(self) -> int:
        """Its place in the listing, from 0."""
        return number_in_listing(self.page.route)


@dataclass(frozen=True)
class Ended:
    """The listing is at its end; `note` tells why, unless that was to be."""

    note: Problem | None = None


def end_of(listing: ListingPage) -> Ended | None:
    """Whether a listing ends with this page though it has a link to a next one; None where it goes on."""
    return next((ended for rule in ENDS if (ended := rule(listing)) is not None), None)


def _stated_total(listing: ListingPage) -> Ended | None:
    total, rows = listing.found.total, listing.page.rows_before + (listing.found.row_count or 0)
    is_asked = listing.next.plan.end_when == "total"
    return Ended() if is_asked and total is not None and rows >= total else None


def _stated_last_page(listing: ListingPage) -> Ended | None:
    """As a page before this one states; what this one states itself is asked when the link is made."""
    last = listing.page.last if listing.found.of_pages is None else None
    return Ended() if last is not None and own_number(listing.next, listing.number) >= last else None


def _known_rows(listing: ListingPage) -> Ended | None:
    """All rows of the page are known: to the listing, or to earlier runs."""
    if not listing.digests:
        return None
    if listing.next.plan.end_when == "no new rows":
        is_known = listing.number > 0 and not listing.known.new_rows(listing.page, listing.digests)
    else:
        is_known = not listing.known.unknown_rows(listing.digests)
    return Ended() if is_known else None


def _led_back(listing: ListingPage) -> Ended | None:
    following = listing.following
    if not listing.known.is_in_listing(listing.page, following.kind, following.request):
        return None
    what = f"the next link leads back to {following.request.url}, which the listing has had: it ends here"
    return _noted(listing, "page-again", what)


def _without_rows(listing: ListingPage) -> Ended | None:
    if listing.found.row_count != 0 or listing.page.dry + 1 < _DRY_PAGES:
        return None
    return _noted(listing, "no-rows-again", f"{_DRY_PAGES} pages in a row had no rows: the listing ends here")


def _too_long(listing: ListingPage) -> Ended | None:
    most = listing.next.plan.most
    if listing.number + 1 < most:
        return None
    what = f"the listing goes on after {most:,} pages: it is left here (next.most)"
    return _noted(listing, "listing-too-long", what)


def _noted(listing: ListingPage, code: str, what: str) -> Ended:
    return Ended(Problem(code, what, Place(listing.url)))


ENDS: tuple[Callable[[ListingPage], Ended | None], ...] = (
    _stated_total,
    _stated_last_page,
    _known_rows,
    _led_back,
    _without_rows,
    _too_long,
)
