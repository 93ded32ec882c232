"""Pages of a run that are to be asked for once more."""

from __future__ import annotations

from collections.abc import Collection

from wadi.actions.run import Run
from wadi.store.outcome import State


def retry_pages(run: Run, which: Collection[str]) -> int:
    """Let pages wait again: `failed` ones, or those whose URL matches a pattern (`*`, `?`); returns how many there are."""
    import fnmatch

    patterns = [pattern for pattern in which if pattern != "failed"]
    failed = len(patterns) < len(which)

    def chosen(url: str, state: State) -> bool:
        is_failed = failed and state is State.FAILED
        return is_failed or any(fnmatch.fnmatchcase(url, pattern) for pattern in patterns)

    return run.state.ask_again(chosen)
