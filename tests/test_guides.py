"""What the guides say, done: their commands and their Python run on the sample site, their plans are right."""

from __future__ import annotations

import importlib.util
import re
import shlex
import shutil
from collections.abc import Iterator
from pathlib import Path
from types import ModuleType

import pytest

from conftest import EXAMPLES, Program
from wadi.plan.reader import parse_plan

DOCS = EXAMPLES.parent / "docs"
SITE = "http://127.0.0.1:8700"
_BLOCK = re.compile(r"^```(\w+)\n(.*?)^```", re.MULTILINE | re.DOTALL)


def _blocks(name: str, language: str) -> list[str]:
    return [body for kind, body in _BLOCK.findall((DOCS / name).read_text("utf-8")) if kind == language]


def test_the_first_plan_goes_as_it_is_told(program: Program, site: str) -> None:
    (plan,) = (block for block in _blocks("first-plan.md", "toml"))
    (program.folder / "notices.toml").write_text(plan.replace(SITE, site), "utf-8")
    commands = [
        line for block in _blocks("first-plan.md", "sh") for line in block.splitlines() if line.startswith("wadi ")
    ]
    asked = [shlex.split(line.replace(SITE, site))[1:] for line in commands if "--serve" not in line]
    assert len(asked) >= 8
    said = {}
    for arguments in asked:
        done = program(*arguments)
        assert done.status == 0, (arguments, done.err)
        said[arguments[0]] = done.out + done.err
    assert "robots.txt: allowed" in said["inspect"]
    assert "#all ul.notes > li" in said["inspect"]
    assert "about 1 request" in said["preview"]
    assert "24 rows" in said["run"]
    assert "find" in said["trace"]


def test_the_python_of_the_guide_runs(site: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "examples").symlink_to(EXAMPLES)
    monkeypatch.chdir(tmp_path)
    names: dict[str, object] = {}
    blocks = _blocks("python.md", "python")
    assert len(blocks) >= 6
    for block in blocks:
        exec(compile(block.replace(SITE, site), "python.md", "exec"), names)
    assert len(names["springs"]) == 30  # type: ignore[arg-type]
    assert (tmp_path / "gauges.parquet").exists()


def test_what_the_readme_says_is_done(program: Program, site: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Its commands one after the other, on the sample site, then its Python."""
    readme = (DOCS.parent / "README.md").read_text("utf-8")
    shutil.copytree(EXAMPLES, program.folder / "examples", ignore=shutil.ignore_patterns("__pycache__"))
    for plan in (program.folder / "examples").glob("*.toml"):
        plan.write_text(plan.read_text("utf-8").replace(SITE, site), "utf-8")
    blocks = [body for kind, body in _BLOCK.findall(readme) if kind == "sh"]
    asked = [
        shlex.split(line.replace(SITE, site), comments=True)[1:]
        for line in "".join(blocks).splitlines()
        if line.startswith("wadi ")
    ]
    assert len(asked) >= 14
    for arguments in asked:
        done = program.inside(*arguments)
        assert done.status == 0, (arguments, done.err)
    assert len((program.folder / "springs.csv").read_text("utf-8").splitlines()) == 355
    (code,) = [body for kind, body in _BLOCK.findall(readme) if kind == "python"]
    monkeypatch.chdir(program.folder)
    names: dict[str, object] = {}
    exec(compile(code.replace(SITE, site), "README.md", "exec"), names)
    assert len(names["springs"]) == 354  # type: ignore[arg-type]
    assert len(names["names"]) == 30  # type: ignore[arg-type]


COOKBOOK = (DOCS / "cookbook.md").read_text("utf-8")


@pytest.fixture(scope="module")
def cookbook(site: str) -> Iterator[tuple[ModuleType, Path]]:
    path = DOCS / "cookbook.py"
    spec = importlib.util.spec_from_file_location("cookbook", path)
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    with module.kitchen(site) as folder:
        yield module, folder


@pytest.mark.parametrize("name", re.findall(r"^### (.+)", COOKBOOK, re.MULTILINE))
def test_a_plan_of_the_cookbook_gives_what_is_told(cookbook: tuple[ModuleType, Path], site: str, name: str) -> None:
    module, folder = cookbook
    (recipe,) = (recipe for recipe in module.recipes(COOKBOOK) if recipe["name"] == name)
    assert module.gives(recipe["plan"], site, folder) == recipe["gives"]


FROM_HTML = (DOCS / "html-to-fields.md").read_text("utf-8")


@pytest.mark.parametrize("name", re.findall(r"^## (.+)", FROM_HTML, re.MULTILINE)[:-1])
def test_html_gives_what_is_told(cookbook: tuple[ModuleType, Path], name: str) -> None:
    module, folder = cookbook
    (found,) = (found for found in module.sections(FROM_HTML) if found["name"] == name)
    assert module.gives_of_html(found["html"], found["plan"], folder) == found["gives"]


@pytest.mark.parametrize(
    "name", sorted({path.name for path in DOCS.glob("*.md")} - {"cookbook.md", "html-to-fields.md"})
)
def test_whole_plans_in_the_docs_are_right(name: str) -> None:
    plans = [block for block in _blocks(name, "toml") if re.match(r"(#.*\n)*wadi\s*=", block)]
    for plan in plans:
        assert parse_plan(plan, name).plan.wadi == 1


@pytest.mark.parametrize(
    "name",
    [
        "first-plan.md",
        "monthly.md",
        "large.md",
        "trouble.md",
        "guest.md",
        "browser.md",
        "cluster.md",
        "cookbook.md",
        "html-to-fields.md",
    ],
)
def test_commands_of_the_guides_have_the_options_that_are_said(program: Program, name: str) -> None:
    """Each `wadi COMMAND --option` stands in that command's help."""
    text = (DOCS / name).read_text("utf-8")
    said = re.findall(r"wadi ([a-z]+)((?:[^`\n]*?(--[a-z-]+))?[^`\n]*)", text)
    wanted = {
        (command, option)
        for command, rest, _ in said
        for option in re.findall(r"--[a-z][a-z-]+", rest.partition("#")[0])
    }
    for command in {command for command, _ in wanted}:
        known = program.inside(command, "--help").out
        for option in sorted(option for named, option in wanted if named == command):
            assert option in known, f"wadi {command} {option}"
