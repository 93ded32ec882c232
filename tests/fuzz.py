"""A fuzz of every reader of outside data: what it reads well, torn and mixed by chance, for as long as one likes.

    python tests/fuzz.py [--seconds 60] [--seed N] [--only NAME …]

Each reader has a process of its own and its share of the time. What it is given stands in a file before it is read. Where it
raises what it may not, ends the process, or stays with something, that file is kept and named, and the status is 1.
"""

from __future__ import annotations

import argparse
import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

SLOW_S = 10.0
_LONGEST = 60_000
_MOST_FOUND = 5

Way = Callable[[bytes, int, int, list[bytes], random.Random], bytes]


def torn(whole: bytes, others: list[bytes], pieces: tuple[bytes, ...], chance: random.Random) -> bytes:
    """The seed with a few things wrong."""
    data = whole[: chance.randrange(1, _LONGEST)] if chance.random() < 0.3 else whole[:_LONGEST]
    for _ in range(chance.randrange(1, 8)):
        at = chance.randrange(len(data) + 1)
        until = at + chance.randrange(1, max(2, min(200, len(data) // 4)))
        others_or_pieces = [chance.choice(pieces)] if chance.random() < 0.7 else others
        data = chance.choice(_WAYS)(data, at, until, others_or_pieces, chance)
    return data


def _without(data: bytes, at: int, until: int, others: list[bytes], chance: random.Random) -> bytes:
    return data[:at] + data[until:]


def _twice(data: bytes, at: int, until: int, others: list[bytes], chance: random.Random) -> bytes:
    return data[:until] + data[at:until] * chance.choice([1, 2, 50]) + data[until:]


def _with_other(data: bytes, at: int, until: int, others: list[bytes], chance: random.Random) -> bytes:
    other = chance.choice(others)
    start = chance.randrange(max(1, len(other) - 3))
    return data[:at] + other[start : start + chance.randrange(1, 2000)] * chance.choice([1, 1, 1, 300]) + data[at:]


def _with_other_bits(data: bytes, at: int, until: int, others: list[bytes], chance: random.Random) -> bytes:
    return data[:at] + bytes([chance.randrange(256)]) + data[at + 1 :]


_WAYS: tuple[Way, ...] = (_without, _twice, _with_other, _with_other, _with_other_bits)


def work(name: str, seconds: float, seed: int, at: Path) -> int:
    """Try one reader until the time is over; returns how many faults were found."""
    import traceback

    from fuzz_readers import READERS

    reader, chance, count, slowest = READERS[name], random.Random(f"{seed} {name}"), 0, 0.0
    seeds = reader.seeds()
    found: set[str] = set()
    ends = time.monotonic() + seconds
    while time.monotonic() < ends and len(found) < _MOST_FOUND:
        data = torn(chance.choice(seeds), seeds, reader.pieces, chance)
        at.write_bytes(data)
        state, started = chance.getstate(), time.monotonic()
        try:
            reader.read(data, chance)
        except reader.may_raise:
            pass
        except Exception as error:
            where = f"{type(error).__name__} in {traceback.extract_tb(error.__traceback__)[-1].name}"
            if where not in found:
                found.add(where)
                kept = at.with_name(f"{at.name}-{len(found)}")
                kept.write_bytes(data)
                at.with_name(f"{kept.name}.state").write_text(repr(state), "utf-8")
                print(f"{name}: {where}: {str(error)[:200]!r}, {kept}", file=sys.stderr)
        count, slowest = count + 1, max(slowest, time.monotonic() - started)
        if slowest > SLOW_S:
            print(f"{name}: one took {slowest:.0f} s, {at}", file=sys.stderr)
            return len(found) + 1
    print(f"{name:<16} {count:>9,} tries, the slowest {slowest:.2f} s, faults {len(found)}")
    return len(found)


def main() -> int:
    from fuzz_readers import READERS

    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--seconds", type=float, default=60)
    parser.add_argument("--seed", type=int, default=int(time.time()))
    parser.add_argument("--only", nargs="*", choices=sorted(READERS), default=[])
    parser.add_argument("--work", type=Path, help=argparse.SUPPRESS)
    args = parser.parse_args()
    if args.work is not None:
        return 1 if work(args.only[0], args.seconds, args.seed, args.work) else 0
    folder, names, status = Path(tempfile.mkdtemp(prefix="fuzz-")), args.only or list(READERS), 0
    share = args.seconds / len(names)
    print(f"seed {args.seed}, {share:.1f} s for each of {len(names)} readers", flush=True)
    for name in names:
        at = folder / name.replace(" ", "-")
        command = [
            sys.executable,
            __file__,
            "--seconds",
            str(share),
            "--seed",
            str(args.seed),
            "--only",
            name,
            "--work",
            str(at),
        ]
        try:
            ended = subprocess.run(command, timeout=share + 120, check=False).returncode
        except subprocess.TimeoutExpired:
            ended = -1
        if ended not in (0, 1):
            print(f"{name}: ended with {ended} over {at}", file=sys.stderr)
        if ended == 0:
            at.unlink(missing_ok=True)
        status = status or int(ended != 0)
    if not status:
        folder.rmdir()
    return status


if __name__ == "__main__":
    sys.exit(main())
