"""The house itself: imports point down the floors, the core prints nothing, docs name what there is."""

from __future__ import annotations

import ast
import re
from collections.abc import Mapping
from pathlib import Path

import pytest

SOURCE = Path(__file__).parent.parent / "src" / "wadi"
FLOORS = {
    "clean": 1,
    "page": 1,
    "web": 1,
    "plan": 2,
    "store": 2,
    "crawl": 3,
    "table": 3,
    "actions": 4,
    "learn": 5,
    "quality": 5,
    "demo": 6,
    "cli": 6,
}
STAIRS = ["clues", "first_look", "examples", "drafts", "mends"]
"""The rooms of `learn`, each of which stands on those before it."""
_WITHIN = {("page", "clean"), ("cli", "demo"), ("quality", "learn")}
"""Neighbours on a floor of which the first stands on the second."""
LOOSE = {"__init__", "__main__", "problems", "urls", "version"}
"""Modules that stand on no floor: every floor may use them."""
ROOMS = {
    "actions": "begin cluster crawl export machine notebook open_page preview readers rendered reparse run setup shards show_page site tally trace",
    "clean": "adjust amounts arithmetic calendars contacts currencies dates durations errors from_now hints identity locales money neighbours numbers numerals "
    "output patterns phones points stages steps text times types units years",
    "cli": (
        "compare completion demo doctor draft draft_questions export inspect lint main mend new options pager preview profile progress reparse report resume row_stream settings "
        "run runs_ schema show show_page snap status summary trace try_ verify"
    ),
    "crawl": (
        "agenda block_signals bounds documents engine events extract files flight forms health journal judge kinds links listing login "
        "outcomes page_calls page_view paging previous_run reader requests rows sessions source task trace workers"
    ),
    "demo": "branches faults gaugings notebook office pages photos printout proxies redesign scripted shapes site weather wording world",
    "learn/clues": "class_names column_names field_guess labels patterns sameness selectors spots surroundings tables toml_text types ways",
    "learn/drafts": "checked draft drafting extent next_page",
    "learn/examples": "known_rows learned learned_fields learned_json learned_outside learned_rows sightings",
    "learn/first_look": (
        "details envelope fields frames kind look outline page_fields paging rows saved_replies sources things three_ways trying views"
    ),
    "learn/mends": "changes good_run mend mending plan_edit",
    "page": (
        "cells columns controls css decode document expressions field grid json_values jsonpath labels literals markup nodes "
        "refresh structured text xml_tree xpath"
    ),
    "plan": "beside checks code columns fields inputs local model parts positions reader starts text",
    "plan/lint": "browser checks fields made pages secrets starts tables",
    "quality": (
        "charts checks compare compare_runs damage drift figures files html measures pdf plan_changes profile report report_run "
        "sources tables verdict verify_run walk"
    ),
    "store": "archive connect crash_points faults folder history order outcome page_cache pages queue shards state stored view whole_files",
    "table": (
        "assemble cells database derived describe destinations extras files frame keys ledger located outcomes "
        "parquet row_issues seen spreadsheet visits words writers"
    ),
    "web": (
        "blocked browser browser_steps client coding driver_process har hosts hours lag local loops manners messages pace parameters pickled pictures private rendered "
        "rendering retry robots routed routes secrets session shown_page traffic transport webdriver"
    ),
}
"""Every module of the package by its room: a new one has a place here and, where it is a way in, in docs/architecture.md."""
MODULES = sorted(SOURCE.rglob("*.py"))


def _imports(path: Path) -> set[str]:
    """The packages of Wadi that a module imports, inside functions too."""
    found = set()
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        names = [node.module] if isinstance(node, ast.ImportFrom) and node.module else []
        names += [alias.name for alias in node.names] if isinstance(node, ast.Import) else []
        found |= {name.split(".")[1] for name in names if name.startswith("wadi.")}
    return found


def test_every_module_has_a_room() -> None:
    found: dict[str, list[str]] = {}
    for path in MODULES:
        rooms = path.relative_to(SOURCE).parts[:-1]
        if rooms and path.stem != "__init__":
            found.setdefault("/".join(rooms), []).append(path.stem)
    assert {room: sorted(names) for room, names in found.items()} == {
        room: sorted(names.split()) for room, names in ROOMS.items()
    }
    loose = {path.stem for path in MODULES if len(path.relative_to(SOURCE).parts) == 1}
    assert loose == LOOSE


def test_no_circle_leads_through_the_modules() -> None:
    """Imports at the top of modules, followed from each: none comes back."""
    names = {
        ".".join(path.relative_to(SOURCE).with_suffix("").parts).removesuffix(".__init__"): path for path in MODULES
    }
    leads = {name: _imported_modules(path, names) - {name} for name, path in names.items()}
    done: set[str] = set()

    def visit(name: str, way: tuple[str, ...]) -> None:
        assert name not in way, " → ".join([*way[way.index(name) :], name])
        if name not in done:
            for other in sorted(leads[name]):
                visit(other, (*way, name))
            done.add(name)

    for name in names:
        visit(name, ())


def _imported_modules(path: Path, names: Mapping[str, Path]) -> set[str]:
    """The modules that a module imports when it is loaded, not for types alone."""
    found = set()
    for node in ast.parse(path.read_text("utf-8")).body:
        if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("wadi"):
            base = node.module.removeprefix("wadi").lstrip(".")
            for alias in node.names:
                inner = f"{base}.{alias.name}".lstrip(".")
                found.add(inner if inner in names else base)
    return {name for name in found if name in names and name != ""}


@pytest.mark.parametrize("path", MODULES, ids=lambda path: str(path.relative_to(SOURCE)))
def test_imports_point_down(path: Path) -> None:
    package = path.relative_to(SOURCE).parts[0]
    if package not in FLOORS:
        assert path.stem in LOOSE, f"{path.name} stands on no floor"
        return
    for other in _imports(path) - {package}:
        if other not in LOOSE:
            assert FLOORS[other] < FLOORS[package] or (package, other) in _WITHIN, f"{package} imports {other}"


@pytest.mark.parametrize(
    "path", sorted((SOURCE / "learn").rglob("*/*.py")), ids=lambda path: str(path.relative_to(SOURCE))
)
def test_imports_within_learn_point_down(path: Path) -> None:
    room = STAIRS.index(path.parent.name)
    for name in re.findall(r"from wadi\.learn\.(\w+)", path.read_text("utf-8")):
        assert STAIRS.index(name) <= room, f"{path.parent.name} imports {name}"


@pytest.mark.parametrize("path", MODULES, ids=lambda path: str(path.relative_to(SOURCE)))
def test_a_module_says_what_it_holds_and_the_core_has_no_interface(path: Path) -> None:
    tree = ast.parse(path.read_text("utf-8"))
    assert ast.get_docstring(tree)
    if path.relative_to(SOURCE).parts[0] == "cli":
        return
    calls = {node.func.id for node in ast.walk(tree) if isinstance(node, ast.Call) and isinstance(node.func, ast.Name)}
    assert not calls & {"print", "input", "exit"}
    names = {
        alias.name for node in ast.walk(tree) if isinstance(node, ast.Import | ast.ImportFrom) for alias in node.names
    }
    modules = {node.module for node in ast.walk(tree) if isinstance(node, ast.ImportFrom)}
    assert not (names | {str(m).split(".")[0] for m in modules}) & {"argparse", "rich"}


def test_the_docs_are_as_the_code_makes_them(monkeypatch: pytest.MonkeyPatch) -> None:
    docs = SOURCE.parent.parent / "docs"
    monkeypatch.syspath_prepend(docs)
    import make

    plan = (docs / "plan.md").read_text("utf-8")
    assert make.with_made(plan, make.plan_pieces()) == plan, "run: python docs/make.py"
    for name, piece in (("shell.md", make.statuses()), ("python.md", make.heard())):
        text = (docs / name).read_text("utf-8")
        assert make.with_made(text, [piece]) == text, "run: python docs/make.py"
    made = make.shapes()
    assert {path.stem: path.read_text("utf-8") for path in (docs / "shapes").glob("*.md")} == made, (
        "run: python docs/make.py"
    )
    assert (docs / "problems.md").read_text("utf-8") == make.problems(), "run: python docs/make.py"
    monkeypatch.delenv("WADI_RUNS", raising=False)
    assert (docs / "commands.md").read_text("utf-8") == make.commands(), "run: python docs/make.py"
    assert (docs / "wadi.1").read_text("utf-8") == make.man_page(), "run: python docs/make.py"
    used = " ".join(path.read_text("utf-8") for path in MODULES if path.stem != "problems")
    assert [code for code in make.MEANINGS if f'"{code}"' not in used] == []


def test_the_readme_links_to_what_is_there_and_its_plan_is_good(tmp_path: Path) -> None:
    import re

    from wadi.cli.main import COMMANDS
    from wadi.plan.reader import parse_plan

    root = SOURCE.parent.parent
    readme = (root / "README.md").read_text("utf-8")
    for target in re.findall(r"\]\(([^)#]+)", readme):
        assert (root / target).exists(), target
    assert [name for name in COMMANDS if f"`wadi {name}" not in readme] == []
    plan = re.search(r"```toml\n(.*?)```", readme, re.DOTALL)
    assert plan is not None
    parse_plan(plan[1], "README.md")


def test_the_version_is_one() -> None:
    import tomllib

    import wadi

    project = tomllib.loads((SOURCE.parent.parent / "pyproject.toml").read_text("utf-8"))
    assert wadi.__version__ == project["project"]["version"]


def test_every_promise_names_a_test_that_is_there() -> None:
    """`SECURITY.md` names tests as `tests/FILE.py`: part of a name, part of a name."""
    root = SOURCE.parent.parent
    text = (root / "SECURITY.md").read_text("utf-8")
    named = re.findall(r"`(tests/\w+\.py)`(?::((?: [\w-]+,?)+))?", text)
    assert len(named) > 12
    for file, parts in named:
        content = (root / file).read_text("utf-8")
        for part in parts.replace(",", " ").split():
            assert part in content, f"{file} has no test of {part}"
