"""What must grow with its input and not with its square: each is done for a number and for twice as much, and the times compared.

python benchmarks/linear.py [--scale 1.0]      child rows, `collect`, `distinct`, exact keys, the line of hosts, pages read again
"""

from __future__ import annotations

import argparse
import resource
import tempfile
import time
from collections import deque
from collections.abc import Callable, Iterator
from pathlib import Path

from wadi.actions.begin import begin
from wadi.actions.reparse import reparse
from wadi.actions.run import Run
from wadi.actions.tally import Tally
from wadi.clean.types import Where
from wadi.crawl.events import PageDone, Sent
from wadi.page.cells import Notes, read_column
from wadi.page.document import read_document
from wadi.page.field import Source
from wadi.plan.fields import compile_field
from wadi.plan.reader import load_plan
from wadi.store.archive import Archive
from wadi.store.folder import PAGES
from wadi.store.outcome import Outcome, TableRows
from wadi.table.keys import SeenKeys, keys_of
from wadi.web.messages import Reply, Request

PLAN = """wadi = 1
[start]
page = "list"
addresses = [STARTS]
[page.list]
rows = "li"
table = "t"
[page.list.fields]
code = "b"
mark = "i"
[page.list.lists.children]
rows = "u"
carry = ["code"]
[page.list.lists.children.fields]
value = "."
[table.t]
key = "code"
MORE
"""


def _run(folder: Path, rows: list[list[object]], children: int, more: str = "") -> Run:
    """A run of one page with these rows, and so many children for each."""
    folder.mkdir()
    (folder / "p.toml").write_text(PLAN.replace("STARTS", '"http://127.0.0.1:9/l"').replace("MORE", more))
    run = begin(load_plan(folder / "p.toml"), folder / "runs")
    request = Request("http://127.0.0.1:9/l")
    parents = [place for place in range(len(rows)) for _ in range(children)]
    tables = (
        TableRows("t", ("code", "mark"), rows),
        TableRows("children", ("value",), [[f"v{n}"] for n in range(len(parents))], parents=parents),
    )
    run.state.commit([Outcome(1, Reply(request, request.url, 200, (), b"", 0.0), tables=tables, rows=len(rows))])
    run.state.set_meta("end", "complete")
    return run


def _timed(work: Callable[[], object]) -> float:
    began = time.process_time()
    work()
    return time.process_time() - began


def child_rows(folder: Path, count: int) -> float:
    """So many parents of three on one page."""
    with _run(folder, [[f"c{n}", "m"] for n in range(count)], 3) as run:
        return _timed(lambda: deque(run.assembly("children").rows(), maxlen=0))


def collect(folder: Path, count: int) -> float:
    """So many different values of one record."""
    with _run(folder, [["one", f"m{n}"] for n in range(count)], 0, 'collect = ["mark"]') as run:
        return _timed(lambda: deque(run.assembly("t").rows(), maxlen=0))


def distinct(folder: Path, count: int) -> float:
    """So many different values in one cell."""
    folder.mkdir()
    (folder / "p.toml").write_text(
        PLAN.replace("STARTS", '"http://127.0.0.1:9/l"')
        .replace("MORE", "")
        .replace('mark = "i"', 'mark = { at = "i", many = true, distinct = true }')
    )
    field = compile_field("mark", load_plan(folder / "p.toml").plan.page["list"].fields["mark"], 2026, {})
    text = "".join(f"<i>{n}</i>" for n in range(count))
    document = read_document(text.encode(), "http://127.0.0.1:9/l", "text/html")
    source = Source(document, Where())
    return _timed(lambda: read_column(field, [document.scope], source, Notes()))


def exact_keys(folder: Path, count: int) -> float:
    """So many different keys, a hundred a page."""
    seen = SeenKeys()

    def work() -> None:
        for at in range(0, count, 100):
            seen.stood(keys_of([[f"MW-{number:07d}"] for number in range(at, at + 100)], [0]), at)

    return _timed(work)


def hosts(folder: Path, count: int) -> float:
    """The line of so many hosts, drawn twenty times."""
    tally = Tally("p", time.monotonic)
    for number in range(count):
        url = f"http://h{number}/"
        tally.take(Sent("list", url))
        if number % 100:
            tally.take(PageDone("list", url, 200, 1, 0, 100, 0.1, None))
    return _timed(lambda: [tally.hosts_line for _ in range(20)])


def read_again(folder: Path, count: int) -> float:
    """So many starts of which one in ten is stored, read again."""
    starts = [f'"http://127.0.0.1:9/l?p={n}"' for n in range(count)]
    folder.mkdir()

    def plan(which: list[str]) -> str:
        return PLAN.replace("STARTS", ", ".join(which)).replace("MORE", "")

    (folder / "p.toml").write_text(plan(starts[::10]))
    with begin(load_plan(folder / "p.toml"), folder / "runs") as old:
        archive = Archive(old.folder / PAGES, software="bench")
        for page in old.state.queue.first(count):
            reply = Reply(page.request, page.request.url, 200, (), b"<li><b>a</b><i>1</i>", 0.0)
            kept = archive.append(reply, page.id)
            old.state.commit([Outcome(page.id, reply, kept.location, rows=1, payload=kept.digest)])
        archive.close()
        old.state.set_meta("end", "complete")
        (folder / "p.toml").write_text(plan(starts))
        loaded = load_plan(folder / "p.toml")
        return _timed(lambda: reparse(old, loaded, folder / "again", workers=1)[0].close())


WORK: dict[str, tuple[Callable[[Path, int], float], int]] = {
    "child rows (parents of 3)": (child_rows, 8_000),
    "collect (values)": (collect, 20_000),
    "distinct (values)": (distinct, 20_000),
    "exact keys": (exact_keys, 500_000),
    "line of hosts (hosts, drawn 20 times)": (hosts, 50_000),
    "read again (starts, 1 in 10 stored)": (read_again, 10_000),
}


def _measured(scale: float) -> Iterator[str]:
    with tempfile.TemporaryDirectory() as base:
        for number, (name, (work, count)) in enumerate(WORK.items()):
            once = max(int(count * scale), 100) // 100 * 100
            first, second = (work(Path(base) / f"{number}-{times}", times * once) for times in (1, 2))
            yield f"{name:40} {once:>9,} {first:8.3f} s   {2 * once:>9,} {second:8.3f} s   ratio {second / max(first, 1e-4):.2f}"


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--scale", type=float, default=1.0, help="how much of each (default: 1.0)")
    for line in _measured(parser.parse_args().scale):
        print(line, flush=True)
    print(f"peak memory {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB")


if __name__ == "__main__":
    main()
