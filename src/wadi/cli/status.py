"""Exit statuses, one place for all of them."""

from enum import IntEnum


class Status(IntEnum):
    """What a command says to the shell."""

    DONE = 0
    NOT_ALL = 1
    USAGE = 2
    NO_WAY = 3
    FAULT = 70
    INTERRUPTED = 130


MEANINGS = {
    Status.DONE: "done",
    Status.NOT_ALL: "done, but not all of it: pages failed, rows are missing, or a check does not hold",
    Status.USAGE: "the command line or the plan is wrong",
    Status.NO_WAY: "the crawl could not go on: the site refused or could not be reached, or a limit was reached with --strict",
    Status.FAULT: "an internal error",
    Status.INTERRUPTED: "interrupted: Ctrl-C, or the terminal was closed",
}
"""What each says, for the docs."""
