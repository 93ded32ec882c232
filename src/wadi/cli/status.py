"""Exit statuses, one place for all of them."""

from enum import IntEnum


class Status(IntEnum):
    """What a command says to the shell."""

    DONE = 0
    NOT_ALL = 1
    """Done, but something asked for does not hold: pages failed, rows are missing."""
    USAGE = 2
    """The command line or the plan is wrong."""
    NO_WAY = 3
    """The crawl could not go on: the site refused or could not be reached, or a limit was reached with --strict."""
    FAULT = 70
    """An internal error of Wadi."""
    INTERRUPTED = 130
