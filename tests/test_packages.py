"""The wheel and the source archive: what is in them, and that what is in the wheel works without the sources."""

from __future__ import annotations

import os
import subprocess
import sys
import tarfile
import zipfile
from pathlib import Path

import pytest
from hatchling.builders.sdist import SdistBuilder
from hatchling.builders.wheel import WheelBuilder

ROOT = Path(__file__).parent.parent
_LEFT_OUT = ("__pycache__", ".pyc", ".so")


def _tracked(folder: str) -> set[str]:
    """Files of the project below a folder, as they are in a checkout."""
    return {
        path.relative_to(ROOT).as_posix()
        for path in (ROOT / folder).rglob("*")
        if path.is_file() and not any(part in path.as_posix() for part in _LEFT_OUT)
    }


@pytest.fixture(scope="module")
def wheel(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("wheel")
    return Path(next(WheelBuilder(str(ROOT)).build(directory=str(folder), versions=["standard"])))


def test_the_wheel_has_the_package_the_examples_and_the_manual_page_and_nothing_else(wheel: Path) -> None:
    with zipfile.ZipFile(wheel) as archive:
        names = set(archive.namelist())
    version = wheel.name.split("-")[1]
    info = f"wadi-{version}.dist-info"
    package = {name.removeprefix("src/") for name in _tracked("src/wadi")}
    examples = {f"wadi/demo/{name}" for name in _tracked("examples")}
    manual = {f"wadi-{version}.data/data/share/man/man1/wadi.1"}
    about = {f"{info}/{name}" for name in ("METADATA", "WHEEL", "RECORD", "entry_points.txt", "licenses/LICENSE")}
    assert names - package - examples - manual - about == set()
    assert (package | examples | manual | about) - names == set()
    assert {"wadi/py.typed", "wadi/demo/templates/office.css", "wadi/demo/examples/springs.toml"} <= names


def test_what_is_in_the_wheel_works_without_the_sources(wheel: Path, tmp_path: Path) -> None:
    with zipfile.ZipFile(wheel) as archive:
        archive.extractall(tmp_path / "installed")
    code = "import sys, wadi; from wadi.cli.main import main; print(wadi.__file__); sys.exit(main(sys.argv[1:], sys.stdout, sys.stderr))"
    environment = {**os.environ, "PYTHONPATH": str(tmp_path / "installed"), "HOME": str(tmp_path)}
    done = subprocess.run(
        [sys.executable, "-c", code, "demo", "--examples", "copied"],
        cwd=tmp_path, env=environment, capture_output=True, text=True, timeout=60, check=False,
    )  # fmt: skip
    assert (done.returncode, "files copied" in done.stderr) == (0, True), done.stderr
    assert done.stdout.startswith(str(tmp_path / "installed"))
    assert (tmp_path / "copied" / "springs.toml").read_bytes() == (ROOT / "examples" / "springs.toml").read_bytes()


def test_the_source_archive_has_what_is_needed_to_test_and_build_it_again(tmp_path: Path) -> None:
    made = Path(next(SdistBuilder(str(ROOT)).build(directory=str(tmp_path), versions=["standard"])))
    with tarfile.open(made) as archive:
        names = {name.partition("/")[2] for name in archive.getnames()}
    wanted = {
        "README.md",
        "CHANGELOG.md",
        "LICENSE",
        "pyproject.toml",
        "constraints.txt",
        "docs/wadi.1",
        "examples/springs.toml",
    }
    assert wanted - names == set()
    assert _tracked("src") - names == set()
    assert _tracked("tests") - names == set()
    assert not {name.partition("/")[0] for name in names} & {"runs", ".venv", ".git", "site", ".ci"}
