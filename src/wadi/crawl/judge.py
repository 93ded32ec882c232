"""What is to be done about a page that came: pure decisions, from what came and how things stand. The engine acts on them."""

from __future__ import annotations

from dataclasses import dataclass

from wadi.crawl.login import Login, is_login_page
from wadi.crawl.source import Fetched
from wadi.problems import Problem
from wadi.web.messages import FetchFailed

NOBODY = "unreachable"
NO_ANSWER = frozenset({NOBODY, "timed-out", "broken-off"})
_TROUBLE_STATUSES = frozenset({408, 425, 429, 500, 502, 503, 504})
_REFUSALS = frozenset({401, 403, 407, 451})
IN_VAIN = 10
"""So many pages of a kind in a row may lack what the plan expects, before none is asked for again for that."""


@dataclass(frozen=True, slots=True)
class Settled:
    """It is settled: what it came to is committed, good or failed."""


@dataclass(frozen=True, slots=True)
class PutOff:
    """It may come right later."""

    problem: Problem


@dataclass(frozen=True, slots=True)
class LoggedOut:
    """It is that of someone who is not logged in."""


@dataclass(frozen=True, slots=True)
class Absent:
    """The source does not have it."""

    why: str


@dataclass(frozen=True, slots=True)
class ReadElsewhere:
    """It takes long to read: a worker does."""


Judgement = Settled | PutOff | LoggedOut | Absent | ReadElsewhere


@dataclass(frozen=True, slots=True)
class Standing:
    """How things stand with a page: whether it may still be put off, its host was given up, how the plan logs in, and how many
    pages of its kind lately lacked what the plan expects, this one counted."""

    may_wait: bool = False
    is_given_up: bool = False
    login: Login | None = None
    in_vain: int = 0


def judge(fetched: Fetched, standing: Standing) -> Judgement:
    """What is to be done about a page. What came was read already, or reading it was broken off."""
    if fetched.absent:
        return Absent(fetched.absent)
    failure, login = fetched.failure, standing.login
    if failure is not None:
        if login is not None and failure.reply is not None and failure.reply.status == 401:
            return LoggedOut()
        if is_trouble(failure) and (standing.may_wait or standing.is_given_up):
            return PutOff(Problem(failure.cause, failure.what))
        return Settled()
    assert fetched.reply is not None
    if login is not None and is_login_page(fetched.reply, login):
        return LoggedOut()
    if fetched.is_slow:
        return ReadElsewhere()
    found = fetched.found
    if found is None:  # a file
        return Settled()
    if found.lost and login is not None:
        return LoggedOut()
    if not found.blocked or found.failure is None or not standing.may_wait:
        return Settled()
    # Where page after page lacks what the plan expects and shows no sign of a block, `expect` is wrong, or the site is another.
    is_in_vain = found.failure.code != "blocked" and standing.in_vain > IN_VAIN
    return Settled() if is_in_vain else PutOff(found.failure)


def is_trouble(failure: FetchFailed) -> bool:
    """Whether a failure is one that may pass: nobody there, no whole answer, or a status that says so."""
    return failure.cause in NO_ANSWER or (failure.reply is not None and failure.reply.status in _TROUBLE_STATUSES)


def is_refusal(failure: FetchFailed | None) -> bool:
    """Whether a host says that it does not want to be asked by us."""
    return failure is not None and failure.reply is not None and failure.reply.status in _REFUSALS
