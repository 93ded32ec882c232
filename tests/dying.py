"""The program with a point of writing at which it is killed:  python dying.py committed:3 run PLAN …"""

from __future__ import annotations

import os
import signal
import sys

from wadi.cli.main import main


def _dying_at(point: str, count: int) -> object:
    left = count

    def reached(name: str) -> None:
        nonlocal left
        left -= name == point
        if name == point and left == 0:
            os.kill(os.getpid(), signal.SIGKILL)

    return reached


if __name__ == "__main__":
    point, _, count = sys.argv[1].partition(":")
    sys.exit(main(sys.argv[2:], sys.stdout, sys.stderr, _dying_at(point, int(count or 1))))  # type: ignore[arg-type]
