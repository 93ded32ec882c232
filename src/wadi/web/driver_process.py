"""A WebDriver server as a process of this machine: found, started, ended, and gone with what it started whatever happens to Wadi.

The driver gets a process group and a private folder for all that it and its browser write. The kernel sends it SIGTERM when
Wadi's thread that started it ends (`setpriv`, prctl(2)); the browser goes with the pipe by which the driver speaks to it.
Folders of processes that were killed are removed by the next start.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import re
import shutil
import signal
import tempfile
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from wadi.problems import Problem, UsageError

ENVIRONMENT = "WADI_WEBDRIVER"
"""The environment variable with the driver's path, or the URL of a server."""
DRIVERS = ("chromedriver", "geckodriver")
_PREFIX = "wadi-browser-"
_READY = re.compile(r"(?:started successfully on port|Listening on [\d.]+:)\s*(\d+)")
_READY_WITHIN_S, _END_WITHIN_S = 20.0, 2.0


def driver_named(named: str | None, environment: Mapping[str, str]) -> str:
    """The driver that is to be used, a path or a URL: the one that is named, that of the environment, or the first on the
    PATH. Raises UsageError where there is none."""
    wanted = named or environment.get(ENVIRONMENT, "")
    if wanted.startswith(("http://", "https://")):
        return wanted
    if wanted:
        found = shutil.which(wanted)
        if found is None:
            raise UsageError(Problem("no-browser", f"there is no WebDriver server at {wanted}", now=_HOW))
        return found
    on_path = next((found for name in DRIVERS if (found := shutil.which(name))), None)
    if on_path is None:
        raise UsageError(Problem("no-browser", "no browser with a WebDriver server is installed", now=_HOW))
    return on_path


_HOW = f"Debian:  apt install chromium chromium-driver;  or {ENVIRONMENT} names a driver, or the URL of a server"


@dataclass
class DriverProcess:
    """A driver that runs: its address, its folder, and the browser's profile in it."""

    address: str
    folder: Path
    process: asyncio.subprocess.Process | None = None
    _drained: asyncio.Task[None] | None = field(default=None, repr=False)

    @property
    def profile(self) -> Path:
        return self.folder / "profile"

    @property
    def is_alive(self) -> bool:
        return self.process is None or self.process.returncode is None

    def memory_bytes(self) -> int:
        """What the driver and its browser take of memory, shared parts counted once (PSS); 0 where the system does not tell."""
        if self.process is None:
            return 0
        return sum(_pss_bytes(path) for path in Path("/proc").glob("[0-9]*") if _session_of(path) == self.process.pid)

    async def end(self) -> None:
        """End the driver with all that it started, and remove its folder."""
        if self.process is not None and self.process.returncode is None:
            _signal(self.process.pid, signal.SIGTERM)
            try:
                await asyncio.wait_for(self.process.wait(), _END_WITHIN_S)
            except TimeoutError:
                _signal(self.process.pid, signal.SIGKILL)
                await self.process.wait()
        if self.process is not None:
            _signal(self.process.pid, signal.SIGKILL)  # what is left of its group
        if self._drained is not None:
            self._drained.cancel()
        shutil.rmtree(self.folder, ignore_errors=True)


async def start_driver(driver: str) -> DriverProcess:
    """Start a driver by its path; one at a URL runs already. Raises UsageError where it does not come up."""
    sweep()
    folder = Path(tempfile.mkdtemp(prefix=f"{_PREFIX}{os.getpid()}-"))
    if driver.startswith(("http://", "https://")):
        return DriverProcess(driver.rstrip("/"), folder)
    environment = {**os.environ, "TMPDIR": str(folder), "HOME": str(folder)}
    with_parent = ["setpriv", "--pdeathsig", "TERM", "--"] if shutil.which("setpriv") else []
    process = await asyncio.create_subprocess_exec(
        *with_parent, driver, "--port=0",
        stdin=asyncio.subprocess.DEVNULL, stdout=asyncio.subprocess.PIPE, stderr=asyncio.subprocess.STDOUT,
        env=environment, start_new_session=True,
    )  # fmt: skip
    started = DriverProcess("", folder, process)
    try:
        port = await asyncio.wait_for(_port(process), _READY_WITHIN_S)
    except TimeoutError:
        port = None
    if port is None:
        await started.end()
        raise UsageError(Problem("no-browser", f"{driver} does not start", now=_HOW))
    started.address = f"http://127.0.0.1:{port}"
    started._drained = asyncio.create_task(_drain(process))
    return started


async def _port(process: asyncio.subprocess.Process) -> int | None:
    """The port that the driver says it listens on; None where it ends without a word."""
    assert process.stdout is not None
    while line := await process.stdout.readline():
        if (found := _READY.search(line.decode("utf-8", "replace"))) and int(found[1]):
            return int(found[1])
    return None


async def _drain(process: asyncio.subprocess.Process) -> None:
    """Take what the driver says, so that its pipe never fills."""
    assert process.stdout is not None
    while await process.stdout.read(65536):
        pass


def _signal(group: int, number: signal.Signals) -> None:
    with contextlib.suppress(ProcessLookupError, PermissionError):
        os.killpg(group, number)


def _session_of(process: Path) -> int:
    """The session that a process belongs to (proc(5)); 0 for one that is gone."""
    try:
        return int((process / "stat").read_text().rpartition(")")[2].split()[3])
    except (OSError, ValueError, IndexError):
        return 0


def _pss_bytes(process: Path) -> int:
    try:
        found = re.search(r"(?m)^Pss:\s+(\d+) kB", (process / "smaps_rollup").read_text())
    except OSError:
        return 0
    return int(found[1]) * 1024 if found is not None else 0


def sweep(folder: Path | None = None) -> None:
    """Remove the folders of processes that are gone."""
    for path in (folder or Path(tempfile.gettempdir())).glob(f"{_PREFIX}*"):
        owner = path.name.removeprefix(_PREFIX).partition("-")[0]
        if owner.isdecimal() and not _is_running(int(owner)):
            shutil.rmtree(path, ignore_errors=True)


def _is_running(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True
