"""The sessions of a crawl: begun by a log-in, and anew when a page says that one has ended."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable

from wadi.crawl.events import Event, LoggedIn
from wadi.crawl.login import Login, LoginFailed
from wadi.crawl.source import Source
from wadi.problems import CrawlError, Place, Problem
from wadi.store.outcome import Outcome
from wadi.store.pages import Page
from wadi.web.manners import Stopped

_MOST_LOGINS = 3
"""Log-ins in a row without a page in between that shows that they worked, and how often one page may say that it is closed."""


class Sessions:
    """`count` is how many there were; `login` says how they are begun, None where the plan has none."""

    def __init__(self, login: Login | None, source: Source, report: Callable[[Event], None]) -> None:
        self.login = login
        self.count = 0
        self._source = source
        self._report = report
        self._in_vain = 0
        self._closed: Counter[int] = Counter()

    async def begin(self) -> None:
        """A new session, where the plan has a log-in. Raises CrawlError when it does not come about, or ends again and again at
        once."""
        if self.login is None:
            return
        if self._in_vain >= _MOST_LOGINS:
            what = f"the session ended at once, {_MOST_LOGINS} times in a row"
            now = "the expression of lost may fit every page"
            raise CrawlError(Problem("logged-out", what, Place(self.login.url), now=now))
        try:
            await self._source.log_in(self.login)
        except LoginFailed as error:
            raise CrawlError(error.problem) from error
        except Stopped:
            return
        self.count += 1
        self._in_vain += 1
        self._report(LoggedIn(self.login.url, self.count))

    def worked(self) -> None:
        """A page came that was not closed."""
        self._in_vain = 0

    def closed(self, page: Page) -> Outcome | None:
        """A page was answered without the session: None when it is to be asked for again, its failure when it stays closed."""
        self._closed[page.id] += 1
        if self._closed[page.id] <= _MOST_LOGINS:
            return None
        what = f"the page stays closed after {_MOST_LOGINS} log-ins"
        return Outcome(page.id, failure=Problem("logged-out", what, Place(page.request.url)))
