"""Mending with the site at hand: today's pages are asked for as a run of the plan would, one after the other."""

from __future__ import annotations

import contextlib

from wadi.actions.setup import Credentials
from wadi.actions.site import Site
from wadi.learn.examples.known_rows import KnownRows
from wadi.learn.mends.changes import Mending
from wadi.learn.mends.mend import NotMended, mend
from wadi.page.document import NotADocument
from wadi.plan.reader import LoadedPlan
from wadi.plan.starts import starts_of
from wadi.problems import CrawlError, Place, Problem
from wadi.store.page_cache import PageCache, cache_folder
from wadi.urls import without_secret
from wadi.web.messages import FetchFailed
from wadi.web.robots import origin_of


def mended(
    loaded: LoadedPlan,
    known: KnownRows,
    *,
    fresh: bool = False,
    cache: PageCache | None = None,
    credentials: Credentials | None = None,
) -> Mending:
    """What has to change in a plan so that it reads today's pages as its last run was read. Raises CrawlError where the first
    page does not come, or has nothing of the last run."""
    loaded.require_code()
    start = next(starts_of(loaded.plan, loaded.folder))
    before = next(iter(sorted(known.urls.get(loaded.plan.start.page, ()))), "")
    known = known.at(origin_of(before) if before else "", origin_of(start.request.url))
    place = Place(without_secret(start.request.url))
    site = Site(loaded, cache or PageCache(cache_folder()), fresh=fresh, credentials=credentials)
    with contextlib.closing(site):
        try:
            return mend(loaded, known, start.request, lambda request: site.reply(request)[0])
        except FetchFailed as failure:
            raise CrawlError(Problem(failure.cause, failure.what, place)) from failure
        except NotADocument as error:
            raise CrawlError(Problem("wrong-kind", f"the first page is no document: {error}", place)) from error
        except NotMended as error:
            now = "wadi draft PAGE --row …  learns from records that you see there"
            raise CrawlError(Problem("nothing-to-mend-by", str(error), place, now=now)) from error
