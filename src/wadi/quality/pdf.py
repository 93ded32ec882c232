"""An HTML page printed as PDF, by a browser that is installed."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
from pathlib import Path

from wadi.problems import Problem, UsageError, listed
from wadi.store.whole_files import replaced

_BROWSERS = ("chromium", "chromium-browser", "google-chrome", "chrome")
_PDF_WITHIN_S = 120


def write_pdf(page: Path, target: Path) -> None:
    """Print an HTML file with a browser that is installed. Raises UsageError where there is none, or it fails;
    CrawlError where there is no room."""
    browser = next((found for name in _BROWSERS if (found := shutil.which(name))), None)
    if browser is None:
        now = f"install one of {listed(_BROWSERS)}, or print the page from a browser of yours"
        raise UsageError(Problem("no-browser", "no browser is installed that prints pages", now=now))
    as_root = ["--no-sandbox"] if os.geteuid() == 0 else []  # its own walls do not stand up for that user
    with tempfile.TemporaryDirectory() as profile:
        printed = Path(profile) / "printed.pdf"
        command = [
            browser, "--headless", *as_root, "--disable-gpu", "--no-first-run", "--disable-background-networking",
            "--host-resolver-rules=MAP * ~NOTFOUND", f"--user-data-dir={profile}", "--no-pdf-header-footer",
            f"--print-to-pdf={printed}", page.resolve().as_uri(),
        ]  # fmt: skip
        try:
            done = subprocess.run(command, capture_output=True, text=True, timeout=_PDF_WITHIN_S, check=False)
        except subprocess.TimeoutExpired as error:
            raise UsageError(Problem("no-browser", f"{browser} took longer than {_PDF_WITHIN_S} s to print")) from error
        if not printed.is_file():
            lines = done.stderr.strip().splitlines()
            what = f"{browser} printed nothing: {lines[-1] if lines else f'status {done.returncode}'}"
            raise UsageError(Problem("no-browser", what))
        replaced(target, printed.read_bytes())
