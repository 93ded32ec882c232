"""Long output on a terminal goes through the person's pager (`PAGER`, else less): what does not fit on the screen can be read."""

from __future__ import annotations

import io
import os
import shutil
import signal
import subprocess
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import TextIO

_LESS = "FRX"
"""What less is told where the environment tells it nothing: colours are shown, what fits on the screen ends at once and stays."""


class _Held(io.StringIO):
    """What a command writes, held until it is known how long it is. It is a terminal's as far as colours go."""

    def isatty(self) -> bool:
        return True


@contextmanager
def paged(out: TextIO, environment: Mapping[str, str] = os.environ) -> Iterator[TextIO]:
    """Where a command writes that may write much: what is longer than the screen is shown by the pager. Elsewhere than on a
    terminal, and where `PAGER` is empty or cat, `out` itself."""
    pager = environment.get("PAGER", "less")
    if not out.isatty() or pager in ("", "cat") or shutil.which(pager.split()[0]) is None:
        yield out
        return
    held = _Held()
    try:
        yield held
    finally:
        _show(held.getvalue(), out, pager, environment)


def _show(text: str, out: TextIO, pager: str, environment: Mapping[str, str]) -> None:
    if text.count("\n") < shutil.get_terminal_size().lines:
        out.write(text)
        out.flush()
        return
    out.flush()
    with subprocess.Popen(
        pager, shell=True, stdin=subprocess.PIPE, env={"LESS": _LESS, **environment}, text=True, encoding="utf-8"
    ) as shown:
        before = signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is for the pager
        try:
            shown.communicate(text)
        finally:
            signal.signal(signal.SIGINT, before)
