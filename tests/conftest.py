"""What the tests share: the installed program in a folder of its own, and the sample site."""

from __future__ import annotations

import asyncio
import contextlib
import io
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager, redirect_stderr, redirect_stdout
from dataclasses import dataclass
from pathlib import Path

import pytest
from hypothesis import settings

from wadi.cli.main import main

# The suite does the same each time: chance is for tests/fuzz.py. The first example of a test may pay for what is built on
# first use; time is measured in benchmarks, not here.
settings.register_profile("suite", deadline=None, derandomize=True, database=None)
settings.load_profile("suite")
# Programs that tests send signals to are not to ignore them, as they would where the tests run in the background.
for number in (signal.SIGINT, signal.SIGHUP):
    if signal.getsignal(number) is signal.SIG_IGN:
        signal.signal(number, signal.SIG_DFL if number == signal.SIGHUP else signal.default_int_handler)
# Code that tests approve is not remembered on this machine.
os.environ["XDG_STATE_HOME"] = tempfile.mkdtemp(prefix="wadi-tests-")
ROOT = Path(__file__).parent.parent
EXAMPLES = ROOT / "examples"
APPROVED_CODE = "WADI_APPROVED_CODE"
"""The environment variable with the code that this process may run."""


@dataclass(frozen=True)
class Done:
    """What a command came to."""

    status: int
    out: str
    err: str


def mistakes_of_package(path: Path) -> list[str]:
    """What an independent validator finds wrong with a Data Package and the files in it."""
    from frictionless import validate

    report = validate(str(path))
    return [str(error) for task in report.tasks for error in (*report.errors, *task.errors)]


def records_of(folder: Path) -> list[str]:
    """The kinds of all records of a run's archive, read by an independent reader, which takes only those whose digests are right."""
    from warcio.archiveiterator import ArchiveIterator

    kinds = []
    for path in sorted((folder / "pages").glob("*.warc.gz")):
        with path.open("rb") as file:
            for record in ArchiveIterator(file, check_digests="raise"):
                record.content_stream().read()
                kinds.append(record.rec_type)
    return kinds


FENCE = '--no-proxy-server --host-resolver-rules="MAP * ~NOTFOUND , EXCLUDE 127.*"'
"""What keeps a test's browser on this machine."""
needs_browser = pytest.mark.skipif(
    shutil.which("chromedriver") is None and "WADI_NO_SKIP" not in os.environ,
    reason="no browser with a WebDriver server: chromium-driver",
)


_SLOW = (
    "test_blocks_and_failures",
    "test_cluster",
    "test_browser_listings",
    "test_browser",
    "test_examples",
    "test_mend",
    "test_hostile",
)
"""Modules with tests that take long: they come first, so that none is left alone at the end."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    items.sort(key=lambda item: _SLOW.index(item.path.stem) if item.path.stem in _SLOW else len(_SLOW))


class Program:
    """The installed program `wadi`, run in a folder with an environment of its own."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.command = [str(Path(sys.executable).with_name("wadi"))]
        self.environment = {"PATH": os.environ["PATH"], "HOME": str(folder), "LANG": "C.UTF-8", "COLUMNS": "120"}
        self.environment["WADI_BROWSER_ARGUMENTS"] = FENCE

    def __call__(self, *arguments: str | Path, timeout: float = 100) -> Done:
        done = subprocess.run(
            [*self.command, *map(str, arguments)],
            cwd=self.folder,
            env=self.environment,
            capture_output=True,
            stdin=subprocess.DEVNULL,
            timeout=timeout,
            check=False,
        )
        assert b"Traceback" not in done.stderr, done.stderr.decode()
        if "--package" in arguments and done.returncode == 0:
            assert mistakes_of_package(self.folder / "datapackage.json") == []
        return Done(done.returncode, done.stdout.decode(), done.stderr.decode())

    def inside(self, *arguments: str | Path) -> Done:
        """The same command line in this process: for what is looked at with the installed program elsewhere, and would start it
        again and again."""
        out, err = io.StringIO(), io.StringIO()
        before, handler = dict(os.environ), signal.getsignal(signal.SIGINT)
        os.environ.clear()
        os.environ.update(self.environment)
        try:
            with contextlib.chdir(self.folder), redirect_stdout(out), redirect_stderr(err):
                status = main(list(map(str, arguments)), out, err)
        except SystemExit as error:
            status = int(error.code or 0)
        finally:
            approved = os.environ.get(APPROVED_CODE, "")
            os.environ.clear()
            os.environ.update(before | {APPROVED_CODE: approved})
            signal.signal(signal.SIGINT, handler)
        if "--package" in arguments and status == 0:
            assert mistakes_of_package(self.folder / "datapackage.json") == []
        return Done(status, out.getvalue(), err.getvalue())

    def start(self, *arguments: str | Path) -> subprocess.Popen[str]:
        return subprocess.Popen(
            [*self.command, *map(str, arguments)],
            cwd=self.folder,
            env=self.environment,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )


@pytest.fixture
def program(tmp_path: Path) -> Program:
    return Program(tmp_path)


def serving(application: Callable[[], object]) -> AbstractContextManager[str]:
    """An aiohttp application on a free port of 127.0.0.1, in a thread; gives its address."""
    return serving_at(application, 1)


@contextmanager
def serving_at(application: Callable[[], object], hosts: int) -> Iterator[str]:
    """The same on 127.0.0.1 and so many hosts after it."""
    from aiohttp import web

    ready = threading.Event()
    held: dict[str, object] = {}

    async def serve() -> None:
        runner = web.AppRunner(application(), access_log=None, shutdown_timeout=0.2)  # type: ignore[arg-type]
        await runner.setup()
        site = web.TCPSite(runner, "127.0.0.1", 0)
        await site.start()
        port = runner.addresses[0][1]
        for host in range(2, hosts + 1):
            await web.TCPSite(runner, f"127.0.0.{host}", port).start()
        held["address"] = f"http://127.0.0.1:{port}"
        held["loop"], held["stop"] = asyncio.get_running_loop(), asyncio.Event()
        ready.set()
        await held["stop"].wait()
        await runner.cleanup()

    thread = threading.Thread(target=asyncio.run, args=(serve(),), daemon=True)
    thread.start()
    assert ready.wait(20)
    try:
        yield held["address"]  # type: ignore[misc]
    finally:
        held["loop"].call_soon_threadsafe(held["stop"].set)  # type: ignore[attr-defined]
        thread.join(20)


@pytest.fixture(scope="session")
def site() -> Iterator[str]:
    """The sample site, calm."""
    from wadi.demo.site import application

    with serving(application) as address:
        yield address


def plan_text(**changes: str) -> str:
    """The bundled plan without pauses, with lines changed: `parallel="8"` sets that key's value."""
    text = (EXAMPLES / "springs.toml").read_text("utf-8")
    values = {"pause": '"0s"', **changes}
    lines = []
    for line in text.splitlines():
        name = line.split("=")[0].strip()
        lines.append(f"{name} = {values[name]}" if name in values and "{" not in line else line)
    return "\n".join(lines) + "\n"
